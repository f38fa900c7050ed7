package store_test

import (
	"errors"
	"slices"
	"testing"
	"time"

	"plumlatch/service/postgres/pgtest"
	"plumlatch/service/store"
)

// TestClaimOrder: what another replica left comes first, then what is due, then what is queued, the
// oldest first. A step that waited is begun again with its claim, on the way forward.
func TestClaimOrder(t *testing.T) {
	t.Parallel()
	url := pgtest.URL(t)
	db, c := pgtest.OpenURL(t, url), pgtest.Connect(t, url)
	for _, name := range []string{"queued", "due", "due going back", "left", "queued later", "not due", "held"} {
		w, err := db.AddWork(t.Context(), store.Service, store.Once{}, store.NewWork{Kind: "toy", Title: name,
			Token: "token " + name, Steps: []store.WorkStep{{Name: "one", Title: "doing one"}}, Target: "toy", Action: "toy"})
		if err != nil {
			t.Fatal(err)
		}
		waits := "UPDATE work_steps SET state = 'waiting' WHERE work_id = $1"
		sql := map[string][]string{
			"due":            {"UPDATE work SET state = 'waiting', wake_at = now() - interval '2 s' WHERE id = $1", waits},
			"due going back": {"UPDATE work SET state = 'waiting', back = true, wake_at = now() - interval '1 s' WHERE id = $1", waits},
			"left":           {"UPDATE work SET state = 'running', free_at = now() - interval '1 s' WHERE id = $1"},
			"not due":        {"UPDATE work SET state = 'waiting', wake_at = now() + interval '1 hour' WHERE id = $1", waits},
			"held":           {"UPDATE work SET state = 'running', free_at = now() + interval '1 hour' WHERE id = $1"},
		}[name]
		for _, s := range sql {
			if _, err := c.Exec(t.Context(), s, w.ID); err != nil {
				t.Fatal(err)
			}
		}
	}
	if _, err := db.ClaimWork(t.Context(), "replica", []string{"other"}, time.Minute); !errors.Is(err, store.ErrNotFound) {
		t.Errorf("work of another kind: %v", err)
	}
	var order []string
	for {
		w, err := db.ClaimWork(t.Context(), "replica", []string{"other", "toy"}, time.Minute)
		if errors.Is(err, store.ErrNotFound) {
			break
		}
		if err != nil {
			t.Fatal(err)
		}
		order = append(order, w.Title)
		steps, err := db.WorkSteps(t.Context(), w.ID)
		if err != nil {
			t.Fatal(err)
		}
		if resumed := w.Title == "due"; w.Resumed != resumed || (steps[0].State == "doing") != resumed {
			t.Errorf("%s: resumed %t, its step is %s", w.Title, w.Resumed, steps[0].State)
		}
	}
	if want := []string{"left", "due", "due going back", "queued", "queued later"}; !slices.Equal(order, want) {
		t.Errorf("%q\nwant %q", order, want)
	}
}

package kinds

import (
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"plumlatch/service/door"
	"plumlatch/service/postgres/pgtest"
	"plumlatch/service/work"
	"plumlatch/service/work/worktest"
)

// formerRows are the rows of testdata that stand in the database of a former version, by
// the number of the migration after which they came.
func formerRows(t *testing.T, version int) string {
	t.Helper()
	text, err := os.ReadFile(fmt.Sprintf("testdata/former/%04d.sql", version))
	if os.IsNotExist(err) {
		return ""
	}
	if err != nil {
		t.Fatal(err)
	}
	return string(text)
}

// TestFormerSchemas: the database of each former version, with rows and work at hand, is
// taken over by this one. What its numbers meant, its names mean; and the work goes on
// from where it was. (A migration that was applied once is never changed: the store
// refuses to start then. So the migrations up to a version are that version's schema.)
func TestFormerSchemas(t *testing.T) {
	files, err := filepath.Glob("../store/migrations/*.sql")
	if err != nil || len(files) < 13 {
		t.Fatalf("%d migrations: %v", len(files), err)
	}
	slices.Sort(files)
	for version := 1; version < len(files); version++ {
		t.Run(fmt.Sprint(version), func(t *testing.T) {
			t.Parallel()
			url := pgtest.Empty(t)
			c := pgtest.Connect(t, url)
			exec := func(sql string, args ...any) {
				t.Helper()
				if _, err := c.Exec(t.Context(), sql, args...); err != nil {
					t.Fatalf("%v\n%.300s", err, sql)
				}
			}
			exec("CREATE TABLE schema_migrations (version integer PRIMARY KEY, sha256 text NOT NULL, applied_at " +
				"timestamptz NOT NULL DEFAULT now())")
			for n, f := range files[:version] {
				text, err := os.ReadFile(f)
				if err != nil {
					t.Fatal(err)
				}
				exec(string(text))
				sum := sha256.Sum256(text)
				exec("INSERT INTO schema_migrations (version, sha256) VALUES ($1, $2)", n+1, hex.EncodeToString(sum[:]))
				exec(formerRows(t, n+1))
			}
			e := worktest.On(t, url)

			ask := func(sql string) (got string) {
				t.Helper()
				if err := c.QueryRow(t.Context(), sql).Scan(&got); err != nil {
					t.Fatalf("%v\n%s", err, sql)
				}
				return got
			}
			for sql, want := range map[string]string{
				"SELECT concat_ws('/', count(*), min(name), min(role)) FROM operators":       "1/Night-Lead/admin",
				"SELECT concat_ws('/', count(*), min(name), min(fingerprint)) FROM keys":     "1/Day-Crew/SHA256:a",
				"SELECT concat_ws('/', count(*), min(login_user)) FROM access":               "9/ferry",
				"SELECT concat_ws('/', count(*), min(name), min(login_user)) FROM instances": "9/berth-board-1/ferry",
				"SELECT concat_ws('/', action, target, encode(bytes, 'escape')) FROM journal": "key.import/key " +
					"day-crew/{}",
			} {
				if got := ask(sql); got != want {
					t.Errorf("%s: %q, want %q", sql, got, want)
				}
			}

			// The kinds of this version, with steps that only note that they were called.
			y := worktest.NewToy()
			var all []*work.Kind
			for _, real := range New(&door.Service{}, 0).Kinds() {
				var names []string
				for _, s := range real.Steps {
					names = append(names, s.Name)
				}
				k := y.Kind(names...)
				k.Name = real.Name
				for n := range k.Steps {
					name := k.Steps[n].Name
					k.Steps[n].Do = func(r *work.Run) error { y.Say(r.Work.Token + ":" + name); return nil }
					k.Steps[n].Undo = func(r *work.Run) error { y.Say(r.Work.Token + ":-" + name); return nil }
				}
				all = append(all, k)
			}
			goesOn := map[string]string{}
			if version >= 4 {
				goesOn["launch"] = "create run host-key probe"
				goesOn["stop"] = "rest"
				goesOn["back"] = "-run -create"
				if got := ask("SELECT code || '/' || text FROM work_events WHERE work_id = 2 AND n = 2"); got != "waits/waits: the test" {
					t.Errorf("the event: %q", got)
				}
			}
			if version >= 8 {
				goesOn["grace"] = "grace withdraw last record"
				goesOn["proof"] = "proof narrow check settle grace withdraw last record"
				goesOn["later"] = "add accept proof narrow check settle grace withdraw last record"
				goesOn["guest"] = "end withdraw check settle record"
				for token, want := range map[string]string{"grace": "grace/grace/t", "proof": "proof/proof/f",
					"later": "add/back/f", "guest": "end/end/t"} {
					if got := ask("SELECT concat_ws('/', at, waits_code, settled_at IS NOT NULL) FROM work WHERE token = '" + token + "'"); got != want {
						t.Errorf("%s: %q, want %q", token, got, want)
					}
				}
			}
			if version >= 8 {
				if got := ask("SELECT concat_ws('/', old_key_id, coalesce(new_key_id, 0), contained) FROM work " +
					"WHERE token = 'grace'"); got != "1/4711/taken from 192.0.2.0/24 alone" {
					t.Errorf("what it is about: %q", got)
				}
			}
			if version >= 11 {
				if got := ask("SELECT cloud_id FROM shared_rescues"); got != "i-78" {
					t.Errorf("the shared rescue instance: %q", got)
				}
			}
			if version >= 10 {
				if got := ask("SELECT concat_ws('/', volume, rescue_cloud_id) FROM work WHERE token = 'rescue'"); got != "vol-9/i-77" {
					t.Errorf("what it holds: %q", got)
				}
				goesOn["rescue"] = "rescue stop detach"
				if got := ask("SELECT concat_ws('/', at, waits_code) FROM work WHERE token = 'rescue'"); got != "rescue/rescue" {
					t.Errorf("rescue: %q", got)
				}
			}
			e.Run(all...)
			for deadline := time.Now().Add(2 * time.Minute); ask("SELECT count(*)::text FROM work WHERE state IN "+
				"('queued', 'running', 'waiting')") != "0"; time.Sleep(10 * time.Millisecond) {
				if time.Now().After(deadline) {
					t.Fatal(ask("SELECT string_agg(concat_ws(' ', token, state, at), '; ') FROM work"))
				}
			}
			if got := ask("SELECT coalesce(string_agg(concat_ws(' ', token, state, outcome), '; '), '') FROM work " +
				"WHERE state NOT IN ('done', 'failed')"); got != "" {
				t.Error(got)
			}
			did := map[string][]string{}
			for _, call := range strings.Fields(y.Done()) {
				token, step, _ := strings.Cut(call, ":")
				did[token] = append(did[token], step)
			}
			for token, want := range goesOn {
				// On a slow machine a claim may run out, and the step at hand is begun once more.
				if got := strings.Join(slices.Compact(did[token]), " "); got != want {
					t.Errorf("%s went on with %q, want %q", token, got, want)
				}
			}
			if len(did) != len(goesOn) {
				t.Errorf("went on: %v", did)
			}
		})
	}
}

package store_test

import (
	"context"
	"errors"
	"fmt"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"plumlatch/service/postgres/pgtest"
)

// TestPassingEnds: what PostgreSQL ends for a reason that passes is done again, and kept once.
func TestPassingEnds(t *testing.T) {
	t.Parallel()
	url := pgtest.URL(t)
	db, owner := pgtest.OpenURL(t, url), pgtest.Connect(t, url)
	if _, err := owner.Exec(t.Context(), `CREATE TABLE lent (id int PRIMARY KEY, n int NOT NULL);
		INSERT INTO lent VALUES (1, 0), (2, 0); GRANT ALL ON lent TO PUBLIC`); err != nil {
		t.Fatal(err)
	}
	total := func() (n int) {
		if err := owner.QueryRow(t.Context(), "SELECT sum(n) FROM lent").Scan(&n); err != nil {
			t.Fatal(err)
		}
		return n
	}
	add := func(send func(string) error, id int) error {
		return send(fmt.Sprintf("UPDATE lent SET n = n + 1 WHERE id = %d", id))
	}

	t.Run("each waits for the other", func(t *testing.T) {
		before := total()
		var runs atomic.Int64
		var first, all sync.WaitGroup
		first.Add(2)
		errs := make([]error, 2)
		for n := range 2 {
			all.Go(func() {
				met := false
				errs[n] = db.Together(t.Context(), func(send func(string) error) error {
					runs.Add(1)
					if err := add(send, 1+n); err != nil {
						return err
					}
					if !met {
						met = true
						first.Done()
						first.Wait()
					}
					return add(send, 2-n)
				})
			})
		}
		all.Wait()
		if err := errors.Join(errs...); err != nil || total() != before+4 || runs.Load() != 3 {
			t.Errorf("%v; %d and not 4 were added; done %d times, and not 3", err, total()-before, runs.Load())
		}
	})
	// What stands still for longer than the database waits, and what is cut off, in the middle.
	for what, ends := range map[string]func(send func(string) error){
		"stood still": func(func(string) error) { time.Sleep(4 * time.Second) },
		"cut off":     func(send func(string) error) { _ = send("SELECT pg_terminate_backend(pg_backend_pid())") },
	} {
		t.Run(what, func(t *testing.T) {
			before, runs := total(), 0
			err := db.Together(t.Context(), func(send func(string) error) error {
				runs++
				if err := add(send, 1); err != nil {
					return err
				}
				if runs == 1 {
					ends(send)
				}
				return add(send, 2)
			})
			if err != nil || total() != before+2 || runs != 2 {
				t.Errorf("%v; %d and not 2 were added; done %d times, and not 2", err, total()-before, runs)
			}
		})
	}
	t.Run("what does not pass", func(t *testing.T) {
		for _, sql := range []string{"INSERT INTO lent VALUES (1, 0)", "SELECT nothing", "SELECT 1/0"} {
			runs := 0
			if err := db.Together(t.Context(), func(send func(string) error) error { runs++; return send(sql) }); err == nil ||
				runs != 1 {
				t.Errorf("%s: %v, done %d times", sql, err, runs)
			}
		}
		ctx, cancel := context.WithCancel(t.Context())
		runs := 0
		err := db.Together(ctx, func(send func(string) error) error { runs++; cancel(); return send("SELECT 1") })
		if !errors.Is(err, context.Canceled) || runs != 1 {
			t.Errorf("its caller has gone: %v, done %d times", err, runs)
		}
	})
}

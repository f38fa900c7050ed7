package store

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"gorm.io/gorm"

	"plumlatch/core/rotation"
	"plumlatch/core/wire"
)

// A permit of the guard is a row with a short end. It is written in one
// transaction with a look at the marks that it rests on, under their row locks;
// a change of such a mark takes the same locks, and then waits until the permit
// has ended. So no lock is held while the instance is written to, and no mark
// changes between the guard's answer and the write.

// PermitLife is how long a permit holds at most.
const PermitLife = 30 * time.Second

// ErrRested says that a write on an instance rests on the key at this moment.
var ErrRested = errors.New("a change on an instance rests on this key at this very moment; ask again in half a minute")

// NewPermit is what a permit is recorded with.
type NewPermit struct {
	Work, Fence, Instance int64
	LoginUser             string
	Rests                 []rotation.Rest
}

// AddPermit records a permit, if the keys that it rests on are still as they were
// judged: rotation.ErrStale. ErrLost.
//
// One statement locks the keys' rows, reads them, and records the permit: whoever changes a mark
// afterwards finds it. One that is not given after all is taken back.
func (s *Store) AddPermit(ctx context.Context, p NewPermit) (id int64, err error) {
	held, args := fence(ctx)
	args["of"], args["of_fence"], args["instance"], args["user"] = p.Work, p.Fence, p.Instance, p.LoginUser
	args["life"], args["keys"] = PermitLife.Seconds(), append(restIDs(p.Rests), 0)
	rows := []rested{}
	// Those that ended long ago go with it.
	if err := scanAll(s.db.WithContext(ctx).Raw(`WITH f AS (`+held+`),
		old AS (DELETE FROM permits WHERE ends_at < statement_timestamp() - interval '1 hour'),
		k AS (`+restedNow("@keys")+` FOR SHARE OF k),
		p AS (INSERT INTO permits (work_id, fence, instance_id, login_user, ends_at)
			SELECT CAST(@of AS bigint), CAST(@of_fence AS bigint), CAST(@instance AS bigint), CAST(@user AS text),
				clock_timestamp() + make_interval(secs => @life) FROM f RETURNING id),
		pk AS (INSERT INTO permit_keys (permit_id, key_id) SELECT p.id, k.id FROM p, k)
		SELECT p.id, k.*, `+commits+` FROM p LEFT JOIN k ON true`, args), &rows, func(r *rested) []any {
		return append([]any{&id}, append(r.places(), new(string))...)
	}); err != nil {
		return 0, err
	}
	if len(rows) == 0 {
		return 0, ErrLost
	}
	if err := rotation.Same(p.Rests, restsOf(rows)); err != nil {
		return 0, errors.Join(err, s.EndPermit(ctx, id))
	}
	return id, nil
}

// PermitHolds tells whether a permit holds still: it has not ended, the work is in
// the hands of whom it was given to, and the keys are as they were judged.
// rotation.ErrEnded, rotation.ErrStale.
func (s *Store) PermitHolds(ctx context.Context, id int64, rests []rotation.Rest) error {
	type row struct {
		Good *bool
		rested
	}
	rows := []row{}
	if err := scanAll(s.db.WithContext(ctx).Raw(`SELECT p.ends_at > clock_timestamp() + interval '1 second'
			AND (p.fence = 0 OR p.fence = w.fence AND w.state = 'running'), r.*
		FROM permits p JOIN work w ON w.id = p.work_id LEFT JOIN (`+restedNow("?")+`) r ON true WHERE p.id = ?`,
		restIDs(rests), id), &rows, func(r *row) []any {
		return append([]any{&r.Good}, r.places()...)
	}); err != nil {
		return err
	}
	if len(rows) == 0 || rows[0].Good == nil || !*rows[0].Good {
		return rotation.ErrEnded
	}
	var now []rested
	for _, r := range rows {
		now = append(now, r.rested)
	}
	return rotation.Same(rests, restsOf(now))
}

// HoldPermit has a permit hold until a time that is near: what was written under it comes
// about only then. What it rests on stays as it is meanwhile.
func (s *Store) HoldPermit(ctx context.Context, id int64, until time.Time) error {
	return s.db.WithContext(ctx).Exec("UPDATE permits SET ends_at = ? WHERE id = ?", until, id).Error
}

// EndPermitsOf ends what a piece of work holds.
func (s *Store) EndPermitsOf(ctx context.Context, workID int64) error {
	return s.db.WithContext(ctx).Exec("DELETE FROM permits WHERE work_id = ?", workID).Error
}

// EndPermit ends a permit: what waits for it goes on.
func (s *Store) EndPermit(ctx context.Context, id int64) error {
	return s.db.WithContext(ctx).Exec("DELETE FROM permits WHERE id = ?", id).Error
}

func restIDs(rests []rotation.Rest) []int64 {
	var ids []int64
	for _, r := range rests {
		if r.ID != 0 {
			ids = append(ids, r.ID)
		}
	}
	slices.Sort(ids)
	return slices.Compact(ids)
}

// rested is a key as it is marked now; ID is nil for none.
type rested struct {
	ID            *int64
	Holder, State *string
	ShownAt       *time.Time
}

func (r *rested) places() []any { return []any{&r.ID, &r.Holder, &r.State, &r.ShownAt} }

// restsOf are the keys that there are.
func restsOf(rows []rested) []rotation.Rest {
	var out []rotation.Rest
	for _, r := range rows {
		if r.ID != nil {
			out = append(out, rotation.Rest{ID: *r.ID, Mark: rotation.Mark{Holder: *r.Holder, State: *r.State},
				Shown: timeOf(r.ShownAt)})
		}
	}
	return out
}

// restedNow reads what rested is, of keys by their IDs, a parameter.
func restedNow(ids string) string {
	return `SELECT k.id, coalesce(h.sort, '') AS holder,
		CASE WHEN k.state <> 'in use' THEN k.state WHEN k.retired_at IS NOT NULL THEN 'retired' ELSE '' END AS state,
		k.shown_at FROM keys k LEFT JOIN holders h ON h.id = k.holder_id WHERE k.id IN ` + ids + ` ORDER BY k.id`
}

// unrested takes the rows of keys that are about to be changed. ErrRested while a
// permit rests on one of them.
func unrested(tx *gorm.DB, ids ...int64) error {
	if len(ids) == 0 {
		return nil
	}
	var locked []int64
	if err := tx.Raw("SELECT id FROM keys WHERE id IN ? ORDER BY id FOR UPDATE", ids).Scan(&locked).Error; err != nil {
		return err
	}
	var names []string
	if err := tx.Raw(`SELECT DISTINCT i.name FROM permit_keys k JOIN permits p ON p.id = k.permit_id
		JOIN instances i ON i.id = p.instance_id
		WHERE k.key_id IN ? AND p.ends_at > clock_timestamp()`, ids).Scan(&names).Error; err != nil {
		return err
	}
	if len(names) > 0 {
		return fmt.Errorf("%w (%s)", ErrRested, names[0])
	}
	return nil
}

// markTx is tx for a change of what people say of keys: while a permit rests on
// one of them it waits, for about as long as a permit holds. f gives the keys to touch
// before it changes anything. Work that has given an end to somebody's line on an instance
// that they open looks anew afterwards: what it rested on may count for nothing now.
func (s *Store) markTx(ctx context.Context, f func(tx *gorm.DB, touch func(ids ...int64) error) error) error {
	for begin := time.Now(); ; {
		var touched []int64
		err := s.tx(ctx, func(tx *gorm.DB) error {
			touched = nil
			return f(tx, func(ids ...int64) error {
				touched = append(touched, ids...)
				return unrested(tx, ids...)
			})
		})
		if err == nil && len(touched) > 0 {
			// By itself: the work's own transactions lock its row before any key's.
			return s.db.WithContext(ctx).Exec("UPDATE work SET "+wakes+
				" WHERE (state = 'running' OR state = 'waiting' AND waits_code = ?) AND old_key_id IS NOT NULL AND "+
				"new_key_id IS NOT NULL AND instance_id IN (SELECT instance_id FROM access WHERE key_id IN ?)",
				wire.WaitsGrace, touched).Error
		}
		if !errors.Is(err, ErrRested) || time.Since(begin) > PermitLife {
			return err
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(50 * time.Millisecond):
		}
	}
}

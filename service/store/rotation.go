package store

import (
	"context"
	"fmt"
	"time"

	"gorm.io/gorm"

	"plumlatch/core/access"
)

// Wrote says that a file of keys of an instance was written: what was known of
// its doors before is old.
func (s *Store) Wrote(ctx context.Context, instanceID int64) error {
	return s.tx(ctx, func(tx *gorm.DB) error {
		if err := tx.Exec("UPDATE instances SET changed_at = clock_timestamp() WHERE id = ?",
			instanceID).Error; err != nil {
			return err
		}
		return settleInstance(tx, instanceID)
	})
}

// Place says that a key's line was put into an instance's file: what was known
// of its doors before is old, and the access is recorded. byUs keeps that as
// evidence. It returns the access's ID.
func (s *Store) Place(ctx context.Context, instanceID, keyID int64, loginUser, vantage string,
	byUs bool) (id int64, err error) {
	err = s.tx(ctx, func(tx *gorm.DB) error {
		var ids []int64
		if err := tx.Raw(`WITH changed AS (UPDATE instances SET changed_at = clock_timestamp() WHERE id = ?)
			INSERT INTO access (instance_id, key_id, login_user) VALUES (?, ?, ?) ON CONFLICT DO NOTHING RETURNING id`,
			instanceID, instanceID, keyID, loginUser).Scan(&ids).Error; err != nil {
			return err
		}
		if len(ids) == 0 {
			if err := tx.Raw("SELECT id FROM access WHERE instance_id = ? AND key_id = ? AND login_user = ?",
				instanceID, keyID, loginUser).Scan(&ids).Error; err != nil {
				return err
			}
		}
		id = ids[0]
		if byUs {
			if err := observe(tx, seen{id, access.Placed, true, vantage, ""}); err != nil {
				return err
			}
		}
		return settleInstance(tx, instanceID)
	})
	return id, err
}

// EndAccess takes an access out of the ledger after it was withdrawn, and keeps
// what it was; and has the instance surveyed after these times. One that is gone
// already is left so. ErrLost.
func (s *Store) EndAccess(ctx context.Context, accessID, workID int64, why string, surveys ...time.Duration) error {
	var seconds []float64
	for _, d := range surveys {
		seconds = append(seconds, d.Seconds())
	}
	after, err := recordset(seconds)
	if err != nil {
		return err
	}
	held, args := fence(ctx)
	args["id"], args["ended_by"], args["why"], args["after"] = accessID, workID, why, after
	args["survey"] = fmt.Sprintf("after work %d", workID)
	var holds bool
	err = s.db.WithContext(ctx).Raw(`WITH f AS (`+held+`),
		a AS (SELECT a.*, k.fingerprint FROM access a JOIN keys k ON k.id = a.key_id, f WHERE a.id = @id),
		wants AS (INSERT INTO survey_wants (instance_id, at, why) SELECT a.instance_id,
			clock_timestamp() + make_interval(secs => w::text::float8), CAST(@survey AS text)
			FROM a, jsonb_array_elements(CAST(@after AS jsonb)) w ON CONFLICT DO NOTHING),
		former AS (INSERT INTO former_access (instance_id, key_id, login_user, fingerprint, began_at, work_id, why)
			SELECT instance_id, key_id, login_user, fingerprint, created_at, CAST(@ended_by AS bigint), CAST(@why AS text) FROM a),
		-- It does not stand there any more: that it does will be news.
		gone AS (UPDATE sightings s SET gone_at = clock_timestamp() FROM a WHERE s.instance_id = a.instance_id
			AND s.login_user = a.login_user AND s.fingerprint = a.fingerprint AND s.gone_at IS NULL),
		-- What waits for its end need not wait longer.
		woken AS (UPDATE work SET wake_at = clock_timestamp() FROM a
			WHERE work.id IN (SELECT work_id FROM access_terms WHERE access_id = @id) AND work.state = 'waiting'),
		seen AS (DELETE FROM evidence e USING a WHERE e.access_id = a.id),
		ended AS (DELETE FROM access USING a WHERE access.id = a.id)
		SELECT EXISTS (SELECT 1 FROM f), `+commits, args).Row().Scan(&holds, new(string))
	if err == nil && !holds {
		err = ErrLost
	}
	return err
}

// EndSighting notes that a key that nobody recorded was taken out of an instance's files, and has the
// instance surveyed after these times. One that is gone already is left so. ErrLost.
func (s *Store) EndSighting(ctx context.Context, instanceID int64, loginUser, fingerprint string, workID int64,
	surveys ...time.Duration) error {
	var seconds []float64
	for _, d := range surveys {
		seconds = append(seconds, d.Seconds())
	}
	after, err := recordset(seconds)
	if err != nil {
		return err
	}
	return s.tx(ctx, func(tx *gorm.DB) error {
		if err := tx.Exec(`INSERT INTO survey_wants (instance_id, at, why) SELECT ?,
			clock_timestamp() + make_interval(secs => w::text::float8), ?
			FROM jsonb_array_elements(?::jsonb) w ON CONFLICT DO NOTHING`, instanceID,
			fmt.Sprintf("after work %d", workID), after).Error; err != nil {
			return err
		}
		return tx.Exec("UPDATE sightings SET gone_at = clock_timestamp() WHERE instance_id = ? AND login_user = ? "+
			"AND fingerprint = ? AND gone_at IS NULL", instanceID, loginUser, fingerprint).Error
	})
}

// DropAccess takes back that an access was recorded: it never came to be.
func (s *Store) DropAccess(ctx context.Context, accessID int64) error {
	return s.tx(ctx, func(tx *gorm.DB) error {
		for _, sql := range []string{"DELETE FROM evidence WHERE access_id = ?", "DELETE FROM access WHERE id = ?"} {
			if err := tx.Exec(sql, accessID).Error; err != nil {
				return err
			}
		}
		return nil
	})
}

// KeyWork is a piece of work at hand on an instance that takes or adds a key: a rotation, the
// sharing or the end of an access, a restore.
type KeyWork struct {
	ID, InstanceID     int64
	Title              string
	OldKeyID, NewKeyID int64 // 0 for none
}

// KeyWorks are those on some instances, the oldest first.
func (s *Store) KeyWorks(ctx context.Context, instanceIDs ...int64) ([]KeyWork, error) {
	var out []KeyWork
	return out, s.db.WithContext(ctx).Raw(`SELECT w.id, w.instance_id, w.title, coalesce(w.old_key_id, 0) AS old_key_id,
		coalesce(w.new_key_id, 0) AS new_key_id FROM work w WHERE w.instance_id IN ?
		AND (w.kind IN ('rotate', 'access-add', 'access-remove') OR w.kind LIKE 'restore-%')
		AND w.state IN ('queued', 'running', 'waiting') ORDER BY w.id`, instanceIDs).Scan(&out).Error
}

// ShownSince tells when a key's private half was last shown to exist, and
// whether that was after a piece of work began. Both times are the database's.
func (s *Store) ShownSince(ctx context.Context, keyID, workID int64) (at time.Time, within bool, err error) {
	r, err := one[struct {
		ShownAt *time.Time
		Within  bool
	}](ctx, s, "SELECT k.shown_at, coalesce(k.shown_at > w.created_at, false) AS within FROM keys k, work w WHERE "+
		"k.id = ? AND w.id = ?", keyID, workID)
	return timeOf(r.ShownAt), r.Within, err
}

// Told is what was reported to a piece of work since it was claimed: its input, and whether a key's
// private half was shown since another piece, or the same, began.
func (s *Store) Told(ctx context.Context, workID, keyID, since int64) (input string, shown bool, err error) {
	r, err := one[struct {
		Input string
		Shown bool
	}](ctx, s, "SELECT w.input::text AS input, coalesce(k.shown_at > b.created_at, false) AS shown FROM work w, keys k, "+
		"work b WHERE w.id = ? AND k.id = ? AND b.id = ?", workID, keyID, since)
	return r.Input, r.Shown, err
}

// KeyToTake returns a key that another is to take the place of, and whether that one's private half
// was shown since a piece of work began. ErrNotFound.
func (s *Store) KeyToTake(ctx context.Context, id, by, since int64) (Key, bool, error) {
	r, err := one[struct {
		Key
		Shown bool
	}](ctx, s, keyFields+", coalesce(n.shown_at > b.created_at, false) AS shown"+keyFrom+", keys n, work b "+
		"WHERE k.id = ? AND n.id = ? AND b.id = ?", id, by, since)
	return r.Key, r.Shown, err
}

// Terms are those on which an access was shared.
type Terms struct {
	AccessID  int64
	UntilAt   *time.Time
	FromRange string // a pattern list, "" for all
	Command   string
	Reason    string
	Enforced  bool // the server ends it itself
	Operator  string
	WorkID    int64  // that waits for its end
	Expiry    string // the end as we wrote it into the line; "" where the server does not end it
}

// Terms returns the terms of an access; ErrNotFound if it has none.
func (s *Store) Terms(ctx context.Context, accessID int64) (Terms, error) {
	return one[Terms](ctx, s, "SELECT access_id, until_at, from_range, command, reason, enforced, operator, "+
		"coalesce(work_id, 0) AS work_id, expiry FROM access_terms WHERE access_id = ?", accessID)
}

// GiveEnd notes that a piece of work ends an access, unless it was shared on
// terms of its own.
func (s *Store) GiveEnd(ctx context.Context, t Terms) error {
	return s.tx(ctx, func(tx *gorm.DB) error {
		return tx.Exec("INSERT INTO access_terms (access_id, until_at, reason, enforced, operator, work_id, "+
			"expiry) VALUES (?, ?, ?, ?, ?, ?, ?) ON CONFLICT DO NOTHING",
			t.AccessID, t.UntilAt, t.Reason, t.Enforced, t.Operator, t.WorkID, t.Expiry).Error
	})
}

// TakeEnd takes back what GiveEnd noted.
func (s *Store) TakeEnd(ctx context.Context, accessID, workID int64) error {
	return s.tx(ctx, func(tx *gorm.DB) error {
		return tx.Exec("DELETE FROM access_terms WHERE access_id = ? AND work_id = ?", accessID, workID).Error
	})
}

// ReplaceTerms keeps the terms of an access in the place of those that it had; none, if nothing is bound. What waits for its end looks at once.
func (s *Store) ReplaceTerms(ctx context.Context, t Terms) error {
	return s.tx(ctx, func(tx *gorm.DB) error {
		if err := tx.Exec(`UPDATE work SET wake_at = clock_timestamp() WHERE state = 'waiting'
			AND id = (SELECT work_id FROM access_terms WHERE access_id = ?)`, t.AccessID).Error; err != nil {
			return err
		}
		if t.UntilAt == nil && t.FromRange == "" && t.Command == "" {
			return tx.Exec("DELETE FROM access_terms WHERE access_id = ?", t.AccessID).Error
		}
		return tx.Exec(`INSERT INTO access_terms (access_id, until_at, from_range, command, reason, enforced, operator, work_id, expiry)
			VALUES (?, ?, ?, ?, ?, ?, ?, nullif(CAST(? AS bigint), 0), ?) ON CONFLICT (access_id) DO UPDATE SET until_at = excluded.until_at,
			from_range = excluded.from_range, command = excluded.command, reason = excluded.reason, enforced = excluded.enforced,
			operator = excluded.operator, work_id = excluded.work_id, expiry = excluded.expiry`,
			t.AccessID, t.UntilAt, t.FromRange, t.Command, t.Reason, t.Enforced, t.Operator, t.WorkID, t.Expiry).Error
	})
}

// SetTerms keeps the terms of an access. The work that waits for its end looks
// at once.
func (s *Store) SetTerms(ctx context.Context, t Terms) error {
	return s.tx(ctx, func(tx *gorm.DB) error {
		if err := tx.Exec(`INSERT INTO access_terms (access_id, until_at, from_range, command, reason, enforced,
			operator, work_id, expiry) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?)
			ON CONFLICT (access_id) DO UPDATE SET until_at = excluded.until_at, enforced = excluded.enforced,
			expiry = excluded.expiry`,
			t.AccessID, t.UntilAt, t.FromRange, t.Command, t.Reason, t.Enforced, t.Operator, t.WorkID,
			t.Expiry).Error; err != nil {
			return err
		}
		return tx.Exec("UPDATE work SET wake_at = clock_timestamp() WHERE id = ? AND state = 'waiting'", t.WorkID).Error
	})
}

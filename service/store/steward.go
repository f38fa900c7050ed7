package store

import (
	"context"
	"time"

	"gorm.io/gorm"
)

// NextSteward is the key that takes the place of an instance's steward key.
type NextSteward struct {
	Blob, Sealed []byte
}

// NextSteward returns the next key of an instance's steward; ErrNotFound.
func (s *Store) NextSteward(ctx context.Context, instanceID int64) (NextSteward, error) {
	return one[NextSteward](ctx, s, "SELECT blob, sealed FROM steward_next WHERE instance_id = ?", instanceID)
}

// KeepNextSteward keeps the next key of an instance's steward, unless there is one.
func (s *Store) KeepNextSteward(ctx context.Context, instanceID int64, n NextSteward) error {
	return s.tx(onDisk(ctx), func(tx *gorm.DB) error { // its line is placed next
		return tx.Exec("INSERT INTO steward_next (instance_id, blob, sealed) VALUES (?, ?, ?) ON CONFLICT DO NOTHING",
			instanceID, raw(n.Blob), raw(n.Sealed)).Error
	})
}

// DropNextSteward forgets the next key: its line is out, or was never placed.
func (s *Store) DropNextSteward(ctx context.Context, instanceID int64) error {
	return s.tx(ctx, func(tx *gorm.DB) error {
		return tx.Exec("DELETE FROM steward_next WHERE instance_id = ?", instanceID).Error
	})
}

// SwapSteward puts the next key of an instance's steward in the place of the one
// before. Once it is there, nothing more happens.
func (s *Store) SwapSteward(ctx context.Context, instanceID int64) error {
	return s.tx(onDisk(ctx), func(tx *gorm.DB) error { // the key before is withdrawn next
		r := tx.Exec("UPDATE steward_keys k SET blob = n.blob, sealed = n.sealed, placed_at = clock_timestamp() "+
			"FROM steward_next n WHERE n.instance_id = k.instance_id AND k.instance_id = ?", instanceID)
		if r.Error != nil || r.RowsAffected == 0 {
			return r.Error
		}
		if err := tx.Exec("DELETE FROM steward_next WHERE instance_id = ?", instanceID).Error; err != nil {
			return err
		}
		// What was known of the key before says nothing of this one.
		if err := tx.Exec("DELETE FROM evidence WHERE access_id IN (SELECT id FROM access WHERE instance_id = ? "+
			"AND steward)", instanceID).Error; err != nil {
			return err
		}
		return settleInstance(tx, instanceID)
	})
}

// StewardsDue returns instances whose steward key is older than age, at most
// limit, the oldest first: those that run and have no changing work at hand, and
// for which it was not tried within the last day. What is reached through a jump
// host is left out: the line there was placed by hand.
func (s *Store) StewardsDue(ctx context.Context, age time.Duration, limit int) ([]int64, error) {
	var out []int64
	return out, s.db.WithContext(ctx).Raw(`SELECT k.instance_id FROM steward_keys k
		JOIN instances i ON i.id = k.instance_id
		WHERE k.placed_at < statement_timestamp() - make_interval(secs => ?) AND i.phase = 'ready' AND i.state = 'running'
		AND i.via IS NULL
		AND NOT EXISTS (SELECT 1 FROM work w WHERE w.instance_id = i.id AND w.kind = 'steward'
		AND w.created_at > clock_timestamp() - interval '1 day')
		AND NOT EXISTS (SELECT 1 FROM work w WHERE w.instance_id = i.id AND w.holding) ORDER BY k.placed_at LIMIT ?`,
		age.Seconds(), limit).Scan(&out).Error
}

// StewardPlaced tells when an instance's steward key was placed; ErrNotFound.
func (s *Store) StewardPlaced(ctx context.Context, instanceID int64) (time.Time, error) {
	r, err := one[struct{ PlacedAt time.Time }](ctx, s, "SELECT placed_at FROM steward_keys WHERE instance_id = ?",
		instanceID)
	return r.PlacedAt, err
}

package store

import (
	"context"
	"encoding/json"
	"time"

	"gorm.io/gorm"
)

// SharedRescue is a rescue instance that was launched for a restore of many, whose
// parts have it one after the other.
type SharedRescue struct {
	ID, WorkID int64
	Region     string
	Token      string // of its launch
	At         string // JSON: what is known of it
	PartID     int64  // the part that has it now; 0 for none
	Spoilt     bool   // no part takes it any more
	GoneAt     *time.Time
}

const sharedColumns = "SELECT id, work_id, region, token, at::text AS at, coalesce(part_id, 0) AS part_id, spoilt, gone_at " +
	"FROM shared_rescues"

// TakeShared gives a part of a restore of many the rescue instance that its parts
// share in a region and zone, and begins one if there is none. ErrInProgress,
// with what is known of it, if another part has it.
func (s *Store) TakeShared(ctx context.Context, workID, partID int64, region, zone,
	token string) (SharedRescue, error) {
	var out []SharedRescue
	taken := false
	err := s.tx(ctx, func(tx *gorm.DB) error {
		if err := tx.Exec(`INSERT INTO shared_rescues (work_id, region, zone, token) VALUES (?, ?, ?, ?)
			ON CONFLICT (work_id, region, zone) WHERE NOT spoilt AND gone_at IS NULL DO NOTHING`, workID, region,
			zone, token).Error; err != nil {
			return err
		}
		r := tx.Exec(`UPDATE shared_rescues SET part_id = ?
			WHERE work_id = ? AND region = ? AND zone = ? AND NOT spoilt AND gone_at IS NULL
			AND (part_id IS NULL OR part_id = ?)`,
			partID, workID, region, zone, partID)
		if r.Error != nil {
			return r.Error
		}
		taken = r.RowsAffected == 1
		return tx.Raw(sharedColumns+" WHERE work_id = ? AND region = ? AND zone = ? AND NOT spoilt AND gone_at IS NULL", workID, region, zone).Scan(&out).Error
	})
	switch {
	case err != nil:
		return SharedRescue{}, err
	case len(out) == 0:
		return SharedRescue{}, ErrInProgress // it was spoilt in this moment
	case !taken:
		return out[0], ErrInProgress
	}
	return out[0], nil
}

// KeepShared keeps what is known of a shared rescue instance, and what its cloud calls it:
// on the disk before the cloud is asked for anything.
func (s *Store) KeepShared(ctx context.Context, id int64, cloudID string, at any) error {
	text, err := json.Marshal(at)
	if err != nil {
		return err
	}
	return s.sharedChange(ctx, "UPDATE shared_rescues SET at = ?, cloud_id = ? WHERE id = ?", string(text), cloudID, id)
}

// SpoilShared has no part take it any more.
func (s *Store) SpoilShared(ctx context.Context, id int64) error {
	return s.sharedChange(ctx, "UPDATE shared_rescues SET spoilt = true WHERE id = ?", id)
}

// SharedGone notes that it was removed at the cloud.
func (s *Store) SharedGone(ctx context.Context, id int64) error {
	return s.sharedChange(ctx, "UPDATE shared_rescues SET gone_at = clock_timestamp(), part_id = NULL WHERE id = ? "+
		"AND gone_at IS NULL", id)
}

func (s *Store) sharedChange(ctx context.Context, sql string, args ...any) error {
	return s.tx(onDisk(ctx), func(tx *gorm.DB) error {
		return tx.Exec(sql, args...).Error
	})
}

// SharedByID finds one; ErrNotFound.
func (s *Store) SharedByID(ctx context.Context, id int64) (SharedRescue, error) {
	return one[SharedRescue](ctx, s, sharedColumns+" WHERE id = ?", id)
}

// SharedLeft returns those of a restore of many that are not gone.
func (s *Store) SharedLeft(ctx context.Context, workID int64) ([]SharedRescue, error) {
	var out []SharedRescue
	return out, s.db.WithContext(ctx).Raw(sharedColumns+" WHERE work_id = ? AND gone_at IS NULL ORDER BY id",
		workID).Scan(&out).Error
}

// PartVolume is the root volume of a part that did not come to its end.
type PartVolume struct {
	WorkID           int64
	Instance, Volume string
}

// PartVolumes returns the volumes that parts of a restore of many may have left
// at a rescue instance.
func (s *Store) PartVolumes(ctx context.Context, workID int64) ([]PartVolume, error) {
	var out []PartVolume
	return out, s.db.WithContext(ctx).Raw(`SELECT w.id AS work_id, i.name AS instance, w.volume FROM work w
		JOIN instances i ON i.id = w.instance_id
		WHERE w.parent_id = ? AND w.state NOT IN ('done', 'failed', 'cancelled') AND w.volume <> '' ORDER BY w.id`,
		workID).Scan(&out).Error
}

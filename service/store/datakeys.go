package store

import (
	"context"
	"errors"

	"gorm.io/gorm"

	"plumlatch/service/atrest"
)

// DataKeys returns the sealed data keys, the newest last.
func (s *Store) DataKeys(ctx context.Context) ([]atrest.DataKey, error) {
	var out []atrest.DataKey
	return out, s.db.WithContext(ctx).Raw("SELECT id, sealed FROM data_keys ORDER BY id").Scan(&out).Error
}

// AddDataKey keeps a sealed data key.
func (s *Store) AddDataKey(ctx context.Context, sealed []byte) error {
	return s.db.WithContext(ctx).Exec("INSERT INTO data_keys (sealed) VALUES (?)", raw(sealed)).Error
}

// SealedBefore returns at most limit steward keys that are sealed with another
// data key than this one, with the instance that each belongs to; keys of work,
// with its ID made negative; and the key of the agents' authority, with 0.
func (s *Store) SealedBefore(ctx context.Context, dataKey int64, limit int) (map[int64][]byte, error) {
	var rows []struct {
		InstanceID int64
		Sealed     []byte
	}
	err := s.db.WithContext(ctx).Raw(`SELECT * FROM (SELECT instance_id, sealed FROM steward_keys
		WHERE data_key IS DISTINCT FROM @key ORDER BY instance_id LIMIT @limit) a
		UNION ALL SELECT instance_id, sealed FROM steward_next WHERE data_key IS DISTINCT
		FROM @key AND NOT EXISTS (SELECT 1 FROM steward_keys WHERE data_key IS DISTINCT FROM @key)
		UNION ALL SELECT 0, sealed FROM agent_authority WHERE data_key IS DISTINCT
		FROM @key AND NOT EXISTS (SELECT 1 FROM steward_keys WHERE data_key IS DISTINCT FROM @key)
		UNION ALL SELECT -work_id, sealed FROM work_keys WHERE data_key IS DISTINCT
		FROM @key AND NOT EXISTS (SELECT 1 FROM steward_keys WHERE data_key IS DISTINCT FROM @key)`,
		map[string]any{"key": dataKey, "limit": limit}).Scan(&rows).Error
	out := map[int64][]byte{}
	for _, r := range rows {
		out[r.InstanceID] = r.Sealed
	}
	return out, err
}

// ReplaceSealed puts the same steward key, sealed anew, in the place of the old one;
// what another changed meanwhile stays.
func (s *Store) ReplaceSealed(ctx context.Context, instanceID int64, old, anew []byte) error {
	return s.tx(ctx, func(tx *gorm.DB) error {
		for _, table := range []string{"steward_keys", "steward_next"} {
			if err := tx.Exec("UPDATE "+table+" SET sealed = ? WHERE instance_id = ? AND sealed = ?", raw(anew),
				instanceID, raw(old)).Error; err != nil {
				return err
			}
		}
		if instanceID == 0 {
			return tx.Exec("UPDATE agent_authority SET sealed = ? WHERE sealed = ?", raw(anew), raw(old)).Error
		}
		return tx.Exec("UPDATE work_keys SET sealed = ? WHERE work_id = ? AND sealed = ?", raw(anew),
			-instanceID, raw(old)).Error
	})
}

// ErrKeyInUse says that something is still sealed with an old data key.
var ErrKeyInUse = errors.New("something is still sealed with an old data key")

// EndNewIdentity leaves one data key, puts the new sentinel in the place of the old
// one, and writes it into the journal. ErrKeyInUse.
func (s *Store) EndNewIdentity(ctx context.Context, dataKey int64, sentinel []byte, outcome string) error {
	return s.tx(ctx, func(tx *gorm.DB) error {
		if err := tx.Exec("DELETE FROM data_keys k WHERE id < ? AND NOT EXISTS (SELECT 1 FROM steward_keys s WHERE "+
			"s.data_key = k.id) AND NOT EXISTS (SELECT 1 FROM steward_next s WHERE s.data_key = k.id) AND NOT "+
			"EXISTS (SELECT 1 FROM work_keys s WHERE s.data_key = k.id) AND NOT EXISTS (SELECT 1 FROM agent_authority s "+
			"WHERE s.data_key = k.id)", dataKey).Error; err != nil {
			return err
		}
		var left int64
		if err := tx.Raw("SELECT count(*) FROM data_keys WHERE id < ?", dataKey).Scan(&left).Error; err != nil {
			return err
		}
		if left > 0 {
			return ErrKeyInUse
		}
		if err := tx.Exec("UPDATE sentinel SET sealed = ?", raw(sentinel)).Error; err != nil {
			return err
		}
		_, err := entry{Actor: Service, Action: "service.new-identity", Target: "steward keys",
			Outcome: outcome}.write(tx)
		return err
	})
}

// Intend writes what is about to be done into the journal.
func (s *Store) Intend(ctx context.Context, by Actor, action, target, intent string) error {
	return s.tx(ctx, func(tx *gorm.DB) error {
		_, err := entry{Actor: by, Action: action, Target: target, Intent: intent}.write(tx)
		return err
	})
}

package store

import (
	"context"
	"time"

	"gorm.io/gorm"
)

// LentKey is a key that a cloud lent on an instance: it is looked for after its end, until it is seen gone.
type LentKey struct {
	ID, InstanceID         int64
	LoginUser, Fingerprint string
	Blob                   []byte
	EndsAt                 time.Time
	StaysAt                *time.Time // when the server took it first, after its end
	WithdrawalID           *int64     // the work that takes it off
}

// KeepLent keeps a key that a cloud is about to lend until about then. It comes before the cloud is asked: what is asked
// for and not answered may be there all the same. The same key again gets the later end.
func (s *Store) KeepLent(ctx context.Context, by Actor, k LentKey) error {
	return s.tx(ctx, func(tx *gorm.DB) error {
		return tx.Exec(`INSERT INTO lent_keys AS l (instance_id, login_user, fingerprint, blob, lent_by, ends_at)
			VALUES (?, ?, ?, ?, ?, ?) ON CONFLICT (instance_id, fingerprint) DO UPDATE
			SET ends_at = greatest(l.ends_at, excluded.ends_at), gone_at = NULL, stays_at = NULL`,
			k.InstanceID, k.LoginUser, k.Fingerprint, k.Blob, by.Operator, k.EndsAt).Error
	})
}

// LentUntil keeps until when the cloud says that it lends a key that KeepLent kept.
func (s *Store) LentUntil(ctx context.Context, k LentKey) error {
	return s.tx(ctx, func(tx *gorm.DB) error {
		return tx.Exec("UPDATE lent_keys SET ends_at = ? WHERE instance_id = ? AND fingerprint = ?", k.EndsAt, k.InstanceID, k.Fingerprint).Error
	})
}

// LentOver claims up to limit lent keys whose end has come and that nobody has seen gone: for twenty
// seconds, and longer the longer ago that was, nobody is given them again. Those of instances that are gone are gone with them.
func (s *Store) LentOver(ctx context.Context, limit int) (out []LentKey, err error) {
	err = s.tx(ctx, func(tx *gorm.DB) error {
		if err := tx.Exec(`UPDATE lent_keys l SET gone_at = clock_timestamp() FROM instances i
			WHERE i.id = l.instance_id AND l.gone_at IS NULL AND i.phase IN ('removed', 'failed')`).Error; err != nil {
			return err
		}
		return scanAll(tx.Raw(`UPDATE lent_keys SET asked_at = clock_timestamp() WHERE id IN (SELECT id FROM lent_keys
			WHERE gone_at IS NULL AND ends_at < statement_timestamp()
			AND (asked_at IS NULL OR asked_at < ends_at OR asked_at < statement_timestamp()
				- least(interval '1 hour', greatest(interval '20 s', (statement_timestamp() - ends_at) / 10)))
			ORDER BY asked_at NULLS FIRST LIMIT ? FOR UPDATE SKIP LOCKED)
			RETURNING id, instance_id, login_user, fingerprint, blob, ends_at, stays_at, withdrawal_id`, limit), &out,
			func(k *LentKey) []any {
				return []any{&k.ID, &k.InstanceID, &k.LoginUser, &k.Fingerprint, &k.Blob, &k.EndsAt, &k.StaysAt, &k.WithdrawalID}
			})
	})
	return out, err
}

// LentAnswered keeps whether the server still takes a lent key after its end, and the work that takes it off, 0 for none.
func (s *Store) LentAnswered(ctx context.Context, id int64, taken bool, withdrawal int64) error {
	return s.tx(ctx, func(tx *gorm.DB) error {
		if !taken {
			return tx.Exec("UPDATE lent_keys SET gone_at = clock_timestamp() WHERE id = ?", id).Error
		}
		return tx.Exec(`UPDATE lent_keys SET stays_at = coalesce(stays_at, clock_timestamp()),
			withdrawal_id = coalesce(withdrawal_id, nullif(CAST(? AS bigint), 0)) WHERE id = ?`, withdrawal, id).Error
	})
}

// LentStaying returns the lent keys of an instance that its server took after their end, and that are not seen gone.
func (s *Store) LentStaying(ctx context.Context, instanceID int64) (out []LentKey, err error) {
	err = scanAll(s.db.WithContext(ctx).Raw(`SELECT id, instance_id, login_user, fingerprint, blob, ends_at, stays_at, withdrawal_id
		FROM lent_keys WHERE instance_id = ? AND stays_at IS NOT NULL AND gone_at IS NULL ORDER BY id`, instanceID), &out,
		func(k *LentKey) []any {
			return []any{&k.ID, &k.InstanceID, &k.LoginUser, &k.Fingerprint, &k.Blob, &k.EndsAt, &k.StaysAt, &k.WithdrawalID}
		})
	return out, err
}

// KeyLent writes into the journal that a key is about to be lent by the cloud, and why; LentSaid what came of it.
func (s *Store) KeyLent(ctx context.Context, by Actor, i Instance, fingerprint, reason string) (entryID int64, err error) {
	err = s.tx(ctx, func(tx *gorm.DB) error {
		entryID, err = entry{by, "key.lend", "instance " + i.Name, "have the cloud take " + fingerprint + " for a while: " + reason, "", 0}.write(tx)
		return err
	})
	return entryID, err
}

// LentSaid writes into the journal what came of KeyLent.
func (s *Store) LentSaid(ctx context.Context, by Actor, i Instance, entryID int64, outcome string) error {
	return s.tx(ctx, func(tx *gorm.DB) error {
		_, err := entry{by, "key.lend", "instance " + i.Name, "", outcome, entryID}.write(tx)
		return err
	})
}

package store

import (
	"context"
	"time"

	"gorm.io/gorm"
)

// FirstPassword is what the ledger knows of the first password of an instance without SSH: which key it is encrypted to, and
// never itself.
type FirstPassword struct {
	InstanceID             int64
	KeyID                  int64 // 0 for a key that the ledger does not know
	Key, State             string
	Fingerprint            string // "" if nobody knows
	HandedAt, ChangedAt    *time.Time
	HandedTo, ChangedBy    string
	Holder, HolderSort     string
	Instance, InstanceFold string
}

const firstPasswordColumns = `SELECT p.instance_id, coalesce(p.key_id, 0) AS key_id, coalesce(k.name, '') AS key,
	coalesce(k.state, '') AS state, p.fingerprint, p.handed_at, p.handed_to, p.changed_at, p.changed_by,
	coalesce(h.name, '') AS holder, coalesce(h.sort, '') AS holder_sort, i.name AS instance, i.name_fold AS instance_fold
	FROM first_passwords p JOIN instances i ON i.id = p.instance_id LEFT JOIN keys k ON k.id = p.key_id
	LEFT JOIN holders h ON h.id = k.holder_id `

// FirstPasswordOf returns what is known of an instance's first password. ErrNotFound for one that gives none.
func (s *Store) FirstPasswordOf(ctx context.Context, instanceID int64) (FirstPassword, error) {
	return one[FirstPassword](ctx, s, firstPasswordColumns+"WHERE p.instance_id = ?", instanceID)
}

// FirstPasswordsOf returns the instances whose first password is encrypted to a key and not known to be changed.
func (s *Store) FirstPasswordsOf(ctx context.Context, keyID int64) (out []FirstPassword, err error) {
	err = s.db.WithContext(ctx).Raw(firstPasswordColumns+`WHERE p.key_id = ? AND p.changed_at IS NULL
		AND i.phase NOT IN ('removed', 'failed') ORDER BY i.name_fold`, keyID).Scan(&out).Error
	return out, err
}

// PasswordHanded writes down that the cipher text of an instance's first password is handed to somebody.
func (s *Store) PasswordHanded(ctx context.Context, by Actor, i Instance) error {
	return s.tx(ctx, func(tx *gorm.DB) error {
		r := tx.Exec("UPDATE first_passwords SET handed_at = clock_timestamp(), handed_to = ? WHERE instance_id = ?", by.Operator, i.ID)
		if r.Error != nil || r.RowsAffected == 0 {
			return orNotFound(r.Error)
		}
		_, err := entry{by, "instance.password", "instance " + i.Name, "hand over its first password, as it is encrypted", "handed over", 0}.write(tx)
		return err
	})
}

// PasswordChanged writes down that somebody says that an instance's first password was changed: the key that it was encrypted
// to no longer matters to it.
func (s *Store) PasswordChanged(ctx context.Context, by Actor, i Instance) error {
	return s.tx(ctx, func(tx *gorm.DB) error {
		r := tx.Exec(`UPDATE first_passwords SET changed_at = coalesce(changed_at, clock_timestamp()),
			changed_by = CASE WHEN changed_at IS NULL THEN ? ELSE changed_by END WHERE instance_id = ?`, by.Operator, i.ID)
		if r.Error != nil || r.RowsAffected == 0 {
			return orNotFound(r.Error)
		}
		_, err := entry{by, "instance.password", "instance " + i.Name, "record that its first password was changed", "recorded", 0}.write(tx)
		return err
	})
}

// SetFirstPassword has the ledger know of an instance's first password what holds of the machine that has its place now.
func (s *Store) SetFirstPassword(ctx context.Context, instanceID int64, p FirstPassword) error {
	return s.tx(ctx, func(tx *gorm.DB) error {
		return tx.Exec(`UPDATE first_passwords SET key_id = (SELECT id FROM keys WHERE id = ?), fingerprint = ?, handed_at = ?, handed_to = ?,
			changed_at = ?, changed_by = ? WHERE instance_id = ?`, p.KeyID, p.Fingerprint, p.HandedAt, p.HandedTo, p.ChangedAt, p.ChangedBy,
			instanceID).Error
	})
}

// orNotFound is ErrNotFound where there is no other error.
func orNotFound(err error) error {
	if err == nil {
		return ErrNotFound
	}
	return err
}

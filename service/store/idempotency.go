package store

import (
	"bytes"
	"context"
	"errors"
	"fmt"

	"gorm.io/gorm"
)

// Once names a request, so that sent twice it is done once. It is unique with
// the operator and kept for a day.
type Once struct {
	OperatorID int64
	Key        string // "" for a request without a name
	Sum        []byte // hash of method, path and body
}

// ErrReused says that the name was used for another request.
var ErrReused = errors.New("this Idempotency-Key was used for another request")

// Replayed is returned for a request that was done already: by which work, on
// which instance (0 for none).
type Replayed struct{ InstanceID, WorkID int64 }

// Error says so.
func (r Replayed) Error() string { return fmt.Sprintf("done already, by work %d", r.WorkID) }

// Seen returns Replayed or ErrReused if the request was sent before, else nil.
func (s *Store) Seen(ctx context.Context, o Once) error { return o.seen(s.db.WithContext(ctx)) }

// take claims the name in the work's own transaction. Replayed or ErrReused if
// it was used before; a request at the same moment waits for this one's end.
func (o Once) take(tx *gorm.DB, instanceID, workID int64) error {
	if o.Key == "" {
		return nil
	}
	if err := tx.Exec("DELETE FROM idempotency WHERE created_at < now() - interval '1 day'").Error; err != nil {
		return err
	}
	var instance *int64
	if instanceID != 0 {
		instance = &instanceID
	}
	r := tx.Exec("INSERT INTO idempotency (operator_id, key, sha256, instance_id, work_id) VALUES (?, ?, ?, ?, ?) "+
		"ON CONFLICT DO NOTHING",
		o.OperatorID, o.Key, raw(o.Sum), instance, workID)
	if r.Error != nil || r.RowsAffected == 1 {
		return r.Error
	}
	return o.seen(tx)
}

// seen returns Replayed or ErrReused if the name was used before.
func (o Once) seen(tx *gorm.DB) error {
	if o.Key == "" {
		return nil
	}
	var rows []struct {
		Sha256     []byte
		InstanceID int64
		WorkID     int64
	}
	err := tx.Raw("SELECT sha256, coalesce(instance_id, 0) AS instance_id, coalesce(work_id, 0) AS work_id FROM "+
		"idempotency WHERE operator_id = ? AND key = ? AND created_at > now() - interval '1 day'",
		o.OperatorID, o.Key).Scan(&rows).Error
	switch {
	case err != nil || len(rows) == 0:
		return err
	case !bytes.Equal(rows[0].Sha256, o.Sum):
		return ErrReused
	}
	return Replayed{rows[0].InstanceID, rows[0].WorkID}
}

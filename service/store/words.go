package store

import (
	"context"
	"fmt"
	"time"

	"gorm.io/gorm"
)

// Word is what an operator said of a piece of work that waited for it.
type Word struct {
	Operator string
	At       time.Time
	Sort     string // second, or signature
	Detail   string // fingerprint of the key that signed
}

// GiveWord keeps an operator's word for a piece of work, and has it look at
// once. ErrWorkState if it is over.
func (s *Store) GiveWord(ctx context.Context, by Actor, w Work, sort, detail string) error {
	return s.tx(ctx, func(tx *gorm.DB) error {
		r := tx.Exec("UPDATE work SET "+wakes+" WHERE id = ? AND state IN ('queued', 'running', 'waiting')", w.ID)
		if r.Error != nil {
			return r.Error
		}
		if r.RowsAffected == 0 {
			return ErrWorkState
		}
		if err := tx.Exec("INSERT INTO work_words (work_id, operator, sort, detail) VALUES (?, ?, ?, ?) ON "+
			"CONFLICT DO NOTHING", w.ID, by.Operator, sort, detail).Error; err != nil {
			return err
		}
		if _, err := (entry{by, "work.word", fmt.Sprintf("work %d", w.ID), "let it begin: " + w.Title, sort + " " +
			detail, 0}).write(tx); err != nil {
			return err
		}
		return event(tx, w.ID, w.At, "", by.Operator+" lets it begin")
	})
}

// Words returns what was said of a piece of work.
func (s *Store) Words(ctx context.Context, workID int64) ([]Word, error) {
	var out []Word
	return out, s.db.WithContext(ctx).Raw("SELECT operator, at, sort, detail FROM work_words WHERE work_id = ? "+
		"ORDER BY at", workID).Scan(&out).Error
}

// SetOperatorKey makes the signature of a key an operator's word, or no longer. ErrNotFound.
func (s *Store) SetOperatorKey(ctx context.Context, by Actor, name string, k Key, on bool) error {
	return s.tx(ctx, func(tx *gorm.DB) error {
		var ids []int64
		if err := tx.Raw("SELECT id FROM operators WHERE name = ?", name).Scan(&ids).Error; err != nil {
			return err
		}
		if len(ids) == 0 {
			return ErrNotFound
		}
		what := "sign with " + k.Name
		r := tx.Exec("INSERT INTO operator_keys (operator_id, key_id, set_by) VALUES (?, ?, ?) ON CONFLICT DO NOTHING", ids[0], k.ID, by.Operator)
		if !on {
			what = "sign with " + k.Name + " no longer"
			r = tx.Exec("DELETE FROM operator_keys WHERE operator_id = ? AND key_id = ?", ids[0], k.ID)
		}
		if r.Error != nil {
			return r.Error
		}
		_, err := entry{by, "operator.key", "operator " + name, what, k.Fingerprint, 0}.write(tx)
		return err
	})
}

// KeysOfOperator is OperatorKeys by the operator's name.
func (s *Store) KeysOfOperator(ctx context.Context, name string) ([]Key, error) {
	var out []Key
	return out, s.db.WithContext(ctx).Raw(keyColumns+
		" WHERE k.id IN (SELECT x.key_id FROM operator_keys x JOIN operators o ON o.id = x.operator_id WHERE "+
		"o.name = ?) ORDER BY k.name_fold", name).Scan(&out).Error
}

// OperatorKeys returns the keys whose signature is an operator's word.
func (s *Store) OperatorKeys(ctx context.Context, operatorID int64) ([]Key, error) {
	var out []Key
	return out, s.db.WithContext(ctx).Raw(keyColumns+
		" WHERE k.id IN (SELECT key_id FROM operator_keys WHERE operator_id = ?) ORDER BY k.name_fold",
		operatorID).Scan(&out).Error
}

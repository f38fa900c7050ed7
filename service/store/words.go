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

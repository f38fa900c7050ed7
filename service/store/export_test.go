package store

import (
	"context"

	"gorm.io/gorm"
)

// Together is tx for the tests: f gets a function that sends a statement.
func (s *Store) Together(ctx context.Context, f func(send func(sql string) error) error) error {
	return s.tx(ctx, func(tx *gorm.DB) error {
		return f(func(sql string) error { return tx.Exec(sql).Error })
	})
}

package store

import (
	"context"
	"strings"

	"gorm.io/gorm"
)

// LoginsSeen journals what a way back on an instance did: the instance's word, as a client read it there.
func (s *Store) LoginsSeen(ctx context.Context, by Actor, i Instance, said []string) error {
	return s.tx(ctx, func(tx *gorm.DB) error {
		_, err := entry{by, "instance.logins", "instance " + i.Name, "read what the way back on it did, in its own words", strings.Join(said, "; "), 0}.write(tx)
		return err
	})
}

package store

import (
	"context"
	"fmt"
	"strings"
	"time"

	"gorm.io/gorm"

	"plumlatch/core/keypair"
	"plumlatch/core/names"
)

// Key is one recorded key pair: the public half, and what is known of it.
type Key struct {
	ID          int64
	Name        string
	Blob        []byte
	Kind        string
	Fingerprint string
	Comment     string
	Note        string
	Origin      string
	CreatedAt   time.Time
	CreatedBy   string
	Reach       int // how many instances it opens, as the ledger has it
}

// Public returns the key's public half.
func (k Key) Public() keypair.Public { return keypair.Public{Blob: k.Blob, Comment: k.Comment} }

// Origins of a key.
const (
	MadeHere = "made here" // by the client or the console of Plum Latch
	Imported = "imported"
)

const keyColumns = `SELECT k.id, k.name, k.blob, k.kind, k.fingerprint, k.comment, k.note, k.origin, k.created_at, k.created_by,
	(SELECT count(DISTINCT a.instance_id) FROM access a JOIN instances i ON i.id = a.instance_id
	 WHERE a.key_id = k.id AND i.phase NOT IN ('removed', 'failed')) AS reach
	FROM keys k`

// KnownKey is returned when a public half is recorded already: under which name.
type KnownKey struct{ Name string }

// Error names the key.
func (e KnownKey) Error() string { return fmt.Sprintf("%v, as %s", ErrKeyKnown, e.Name) }

// Unwrap returns ErrKeyKnown.
func (e KnownKey) Unwrap() error { return ErrKeyKnown }

// AddKey records a public half under a name. Errors: ErrNameTaken, KnownKey.
func (s *Store) AddKey(ctx context.Context, by Actor, name string, p keypair.Public, origin, note string) (Key, error) {
	action := "key.import"
	if origin == MadeHere {
		action = "key.create"
	}
	err := s.tx(ctx, func(tx *gorm.DB) error {
		err := tx.Exec(`INSERT INTO keys (name, name_fold, blob, kind, fingerprint, comment, note, origin, created_by)
			VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?)`,
			name, names.Fold(name), raw(p.Blob), p.Kind(), p.Fingerprint(), p.Comment, note, origin, by.Operator).Error
		if err != nil {
			return err
		}
		_, err = entry{by, action, "key " + name, "record " + p.Kind() + " " + p.Fingerprint(), "recorded", 0}.write(tx)
		return err
	})
	if constraint, ok := unique(err); ok {
		if strings.Contains(constraint, "name") {
			return Key{}, ErrNameTaken
		}
		known, err := s.KeyByFingerprint(ctx, p.Fingerprint())
		if err != nil {
			return Key{}, err
		}
		return Key{}, KnownKey{known.Name}
	}
	if err != nil {
		return Key{}, err
	}
	return s.KeyByName(ctx, name)
}

// KeyByName finds a key whatever the case of its name; ErrNotFound.
func (s *Store) KeyByName(ctx context.Context, name string) (Key, error) {
	return one[Key](ctx, s, keyColumns+" WHERE k.name_fold = ?", names.Fold(name))
}

// KeyByFingerprint finds a key by its SHA256 fingerprint; ErrNotFound.
func (s *Store) KeyByFingerprint(ctx context.Context, fp string) (Key, error) {
	return one[Key](ctx, s, keyColumns+" WHERE k.fingerprint = ?", fp)
}

// KeyQuery chooses and orders keys.
type KeyQuery struct {
	Text        string // a part of the name or of the comment
	Kind        string // exact
	Fingerprint string // exact
	Sort        string // "name" (default), "created", "reach"
	Descending  bool
	Page
}

// Keys returns a page of keys and the cursor of the next, "" at the end.
func (s *Store) Keys(ctx context.Context, q KeyQuery) ([]Key, string, error) {
	var l list
	if q.Text != "" {
		l.filter("(position(? in k.name_fold) > 0 OR position(? in lower(k.comment)) > 0)", strings.ToLower(q.Text), strings.ToLower(q.Text))
	}
	if q.Kind != "" {
		l.filter("k.kind = ?", q.Kind)
	}
	if q.Fingerprint != "" {
		l.filter("k.fingerprint = ?", q.Fingerprint)
	}
	column, value := "k.name_fold", func(k Key) string { return names.Fold(k.Name) }
	switch q.Sort {
	case "created":
		column, value = createdText("k"), func(k Key) string { return sortTime(k.CreatedAt) }
	case "reach":
		column = `to_char((SELECT count(DISTINCT a.instance_id) FROM access a JOIN instances i ON i.id = a.instance_id
			WHERE a.key_id = k.id AND i.phase NOT IN ('removed', 'failed')), 'FM0000000000')`
		value = func(k Key) string { return fmt.Sprintf("%010d", k.Reach) }
	}
	return pageOf(ctx, s, &l, keyColumns, column, "k.id", q.Descending, q.Page, func(k Key) (string, int64) { return value(k), k.ID })
}

// createdText orders by time as text, to the microsecond, as sortTime writes it.
func createdText(table string) string {
	return "to_char(" + table + `.created_at AT TIME ZONE 'UTC', 'YYYYMMDDHH24MISSUS')`
}

func sortTime(t time.Time) string {
	return t.UTC().Format("20060102150405") + fmt.Sprintf("%06d", t.Nanosecond()/1000)
}

// one returns the one row of a query, or ErrNotFound.
func one[T any](ctx context.Context, s *Store, sql string, args ...any) (T, error) {
	var rows []T
	var none T
	if err := s.db.WithContext(ctx).Raw(sql, args...).Scan(&rows).Error; err != nil {
		return none, err
	}
	if len(rows) == 0 {
		return none, ErrNotFound
	}
	return rows[0], nil
}

// pageOf runs a paged query and cuts the one row too many that shows that more follow.
func pageOf[T any](ctx context.Context, s *Store, l *list, selectFrom, column, id string, descending bool, p Page, key func(T) (string, int64)) ([]T, string, error) {
	sql, args, err := l.sql(selectFrom, column, id, descending, p)
	if err != nil {
		return nil, "", err
	}
	rows := []T{}
	if err := s.db.WithContext(ctx).Raw(sql, args...).Scan(&rows).Error; err != nil {
		return nil, "", err
	}
	if len(rows) <= p.limit() {
		return rows, "", nil
	}
	rows = rows[:p.limit()]
	return rows, cursor(key(rows[len(rows)-1])), nil
}

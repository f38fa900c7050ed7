package store

import (
	"context"
	"errors"
	"fmt"
	"slices"
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
	Found       int // how many others a survey found it on, where nobody recorded it

	Holder       string // name; "" for not known
	HolderSort   string // person, team, machine, job
	KeptAt       string // where the private half is kept, in words
	Passphrase   string // "yes", "no" or "not known"
	PassphraseAt *time.Time
	Weakness     string // the worst severity, "" for none
	RetiredAt    *time.Time
	ShownAt      *time.Time // when its private half was last shown to exist
	ShownBy      string     // by which operator
	EvidenceAt   *time.Time // of what is shown of any access

	Authority     bool   // a certificate authority: it is put on no instance as a key
	PrivateSHA1   string // of the private half's DER, in hex, as somebody said; "" for not known
	PrivateSHA1By string
	PrivateSHA1At *time.Time

	State       string // access.InUse, Lost, Exposed
	StateAt     *time.Time
	StateBy     string
	StateReason string
}

// Public returns the key's public half.
func (k Key) Public() keypair.Public { return keypair.Public{Blob: k.Blob, Comment: k.Comment} }

// KindAuthority is what the kind of a recorded certificate authority is called, whatever its algorithm.
const KindAuthority = "authority"

// Origins of a key.
const (
	MadeHere = "made here" // by the client or the console of Plum Latch
	Imported = "imported"
	// MadeElsewhere is by a cloud or provisioning tool: its private half was in other hands.
	MadeElsewhere = "made elsewhere"
)

const reachOfKey = `(SELECT count(DISTINCT a.instance_id) FROM access a JOIN instances i ON i.id = a.instance_id
	WHERE a.key_id = k.id AND i.phase NOT IN ('removed', 'failed', 'rehearsal'))`

// foundOfKey counts the instances on which a key stands that is not recorded there.
const foundOfKey = `(SELECT count(DISTINCT s.instance_id) FROM sightings s JOIN instances i ON i.id = s.instance_id
	WHERE s.fingerprint = k.fingerprint AND s.gone_at IS NULL AND i.phase NOT IN ('removed', 'failed', 'rehearsal')
	AND NOT EXISTS (SELECT 1 FROM access a WHERE a.instance_id = s.instance_id AND a.key_id = k.id))`

const keyColumns = `SELECT k.id, k.name, k.blob, k.kind, k.fingerprint, k.comment, k.note, k.origin, k.created_at,
	k.created_by,
	coalesce(h.name, '') AS holder, coalesce(h.sort, '') AS holder_sort, k.kept_at, k.passphrase, k.passphrase_at,
	k.weakness,
	k.retired_at, k.shown_at, k.shown_by, k.state, k.state_at, k.state_by, k.state_reason,
	k.private_sha1, k.private_sha1_by, k.private_sha1_at, k.authority, ` + reachOfKey + ` AS reach, ` + foundOfKey + ` AS found,
	(SELECT max(a.standing_at) FROM access a WHERE a.key_id = k.id) AS evidence_at
	FROM keys k LEFT JOIN holders h ON h.id = k.holder_id`

// keyAlone is keyColumns without what has to be counted: its reach, its evidence.
const (
	keyAlone  = keyFields + keyFrom
	keyFields = `SELECT k.id, k.name, k.blob, k.kind, k.fingerprint, k.comment, k.note, k.origin, k.created_at,
	k.created_by,
	coalesce(h.name, '') AS holder, coalesce(h.sort, '') AS holder_sort, k.kept_at, k.passphrase, k.passphrase_at,
	k.weakness,
	k.retired_at, k.shown_at, k.shown_by, k.state, k.state_at, k.state_by, k.state_reason,
	k.private_sha1, k.private_sha1_by, k.private_sha1_at, k.authority`
	keyFrom = " FROM keys k LEFT JOIN holders h ON h.id = k.holder_id"
)

// NewKey is what is recorded of a key at first.
type NewKey struct {
	Name, Note, Origin, KeptAt string
	Passphrase                 string // "yes", "no"; "" for not known
	Holder                     string // name of a recorded holder; "" for not known
	Public                     keypair.Public
	Authority                  bool
}

// worst returns the worst severity of a key's weaknesses.
func worst(p keypair.Public) string {
	rank := map[keypair.Severity]int{keypair.Dated: 1, keypair.Weak: 2, keypair.Broken: 3}
	var out keypair.Severity
	for _, w := range p.Weaknesses() {
		if rank[w.Severity] > rank[out] {
			out = w.Severity
		}
	}
	return string(out)
}

// ErrHolder says that a holder is not recorded.
var ErrHolder = errors.New("no holder of this name is recorded")

// holderID returns the ID of a holder by name, nil for "". ErrHolder.
func holderID(tx *gorm.DB, name string) (*int64, error) {
	if name == "" {
		return nil, nil
	}
	var ids []int64
	if err := tx.Raw("SELECT id FROM holders WHERE name_fold = ?", names.Fold(name)).Scan(&ids).Error; err != nil {
		return nil, err
	}
	if len(ids) == 0 {
		return nil, ErrHolder
	}
	return &ids[0], nil
}

// ensureHolder records an operator as a holder, a person, unless there is a holder
// of that name.
func ensureHolder(tx *gorm.DB, by Actor) error {
	r := tx.Exec("INSERT INTO holders (name, name_fold, sort) VALUES (?, ?, 'person') ON CONFLICT DO NOTHING",
		by.Operator, names.Fold(by.Operator))
	if r.Error != nil || r.RowsAffected == 0 {
		return r.Error
	}
	_, err := entry{by, "holder.add", "holder " + by.Operator, "add as person: has made a pair", "added", 0}.write(tx)
	return err
}

// KnownKey is returned when a public half is recorded already: under which name.
type KnownKey struct{ Name string }

// Error names the key.
func (e KnownKey) Error() string { return fmt.Sprintf("%v, as %s", ErrKeyKnown, e.Name) }

// Unwrap returns ErrKeyKnown.
func (e KnownKey) Unwrap() error { return ErrKeyKnown }

// AddKey records a public half under a name. Errors: ErrNameTaken, KnownKey, ErrHolder.
func (s *Store) AddKey(ctx context.Context, by Actor, n NewKey) (Key, error) {
	action := "key.import"
	if n.Origin == MadeHere {
		action = "key.create"
	}
	passphrase := n.Passphrase
	if passphrase == "" {
		passphrase = "not known"
	}
	name, p := n.Name, n.Public
	err := s.tx(ctx, func(tx *gorm.DB) error {
		has := n.Holder
		if has == "" && n.Origin == MadeHere { // whoever made it has it
			if err := ensureHolder(tx, by); err != nil {
				return err
			}
			has = by.Operator
		}
		holder, err := holderID(tx, has)
		if err != nil {
			return err
		}
		err = tx.Exec(`INSERT INTO keys (name, name_fold, blob, kind, fingerprint, comment, note, origin, created_by,
			holder_id, kept_at, passphrase, passphrase_at, weakness, md5_der, authority)
			VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, CASE WHEN ? = 'not known' THEN NULL ELSE now() END, ?, ?, ?)`,
			name, names.Fold(name), raw(p.Blob), p.Kind(), p.Fingerprint(), p.Comment, n.Note, n.Origin, by.Operator,
			holder, n.KeptAt, passphrase, passphrase, worst(p), derHex(p), n.Authority).Error
		if err != nil {
			return err
		}
		_, err = entry{by, action, "key " + name, "record " + p.Kind() + " " + p.Fingerprint(), "recorded", 0}.write(tx)
		return err
	})
	if _, ok := unique(err); ok { // the key itself says more than its name
		known, err := s.KeyByFingerprint(ctx, p.Fingerprint())
		switch {
		case err == nil:
			return Key{}, KnownKey{known.Name}
		case errors.Is(err, ErrNotFound):
			return Key{}, ErrNameTaken
		}
		return Key{}, err
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

// KeyNames returns the names of all keys.
func (s *Store) KeyNames(ctx context.Context) ([]string, error) {
	var out []string
	return out, s.db.WithContext(ctx).Raw("SELECT name FROM keys ORDER BY name_fold LIMIT 50000").Scan(&out).Error
}

// KeyByID finds a key, without what it opens; ErrNotFound.
func (s *Store) KeyByID(ctx context.Context, id int64) (Key, error) {
	return one[Key](ctx, s, keyAlone+" WHERE k.id = ?", id)
}

// KeysByID is KeyByID of several, in the order of the IDs that are given; ErrNotFound if one of
// them is not there.
func (s *Store) KeysByID(ctx context.Context, ids ...int64) ([]Key, error) {
	var rows []Key
	if err := s.db.WithContext(ctx).Raw(keyAlone+" WHERE k.id IN ?", ids).Scan(&rows).Error; err != nil {
		return nil, err
	}
	var out []Key
	for _, id := range ids {
		n := slices.IndexFunc(rows, func(k Key) bool { return k.ID == id })
		if n < 0 {
			return nil, ErrNotFound
		}
		out = append(out, rows[n])
	}
	return out, nil
}

// KeyAlone finds a key by name, without what it opens; ErrNotFound.
func (s *Store) KeyAlone(ctx context.Context, name string) (Key, error) {
	return one[Key](ctx, s, keyAlone+" WHERE k.name_fold = ?", names.Fold(name))
}

// KeyByFingerprint finds a key by its SHA256 fingerprint; ErrNotFound.
func (s *Store) KeyByFingerprint(ctx context.Context, fp string) (Key, error) {
	return one[Key](ctx, s, keyColumns+" WHERE k.fingerprint = ?", fp)
}

// KeyQuery chooses and orders keys.
type KeyQuery struct {
	Text       string        // a part of the name or of the comment, or a fingerprint of whatever form
	Kind       string        // exact
	Print      keypair.Print // of whatever form; the zero value for any
	Holder     string        // name, exact whatever its case
	Origin     string        // exact
	Weakness   string        // "any", or a severity
	State      string        // "in use", "retired", "lost" or "exposed"
	OlderThan  int           // days since it was recorded, at least; 0 for any age
	Sort       string        // "name" (default), "created", "reach"
	Descending bool
	Page
}

// Keys returns a page of keys and the cursor of the next, "" at the end.
func (s *Store) Keys(ctx context.Context, q KeyQuery) ([]Key, string, error) {
	var l list
	if q.Text != "" {
		text := strings.ToLower(q.Text)
		where, args := "position(? in k.name_fold) > 0 OR position(? in lower(k.comment)) > 0", []any{text, text}
		if p, ok, err := keypair.ParsePrint(q.Text); ok && err == nil {
			of, more := ofPrint("k", p)
			where, args = where+" OR "+of, append(args, more...)
		}
		l.filter("("+where+")", args...)
	}
	switch q.Kind {
	case "":
	case KindAuthority:
		l.filter("k.authority")
	default:
		l.filter("k.kind = ? AND NOT k.authority", q.Kind)
	}
	if q.Print.Text != "" {
		where, args := ofPrint("k", q.Print)
		l.filter(where, args...)
	}
	if q.Holder != "" {
		l.filter("h.name_fold = ?", names.Fold(q.Holder))
	}
	if q.Origin != "" {
		l.filter("k.origin = ?", q.Origin)
	}
	switch q.Weakness {
	case "":
	case "any":
		l.filter("k.weakness <> ''")
	default:
		l.filter("k.weakness = ?", q.Weakness)
	}
	switch q.State {
	case "retired":
		l.filter("k.retired_at IS NOT NULL")
	case "in use":
		l.filter("k.retired_at IS NULL AND k.state = 'in use'")
	case "lost", "exposed":
		l.filter("k.state = ?", q.State)
	}
	if q.OlderThan > 0 {
		l.filter("k.created_at < now() - make_interval(days => ?)", q.OlderThan)
	}
	column, value := "k.name_fold", func(k Key) string { return names.Fold(k.Name) }
	switch q.Sort {
	case "created":
		column, value = createdText("k"), func(k Key) string { return sortTime(k.CreatedAt) }
	case "reach":
		column = "to_char(" + reachOfKey + ", 'FM0000000000')"
		value = func(k Key) string { return fmt.Sprintf("%010d", k.Reach) }
	}
	return pageOf(ctx, s, &l, keyColumns, column, "k.id", q.Descending, q.Page,
		func(k Key) (string, int64) { return value(k), k.ID })
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

// scanAll reads every row into the places that scan names, in the order of the columns.
func scanAll[T any](db *gorm.DB, into *[]T, scan func(*T) []any) error {
	rows, err := db.Rows()
	if err != nil {
		return err
	}
	defer rows.Close()
	for rows.Next() {
		var t T
		if err := rows.Scan(scan(&t)...); err != nil {
			return err
		}
		*into = append(*into, t)
	}
	return rows.Err()
}

// pageOf runs a paged query and cuts the one row too many that shows that more follow.
func pageOf[T any](ctx context.Context, s *Store, l *list, selectFrom, column, id string, descending bool, p Page,
	key func(T) (string, int64)) ([]T, string, error) {
	return pageBy(ctx, s, l, selectFrom, column, id, descending, p, key, nil)
}

// pageBy is pageOf with the rows read by scan: for the lists that are asked for
// most, since reflection costs more there than the database.
func pageBy[T any](ctx context.Context, s *Store, l *list, selectFrom, column, id string, descending bool, p Page,
	key func(T) (string, int64), scan func(*T) []any) ([]T, string, error) {
	query, args, err := l.sql(selectFrom, column, id, descending, p)
	if err != nil {
		return nil, "", err
	}
	rows := []T{}
	db := s.db.WithContext(ctx).Raw(query, args...)
	if scan == nil {
		err = db.Scan(&rows).Error
	} else {
		err = scanAll(db, &rows, scan)
	}
	if err != nil {
		return nil, "", err
	}
	if len(rows) <= p.limit() {
		return rows, "", nil
	}
	rows = rows[:p.limit()]
	return rows, cursor(key(rows[len(rows)-1])), nil
}

package store

import (
	"context"
	"fmt"
	"strings"
	"time"

	"gorm.io/gorm"

	"plumlatch/core/access"
	"plumlatch/core/names"
)

// Access is one row of the ledger: one public key that opens one instance for
// one login user, with what is known of it.
type Access struct {
	ID            int64
	InstanceID    int64
	Instance      string
	InstancePhase Phase
	Region        string
	KeyID         int64  // 0 for the steward's
	Key           string // "" for the steward's
	Steward       bool
	Blob          []byte
	Comment       string
	Holder        string // of the key; "" for not known
	HolderSort    string
	ShownAt       *time.Time // when the key's private half was last shown to exist
	LoginUser     string
	CreatedAt     time.Time
	ChangedAt     time.Time // since when earlier evidence is old
	ProbeAnswer   string
	ProbeDetail   string
	ProbeFrom     string
	ProbeAt       *time.Time
	Evidence      access.Record `gorm:"-"`
}

const accessColumns = `SELECT a.id, a.instance_id, i.name AS instance, i.phase AS instance_phase, i.region, coalesce(a.key_id, 0) AS key_id,
	coalesce(k.name, '') AS key, a.steward, coalesce(k.blob, s.blob) AS blob, coalesce(k.comment, '') AS comment, coalesce(h.name, '') AS holder, coalesce(h.sort, '') AS holder_sort, k.shown_at, a.login_user, a.created_at, i.changed_at,
	a.probe_answer, a.probe_detail, a.probe_from, a.probe_at
	FROM access a JOIN instances i ON i.id = a.instance_id LEFT JOIN keys k ON k.id = a.key_id LEFT JOIN holders h ON h.id = k.holder_id
	LEFT JOIN steward_keys s ON a.steward AND s.instance_id = i.id`

// AccessQuery chooses accesses.
type AccessQuery struct {
	Instance, Key string // names; "" for all
	Holder        string // name of who holds the key
	Region        string
	Tag           string // NAME=VALUE, or NAME alone
	User          string // login user
	People        bool   // without the steward's
	Page
}

// AccessList returns a page of accesses with their evidence, by instance and
// age, the steward's last. Those of removed instances and of launches that
// failed are left out.
func (s *Store) AccessList(ctx context.Context, q AccessQuery) ([]Access, string, error) {
	var l list
	l.filter("i.phase NOT IN ('removed', 'failed')")
	if q.Instance != "" {
		l.filter("i.name_fold = ?", names.Fold(q.Instance))
	}
	if q.Key != "" {
		l.filter("k.name_fold = ?", names.Fold(q.Key))
	}
	for column, v := range map[string]string{"i.region": q.Region, "a.login_user": q.User} {
		if v != "" {
			l.filter(column+" = ?", v)
		}
	}
	if q.Holder != "" {
		l.filter("h.name_fold = ?", names.Fold(q.Holder))
	}
	if name, value, both := strings.Cut(q.Tag, "="); both {
		l.filter("i.tags ->> ? = ?", name, value)
	} else if q.Tag != "" {
		l.filter("i.tags -> ? IS NOT NULL", name)
	}
	if q.People {
		l.filter("NOT a.steward")
	}
	column := "i.name_fold || CASE WHEN a.steward THEN '~' ELSE ' ' || k.name_fold END"
	rows, next, err := pageOf(ctx, s, &l, accessColumns, column, "a.id", false, q.Page, func(a Access) (string, int64) {
		if a.Steward {
			return names.Fold(a.Instance) + "~", a.ID
		}
		return names.Fold(a.Instance) + " " + names.Fold(a.Key), a.ID
	})
	if err != nil {
		return nil, "", err
	}
	return rows, next, s.addEvidence(ctx, rows)
}

// AccessByID returns one access with its evidence; ErrNotFound.
func (s *Store) AccessByID(ctx context.Context, id int64) (Access, error) {
	a, err := one[Access](ctx, s, accessColumns+" WHERE a.id = ? AND i.phase NOT IN ('removed', 'failed')", id)
	if err != nil {
		return Access{}, err
	}
	rows := []Access{a}
	err = s.addEvidence(ctx, rows)
	return rows[0], err
}

func (s *Store) addEvidence(ctx context.Context, rows []Access) error {
	if len(rows) == 0 {
		return nil
	}
	place := map[int64]int{}
	var ids []int64
	for i, a := range rows {
		place[a.ID] = i
		ids = append(ids, a.ID)
	}
	var found []struct {
		AccessID int64
		Kind     string
		Positive bool
		At       time.Time
		Vantage  string
		Document string
	}
	if err := s.db.WithContext(ctx).Raw("SELECT access_id, kind, positive, at, vantage, document FROM evidence WHERE access_id IN ?", ids).Scan(&found).Error; err != nil {
		return err
	}
	for _, f := range found {
		kind, err := access.ParseKind(f.Kind)
		if err != nil {
			return err
		}
		rows[place[f.AccessID]].Evidence.Add(access.Observation{Kind: kind, Positive: f.Positive, At: f.At, Vantage: f.Vantage, Document: f.Document})
	}
	return nil
}

// Observe keeps an observation about an access, timed by the database, unless
// a later one of its sort stands there.
func (s *Store) Observe(ctx context.Context, accessID int64, kind access.Kind, positive bool, vantage string) error {
	return s.tx(ctx, func(tx *gorm.DB) error { return observe(tx, accessID, kind, positive, vantage, "") })
}

// Saw keeps what a survey found in the files of an instance: for each access
// whether its key stands there, and the hash of what was read.
func (s *Store) Saw(ctx context.Context, by Actor, i Instance, found map[int64]bool, vantage, document, outcome string) error {
	return s.tx(ctx, func(tx *gorm.DB) error {
		for id, there := range found {
			if err := observe(tx, id, access.Seen, there, vantage, document); err != nil {
				return err
			}
		}
		if outcome == "" { // part of a piece of work, which has entries of its own
			return nil
		}
		_, err := entry{by, "instance.survey", "instance " + i.Name, "read its files by the steward", outcome, 0}.write(tx)
		return err
	})
}

// AddAccess records that a key opens an instance for a login user, unless that
// is recorded already, and returns the access's ID.
func (s *Store) AddAccess(ctx context.Context, instanceID, keyID int64, loginUser string) (int64, error) {
	var id int64
	err := s.tx(ctx, func(tx *gorm.DB) error {
		if err := tx.Exec("INSERT INTO access (instance_id, key_id, login_user) VALUES (?, ?, ?) ON CONFLICT DO NOTHING", instanceID, keyID, loginUser).Error; err != nil {
			return err
		}
		return tx.Raw("SELECT id FROM access WHERE instance_id = ? AND key_id = ? AND login_user = ?", instanceID, keyID, loginUser).Scan(&id).Error
	})
	return id, err
}

// StewardPublic returns the public blob of an instance's steward key; ErrNotFound.
func (s *Store) StewardPublic(ctx context.Context, instanceID int64) ([]byte, error) {
	r, err := one[struct{ Blob []byte }](ctx, s, "SELECT blob FROM steward_keys WHERE instance_id = ?", instanceID)
	return r.Blob, err
}

// StewardSealed returns the sealed private half of an instance's steward key; ErrNotFound.
func (s *Store) StewardSealed(ctx context.Context, instanceID int64) ([]byte, error) {
	r, err := one[struct{ Sealed []byte }](ctx, s, "SELECT sealed FROM steward_keys WHERE instance_id = ?", instanceID)
	return r.Sealed, err
}

func observe(tx *gorm.DB, accessID int64, kind access.Kind, positive bool, vantage, document string) error {
	return tx.Exec(`INSERT INTO evidence (access_id, kind, positive, at, vantage, document) VALUES (?, ?, ?, clock_timestamp(), ?, ?)
		ON CONFLICT (access_id, kind, positive) DO UPDATE SET at = excluded.at, vantage = excluded.vantage, document = excluded.document
		WHERE evidence.at <= excluded.at`, accessID, kind.String(), positive, vantage, document).Error
}

// Probed keeps the answer that a server gave about an access; accepted and
// refused are evidence besides.
func (s *Store) Probed(ctx context.Context, accessID int64, answer, detail, from string) error {
	return s.tx(ctx, func(tx *gorm.DB) error {
		if err := tx.Exec("UPDATE access SET probe_answer = ?, probe_detail = ?, probe_from = ?, probe_at = clock_timestamp() WHERE id = ?",
			answer, detail, from, accessID).Error; err != nil {
			return err
		}
		switch answer {
		case "accepted":
			return observe(tx, accessID, access.Accepted, true, from, "")
		case "refused":
			return observe(tx, accessID, access.Accepted, false, from, "")
		}
		return nil
	})
}

// LoginReported records that an operator's client logged in with an access.
// The caller has checked that the service's own probe bears it out.
func (s *Store) LoginReported(ctx context.Context, by Actor, a Access) error {
	return s.tx(ctx, func(tx *gorm.DB) error {
		if err := observe(tx, a.ID, access.Proven, true, by.Address, ""); err != nil {
			return err
		}
		_, err := entry{by, "access.login", "instance " + a.Instance, "log in as " + a.LoginUser + " with " + a.Key, "logged in", 0}.write(tx)
		return err
	})
}

// JournalEntry is one row of the journal.
type JournalEntry struct {
	ID       int64
	At       time.Time
	Operator string
	Address  string
	Action   string
	Target   string
	Intent   string
	Outcome  string
	Of       int64
}

// Journal returns a page of the journal, the newest first, of one target
// ("instance berth-board-1") or of all.
func (s *Store) Journal(ctx context.Context, target string, p Page) ([]JournalEntry, string, error) {
	var l list
	if target != "" {
		l.filter("j.target = ?", target)
	}
	const columns = "SELECT j.id, j.at, j.operator, j.address, j.action, j.target, j.intent, j.outcome, coalesce(j.of, 0) AS of FROM journal j"
	value := func(e JournalEntry) (string, int64) { return fmt.Sprintf("%020d", e.ID), e.ID }
	return pageOf(ctx, s, &l, columns, "to_char(j.id, 'FM00000000000000000000')", "j.id", true, p, value)
}

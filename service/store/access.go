package store

import (
	"context"
	"encoding/json"
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
	KeyState      string // access.InUse, Lost, Exposed; "" for the steward's
	KeyRetired    bool
	Until         *time.Time // its end, if it was shared until one
	TermsReason   string     // why it was shared
	ShownAt       *time.Time // when the key's private half was last shown to exist
	LoginUser     string
	CreatedAt     time.Time
	ChangedAt     time.Time // since when earlier evidence is old
	ProbeAnswer   string
	ProbeDetail   string
	ProbeFrom     string
	ProbeAt       *time.Time

	// What is shown of it, kept whenever its evidence changes.
	Standing     string // kind of evidence, "none"
	StandingAt   *time.Time
	StandingFrom string
	StandingOld  bool
	Against      string // kind of what speaks against it since, "" for nothing
	AgainstAt    *time.Time
	AgainstFrom  string

	Evidence access.Record `gorm:"-"` // of AccessByID and AccessesWithEvidence alone
}

const (
	accessColumns = "SELECT " + accessFields + accessFrom

	accessFields = `a.id, a.instance_id, i.name AS instance, i.phase AS instance_phase, i.region,
	coalesce(a.key_id, 0) AS key_id,
	coalesce(k.name, '') AS key, a.steward, coalesce(k.blob, s.blob) AS blob, coalesce(k.comment, '') AS comment,
	coalesce(h.name, '') AS holder, coalesce(h.sort, '') AS holder_sort, coalesce(k.state, '') AS key_state,
	k.retired_at IS NOT NULL AS key_retired, k.shown_at, a.login_user, a.created_at, i.changed_at,
	a.probe_answer, a.probe_detail, a.probe_from, a.probe_at,
	a.standing, a.standing_at, a.standing_from, a.standing_old, a.against, a.against_at, a.against_from,
	t.until_at AS until, coalesce(t.reason, '') AS terms_reason`

	accessFrom = `
	FROM access a JOIN instances i ON i.id = a.instance_id LEFT JOIN keys k ON k.id = a.key_id LEFT
	JOIN holders h ON h.id = k.holder_id
	LEFT JOIN steward_keys s ON a.steward AND s.instance_id = i.id LEFT JOIN access_terms t ON t.access_id = a.id`
)

// places are where the columns of accessColumns go, in their order.
func (a *Access) places() []any {
	return []any{&a.ID, &a.InstanceID, &a.Instance, &a.InstancePhase, &a.Region, &a.KeyID,
		&a.Key, &a.Steward, &a.Blob, &a.Comment, &a.Holder, &a.HolderSort, &a.KeyState, &a.KeyRetired, &a.ShownAt,
		&a.LoginUser, &a.CreatedAt, &a.ChangedAt,
		&a.ProbeAnswer, &a.ProbeDetail, &a.ProbeFrom, &a.ProbeAt,
		&a.Standing, &a.StandingAt, &a.StandingFrom, &a.StandingOld, &a.Against, &a.AgainstAt, &a.AgainstFrom,
		&a.Until, &a.TermsReason}
}

// OfPerson tells whether the access counts as a person's: its key is not held by
// a machine or a job. Nobody knows whom a key without a holder belongs to; its
// private half has to be shown all the same.
func (a Access) OfPerson() bool {
	return !a.Steward && a.HolderSort != "machine" && a.HolderSort != "job"
}

// OutOfUse says why the key of the access is no way in any more: lost, exposed,
// retired; "" if it is in use.
func (a Access) OutOfUse() string {
	switch {
	case a.KeyState != access.InUse:
		return a.KeyState
	case a.KeyRetired:
		return "retired"
	}
	return ""
}

// AccessQuery chooses accesses.
type AccessQuery struct {
	Instance, Key string // names; "" for all
	Holder        string // name of who holds the key
	Region        string
	Tag           string // NAME=VALUE, or NAME alone
	User          string // login user
	People        bool   // without the steward's
	Evidence      string // what is shown: a kind of evidence, "none"; "old" for old evidence of any kind
	OlderThan     int    // days since the evidence, at least; what has none counts as older than all
	NewerThan     int    // days since the evidence, at most
	Page
}

// AccessList returns a page of accesses, by instance and age. Those of removed
// instances and of launches that failed are left out.
func (s *Store) AccessList(ctx context.Context, q AccessQuery) ([]Access, string, error) {
	var l list
	l.filter("i.phase NOT IN ('removed', 'failed', 'rehearsal')")
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
	filterTag(&l, q.Tag)
	if q.Holder != "" {
		l.filter("h.name_fold = ?", names.Fold(q.Holder))
	}
	if q.People {
		l.filter("NOT a.steward")
	}
	switch q.Evidence {
	case "":
	case "old":
		l.filter("a.standing_old")
	default:
		l.filter("a.standing = ? AND NOT a.standing_old", q.Evidence)
	}
	if q.OlderThan > 0 {
		l.filter("coalesce(a.standing_at, '-infinity') < now() - make_interval(days => ?)", q.OlderThan)
	}
	if q.NewerThan > 0 {
		l.filter("a.standing_at >= now() - make_interval(days => ?)", q.NewerThan)
	}
	return pageBy(ctx, s, &l, accessColumns, "i.name_fold", "a.id", false, q.Page,
		func(a Access) (string, int64) { return names.Fold(a.Instance), a.ID }, (*Access).places)
}

// filterTag chooses instances by NAME=VALUE, or by NAME alone.
func filterTag(l *list, tag string) {
	if name, value, both := strings.Cut(tag, "="); both {
		l.filter("i.tags ->> ? = ?", name, value)
	} else if tag != "" {
		l.filter("i.tags -> ? IS NOT NULL", name)
	}
}

// AccessesOf returns every access of an instance.
func (s *Store) AccessesOf(ctx context.Context, instanceID int64) ([]Access, error) {
	rows := []Access{}
	err := scanAll(s.db.WithContext(ctx).Raw(accessColumns+" WHERE a.instance_id = ? ORDER BY a.id", instanceID),
		&rows, (*Access).places)
	return rows, err
}

// AccessesOfKey returns every access of a key, by instance. Removed instances are left out.
func (s *Store) AccessesOfKey(ctx context.Context, keyID int64) ([]Access, error) {
	rows := []Access{}
	err := scanAll(s.db.WithContext(ctx).Raw(accessColumns+" WHERE a.key_id = ? AND i.phase NOT IN ('removed', 'rehearsal', "+
		"'failed') ORDER BY i.name_fold, a.id", keyID), &rows, (*Access).places)
	return rows, err
}

// AccessesOfAll is AccessesOf of many instances, by their ID.
func (s *Store) AccessesOfAll(ctx context.Context, ids []int64) (map[int64][]Access, error) {
	var rows []Access
	err := scanAll(s.db.WithContext(ctx).Raw(accessColumns+" WHERE a.instance_id IN ? ORDER BY a.id", ids),
		&rows, (*Access).places)
	out := map[int64][]Access{}
	for _, a := range rows {
		out[a.InstanceID] = append(out[a.InstanceID], a)
	}
	return out, err
}

// AccessesWithEvidence is AccessesOf with what was ever seen of each.
func (s *Store) AccessesWithEvidence(ctx context.Context, instanceID int64) ([]Access, error) {
	rows, err := s.AccessesOf(ctx, instanceID)
	if err != nil {
		return nil, err
	}
	return rows, s.addEvidence(ctx, rows)
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
	if err := s.db.WithContext(ctx).Raw("SELECT access_id, kind, positive, at, vantage, document FROM evidence "+
		"WHERE access_id IN ?", ids).Scan(&found).Error; err != nil {
		return err
	}
	for _, f := range found {
		kind, err := access.ParseKind(f.Kind)
		if err != nil {
			return err
		}
		rows[place[f.AccessID]].Evidence.Add(access.Observation{Kind: kind, Positive: f.Positive, At: f.At,
			Vantage: f.Vantage, Document: f.Document})
	}
	return nil
}

// Observe keeps an observation about an access, timed by the database, unless
// a later one of its sort stands there.
func (s *Store) Observe(ctx context.Context, accessID int64, kind access.Kind, positive bool, vantage string) error {
	return s.tx(ctx, func(tx *gorm.DB) error {
		if err := observe(tx, seen{accessID, kind, positive, vantage, ""}); err != nil {
			return err
		}
		return settle(tx, accessID)
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
		return tx.Raw("SELECT id FROM access WHERE instance_id = ? AND key_id = ? AND login_user = ?", instanceID,
			keyID, loginUser).Scan(&id).Error
	})
	return id, err
}

// StewardPublic returns the public blob of an instance's steward key; ErrNotFound.
func (s *Store) StewardPublic(ctx context.Context, instanceID int64) ([]byte, error) {
	r, err := one[struct{ Blob []byte }](ctx, s, "SELECT blob FROM steward_keys WHERE instance_id = ?", instanceID)
	return r.Blob, err
}

// OwnBlobs returns the public halves of the service's own keys on an instance: the steward's, and
// the next one's while it is being replaced.
func (s *Store) OwnBlobs(ctx context.Context, instanceID int64) ([][]byte, error) {
	var out [][]byte
	err := scanAll(s.db.WithContext(ctx).Raw("SELECT blob FROM steward_keys WHERE instance_id = ? UNION ALL SELECT blob "+
		"FROM steward_next WHERE instance_id = ?", instanceID, instanceID), &out,
		func(blob *[]byte) []any { return []any{blob} })
	return out, err
}

// StewardSealed returns the sealed private half of an instance's steward key; ErrNotFound.
func (s *Store) StewardSealed(ctx context.Context, instanceID int64) ([]byte, error) {
	r, err := one[struct{ Sealed []byte }](ctx, s, "SELECT sealed FROM steward_keys WHERE instance_id = ?", instanceID)
	return r.Sealed, err
}

// Asked is the answer that a server gave about one access.
type Asked struct {
	AccessID             int64
	Answer, Detail, From string
}

// Probed keeps the answers that a server gave about accesses; accepted and
// refused are evidence besides.
func (s *Store) Probed(ctx context.Context, all ...Asked) error {
	return s.tx(ctx, func(tx *gorm.DB) error { return probed(tx, all) })
}

func probed(tx *gorm.DB, all []Asked) error {
	if len(all) == 0 {
		return nil
	}
	rows, err := json.Marshal(all)
	if err != nil {
		return err
	}
	if err := tx.Exec(`UPDATE access a SET probe_answer = p."Answer", probe_detail = p."Detail",
		probe_from = p."From", probe_at = clock_timestamp()
		FROM jsonb_to_recordset(?::jsonb) AS p("AccessID" bigint, "Answer" text, "Detail" text, "From" text)
		WHERE a.id = p."AccessID" AND a.id = `+idsIn("AccessID"), string(rows), string(rows)).Error; err != nil {
		return err
	}
	var answers []seen
	var ids []int64
	for _, p := range all {
		if p.Answer == "accepted" || p.Answer == "refused" {
			answers = append(answers, seen{p.AccessID, access.Accepted, p.Answer == "accepted", p.From, ""})
			ids = append(ids, p.AccessID)
		}
	}
	if err := observe(tx, answers...); err != nil {
		return err
	}
	return settle(tx, ids...)
}

// LoginReported records that an operator's client logged in with an access. The
// caller has checked that the service's own probe bears it out, and, if it is
// signed, that the key has signed for this instance. What is not is a word: it is
// journaled as that.
func (s *Store) LoginReported(ctx context.Context, by Actor, a Access, signed bool) error {
	return s.tx(ctx, func(tx *gorm.DB) error {
		if !signed {
			_, err := entry{by, "access.login", "instance " + a.Instance, "log in as " + a.LoginUser + " with " +
				a.Key, "logged in, by the client's word alone: evidence of nothing", 0}.write(tx)
			return err
		}
		if err := observe(tx, seen{a.ID, access.Proven, true, by.Address, ""}); err != nil {
			return err
		}
		if err := settle(tx, a.ID); err != nil {
			return err
		}
		_, err := entry{by, "access.login", "instance " + a.Instance, "log in as " + a.LoginUser + " with " + a.Key,
			"logged in", 0}.write(tx)
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
	const columns = "SELECT j.id, j.at, j.operator, j.address, j.action, j.target, j.intent, j.outcome, " +
		"coalesce(j.of, 0) AS of FROM journal j"
	value := func(e JournalEntry) (string, int64) { return fmt.Sprintf("%020d", e.ID), e.ID }
	return pageOf(ctx, s, &l, columns, "to_char(j.id, 'FM00000000000000000000')", "j.id", true, p, value)
}

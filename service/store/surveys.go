package store

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"gorm.io/gorm"

	"plumlatch/core/access"
	"plumlatch/core/keypair"
	"plumlatch/core/names"
	"plumlatch/core/wire"
)

// ErrSurveying says that a survey of the instance is at hand already.
var ErrSurveying = errors.New("a survey of it is at hand")

// turnLife is how long whoever surveys an instance keeps others away unless the
// turn is kept, in seconds.
const turnLife = 12

// TakeTurn takes the turn to survey an instance, and returns its fence. ErrSurveying.
func (s *Store) TakeTurn(ctx context.Context, instanceID int64) (int64, error) {
	r, err := one[struct{ Fence int64 }](ctx, s, fmt.Sprintf(`UPDATE survey_turns
		SET busy_until = clock_timestamp() + interval '%d s', fence = fence + 1
		WHERE instance_id = ? AND (busy_until IS NULL OR busy_until < clock_timestamp()) RETURNING fence`, turnLife),
		instanceID)
	if errors.Is(err, ErrNotFound) {
		return 0, ErrSurveying
	}
	return r.Fence, err
}

// Turn is a claim on surveying one instance.
type Turn struct {
	InstanceID int64
	Fence      int64
}

// DueTurns takes the turns of instances that run and are due, at most limit,
// the longest due first; with wantedOnly those alone that a survey is wanted of.
func (s *Store) DueTurns(ctx context.Context, limit int, wantedOnly bool) ([]Turn, error) {
	var out []Turn
	due := "d.due_at < statement_timestamp() OR " // which an index can find, other than what clock_timestamp() is
	if wantedOnly {
		due = ""
	}
	err := s.db.WithContext(ctx).Raw(fmt.Sprintf(`UPDATE survey_turns t
		SET busy_until = clock_timestamp() + interval '%d s', fence = fence + 1
		WHERE instance_id IN (SELECT d.instance_id FROM survey_turns d JOIN instances i ON i.id = d.instance_id
			WHERE (`+due+`d.instance_id IN (SELECT w.instance_id FROM survey_wants w WHERE w.at < statement_timestamp()))
				AND i.phase = 'ready' AND i.state = 'running' AND NOT i.desktop
				AND (d.busy_until IS NULL OR d.busy_until < clock_timestamp())
			ORDER BY d.due_at FOR UPDATE OF d SKIP LOCKED LIMIT ?) RETURNING instance_id, fence`, turnLife),
		limit).Scan(&out).Error
	return out, err
}

// HoldTurn keeps others away for another while; ErrLost if it has passed to
// another, or was given back: what is asked late must not take it anew.
func (s *Store) HoldTurn(ctx context.Context, t Turn) error {
	r := s.db.WithContext(ctx).Exec(fmt.Sprintf("UPDATE survey_turns SET busy_until = clock_timestamp() + interval "+
		"'%d s' WHERE instance_id = ? AND fence = ? AND busy_until IS NOT NULL", turnLife), t.InstanceID, t.Fence)
	if r.Error == nil && r.RowsAffected == 0 {
		return ErrLost
	}
	return r.Error
}

// GiveTurn lets others survey the instance, without a result.
func (s *Store) GiveTurn(ctx context.Context, t Turn) error {
	return s.db.WithContext(ctx).Exec("UPDATE survey_turns SET busy_until = NULL WHERE instance_id = ? AND fence = ?",
		t.InstanceID, t.Fence).Error
}

// SurveyPart is what one sort of survey came to.
type SurveyPart struct {
	Sort       string // inside, outside, client; config for what the server's configuration says
	Trouble    string // why nothing could be seen; "" if something was
	Cause      string // of the trouble
	Vantage    string
	Recorded   int
	Unrecorded int
	Missing    int
	Expired    int
	Document   string // SHA-256, hex
	Report     any    // kept as JSON
}

// SeenKey is a key that a survey found in a file.
type SeenKey struct {
	LoginUser string
	access.Found
}

// Kept is one survey to be kept.
type Kept struct {
	By       Actor
	Turn     Turn
	Instance string        // name, for the journal
	Next     time.Duration // until its next turn by itself; 0 leaves that
	Parts    []SurveyPart

	// From inside: accesses whose key stands there, or not, and all that stands
	// there. Users are those whose files were read as a whole: what of theirs is
	// not among Keys is gone.
	Found map[int64]bool
	Keys  []SeenKey
	Users []string

	Asked []Asked // from outside

	Journal string // outcome for the journal; "" writes none
}

// KeepSurvey takes a survey in, as KeepSurveys does. ErrLost if the turn has passed to another.
func (s *Store) KeepSurvey(ctx context.Context, i Instance, k Kept) error {
	k.Instance = i.Name
	return s.KeepSurveys(ctx, []Kept{k})[0]
}

// KeepSurveys takes surveys in: one transaction, with a number of statements
// that grows neither with that of the keys nor with that of the surveys. The
// results are in their order; ErrLost for one whose turn has passed to another,
// which is left out.
func (s *Store) KeepSurveys(ctx context.Context, all []Kept) []error {
	var out []error
	err := s.tx(ctx, func(tx *gorm.DB) error {
		out = make([]error, len(all))
		// A survey that a crash of the database takes back is made anew; nobody waits for the disk.
		if err := tx.Exec("SET LOCAL synchronous_commit = off").Error; err != nil {
			return err
		}
		good, err := turnsOver(tx, all)
		if err != nil {
			return err
		}
		var kept []Kept
		for n, k := range all {
			if good[k.Turn.InstanceID] {
				kept = append(kept, k)
			} else {
				out[n] = ErrLost
			}
		}
		if len(kept) == 0 {
			return nil
		}
		for _, keep := range []func(*gorm.DB, []Kept) error{keepParts, keepSeen, keepSightings,
			keepAsked, keepEntries} {
			if err := keep(tx, kept); err != nil {
				return err
			}
		}
		return nil
	})
	if err != nil {
		return slices.Repeat([]error{err}, len(all))
	}
	return out
}

// recordset passes rows to a statement as one value.
func recordset[T any](rows []T) (string, error) {
	text, err := json.Marshal(append([]T{}, rows...))
	return string(text), err
}

// turnsOver gives turns back, and returns those that were still ours.
func turnsOver(tx *gorm.DB, all []Kept) (map[int64]bool, error) {
	type row struct {
		I, F int64
		S    float64
	}
	var rows []row
	for _, k := range all {
		rows = append(rows, row{k.Turn.InstanceID, k.Turn.Fence, k.Next.Seconds()})
	}
	text, err := recordset(rows)
	if err != nil {
		return nil, err
	}
	var ids []int64
	err = tx.Raw(`UPDATE survey_turns t SET busy_until = NULL, due_at = CASE
		WHEN r."S" > 0 THEN clock_timestamp() + make_interval(secs => r."S") ELSE t.due_at END
		FROM (SELECT * FROM jsonb_to_recordset(?::jsonb) AS x("I" bigint, "F" bigint, "S" float8) ORDER BY x."I") r
		WHERE t.instance_id = r."I" AND t.fence = r."F" RETURNING t.instance_id`, text).Scan(&ids).Error
	good := map[int64]bool{}
	for _, id := range ids {
		good[id] = true
	}
	if err != nil || len(ids) == 0 {
		return good, err
	}
	if text, err = recordset(ids); err != nil {
		return good, err
	}
	return good, tx.Exec("DELETE FROM survey_wants WHERE at < statement_timestamp() AND instance_id IN (SELECT "+
		"jsonb_array_elements(?::jsonb)::bigint)", text).Error
}

// inside is who saw a survey from inside, "" if nobody did.
func (k Kept) inside() (vantage, document string) {
	for _, p := range k.Parts {
		if (p.Sort == "inside" || p.Sort == "client") && p.Trouble == "" {
			vantage, document = p.Vantage, p.Document
		}
	}
	return vantage, document
}

func keepParts(tx *gorm.DB, all []Kept) error {
	type row struct {
		I                                                 int64
		Sort, Trouble, Cause, Vantage, Operator, Document string
		Recorded, Unrecorded, Missing, Expired            int
		Report                                            any
	}
	var seen, not []row
	for _, k := range all {
		for _, p := range k.Parts {
			r := row{k.Turn.InstanceID, p.Sort, p.Trouble, p.Cause, p.Vantage, k.By.Operator, p.Document, p.Recorded,
				p.Unrecorded, p.Missing, p.Expired, p.Report}
			if p.Trouble == "" {
				seen = append(seen, r)
			} else { // what was seen before stays, and grows old
				r.Report = nil
				not = append(not, r)
			}
		}
	}
	const given = `FROM jsonb_to_recordset(?::jsonb) AS r("I" bigint, "Sort" text, "Trouble" text, "Cause" text, "Vantage" text, "Operator" text, "Document" text,
		"Recorded" integer, "Unrecorded" integer, "Missing" integer, "Expired" integer, "Report" jsonb) ORDER BY r."I", r."Sort"`
	if len(not) > 0 {
		text, err := recordset(not)
		if err != nil {
			return err
		}
		if err := tx.Exec(`INSERT INTO surveys (instance_id, sort, tried_at, trouble, cause, operator) SELECT r."I",
			r."Sort", clock_timestamp(), r."Trouble", r."Cause", r."Operator" `+given+`
			ON CONFLICT (instance_id, sort) DO UPDATE
			SET tried_at = excluded.tried_at, trouble = excluded.trouble, cause = excluded.cause`,
			text).Error; err != nil {
			return err
		}
	}
	if len(seen) == 0 {
		return nil
	}
	text, err := recordset(seen)
	if err != nil {
		return err
	}
	return tx.Exec(`INSERT INTO surveys (instance_id, sort, tried_at, seen_at, vantage, operator, recorded,
		unrecorded, missing, expired, document, report)
		SELECT r."I", r."Sort", clock_timestamp(), clock_timestamp(), r."Vantage", r."Operator", r."Recorded",
		r."Unrecorded", r."Missing", r."Expired", r."Document", r."Report" `+given+`
		ON CONFLICT (instance_id, sort) DO UPDATE SET tried_at = excluded.tried_at, seen_at = excluded.seen_at,
		trouble = '', cause = '', vantage = excluded.vantage, operator = excluded.operator,
		recorded = excluded.recorded, unrecorded = excluded.unrecorded, missing = excluded.missing,
		expired = excluded.expired, document = excluded.document, report = excluded.report`, text).Error
}

// keepSeen keeps for each access whether its key stands in the files.
func keepSeen(tx *gorm.DB, all []Kept) error {
	var found []seen
	var ids []int64
	for _, k := range all {
		vantage, document := k.inside()
		for id, there := range k.Found {
			found = append(found, seen{id, access.Seen, there, vantage, document})
			ids = append(ids, id)
		}
	}
	if err := observe(tx, found...); err != nil {
		return err
	}
	return settle(tx, ids...)
}

func keepAsked(tx *gorm.DB, all []Kept) error {
	var asked []Asked
	for _, k := range all {
		asked = append(asked, k.Asked...)
	}
	return probed(tx, asked)
}

func keepEntries(tx *gorm.DB, all []Kept) error {
	for _, k := range all { // few: what somebody asked for, and what was found
		if k.Journal == "" {
			continue
		}
		if _, err := (entry{k.By, "instance.survey", "instance " + k.Instance, "find out what opens it", k.Journal,
			0}).write(tx); err != nil {
			return err
		}
	}
	return nil
}

// keepSightings notes what stands in the files now, and what does not any more.
func keepSightings(tx *gorm.DB, all []Kept) error {
	type row struct {
		I                   int64
		U, F, B, C, L, V, M string
		P                   []access.Place
		E                   *time.Time
	}
	type user struct {
		I int64
		U string
	}
	var rows []row
	var users []user
	for _, k := range all {
		vantage, _ := k.inside()
		if vantage == "" {
			continue
		}
		for _, s := range k.Keys {
			one := row{I: k.Turn.InstanceID, U: s.LoginUser, F: keypair.Fingerprint(s.Blob),
				B: fmt.Sprintf("%x", s.Blob), C: s.Comment, L: s.Limits, P: s.Places, V: vantage,
				M: derHex(keypair.Public{Blob: s.Blob})}
			if !s.Ends.IsZero() {
				one.E = &s.Ends
			}
			rows = append(rows, one)
		}
		for _, u := range k.Users {
			users = append(users, user{k.Turn.InstanceID, u})
		}
	}
	if len(rows)+len(users) == 0 {
		return nil
	}
	text, err := recordset(rows)
	if err != nil {
		return err
	}
	whole, err := recordset(users)
	if err != nil {
		return err
	}
	// A steward's own key is its access, and no sighting.
	return tx.Exec(`WITH now_there AS (
			SELECT r."I", r."U", r."F", decode(r."B", 'hex') AS blob, r."C", r."L", r."P", r."E", r."V", r."M"
			FROM jsonb_to_recordset(?::jsonb) AS r("I" bigint, "U" text, "F" text, "B" text, "C" text, "L" text,
			"P" jsonb, "E" timestamptz, "V" text, "M" text)
			WHERE NOT EXISTS (SELECT 1 FROM steward_keys s
			WHERE s.instance_id = r."I" AND s.blob = decode(r."B", 'hex'))
			AND NOT EXISTS (SELECT 1 FROM steward_next s
			WHERE s.instance_id = r."I" AND s.blob = decode(r."B", 'hex'))),
		gone AS (UPDATE sightings s SET gone_at = clock_timestamp()
		FROM jsonb_to_recordset(?::jsonb) AS u("I" bigint, "U" text)
		WHERE s.instance_id = u."I" AND s.login_user = u."U" AND s.gone_at IS NULL
			AND NOT EXISTS (SELECT 1 FROM now_there n
			WHERE n."I" = s.instance_id AND n."U" = s.login_user AND n."F" = s.fingerprint))
		INSERT INTO sightings AS s (instance_id, login_user, fingerprint, blob, comment, places, limits, ends_at,
		vantage, md5_der, first_at, last_at)
		SELECT n."I", n."U", n."F", n.blob, n."C", n."P", n."L", n."E", n."V", n."M", clock_timestamp(),
		clock_timestamp()
		FROM now_there n ORDER BY n."I", n."U", n."F"
		ON CONFLICT (instance_id, login_user, fingerprint) WHERE gone_at IS NULL DO UPDATE
		SET last_at = excluded.last_at, places = excluded.places,
			comment = excluded.comment, limits = excluded.limits, ends_at = excluded.ends_at,
			vantage = excluded.vantage`, text, whole).Error
}

// SurveyRow is the last survey of one sort of one instance.
type SurveyRow struct {
	InstanceID int64
	Instance   string
	Region     string
	Sort       string
	TriedAt    time.Time
	SeenAt     *time.Time
	Trouble    string
	Cause      string
	Vantage    string
	Operator   string
	Recorded   int
	Unrecorded int
	Missing    int
	Expired    int
	Document   string
	Report     string
}

const surveyColumns = `SELECT v.instance_id, i.name AS instance, i.region, v.sort, v.tried_at, v.seen_at, v.trouble,
	v.cause, v.vantage, v.operator, v.recorded, v.unrecorded, v.missing, v.expired, v.document, v.report
	FROM surveys v JOIN instances i ON i.id = v.instance_id`

// LastSurveys returns the last survey of each sort of an instance.
func (s *Store) LastSurveys(ctx context.Context, instanceID int64) ([]SurveyRow, error) {
	out := []SurveyRow{}
	err := s.db.WithContext(ctx).Raw(surveyColumns+" WHERE v.instance_id = ? ORDER BY v.sort",
		instanceID).Scan(&out).Error
	return out, err
}

// ToldMachine is what an engineer's client saw of a machine.
type ToldMachine struct {
	By      string // whose client, and where; "" if nobody's has looked
	Age     time.Duration
	Machine wire.MachineSeen
}

// MachineTold is what an engineer's client saw last of an instance's machine, within a span.
func (s *Store) MachineTold(ctx context.Context, instanceID int64, within time.Duration) (out ToldMachine, err error) {
	var row struct {
		Vantage, Machine string
		Age              float64
	}
	err = s.db.WithContext(ctx).Raw(`SELECT vantage, report->>'machine' AS machine, extract(epoch FROM clock_timestamp() - seen_at) AS age
		FROM surveys WHERE instance_id = ? AND sort = 'client' AND report->'machine' IS NOT NULL
		AND seen_at > clock_timestamp() - make_interval(secs => ?)`, instanceID, within.Seconds()).Scan(&row).Error
	if err != nil || row.Machine == "" {
		return out, err
	}
	out.By, out.Age = row.Vantage, time.Duration(row.Age*float64(time.Second))
	return out, json.Unmarshal([]byte(row.Machine), &out.Machine)
}

// SurveyQuery chooses the last surveys of many instances.
type SurveyQuery struct {
	Region, Tag, Sort string
	Work              int64  // those of its instances alone
	Found             string // "trouble", "unrecorded", "missing", "expired": those that found any
	Page
}

// Surveys returns a page of last surveys, by instance.
func (s *Store) Surveys(ctx context.Context, q SurveyQuery) ([]SurveyRow, string, error) {
	var l list
	l.filter("i.phase NOT IN ('removed', 'failed', 'rehearsal') AND v.sort <> 'config'")
	if q.Region != "" {
		l.filter("i.region = ?", q.Region)
	}
	filterTag(&l, q.Tag)
	if q.Sort != "" {
		l.filter("v.sort = ?", q.Sort)
	}
	if q.Work != 0 {
		l.filter("v.instance_id IN (SELECT p.instance_id FROM survey_parts p WHERE p.work_id = ?) AND v.tried_at "+
			">= (SELECT created_at FROM work WHERE id = ?)", q.Work, q.Work)
	}
	switch q.Found {
	case "trouble":
		l.filter("v.trouble <> ''")
	case "unrecorded", "missing", "expired":
		l.filter("v." + q.Found + " > 0")
	}
	return pageOf(ctx, s, &l, surveyColumns, "i.name_fold",
		"v.instance_id * 3 + CASE v.sort WHEN 'client' THEN 0 WHEN 'inside' THEN 1 ELSE 2 END", false, q.Page,
		func(r SurveyRow) (string, int64) {
			return names.Fold(r.Instance),
				r.InstanceID*3 + map[string]int64{"client": 0, "inside": 1, "outside": 2}[r.Sort]
		})
}

// Sighting is a key that stands, or stood, in a file of an instance.
type Sighting struct {
	ID          int64
	InstanceID  int64
	Instance    string
	LoginUser   string
	Fingerprint string
	Blob        []byte
	Comment     string
	Places      string // JSON
	Limits      string
	EndsAt      *time.Time
	Vantage     string
	FirstAt     time.Time
	LastAt      time.Time
	GoneAt      *time.Time
	Key         string // the recorded key that it is, "" for none
	Recorded    bool   // the ledger has the access
	Region      string
	State       string // of the recorded key; "" for none
	Retired     bool
	Holder      string
	Before      bool // it stood there once, was gone, and came back
	FirstBoots  bool // the line that first boot wrote for root, which only says whom to log in as
}

// recordedHere says that the ledger has the access that a sighting s of a key k is.
const recordedHere = `EXISTS (SELECT 1 FROM access a
	WHERE a.instance_id = s.instance_id AND a.key_id = k.id AND a.login_user = s.login_user)`

// firstBoots tells a sighting s as Door.FirstBoots does.
const firstBoots = `(s.login_user = 'root' AND s.limits = 'command' AND EXISTS (SELECT 1 FROM access a
	WHERE a.instance_id = s.instance_id AND a.key_id = k.id AND a.login_user = i.login_user))`

const sightingColumns = `SELECT s.id, s.instance_id, i.name AS instance, s.login_user, s.fingerprint, s.blob,
	s.comment, s.places, s.limits, s.ends_at, s.vantage, s.first_at, s.last_at, s.gone_at,
	coalesce(k.name, '') AS key, ` + recordedHere + ` AS recorded, i.region, coalesce(k.state, '') AS state,
	k.retired_at IS NOT NULL AS retired, coalesce(h.name, '') AS holder,
	EXISTS (SELECT 1 FROM sightings b WHERE b.instance_id = s.instance_id AND b.login_user = s.login_user
	AND b.fingerprint = s.fingerprint AND b.gone_at IS NOT NULL AND b.id <> s.id) AS before, ` + firstBoots + ` AS first_boots
	FROM sightings s JOIN instances i ON i.id = s.instance_id LEFT JOIN keys k ON k.fingerprint = s.fingerprint
	LEFT JOIN holders h ON h.id = k.holder_id`

// SightingQuery chooses what stands, or stood, in files of instances.
type SightingQuery struct {
	Instance, Region, Tag, User string
	Key, Holder                 string // of the recorded key that it is
	Fingerprint                 string // SHA256
	There                       bool   // what stands there now
	Unrecorded                  bool   // what the ledger does not have as an access, without first boot's line
	Page
}

// Sightings returns a page of what surveys saw, by instance. Removed instances are left out.
func (s *Store) Sightings(ctx context.Context, q SightingQuery) ([]Sighting, string, error) {
	var l list
	l.filter("i.phase NOT IN ('removed', 'failed', 'rehearsal')")
	for column, v := range map[string]string{"i.name_fold": names.Fold(q.Instance), "k.name_fold": names.Fold(q.Key),
		"h.name_fold": names.Fold(q.Holder), "i.region": q.Region, "s.login_user": q.User,
		"s.fingerprint": q.Fingerprint} {
		if v != "" {
			l.filter(column+" = ?", v)
		}
	}
	filterTag(&l, q.Tag)
	if q.There {
		l.filter("s.gone_at IS NULL")
	}
	if q.Unrecorded {
		l.filter("NOT " + recordedHere + " AND NOT " + firstBoots)
	}
	return pageOf(ctx, s, &l, sightingColumns, "i.name_fold", "s.id", false, q.Page,
		func(x Sighting) (string, int64) { return names.Fold(x.Instance), x.ID })
}

// NeverLooked counts the instances that run and into whose files nobody has ever looked.
func (s *Store) NeverLooked(ctx context.Context) (int, error) {
	r, err := one[struct{ N int }](ctx, s, `SELECT count(*) AS n FROM instances i WHERE i.phase = 'ready' AND NOT i.desktop
		AND NOT EXISTS (SELECT 1 FROM surveys v WHERE v.instance_id = i.id AND v.sort IN ('inside', 'client')
		AND v.seen_at IS NOT NULL)`)
	return r.N, err
}

// SightingsOf returns what stood in an instance's files, the newest first, at most 500 stretches of time.
func (s *Store) SightingsOf(ctx context.Context, instanceID int64) ([]Sighting, error) {
	out := []Sighting{}
	err := s.db.WithContext(ctx).Raw(sightingColumns+
		" WHERE s.instance_id = ? ORDER BY s.gone_at IS NOT NULL, s.first_at DESC LIMIT 500",
		instanceID).Scan(&out).Error
	return out, err
}

// UnrecordedOn returns the keys that stand in the files of instances (folded
// names) and that nobody wrote down, the newest first.
func (s *Store) UnrecordedOn(ctx context.Context, folded []string, limit int) ([]Sighting, error) {
	out := []Sighting{}
	err := s.db.WithContext(ctx).Raw("SELECT * FROM ("+sightingColumns+
		" WHERE i.name_fold IN ? AND i.phase NOT IN ('removed', 'rehearsal') AND s.gone_at IS NULL) q WHERE NOT recorded ORDER BY "+
		"first_at DESC LIMIT ?", append([]string{""}, folded...), limit).Scan(&out).Error
	return out, err
}

// SightingsOfKey returns where a key stood, the newest first, at most 500 stretches of time.
func (s *Store) SightingsOfKey(ctx context.Context, fingerprint string) ([]Sighting, error) {
	out := []Sighting{}
	err := s.db.WithContext(ctx).Raw(sightingColumns+
		" WHERE s.fingerprint = ? AND i.phase NOT IN ('removed', 'rehearsal') ORDER BY s.gone_at IS NOT NULL, s.first_at DESC LIMIT 500",
		fingerprint).Scan(&out).Error
	return out, err
}

// SurveyedAccess is what a survey must know of an access: less than AccessesOf reads.
type SurveyedAccess struct {
	ID        int64
	Key       string
	Steward   bool
	Blob      []byte
	Comment   string
	LoginUser string
}

// ToSurvey is what a survey must know of an instance.
type ToSurvey struct {
	Accesses []SurveyedAccess
	HostKeys [][]byte // blobs
	Sealed   []byte   // the steward's private half; nil for no steward
	Config   bool     // its configuration was read within the last week, and nothing moved since
}

// ForSurvey returns what surveys must know of instances, in two statements. Accesses that
// could not be asked about the last time come first: where a server has more keys than it
// may be asked about in one survey, the next survey comes to the others.
func (s *Store) ForSurvey(ctx context.Context, instanceIDs ...int64) (map[int64]*ToSurvey, error) {
	out := map[int64]*ToSurvey{}
	for _, id := range instanceIDs {
		out[id] = &ToSurvey{}
	}
	ids, err := recordset(instanceIDs)
	if err != nil {
		return nil, err
	}
	const among = "IN (SELECT jsonb_array_elements(?::jsonb)::bigint)"
	type row struct {
		instance int64
		SurveyedAccess
	}
	var rows []row
	db := s.db.WithContext(ctx)
	if err := scanAll(db.Raw(`SELECT a.instance_id, a.id, coalesce(k.name, ''), a.steward, coalesce(k.blob, t.blob),
		coalesce(k.comment, ''), a.login_user
		FROM access a LEFT JOIN keys k ON k.id = a.key_id LEFT
		JOIN steward_keys t ON a.steward AND t.instance_id = a.instance_id WHERE a.instance_id `+among+`
		ORDER BY coalesce(a.probe_answer, '') = 'could not ask' DESC, a.id`, ids), &rows, func(r *row) []any {
		return []any{&r.instance, &r.ID, &r.Key, &r.Steward, &r.Blob, &r.Comment, &r.LoginUser}
	}); err != nil {
		return nil, err
	}
	for _, r := range rows {
		out[r.instance].Accesses = append(out[r.instance].Accesses, r.SurveyedAccess)
	}
	type secret struct {
		instance int64
		host     bool
		data     []byte
		config   bool
	}
	var secrets []secret
	if err := scanAll(db.Raw(`SELECT v.instance_id, false, NULL::bytea,
		v.seen_at > greatest(i.changed_at, now() - interval '7 days') FROM surveys v
		JOIN instances i ON i.id = v.instance_id WHERE v.sort = 'config' AND v.instance_id `+among+`
		UNION ALL SELECT instance_id, true, blob, false FROM host_keys WHERE instance_id `+among+`
			AND replaced_at IS NULL
		UNION ALL SELECT instance_id, false, sealed, false FROM steward_keys WHERE instance_id `+among, ids, ids,
		ids), &secrets, func(x *secret) []any { return []any{&x.instance, &x.host, &x.data, &x.config} }); err != nil {
		return nil, err
	}
	for _, x := range secrets {
		switch to := out[x.instance]; {
		case x.host:
			to.HostKeys = append(to.HostKeys, x.data)
		case x.data != nil:
			to.Sealed = x.data
		default:
			to.Config = x.config
		}
	}
	return out, nil
}

// StewardWay is ForSurvey of what the steward's way into one instance takes: its host keys, and the
// steward's private half.
func (s *Store) StewardWay(ctx context.Context, instanceID int64) (*ToSurvey, error) {
	to := &ToSurvey{}
	type row struct {
		host bool
		data []byte
	}
	var rows []row
	err := scanAll(s.db.WithContext(ctx).Raw(`SELECT true, blob FROM host_keys WHERE instance_id = ? AND replaced_at IS NULL
		UNION ALL SELECT false, sealed FROM steward_keys WHERE instance_id = ?`, instanceID, instanceID), &rows,
		func(r *row) []any { return []any{&r.host, &r.data} })
	for _, r := range rows {
		if r.host {
			to.HostKeys = append(to.HostKeys, r.data)
		} else {
			to.Sealed = r.data
		}
	}
	return to, err
}

// TakeTurns takes the turns of those instances that nobody surveys now.
func (s *Store) TakeTurns(ctx context.Context, instanceIDs []int64) ([]Turn, error) {
	ids, err := recordset(instanceIDs)
	if err != nil {
		return nil, err
	}
	var out []Turn
	err = s.db.WithContext(ctx).Raw(fmt.Sprintf(`UPDATE survey_turns
		SET busy_until = clock_timestamp() + interval '%d s', fence = fence + 1
		WHERE instance_id IN (SELECT t.instance_id FROM survey_turns t
		WHERE t.instance_id IN (SELECT jsonb_array_elements(?::jsonb)::bigint)
		AND (t.busy_until IS NULL OR t.busy_until < clock_timestamp()) ORDER BY t.instance_id FOR UPDATE SKIP LOCKED)
		RETURNING instance_id, fence`, turnLife), ids).Scan(&out).Error
	return out, err
}

// KeysByFingerprint returns the names of recorded keys among fingerprints.
func (s *Store) KeysByFingerprint(ctx context.Context, fingerprints []string) (map[string]string, error) {
	out := map[string]string{}
	if len(fingerprints) == 0 {
		return out, nil
	}
	text, err := json.Marshal(fingerprints)
	if err != nil {
		return nil, err
	}
	var rows []struct{ Fingerprint, Name string }
	err = s.db.WithContext(ctx).Raw("SELECT fingerprint, name FROM keys WHERE fingerprint IN (SELECT "+
		"jsonb_array_elements_text(?::jsonb))", string(text)).Scan(&rows).Error
	for _, r := range rows {
		out[r.Fingerprint] = r.Name
	}
	return out, err
}

// ChooseForSurvey keeps which instances a survey of many is about: those that
// run; idle counts the others. Called again, it adds none twice.
func (s *Store) ChooseForSurvey(ctx context.Context, workID int64, instances []string, tag,
	region string) (idle int, err error) {
	var l list
	l.filter("i.phase NOT IN ('removed', 'failed', 'rehearsal')")
	if len(instances) > 0 {
		var folded []string
		for _, n := range instances {
			folded = append(folded, names.Fold(n))
		}
		l.filter("i.name_fold IN ?", folded)
	}
	filterTag(&l, tag)
	if region != "" {
		l.filter("i.region = ?", region)
	}
	where := strings.Join(l.where, " AND ")
	const runs = "(i.phase = 'ready' AND i.state = 'running' AND NOT i.desktop)"
	err = s.tx(ctx, func(tx *gorm.DB) error {
		if err := tx.Exec("INSERT INTO survey_parts (work_id, instance_id) SELECT ?, i.id FROM instances i WHERE "+
			where+" AND "+runs+" ON CONFLICT DO NOTHING", append([]any{workID}, l.args...)...).Error; err != nil {
			return err
		}
		return tx.Raw("SELECT count(*) FROM instances i WHERE "+where+" AND NOT "+runs, l.args...).Scan(&idle).Error
	})
	return idle, err
}

// leftToSurvey are the instances of a survey of many that were not tried since it began.
const leftToSurvey = `FROM survey_parts p JOIN instances i ON i.id = p.instance_id JOIN work w ON w.id = p.work_id
	LEFT JOIN surveys v ON v.instance_id = p.instance_id AND v.sort = ?
	WHERE p.work_id = ? AND i.phase = 'ready' AND i.state = 'running'
	AND (v.tried_at IS NULL OR v.tried_at < w.created_at)`

// LeftToSurvey returns instances of a survey of many that were not looked at
// since it began, at most limit, and how many there are in all and left.
func (s *Store) LeftToSurvey(ctx context.Context, workID int64, sort string, limit int) (left []Instance, chosen,
	remain int, err error) {
	n, err := one[struct{ Chosen, Remain int }](ctx, s,
		"SELECT (SELECT count(*) FROM survey_parts WHERE work_id = ?) AS chosen, (SELECT count(*) "+leftToSurvey+
			") AS remain", workID, sort, workID)
	if err != nil {
		return nil, 0, 0, err
	}
	err = s.db.WithContext(ctx).Raw("SELECT i.* "+leftToSurvey+" ORDER BY i.id LIMIT ?", sort, workID,
		limit).Scan(&left).Error
	return left, n.Chosen, n.Remain, err
}

// SurveySum is what a survey of many came to.
type SurveySum struct{ Chosen, Seen, Unrecorded, Missing, Expired int }

// SurveySum counts what a survey of many has found so far.
func (s *Store) SurveySum(ctx context.Context, workID int64, sort string) (SurveySum, error) {
	return one[SurveySum](ctx, s, `SELECT count(*) AS chosen, count(*) FILTER (WHERE v.seen_at >= w.created_at) AS seen,
		coalesce(sum(v.unrecorded) FILTER (WHERE v.seen_at >= w.created_at), 0) AS unrecorded,
		coalesce(sum(v.missing) FILTER (WHERE v.seen_at >= w.created_at), 0) AS missing,
		coalesce(sum(v.expired) FILTER (WHERE v.seen_at >= w.created_at), 0) AS expired
		FROM survey_parts p JOIN work w ON w.id = p.work_id LEFT
		JOIN surveys v ON v.instance_id = p.instance_id AND v.sort = ? WHERE p.work_id = ?`, sort, workID)
}

// Policy is a recorded policy; the zero one stands for the built-in one.
type Policy struct {
	Text string
	At   time.Time
	By   string
}

// Policy returns the policy that was set last, the zero one if none was.
func (s *Store) Policy(ctx context.Context) (Policy, error) {
	p, err := one[Policy](ctx, s, "SELECT text, at, by FROM policies ORDER BY id DESC LIMIT 1")
	if errors.Is(err, ErrNotFound) {
		return Policy{}, nil
	}
	return p, err
}

// SetPolicy records a policy, and has everything judged anew.
func (s *Store) SetPolicy(ctx context.Context, by Actor, text string) error {
	return s.tx(ctx, func(tx *gorm.DB) error {
		if err := tx.Exec("INSERT INTO policies (text, by) VALUES (?, ?)", text, by.Operator).Error; err != nil {
			return err
		}
		if err := tx.Exec("INSERT INTO to_judge (instance_id) SELECT id FROM instances WHERE phase <> 'removed'").Error; err != nil {
			return err
		}
		if err := tx.Exec("INSERT INTO to_judge (key_id) SELECT id FROM keys").Error; err != nil {
			return err
		}
		_, err := entry{by, "policy.set", "policy", "set the policy", fmt.Sprintf("%d bytes", len(text)), 0}.write(tx)
		return err
	})
}

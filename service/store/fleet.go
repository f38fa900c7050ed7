package store

import (
	"context"
	"slices"
	"strings"
	"time"

	"gorm.io/gorm"

	"plumlatch/core/access"
	"plumlatch/core/names"
	"plumlatch/core/wire"
)

// Candidate is one instance on which a key could be rotated, with what stands
// against it.
type Candidate struct {
	InstanceID int64
	Instance   string
	LoginUser  string
	State      string // of the instance
	Phase      Phase
	Old        string // key
	Steward    bool   // it has one
	Others     int    // other keys of people that it is known to take
	AtHand     int64  // work at hand there with the old key; 0 for none
}

// CandidateQuery chooses where a key is rotated.
type CandidateQuery struct {
	Keys  []string // names of the old keys; nil for any
	Tag   string   // NAME=VALUE, or NAME
	Older *DueAges // accesses that are on record for longer than this; nil for all
	Limit int
}

// DueAges is from which age on an access is due: by tag, the first that fits, or
// else the general one. 0 is never.
type DueAges struct {
	Tags []access.TagAge
	Else time.Duration
}

// sql is the age of an instance's accesses in seconds, NULL for never.
func (a DueAges) sql() (string, []any) {
	text, args := "nullif(CASE WHEN false THEN 0", []any{}
	for _, t := range a.Tags {
		if name, value, both := strings.Cut(t.Tag, "="); both {
			text, args = text+" WHEN i.tags ->> ? = ? THEN ?::float8", append(args, name, value)
		} else {
			text, args = text+" WHEN i.tags -> ? IS NOT NULL THEN ?::float8", append(args, name)
		}
		args = append(args, time.Duration(t.Age).Seconds())
	}
	return text + " ELSE ?::float8 END, 0)", append(args, a.Else.Seconds())
}

// Candidates returns the accesses of instances' login users that a rotation of
// many would be about, by instance. Others leaves out the keys asked for.
func (s *Store) Candidates(ctx context.Context, q CandidateQuery) ([]Candidate, error) {
	var l list
	l.filter("i.phase NOT IN ('removed', 'failed', 'rehearsal')")
	l.filter("NOT a.steward")
	l.filter("a.login_user = i.login_user")
	folded := []string{""}
	for _, k := range q.Keys {
		folded = append(folded, names.Fold(k))
	}
	if q.Keys != nil {
		l.filter("k.name_fold IN ?", folded)
	}
	filterTag(&l, q.Tag)
	if q.Older != nil {
		age, args := q.Older.sql()
		l.filter("a.created_at < clock_timestamp() - make_interval(secs => "+age+")", args...)
	}
	var out []Candidate
	err := s.db.WithContext(ctx).Raw(`SELECT i.id AS instance_id, i.name AS instance, i.login_user, i.state, i.phase,
		k.name AS old, EXISTS (SELECT 1 FROM steward_keys s WHERE s.instance_id = i.id) AS steward,
		coalesce((SELECT min(w.id) FROM work w WHERE w.instance_id = i.id
		AND w.kind IN ('rotate', 'access-add', 'access-remove') AND w.state IN ('queued', 'running', 'waiting')
			AND (w.old_key_id = a.key_id OR w.new_key_id = a.key_id)), 0) AS at_hand,
		(SELECT count(*) FROM access o JOIN keys ok ON ok.id = o.key_id LEFT JOIN holders oh ON oh.id = ok.holder_id
		WHERE o.instance_id = i.id AND o.key_id <> a.key_id AND ok.name_fold NOT IN ? AND o.login_user = i.login_user
			AND o.standing IN ('accepted', 'proven') AND o.against = '' AND ok.state = 'in use'
			AND coalesce(oh.sort, '') NOT IN ('machine', 'job')) AS others
		FROM access a JOIN instances i ON i.id = a.instance_id JOIN keys k ON k.id = a.key_id WHERE `+
		strings.Join(l.where, " AND ")+` ORDER BY i.name_fold, a.id LIMIT ?`,
		append(append([]any{folded}, l.args...), q.Limit)...).Scan(&out).Error
	return out, err
}

// Openable is one instance on which a key could be added, with how many keys of
// people it is known to take.
type Openable struct {
	Instance string
	State    string
	Phase    Phase
	Steward  bool
	Openers  int
	Has      bool // the key is recorded to open it already
}

// Openables returns the instances with a tag (all for ""), for a key.
func (s *Store) Openables(ctx context.Context, keyID int64, tag string, limit int) ([]Openable, error) {
	var l list
	l.filter("i.phase NOT IN ('removed', 'failed', 'rehearsal')")
	filterTag(&l, tag)
	var out []Openable
	err := s.db.WithContext(ctx).Raw(`SELECT i.name AS instance, i.state, i.phase, EXISTS (SELECT 1
		FROM steward_keys s WHERE s.instance_id = i.id) AS steward,
		EXISTS (SELECT 1 FROM access a WHERE a.instance_id = i.id AND a.key_id = ?
		AND a.login_user = i.login_user) AS has,
		(SELECT count(*) FROM access o JOIN keys ok ON ok.id = o.key_id LEFT JOIN holders oh ON oh.id = ok.holder_id LEFT JOIN access_terms ot ON ot.access_id = o.id
		WHERE o.instance_id = i.id AND o.login_user = i.login_user AND ot.until_at IS NULL AND coalesce(ot.command, '') = ''
			AND o.standing <> 'none' AND o.against = '' AND ok.state = 'in use'
			AND coalesce(oh.sort, '') NOT IN ('machine', 'job')) AS openers
		FROM instances i WHERE `+strings.Join(l.where, " AND ")+` ORDER BY i.name_fold LIMIT ?`,
		append(append([]any{keyID}, l.args...), limit)...).Scan(&out).Error
	return out, err
}

// Member is one instance of a rotation of many.
type Member struct {
	N          int
	InstanceID int64
	Instance   string
	OldKey     string // names, for words; what the keys are, their IDs say
	NewKey     string
	OldKeyID   int64
	NewKeyID   int64
	Wave       int
	ChildID    int64
	CutOff     bool   // nobody gets into it afterwards, as was counted out
	Contained  string // whether the exposed key was contained, in words
	Trouble    string // why its part was not begun, or how it ended
	State      string // to do, going, shown (to work), back later, failed
	ChangesSum string // SHA-256 of what is done, where that is more than one key in the place of another
}

// ChooseMembers keeps which instances a rotation of many is about, once.
func (s *Store) ChooseMembers(ctx context.Context, workID int64, all []Member) error {
	return s.tx(ctx, func(tx *gorm.DB) error {
		var there int64
		if err := tx.Raw("SELECT count(*) FROM fleet_members WHERE work_id = ?",
			workID).Scan(&there).Error; err != nil || there > 0 {
			return err
		}
		text, err := recordset(all)
		if err != nil {
			return err
		}
		return tx.Exec(`INSERT INTO fleet_members (work_id, n, instance_id, old_key, new_key, old_key_id, new_key_id,
			wave, cut_off)
			SELECT ?, m."N", m."InstanceID", m."OldKey", m."NewKey", nullif(m."OldKeyID", 0), nullif(m."NewKeyID", 0),
			m."Wave", m."CutOff" FROM jsonb_to_recordset(?::jsonb)
			AS m("N" integer, "InstanceID" bigint, "OldKey" text, "NewKey" text, "OldKeyID" bigint, "NewKeyID" bigint,
			"Wave" integer, "CutOff" boolean)`, workID, text).Error
	})
}

// memberState tells how far a member is. Its part is settled once the new key is shown
// to work and the old one has its end (of a rotation), once the key is accepted (of one
// that is added), or refused (of one that is withdrawn). One that waits for its instance
// to be back, or for somebody to show a private half, holds the wave up no longer.
const memberState = `CASE WHEN m.trouble <> '' THEN 'failed' WHEN w.id IS NULL THEN 'to do' WHEN w.state = 'done' THEN 'shown' WHEN w.state IN ('failed', 'cancelled', 'stuck') THEN 'failed'
	WHEN w.back THEN 'failed' WHEN w.settled_at IS NOT NULL THEN 'shown'
	WHEN w.state = 'waiting' AND w.waits_code IN ('` + wire.WaitsBack + `', '` + wire.WaitsProof +
	`') THEN 'back later' ELSE 'going' END`

// Members returns the instances of a rotation of many, in the order of their waves.
func (s *Store) Members(ctx context.Context, workID int64) ([]Member, error) {
	var out []Member
	return out, s.db.WithContext(ctx).Raw(`SELECT m.n, m.instance_id, i.name AS instance, m.old_key, m.new_key,
		coalesce(m.old_key_id, 0) AS old_key_id, coalesce(m.new_key_id, 0) AS new_key_id, m.wave, m.cut_off,
		coalesce(encode(sha256(convert_to(m.changes::text, 'UTF8')), 'hex'), '') AS changes_sum,
		coalesce(m.child_id, 0) AS child_id, coalesce(w.contained, '') AS contained,
		coalesce(nullif(m.trouble, ''), nullif(w.outcome, ''), nullif(w.trouble, ''), w.waits_for, '') AS trouble, `+
		memberState+` AS state
		FROM fleet_members m JOIN instances i ON i.id = m.instance_id LEFT JOIN work w ON w.id = m.child_id
		WHERE m.work_id = ? ORDER BY m.n`, workID).Scan(&out).Error
}

// WaveCount counts the members of one wave by how far they are.
type WaveCount struct {
	Wave                                   int
	All, ToDo, Going, Shown, Later, Failed int
	Open                                   int // parts that are not over
}

// Waves counts the members of each wave.
func (s *Store) Waves(ctx context.Context, workID int64) ([]WaveCount, error) {
	var out []WaveCount
	return out, s.db.WithContext(ctx).Raw(`SELECT wave, count(*) AS all,
		count(*) FILTER (WHERE state = 'to do') AS to_do, count(*) FILTER (WHERE state = 'going') AS going,
		count(*) FILTER (WHERE state = 'shown') AS shown,
		count(*) FILTER (WHERE state = 'back later') AS later, count(*) FILTER (WHERE state = 'failed') AS failed,
		count(*) FILTER (WHERE open) AS open
		FROM (SELECT m.wave, `+memberState+` AS state, w.state IN ('queued', 'running', 'waiting') AS open
			FROM fleet_members m LEFT JOIN work w ON w.id = m.child_id WHERE m.work_id = ?) x GROUP BY wave
			ORDER BY wave`, workID).Scan(&out).Error
}

// Part is the part of one member of a piece of work on many instances, that is to begin.
type Part struct {
	Member Member
	Work   NewWork
}

// BeginMembers begins the parts of members, in one statement with the note of them, and returns those
// whose instance another piece of changing work holds: they are as they were. ErrLost.
func (s *Store) BeginMembers(ctx context.Context, workID int64, by Actor, parts []Part) (busy []Member, err error) {
	at, err := s.Now(ctx)
	if err != nil {
		return nil, err
	}
	at = at.Truncate(time.Microsecond) // as the database keeps it
	type row struct {
		N                                          int
		I, Old, New                                int64
		Token, Kind, Title, Action, Target, Intent string
		Bytes                                      []byte
		Input                                      any
		Changing                                   bool
		Steps                                      []WorkStep
	}
	var rows []row
	for _, p := range parts {
		n := p.Work
		exact, err := entry{by, n.Action, n.Target, n.Intent, "", 0}.exact(at)
		if err != nil {
			return nil, err
		}
		rows = append(rows, row{N: p.Member.N, I: p.Member.InstanceID, Old: n.OldKeyID, New: n.NewKeyID, Token: n.Token,
			Kind: n.Kind, Title: n.Title, Action: n.Action, Target: n.Target, Intent: n.Intent, Bytes: exact, Input: n.Input,
			Changing: n.Changing, Steps: n.Steps})
	}
	text, err := recordset(rows)
	if err != nil {
		return nil, err
	}
	held, args := fence(ctx)
	args["rows"], args["of"], args["at"] = text, workID, at
	args["operator"], args["address"] = by.Operator, by.Address
	var begun []int
	var holds bool
	found := []struct{}{}
	err = scanAll(s.db.WithContext(ctx).Raw(`WITH f AS (`+held+`),
		p AS MATERIALIZED (SELECT r.*, nextval(pg_get_serial_sequence('work', 'id')) AS id,
			nextval(pg_get_serial_sequence('journal', 'id')) AS intent_id
			FROM jsonb_to_recordset(CAST(@rows AS jsonb)) AS r("N" integer, "I" bigint, "Old" bigint, "New" bigint,
			"Token" text, "Kind" text, "Title" text, "Action" text, "Target" text, "Intent" text, "Bytes" text, "Input" jsonb,
			"Changing" boolean, "Steps" jsonb), f ORDER BY r."N"),
		w AS (INSERT INTO work (id, token, kind, title, parent_id, instance_id, operator, address, input, state, changing,
			holding, intent_id, at, old_key_id, new_key_id) OVERRIDING SYSTEM VALUE
			SELECT p.id, p."Token", p."Kind", p."Title", CAST(@of AS bigint), p."I", CAST(@operator AS text),
			CAST(@address AS text), coalesce(nullif(p."Input", 'null'), '{}'), 'queued', p."Changing", p."Changing",
			p.intent_id, coalesce(p."Steps"->0->>'Name', ''), nullif(p."Old", 0), nullif(p."New", 0) FROM p
			ON CONFLICT (instance_id) WHERE holding DO NOTHING RETURNING id),
		j AS (INSERT INTO journal (id, at, operator, address, action, target, intent, outcome, bytes) OVERRIDING SYSTEM VALUE
			SELECT p.intent_id, CAST(@at AS timestamptz), CAST(@operator AS text), CAST(@address AS text), p."Action",
			p."Target", p."Intent", '', decode(p."Bytes", 'base64') FROM p JOIN w ON w.id = p.id),
		s AS (INSERT INTO work_steps (work_id, n, name, title) SELECT p.id, s.n - 1, s.step->>'Name', s.step->>'Title'
			FROM p JOIN w ON w.id = p.id, jsonb_array_elements(p."Steps") WITH ORDINALITY AS s(step, n)),
		m AS (UPDATE fleet_members m SET child_id = p.id FROM p JOIN w ON w.id = p.id WHERE m.work_id = @of AND m.n = p."N")
		SELECT EXISTS (SELECT 1 FROM f), coalesce((SELECT jsonb_agg(p."N") FROM p JOIN w ON w.id = p.id), '[]')::text, `+
		commits, args), &found, func(*struct{}) []any { return []any{&holds, jsonInto{&begun}, new(string)} })
	switch {
	case err != nil:
		return nil, err
	case !holds:
		return nil, ErrLost
	}
	for _, p := range parts {
		if !slices.Contains(begun, p.Member.N) {
			busy = append(busy, p.Member)
		}
	}
	return busy, nil
}

// MemberTrouble keeps why the part of a member was not begun.
func (s *Store) MemberTrouble(ctx context.Context, workID int64, n int, trouble string) error {
	return s.tx(ctx, func(tx *gorm.DB) error {
		return tx.Exec("UPDATE fleet_members SET trouble = ? WHERE work_id = ? AND n = ?", trouble, workID, n).Error
	})
}

package store

import (
	"context"
	"encoding/json"
	"time"

	"gorm.io/gorm"

	"plumlatch/core/access"
)

// seen is one observation to be kept.
type seen struct {
	accessID int64
	kind     access.Kind
	positive bool
	vantage  string
	document string
}

// observe keeps observations in one statement, timed by the database.
func observe(tx *gorm.DB, all ...seen) error {
	if len(all) == 0 {
		return nil
	}
	type row struct {
		A    int64
		K    string
		P    bool
		V, D string
	}
	var rows []row
	for _, o := range all {
		rows = append(rows, row{o.accessID, o.kind.String(), o.positive, o.vantage, o.document})
	}
	text, err := recordset(rows)
	if err != nil {
		return err
	}
	return tx.Exec(`INSERT INTO evidence (access_id, kind, positive, at, vantage, document)
		SELECT o."A", o."K", o."P", clock_timestamp(), o."V", o."D"
		FROM jsonb_to_recordset(?::jsonb) AS o("A" bigint, "K" text, "P" boolean, "V" text, "D" text)
		JOIN access a ON a.id = o."A" AND a.id = `+idsIn("A")+` ORDER BY o."A"
		ON CONFLICT (access_id, kind, positive) DO UPDATE
		SET at = excluded.at, vantage = excluded.vantage, document = excluded.document
		WHERE evidence.at <= excluded.at`, text, text).Error
}

// idsIn is any of the numbers that the rows of a JSON array, a parameter, have
// under a name. The planner takes an array for a few, and goes to them by an
// index; of a set of records it knows nothing, and reads a small table through.
func idsIn(name string) string {
	return `ANY(ARRAY(SELECT (x->>'` + name + `')::bigint FROM jsonb_array_elements(?::jsonb) x))`
}

// settle weighs the evidence of accesses anew and keeps what is to be shown, in
// three statements however many they are.
func settle(tx *gorm.DB, accessIDs ...int64) error {
	if len(accessIDs) == 0 {
		return nil
	}
	ids, err := recordset(accessIDs)
	if err != nil {
		return err
	}
	// One text whatever their number, so that the database plans it once.
	return settleWhere(tx, "a.id = ANY(ARRAY(SELECT jsonb_array_elements(?::jsonb)::bigint))", ids)
}

// settleInstance is settle of all accesses of an instance: after something
// that makes what was known of its doors old.
func settleInstance(tx *gorm.DB, instanceID int64) error {
	return settleWhere(tx, "a.instance_id = ?", instanceID)
}

func settleWhere(tx *gorm.DB, where string, arg any) error {
	// First, and by itself: whoever comes second reads what the first has written.
	if err := tx.Exec("SELECT 1 FROM access a WHERE "+where+" ORDER BY a.id FOR NO KEY UPDATE", arg).Error; err != nil {
		return err
	}
	type observed struct {
		ID        int64
		ChangedAt time.Time
		Kind      string
		Positive  bool
		At        time.Time
		Vantage   string
	}
	var found []observed
	if err := scanAll(tx.Raw(`SELECT a.id, i.changed_at, coalesce(e.kind, '') AS kind,
		coalesce(e.positive, false) AS positive, coalesce(e.at, now()) AS at, coalesce(e.vantage, '') AS vantage
		FROM access a JOIN instances i ON i.id = a.instance_id LEFT JOIN evidence e ON e.access_id = a.id WHERE `+
		where, arg), &found, func(o *observed) []any {
		return []any{&o.ID, &o.ChangedAt, &o.Kind, &o.Positive, &o.At, &o.Vantage}
	}); err != nil {
		return err
	}
	records, changed := map[int64]*access.Record{}, map[int64]time.Time{}
	for _, f := range found {
		r := records[f.ID]
		if r == nil {
			r = &access.Record{}
			records[f.ID], changed[f.ID] = r, f.ChangedAt
		}
		if f.Kind == "" {
			continue
		}
		kind, err := access.ParseKind(f.Kind)
		if err != nil {
			return err
		}
		r.Add(access.Observation{Kind: kind, Positive: f.Positive, At: f.At, Vantage: f.Vantage})
	}
	type row struct {
		ID   int64
		K    string
		At   *time.Time
		F    string
		O    bool
		G    string
		Gat  *time.Time
		From string
	}
	rows := []row{}
	for id, r := range records {
		s := r.Standing(changed[id])
		one := row{ID: id, K: s.Shown.Kind.String(), F: s.Shown.Vantage, O: s.Old, From: s.Against.Vantage}
		if s.Shown.Kind != access.None {
			one.At = &s.Shown.At
		}
		if s.Against.Kind != access.None {
			one.G, one.Gat = s.Against.Kind.String(), &s.Against.At
		}
		rows = append(rows, one)
	}
	text, err := json.Marshal(rows)
	if err != nil {
		return err
	}
	return tx.Exec(`UPDATE access a SET standing = s."K", standing_at = s."At", standing_from = s."F",
		standing_old = s."O", against = s."G", against_at = s."Gat", against_from = s."From"
		FROM jsonb_to_recordset(?::jsonb) AS s("ID" bigint, "K" text, "At" timestamptz, "F" text, "O" boolean,
		"G" text, "Gat" timestamptz, "From" text)
		WHERE a.id = s."ID" AND a.id = `+idsIn("ID"), string(text), string(text)).Error
}

// settleAll settles what a migration left to be settled.
func (s *Store) settleAll(ctx context.Context) error {
	for {
		var ids []int64
		if err := s.db.WithContext(ctx).Raw("SELECT DISTINCT instance_id FROM access WHERE standing = '?' LIMIT 1000").Scan(&ids).Error; err != nil || len(ids) == 0 {
			return err
		}
		if err := s.tx(ctx, func(tx *gorm.DB) error { return settleWhere(tx, "a.instance_id IN ?", ids) }); err != nil {
			return err
		}
	}
}

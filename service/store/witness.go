package store

import (
	"cmp"
	"context"
	"fmt"
	"maps"
	"slices"
	"time"

	"plumlatch/core/access"
)

// Witness is what a step did or saw at an instance's doors.
type Witness struct {
	Wrote  bool    // a file of keys was written: what was known of the doors before is old
	Placed *Placed // a key's line was put into a file, which is a write too
	Asked  []Asked // what the server answered
}

// Placed is a key whose line was put into an instance's file.
type Placed struct {
	KeyID              int64
	LoginUser, Vantage string
	ByUs               bool // kept as evidence
}

// Witnessed is what came of it.
type Witnessed struct {
	AccessID int64 // of Placed
	// Version is that of the instance's row from now on, as Instance.Version; "" where that has
	// to be read.
	Version   string
	ChangedAt time.Time
}

// Witness keeps what a step did or saw, and weighs the evidence anew. d is what was read
// before: as long as nobody has changed any of that since, it is one statement, which looks at
// that under the rows' locks. Otherwise all is read again, as by Wrote, Place and Probed. ErrLost.
func (s *Store) Witness(ctx context.Context, d Snapshot, w Witness) (Witnessed, error) {
	out, done, err := s.witnessAtOnce(ctx, d, w)
	if done || err != nil {
		return out, err
	}
	switch {
	case w.Placed != nil:
		p := w.Placed
		out.AccessID, err = s.Place(ctx, d.Instance, p.KeyID, p.LoginUser, p.Vantage, p.ByUs)
	case w.Wrote:
		err = s.Wrote(ctx, d.Instance)
	}
	if err == nil && len(w.Asked) > 0 {
		err = s.Probed(ctx, w.Asked...)
	}
	return out, err
}

// weighed is a row of access as it is to stand. A time that is nil is that of the statement,
// if its Now is set.
type weighed struct {
	ID     int64
	K      string
	At     *time.Time
	AtNow  bool
	F      string
	O      bool
	G      string
	Gat    *time.Time
	GatNow bool
	From   string
	// Asked: the server answered about it.
	Asked                 bool
	Answer, Detail, Probe string
}

// later stands for the time of the statement, while evidence is weighed: after all there is.
var later = time.Unix(1<<40, 0)

func weigh(id int64, r access.Record, changed time.Time) weighed {
	s := r.Standing(changed)
	w := weighed{ID: id, K: s.Shown.Kind.String(), F: s.Shown.Vantage, O: s.Old, From: s.Against.Vantage}
	place := func(o access.Observation, at **time.Time, now *bool) {
		if *now = o.Kind != access.None && o.At.Equal(later); !*now && o.Kind != access.None {
			*at = &o.At
		}
	}
	place(s.Shown, &w.At, &w.AtNow)
	place(s.Against, &w.Gat, &w.GatNow)
	if s.Against.Kind != access.None {
		w.G = s.Against.Kind.String()
	}
	return w
}

// witnessAtOnce is Witness by what was read before; done is false, and nothing was written, where
// that is not what stands there.
func (s *Store) witnessAtOnce(ctx context.Context, d Snapshot, w Witness) (out Witnessed, done bool, err error) {
	if d.versions == nil {
		return out, false, nil
	}
	wrote, changed := w.Wrote || w.Placed != nil, d.ChangedAt
	if wrote {
		changed = later
	}
	type observed struct {
		A    int64
		P    bool
		K, V string
	}
	rows, news := map[int64]weighed{}, []observed{}
	records := map[int64]access.Record{}
	for _, a := range d.Accesses {
		records[a.ID] = a.Evidence
		if wrote {
			rows[a.ID] = weigh(a.ID, a.Evidence, changed)
		}
	}
	see := func(id int64, kind access.Kind, positive bool, vantage string) {
		r := records[id]
		r.Add(access.Observation{Kind: kind, Positive: positive, At: later, Vantage: vantage})
		records[id], rows[id] = r, weigh(id, r, changed)
		if id != 0 {
			news = append(news, observed{id, positive, kind.String(), vantage})
		}
	}
	p := cmp.Or(w.Placed, &Placed{})
	if w.Placed != nil {
		// 0 for an access that is not on record yet.
		n := slices.IndexFunc(d.Accesses, func(a Access) bool { return a.KeyID == p.KeyID && a.LoginUser == p.LoginUser })
		if n >= 0 {
			out.AccessID = d.Accesses[n].ID
		} else {
			rows[0] = weigh(0, access.Record{}, changed)
		}
		if p.ByUs {
			see(out.AccessID, access.Placed, true, p.Vantage)
		}
	}
	for _, q := range w.Asked {
		if _, known := records[q.AccessID]; !known {
			return out, false, nil
		}
		if q.Answer == "accepted" || q.Answer == "refused" {
			see(q.AccessID, access.Accepted, q.Answer == "accepted", q.From)
		}
		row, is := rows[q.AccessID]
		if !is {
			row = weigh(q.AccessID, records[q.AccessID], changed)
		}
		row.Asked, row.Answer, row.Detail, row.Probe = true, q.Answer, q.Detail, q.From
		rows[q.AccessID] = row
	}
	all, err := recordset(slices.SortedFunc(maps.Values(rows), func(a, b weighed) int { return cmp.Compare(a.ID, b.ID) }))
	if err != nil {
		return out, false, err
	}
	seen, err := recordset(news)
	if err != nil {
		return out, false, err
	}
	versions := map[string]string{}
	for id, v := range d.versions {
		versions[fmt.Sprint(id)] = v
	}
	expected, err := recordset([]map[string]string{versions})
	if err != nil {
		return out, false, err
	}
	held, args := fence(ctx)
	args["instance"], args["changed"], args["version"], args["versions"] = d.Instance, d.ChangedAt, d.Version, expected
	args["rows"], args["seen"], args["wrote"] = all, seen, wrote
	args["key"], args["user"], args["vantage"] = p.KeyID, p.LoginUser, p.Vantage
	// Only what there is to do: each part has its triggers run, even where it changes nothing.
	parts, idOf, version := "", "0", "@version"
	if wrote {
		parts += `,
		x AS (UPDATE instances i SET changed_at = t.at FROM t, same WHERE i.id = @instance RETURNING i.xmin::text AS version)`
		version = "coalesce((SELECT version FROM x), '')"
	}
	if w.Placed != nil && out.AccessID == 0 {
		parts += `,
		n AS (INSERT INTO access (instance_id, key_id, login_user, standing, standing_at, standing_from, standing_old)
			SELECT CAST(@instance AS bigint), CAST(@key AS bigint), CAST(@user AS text), r."K",
			CASE WHEN r."AtNow" THEN t.at END, r."F", r."O" FROM r, t, same
			WHERE r."ID" = 0 ON CONFLICT DO NOTHING RETURNING id)`
		idOf = "coalesce((SELECT id FROM n), 0)"
		if p.ByUs {
			parts += `,
		e_n AS (INSERT INTO evidence (access_id, kind, positive, at, vantage, document)
			SELECT n.id, 'placed', true, t.at, CAST(@vantage AS text), '' FROM n, t)`
		}
	}
	if len(news) > 0 {
		parts += `,
		e AS (INSERT INTO evidence (access_id, kind, positive, at, vantage, document)
			SELECT o."A", o."K", o."P", t.at, o."V", '' FROM
				jsonb_to_recordset(CAST(@seen AS jsonb)) AS o("A" bigint, "K" text, "P" boolean, "V" text), t, same
			ON CONFLICT (access_id, kind, positive) DO UPDATE
			SET at = excluded.at, vantage = excluded.vantage, document = excluded.document WHERE evidence.at <= excluded.at)`
	}
	parts += `,
		u AS (UPDATE access a SET standing = r."K", standing_at = CASE WHEN r."AtNow" THEN t.at ELSE r."At" END,
			standing_from = r."F", standing_old = r."O", against = r."G",
			against_at = CASE WHEN r."GatNow" THEN t.at ELSE r."Gat" END, against_from = r."From",
			probe_answer = CASE WHEN r."Asked" THEN r."Answer" ELSE a.probe_answer END,
			probe_detail = CASE WHEN r."Asked" THEN r."Detail" ELSE a.probe_detail END,
			probe_from = CASE WHEN r."Asked" THEN r."Probe" ELSE a.probe_from END,
			probe_at = CASE WHEN r."Asked" THEN t.at ELSE a.probe_at END
			FROM r, t, same WHERE a.id = r."ID" AND a.instance_id = @instance)`
	var id int64
	var holds bool
	// The rows are locked in the order in which Wrote and Probed lock them: the work's, the instance's,
	// the accesses'. What is read of a locked row is what the last one who changed it wrote.
	err = s.db.WithContext(ctx).Raw(`WITH t AS MATERIALIZED (SELECT clock_timestamp() AS at),
		f AS (`+held+`),
		i AS MATERIALIZED (SELECT id FROM instances WHERE id = @instance AND changed_at = @changed
			AND (NOT @wrote OR xmin::text = @version) AND EXISTS (SELECT 1 FROM f) FOR NO KEY UPDATE),
		l AS MATERIALIZED (SELECT a.id, a.xmin::text AS v FROM access a WHERE a.instance_id = @instance
			AND EXISTS (SELECT 1 FROM i) ORDER BY a.id FOR NO KEY UPDATE),
		same AS MATERIALIZED (SELECT 1 FROM i WHERE
			(SELECT coalesce(jsonb_object_agg(l.id, l.v), '{}') FROM l) = (SELECT CAST(@versions AS jsonb)->0)),
		r AS MATERIALIZED (SELECT * FROM jsonb_to_recordset(CAST(@rows AS jsonb)) AS r("ID" bigint, "K" text, "At" timestamptz,
			"AtNow" boolean, "F" text, "O" boolean, "G" text, "Gat" timestamptz, "GatNow" boolean, "From" text, "Asked" boolean,
			"Answer" text, "Detail" text, "Probe" text))`+
		parts+`
		SELECT EXISTS (SELECT 1 FROM f), EXISTS (SELECT 1 FROM same), `+idOf+`, `+version+`, (SELECT at FROM t), `+commits, args).Row().
		Scan(&holds, &done, &id, &out.Version, &out.ChangedAt, new(string))
	switch {
	case err != nil:
		return out, false, err
	case !holds:
		return out, false, ErrLost
	case !done:
		return Witnessed{}, false, nil
	case !wrote:
		out.ChangedAt = d.ChangedAt
	}
	if w.Placed != nil && out.AccessID == 0 {
		if out.AccessID = id; id == 0 { // somebody recorded it in this moment
			return Witnessed{}, false, nil
		}
	}
	return out, done, nil
}

package store

import (
	"context"
	"encoding/base64"
	"encoding/json"
	"slices"
	"strings"
	"time"

	"plumlatch/core/access"
)

// Snapshot is what is recorded of an instance's doors, all of one moment: a step reads it once,
// and weighs by it what it sees.
type Snapshot struct {
	Instance  int64
	Version   string    // of the instance's row, as Instance.Version
	ChangedAt time.Time // when its doors changed the last time, as far as is known
	Now       time.Time // when this was read, by the database's clock
	RescueFor int64     // the work that has it as its rescue instance; 0 for none
	HostKeys  [][]byte  // blobs, by their type
	Own       [][]byte  // public halves of the service's own keys, as OwnBlobs
	Accesses  []Access  // each with its evidence

	versions map[int64]string // of the rows of access
}

// snapshotOf reads what is of the instance alone. OFFSET 0 keeps it by itself: it is read once,
// and not for each access.
const snapshotOf = `(SELECT i.id, i.changed_at, i.xmin::text AS version, coalesce(i.rescue_for, 0) AS rescue_for,
	coalesce((SELECT string_agg(encode(k.blob, 'base64'), ' ') FROM (
		SELECT blob FROM steward_keys WHERE instance_id = i.id
		UNION ALL SELECT blob FROM steward_next WHERE instance_id = i.id) k), '') AS own,
	coalesce((SELECT string_agg(encode(h.blob, 'base64'), ' ' ORDER BY h.type) FROM host_keys h
		WHERE h.instance_id = i.id AND h.replaced_at IS NULL), '') AS host_keys
	FROM instances i WHERE i.id = ? OFFSET 0) o`

// Snapshot reads an instance's snapshot, in one statement. ErrNotFound.
func (s *Store) Snapshot(ctx context.Context, instanceID int64) (Snapshot, error) {
	d := Snapshot{Instance: instanceID, Accesses: []Access{}, versions: map[int64]string{}}
	type row struct {
		version, evidence string
		Access
	}
	var rows []row
	var own, hostKeys string
	alone := []any{&d.ChangedAt, &d.Now, &d.Version, &d.RescueFor, &own, &hostKeys}
	const fields = "o.changed_at, clock_timestamp() AS now, o.version, o.rescue_for, o.own, o.host_keys"
	err := scanAll(s.db.WithContext(ctx).Raw("SELECT "+fields+`, a.xmin::text,
		coalesce((SELECT jsonb_agg(jsonb_build_array(e.kind, e.positive, e.at, e.vantage))::text FROM evidence e
			WHERE e.access_id = a.id), '[]'), `+accessFields+accessFrom+" JOIN "+snapshotOf+
		" ON o.id = a.instance_id ORDER BY a.id", instanceID), &rows, func(r *row) []any {
		return slices.Concat(alone, []any{&r.version, &r.evidence}, r.places())
	})
	if err == nil && len(rows) == 0 {
		var there []struct{}
		err = scanAll(s.db.WithContext(ctx).Raw("SELECT "+fields+" FROM "+snapshotOf, instanceID), &there,
			func(*struct{}) []any { return alone })
		if err == nil && len(there) == 0 {
			err = ErrNotFound
		}
	}
	if err != nil {
		return d, err
	}
	if d.Own, err = blobs(own); err != nil {
		return d, err
	}
	if d.HostKeys, err = blobs(hostKeys); err != nil {
		return d, err
	}
	for _, r := range rows {
		if r.Evidence, err = recordOf(r.evidence); err != nil {
			return d, err
		}
		d.versions[r.ID] = r.version
		d.Accesses = append(d.Accesses, r.Access)
	}
	return d, nil
}

// blobs reads a list in base64, with spaces between. PostgreSQL breaks its base64 into lines.
func blobs(text string) ([][]byte, error) {
	var out [][]byte
	for _, f := range strings.Split(text, " ") {
		if f == "" {
			continue
		}
		blob, err := base64.StdEncoding.DecodeString(f)
		if err != nil {
			return nil, err
		}
		out = append(out, blob)
	}
	return out, nil
}

// recordOf reads the evidence of one access, as Snapshot has it.
func recordOf(text string) (access.Record, error) {
	var r access.Record
	var all [][]json.RawMessage
	if err := json.Unmarshal([]byte(text), &all); err != nil {
		return r, err
	}
	for _, e := range all {
		var kind string
		var o access.Observation
		for n, into := range []any{&kind, &o.Positive, &o.At, &o.Vantage} {
			if err := json.Unmarshal(e[n], into); err != nil {
				return r, err
			}
		}
		var err error
		if o.Kind, err = access.ParseKind(kind); err != nil {
			return r, err
		}
		r.Add(o)
	}
	return r, nil
}

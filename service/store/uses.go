package store

import (
	"context"
	"time"

	"gorm.io/gorm"
)

// Use is what one key, or a login without one, did on an instance as one user from one address on one day, by the instance's own log.
type Use struct {
	LoginUser   string    `json:"u"`
	Method      string    `json:"m"`
	Fingerprint string    `json:"f"`
	Authority   string    `json:"a"`
	CertID      string    `json:"c"`
	Trusted     bool      `json:"t"`
	Address     string    `json:"x"`
	Day         string    `json:"d"`
	First       time.Time `json:"b"`
	Last        time.Time `json:"l"`
	Count       int       `json:"n"`
}

// LoginLog is how far an instance's log was read.
type LoginLog struct {
	Source  string
	Since   *time.Time
	ReadAt  time.Time
	Vantage string
	Skew    float64 // seconds that the instance's clock was ahead
	LeftOut int
}

// useDays is for how many days uses are kept, besides the first and the last one of each.
const useDays = 400

// KeepUses takes in what was read of an instance's log. A day that is read again counts what it counted, or more: so a log may be
// read again and again, also one that has lost its oldest entries.
func (s *Store) KeepUses(ctx context.Context, by Actor, i Instance, log LoginLog, uses []Use) error {
	text, err := recordset(uses)
	if err != nil {
		return err
	}
	return s.tx(ctx, func(tx *gorm.DB) error {
		// One at a time for an instance: the sums are made of all of its rows.
		if err := tx.Exec("SELECT FROM instances WHERE id = ? FOR NO KEY UPDATE", i.ID).Error; err != nil {
			return err
		}
		if err := tx.Exec(`INSERT INTO login_logs (instance_id, source, since, read_at, vantage, skew, left_out)
			VALUES (?, ?, ?, clock_timestamp(), ?, ?, ?) ON CONFLICT (instance_id) DO UPDATE SET source = excluded.source,
			since = CASE WHEN excluded.since > login_logs.read_at THEN excluded.since
				ELSE least(login_logs.since, excluded.since) END, read_at = excluded.read_at, vantage = excluded.vantage, skew = excluded.skew,
			left_out = excluded.left_out`, i.ID, log.Source, log.Since, log.Vantage, log.Skew, log.LeftOut).Error; err != nil {
			return err
		}
		if err := tx.Exec(`INSERT INTO uses (instance_id, login_user, method, fingerprint, authority, cert_id, trusted, address, day, first_at,
			last_at, count) SELECT ?, r.u, r.m, r.f, r.a, r.c, r.t, r.x, r.d, r.b, r.l, r.n FROM jsonb_to_recordset(?::jsonb) AS r(u text, m text,
			f text, a text, c text, t boolean, x inet, d date, b timestamptz, l timestamptz, n integer)
			ORDER BY r.u, r.f, r.m, r.a, r.x, r.d, r.t
			ON CONFLICT (instance_id, login_user, fingerprint, method, authority, address, day, trusted) DO UPDATE SET
			cert_id = CASE WHEN excluded.last_at >= uses.last_at THEN excluded.cert_id ELSE uses.cert_id END,
			first_at = least(uses.first_at, excluded.first_at), last_at = greatest(uses.last_at, excluded.last_at),
			count = greatest(uses.count, excluded.count)`, i.ID, text).Error; err != nil {
			return err
		}
		// The first one is kept whatever becomes of its day; the count is that of the days that are kept.
		if err := tx.Exec(`INSERT INTO last_uses (instance_id, login_user, fingerprint, first_at, last_at, count, trusted)
			SELECT instance_id, login_user, fingerprint, min(first_at), max(last_at), sum(count),
				(array_agg(trusted ORDER BY last_at DESC, trusted))[1]
			FROM uses WHERE instance_id = ? AND fingerprint <> '' GROUP BY instance_id, login_user, fingerprint
			ON CONFLICT (instance_id, login_user, fingerprint) DO UPDATE SET first_at = least(last_uses.first_at, excluded.first_at),
			last_at = greatest(last_uses.last_at, excluded.last_at), count = excluded.count, trusted = excluded.trusted`, i.ID).Error; err != nil {
			return err
		}
		if err := tx.Exec("DELETE FROM uses WHERE instance_id = ? AND day < (clock_timestamp() AT TIME ZONE 'UTC')::date - ?::integer", i.ID,
			useDays).Error; err != nil {
			return err
		}
		if err := tx.Exec("INSERT INTO to_judge (instance_id) VALUES (?)", i.ID).Error; err != nil {
			return err
		}
		_, err := entry{by, "instance.log", "instance " + i.Name, "read who came in, in its own log (" + log.Source + ")", "kept", 0}.write(tx)
		return err
	})
}

// LogOf returns how far an instance's log was read; nil if nobody has.
func (s *Store) LogOf(ctx context.Context, instanceID int64) (*LoginLog, error) {
	var rows []LoginLog
	err := s.db.WithContext(ctx).Raw("SELECT source, since, read_at, vantage, skew, left_out FROM login_logs WHERE instance_id = ?",
		instanceID).Scan(&rows).Error
	if err != nil || len(rows) == 0 {
		return nil, err
	}
	return &rows[0], nil
}

// LogsRead returns which of these instances have a log that was read.
func (s *Store) LogsRead(ctx context.Context, instances []int64) (map[int64]bool, error) {
	var ids []int64
	err := s.db.WithContext(ctx).Raw("SELECT instance_id FROM login_logs WHERE instance_id IN ?", instances).Scan(&ids).Error
	out := map[int64]bool{}
	for _, id := range ids {
		out[id] = true
	}
	return out, err
}

// LastUse is when a key was first and last used on an instance as a user, by the instance's log.
type LastUse struct {
	InstanceID  int64
	LoginUser   string
	Fingerprint string
	FirstAt     time.Time
	LastAt      time.Time
	Count       int64
	Trusted     bool
}

// LastUses returns the last uses on instances; of one key everywhere, if it is given by its fingerprint.
func (s *Store) LastUses(ctx context.Context, instances []int64, fingerprint string) (out []LastUse, err error) {
	const columns = "SELECT instance_id, login_user, fingerprint, first_at, last_at, count, trusted FROM last_uses WHERE "
	db := s.db.WithContext(ctx).Raw(columns+"instance_id IN ?", instances)
	if fingerprint != "" {
		db = s.db.WithContext(ctx).Raw(columns+"fingerprint = ?", fingerprint)
	}
	return out, db.Scan(&out).Error
}

// UsedRow is one key on one instance as one user, or a login without a key, in the instance's log.
type UsedRow struct {
	Instance    string
	InstanceID  int64
	LoginUser   string
	Method      string
	Fingerprint string
	Key         string
	KeyState    string
	Retired     bool
	Steward     bool
	Authority   string
	CertID      string
	FirstAt     time.Time
	LastAt      time.Time
	Count       int64
	Trusted     bool
	Addresses   string // the last ones, with blanks between
}

// UseQuery chooses uses.
type UseQuery struct {
	Instance    int64  // 0 for all
	Fingerprint string // "" for all
	Limit       int
}

// Uses returns uses, the last ones first.
func (s *Store) Uses(ctx context.Context, q UseQuery) (out []UsedRow, err error) {
	err = s.db.WithContext(ctx).Raw(`SELECT i.name AS instance, g.instance_id, g.login_user, g.method, g.fingerprint, coalesce(k.name, '') AS key,
		coalesce(k.state, '') AS key_state, k.retired_at IS NOT NULL AS retired, s.instance_id IS NOT NULL AS steward, g.authority, g.cert_id,
		g.first_at, g.last_at, g.count, g.trusted, g.addresses FROM (
			SELECT instance_id, login_user, method, fingerprint, authority, min(first_at) AS first_at, max(last_at) AS last_at, sum(count) AS count,
				(array_agg(cert_id ORDER BY last_at DESC))[1] AS cert_id, (array_agg(trusted ORDER BY last_at DESC, trusted))[1] AS trusted,
				array_to_string((array_agg(DISTINCT host(address)))[1:5], ' ') AS addresses
			FROM uses WHERE (? = 0 OR instance_id = ?) AND (? = '' OR fingerprint = ?)
			GROUP BY instance_id, login_user, method, fingerprint, authority) g
		JOIN instances i ON i.id = g.instance_id LEFT JOIN keys k ON k.fingerprint = g.fingerprint AND g.fingerprint <> ''
		LEFT JOIN (SELECT instance_id, print_of(blob) AS fingerprint FROM steward_keys UNION SELECT instance_id, fingerprint FROM former_stewards) s
			ON s.instance_id = g.instance_id AND s.fingerprint = g.fingerprint
		WHERE i.phase NOT IN ('removed', 'failed', 'rehearsal') ORDER BY g.last_at DESC, i.name_fold, g.login_user, g.fingerprint LIMIT ?`,
		q.Instance, q.Instance, q.Fingerprint, q.Fingerprint, q.Limit).Scan(&out).Error
	return out, err
}

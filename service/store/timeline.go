package store

import (
	"context"
	"time"

	"gorm.io/gorm"

	"plumlatch/core/access"
	"plumlatch/core/keypair"
	"plumlatch/core/names"
)

// TakeOver writes down that a key that a survey found opens its instance: as an
// access of a recorded key, which is recorded under a name first if it is not
// yet. The evidence is the survey's. ErrNameTaken.
func (s *Store) TakeOver(ctx context.Context, by Actor, i Instance, found Sighting, name string) (Key, error) {
	p, err := keypair.FromBlob(found.Blob, found.Comment)
	if err != nil {
		return Key{}, err
	}
	err = s.tx(ctx, func(tx *gorm.DB) error {
		var ids []int64
		if err := tx.Raw("SELECT id FROM keys WHERE fingerprint = ?", found.Fingerprint).Scan(&ids).Error; err != nil {
			return err
		}
		if len(ids) == 0 {
			if err := tx.Raw(`INSERT INTO keys (name, name_fold, blob, kind, fingerprint, comment, note, origin,
				created_by, weakness, md5_der, authority)
				VALUES (?, ?, ?, ?, ?, ?, ?, 'imported', ?, ?, ?, ?) RETURNING id`,
				name, names.Fold(name), raw(p.Blob), p.Kind(), found.Fingerprint, found.Comment, "found on "+i.Name,
				by.Operator, worst(p), derHex(p), found.Limits == access.Authority).Scan(&ids).Error; err != nil {
				return err
			}
		}
		if found.Limits == access.Authority { // it is no key of anybody's: it opens nothing by itself
			if err := tx.Exec("INSERT INTO to_judge (instance_id) VALUES (?)", i.ID).Error; err != nil {
				return err
			}
			_, err := entry{by, "access.record", "instance " + i.Name, "write down that " + found.Fingerprint +
				" is trusted there as a certificate authority", "recorded", 0}.write(tx)
			return err
		}
		var added []int64
		if err := tx.Raw("INSERT INTO access (instance_id, key_id, login_user) VALUES (?, ?, ?) ON CONFLICT DO "+
			"NOTHING RETURNING id", i.ID, ids[0], found.LoginUser).Scan(&added).Error; err != nil {
			return err
		}
		for _, id := range added {
			if err := tx.Exec("INSERT INTO evidence (access_id, kind, positive, at, vantage) VALUES (?, 'seen', "+
				"true, ?, ?)", id, found.LastAt, found.Vantage).Error; err != nil {
				return err
			}
			if err := settle(tx, id); err != nil {
				return err
			}
		}
		if err := tx.Exec("INSERT INTO to_judge (instance_id) VALUES (?)", i.ID).Error; err != nil {
			return err
		}
		_, err := entry{by, "access.record", "instance " + i.Name, "write down that " + found.Fingerprint +
			" opens it as " + found.LoginUser, "recorded", 0}.write(tx)
		return err
	})
	if _, ok := unique(err); ok {
		return Key{}, ErrNameTaken
	}
	if err != nil {
		return Key{}, err
	}
	return s.KeyByFingerprint(ctx, found.Fingerprint)
}

// AllowProbes says whether the service may ask an instance from outside by itself.
func (s *Store) AllowProbes(ctx context.Context, by Actor, i Instance, allowed bool) error {
	return s.tx(ctx, func(tx *gorm.DB) error {
		if err := tx.Exec("UPDATE instances SET probe_allowed = ? WHERE id = ?", allowed, i.ID).Error; err != nil {
			return err
		}
		what := "not allowed"
		if allowed {
			what = "allowed"
		}
		_, err := entry{by, "instance.probing", "instance " + i.Name, "asking it from outside by the service itself",
			what, 0}.write(tx)
		return err
	})
}

// Happened is one thing that happened to a key on an instance.
type Happened struct {
	At       time.Time
	Until    *time.Time
	Sort     string // stood, evidence, journal
	What     string
	Instance string
	Key      string // name, or fingerprint
	Vantage  string
	Open     bool
}

// Timeline returns what happened at an instance, or to a key (one of the two),
// the newest first, at most 500 of each sort.
func (s *Store) Timeline(ctx context.Context, i *Instance, k *Key) ([]Happened, error) {
	stood, evidence, former, target := "s.instance_id = ?", "a.instance_id = ? AND NOT a.steward",
		"a.instance_id = ?", "instance "
	var id any
	name := ""
	if i != nil {
		id, name = i.ID, i.Name
	} else {
		stood, evidence, former, target = "s.fingerprint = (SELECT fingerprint FROM keys WHERE id = ?)",
			"a.key_id = ?", "a.key_id = ?", "key "
		id, name = k.ID, k.Name
	}
	var rows []Happened
	err := s.db.WithContext(ctx).Raw(`SELECT * FROM (
		(SELECT s.first_at AS at, coalesce(s.gone_at, s.last_at) AS until, 'stood' AS sort,
			'stood in ' || coalesce(s.places->0->>'file', '') || ' of ' || s.login_user || CASE s.limits
			WHEN '' THEN '' ELSE ' (' || s.limits || ')' END AS what,
			i.name AS instance, coalesce(k.name, s.fingerprint) AS key, s.vantage, s.gone_at IS NULL AS open
			FROM sightings s JOIN instances i ON i.id = s.instance_id LEFT
			JOIN keys k ON k.fingerprint = s.fingerprint WHERE `+stood+` ORDER BY s.first_at DESC LIMIT 500)
		UNION ALL
		(SELECT e.at, NULL, 'evidence', CASE WHEN e.positive THEN e.kind ELSE CASE e.kind
		WHEN 'accepted' THEN 'refused' WHEN 'seen' THEN 'not in the files' WHEN 'placed' THEN 'withdrawn'
		ELSE 'login failed' END END || ' as ' || a.login_user,
			i.name, k.name, e.vantage, false
			FROM evidence e JOIN access a ON a.id = e.access_id JOIN instances i ON i.id = a.instance_id
			JOIN keys k ON k.id = a.key_id WHERE `+evidence+` ORDER BY e.at DESC LIMIT 500)
		UNION ALL
		(SELECT a.began_at, a.ended_at, 'opened', 'opened as ' || a.login_user || ', until it was ' || a.why, i.name,
		k.name, '', false
			FROM former_access a JOIN instances i ON i.id = a.instance_id JOIN keys k ON k.id = a.key_id WHERE `+
		former+` ORDER BY a.id DESC LIMIT 500)
		UNION ALL
		(SELECT j.at, NULL, 'journal', j.action || ': ' || CASE WHEN j.outcome = '' THEN j.intent
		ELSE j.outcome END, CASE WHEN ? = 'instance ' THEN ? ELSE '' END, CASE WHEN ? = 'key ' THEN ?
		ELSE '' END, j.operator, false
			FROM journal j WHERE j.target = ? ORDER BY j.id DESC LIMIT 500)
		) h ORDER BY at DESC`, id, id, id, target, name, target, name, target+name).Scan(&rows).Error
	return rows, err
}

// Limits of the access map.
const (
	mapKeys      = 2000
	mapInstances = 500
)

// MapRow is one cell of the access map.
type MapRow struct {
	KeyID       int64 // 0 for an unrecorded key
	InstanceID  int64
	Fingerprint string
	Standing    string // "unrecorded" for what only a survey knows
	Old         bool
	Age         int // days; -1 for none
}

// MapQuery chooses what is on the access map.
type MapQuery struct{ Region, Tag, Holder string }

// AccessMap returns instances, keys and what opens what: at most 500 instances
// by name, and at most 2000 keys, those of the greatest reach among them first.
func (s *Store) AccessMap(ctx context.Context, q MapQuery) (instances []Instance, keys []Key, cells []MapRow,
	cut bool, err error) {
	var l list
	l.filter("i.phase NOT IN ('removed', 'failed', 'rehearsal')")
	if q.Region != "" {
		l.filter("i.region = ?", q.Region)
	}
	filterTag(&l, q.Tag)
	if q.Holder != "" {
		l.filter("EXISTS (SELECT 1 FROM access a JOIN keys k ON k.id = a.key_id JOIN holders h ON h.id = "+
			"k.holder_id WHERE a.instance_id = i.id AND h.name_fold = ?)", names.Fold(q.Holder))
	}
	sql, args, err := l.sql("SELECT i.id, i.name, i.region, i.tags FROM instances i", "i.name_fold", "i.id", false,
		Page{Limit: mapInstances})
	if err != nil {
		return nil, nil, nil, false, err
	}
	db := s.db.WithContext(ctx)
	if err := db.Raw(sql, args...).Scan(&instances).Error; err != nil || len(instances) == 0 {
		return nil, nil, nil, false, err
	}
	if len(instances) > mapInstances {
		instances, cut = instances[:mapInstances], true
	}
	var ids []int64
	for _, i := range instances {
		ids = append(ids, i.ID)
	}
	holder := ""
	if q.Holder != "" {
		holder = " AND h.name_fold = @holder"
	}
	// Several login users of one key on one instance make one cell: the strongest.
	err = db.Raw(`SELECT DISTINCT ON (a.instance_id, k.id) k.id AS key_id, a.instance_id, k.fingerprint, a.standing,
		a.standing_old AS old,
		coalesce(extract(day FROM now() - a.standing_at)::int, -1) AS age
		FROM access a JOIN keys k ON k.id = a.key_id LEFT JOIN holders h ON h.id = k.holder_id
		WHERE a.instance_id IN @ids`+holder+`
		ORDER BY a.instance_id, k.id, array_position(ARRAY['proven', 'accepted', 'seen', 'placed', 'none'], a.standing)`,
		map[string]any{"ids": ids, "holder": names.Fold(q.Holder)}).Scan(&cells).Error
	if err != nil {
		return nil, nil, nil, false, err
	}
	if q.Holder == "" {
		var found []MapRow
		err = db.Raw(`SELECT s.instance_id, s.fingerprint, 'unrecorded' AS standing, coalesce(k.id, 0) AS key_id,
			extract(day FROM now() - s.last_at)::int AS age FROM sightings s LEFT
			JOIN keys k ON k.fingerprint = s.fingerprint
			WHERE s.instance_id IN ? AND s.gone_at IS NULL AND s.limits NOT IN ('expired', 'authority')
			AND NOT EXISTS (SELECT 1 FROM access a WHERE a.instance_id = s.instance_id AND a.key_id = k.id)
			ORDER BY s.instance_id, s.fingerprint LIMIT 20000`, ids).Scan(&found).Error
		if err != nil {
			return nil, nil, nil, false, err
		}
		cells = append(cells, found...)
	}
	var keyIDs []int64
	seen := map[int64]bool{}
	for _, c := range cells {
		if c.KeyID != 0 && !seen[c.KeyID] {
			seen[c.KeyID] = true
			keyIDs = append(keyIDs, c.KeyID)
		}
	}
	if len(keyIDs) > 0 {
		err = db.Raw(`SELECT k.id, k.name, k.blob, k.fingerprint, k.state, coalesce(h.name, '') AS holder FROM keys k
			LEFT JOIN holders h ON h.id = k.holder_id WHERE k.id IN ? ORDER BY k.name_fold LIMIT ?`, keyIDs,
			mapKeys+1).Scan(&keys).Error
	}
	if len(keys) > mapKeys {
		keys, cut = keys[:mapKeys], true
	}
	return instances, keys, cells, cut, err
}

// Ages counts accesses by the age of their evidence, in days up to each bound; the last is for none.
type Ages struct {
	Days1, Days7, Days30, Days90, Older, None int
}

// EvidenceAges counts all accesses by the age of their evidence.
func (s *Store) EvidenceAges(ctx context.Context) (Ages, error) {
	return one[Ages](ctx, s, `SELECT count(*) FILTER (WHERE age < interval '1 day') AS days1,
		count(*) FILTER (WHERE age >= interval '1 day' AND age < interval '7 days') AS days7,
		count(*) FILTER (WHERE age >= interval '7 days' AND age < interval '30 days') AS days30,
		count(*) FILTER (WHERE age >= interval '30 days' AND age < interval '90 days') AS days90,
		count(*) FILTER (WHERE age >= interval '90 days') AS older, count(*) FILTER (WHERE age IS NULL) AS none
		FROM (SELECT now() - a.standing_at AS age FROM access a JOIN instances i ON i.id = a.instance_id
		WHERE i.phase NOT IN ('removed', 'failed', 'rehearsal')) x`)
}

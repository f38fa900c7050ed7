package store

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"time"

	"gorm.io/gorm"

	"plumlatch/core/access"
	"plumlatch/core/keybook"
	"plumlatch/core/keypair"
	"plumlatch/core/names"
	"plumlatch/core/times"
)

// KeptBook is a keybook that was settled.
type KeptBook struct {
	WorkID     int64
	Name       string
	Hash       string // of the text
	Version    string
	Difference string
	Counts     string // JSON
	Operator   string
	At         time.Time
	State      string // of the work
	Outcome    string
	Complete   *string // JSON of BookScope; nil for none
	Reviewed   string  // JSON: sums of the items that were reviewed
}

// BookScope is what a book is complete for, and where it says so.
type BookScope struct {
	At keybook.Place    `json:"at"`
	To keybook.Selector `json:"to"`
}

// KeepBookText keeps the text of a book by its hash, once.
func (s *Store) KeepBookText(ctx context.Context, hash string, sources []keybook.Source, publics map[string]string) error {
	text, err := json.Marshal(sources)
	if err != nil {
		return err
	}
	beside, err := json.Marshal(publics)
	if err != nil {
		return err
	}
	return s.tx(ctx, func(tx *gorm.DB) error {
		return tx.Exec("INSERT INTO keybook_texts (hash, sources, publics) VALUES (?, ?, ?) ON CONFLICT (hash) DO UPDATE SET kept_at = clock_timestamp()", hash,
			string(text), string(beside)).Error
	})
}

// BookText returns a text that was kept. ErrNotFound.
func (s *Store) BookText(ctx context.Context, hash string) (sources []keybook.Source, publics map[string]string, err error) {
	row, err := one[struct{ Sources, Publics string }](ctx, s, "SELECT sources::text AS sources, publics::text AS publics FROM keybook_texts WHERE hash = ?", hash)
	if err == nil {
		err = errors.Join(json.Unmarshal([]byte(row.Sources), &sources), json.Unmarshal([]byte(row.Publics), &publics))
	}
	return sources, publics, err
}

const bookColumns = `SELECT b.work_id, b.name, b.hash, b.version, b.difference, b.counts::text AS counts, b.operator, b.at, w.state, w.outcome,
	b.complete::text AS complete, b.reviewed::text AS reviewed FROM keybooks b JOIN work w ON w.id = b.work_id`

// Books returns the books that were settled, the newest first.
func (s *Store) Books(ctx context.Context, name string, p Page) ([]KeptBook, string, error) {
	var l list
	if name != "" {
		l.filter("b.name_fold = ?", names.Fold(name))
	}
	return pageOf(ctx, s, &l, bookColumns, "to_char(b.at AT TIME ZONE 'UTC', 'YYYYMMDDHH24MISS.US')", "b.work_id", true, p,
		func(b KeptBook) (string, int64) { return b.At.UTC().Format("20060102150405.000000"), b.WorkID })
}

// BookOf returns the book that a piece of work settled. ErrNotFound.
func (s *Store) BookOf(ctx context.Context, workID int64) (KeptBook, error) {
	return one[KeptBook](ctx, s, bookColumns+" WHERE b.work_id = ?", workID)
}

// KeepBook notes that a piece of work settles a book, and what it is complete for now. Once for a piece of work.
func (s *Store) KeepBook(ctx context.Context, b KeptBook, scope []int64) error {
	text, err := recordset(scope)
	if err != nil {
		return err
	}
	return s.tx(ctx, func(tx *gorm.DB) error {
		fold := names.Fold(b.Name)
		if err := tx.Exec(`INSERT INTO keybooks (work_id, name, name_fold, hash, version, difference, counts, operator, complete, reviewed)
			VALUES (?, ?, ?, ?, ?, ?, CAST(? AS jsonb), ?, CAST(? AS jsonb), CAST(? AS jsonb)) ON CONFLICT DO NOTHING`, b.WorkID, b.Name, fold, b.Hash, b.Version,
			b.Difference, b.Counts, b.Operator, b.Complete, b.Reviewed).Error; err != nil {
			return err
		}
		if err := tx.Exec("DELETE FROM keybook_scope WHERE name_fold = ?", fold).Error; err != nil {
			return err
		}
		return tx.Exec("INSERT INTO keybook_scope (name_fold, instance_id) SELECT ?, i.id FROM instances i JOIN (SELECT jsonb_array_elements(CAST(? AS jsonb))::bigint AS id) x USING (id)",
			fold, text).Error
	})
}

// BookLedger reads what a book of a name is compared with, of one moment: a number of statements that does not grow with what there is.
func (s *Store) BookLedger(ctx context.Context, name string) (*keybook.Ledger, error) {
	l := &keybook.Ledger{}
	err := s.db.WithContext(ctx).Transaction(func(tx *gorm.DB) error {
		if err := tx.Raw("SELECT clock_timestamp()").Row().Scan(&l.Now); err != nil {
			return err
		}
		byKey, byPrint, err := bookKeys(tx, l)
		if err != nil {
			return err
		}
		if err := bookHolders(tx, l); err != nil {
			return err
		}
		at, err := bookInstances(tx, l)
		if err != nil {
			return err
		}
		if err := bookAccesses(tx, l, at, byKey); err != nil {
			return err
		}
		if err := bookSightings(tx, l, at, byPrint); err != nil {
			return err
		}
		if err := bookLists(tx, l, byKey); err != nil {
			return err
		}
		return otherBooks(tx, l, name)
	}, &sql.TxOptions{Isolation: sql.LevelRepeatableRead, ReadOnly: true})
	return l, err
}

// eachRow calls one for each row of a statement.
func eachRow(q *gorm.DB, one func(scan func(...any) error) error) error {
	rows, err := q.Rows()
	if err != nil {
		return err
	}
	defer rows.Close()
	for rows.Next() {
		if err := one(rows.Scan); err != nil {
			return err
		}
	}
	return rows.Err()
}

func bookKeys(tx *gorm.DB, l *keybook.Ledger) (byID map[int64]int32, byPrint map[string]int32, err error) {
	byID, byPrint = map[int64]int32{}, map[string]int32{}
	err = eachRow(tx.Raw(`SELECT k.id, k.name, k.fingerprint, k.blob, k.comment, coalesce(h.name, ''), coalesce(h.sort, ''), k.note, k.origin, k.state,
		k.retired_at IS NOT NULL, k.authority, k.kind, k.shown_at FROM keys k LEFT JOIN holders h ON h.id = k.holder_id ORDER BY k.id`), func(scan func(...any) error) error {
		var k keybook.LedgerKey
		var public keypair.Public
		var shown *time.Time
		if err := scan(&k.ID, &k.Name, &k.Fingerprint, &public.Blob, &public.Comment, &k.Holder, &k.HolderSort, &k.Note, &k.Origin, &k.State, &k.Retired,
			&k.Authority, &k.Kind, &shown); err != nil {
			return err
		}
		k.Line, k.ShownAt = public.Line(), timeOf(shown)
		byID[k.ID], byPrint[k.Fingerprint] = int32(len(l.Keys)), int32(len(l.Keys))
		l.Keys = append(l.Keys, k)
		return nil
	})
	return byID, byPrint, err
}

func bookHolders(tx *gorm.DB, l *keybook.Ledger) error {
	return eachRow(tx.Raw(`SELECT h.id, h.name, h.sort, h.left_at IS NOT NULL, coalesce((SELECT jsonb_agg(m.name ORDER BY m.name) FROM holder_members t
		JOIN holders m ON m.id = t.member_id WHERE t.team_id = h.id), '[]')::text FROM holders h ORDER BY h.id`), func(scan func(...any) error) error {
		var h keybook.LedgerHolder
		var members string
		if err := scan(&h.ID, &h.Name, &h.Sort, &h.Left, &members); err != nil {
			return err
		}
		if err := json.Unmarshal([]byte(members), &h.Members); err != nil {
			return err
		}
		l.Holders = append(l.Holders, h)
		return nil
	})
}

func bookInstances(tx *gorm.DB, l *keybook.Ledger) (at map[int64]int32, err error) {
	at = map[int64]int32{}
	err = eachRow(tx.Raw(`SELECT i.id, i.name, i.region, i.image, i.login_user, i.tags::text, i.tags_cloud, i.phase, i.state,
		i.vanished_at IS NULL, st.instance_id IS NOT NULL, v.instance_id IS NOT NULL, i.checks::text, i.tags_by, i.tags_at, i.desktop,
		CASE WHEN c.instance_id IS NULL THEN '' WHEN c.report->'doors' @> '[{"sort":"password"}]' THEN 'on' WHEN c.report->'not_seen' = '[]' THEN 'off' ELSE '' END
		FROM instances i LEFT JOIN steward_keys st ON st.instance_id = i.id
		LEFT JOIN (SELECT DISTINCT instance_id FROM surveys WHERE sort IN ('inside', 'client') AND seen_at IS NOT NULL) v ON v.instance_id = i.id
		LEFT JOIN surveys c ON c.instance_id = i.id AND c.sort = 'config' AND c.seen_at IS NOT NULL
		WHERE i.phase NOT IN ('removed', 'failed', 'rehearsal') ORDER BY i.name_fold`), func(scan func(...any) error) error {
		var i keybook.LedgerInstance
		var tags, checks, by string
		var there bool
		var when *time.Time
		if err := scan(&i.ID, &i.Name, &i.Region, &i.Image, &i.LoginUser, &tags, &i.CloudTags, &i.Phase, &i.State, &there, &i.Steward, &i.Seen, &checks, &by,
			&when, &i.NoSSH, &i.Password); err != nil {
			return err
		}
		if tags != "{}" {
			if err := json.Unmarshal([]byte(tags), &i.Tags); err != nil {
				return err
			}
		}
		if checks != "[]" {
			if err := json.Unmarshal([]byte(checks), &i.Checks); err != nil {
				return err
			}
		}
		if !there {
			i.Phase = "not known to its cloud any more"
		}
		i.Ready, i.Running = i.Phase == string(Ready) && there, i.State == "running"
		if by != "" && when != nil {
			i.TagsBy = "by " + by + " at " + times.Show(when.UTC())
		}
		at[i.ID] = int32(len(l.Instances))
		l.Instances = append(l.Instances, i)
		return nil
	})
	return at, err
}

func bookAccesses(tx *gorm.DB, l *keybook.Ledger, at map[int64]int32, byKey map[int64]int32) error {
	users := map[string]string{} // each text once
	return eachRow(tx.Raw(`SELECT a.id, a.instance_id, a.key_id, a.login_user, a.standing IN ('accepted', 'proven') AND a.against = '', a.against = 'seen',
		t.until_at, coalesce(t.from_range, ''), coalesce(t.command, ''), coalesce(w.kind, ''),
		CASE WHEN s.limits IN ('`+string(access.Command)+`', '`+string(access.From)+`') THEN coalesce(t.command, '') = '' AND coalesce(t.from_range, '') = ''
			WHEN s.limits = '' THEN coalesce(t.command, '') <> '' OR coalesce(t.from_range, '') <> '' ELSE false END
		FROM access a JOIN keys k ON k.id = a.key_id JOIN instances i ON i.id = a.instance_id LEFT JOIN access_terms t ON t.access_id = a.id LEFT JOIN work w ON w.id = t.work_id
		LEFT JOIN sightings s ON s.instance_id = a.instance_id AND s.login_user = a.login_user AND s.fingerprint = k.fingerprint AND s.gone_at IS NULL
			AND s.last_at > i.changed_at -- what was seen before our last write says nothing now
		WHERE NOT a.steward ORDER BY a.id`), func(scan func(...any) error) error {
		var a keybook.LedgerAccess
		var instance, key int64
		var until *time.Time
		var kind string
		if err := scan(&a.ID, &instance, &key, &a.User, &a.Shown, &a.Missing, &until, &a.Terms.From, &a.Terms.Only, &kind, &a.Edited); err != nil {
			return err
		}
		n, ok := at[instance]
		if !ok {
			return nil
		}
		if had, ok := users[a.User]; ok {
			a.User = had
		} else {
			users[a.User] = a.User
		}
		if until != nil {
			a.Terms.Until = until.UTC()
			a.ByHand = kind != "access-settle" && kind != "access-end"
			a.Leaving = kind == "rotate"
		}
		a.Instance, a.Key = n, byKey[key]
		l.Accesses = append(l.Accesses, a)
		return nil
	})
}

func bookSightings(tx *gorm.DB, l *keybook.Ledger, at map[int64]int32, byPrint map[string]int32) error {
	return eachRow(tx.Raw(`SELECT s.instance_id, s.login_user, s.fingerprint, s.comment, s.limits FROM sightings s JOIN instances i ON i.id = s.instance_id
		LEFT JOIN keys k ON k.fingerprint = s.fingerprint
		WHERE s.gone_at IS NULL AND s.limits <> '`+string(access.Expired)+`' AND NOT `+recordedHere+` AND NOT `+firstBoots+`
		AND NOT EXISTS (SELECT 1 FROM former_stewards f WHERE f.instance_id = s.instance_id AND f.fingerprint = s.fingerprint)`), func(scan func(...any) error) error {
		var x keybook.Sighting
		var instance int64
		if err := scan(&instance, &x.User, &x.Fingerprint, &x.Comment, &x.Limits); err != nil {
			return err
		}
		n, ok := at[instance]
		if !ok {
			return nil
		}
		x.Instance, x.Key = n, -1
		if k, ok := byPrint[x.Fingerprint]; ok {
			x.Key = k
		}
		l.Sightings = append(l.Sightings, x)
		return nil
	})
}

// bookLists are the cloud's own lists of keys, as they were read last.
func bookLists(tx *gorm.DB, l *keybook.Ledger, byKey map[int64]int32) error {
	l.Lists = map[string][]keybook.Listed{}
	return eachRow(tx.Raw(`SELECT l.region, coalesce(k.name, ''), coalesce(k.key_id, 0) FROM key_lists l
		LEFT JOIN listed_keys k ON k.cloud = l.cloud AND k.region = l.region WHERE l.read_at IS NOT NULL ORDER BY l.region, k.name`), func(scan func(...any) error) error {
		var region, name string
		var key int64
		if err := scan(&region, &name, &key); err != nil {
			return err
		}
		all := l.Lists[region]
		if at, ok := byKey[key]; ok {
			all = append(all, keybook.Listed{Name: name, Key: at})
		}
		l.Lists[region] = all
		return nil
	})
}

// otherBooks are what the other books that were settled last are complete for, and what this one was.
func otherBooks(tx *gorm.DB, l *keybook.Ledger, name string) error {
	fold := names.Fold(name)
	err := eachRow(tx.Raw(`SELECT DISTINCT ON (b.name_fold) b.name, b.complete::text FROM keybooks b WHERE b.name_fold <> ? ORDER BY b.name_fold, b.work_id DESC`, fold),
		func(scan func(...any) error) error {
			var o keybook.OtherBook
			var complete *string
			if err := scan(&o.Name, &complete); err != nil || complete == nil {
				return err
			}
			var scope BookScope
			if err := json.Unmarshal([]byte(*complete), &scope); err != nil {
				return err
			}
			o.At, o.To = scope.At, scope.To
			l.Others = append(l.Others, o)
			return nil
		})
	if err != nil {
		return err
	}
	var settled bool
	if err := tx.Raw("SELECT EXISTS (SELECT 1 FROM keybooks WHERE name_fold = ? AND complete IS NOT NULL)", fold).Row().Scan(&settled); err != nil || !settled {
		return err
	}
	l.Scope = map[int64]bool{}
	return eachRow(tx.Raw("SELECT instance_id FROM keybook_scope WHERE name_fold = ?", fold), func(scan func(...any) error) error {
		var id int64
		err := scan(&id)
		l.Scope[id] = true
		return err
	})
}

// SetTags gives an instance its tags, as an operator says. ErrNotFound.
func (s *Store) SetTags(ctx context.Context, by Actor, i Instance, tags map[string]string, intent string) error {
	text, err := json.Marshal(tags)
	if err != nil {
		return err
	}
	return s.tx(ctx, func(tx *gorm.DB) error {
		r := tx.Exec("UPDATE instances SET tags = CAST(? AS jsonb), tags_cloud = false, tags_by = ?, tags_at = clock_timestamp() WHERE id = ?", string(text), by.Operator, i.ID)
		if r.Error == nil && r.RowsAffected == 0 {
			return ErrNotFound
		}
		if r.Error != nil {
			return r.Error
		}
		_, err := entry{by, "instance.tag", "instance " + i.Name, intent, "tagged", 0}.write(tx)
		return err
	})
}

// BookMember is what is to be done on one instance.
type BookMember struct {
	InstanceID int64
	Wave       int
	Changes    json.RawMessage
}

// ChooseBookMembers keeps what a piece of work does on which instances, once.
func (s *Store) ChooseBookMembers(ctx context.Context, workID int64, all []BookMember) error {
	type row struct {
		N, Wave    int
		InstanceID int64
		Changes    json.RawMessage
	}
	var rows []row
	for n, m := range all {
		rows = append(rows, row{n, m.Wave, m.InstanceID, m.Changes})
	}
	text, err := recordset(rows)
	if err != nil {
		return err
	}
	return s.tx(ctx, func(tx *gorm.DB) error {
		var there int64
		if err := tx.Raw("SELECT count(*) FROM fleet_members WHERE work_id = ?", workID).Scan(&there).Error; err != nil || there > 0 {
			return err
		}
		return tx.Exec(`INSERT INTO fleet_members (work_id, n, instance_id, old_key, new_key, wave, changes)
			SELECT ?, m."N", m."InstanceID", '', '', m."Wave", m."Changes" FROM jsonb_to_recordset(CAST(? AS jsonb))
			AS m("N" integer, "InstanceID" bigint, "Wave" integer, "Changes" jsonb)`, workID, text).Error
	})
}

// BookChanges returns what is to be done on one instance.
func (s *Store) BookChanges(ctx context.Context, workID int64, n int) (string, error) {
	row, err := one[struct{ Changes string }](ctx, s, "SELECT changes::text AS changes FROM fleet_members WHERE work_id = ? AND n = ?", workID, n)
	return row.Changes, err
}

// BookKept returns what the parts of a piece of work left as it was, and why: "KEY: REASON", with the instance before.
func (s *Store) BookKept(ctx context.Context, workID int64, limit int) (out []string, err error) {
	err = s.db.WithContext(ctx).Raw(`SELECT i.name || ': ' || k.said FROM fleet_members m JOIN instances i ON i.id = m.instance_id
		JOIN work_stays k ON k.work_id = m.child_id WHERE m.work_id = ? ORDER BY m.n, k.n LIMIT ?`, workID, limit).Scan(&out).Error
	return out, err
}

// EndingAccess is an access that a part of a piece of work has given an end, and which no work waits for yet.
type EndingAccess struct {
	AccessID, InstanceID, PartID int64
	UntilAt                      time.Time
	FromRange                    string
}

// EndsToKeep returns the accesses that the parts of a piece of work have given an end which nobody waits for.
func (s *Store) EndsToKeep(ctx context.Context, workID int64) ([]EndingAccess, error) {
	var out []EndingAccess
	return out, s.db.WithContext(ctx).Raw(`SELECT t.access_id, a.instance_id, t.work_id AS part_id, t.until_at, t.from_range FROM access_terms t
		JOIN access a ON a.id = t.access_id JOIN work w ON w.id = t.work_id WHERE w.parent_id = ? AND w.kind = 'access-settle' AND w.state = 'done'
		AND t.until_at IS NOT NULL ORDER BY t.access_id LIMIT 500`, workID).Scan(&out).Error
}

// EndKeptBy notes which work waits for the end of an access.
func (s *Store) EndKeptBy(ctx context.Context, accessID, workID int64) error {
	return s.tx(ctx, func(tx *gorm.DB) error {
		return tx.Exec("UPDATE access_terms SET work_id = ? WHERE access_id = ?", workID, accessID).Error
	})
}

// OpenBooks returns the work at hand that settles a book of a name, begun before a piece of work (0: any), the oldest first.
func (s *Store) OpenBooks(ctx context.Context, name string, before int64) (out []int64, err error) {
	err = s.db.WithContext(ctx).Raw(`SELECT id FROM work WHERE kind = 'keybook-settle' AND state IN ('queued', 'running', 'waiting')
		AND subject = ? AND (CAST(? AS bigint) = 0 OR id < CAST(? AS bigint)) ORDER BY id`, BookSubject(name), before, before).Scan(&out).Error
	return out, err
}

// BookSubject is what work on a book of a name is about.
func BookSubject(name string) string { return "keybook " + names.Fold(name) }

// Stays notes what a piece of work leaves as it was, and why: once.
func (s *Store) Stays(ctx context.Context, workID int64, said string) error {
	return s.tx(ctx, func(tx *gorm.DB) error {
		return tx.Exec("INSERT INTO work_stays (work_id, said) VALUES (?, ?) ON CONFLICT DO NOTHING", workID, said).Error
	})
}

// WorkByToken returns a piece of work by its token. ErrNotFound.
func (s *Store) WorkByToken(ctx context.Context, token string) (Work, error) {
	row, err := one[struct{ ID int64 }](ctx, s, "SELECT id FROM work WHERE token = ?", token)
	if err != nil {
		return Work{}, err
	}
	return s.WorkByID(ctx, row.ID)
}

// FollowedBook is a keybook on the service's own disk, and what the last look came to.
type FollowedBook struct {
	Path, Name       string
	Text, Difference string // hashes
	Counts           string // JSON
	Todo             int
	Words            string // what is to be done
	Waits            string // why it is not settled by itself
	Trouble          string // why it could not be compared
	ComparedAt       time.Time
	Settled          string     // the difference that was settled by itself last
	SignedAt         *time.Time // of the last text that was taken
}

// FollowedBook returns the followed book of a name. ErrNotFound.
func (s *Store) FollowedBook(ctx context.Context, name string) (FollowedBook, error) {
	return one[FollowedBook](ctx, s, "SELECT *, counts::text AS counts FROM keybooks_followed WHERE name_fold = ? ORDER BY compared_at DESC LIMIT 1", names.Fold(name))
}

// FollowedBooks returns all of them, by their path.
func (s *Store) FollowedBooks(ctx context.Context) (out []FollowedBook, err error) {
	return out, s.db.WithContext(ctx).Raw("SELECT *, counts::text AS counts FROM keybooks_followed ORDER BY path").Scan(&out).Error
}

// KeepFollowed keeps what a look at a followed book came to, and what of it needs a hand.
func (s *Store) KeepFollowed(ctx context.Context, p access.Policy, b FollowedBook) error {
	counts := b.Counts
	if counts == "" {
		counts = "{}"
	}
	return s.tx(ctx, func(tx *gorm.DB) error {
		if err := tx.Exec("SELECT pg_advisory_xact_lock(?)", judgeLock).Error; err != nil {
			return err
		}
		if b.Trouble != "" { // what was compared before stays, and grows old
			if err := tx.Exec(`INSERT INTO keybooks_followed (path, trouble) VALUES (?, ?) ON CONFLICT (path) DO UPDATE SET trouble = excluded.trouble`, b.Path,
				b.Trouble).Error; err != nil {
				return err
			}
		} else if err := tx.Exec(`INSERT INTO keybooks_followed (path, name, name_fold, text, difference, counts, todo, words, waits)
			VALUES (?, ?, ?, ?, ?, CAST(? AS jsonb), ?, ?, ?) ON CONFLICT (path) DO UPDATE SET name = excluded.name, name_fold = excluded.name_fold, text = excluded.text,
			difference = excluded.difference, counts = excluded.counts, todo = excluded.todo, words = excluded.words, waits = excluded.waits, trouble = '',
			compared_at = clock_timestamp()`, b.Path, b.Name, names.Fold(b.Name), b.Text, b.Difference, counts, b.Todo, b.Words, b.Waits).Error; err != nil {
			return err
		}
		var j judged
		j.add("keybook "+b.Path, "", p.JudgeKeybook(b.Name, b.Path, b.Todo, b.Words, b.Waits, b.Trouble), time.Time{})
		return j.keep(tx)
	})
}

// FollowedSettled notes which difference of a followed book was settled by itself, and when its text was signed.
func (s *Store) FollowedSettled(ctx context.Context, name, difference string, signedAt time.Time) error {
	return s.tx(ctx, func(tx *gorm.DB) error {
		return tx.Exec("UPDATE keybooks_followed SET settled = ?, signed_at = greatest(signed_at, ?) WHERE name_fold = ?", difference, signedAt, names.Fold(name)).Error
	})
}

package store

import (
	"context"
	"encoding/json"
	"fmt"
	"strings"
	"time"

	"gorm.io/gorm"

	"plumlatch/core/keypair"
	"plumlatch/core/names"
)

// Rehearsal is a way back in that was, or is, carried out on a copy.
type Rehearsal struct {
	WorkID, InstanceID  int64
	Instance, Image     string // of the original
	Route               string
	KeyID, CopyID       int64 // 0 before there is one, and after it is gone
	ChildID             int64 // the work that carries it out
	Price               float64
	Currency            string
	BeganAt             time.Time
	EndedAt             *time.Time
	Good                bool
	InSeconds, DownSecs float64
	Said                string
}

const rehearsalColumns = `SELECT r.work_id, r.instance_id, i.name, i.image, r.route, coalesce(r.key_id, 0), coalesce(r.copy_id, 0),
	coalesce(r.child_id, 0), r.price, r.currency, r.began_at, r.ended_at, coalesce(r.good, false), coalesce(r.in_seconds, 0),
	coalesce(r.down_seconds, 0), r.said FROM rehearsals r JOIN instances i ON i.id = r.instance_id `

func (r *Rehearsal) fields() []any {
	return []any{&r.WorkID, &r.InstanceID, &r.Instance, &r.Image, &r.Route, &r.KeyID, &r.CopyID, &r.ChildID, &r.Price, &r.Currency,
		&r.BeganAt, &r.EndedAt, &r.Good, &r.InSeconds, &r.DownSecs, &r.Said}
}

// BeginRehearsal begins the work, and writes it down, in one transaction. With alone it is begun only if no other is at hand, by
// whichever replica. ErrInProgress; ErrReused by once.
func (s *Store) BeginRehearsal(ctx context.Context, by Actor, once Once, i Instance, n NewWork, route string, price float64,
	currency string, alone bool) (id int64, err error) {
	err = s.tx(ctx, func(tx *gorm.DB) error {
		if err := once.seen(tx); err != nil {
			return err
		}
		if alone {
			if err := tx.Exec("LOCK TABLE rehearsals IN SHARE ROW EXCLUSIVE MODE").Error; err != nil { // whoever inserts waits
				return err
			}
			var at int
			if err := tx.Raw("SELECT count(*) FROM work WHERE kind = 'rehearse' AND state IN ('queued', 'running', 'waiting')").Scan(&at).Error; err != nil {
				return err
			}
			if at > 0 {
				return ErrInProgress
			}
		}
		if id, err = addWork(tx, by, once, i.ID, n); err != nil {
			return err
		}
		return tx.Exec("INSERT INTO rehearsals (work_id, instance_id, route, price, currency) VALUES (?, ?, ?, ?, ?)", id, i.ID, route,
			price, currency).Error
	})
	return id, err
}

// RehearsalOf returns the rehearsal of a piece of work; ErrNotFound.
func (s *Store) RehearsalOf(ctx context.Context, work int64) (Rehearsal, error) {
	var all []Rehearsal
	err := scanAll(s.db.WithContext(ctx).Raw(rehearsalColumns+"WHERE r.work_id = ?", work), &all, (*Rehearsal).fields)
	if err == nil && len(all) == 0 {
		err = ErrNotFound
	}
	if err != nil {
		return Rehearsal{}, err
	}
	return all[0], nil
}

// Rehearsals returns the last ones of an instance, the newest first.
func (s *Store) Rehearsals(ctx context.Context, instanceID int64, limit int) (all []Rehearsal, err error) {
	err = scanAll(s.db.WithContext(ctx).Raw(rehearsalColumns+"WHERE r.instance_id = ? ORDER BY r.work_id DESC LIMIT ?", instanceID, limit), &all,
		(*Rehearsal).fields)
	return all, err
}

// Rehearsed returns, of instances, the last rehearsal of each route that is over; and the last good ones of others that have an
// image of theirs, at most 20 for an image and a route.
func (s *Store) Rehearsed(ctx context.Context, instanceIDs []int64) (own, others []Rehearsal, err error) {
	db := s.db.WithContext(ctx)
	if err := scanAll(db.Raw(rehearsalColumns+`WHERE r.instance_id IN ? AND r.work_id = (SELECT max(o.work_id) FROM rehearsals o
		WHERE o.instance_id = r.instance_id AND o.route = r.route AND o.ended_at IS NOT NULL) ORDER BY r.work_id`, instanceIDs), &own,
		(*Rehearsal).fields); err != nil {
		return nil, nil, err
	}
	err = scanAll(db.Raw(rehearsalColumns+`JOIN (SELECT work_id, row_number() OVER (PARTITION BY q.image, p.route ORDER BY p.work_id DESC) AS n
		FROM rehearsals p JOIN instances q ON q.id = p.instance_id WHERE p.good AND q.image <> ''
		AND q.image IN (SELECT image FROM instances WHERE id IN ?)) last ON last.work_id = r.work_id AND last.n <= 20 ORDER BY r.work_id`,
		instanceIDs), &others, (*Rehearsal).fields)
	return own, others, err
}

// RehearsalKey records the pair that was made for a rehearsal, once for each attempt of its work. It opens the copy alone, and goes
// with it.
func (s *Store) RehearsalKey(ctx context.Context, work int64, attempt int, name, note string, p keypair.Public) (id int64, err error) {
	err = s.tx(ctx, func(tx *gorm.DB) error {
		if err := tx.Raw("SELECT coalesce(key_id, 0) FROM rehearsals WHERE work_id = ? AND attempt = ? FOR UPDATE", work,
			attempt).Scan(&id).Error; err != nil || id != 0 {
			return err
		}
		if err := tx.Raw(`INSERT INTO keys (name, name_fold, blob, kind, fingerprint, comment, note, origin, created_by, passphrase,
			passphrase_at, weakness, md5_der) VALUES (?, ?, ?, ?, ?, ?, ?, 'made here', ?, 'no', clock_timestamp(), ?, ?) RETURNING id`, name,
			names.Fold(name), raw(p.Blob), p.Kind(), p.Fingerprint(), p.Comment, note, Service.Operator, worst(p), derHex(p)).Scan(&id).Error; err != nil {
			return err
		}
		if _, err := (entry{Service, "key.create", "key " + name, "record " + p.Kind() + " " + p.Fingerprint(), "recorded", 0}).write(tx); err != nil {
			return err
		}
		return tx.Exec(`UPDATE rehearsals SET key_id = ?, attempt = ?, copy_id = NULL, child_id = NULL, ended_at = NULL, good = NULL, said = ''
			WHERE work_id = ?`, id, attempt, work).Error
	})
	return id, err
}

// CarryOut has the ledger take a copy for the time of a rehearsal, with the work that carries its route out there, once for each
// attempt. It has the steward of the original, which the copy's disk lets in too.
func (s *Store) CarryOut(ctx context.Context, by Actor, work, original int64, n NewInstance) (copyID, child int64, err error) {
	files, err := json.Marshal(append(Paths{}, n.KeysFiles...))
	if err != nil {
		return 0, 0, err
	}
	err = s.tx(onDisk(ctx), func(tx *gorm.DB) error {
		var have struct{ CopyID, ChildID int64 }
		if err := tx.Raw(`SELECT coalesce(copy_id, 0) AS copy_id, coalesce(child_id, 0) AS child_id FROM rehearsals WHERE work_id = ?
			FOR UPDATE`, work).Scan(&have).Error; err != nil {
			return err
		}
		if copyID, child = have.CopyID, have.ChildID; child != 0 {
			return nil
		}
		if err := tx.Raw(`INSERT INTO instances (name, name_fold, alias, cloud, client_token, region, image, size, login_user, phase,
			progress, user_data, created_by, zone, disk_gb, address, port, state, keys_files, privilege, cloud_id, probe_allowed)
			VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, '', '', ?, ?, ?, ?, ?, ?, ?, ?, ?, true) RETURNING id`, n.Name, names.Fold(n.Name), n.Alias,
			n.Cloud, n.Work.Token, n.Region, n.Image, n.Size, n.LoginUser, string(Rehearsing), by.Operator, n.Zone, n.DiskGB, n.Address, n.Port,
			n.State, string(files), n.Privilege, n.CloudID).Scan(&copyID).Error; err != nil {
			return err
		}
		for _, h := range n.HostKeys {
			if err := tx.Exec("INSERT INTO host_keys (instance_id, blob, type, fingerprint, source) VALUES (?, ?, ?, ?, ?)", copyID, raw(h.Blob),
				h.Type, h.Fingerprint, h.Source).Error; err != nil {
				return err
			}
		}
		for _, sql := range []string{
			"INSERT INTO steward_keys (instance_id, blob, sealed) SELECT @copy, blob, sealed FROM steward_keys WHERE instance_id = @original",
			`INSERT INTO access (instance_id, steward, login_user) SELECT @copy, true, login_user FROM access
				WHERE instance_id = @original AND steward`,
		} {
			if err := tx.Exec(sql, map[string]any{"copy": copyID, "original": original}).Error; err != nil {
				return err
			}
		}
		if child, err = addWork(tx, by, Once{}, copyID, n.Work); err != nil {
			return err
		}
		return tx.Exec("UPDATE rehearsals SET copy_id = ?, child_id = ? WHERE work_id = ?", copyID, child, work).Error
	})
	return copyID, child, err
}

// ForgetCopy takes the copy of a rehearsal out of the ledger, and the pair that was made for it: both are gone.
func (s *Store) ForgetCopy(ctx context.Context, work int64) error {
	return s.tx(ctx, func(tx *gorm.DB) error {
		var r struct {
			KeyID, CopyID     int64
			Name, Fingerprint string
		}
		if err := tx.Raw(`SELECT coalesce(r.key_id, 0) AS key_id, coalesce(r.copy_id, 0) AS copy_id, coalesce(k.name, '') AS name,
			coalesce(k.fingerprint, '') AS fingerprint FROM rehearsals r LEFT JOIN keys k ON k.id = r.key_id WHERE r.work_id = ? FOR UPDATE OF r`,
			work).Scan(&r).Error; err != nil {
			return err
		}
		if r.KeyID != 0 {
			if _, err := (entry{Service, "key.forget", "key " + r.Name, "forget " + r.Fingerprint, fmt.Sprintf("the rehearsal by work %d is over",
				work), 0}).write(tx); err != nil {
				return err
			}
		}
		for _, sql := range []string{
			"DELETE FROM evidence WHERE access_id IN (SELECT id FROM access WHERE key_id = @key OR instance_id = @copy)",
			"DELETE FROM access WHERE key_id = @key OR instance_id = @copy",
			"DELETE FROM former_access WHERE key_id = @key OR instance_id = @copy",
			"DELETE FROM challenges WHERE key_id = @key",
			"DELETE FROM steward_keys WHERE instance_id = @copy",
			"DELETE FROM steward_next WHERE instance_id = @copy",
			"UPDATE addresses SET until = clock_timestamp() WHERE instance_id = @copy AND until IS NULL",
			"UPDATE instances SET phase = 'removed', state = 'removed' WHERE id = @copy AND phase = 'rehearsal'",
			"DELETE FROM keys WHERE id = @key",
		} {
			if err := tx.Exec(sql, map[string]any{"key": r.KeyID, "copy": r.CopyID}).Error; err != nil {
				return err
			}
		}
		return tx.Exec("DELETE FROM work_keys WHERE work_id = ?", work).Error
	})
}

// EndRehearsal says what a rehearsal came to.
func (s *Store) EndRehearsal(ctx context.Context, work int64, good bool, in, down float64, said string) error {
	return s.tx(ctx, func(tx *gorm.DB) error {
		return tx.Exec(`UPDATE rehearsals SET ended_at = clock_timestamp(), good = ?, in_seconds = ?, down_seconds = ?, said = ?
			WHERE work_id = ?`, good, in, down, said, work).Error
	})
}

// RehearsalsDue returns instances, with a tag if one is given, of which no rehearsal began within a time, and that run and have no
// changing work at hand, at most limit, those never rehearsed first; and what the rehearsals of this month cost so far, at most.
// While one is at hand none is due.
func (s *Store) RehearsalsDue(ctx context.Context, every time.Duration, tag string, limit int) (due []int64, spent float64, err error) {
	var l list
	l.filter("i.phase = 'ready' AND i.state = 'running' AND NOT i.adopted AND NOT i.desktop AND i.vanished_at IS NULL")
	filterTag(&l, tag)
	l.filter("NOT EXISTS (SELECT 1 FROM rehearsals r WHERE r.instance_id = i.id AND r.began_at > clock_timestamp() - make_interval(secs => ?))",
		every.Seconds())
	l.filter("NOT EXISTS (SELECT 1 FROM work w WHERE w.instance_id = i.id AND w.holding)")
	l.filter("NOT EXISTS (SELECT 1 FROM work w WHERE w.kind = 'rehearse' AND w.state IN ('queued', 'running', 'waiting'))")
	db := s.db.WithContext(ctx)
	if err := db.Raw("SELECT i.id FROM instances i WHERE "+strings.Join(l.where, " AND ")+` ORDER BY (SELECT max(r.began_at) FROM rehearsals r
		WHERE r.instance_id = i.id) NULLS FIRST, i.id LIMIT ?`, append(l.args, limit)...).Scan(&due).Error; err != nil {
		return nil, 0, err
	}
	err = db.Raw("SELECT coalesce(sum(price), 0) FROM rehearsals WHERE began_at >= date_trunc('month', clock_timestamp())").Scan(&spent).Error
	return due, spent, err
}

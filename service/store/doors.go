package store

import (
	"bytes"
	"context"
	"slices"
	"strings"
	"time"

	"gorm.io/gorm"

	"plumlatch/core/keypair"
)

// Admission is an inbound rule that was asked for here.
type Admission struct {
	ID         int64
	InstanceID int64
	WorkID     int64
	GroupID    string
	RuleID     string
	Range      string
	Me         bool
	Operator   string
	Reason     string
	AdmittedAt time.Time
	Until      *time.Time
	EndedAt    *time.Time
	EndedBy    string
}

const admissionColumns = "SELECT id, instance_id, work_id, group_id, rule_id, range, me, operator, reason, " +
	"admitted_at, until, ended_at, ended_by FROM admissions"

// Admit records an admission. One that stands for the same range of the same
// group is taken over: its end is the new one, and the new work keeps it.
func (s *Store) Admit(ctx context.Context, a Admission) error {
	return s.tx(ctx, func(tx *gorm.DB) error {
		return tx.Exec(`INSERT INTO admissions (instance_id, work_id, group_id, rule_id, range, me, operator, reason,
			until) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?)
			ON CONFLICT (group_id, range) WHERE ended_at IS NULL DO UPDATE
			SET work_id = excluded.work_id, rule_id = excluded.rule_id, me = excluded.me,
			operator = excluded.operator, reason = excluded.reason, until = excluded.until,
			admitted_at = clock_timestamp()`,
			a.InstanceID, a.WorkID, a.GroupID, a.RuleID, a.Range, a.Me, a.Operator, a.Reason, a.Until).Error
	})
}

// Admissions returns the standing admissions of groups.
func (s *Store) Admissions(ctx context.Context, groups []string) ([]Admission, error) {
	out := []Admission{}
	if len(groups) == 0 {
		return out, nil
	}
	err := s.db.WithContext(ctx).Raw(admissionColumns+" WHERE group_id IN ? AND ended_at IS NULL ORDER BY id",
		groups).Scan(&out).Error
	return out, err
}

// AdmissionsOf returns the standing admissions that a piece of work keeps.
func (s *Store) AdmissionsOf(ctx context.Context, workID int64) ([]Admission, error) {
	out := []Admission{}
	err := s.db.WithContext(ctx).Raw(admissionColumns+" WHERE work_id = ? AND ended_at IS NULL ORDER BY id",
		workID).Scan(&out).Error
	return out, err
}

// EndAdmission ends what stands for a rule, and wakes the work that keeps it.
func (s *Store) EndAdmission(ctx context.Context, groupID, ruleID, by string) error {
	return s.tx(ctx, func(tx *gorm.DB) error {
		var kept []struct{ WorkID int64 }
		if err := tx.Raw("UPDATE admissions SET ended_at = clock_timestamp(), ended_by = ? WHERE group_id = ? AND "+
			"rule_id = ? AND ended_at IS NULL RETURNING work_id",
			by, groupID, ruleID).Scan(&kept).Error; err != nil {
			return err
		}
		for _, k := range kept {
			if err := tx.Exec("UPDATE work SET wake_at = clock_timestamp() WHERE id = ? AND state = 'waiting'",
				k.WorkID).Error; err != nil {
				return err
			}
		}
		return nil
	})
}

// Unkept returns the standing admissions whose end has come, though no piece of work is at
// hand that would withdraw them. It happens when work goes back: it puts a rule back that
// had an end, and whoever kept that end had seen it withdrawn, and was done.
func (s *Store) Unkept(ctx context.Context) ([]Admission, error) {
	out := []Admission{}
	err := s.db.WithContext(ctx).Raw(admissionColumns + ` a WHERE ended_at IS NULL AND until < statement_timestamp()
		AND NOT EXISTS (SELECT 1 FROM work w WHERE w.id = a.work_id AND w.state IN ('queued', 'running', 'waiting'))
		ORDER BY id LIMIT 100`).Scan(&out).Error
	return out, err
}

// EndUnkept ends an admission that Unkept returned, if it still stands for the same rule.
func (s *Store) EndUnkept(ctx context.Context, a Admission) error {
	return s.tx(ctx, func(tx *gorm.DB) error {
		var names []string
		err := tx.Raw(`UPDATE admissions SET ended_at = clock_timestamp(), ended_by = 'the end of its time'
			WHERE id = ? AND rule_id = ? AND ended_at IS NULL
			RETURNING (SELECT i.name FROM instances i WHERE i.id = admissions.instance_id)`, a.ID,
			a.RuleID).Scan(&names).Error
		if err != nil || len(names) == 0 {
			return err
		}
		_, err = entry{Service, "instance.unadmit", "instance " + names[0], "withdraw " + a.Range + " at its end",
			"withdrawn; the work that kept its end was over before", 0}.write(tx)
		return err
	})
}

// HostKeyOffered is a host key that an operator took for an instance.
type HostKeyOffered struct {
	Key    keypair.Public
	Source string
}

// ReplaceHostKeys puts a host key in the place of those recorded, which stay on
// record as replaced. What was known of the instance's doors is old from now on.
func (s *Store) ReplaceHostKeys(ctx context.Context, by Actor, i Instance, n HostKeyOffered) error {
	return s.tx(ctx, func(tx *gorm.DB) error {
		if err := tx.Exec("UPDATE host_keys SET replaced_at = clock_timestamp(), replaced_by = ? WHERE instance_id "+
			"= ? AND replaced_at IS NULL", by.Operator, i.ID).Error; err != nil {
			return err
		}
		if err := tx.Exec(`INSERT INTO host_keys (instance_id, blob, type, fingerprint, source) VALUES (?, ?, ?, ?, ?)
			ON CONFLICT (instance_id, blob) DO UPDATE
			SET replaced_at = NULL, replaced_by = '', doubtful_at = NULL, doubtful_why = '', source = excluded.source,
			recorded_at = clock_timestamp()`,
			i.ID, raw(n.Key.Blob), n.Key.Type(), n.Key.Fingerprint(), n.Source).Error; err != nil {
			return err
		}
		if err := tx.Exec("UPDATE instances SET changed_at = clock_timestamp(), trouble = '', trouble_code = '', "+
			"host_keys_read = true WHERE id = ?", i.ID).Error; err != nil {
			return err
		}
		if err := settleInstance(tx, i.ID); err != nil {
			return err
		}
		_, err := entry{by, "host-key.accept", "instance " + i.Name, "take " + n.Key.Fingerprint() +
			" in the place of what is recorded", n.Source, 0}.write(tx)
		return err
	})
}

// ClaimedHostKey is the source of a host key that the boot output vouches for, to which others may write: a
// claim, until the machine itself has shown its keys (OwnHostKeys).
const ClaimedHostKey = "the boot output, a claim, and fetched"

// OwnHostKeys keeps host keys that were read from a machine's own disk, or that it printed itself. Where
// none is recorded, or claims alone, they are recorded, and a claim that they do not bear out is replaced; else
// nothing is changed. differ means that none of them is among those that were recorded, and known better.
func (s *Store) OwnHostKeys(ctx context.Context, i Instance, all []keypair.Public, source string) (differ bool, err error) {
	err = s.tx(ctx, func(tx *gorm.DB) error {
		differ = false
		var now []struct {
			Blob   []byte
			Source string
		}
		if err := tx.Raw("SELECT blob, source FROM host_keys WHERE instance_id = ? AND replaced_at IS NULL FOR UPDATE",
			i.ID).Scan(&now).Error; err != nil {
			return err
		}
		same, known := false, false
		for _, h := range now {
			known = known || h.Source != ClaimedHostKey
			same = same || slices.ContainsFunc(all, func(p keypair.Public) bool { return bytes.Equal(p.Blob, h.Blob) })
		}
		if known {
			differ = !same
			return nil
		}
		var prints []string
		if err := tx.Exec("UPDATE host_keys SET replaced_at = clock_timestamp(), replaced_by = 'the machine itself' "+
			"WHERE instance_id = ? AND replaced_at IS NULL", i.ID).Error; err != nil {
			return err
		}
		for _, p := range all {
			if err := tx.Exec(`INSERT INTO host_keys (instance_id, blob, type, fingerprint, source) VALUES (?, ?, ?, ?, ?)
				ON CONFLICT (instance_id, blob) DO UPDATE SET replaced_at = NULL, replaced_by = '',
				source = excluded.source, recorded_at = clock_timestamp()`,
				i.ID, raw(p.Blob), p.Type(), p.Fingerprint(), source).Error; err != nil {
				return err
			}
			prints = append(prints, p.Fingerprint())
		}
		if err := tx.Exec("UPDATE instances SET changed_at = clock_timestamp(), trouble = '', trouble_code = '', "+
			"host_keys_read = true WHERE id = ?", i.ID).Error; err != nil {
			return err
		}
		if err := settleInstance(tx, i.ID); err != nil {
			return err
		}
		_, err := entry{Service, "host-key.record", "instance " + i.Name, "record " + strings.Join(prints, ", "),
			source, 0}.write(tx)
		return err
	})
	return differ, err
}

// DoubtHostKeys says that whoever had a key may have read the private halves of
// the host keys of these instances.
func (s *Store) DoubtHostKeys(ctx context.Context, ids []int64, why string) error {
	return s.tx(ctx, func(tx *gorm.DB) error {
		return tx.Exec("UPDATE host_keys SET doubtful_at = clock_timestamp(), doubtful_why = ? WHERE instance_id "+
			"IN ? AND replaced_at IS NULL AND doubtful_at IS NULL", why, append([]int64{0}, ids...)).Error
	})
}

// HostKeyDoubt says why somebody else may have an instance's host key; "" if nobody may.
func (s *Store) HostKeyDoubt(ctx context.Context, instanceID int64) (string, error) {
	r, err := one[struct{ Why string }](ctx, s,
		"SELECT coalesce(max(doubtful_why), '') AS why FROM host_keys WHERE instance_id = ? AND replaced_at IS "+
			"NULL AND doubtful_at IS NOT NULL", instanceID)
	return r.Why, err
}

// FormerHostKeys returns the host keys of an instance that were replaced, the last first.
func (s *Store) FormerHostKeys(ctx context.Context, instanceID int64) ([]HostKey, error) {
	out := []HostKey{}
	err := s.db.WithContext(ctx).Raw(`SELECT blob, type, fingerprint, source, recorded_at, replaced_at, replaced_by
		FROM host_keys
		WHERE instance_id = ? AND replaced_at IS NOT NULL ORDER BY replaced_at DESC LIMIT 20`,
		instanceID).Scan(&out).Error
	return out, err
}

// Followed records what the cloud says now of an instance at rest, if that is
// something else than what is recorded, and tells whether it was. An instance
// that a piece of work holds is left to it.
func (s *Store) Followed(ctx context.Context, by Actor, i Instance, state, address string, port int,
	static bool) (changed bool, err error) {
	err = s.tx(ctx, func(tx *gorm.DB) error {
		changed = false
		var now []struct {
			Address, State string
			Port           int
		}
		if err := tx.Raw(`SELECT address, state, port FROM instances i WHERE id = ? AND phase = 'ready'
			AND NOT EXISTS (SELECT 1 FROM work w WHERE w.instance_id = i.id AND w.holding) FOR UPDATE`,
			i.ID).Scan(&now).Error; err != nil || len(now) == 0 {
			return err
		}
		if now[0].Address == address && now[0].State == state && now[0].Port == port {
			return nil
		}
		changed = true
		if err := noteAddress(tx, i.ID, now[0].Address, address, static); err != nil {
			return err
		}
		if err := tx.Exec(`UPDATE instances SET state = ?, port = ?, changed_at = CASE
			WHEN address <> ? THEN clock_timestamp() ELSE changed_at END, address = ? WHERE id = ?`,
			state, port, address, address, i.ID).Error; err != nil {
			return err
		}
		if now[0].Address != address {
			if err := settleInstance(tx, i.ID); err != nil {
				return err
			}
		}
		_, err := entry{by, "instance.refresh", "instance " + i.Name, "take down what the cloud says",
			state + " at " + orNone(address) + ", before " + now[0].State + " at " + orNone(now[0].Address),
			0}.write(tx)
		return err
	})
	return changed, err
}

func orNone(address string) string {
	if address == "" {
		return "no address"
	}
	return address
}

// noteAddress keeps the history of an instance's addresses.
func noteAddress(tx *gorm.DB, id int64, before, address string, static bool) error {
	if before == address {
		return tx.Exec("UPDATE addresses SET static = ? WHERE instance_id = ? AND until IS NULL AND static <> ?",
			static, id, static).Error
	}
	if err := tx.Exec("UPDATE addresses SET until = clock_timestamp() WHERE instance_id = ? AND until IS NULL",
		id).Error; err != nil || address == "" {
		return err
	}
	return tx.Exec("INSERT INTO addresses (instance_id, address, static) VALUES (?, ?, ?)", id, address, static).Error
}

// SetTrouble records what is wrong with an instance at rest, in words, "" for nothing, and
// by its code, if it is one that anything is decided by.
func (s *Store) SetTrouble(ctx context.Context, id int64, code, trouble string) error {
	return s.tx(ctx, func(tx *gorm.DB) error {
		return tx.Exec("UPDATE instances SET trouble = ?, trouble_code = ? WHERE id = ? AND phase = 'ready'",
			trouble, code, id).Error
	})
}

// InstancesOf returns the instances, not removed, that a cloud calls by these names.
func (s *Store) InstancesOf(ctx context.Context, cloud string, cloudIDs []string) ([]Instance, error) {
	out := []Instance{}
	if len(cloudIDs) == 0 {
		return out, nil
	}
	err := s.db.WithContext(ctx).Raw(instanceColumns+
		" WHERE i.cloud = ? AND i.cloud_id IN ? AND i.phase <> 'removed' ORDER BY i.name_fold", cloud,
		cloudIDs).Scan(&out).Error
	return out, err
}

// InstanceNames returns the names of all instances that are not removed, at most limit.
func (s *Store) InstanceNames(ctx context.Context, limit int) ([]string, error) {
	var rows []struct{ Name string }
	err := s.db.WithContext(ctx).Raw("SELECT name FROM instances WHERE phase NOT IN ('removed', 'rehearsal') ORDER BY name_fold LIMIT ?",
		limit).Scan(&rows).Error
	var out []string
	for _, r := range rows {
		out = append(out, r.Name)
	}
	return out, err
}

// BeginWork begins a piece of work about an instance that leaves its phase
// alone. ErrInProgress if it would change the instance and another does;
// Replayed or ErrReused by once.
func (s *Store) BeginWork(ctx context.Context, by Actor, once Once, instanceID int64, n NewWork) (Work, error) {
	var id int64
	err := s.tx(ctx, func(tx *gorm.DB) (err error) {
		id, err = addWork(tx, by, once, instanceID, n)
		return err
	})
	if err != nil {
		return Work{}, err
	}
	return s.WorkByID(ctx, id)
}

// BeginAlone begins work, unless work of its kind is at hand: that is returned then, and began is false.
func (s *Store) BeginAlone(ctx context.Context, by Actor, n NewWork) (w Work, began bool, err error) {
	var id int64
	err = s.tx(ctx, func(tx *gorm.DB) error {
		id, began = 0, false
		if err := tx.Exec("SELECT pg_advisory_xact_lock(hashtextextended(?, 0))", n.Kind).Error; err != nil {
			return err
		}
		if err := tx.Raw(`SELECT coalesce(max(id), 0) FROM work WHERE kind = ? AND state IN ('queued', 'running', 'waiting')`,
			n.Kind).Scan(&id).Error; err != nil || id != 0 {
			return err
		}
		var err error
		id, err = addWork(tx, by, Once{}, 0, n)
		began = err == nil
		return err
	})
	if err != nil {
		return Work{}, false, err
	}
	w, err = s.WorkByID(ctx, id)
	return w, began, err
}

// Readmitted says that a rule that was withdrawn stands again, under another name.
func (s *Store) Readmitted(ctx context.Context, groupID, ruleID, newID string) error {
	return s.tx(ctx, func(tx *gorm.DB) error {
		return tx.Exec(`UPDATE admissions SET ended_at = NULL, ended_by = '', rule_id = ? WHERE id = (
			SELECT max(id) FROM admissions WHERE group_id = ? AND rule_id = ? AND ended_at IS NOT NULL)
			AND NOT EXISTS (SELECT 1 FROM admissions s
			WHERE s.group_id = admissions.group_id AND s.range = admissions.range AND s.ended_at IS NULL)`, newID,
			groupID, ruleID).Error
	})
}

// WorkAge returns how long ago a piece of work was begun, by the database's clock.
func (s *Store) WorkAge(ctx context.Context, id int64) (time.Duration, error) {
	r, err := one[struct{ Seconds float64 }](ctx, s,
		"SELECT extract(epoch FROM clock_timestamp() - created_at)::float8 AS seconds FROM work WHERE id = ?", id)
	return time.Duration(r.Seconds * float64(time.Second)), err
}

// HostKeysOf returns the recorded host keys of many instances, by their ID.
func (s *Store) HostKeysOf(ctx context.Context, all []Instance) (map[int64][]HostKey, error) {
	out := map[int64][]HostKey{}
	var ids []int64
	for _, i := range all {
		ids = append(ids, i.ID)
	}
	if len(ids) == 0 {
		return out, nil
	}
	var rows []struct {
		InstanceID int64
		HostKey    `gorm:"embedded"`
	}
	err := s.db.WithContext(ctx).Raw("SELECT instance_id, blob, type, fingerprint, source, recorded_at FROM "+
		"host_keys WHERE instance_id IN ? AND replaced_at IS NULL ORDER BY type", ids).Scan(&rows).Error
	for _, r := range rows {
		out[r.InstanceID] = append(out[r.InstanceID], r.HostKey)
	}
	return out, err
}

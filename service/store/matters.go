package store

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"

	"gorm.io/gorm"

	"plumlatch/core/access"
	"plumlatch/core/authkeys"
	"plumlatch/core/keypair"
	"plumlatch/core/times"
	"plumlatch/core/wire"
)

// judgeLock lets one replica judge at a time: two that read at different times
// would write over each other.
const judgeLock = 7461657

// judgeAtOnce is how many changes are judged in one transaction.
const judgeAtOnce = 500

// Judge judges what has changed, and what time has changed, a bounded part of
// it, and tells whether there is more.
func (s *Store) Judge(ctx context.Context, p access.Policy) (more bool, err error) {
	err = s.tx(ctx, func(tx *gorm.DB) error {
		if err := tx.Exec("SELECT pg_advisory_xact_lock(?)", judgeLock).Error; err != nil {
			return err
		}
		var taken []struct{ InstanceID, KeyID *int64 }
		if err := tx.Raw("DELETE FROM to_judge WHERE id IN (SELECT id FROM to_judge ORDER BY id LIMIT ?) RETURNING "+
			"instance_id, key_id", judgeAtOnce).Scan(&taken).Error; err != nil {
			return err
		}
		var due []struct{ Source string }
		if err := tx.Raw("DELETE FROM judge_again WHERE source IN (SELECT source FROM judge_again WHERE at < "+
			"statement_timestamp() LIMIT ?) RETURNING source", judgeAtOnce).Scan(&due).Error; err != nil {
			return err
		}
		more = len(taken) == judgeAtOnce || len(due) == judgeAtOnce
		var instances, keys []int64
		for _, t := range taken {
			if t.InstanceID != nil {
				instances = append(instances, *t.InstanceID)
			}
			if t.KeyID != nil {
				keys = append(keys, *t.KeyID)
			}
		}
		for _, d := range due {
			var id int64
			if _, err := fmt.Sscanf(d.Source, "instance %d", &id); err == nil {
				instances = append(instances, id)
			}
		}
		j := &judged{}
		if len(instances) > 0 {
			slices.Sort(instances)
			if err := judgeInstances(tx, p, slices.Compact(instances), j); err != nil {
				return err
			}
		}
		if len(keys) > 0 {
			slices.Sort(keys)
			if err := judgeKeys(tx, p, slices.Compact(keys), j); err != nil {
				return err
			}
		}
		return j.keep(tx)
	})
	return more, err
}

// JudgeRest judges what stands for itself: the journal, and what the clouds
// have besides.
func (s *Store) JudgeRest(ctx context.Context, p access.Policy) error {
	return s.tx(ctx, func(tx *gorm.DB) error {
		if err := tx.Exec("SELECT pg_advisory_xact_lock(?)", judgeLock).Error; err != nil {
			return err
		}
		var j judged
		var checks []struct {
			At     time.Time
			Breaks string
		}
		// The newest look that settles, or the first after it that found a break.
		if err := tx.Raw(`WITH settled AS (SELECT coalesce(max(id), 0) AS id FROM journal_checks
			WHERE by_service AND role <> 'viewer' AND breaks = '[]'),
			open AS (SELECT c.id FROM journal_checks c, settled s WHERE c.id > s.id AND c.breaks <> '[]'
			ORDER BY c.id DESC LIMIT 1)
			SELECT at, breaks::text AS breaks FROM journal_checks
			WHERE id = coalesce((SELECT id FROM open), (SELECT id FROM settled))`).Scan(&checks).Error; err != nil {
			return err
		}
		var began struct {
			At  *time.Time
			Now time.Time
		}
		if err := tx.Raw("SELECT (SELECT at FROM journal ORDER BY id LIMIT 1) AS at, clock_timestamp() AS now").Scan(&began).Error; err != nil {
			return err
		}
		if began.At != nil {
			var last time.Time
			var breaks []string
			if len(checks) == 1 {
				last = checks[0].At
				if err := json.Unmarshal([]byte(checks[0].Breaks), &breaks); err != nil {
					return err
				}
			}
			matters, _ := p.JudgeJournal(last, len(breaks), *began.At, began.Now)
			j.add("journal", "", matters, time.Time{})
		}
		var found []struct {
			CloudID, Name, Region, KeyLabel string
			Tags                            Tags `gorm:"type:jsonb"`
		}
		if err := tx.Raw("SELECT cloud_id, name, region, key_label, tags FROM discovered ORDER BY cloud, cloud_id LIMIT 1000").Scan(&found).Error; err != nil {
			return err
		}
		j.sources = append(j.sources, "clouds")
		for _, f := range found {
			matters := p.JudgeDiscovered(f.CloudID, f.Name, f.Region, f.KeyLabel, f.Tags)
			for n := range matters {
				matters[n].About = f.CloudID
			}
			j.add("clouds", f.Region, matters, time.Time{})
		}
		full, err := fullKeyLists(tx)
		if err != nil {
			return err
		}
		for _, l := range full {
			matters := p.JudgeKeyList(l.Region, l.Used, l.Most)
			for n := range matters {
				matters[n].About = l.Region
			}
			j.add("clouds", l.Region, matters, time.Time{})
		}
		return j.keep(tx)
	})
}

// judged gathers what a judging came to.
type judged struct {
	sources []string
	rows    []matterRow
	again   map[string]time.Time
}

type matterRow struct {
	Source, Subject, Reason, About, Place, Sentence, Evidence, Command, Instance, Key, Region string
	Rank                                                                                      int
}

func (j *judged) add(source, region string, matters []access.Matter, again time.Time) {
	j.sources = append(j.sources, source)
	for _, m := range matters {
		j.rows = append(j.rows, matterRow{Source: source, Subject: m.Subject, Reason: string(m.Reason),
			About: m.About, Place: fmt.Sprintf("%03d %s", m.Reason.Rank(), m.Subject),
			Sentence: m.Sentence, Evidence: m.Evidence, Command: m.Command, Instance: m.Instance, Key: m.Key,
			Region: region, Rank: m.Reason.Rank()})
	}
	if !again.IsZero() {
		if j.again == nil {
			j.again = map[string]time.Time{}
		}
		j.again[source] = again
	}
}

// keep writes what changed: matters that are new or say something else, and
// takes away those that are no more. What was put off stays so.
func (j *judged) keep(tx *gorm.DB) error {
	if len(j.sources) == 0 {
		return nil
	}
	sources, err := json.Marshal(j.sources)
	if err != nil {
		return err
	}
	rows, err := json.Marshal(append([]matterRow{}, j.rows...))
	if err != nil {
		return err
	}
	const given = `jsonb_to_recordset(?::jsonb) AS n("Source" text, "Subject" text, "Reason" text, "About" text, "Rank" integer, "Place" text, "Sentence" text, "Evidence" text, "Command" text, "Instance" text, "Key" text, "Region" text)`
	if err := tx.Exec(`DELETE FROM matters m WHERE m.source IN (SELECT jsonb_array_elements_text(?::jsonb))
		AND NOT EXISTS (SELECT 1 FROM `+given+` WHERE n."Source" = m.source AND n."Reason" = m.reason
			AND n."About" = m.about)`, string(sources), string(rows)).Error; err != nil {
		return err
	}
	if len(j.rows) > 0 {
		if err := tx.Exec(`INSERT INTO matters AS m (source, subject, reason, about, rank, place, sentence, evidence,
			command, instance, key, region)
			SELECT DISTINCT ON (n."Source", n."Reason", n."About") n."Source", n."Subject", n."Reason", n."About",
			n."Rank", n."Place", n."Sentence", n."Evidence", n."Command", n."Instance", n."Key", n."Region" FROM `+
			given+`
			ON CONFLICT (source, reason, about) DO UPDATE
			SET subject = excluded.subject, rank = excluded.rank, place = excluded.place,
			sentence = excluded.sentence, evidence = excluded.evidence,
				command = excluded.command, instance = excluded.instance, key = excluded.key, region = excluded.region
			WHERE (m.subject, m.sentence, m.evidence, m.command) IS DISTINCT
			FROM (excluded.subject, excluded.sentence, excluded.evidence, excluded.command)`,
			string(rows)).Error; err != nil {
			return err
		}
	}
	if err := tx.Exec("DELETE FROM judge_again WHERE source IN (SELECT jsonb_array_elements_text(?::jsonb))",
		string(sources)).Error; err != nil || len(j.again) == 0 {
		return err
	}
	again, err := json.Marshal(j.again)
	if err != nil {
		return err
	}
	return tx.Exec("INSERT INTO judge_again (source, at) SELECT key, value::timestamptz FROM "+
		"jsonb_each_text(?::jsonb)", string(again)).Error
}

// outsideReport is what judging needs of what a survey from outside kept.
type outsideReport struct {
	Methods []wire.UserMethods `json:"methods"`
	World   string             `json:"world"`
	Answers []wire.KeyAnswer   `json:"answers"`
}

// settingsReport is what a look at a server's settings kept.
type settingsReport struct {
	Doors  []wire.OtherDoor `json:"doors"`
	Config []string         `json:"config"`
}

func judgeInstances(tx *gorm.DB, p access.Policy, ids []int64, j *judged) error {
	doors, rows, err := doorsOf(tx, ids)
	if err != nil {
		return err
	}
	for _, r := range rows {
		source := fmt.Sprintf("instance %d", r.ID)
		if r.Phase == "removed" || r.Phase == "failed" || r.Phase == "launching" || r.Phase == "adopting" || r.Phase == string(Rehearsing) {
			j.add(source, r.Region, nil, time.Time{})
			continue
		}
		matters, again := p.Judge(*doors[r.ID], r.Now)
		j.add(source, r.Region, matters, again)
	}
	return nil
}

// doorRow is an instance, as doorsOf reads it.
type doorRow struct {
	ID                                              int64
	Name, LoginUser, Address, Phase, State, Trouble string
	TroubleCode                                     string
	KeyLabel, Region                                string
	Adopted, Desktop                                bool
	VanishedAt, WaysBackAt                          *time.Time
	CreatedAt, Now                                  time.Time
	NoWayBack                                       bool
}

// doorsOf reads all that is known of some instances, in ten statements.
func doorsOf(tx *gorm.DB, ids []int64) (map[int64]*access.Door, []doorRow, error) {
	var rows []doorRow
	if err := tx.Raw("SELECT id, name, login_user, address, phase, state, trouble, trouble_code, key_label, "+
		"region, adopted, desktop, vanished_at, created_at, coalesce(ways_back = '[]', false) AS no_way_back, ways_back_at, "+
		"clock_timestamp() AS now FROM instances WHERE id IN ? ORDER BY name_fold", ids).Scan(&rows).Error; err != nil {
		return nil, nil, err
	}
	doors := map[int64]*access.Door{}
	for _, r := range rows {
		doors[r.ID] = &access.Door{Name: r.Name, LoginUser: r.LoginUser, Address: r.Address,
			Running: r.Phase == "ready" && r.State == "running", Adopted: r.Adopted, Desktop: r.Desktop,
			Vanished: r.VanishedAt != nil, Trouble: r.Trouble, TroubleCode: r.TroubleCode, CreatedAt: r.CreatedAt,
			Label: r.KeyLabel, NoWayBack: r.NoWayBack, WaysBackAt: timeOf(r.WaysBackAt)}
	}
	if err := doorKeys(tx, ids, doors); err != nil {
		return nil, nil, err
	}
	if err := doorLooks(tx, ids, doors); err != nil {
		return nil, nil, err
	}
	var shared []struct {
		InstanceID int64
		Name       string
	}
	if err := tx.Raw(`SELECT DISTINCT h.instance_id, i.name FROM host_keys h
		JOIN host_keys o ON o.fingerprint = h.fingerprint AND o.instance_id <> h.instance_id AND o.replaced_at IS NULL
		JOIN instances i ON i.id = o.instance_id AND i.phase NOT IN ('removed', 'failed', 'rehearsal')
		WHERE h.instance_id IN ? AND h.replaced_at IS NULL ORDER BY i.name LIMIT 5000`,
		ids).Scan(&shared).Error; err != nil {
		return nil, nil, err
	}
	var doubts []struct {
		InstanceID int64
		Why        string
	}
	if err := tx.Raw("SELECT instance_id, max(doubtful_why) AS why FROM host_keys WHERE instance_id IN ? AND "+
		"replaced_at IS NULL AND doubtful_at IS NOT NULL GROUP BY instance_id", ids).Scan(&doubts).Error; err != nil {
		return nil, nil, err
	}
	for _, d := range doubts {
		doors[d.InstanceID].HostKeyDoubt = d.Why
	}
	var were []struct {
		InstanceID int64
		Name       string
	}
	if err := tx.Raw(`SELECT DISTINCT f.instance_id, n.name FROM former_access f JOIN keys k ON k.id = f.key_id
		JOIN instances i ON i.id = f.instance_id AND i.key_label <> ''
		CROSS JOIN LATERAL (SELECT k.name_fold AS name UNION ALL SELECT jsonb_array_elements_text(k.former_names)) n
		WHERE f.instance_id IN ?`, ids).Scan(&were).Error; err != nil {
		return nil, nil, err
	}
	for _, w := range were {
		doors[w.InstanceID].WereHere = append(doors[w.InstanceID].WereHere, w.Name)
	}
	var asked []struct {
		InstanceID, ID int64
		Operator, Name string
	}
	if err := tx.Raw(`SELECT w.instance_id, w.id, w.operator, coalesce(k.name, '') AS name FROM work w
		LEFT JOIN keys k ON k.id = w.new_key_id WHERE w.instance_id IN ? AND w.kind = 'restore-second-key'
		AND w.state = 'waiting' AND w.waits_code = 'hands' ORDER BY w.id`, ids).Scan(&asked).Error; err != nil {
		return nil, nil, err
	}
	for _, a := range asked {
		doors[a.InstanceID].Asked = append(doors[a.InstanceID].Asked, access.Ask{Work: a.ID, By: a.Operator, New: a.Name})
	}
	var open []struct {
		InstanceID, ID int64
		Operator       string
		BegunAt        time.Time
	}
	if err := tx.Raw("SELECT instance_id, id, operator, begun_at FROM streams WHERE instance_id IN ? AND ended_at IS NULL ORDER BY id LIMIT 5000", ids).Scan(&open).Error; err != nil {
		return nil, nil, err
	}
	for _, s := range open {
		doors[s.InstanceID].Streams = append(doors[s.InstanceID].Streams, access.OpenStream{ID: s.ID, Operator: s.Operator, Begun: s.BegunAt})
	}
	var lent []struct {
		InstanceID      int64
		Fingerprint     string
		EndsAt, StaysAt time.Time
		Withdrawal      int64
	}
	if err := tx.Raw(`SELECT instance_id, fingerprint, ends_at, stays_at,
		coalesce((SELECT w.id FROM work w WHERE w.id = withdrawal_id AND w.state IN ('queued', 'running', 'waiting')), 0) AS withdrawal
		FROM lent_keys WHERE instance_id IN ? AND stays_at IS NOT NULL AND gone_at IS NULL ORDER BY id LIMIT 5000`, ids).Scan(&lent).Error; err != nil {
		return nil, nil, err
	}
	for _, l := range lent {
		doors[l.InstanceID].LentStays = append(doors[l.InstanceID].LentStays, access.Lent{Fingerprint: l.Fingerprint, Ended: l.EndsAt,
			At: l.StaysAt, Withdrawal: l.Withdrawal})
	}
	var kept []struct {
		InstanceID, WorkID int64
		CloudID            string
		Until              time.Time
		WeekPrice          float64
		Currency           string
	}
	if err := tx.Raw(`SELECT instance_id, work_id, cloud_id, until, week_price, currency FROM kept_machines
		WHERE instance_id IN ? AND asked_at IS NOT NULL AND gone_at IS NULL ORDER BY work_id LIMIT 1000`, ids).Scan(&kept).Error; err != nil {
		return nil, nil, err
	}
	for _, k := range kept {
		doors[k.InstanceID].Kept = append(doors[k.InstanceID].Kept, access.OldMachine{CloudID: k.CloudID, Work: k.WorkID, Until: k.Until,
			WeekPrice: k.WeekPrice, Currency: k.Currency})
	}
	var failed []struct {
		InstanceID, WorkID int64
		Route, Said        string
		EndedAt            time.Time
	}
	if err := tx.Raw(`SELECT r.instance_id, r.work_id, r.route, r.said, r.ended_at FROM rehearsals r WHERE r.instance_id IN ? AND NOT r.good
		AND r.ended_at IS NOT NULL AND NOT EXISTS (SELECT 1 FROM rehearsals o WHERE o.instance_id = r.instance_id AND o.route = r.route
			AND o.ended_at IS NOT NULL AND o.work_id > r.work_id) ORDER BY r.work_id LIMIT 5000`, ids).Scan(&failed).Error; err != nil {
		return nil, nil, err
	}
	for _, f := range failed {
		doors[f.InstanceID].Unrehearsed = append(doors[f.InstanceID].Unrehearsed, access.Rehearsal{Route: f.Route, Said: f.Said, Work: f.WorkID,
			At: f.EndedAt})
	}
	var uses []struct {
		InstanceID int64
		access.BadUse
	}
	if err := tx.Raw(`SELECT u.instance_id, coalesce(k.name, '') AS key, u.fingerprint, coalesce(k.state, '') AS state, u.login_user, u.last_at AS last,
		u.trusted FROM last_uses u LEFT JOIN keys k ON k.fingerprint = u.fingerprint WHERE u.instance_id IN ?
		AND (k.state IN ('lost', 'exposed') AND u.last_at > k.state_at
			OR k.id IS NULL AND u.last_at > clock_timestamp() - interval '30 days'
			AND EXISTS (SELECT FROM uses x WHERE (x.instance_id, x.login_user, x.fingerprint) = (u.instance_id, u.login_user, u.fingerprint)
				AND x.authority = '')
			AND NOT EXISTS (SELECT FROM steward_keys s WHERE s.instance_id = u.instance_id AND print_of(s.blob) = u.fingerprint)
			AND NOT EXISTS (SELECT FROM former_stewards s WHERE s.instance_id = u.instance_id AND s.fingerprint = u.fingerprint)
			AND NOT EXISTS (SELECT FROM lent_keys l WHERE l.instance_id = u.instance_id AND l.fingerprint = u.fingerprint))
		ORDER BY u.instance_id, u.fingerprint, u.login_user LIMIT 5000`, ids).Scan(&uses).Error; err != nil {
		return nil, nil, err
	}
	for _, u := range uses {
		doors[u.InstanceID].Uses = append(doors[u.InstanceID].Uses, u.BadUse)
	}
	if err := doorLogs(tx, ids, doors); err != nil {
		return nil, nil, err
	}
	var passwords []FirstPassword
	if err := tx.Raw(firstPasswordColumns+"WHERE p.instance_id IN ? AND p.changed_at IS NULL", ids).Scan(&passwords).Error; err != nil {
		return nil, nil, err
	}
	for _, p := range passwords {
		doors[p.InstanceID].First = &access.LaunchPassword{Key: p.Key, Fingerprint: p.Fingerprint, State: p.State}
	}
	for _, h := range shared {
		doors[h.InstanceID].SameHostKey = append(doors[h.InstanceID].SameHostKey, h.Name)
	}
	return doors, rows, nil
}

// newFor is for how long an address that no log had before is read: longer than any policy tells it, by good sense.
const newFor = "90 days"

// doorLogs reads what is known of instances' agents, what their own logs cover, and from where somebody came in for the first time. What the service itself did, and
// a key that the cloud lent, is nobody's.
func doorLogs(tx *gorm.DB, ids []int64, doors map[int64]*access.Door) error {
	var logs []struct {
		InstanceID int64
		Since      *time.Time
		ReadAt     time.Time
	}
	if err := tx.Raw("SELECT instance_id, since, read_at FROM login_logs WHERE instance_id IN ?", ids).Scan(&logs).Error; err != nil {
		return err
	}
	var agents []struct {
		InstanceID        int64
		EnrolledAt        time.Time
		SeenAt, RefusedAt *time.Time
		RefusedFrom       string
		Trusting          bool
	}
	if err := tx.Raw("SELECT instance_id, enrolled_at, seen_at, refused_at, refused_from, trust = 'service' AND trim(regexp_replace(verbs, '\\m(look|stream)\\M', '', 'g')) <> '' AS trusting FROM agents "+
		"WHERE instance_id IN ?", ids).Scan(&agents).Error; err != nil {
		return err
	}
	for _, a := range agents {
		doors[a.InstanceID].Agent = &access.ResidentAgent{EnrolledAt: a.EnrolledAt, SeenAt: timeOf(a.SeenAt), Trusting: a.Trusting, RefusedAt: timeOf(a.RefusedAt),
			RefusedFrom: a.RefusedFrom}
	}
	for _, l := range logs {
		doors[l.InstanceID].LogSince, doors[l.InstanceID].LogRead = timeOf(l.Since), l.ReadAt
	}
	var fresh []struct {
		InstanceID int64
		access.NewUse
	}
	err := tx.Raw(`SELECT u.instance_id, host(u.address) AS address, u.login_user, u.method, coalesce(k.name, '') AS key, u.fingerprint,
		u.first_at AS first, u.trusted FROM uses u LEFT JOIN keys k ON k.fingerprint = u.fingerprint AND u.fingerprint <> ''
		WHERE u.instance_id IN ? AND u.first_at > clock_timestamp() - interval '`+newFor+`'
		AND NOT EXISTS (SELECT FROM uses x WHERE x.address = u.address AND (x.first_at, x.instance_id, x.login_user, x.fingerprint, x.method,
			x.authority) < (u.first_at, u.instance_id, u.login_user, u.fingerprint, u.method, u.authority))
		AND NOT EXISTS (SELECT FROM steward_keys s WHERE s.instance_id = u.instance_id AND print_of(s.blob) = u.fingerprint)
		AND NOT EXISTS (SELECT FROM former_stewards s WHERE s.instance_id = u.instance_id AND s.fingerprint = u.fingerprint)
		AND NOT EXISTS (SELECT FROM lent_keys l WHERE l.instance_id = u.instance_id AND l.fingerprint = u.fingerprint)
		ORDER BY u.instance_id, u.address, u.trusted LIMIT 5000`, ids).Scan(&fresh).Error
	for _, f := range fresh {
		doors[f.InstanceID].NewAddresses = append(doors[f.InstanceID].NewAddresses, f.NewUse)
	}
	return err
}

// doorKeys reads the keys of instances: recorded, and found there.
func doorKeys(tx *gorm.DB, ids []int64, doors map[int64]*access.Door) error {
	var rows []struct {
		InstanceID                                int64
		Key, LoginUser, Holder, HolderSort, State string
		Fingerprint, Comment, Standing, Against   string
		Former, Command                           string
		Steward, StandingOld, Leaving             bool
		RetiredAt, StandingAt, AgainstAt, UsedAt  *time.Time
		UntilAt                                   *time.Time
		CreatedAt                                 time.Time
	}
	if err := tx.Raw(`SELECT a.instance_id, coalesce(k.name, '') AS key, coalesce(k.fingerprint, '') AS fingerprint,
		coalesce(k.comment, '') AS comment, coalesce(k.former_names, '[]')::text AS former, a.login_user,
		coalesce(h.name, '') AS holder, coalesce(h.sort, '') AS holder_sort,
		coalesce(k.state, 'in use') AS state, k.retired_at, a.steward, a.standing, a.standing_old, a.standing_at,
		a.against, a.against_at, a.created_at, t.until_at, coalesce(t.command, '') AS command, (SELECT u.last_at FROM last_uses u WHERE u.instance_id = a.instance_id
		AND u.login_user = a.login_user AND u.fingerprint = k.fingerprint) AS used_at, EXISTS (SELECT 1 FROM work w WHERE w.instance_id = a.instance_id
		AND w.old_key_id = a.key_id AND w.kind = 'rotate' AND w.state IN ('queued', 'running', 'waiting')) AS leaving
		FROM access a LEFT JOIN keys k ON k.id = a.key_id LEFT JOIN holders h ON h.id = k.holder_id LEFT JOIN access_terms t ON t.access_id = a.id
		WHERE a.instance_id IN ? ORDER BY a.id`, ids).Scan(&rows).Error; err != nil {
		return err
	}
	place := map[string]int{}
	for _, r := range rows {
		d := doors[r.InstanceID]
		k := access.DoorKey{Key: r.Key, Fingerprint: r.Fingerprint, Comment: r.Comment, LoginUser: r.LoginUser,
			Recorded: true, Steward: r.Steward, Holder: r.Holder, HolderSort: r.HolderSort,
			State: r.State, Retired: r.RetiredAt != nil, Old: r.StandingOld, At: timeOf(r.StandingAt),
			AgainstAt: timeOf(r.AgainstAt), Leaving: r.Leaving, Until: timeOf(r.UntilAt), Only: r.Command, RecordedAt: r.CreatedAt, UsedAt: timeOf(r.UsedAt)}
		if err := json.Unmarshal([]byte(r.Former), &k.Former); err != nil {
			return err
		}
		k.Standing, _ = access.ParseKind(r.Standing)
		k.Against, _ = access.ParseKind(r.Against)
		place[fmt.Sprint(r.InstanceID, r.LoginUser, r.Fingerprint)] = len(d.Keys)
		d.Keys = append(d.Keys, k)
	}
	var seen []struct {
		InstanceID                                       int64
		LoginUser, Fingerprint, Comment, Limits, Vantage string
		File, Line, Key, State, Holder, HolderSort       string
		Vouching                                         string // places, JSON, where one of them trusts an authority
		EndsAt, RetiredAt                                *time.Time
		FirstAt, LastAt                                  time.Time
		Before                                           bool
	}
	if err := tx.Raw(`SELECT s.instance_id, s.login_user, s.fingerprint, s.comment, s.limits, s.vantage,
		coalesce(s.places->0->>'file', '') AS file, coalesce(s.places->0->>'line', '') AS line, s.ends_at, s.first_at,
		s.last_at,
		coalesce(k.name, '') AS key, coalesce(k.state, 'in use') AS state, k.retired_at,
		coalesce(h.name, '') AS holder, coalesce(h.sort, '') AS holder_sort,
		CASE WHEN position('cert-authority' in lower(s.places::text)) > 0 THEN s.places::text ELSE '' END AS vouching,
		EXISTS (SELECT 1 FROM sightings b WHERE b.instance_id = s.instance_id AND b.login_user = s.login_user
		AND b.fingerprint = s.fingerprint AND b.gone_at IS NOT NULL)
			OR EXISTS (SELECT 1 FROM former_access f
			WHERE f.instance_id = s.instance_id AND f.login_user = s.login_user
			AND f.fingerprint = s.fingerprint) AS before
		FROM sightings s LEFT JOIN keys k ON k.fingerprint = s.fingerprint LEFT JOIN holders h ON h.id = k.holder_id
		WHERE s.instance_id IN ? AND s.gone_at IS NULL ORDER BY s.id`, ids).Scan(&seen).Error; err != nil {
		return err
	}
	for _, r := range seen {
		d := doors[r.InstanceID]
		there := &access.There{Limits: r.Limits, Ends: timeOf(r.EndsAt), Since: r.FirstAt, At: r.LastAt,
			From: r.Vantage, Place: r.File + ":" + r.Line, Vouches: vouchesOf(r.Vouching), Before: r.Before}
		if n, ok := place[fmt.Sprint(r.InstanceID, r.LoginUser, r.Fingerprint)]; ok {
			d.Keys[n].There = there
			continue
		}
		d.Keys = append(d.Keys, access.DoorKey{Key: r.Key, Fingerprint: r.Fingerprint, Comment: r.Comment,
			LoginUser: r.LoginUser, Holder: r.Holder, HolderSort: r.HolderSort, State: r.State, Retired: r.RetiredAt != nil, There: there})
	}
	return nil
}

// vouchesOf are the lines, of places as they are kept, that trust an authority.
func vouchesOf(places string) (out []access.Vouch) {
	var all []access.Place
	if places == "" || json.Unmarshal([]byte(places), &all) != nil {
		return nil
	}
	for _, p := range all {
		if principals, yes := authkeys.Vouches(p.Options); yes {
			out = append(out, access.Vouch{Place: fmt.Sprintf("%s:%d", p.File, p.Line), Principals: principals})
		}
	}
	return out
}

// doorLooks reads the last surveys of instances.
func doorLooks(tx *gorm.DB, ids []int64, doors map[int64]*access.Door) error {
	var rows []struct {
		InstanceID           int64
		Sort, Trouble, Cause string
		TriedAt              time.Time
		SeenAt               *time.Time
		Vantage, Report      string
	}
	if err := tx.Raw(`SELECT instance_id, sort, trouble, cause, tried_at, seen_at, vantage,
		CASE sort WHEN 'outside' THEN report::text
		WHEN 'inside' THEN '{}'
		ELSE jsonb_build_object('doors', report->'doors', 'config', report->'config')::text END AS report
		FROM surveys WHERE instance_id IN ?`, ids).Scan(&rows).Error; err != nil {
		return err
	}
	// What the newest look at the server's settings found, and when that was.
	settings, looked := map[int64][]access.Other{}, map[int64]time.Time{}
	for _, r := range rows {
		d := doors[r.InstanceID]
		l := access.Looked{SeenAt: timeOf(r.SeenAt), TriedAt: r.TriedAt, Trouble: r.Trouble, Cause: r.Cause}
		switch r.Sort {
		case "inside":
			d.Inside = l
		case "client":
			if l.SeenAt.After(d.Inside.SeenAt) { // either is a look from inside
				d.Inside.SeenAt = l.SeenAt
			}
			fallthrough
		case "config":
			var s settingsReport
			if err := json.Unmarshal([]byte(r.Report), &s); err != nil {
				return err
			}
			if len(s.Config) == 0 || l.SeenAt.Before(looked[r.InstanceID]) {
				break // nobody could read them, or somebody has read them since
			}
			looked[r.InstanceID], settings[r.InstanceID] = l.SeenAt, nil
			for _, o := range s.Doors {
				if sort := access.OtherSort(o.Sort); sort.FromSettings() {
					settings[r.InstanceID] = append(settings[r.InstanceID], access.Other{Sort: sort, User: o.User,
						Place: o.Place, Value: o.Value, From: r.Vantage, At: l.SeenAt})
				}
			}
		case "outside":
			d.Outside = l
			var o outsideReport
			if err := json.Unmarshal([]byte(r.Report), &o); err != nil {
				return err
			}
			d.World = o.World
			other := func(sort access.OtherSort, user string) {
				d.Others = append(d.Others, access.Other{Sort: sort, User: user, From: r.Vantage, At: l.SeenAt})
			}
			for _, m := range o.Methods {
				if m.Open {
					d.Open = true
					other(access.Anybody, m.User)
				}
				if slices.Contains(m.Methods, "password") || slices.Contains(m.Methods, "keyboard-interactive") {
					d.Password = append(d.Password, m.User)
					other(access.Password, m.User)
				}
				if slices.Contains(m.Methods, "hostbased") {
					other(access.HostBased, m.User)
				}
			}
			for _, a := range o.Answers {
				if a.Answer == "open without any key" && !d.Open {
					d.Open = true
					other(access.Anybody, a.LoginUser)
				}
			}
		}
	}
	for id, others := range settings {
		doors[id].Others = append(doors[id].Others, others...)
	}
	return nil
}

func timeOf(t *time.Time) time.Time {
	if t == nil {
		return time.Time{}
	}
	return *t
}

func judgeKeys(tx *gorm.DB, p access.Policy, ids []int64, j *judged) error {
	var rows []struct {
		ID                    int64
		Name, Weakness, State string
		Blob                  []byte
		Reach, Sightings      int
		Before                bool
		RetiredAt             *time.Time
		Listed                string
	}
	if err := tx.Raw(`SELECT k.id, k.name, k.weakness, k.state, k.blob, k.retired_at, `+reachOfKey+` AS reach,
		(SELECT count(DISTINCT s.instance_id) FROM sightings s JOIN instances i ON i.id = s.instance_id
		WHERE s.fingerprint = k.fingerprint AND s.gone_at IS NULL AND i.phase NOT IN ('removed', 'rehearsal')) AS sightings,
		(EXISTS (SELECT 1 FROM access a WHERE a.key_id = k.id)
		OR EXISTS (SELECT 1 FROM sightings s WHERE s.fingerprint = k.fingerprint)) AS before,
		coalesce((SELECT jsonb_agg(jsonb_build_object('Name', l.name, 'Region', l.region) ORDER BY l.region, l.name)
		FROM listed_keys l WHERE l.key_id = k.id), '[]')::text AS listed
		FROM keys k WHERE k.id IN ?`, ids).Scan(&rows).Error; err != nil {
		return err
	}
	for _, id := range ids { // one that was forgotten has no matters
		j.sources = append(j.sources, fmt.Sprintf("key %d", id))
	}
	for _, r := range rows {
		f := access.KeyFacts{Name: r.Name, Weakness: r.Weakness, Reach: r.Reach, Sightings: r.Sightings,
			OpenedBefore: r.Before, Retired: r.RetiredAt != nil, State: r.State}
		if err := json.Unmarshal([]byte(r.Listed), &f.Listed); err != nil {
			return err
		}
		if r.Weakness != "" {
			for _, w := range (keypair.Public{Blob: r.Blob}).Weaknesses() {
				f.Sentence = strings.TrimSpace(f.Sentence + " " + w.Sentence)
			}
		}
		j.add(fmt.Sprintf("key %d", r.ID), "", p.JudgeKey(f), time.Time{})
	}
	return nil
}

// toJudge is whether something waits to be judged, as a column. clock_timestamp() is volatile, so that no
// index would be used for it.
const toJudge = `(EXISTS (SELECT 1 FROM to_judge ORDER BY id LIMIT 1)
	OR EXISTS (SELECT 1 FROM judge_again WHERE at < statement_timestamp())) AS waits`

// ToJudge tells whether something waits to be judged.
func (s *Store) ToJudge(ctx context.Context) (bool, error) {
	r, err := one[struct{ Waits bool }](ctx, s, "SELECT "+toJudge)
	return r.Waits, err
}

// Matter is one thing that needs a hand.
type Matter struct {
	ID                                         int64
	Subject, Reason, About, Sentence, Evidence string
	Command, Instance, Key, Region, Place      string
	Rank                                       int
	Since                                      time.Time
	OffUntil                                   *time.Time
	OffReason, OffBy                           string
	Waits                                      bool // something waited to be judged when this was read
}

// MatterQuery chooses matters.
type MatterQuery struct {
	Reason, Instance, Key, Region string
	Urgency                       string
	Off                           bool   // those that are put off, and no others
	NewFor                        string // those that came, or came back, since this operator's mark
	Page
}

const matterColumns = `SELECT m.id, m.subject, m.reason, m.about, m.rank, m.place, m.sentence, m.evidence, m.command,
	m.instance, m.key, m.region,
	CASE WHEN m.off_until > m.since AND m.off_until <= now() THEN m.off_until ELSE m.since END AS since, CASE
	WHEN m.off_until > now() THEN m.off_until END AS off_until, m.off_reason, m.off_by, ` + toJudge + ` FROM matters m`

// Matters returns a page of what needs a hand, most urgent first.
func (s *Store) Matters(ctx context.Context, q MatterQuery) ([]Matter, string, error) {
	var l list
	if q.Off {
		l.filter("m.off_until > now()")
	} else {
		l.filter("(m.off_until IS NULL OR m.off_until <= now())")
	}
	for column, v := range map[string]string{"m.reason": q.Reason, "m.region": q.Region} {
		if v != "" {
			l.filter(column+" = ?", v)
		}
	}
	for column, v := range map[string]string{"m.instance": q.Instance, "m.key": q.Key} {
		if v != "" {
			l.filter("lower("+column+") = lower(?)", v)
		}
	}
	switch q.Urgency {
	case "now":
		l.filter("m.rank < 100")
	case "soon":
		l.filter("m.rank BETWEEN 100 AND 199")
	case "later":
		l.filter("m.rank >= 200")
	}
	if q.NewFor != "" {
		l.filter("(CASE WHEN m.off_until > m.since THEN m.off_until ELSE m.since END) > coalesce((SELECT at FROM "+
			"matter_marks WHERE operator = ?), '-infinity')", q.NewFor)
	}
	return pageBy(ctx, s, &l, matterColumns, "m.place", "m.id", false, q.Page,
		func(m Matter) (string, int64) { return m.Place, m.ID }, func(m *Matter) []any {
			return []any{&m.ID, &m.Subject, &m.Reason, &m.About, &m.Rank, &m.Place, &m.Sentence, &m.Evidence,
				&m.Command, &m.Instance, &m.Key, &m.Region, &m.Since, &m.OffUntil, &m.OffReason, &m.OffBy, &m.Waits}
		})
}

// MatterCount is how many matters of one reason there are.
type MatterCount struct {
	Reason string
	Rank   int
	Open   int
	Off    int
}

// MatterCounts counts all matters by reason.
func (s *Store) MatterCounts(ctx context.Context) ([]MatterCount, error) {
	out := []MatterCount{}
	err := s.db.WithContext(ctx).Raw(`SELECT reason, min(rank) AS rank,
		count(*) FILTER (WHERE off_until IS NULL OR off_until <= now()) AS open,
		count(*) FILTER (WHERE off_until > now()) AS off
		FROM matters GROUP BY reason ORDER BY min(rank)`).Scan(&out).Error
	return out, err
}

// MatterMark notes that an operator has seen all that there was at a time.
func (s *Store) MatterMark(ctx context.Context, operator string, at time.Time) error {
	return s.db.WithContext(ctx).Exec(`INSERT INTO matter_marks (operator, at) VALUES (?, ?)
		ON CONFLICT (operator) DO UPDATE SET at = greatest(matter_marks.at, excluded.at)`, operator, at).Error
}

// Now returns the database's time: as it told it within the last ten seconds, counted on from there.
func (s *Store) Now(ctx context.Context) (time.Time, error) {
	if now, ok := s.clock.now(); ok {
		return now, nil
	}
	r, err := one[struct{ Now time.Time }](ctx, s, "SELECT clock_timestamp() AS now")
	if err == nil {
		s.clock.set(r.Now)
	}
	return r.Now, err
}

// clock is what time it is for the database, as it told some time ago. It is counted on from
// when the answer came, so that it is behind, if at all, by no more than that took: what it
// dates is never newer than it was.
type clock struct {
	mu       sync.Mutex
	told     time.Time
	received time.Time // by our own monotonic clock
}

const clockLife = 10 * time.Second

func (c *clock) now() (time.Time, bool) {
	c.mu.Lock()
	defer c.mu.Unlock()
	since := time.Since(c.received)
	return c.told.Add(since), !c.received.IsZero() && since < clockLife
}

func (c *clock) set(told time.Time) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.told, c.received = told, time.Now()
}

// PutOff puts a matter off until a time, with a reason; nil takes it up again. ErrNotFound.
func (s *Store) PutOff(ctx context.Context, by Actor, id int64, until *time.Time, reason string) (Matter, error) {
	err := s.tx(ctx, func(tx *gorm.DB) error {
		m := []Matter{}
		if err := tx.Raw(`UPDATE matters SET off_until = ?, off_reason = ?, off_by = ? WHERE id = ?
			RETURNING subject, reason`, until, reason, by.Operator, id).Scan(&m).Error; err != nil {
			return err
		}
		if len(m) == 0 {
			return ErrNotFound
		}
		action, what := "today.put-off", "until "
		if until == nil {
			action, what = "today.take-up", "take it up again"
		} else {
			what += times.Show(until.UTC()) + ": " + reason
		}
		_, err := entry{by, action, m[0].Subject, m[0].Reason, what, 0}.write(tx)
		return err
	})
	if err != nil {
		return Matter{}, err
	}
	return one[Matter](ctx, s, matterColumns+" WHERE m.id = ?", id)
}

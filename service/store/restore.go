package store

import (
	"context"
	"encoding/json"
	"strings"
	"time"

	"gorm.io/gorm"

	"plumlatch/core/names"
	"plumlatch/core/wire"
)

// Knock is a stretch of time in which a server answered an outside probe, or did not.
type Knock struct {
	FromAt, ToAt time.Time
	Up           bool
}

// Knocked notes what the outside probe of a piece of work saw just now. It makes
// the last stretch longer, if that saw the same no longer ago than gap.
func (s *Store) Knocked(ctx context.Context, workID int64, up bool, gap time.Duration) error {
	return s.db.WithContext(ctx).Exec(`WITH last AS (SELECT ctid, up, to_at FROM work_knocks WHERE work_id = @work
		ORDER BY from_at DESC LIMIT 1),
		longer AS (UPDATE work_knocks k SET to_at = clock_timestamp() FROM last
		WHERE k.ctid = last.ctid AND last.up = @up AND last.to_at > clock_timestamp() - make_interval(secs => @gap)
		RETURNING 1),
		-- The change lies between two looks: the stretch before ends where this one begins.
		ends AS (UPDATE work_knocks k SET to_at = clock_timestamp() FROM last
		WHERE k.ctid = last.ctid AND last.up <> @up AND last.to_at > clock_timestamp() - make_interval(secs => @gap)
		RETURNING 1)
		INSERT INTO work_knocks (work_id, from_at, to_at, up) SELECT @work, clock_timestamp(), clock_timestamp(), @up
		WHERE NOT EXISTS (SELECT 1 FROM longer)`,
		map[string]any{"work": workID, "up": up, "gap": gap.Seconds()}).Error
}

// Knocks returns what the outside probe of a piece of work saw, the oldest first.
func (s *Store) Knocks(ctx context.Context, workID int64) ([]Knock, error) {
	var out []Knock
	return out, s.db.WithContext(ctx).Raw("SELECT from_at, to_at, up FROM work_knocks WHERE work_id = ? ORDER BY "+
		"from_at LIMIT 2000", workID).Scan(&out).Error
}

// WorkKey is the service's own key for one piece of work.
type WorkKey struct{ Blob, Sealed []byte }

// KeepWorkKey keeps a key for a piece of work, unless it has one, and returns the
// one that it has: on the disk before its line is placed anywhere.
func (s *Store) KeepWorkKey(ctx context.Context, workID int64, k WorkKey) (WorkKey, error) {
	err := s.tx(onDisk(ctx), func(tx *gorm.DB) error {
		return tx.Exec("INSERT INTO work_keys (work_id, blob, sealed) VALUES (?, ?, ?) ON CONFLICT DO NOTHING",
			workID, raw(k.Blob), raw(k.Sealed)).Error
	})
	if err != nil {
		return k, err
	}
	return s.WorkKeyOf(ctx, workID)
}

// WorkKeyOf returns the key of a piece of work; ErrNotFound.
func (s *Store) WorkKeyOf(ctx context.Context, workID int64) (WorkKey, error) {
	return one[WorkKey](ctx, s, "SELECT blob, sealed FROM work_keys WHERE work_id = ?", workID)
}

// DropWorkKey forgets the key of a piece of work: it opens nothing any more.
func (s *Store) DropWorkKey(ctx context.Context, workID int64) error {
	return s.tx(ctx, func(tx *gorm.DB) error {
		return tx.Exec("DELETE FROM work_keys WHERE work_id = ?", workID).Error
	})
}

// Rescues returns the instances of a region and zone that were adopted to rescue
// others, or are in the ledger for that, by name.
func (s *Store) Rescues(ctx context.Context, region, zone string) ([]Instance, error) {
	var out []Instance
	return out, s.db.WithContext(ctx).Raw(instanceColumns+
		" WHERE i.rescue AND i.phase = 'ready' AND i.region = ? AND i.zone = ? ORDER BY i.name_fold LIMIT 50", region,
		zone).Scan(&out).Error
}

// TakeRescue gives a rescue instance to a piece of work, if no other has it. ErrInProgress.
func (s *Store) TakeRescue(ctx context.Context, instanceID, workID int64) error {
	return s.tx(ctx, func(tx *gorm.DB) error {
		r := tx.Exec("UPDATE instances SET rescue_for = ? WHERE id = ? AND rescue AND (rescue_for IS NULL OR "+
			"rescue_for = ?)", workID, instanceID, workID)
		if r.Error == nil && r.RowsAffected == 0 {
			return ErrInProgress
		}
		return r.Error
	})
}

// GiveRescue gives back whatever rescue instance a piece of work has.
func (s *Store) GiveRescue(ctx context.Context, workID int64) error {
	return s.tx(ctx, func(tx *gorm.DB) error {
		if err := tx.Exec("UPDATE instances SET rescue_for = NULL WHERE rescue_for = ?", workID).Error; err != nil {
			return err
		}
		if err := tx.Exec("UPDATE shared_rescues SET part_id = NULL WHERE part_id = ?", workID).Error; err != nil {
			return err
		}
		return tx.Exec("UPDATE work SET wake_at = clock_timestamp() WHERE state = 'waiting' AND waits_code = ?",
			wire.WaitsRescue).Error
	})
}

// SetRescue says that an instance rescues others, or no longer.
func (s *Store) SetRescue(ctx context.Context, by Actor, i Instance, on bool, cloudID, region, zone string) error {
	return s.tx(ctx, func(tx *gorm.DB) error {
		what := "it rescues others"
		if !on {
			what = "it rescues others no longer"
		}
		if _, err := (entry{by, "instance.rescue", "instance " + i.Name, what, "recorded", 0}).write(tx); err != nil {
			return err
		}
		return tx.Exec("UPDATE instances SET rescue = ?, rescue_cloud_id = ?, region = coalesce(nullif(?, ''), "+
			"region), zone = coalesce(nullif(?, ''), zone) WHERE id = ?", on, cloudID, region, zone, i.ID).Error
	})
}

// SetChecks says what "works" means for an instance.
func (s *Store) SetChecks(ctx context.Context, by Actor, i Instance, checks []string, what string) error {
	text, err := json.Marshal(append([]string{}, checks...))
	if err != nil {
		return err
	}
	return s.tx(ctx, func(tx *gorm.DB) error {
		if _, err := (entry{by, "instance.check", "instance " + i.Name, what, "recorded", 0}).write(tx); err != nil {
			return err
		}
		return tx.Exec("UPDATE instances SET checks = ? WHERE id = ?", string(text), i.ID).Error
	})
}

// WaysBack is which routes back into an instance were open when it was looked at.
type WaysBack struct {
	InstanceID int64    `json:"id"`
	Open       []string `json:"open"`
}

// KeepWaysBack keeps which routes are open. What did not change is not written.
func (s *Store) KeepWaysBack(ctx context.Context, all []WaysBack) error {
	text, err := json.Marshal(append([]WaysBack{}, all...))
	if err != nil {
		return err
	}
	return s.tx(ctx, func(tx *gorm.DB) error {
		return tx.Exec(`UPDATE instances i SET ways_back = w.open, ways_back_at = clock_timestamp()
			FROM jsonb_to_recordset(?::jsonb) AS w(id bigint, open jsonb)
			WHERE i.id = w.id AND (i.ways_back IS DISTINCT
			FROM w.open OR i.ways_back_at < statement_timestamp() - interval '6 hours')`, string(text)).Error
	})
}

// RestoreRow is what is recorded of an instance that a way back is asked for.
type RestoreRow struct {
	StewardOut                    bool // the last time that the service wanted in, it did not get in
	ID                            int64
	Name, LoginUser, State, Cloud string
	CloudID, Region, Zone, Image  string
	Phase                         Phase
	Adopted, Steward, Privileged  bool
	Desktop                       bool // it has no SSH
	Pinned                        bool // a host key of it is recorded
	HasAgent, AgentConnected      bool // a resident one; what follows is its own word
	AgentVerbs, AgentTrust        string
	AgentFrozen                   bool
	Checks                        Paths       `gorm:"type:jsonb"`
	Keys                          RestoreKeys `gorm:"type:jsonb"`
	Offered                       Paths       `gorm:"type:jsonb"`
	Rules                         Paths       `gorm:"type:jsonb"` // of the last survey from outside
	OfferedAt                     *time.Time
	VanishedAt                    *time.Time
	Rehearsed                     []Rehearsal `gorm:"-"` // the last of each route
	Alike                         []Rehearsal `gorm:"-"` // good ones of others that have its image
}

// RestoreKey is one recorded access of an instance, for its login user.
type RestoreKey struct {
	ID       int64     `json:"id"`
	KeyID    int64     `json:"key_id"`
	Key      string    `json:"key"`
	Holder   string    `json:"holder"`
	Sort     string    `json:"sort"`
	State    string    `json:"state"`
	Retired  bool      `json:"retired"`
	Steward  bool      `json:"steward"`
	Standing string    `json:"standing"`
	Old      bool      `json:"old"`
	Against  string    `json:"against"`
	At       time.Time `json:"at"`
}

// RestoreKeys are those of one instance.
type RestoreKeys []RestoreKey

// Scan implements sql.Scanner.
func (k *RestoreKeys) Scan(v any) error { return scanJSON(v, k) }

// RestoreRows returns what is recorded of instances with a tag (all for ""), after
// the one with this ID, at most limit: of one alone with its name.
func (s *Store) RestoreRows(ctx context.Context, name, tag string, after int64, limit int) ([]RestoreRow, error) {
	var l list
	l.filter("i.phase NOT IN ('removed', 'failed', 'launching', 'adopting', 'rehearsal')")
	l.filter("i.id > ?", after)
	filterTag(&l, tag)
	if name != "" {
		l.filter("i.name_fold = ?", names.Fold(name))
	}
	where, args := strings.Join(l.where, " AND "), l.args
	var out []RestoreRow
	err := s.db.WithContext(ctx).Raw(`SELECT i.id, i.name, i.login_user, i.state, i.cloud, i.cloud_id, i.region,
		i.zone, i.image, i.phase, i.adopted, i.desktop, i.vanished_at, i.checks,
			EXISTS (SELECT 1 FROM steward_keys s WHERE s.instance_id = i.id) AS steward,
			EXISTS (SELECT 1 FROM host_keys p WHERE p.instance_id = i.id AND p.replaced_at IS NULL) AS pinned,
			coalesce((SELECT jsonb_agg(jsonb_build_object('id', a.id, 'key_id', coalesce(k.id, 0), 'key',
			coalesce(k.name, ''), 'holder', coalesce(h.name, ''), 'sort', coalesce(h.sort, ''), 'state',
			coalesce(k.state, ''),
				'retired', k.retired_at IS NOT NULL, 'steward', a.steward, 'standing', a.standing, 'old',
				a.standing_old, 'against', a.against, 'at', coalesce(a.standing_at, a.created_at)) ORDER BY a.id)
				FROM access a LEFT JOIN keys k ON k.id = a.key_id LEFT JOIN holders h ON h.id = k.holder_id
				WHERE a.instance_id = i.id AND a.login_user = i.login_user), '[]') AS keys,
			EXISTS (SELECT 1 FROM surveys s WHERE s.instance_id = i.id AND s.sort = 'inside'
			AND s.cause = 'steward') AS steward_out,
			g.instance_id IS NOT NULL AS has_agent, coalesce(g.seen_at > clock_timestamp() - `+agentSeen+`, false) AS agent_connected,
			coalesce(g.verbs, '') AS agent_verbs, coalesce(g.trust, '') AS agent_trust, coalesce(g.frozen, false) AS agent_frozen,
			o.methods AS offered, o.at AS offered_at, o.rules
		FROM instances i LEFT JOIN agents g ON g.instance_id = i.id LEFT JOIN LATERAL (SELECT s.seen_at AS at,
		coalesce(nullif(s.report->'rules', 'null'), '[]') AS rules, (SELECT m->'methods'
		FROM jsonb_array_elements(coalesce(nullif(s.report->'methods', 'null'), '[]')) m
		WHERE m->>'user' = i.login_user LIMIT 1) AS methods
			FROM surveys s WHERE s.instance_id = i.id AND s.sort = 'outside') o ON true
		WHERE `+where+" ORDER BY i.id LIMIT ?", append(args, limit)...).Scan(&out).Error
	if err != nil || len(out) == 0 {
		return out, err
	}
	var ids []int64
	for _, r := range out {
		ids = append(ids, r.ID)
	}
	own, others, err := s.Rehearsed(ctx, ids)
	for n := range out {
		for _, r := range own {
			if r.InstanceID == out[n].ID {
				out[n].Rehearsed = append(out[n].Rehearsed, r)
			}
		}
		for _, r := range others {
			if r.Image == out[n].Image && r.InstanceID != out[n].ID {
				out[n].Alike = append(out[n].Alike, r)
			}
		}
	}
	return out, err
}

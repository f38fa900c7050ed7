package store

import (
	"context"
	"encoding/json"
	"time"

	"gorm.io/gorm"
)

// Discovered is an instance that a cloud has and the ledger does not know.
type Discovered struct {
	Cloud, CloudID, Name, Region, State, Address, KeyLabel string
	Port                                                   int // of its SSH server; 0 if the cloud does not say
	LoginUser                                              string
	Tags                                                   Tags   `gorm:"type:jsonb"`
	StopDestroys                                           string // why stopping it would be its end; "" if it is not
	// Adopted is the instance, adopted by hand, that is recorded at its address; "" if there is none.
	Adopted string
	FirstAt time.Time
}

// Discover keeps how a cloud's list of one region differs from the ledger's:
// what it has besides, what it does not have any more, and its labels.
func (s *Store) Discover(ctx context.Context, cloud, region string, all []Discovered) error {
	text, err := json.Marshal(append([]Discovered{}, all...))
	if err != nil {
		return err
	}
	const given = `jsonb_to_recordset(?::jsonb) AS d("CloudID" text, "Name" text, "State" text, "Address" text, "KeyLabel" text, "Port" integer, "LoginUser" text, "Tags" jsonb, "StopDestroys" text)`
	return s.tx(ctx, func(tx *gorm.DB) error {
		// One that is being launched has its cloud's name only after the cloud has answered.
		if err := tx.Exec(`INSERT INTO discovered AS o (cloud, cloud_id, name, region, state, address, key_label, port, login_user, tags,
			stop_destroys) SELECT ?, d."CloudID", d."Name", ?, d."State", d."Address", d."KeyLabel", d."Port", d."LoginUser",
			coalesce(nullif(d."Tags", 'null'), '{}'), d."StopDestroys" FROM `+given+`
			WHERE NOT EXISTS (SELECT 1 FROM instances i WHERE i.cloud = ? AND i.cloud_id = d."CloudID")
			AND NOT EXISTS (SELECT 1 FROM instances i WHERE i.cloud = ? AND i.phase = 'launching' AND i.cloud_id = '')
			AND NOT EXISTS (SELECT 1 FROM instances i WHERE i.rescue_cloud_id = d."CloudID")
			AND NOT EXISTS (SELECT 1 FROM kept_machines k WHERE k.gone_at IS NULL AND k.cloud_id = d."CloudID")
			-- One that was launched for a restore at hand goes with it.
			AND NOT EXISTS (SELECT 1 FROM shared_rescues r WHERE r.gone_at IS NULL AND r.cloud_id = d."CloudID")
			AND NOT EXISTS (SELECT 1 FROM work w WHERE w.state IN ('queued', 'running', 'waiting')
			AND w.rescue_cloud_id = d."CloudID")
			ON CONFLICT (cloud, cloud_id) DO UPDATE
			SET name = excluded.name, state = excluded.state, address = excluded.address,
			key_label = excluded.key_label, port = excluded.port, login_user = excluded.login_user,
			tags = excluded.tags, stop_destroys = excluded.stop_destroys, last_at = now()`,
			cloud, region, string(text), cloud, cloud).Error; err != nil {
			return err
		}
		if err := tx.Exec(`DELETE FROM discovered o WHERE o.cloud = ? AND o.region = ? AND (NOT EXISTS (SELECT 1 FROM `+given+` WHERE d."CloudID" = o.cloud_id)
			OR EXISTS (SELECT 1 FROM instances i WHERE i.cloud = o.cloud AND i.cloud_id = o.cloud_id))`, cloud,
			region, string(text)).Error; err != nil {
			return err
		}
		if err := tx.Exec(`UPDATE instances i SET vanished_at = clock_timestamp()
			WHERE i.cloud = ? AND i.region = ? AND i.phase = 'ready' AND NOT i.adopted AND i.cloud_id <> ''
			AND i.vanished_at IS NULL
			AND NOT EXISTS (SELECT 1 FROM work w WHERE w.instance_id = i.id AND w.holding)
			AND NOT EXISTS (SELECT 1 FROM `+given+` WHERE d."CloudID" = i.cloud_id)`, cloud, region,
			string(text)).Error; err != nil {
			return err
		}
		return tx.Exec(`UPDATE instances i SET vanished_at = NULL, key_label = d."KeyLabel" FROM `+given+`
			WHERE i.cloud = ? AND i.cloud_id = d."CloudID"
			AND (i.vanished_at IS NOT NULL OR i.key_label <> d."KeyLabel")`,
			string(text), cloud).Error
	})
}

// Discovered returns what the clouds have and the ledger does not know.
func (s *Store) Discovered(ctx context.Context) ([]Discovered, error) {
	out := []Discovered{}
	err := s.db.WithContext(ctx).Raw(`SELECT o.cloud, o.cloud_id, o.name, o.region, o.state, o.address, o.key_label, o.port,
		o.login_user, o.tags, o.stop_destroys, o.first_at, coalesce((SELECT min(a.name) FROM instances a
		WHERE a.adopted AND a.phase <> 'removed' AND a.address = o.address AND o.address <> ''
		AND a.port = CASE WHEN o.port = 0 THEN 22 ELSE o.port END), '') AS adopted
		FROM discovered o ORDER BY o.region, o.name, o.cloud_id LIMIT 1000`).Scan(&out).Error
	return out, err
}

// Vanished returns the instances that their cloud does not have any more.
func (s *Store) Vanished(ctx context.Context) ([]Instance, error) {
	out := []Instance{}
	err := s.db.WithContext(ctx).Raw(instanceColumns +
		" WHERE i.vanished_at IS NOT NULL AND i.phase NOT IN ('removed', 'rehearsal') ORDER BY i.name_fold LIMIT 1000").Scan(&out).Error
	return out, err
}

// LabelDiff is an instance whose label names a key that the ledger does not have for it.
type LabelDiff struct {
	Instance string
	Label    string
	Recorded []string
}

// LabelDiffs returns where the clouds' labels and the ledger differ.
func (s *Store) LabelDiffs(ctx context.Context) ([]LabelDiff, error) {
	var rows []struct{ Instance, Label, Recorded string }
	err := s.db.WithContext(ctx).Raw(`SELECT i.name AS instance, i.key_label AS label,
		coalesce((SELECT jsonb_agg(k.name ORDER BY k.name_fold) FROM access a JOIN keys k ON k.id = a.key_id
		WHERE a.instance_id = i.id), '[]')::text AS recorded
		FROM instances i WHERE i.key_label <> '' AND i.phase NOT IN ('removed', 'failed', 'rehearsal')
		AND NOT EXISTS (SELECT 1 FROM access a JOIN keys k ON k.id = a.key_id
		WHERE a.instance_id = i.id AND (k.name_fold = lower(i.key_label)
		OR k.former_names @> to_jsonb(lower(i.key_label))))
		AND NOT EXISTS (SELECT 1 FROM former_access f JOIN keys k ON k.id = f.key_id
		WHERE f.instance_id = i.id AND (k.name_fold = lower(i.key_label)
		OR k.former_names @> to_jsonb(lower(i.key_label)))) ORDER BY i.name_fold LIMIT 1000`).Scan(&rows).Error
	if err != nil {
		return nil, err
	}
	out := []LabelDiff{}
	for _, r := range rows {
		d := LabelDiff{Instance: r.Instance, Label: r.Label, Recorded: []string{}}
		if err := json.Unmarshal([]byte(r.Recorded), &d.Recorded); err != nil {
			return nil, err
		}
		out = append(out, d)
	}
	return out, nil
}

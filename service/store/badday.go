package store

import (
	"context"
	"errors"
	"fmt"
	"slices"

	"gorm.io/gorm"

	"plumlatch/core/access"
	"plumlatch/core/names"
)

// ErrKeyState says that a key is in no state for what is asked.
var ErrKeyState = errors.New("the key is in no state for that")

// SetKeyState takes a key into a state: access.Lost, access.Exposed, or
// access.InUse (found again). An exposed key stays exposed: nobody can tell that
// it is not. ErrKeyState.
func (s *Store) SetKeyState(ctx context.Context, by Actor, k Key, state, reason string) error {
	return s.markTx(ctx, func(tx *gorm.DB, touch func(...int64) error) error {
		return setKeyState(tx, touch, by, k, state, reason)
	})
}

func setKeyState(tx *gorm.DB, touch func(...int64) error, by Actor, k Key, state, reason string) error {
	allowed := map[string][]string{access.Lost: {access.InUse}, access.Exposed: {access.InUse, access.Lost},
		access.InUse: {access.Lost}}[state]
	if !slices.Contains(allowed, k.State) {
		return fmt.Errorf("%w: it is %s", ErrKeyState, k.State)
	}
	if err := touch(k.ID); err != nil {
		return err
	}
	r := tx.Exec("UPDATE keys SET state = ?, state_at = now(), state_by = ?, state_reason = ? WHERE id = ? AND state = ?", state, by.Operator, reason, k.ID, k.State)
	if r.Error != nil {
		return r.Error
	}
	if r.RowsAffected == 0 {
		return fmt.Errorf("%w: it was changed meanwhile", ErrKeyState)
	}
	action := map[string]string{access.Lost: "key.lost", access.Exposed: "key.exposed",
		access.InUse: "key.found"}[state]
	_, err := entry{by, action, "key " + k.Name, state + orReason(reason),
		"recorded; nothing on instances was changed", 0}.write(tx)
	return err
}

func orReason(reason string) string {
	if reason == "" {
		return ""
	}
	return ": " + reason
}

// DoorsOfKey returns what is known of every instance that a key opens, or on
// which a survey found it.
func (s *Store) DoorsOfKey(ctx context.Context, k Key) ([]access.Door, error) {
	var ids []int64
	err := s.db.WithContext(ctx).Raw(`SELECT i.id FROM instances i WHERE i.phase NOT IN ('removed', 'failed', 'rehearsal') AND (
		EXISTS (SELECT 1 FROM access a WHERE a.instance_id = i.id AND a.key_id = ?)
		OR EXISTS (SELECT 1 FROM sightings s WHERE s.instance_id = i.id AND s.fingerprint = ? AND s.gone_at IS NULL))
		ORDER BY i.name_fold`, k.ID, k.Fingerprint).Scan(&ids).Error
	if err != nil {
		return nil, err
	}
	var out []access.Door
	for chunk := range slices.Chunk(ids, 500) {
		doors, rows, err := doorsOf(s.db.WithContext(ctx), chunk)
		if err != nil {
			return nil, err
		}
		for _, r := range rows {
			out = append(out, *doors[r.ID])
		}
	}
	return out, nil
}

// DoorOf returns what is known of an instance's door. ErrNotFound.
func (s *Store) DoorOf(ctx context.Context, instanceID int64) (access.Door, error) {
	doors, rows, err := doorsOf(s.db.WithContext(ctx), []int64{instanceID})
	if err == nil && len(rows) == 0 {
		err = ErrNotFound
	}
	if err != nil {
		return access.Door{}, err
	}
	return *doors[instanceID], nil
}

// SoleOpeners are the fingerprints of the keys that are the only way in, by instance.
func (s *Store) SoleOpeners(ctx context.Context, instances []Instance) (map[int64]string, error) {
	out := map[int64]string{}
	var ids []int64
	for _, i := range instances {
		ids = append(ids, i.ID)
	}
	if len(ids) == 0 {
		return out, nil
	}
	doors, _, err := doorsOf(s.db.WithContext(ctx), ids)
	for id, d := range doors {
		if k, ok := d.Opening().Sole(); ok {
			out[id] = k.Fingerprint
		}
	}
	return out, err
}

// HeldKey is a key that somebody has, and how.
type HeldKey struct {
	Key
	Team string // through which team; "" for one's own
}

// KeysHeldBy returns the keys that a holder has: those held by the holder, and
// by the teams that the holder is in. ErrHolder.
func (s *Store) KeysHeldBy(ctx context.Context, name string) ([]HeldKey, error) {
	holder, err := one[struct{ ID int64 }](ctx, s, "SELECT id FROM holders WHERE name_fold = ?", names.Fold(name))
	if errors.Is(err, ErrNotFound) {
		return nil, ErrHolder
	}
	if err != nil {
		return nil, err
	}
	var rows []struct {
		Key  `gorm:"embedded"`
		Team string
	}
	err = s.db.WithContext(ctx).Raw(`SELECT q.*, CASE WHEN h2.id = ? THEN '' ELSE h2.name END AS team FROM (`+
		keyColumns+`) q JOIN keys k2 ON k2.id = q.id JOIN holders h2 ON h2.id = k2.holder_id
		WHERE h2.id = ? OR h2.id IN (SELECT team_id FROM holder_members WHERE member_id = ?) ORDER BY q.name`,
		holder.ID, holder.ID, holder.ID).Scan(&rows).Error
	var out []HeldKey
	for _, r := range rows {
		out = append(out, HeldKey{r.Key, r.Team})
	}
	return out, err
}

// HolderLeft records that a holder left: every key that the holder has, also
// through a team, is exposed from now on, and the holder is in no team any more.
// Nothing on instances is changed. ErrHolder.
func (s *Store) HolderLeft(ctx context.Context, by Actor, name string) error {
	held, err := s.KeysHeldBy(ctx, name)
	if err != nil {
		return err
	}
	return s.markTx(ctx, func(tx *gorm.DB, touch func(...int64) error) error {
		var ids []int64
		for _, k := range held {
			ids = append(ids, k.ID)
		}
		if err := touch(ids...); err != nil {
			return err
		}
		r := tx.Exec("UPDATE holders SET left_at = now(), left_by = ? WHERE name_fold = ? AND left_at IS NULL",
			by.Operator, names.Fold(name))
		if r.Error != nil {
			return r.Error
		}
		if r.RowsAffected == 0 {
			return fmt.Errorf("%w: %s is recorded as having left already", ErrKeyState, name)
		}
		for _, k := range held {
			if k.State == access.Exposed {
				continue
			}
			reason := name + " left, and had it"
			if k.Team != "" {
				reason += " as one of " + k.Team
			}
			if err := setKeyState(tx, touch, by, k.Key, access.Exposed, reason); err != nil {
				return fmt.Errorf("key %s: %w", k.Name, err)
			}
		}
		if err := tx.Exec("DELETE FROM holder_members WHERE member_id = (SELECT id FROM holders WHERE name_fold = ?)",
			names.Fold(name)).Error; err != nil {
			return err
		}
		_, err := entry{by, "holder.left", "holder " + name, "left",
			fmt.Sprintf("%d keys count as exposed", len(held)), 0}.write(tx)
		return err
	})
}

// ErrTeam says that a holder is no team, or that one who is cannot be in one.
var ErrTeam = errors.New("only a person, a machine or a job can be in a team, and only in a team")

// ChangeHolder puts a holder into a team, or takes the holder out of one. ErrHolder, ErrTeam.
func (s *Store) ChangeHolder(ctx context.Context, by Actor, name string, join, leave *string) error {
	return s.tx(ctx, func(tx *gorm.DB) error {
		type holder struct {
			ID   int64
			Sort string
		}
		find := func(n string) (holder, error) {
			var rows []holder
			if err := tx.Raw("SELECT id, sort FROM holders WHERE name_fold = ?",
				names.Fold(n)).Scan(&rows).Error; err != nil {
				return holder{}, err
			}
			if len(rows) == 0 {
				return holder{}, ErrHolder
			}
			return rows[0], nil
		}
		member, err := find(name)
		if err != nil {
			return err
		}
		for team, sql := range map[*string]string{join: "INSERT INTO holder_members (team_id, member_id) VALUES " +
			"(?, ?) ON CONFLICT DO NOTHING", leave: "DELETE FROM holder_members WHERE team_id = ? AND member_id = ?"} {
			if team == nil {
				continue
			}
			t, err := find(*team)
			if err != nil {
				return err
			}
			if t.Sort != "team" || member.Sort == "team" {
				return ErrTeam
			}
			if err := tx.Exec(sql, t.ID, member.ID).Error; err != nil {
				return err
			}
			what := "join "
			if team == leave {
				what = "leave "
			}
			if _, err := (entry{by, "holder.change", "holder " + name, what + *team, "changed",
				0}).write(tx); err != nil {
				return err
			}
		}
		return nil
	})
}

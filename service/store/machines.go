package store

import (
	"context"
	"errors"
	"fmt"
	"time"

	"gorm.io/gorm"
)

// An instance of the ledger is a place that a machine of the cloud fills. A copy of that machine can take its place: the
// instance keeps its ID, name, keys and notes, and is the other machine from then on.

// Machine is what an instance is at its cloud.
type Machine struct {
	CloudID, State, Address string
	Port                    int
	Static                  bool
	HostKeys                []HostKey // that it has, and how each is known
}

// MachineOf returns what an instance is now.
func (s *Store) MachineOf(ctx context.Context, i Instance) (Machine, error) {
	keys, err := s.HostKeys(ctx, i.ID)
	return Machine{CloudID: i.CloudID, State: i.State, Address: i.Address, Port: i.Port, HostKeys: keys}, err
}

// TakePlace has a machine take the place of the one that an instance is. Its host keys are those that count from then on.
func (s *Store) TakePlace(ctx context.Context, by Actor, i Instance, m Machine, why string) error {
	return s.tx(ctx, func(tx *gorm.DB) error {
		var before struct{ Address, CloudID string }
		if err := tx.Raw("SELECT address, cloud_id FROM instances WHERE id = ? FOR UPDATE", i.ID).Scan(&before).Error; err != nil {
			return err
		}
		if before.CloudID == m.CloudID {
			return nil
		}
		if err := noteAddress(tx, i.ID, before.Address, m.Address, m.Static); err != nil {
			return err
		}
		if err := tx.Exec(`UPDATE instances SET cloud_id = ?, state = ?, port = ?, address = ?, changed_at = clock_timestamp(),
			trouble = '', trouble_code = '', vanished_at = NULL, host_keys_read = true WHERE id = ?`, m.CloudID, m.State, m.Port,
			m.Address, i.ID).Error; err != nil {
			return err
		}
		if err := tx.Exec("UPDATE host_keys SET replaced_at = clock_timestamp(), replaced_by = ? WHERE instance_id = ? AND replaced_at IS NULL",
			by.Operator, i.ID).Error; err != nil {
			return err
		}
		for _, k := range m.HostKeys {
			if err := tx.Exec(`INSERT INTO host_keys (instance_id, blob, type, fingerprint, source) VALUES (?, ?, ?, ?, ?)
				ON CONFLICT (instance_id, blob) DO UPDATE SET replaced_at = NULL, replaced_by = '', doubtful_at = NULL, doubtful_why = '',
				source = excluded.source, recorded_at = clock_timestamp()`, i.ID, raw(k.Blob), k.Type, k.Fingerprint, k.Source).Error; err != nil {
				return err
			}
		}
		// What a client saw was the other machine.
		if err := tx.Exec("UPDATE surveys SET report = report - 'machine' WHERE instance_id = ? AND sort = 'client'", i.ID).Error; err != nil {
			return err
		}
		if err := settleInstance(tx, i.ID); err != nil {
			return err
		}
		_, err := entry{by, "instance.machine", "instance " + i.Name, fmt.Sprintf("it is %s at the cloud from now on, and was %s", m.CloudID,
			before.CloudID), why, 0}.write(tx)
		return err
	})
}

// OldMachine is a machine that is kept beside the one that has its place.
type OldMachine struct {
	Work, InstanceID int64
	Cloud, CloudID   string
	Until            time.Time
	WeekPrice        float64
	Currency         string
	AskedAt          *time.Time
}

// KeepMachine begins the work that keeps a machine, and writes it down, in one transaction. ErrInProgress.
func (s *Store) KeepMachine(ctx context.Context, by Actor, i Instance, n NewWork, k OldMachine) error {
	return s.tx(ctx, func(tx *gorm.DB) error {
		id, err := addWork(tx, by, Once{}, i.ID, n)
		if err != nil {
			return err
		}
		return tx.Exec(`INSERT INTO kept_machines (work_id, instance_id, cloud, cloud_id, until, week_price, currency)
			VALUES (?, ?, ?, ?, ?, ?, ?)`, id, i.ID, k.Cloud, k.CloudID, k.Until, k.WeekPrice, k.Currency).Error
	})
}

// KeptAsked says that a kept machine waits for a word, or that its time was made longer.
func (s *Store) KeptAsked(ctx context.Context, work int64) error {
	return s.tx(ctx, func(tx *gorm.DB) error {
		return tx.Exec("UPDATE kept_machines SET asked_at = clock_timestamp() WHERE work_id = ? AND asked_at IS NULL", work).Error
	})
}

// KeptGone says that a kept machine was removed, or has its place again.
func (s *Store) KeptGone(ctx context.Context, work int64) error {
	return s.tx(ctx, func(tx *gorm.DB) error {
		return tx.Exec("UPDATE kept_machines SET gone_at = clock_timestamp() WHERE work_id = ? AND gone_at IS NULL", work).Error
	})
}

// KeptOf returns the machines that are kept beside an instance, the oldest first.
func (s *Store) KeptOf(ctx context.Context, instanceID int64) (out []OldMachine, err error) {
	err = scanAll(s.db.WithContext(ctx).Raw(`SELECT work_id, instance_id, cloud, cloud_id, until, week_price, currency, asked_at
		FROM kept_machines WHERE instance_id = ? AND gone_at IS NULL ORDER BY work_id`, instanceID), &out, func(k *OldMachine) []any {
		return []any{&k.Work, &k.InstanceID, &k.Cloud, &k.CloudID, &k.Until, &k.WeekPrice, &k.Currency, &k.AskedAt}
	})
	return out, err
}

// HoldInstance has a piece of work hold its instance from now on, as work that changes it does. ErrInProgress while another does.
func (s *Store) HoldInstance(ctx context.Context, work int64) error {
	err := s.tx(ctx, func(tx *gorm.DB) error {
		return tx.Exec("UPDATE work SET changing = true, holding = true WHERE id = ?", work).Error
	})
	if constraint, ok := unique(err); ok && constraint == "work_holds_instance" {
		return ErrInProgress
	}
	return err
}

// PlacedAs is an access as it stood on a machine.
type PlacedAs struct {
	KeyID     int64  `json:"key_id"`
	LoginUser string `json:"login_user"`
}

// AccessesBack has the accesses of an instance be those that stood on the machine that has its place again: those that came
// since are ended, and those that were ended since stand again, as nobody's observation. It returns the names of their keys.
func (s *Store) AccessesBack(ctx context.Context, i Instance, stood []PlacedAs, work int64, why string) (ended, again []string, err error) {
	now, err := s.AccessesOf(ctx, i.ID)
	if err != nil {
		return nil, nil, err
	}
	has := func(all []PlacedAs, k int64, user string) bool {
		for _, p := range all {
			if p.KeyID == k && p.LoginUser == user {
				return true
			}
		}
		return false
	}
	var are []PlacedAs
	for _, a := range now {
		if a.Steward || a.KeyID == 0 {
			continue
		}
		are = append(are, PlacedAs{a.KeyID, a.LoginUser})
		if !has(stood, a.KeyID, a.LoginUser) {
			if err := s.EndAccess(ctx, a.ID, work, why); err != nil {
				return nil, nil, err
			}
			ended = append(ended, a.Key)
		}
	}
	for _, p := range stood {
		if has(are, p.KeyID, p.LoginUser) {
			continue
		}
		k, err := s.KeyByID(ctx, p.KeyID)
		if errors.Is(err, ErrNotFound) { // it was forgotten: nobody is left to record it for
			continue
		}
		if err != nil {
			return nil, nil, err
		}
		if _, err := s.Place(ctx, i.ID, p.KeyID, p.LoginUser, fmt.Sprintf("work %d", work), false); err != nil {
			return nil, nil, err
		}
		again = append(again, k.Name)
	}
	return ended, again, nil
}

package store

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"gorm.io/gorm"

	"plumlatch/core/names"
)

// KeyChange changes what is not nil.
type KeyChange struct {
	Name, Note, Holder, KeptAt, Origin, Passphrase, Comment *string
}

// ChangeKey changes what is recorded beside a key's public half. The renamed
// key keeps its accesses and its evidence. ErrNotFound, ErrNameTaken, ErrHolder.
func (s *Store) ChangeKey(ctx context.Context, by Actor, name string, c KeyChange) (Key, error) {
	var id int64
	err := s.markTx(ctx, func(tx *gorm.DB, touch func(...int64) error) error {
		var ids []int64
		if err := tx.Raw("SELECT id FROM keys WHERE name_fold = ? FOR UPDATE",
			names.Fold(name)).Scan(&ids).Error; err != nil {
			return err
		}
		if len(ids) == 0 {
			return ErrNotFound
		}
		id = ids[0]
		if err := touch(id); err != nil {
			return err
		}
		var intent []string
		set := func(what, sql string, args ...any) error {
			intent = append(intent, what)
			return tx.Exec("UPDATE keys SET "+sql+" WHERE id = ?", append(args, ids[0])...).Error
		}
		var errs []error
		if c.Holder != nil {
			id, err := holderID(tx, *c.Holder)
			if err != nil {
				return err
			}
			errs = append(errs, set("holder "+*c.Holder, "holder_id = ?", id))
		}
		if c.Note != nil {
			errs = append(errs, set("note", "note = ?", *c.Note))
		}
		if c.KeptAt != nil {
			errs = append(errs, set("kept at", "kept_at = ?", *c.KeptAt))
		}
		if c.Origin != nil {
			errs = append(errs, set("origin "+*c.Origin, "origin = ?", *c.Origin))
		}
		if c.Passphrase != nil {
			errs = append(errs, set("passphrase "+*c.Passphrase, "passphrase = ?, passphrase_at = now()",
				*c.Passphrase))
		}
		if c.Comment != nil {
			errs = append(errs, set("comment", "comment = ?", *c.Comment))
		}
		if c.Name != nil {
			errs = append(errs, set("rename to "+*c.Name,
				"former_names = former_names || to_jsonb(name_fold), name = ?, name_fold = ?", *c.Name,
				names.Fold(*c.Name)))
		}
		if err := errors.Join(errs...); err != nil {
			return err
		}
		_, err := entry{by, "key.change", "key " + name, strings.Join(intent, ", "), "changed", 0}.write(tx)
		return err
	})
	if _, ok := unique(err); ok {
		return Key{}, ErrNameTaken
	}
	if err != nil {
		return Key{}, err
	}
	return one[Key](ctx, s, keyColumns+" WHERE k.id = ?", id)
}

// RetireKey takes a key out of new launches, or back into them. ErrNotFound.
func (s *Store) RetireKey(ctx context.Context, by Actor, k Key, retire bool) error {
	return s.markTx(ctx, func(tx *gorm.DB, touch func(...int64) error) error {
		if err := touch(k.ID); err != nil {
			return err
		}
		sql, action, outcome := "UPDATE keys SET retired_at = NULL WHERE id = ?", "key.use-again", "in use"
		if retire {
			sql, action, outcome = "UPDATE keys SET retired_at = coalesce(retired_at, now()) WHERE id = ?",
				"key.retire", "retired"
		}
		r := tx.Exec(sql, k.ID)
		if r.Error == nil && r.RowsAffected == 0 {
			return ErrNotFound
		}
		if r.Error != nil {
			return r.Error
		}
		_, err := entry{by, action, "key " + k.Name, action[len("key."):], outcome, 0}.write(tx)
		return err
	})
}

// StillOpens is returned by ForgetKey: the key opens these instances.
type StillOpens struct{ Instances []string }

// Error lists the instances.
func (e StillOpens) Error() string {
	return "it still opens " + strings.Join(e.Instances, ", ") +
		": out of the ledger it would only become an unrecorded key there"
}

// ForgetKey takes a key out of the ledger. ErrNotFound, StillOpens.
func (s *Store) ForgetKey(ctx context.Context, by Actor, k Key) error {
	return s.markTx(ctx, func(tx *gorm.DB, touch func(...int64) error) error {
		if err := touch(k.ID); err != nil {
			return err
		}
		var opens []string
		// Recorded, or found in a file where nobody recorded it: both are doors.
		if err := tx.Raw(`SELECT i.name FROM instances i WHERE i.phase NOT IN ('removed', 'failed') AND (
			EXISTS (SELECT 1 FROM access a WHERE a.key_id = ? AND a.instance_id = i.id)
			OR EXISTS (SELECT 1 FROM sightings s WHERE s.fingerprint = ? AND s.instance_id = i.id
				AND s.gone_at IS NULL)
			OR EXISTS (SELECT 1 FROM first_passwords p WHERE p.key_id = ? AND p.instance_id = i.id
				AND p.changed_at IS NULL)) ORDER BY i.name`, k.ID, k.Fingerprint, k.ID).Scan(&opens).Error; err != nil {
			return err
		}
		if len(opens) > 0 {
			return StillOpens{opens}
		}
		// What is left belongs to instances that are gone.
		for _, sql := range []string{
			"DELETE FROM evidence WHERE access_id IN (SELECT id FROM access WHERE key_id = ?)",
			"DELETE FROM access WHERE key_id = ?",
			"DELETE FROM challenges WHERE key_id = ?",
		} {
			if err := tx.Exec(sql, k.ID).Error; err != nil {
				return err
			}
		}
		r := tx.Exec("DELETE FROM keys WHERE id = ?", k.ID)
		if r.Error == nil && r.RowsAffected == 0 {
			return ErrNotFound
		}
		if r.Error != nil {
			return r.Error
		}
		_, err := entry{by, "key.forget", "key " + k.Name, "forget " + k.Fingerprint, "forgotten", 0}.write(tx)
		return err
	})
}

// Holder is a person, team, machine or job that has a private key.
type Holder struct {
	Name      string
	Sort      string
	CreatedAt time.Time
	Keys      int
	Members   Paths `gorm:"type:jsonb"` // of a team: who has its keys too
	LeftAt    *time.Time
	LeftBy    string
}

// HolderSorts lists what a holder can be.
var HolderSorts = []string{"person", "team", "machine", "job"}

// AddHolder records a holder. ErrNameTaken.
func (s *Store) AddHolder(ctx context.Context, by Actor, name, sort string) error {
	err := s.tx(ctx, func(tx *gorm.DB) error {
		if err := tx.Exec("INSERT INTO holders (name, name_fold, sort) VALUES (?, ?, ?)", name, names.Fold(name),
			sort).Error; err != nil {
			return err
		}
		_, err := entry{by, "holder.add", "holder " + name, "add as " + sort, "added", 0}.write(tx)
		return err
	})
	if _, ok := unique(err); ok {
		return ErrNameTaken
	}
	return err
}

// Holders returns all holders by name.
func (s *Store) Holders(ctx context.Context) ([]Holder, error) {
	out := []Holder{}
	err := s.db.WithContext(ctx).Raw(`SELECT h.name, h.sort, h.created_at, h.left_at, h.left_by, (SELECT count(*)
		FROM keys k WHERE k.holder_id = h.id) AS keys,
		(SELECT jsonb_agg(p.name ORDER BY p.name_fold) FROM holder_members m JOIN holders p ON p.id = m.member_id
		WHERE m.team_id = h.id) AS members
		FROM holders h ORDER BY h.name_fold`).Scan(&out).Error
	return out, err
}

// challengeLife is how long a challenge can be signed.
const challengeLife = "5 minutes"

// Challenge is a text that a key's private half is to sign for an operator, once.
type Challenge struct {
	Nonce, Text        string
	WorkID, InstanceID int64 // what it names besides the key; 0 for nothing
}

// AddChallenge keeps a challenge. ErrNotFound if its key was forgotten meanwhile.
func (s *Store) AddChallenge(ctx context.Context, operatorID int64, k Key, c Challenge) error {
	err := s.tx(ctx, func(tx *gorm.DB) error {
		if err := tx.Exec("DELETE FROM challenges WHERE expires_at < now()").Error; err != nil {
			return err
		}
		return tx.Exec("INSERT INTO challenges (nonce, operator_id, key_id, text, work_id, instance_id, "+
			"expires_at) VALUES (?, ?, ?, ?, nullif(?, 0), nullif(?, 0), now() + interval '"+challengeLife+"')",
			c.Nonce, operatorID, k.ID, c.Text, c.WorkID, c.InstanceID).Error
	})
	if absent(err) { // somebody has forgotten the key in this moment
		return ErrNotFound
	}
	return err
}

// ErrChallenge says that a challenge is not open: unknown, over, used, or of
// another operator or key.
var ErrChallenge = fmt.Errorf("this challenge is not open: a challenge is good for one answer, within %s, by "+
	"whoever asked for it", challengeLife)

// TakeChallenge uses a challenge up, whatever comes of it. ErrChallenge.
func (s *Store) TakeChallenge(ctx context.Context, operatorID int64, k Key, nonce string) (Challenge, error) {
	c, err := one[Challenge](ctx, s, "DELETE FROM challenges WHERE nonce = ? AND operator_id = ? AND key_id = ? "+
		"AND expires_at > now() RETURNING nonce, text, coalesce(work_id, 0) AS work_id, coalesce(instance_id, 0) "+
		"AS instance_id",
		nonce, operatorID, k.ID)
	if errors.Is(err, ErrNotFound) {
		return c, ErrChallenge
	}
	return c, err
}

// KeyShown records that a key's private half was shown to exist.
func (s *Store) KeyShown(ctx context.Context, by Actor, k Key) error {
	if err := s.tx(ctx, func(tx *gorm.DB) error {
		if err := tx.Exec("UPDATE keys SET shown_at = clock_timestamp(), shown_by = ? WHERE id = ?", by.Operator,
			k.ID).Error; err != nil {
			return err
		}
		_, err := entry{by, "key.prove", "key " + k.Name, "sign a challenge", "the private half exists", 0}.write(tx)
		return err
	}); err != nil {
		return err
	}
	// A rotation may wait for just this. Apart, as the work's own transaction may want the key.
	return s.db.WithContext(ctx).Exec("UPDATE work SET "+wakes+
		" WHERE state IN ('queued', 'running', 'waiting') AND new_key_id = ?", k.ID).Error
}

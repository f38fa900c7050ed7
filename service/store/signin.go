package store

import (
	"context"
	"errors"
	"fmt"
	"time"

	"gorm.io/gorm"

	"plumlatch/core/names"
)

// How a session is opened.
const (
	ByPassword = "password"
	ByKey      = "key"  // by a signature
	ByCode     = "code" // by a code that another session made
)

// NewSession is what a session is opened with.
type NewSession struct {
	SHA256 []byte // of its cookie, or of the client's token
	By     string // ByPassword, ByKey, ByCode
	KeyID  int64  // of the key that signed; 0 for none
	Key    string // its name, for the journal
}

// sessionsOf is FROM and WHERE of the sessions that are good: of an operator that is not disabled, and
// of a key, if one signed, that still signs in for the operator and is in use.
const sessionsOf = ` FROM sessions x JOIN operators o ON o.id = x.operator_id
	WHERE x.expires_at > now() AND o.disabled_at IS NULL AND (x.key_id IS NULL OR EXISTS (
	SELECT 1 FROM operator_keys s JOIN keys k ON k.id = s.key_id WHERE s.operator_id = o.id AND s.key_id = x.key_id
	AND s.signs_in AND k.state = 'in use' AND k.retired_at IS NULL AND NOT k.authority))`

// AddSession opens a session for an operator. With a password, the name's attempts from this address are
// forgotten.
func (s *Store) AddSession(ctx context.Context, by Actor, o Operator, n NewSession) (expires time.Time, err error) {
	err = s.tx(ctx, func(tx *gorm.DB) (err error) {
		expires, err = addSession(tx, by, o, n)
		return err
	})
	return expires, err
}

func addSession(tx *gorm.DB, by Actor, o Operator, n NewSession) (expires time.Time, err error) {
	if err := tx.Exec("DELETE FROM sessions WHERE expires_at < now()").Error; err != nil {
		return expires, err
	}
	how := map[string]string{ByPassword: "by password", ByKey: "by a signature of " + n.Key,
		ByCode: "by a code that another session made"}[n.By]
	if n.By == ByPassword {
		if err := tx.Exec("DELETE FROM signin_attempts WHERE name_fold = ? AND address = ?", names.Fold(o.Name),
			by.Address).Error; err != nil {
			return expires, err
		}
	}
	if err := tx.Raw(`INSERT INTO sessions (sha256, operator_id, expires_at, address, opened_by, key_id)
		VALUES (?, ?, now() + interval '`+sessionLength+`', ?, ?, nullif(?, 0)) RETURNING expires_at`, raw(n.SHA256),
		o.ID, by.Address, n.By, n.KeyID).Scan(&expires).Error; err != nil {
		return expires, err
	}
	_, err = entry{by, "session.open", "operator " + o.Name, "sign in " + how, "signed in", 0}.write(tx)
	return expires, err
}

// ErrUsed says that a challenge was answered before.
var ErrUsed = errors.New("this challenge was answered before: each is good once")

// signinForgets is for how long an answered challenge is kept: longer than any is good.
const signinForgets = "1 hour"

// SignInByKey opens a session for an operator whose key has signed, and uses the challenge up. ErrUsed.
func (s *Store) SignInByKey(ctx context.Context, by Actor, o Operator, challenge []byte, n NewSession) (expires time.Time,
	err error) {
	err = s.tx(ctx, func(tx *gorm.DB) error {
		if err := tx.Exec("DELETE FROM signin_used WHERE at < now() - interval '" + signinForgets + "'").Error; err != nil {
			return err
		}
		r := tx.Exec("INSERT INTO signin_used (challenge) VALUES (?) ON CONFLICT DO NOTHING", raw(challenge))
		if r.Error == nil && r.RowsAffected == 0 {
			return ErrUsed
		}
		if r.Error != nil {
			return r.Error
		}
		expires, err = addSession(tx, by, o, n)
		return err
	})
	return expires, err
}

// SigninKey finds the key with a fingerprint that signs in for an operator (a name), if both are in
// order. ErrNotFound.
func (s *Store) SigninKey(ctx context.Context, operator, fingerprint string) (Operator, Key, error) {
	o, err := one[Operator](ctx, s, operatorColumns+" WHERE name_fold = ? AND disabled_at IS NULL", names.Fold(operator))
	if err != nil {
		return o, Key{}, err
	}
	k, err := one[Key](ctx, s, keyAlone+` WHERE k.fingerprint = ? AND k.state = 'in use' AND k.retired_at IS NULL
		AND NOT k.authority AND k.id IN (SELECT key_id FROM operator_keys WHERE operator_id = ? AND signs_in)`,
		fingerprint, o.ID)
	return o, k, err
}

// codeLife is how long a code for the console is good.
const codeLife = "1 minute"

// AddConsoleCode keeps a code by which a session opens one of the console from an address.
func (s *Store) AddConsoleCode(ctx context.Context, session, code []byte, address string) (expires time.Time, err error) {
	err = s.tx(ctx, func(tx *gorm.DB) error {
		if err := tx.Exec("DELETE FROM console_codes WHERE expires_at < now()").Error; err != nil {
			return err
		}
		return tx.Raw("INSERT INTO console_codes (sha256, session, address, expires_at) VALUES (?, ?, ?, now() + interval '"+
			codeLife+"') RETURNING expires_at", raw(code), raw(session), address).Scan(&expires).Error
	})
	return expires, err
}

// ErrCode says that a code for the console is not good.
var ErrCode = fmt.Errorf("this code is not good: it is for one use, within %s, from the machine that asked for it",
	codeLife)

// SignInByCode uses a code up, and opens a session of the console as good as the one that made it.
// ErrCode.
func (s *Store) SignInByCode(ctx context.Context, code, sum []byte, address string) (o Operator, expires time.Time,
	err error) {
	err = s.tx(ctx, func(tx *gorm.DB) error {
		var rows []struct {
			Operator
			KeyID int64
		}
		// The code is gone whatever comes of it.
		if err := tx.Raw(`WITH c AS (DELETE FROM console_codes WHERE sha256 = ? AND expires_at > now() AND address = ?
			RETURNING session) SELECT o.id, o.name, o.role, o.disabled_at, o.created_at, coalesce(x.key_id, 0) AS key_id`+
			sessionsOf+` AND x.sha256 IN (SELECT session FROM c)`, raw(code), address).Scan(&rows).Error; err != nil {
			return err
		}
		if len(rows) == 0 {
			return ErrCode
		}
		o = rows[0].Operator
		expires, err = addSession(tx, Actor{Operator: o.Name, Address: address}, o, NewSession{SHA256: sum, By: ByCode,
			KeyID: rows[0].KeyID})
		return err
	})
	return o, expires, err
}

// SetPassword gives an operator another password, and ends its other sessions. "" takes it away.
// ErrNotFound.
func (s *Store) SetPassword(ctx context.Context, by Actor, operatorID int64, hash string, but []byte) error {
	return s.tx(ctx, func(tx *gorm.DB) error {
		r := tx.Exec("UPDATE operators SET password_hash = ? WHERE id = ?", hash, operatorID)
		if r.Error == nil && r.RowsAffected == 0 {
			return ErrNotFound
		}
		if r.Error != nil {
			return r.Error
		}
		if err := tx.Exec("DELETE FROM sessions WHERE operator_id = ? AND sha256 <> ?", operatorID, raw(but)).Error; err != nil {
			return err
		}
		_, err := entry{by, "operator.password", "operator " + by.Operator, "set a new password, end other sessions",
			"changed", 0}.write(tx)
		return err
	})
}

// OperatorKey is a key that signs for an operator.
type OperatorKey struct {
	Key
	SignsIn   bool
	GivesWord bool
}

// KeyUse is what a key is to sign for an operator; neither takes it away.
type KeyUse struct{ SignsIn, GivesWord bool }

// SetOperatorKey says what a key signs for an operator. ErrNotFound.
func (s *Store) SetOperatorKey(ctx context.Context, by Actor, name string, k Key, use KeyUse) error {
	return s.tx(ctx, func(tx *gorm.DB) error {
		var ids []int64
		if err := tx.Raw("SELECT id FROM operators WHERE name_fold = ?", names.Fold(name)).Scan(&ids).Error; err != nil {
			return err
		}
		if len(ids) == 0 {
			return ErrNotFound
		}
		return setOperatorKey(tx, by, ids[0], name, k, use)
	})
}

func setOperatorKey(tx *gorm.DB, by Actor, operatorID int64, name string, k Key, use KeyUse) error {
	what := "sign with " + k.Name + " no longer"
	var err error
	if use == (KeyUse{}) {
		err = tx.Exec("DELETE FROM operator_keys WHERE operator_id = ? AND key_id = ?", operatorID, k.ID).Error
	} else {
		what = map[KeyUse]string{{SignsIn: true}: "sign in with ", {GivesWord: true}: "give its word with ",
			{SignsIn: true, GivesWord: true}: "sign in and give its word with "}[use] + k.Name
		err = tx.Exec(`INSERT INTO operator_keys (operator_id, key_id, set_by, signs_in, gives_word) VALUES (?, ?, ?, ?, ?)
			ON CONFLICT (operator_id, key_id) DO UPDATE SET set_by = excluded.set_by, set_at = clock_timestamp(),
			signs_in = excluded.signs_in, gives_word = excluded.gives_word`, operatorID, k.ID, by.Operator, use.SignsIn,
			use.GivesWord).Error
	}
	if err != nil {
		return err
	}
	_, err = entry{by, "operator.key", "operator " + name, what, k.Fingerprint, 0}.write(tx)
	return err
}

const operatorKeyColumns = keyFields + `, ` + reachOfKey + ` AS reach, ` + foundOfKey + ` AS found, x.signs_in, x.gives_word` +
	keyFrom + ` JOIN operator_keys x ON x.key_id = k.id JOIN operators o ON o.id = x.operator_id`

// KeysOfOperator is OperatorKeys by the operator's name.
func (s *Store) KeysOfOperator(ctx context.Context, name string) ([]OperatorKey, error) {
	var out []OperatorKey
	return out, s.db.WithContext(ctx).Raw(operatorKeyColumns+" WHERE o.name_fold = ? ORDER BY k.name_fold",
		names.Fold(name)).Scan(&out).Error
}

// OperatorKeys returns the keys that sign for an operator: in, its word, or both.
func (s *Store) OperatorKeys(ctx context.Context, operatorID int64) ([]OperatorKey, error) {
	var out []OperatorKey
	return out, s.db.WithContext(ctx).Raw(operatorKeyColumns+" WHERE o.id = ? ORDER BY k.name_fold",
		operatorID).Scan(&out).Error
}

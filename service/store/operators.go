package store

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"strings"
	"time"

	"gorm.io/gorm"

	"plumlatch/core/names"
	"plumlatch/core/times"
)

// Role is what an operator may do. Each includes the one before.
type Role string

// The roles.
const (
	Viewer Role = "viewer"   // reads
	Editor Role = "operator" // changes keys and instances
	Admin  Role = "admin"    // changes operators, and sees the tokens of all
)

var rank = map[Role]int{Viewer: 1, Editor: 2, Admin: 3}

// Valid tells whether r is a role.
func (r Role) Valid() bool { return rank[r] > 0 }

// Includes tells whether r may do what other may.
func (r Role) Includes(other Role) bool { return rank[r] >= rank[other] }

// Least returns the lesser of two roles.
func Least(a, b Role) Role {
	if rank[a] < rank[b] {
		return a
	}
	return b
}

// Operator is a person or program that uses the service.
type Operator struct {
	ID         int64
	Name       string
	Role       Role
	DisabledAt *time.Time
	CreatedAt  time.Time
}

const operatorColumns = `SELECT id, name, role, disabled_at, created_at FROM operators`

// AddOperator records an operator with the hash of a password, "" for one that has none, and the keys by
// which it signs in. ErrNameTaken.
func (s *Store) AddOperator(ctx context.Context, by Actor, name string, role Role, passwordHash string,
	keys ...Key) error {
	err := s.tx(ctx, func(tx *gorm.DB) error {
		var id int64
		if err := tx.Raw(`INSERT INTO operators (name, name_fold, role, password_hash) VALUES (?, ?, ?, ?) RETURNING id`,
			name, names.Fold(name), string(role), passwordHash).Scan(&id).Error; err != nil {
			return err
		}
		if _, err := (entry{by, "operator.add", "operator " + name, "add as " + string(role), "added", 0}).write(tx); err != nil {
			return err
		}
		for _, k := range keys {
			if err := setOperatorKey(tx, by, id, name, k, KeyUse{SignsIn: true}); err != nil {
				return err
			}
		}
		return nil
	})
	if _, ok := unique(err); ok {
		return ErrNameTaken
	}
	return err
}

// ErrLastAdmin says that a change would leave nobody who can change operators.
var ErrLastAdmin = errors.New("this is the last admin: name another one first")

// ChangeOperator gives an operator another role, a new password, or disables
// or enables it; nil leaves a thing as it is. Disabling ends its sessions.
// ErrNotFound, ErrLastAdmin.
func (s *Store) ChangeOperator(ctx context.Context, by Actor, name string, role *Role, disabled *bool,
	passwordHash *string) error {
	return s.tx(ctx, func(tx *gorm.DB) error {
		var o []Operator
		// All rows, so that two admins cannot disable each other at once.
		if err := tx.Raw(operatorColumns + " ORDER BY id FOR UPDATE").Scan(&o).Error; err != nil {
			return err
		}
		var target *Operator
		admins := 0
		for i := range o {
			if names.Fold(o[i].Name) == names.Fold(name) {
				target = &o[i]
			} else if o[i].Role == Admin && o[i].DisabledAt == nil {
				admins++
			}
		}
		if target == nil {
			return ErrNotFound
		}
		wasAdmin := target.Role == Admin && target.DisabledAt == nil
		if wasAdmin && admins == 0 && (role != nil && *role != Admin || disabled != nil && *disabled) {
			return ErrLastAdmin
		}
		var intent []string
		if role != nil {
			intent = append(intent, "role "+string(*role))
			if err := tx.Exec("UPDATE operators SET role = ? WHERE id = ?", string(*role),
				target.ID).Error; err != nil {
				return err
			}
		}
		if passwordHash != nil {
			intent = append(intent, "new password")
			if err := tx.Exec("UPDATE operators SET password_hash = ? WHERE id = ?", *passwordHash,
				target.ID).Error; err != nil {
				return err
			}
		}
		if disabled != nil {
			sql, word := "UPDATE operators SET disabled_at = NULL WHERE id = ?", "enable"
			if *disabled {
				sql, word = "UPDATE operators SET disabled_at = now() WHERE id = ?", "disable"
			}
			intent = append(intent, word)
			if err := tx.Exec(sql, target.ID).Error; err != nil {
				return err
			}
		}
		if err := tx.Exec("DELETE FROM sessions WHERE operator_id = ?", target.ID).Error; err != nil {
			return err
		}
		_, err := entry{by, "operator.change", "operator " + target.Name, strings.Join(intent, ", "),
			"changed", 0}.write(tx)
		return err
	})
}

// Operators returns all operators by name.
func (s *Store) Operators(ctx context.Context) ([]Operator, error) {
	out := []Operator{}
	err := s.db.WithContext(ctx).Raw(operatorColumns + " ORDER BY name_fold").Scan(&out).Error
	return out, err
}

// Bounds on sign-in attempts, counted over SigninWindow.
const (
	SigninWindow         = 15 * time.Minute
	maxFailuresNameFrom  = 5  // for one name from one address
	maxFailuresFrom      = 30 // from one address, whatever the name
	maxFailuresName      = 60 // for one name, from wherever
	sessionLength        = "12 hours"
	signinForgottenAfter = "1 day"
)

// ErrTooMany says that sign-in is refused for a while, unseen.
var ErrTooMany = fmt.Errorf("too many attempts to sign in; try again in %d minutes", int(SigninWindow.Minutes()))

// signinLock is held while an attempt is counted: two at one time shall not both be
// the last that is allowed, on whichever replica.
const signinLock = 7_304_118

// SigninBegins counts an attempt to sign in, before anything else is done with it,
// or returns ErrTooMany while there were too many that did not succeed.
func (s *Store) SigninBegins(ctx context.Context, name, address string) error {
	return s.tx(ctx, func(tx *gorm.DB) error {
		if err := tx.Exec("SELECT pg_advisory_xact_lock(?)", signinLock).Error; err != nil {
			return err
		}
		if err := tx.Exec("DELETE FROM signin_attempts WHERE at < now() - interval '" + signinForgottenAfter +
			"'").Error; err != nil {
			return err
		}
		if err := signinAllowed(tx, name, address); err != nil {
			return err
		}
		return tx.Exec("INSERT INTO signin_attempts (name_fold, address, at) VALUES (?, ?, clock_timestamp())",
			names.Fold(name), address).Error
	})
}

func signinAllowed(tx *gorm.DB, name, address string) error {
	var n struct{ Both, Addr, Name int }
	err := tx.Raw(`SELECT
		count(*) FILTER (WHERE name_fold = ? AND address = ?) AS both,
		count(*) FILTER (WHERE address = ?) AS addr,
		count(*) FILTER (WHERE name_fold = ?) AS name
		FROM signin_attempts WHERE at > now() - make_interval(secs => ?)`,
		names.Fold(name), address, address, names.Fold(name), SigninWindow.Seconds()).Scan(&n).Error
	if err != nil {
		return err
	}
	if n.Both >= maxFailuresNameFrom || n.Addr >= maxFailuresFrom || n.Name >= maxFailuresName {
		return ErrTooMany
	}
	return nil
}

// PasswordHash returns an operator and its password's hash; ErrNotFound also
// for a disabled one.
func (s *Store) PasswordHash(ctx context.Context, name string) (Operator, string, error) {
	var rows []struct {
		Operator
		PasswordHash string
	}
	err := s.db.WithContext(ctx).Raw(`SELECT id, name, role, disabled_at, created_at, password_hash FROM operators
		WHERE name_fold = ? AND disabled_at IS NULL`, names.Fold(name)).Scan(&rows).Error
	if err != nil {
		return Operator{}, "", err
	}
	if len(rows) == 0 {
		return Operator{}, "", ErrNotFound
	}
	return rows[0].Operator, rows[0].PasswordHash, nil
}

// EndSession ends a session; one that does not exist is no error.
func (s *Store) EndSession(ctx context.Context, by Actor, sum []byte) error {
	return s.tx(ctx, func(tx *gorm.DB) error {
		r := tx.Exec("DELETE FROM sessions WHERE sha256 = ?", raw(sum))
		if r.Error != nil || r.RowsAffected == 0 {
			return r.Error
		}
		_, err := entry{by, "session.end", "operator " + by.Operator, "sign out", "signed out", 0}.write(tx)
		return err
	})
}

// SessionOperator returns whose session it is; ErrNotFound.
func (s *Store) SessionOperator(ctx context.Context, sum []byte) (Operator, error) {
	return one[Operator](ctx, s, `SELECT o.id, o.name, o.role, o.disabled_at, o.created_at`+sessionsOf+
		` AND x.sha256 = ?`, raw(sum))
}

// Token is an API token, without its secret.
type Token struct {
	ID           int64
	Operator     string
	Name         string
	Role         Role
	CreatedAt    time.Time
	ExpiresAt    time.Time
	RevokedAt    *time.Time
	LastUsedAt   *time.Time
	LastUsedFrom string
}

const tokenColumns = `SELECT t.id, o.name AS operator, t.name, t.role, t.created_at, t.expires_at, t.revoked_at,
	t.last_used_at, t.last_used_from
	FROM tokens t JOIN operators o ON o.id = t.operator_id`

// NewToken is what a token is made with.
type NewToken struct {
	OperatorID int64
	ParentID   int64 // the token that makes it; 0 for a session
	Name       string
	Role       Role
	SHA256     []byte
	Expires    time.Time
}

// AddToken records a token of an operator by its SHA-256. It ends when it expires,
// and with the token that made it.
func (s *Store) AddToken(ctx context.Context, by Actor, n NewToken) (Token, error) {
	var t []Token
	err := s.tx(ctx, func(tx *gorm.DB) error {
		var id int64
		if err := tx.Raw(`INSERT INTO tokens (operator_id, name, role, sha256, expires_at, parent_id)
			VALUES (?, ?, ?, ?, least(?::timestamptz, (SELECT expires_at FROM tokens WHERE id = ?)), nullif(?, 0))
			RETURNING id`,
			n.OperatorID, n.Name, string(n.Role), raw(n.SHA256), n.Expires, n.ParentID,
			n.ParentID).Scan(&id).Error; err != nil {
			return err
		}
		if err := tx.Raw(tokenColumns+" WHERE t.id = ?", id).Scan(&t).Error; err != nil {
			return err
		}
		made := ""
		if n.ParentID != 0 {
			made = fmt.Sprintf(", by token %d, with which it ends", n.ParentID)
		}
		_, err := entry{by, "token.create", fmt.Sprintf("token %d", id),
			fmt.Sprintf("%s as %s until %s%s", n.Name, n.Role, times.Show(n.Expires.UTC()), made),
			"created", 0}.write(tx)
		return err
	})
	if err != nil {
		return Token{}, err
	}
	return t[0], nil
}

// Tokens returns the tokens of an operator, or of all with 0, newest first.
func (s *Store) Tokens(ctx context.Context, operatorID int64) ([]Token, error) {
	out := []Token{}
	err := s.db.WithContext(ctx).Raw(tokenColumns+" WHERE ? = 0 OR t.operator_id = ? ORDER BY t.id DESC", operatorID,
		operatorID).Scan(&out).Error
	return out, err
}

// ErrOtherToken says that a token was to end one that it did not make.
var ErrOtherToken = errors.New("a token ends itself and what it made, and no other: sign in on the console to end this one")

// RevokeToken ends a token of an operator, or of anybody with 0, and all that it
// made. by asks with token asking, 0 for a session; a token ends no other than
// itself and its own. ErrNotFound, ErrOtherToken.
func (s *Store) RevokeToken(ctx context.Context, by Actor, operatorID, asking, id int64) error {
	return s.tx(ctx, func(tx *gorm.DB) error {
		var rows []struct{ Own bool }
		err := tx.Raw(`WITH RECURSIVE up AS (SELECT id, parent_id FROM tokens WHERE id = ?
			UNION SELECT t.id, t.parent_id FROM tokens t JOIN up ON t.id = up.parent_id)
			SELECT ? = 0 OR EXISTS (SELECT 1 FROM up WHERE id = ?) AS own FROM tokens
			WHERE id = ? AND (? = 0 OR operator_id = ?)`, id, asking, asking, id, operatorID,
			operatorID).Scan(&rows).Error
		switch {
		case err != nil:
			return err
		case len(rows) == 0:
			return ErrNotFound
		case !rows[0].Own:
			return ErrOtherToken
		}
		if err := tx.Exec(`WITH RECURSIVE down AS (SELECT id FROM tokens WHERE id = ? UNION SELECT t.id FROM tokens t
			JOIN down ON t.parent_id = down.id)
			UPDATE tokens SET revoked_at = coalesce(revoked_at, now()) WHERE id IN (SELECT id FROM down)`,
			id).Error; err != nil {
			return err
		}
		_, err = entry{by, "token.revoke", fmt.Sprintf("token %d", id), "revoke, with what it made",
			"revoked", 0}.write(tx)
		return err
	})
}

// ErrTokenExpired says that a token was good once.
var ErrTokenExpired = errors.New("the token has expired or was revoked")

// ByToken is an operator who asks with a token.
type ByToken struct {
	Operator
	TokenID int64
	Ends    time.Time
}

// TokenOperator returns whose token it is, with the lesser of the token's role
// and the operator's, and notes the use. ErrNotFound, ErrTokenExpired.
func (s *Store) TokenOperator(ctx context.Context, sum []byte, address string) (ByToken, error) {
	var t ByToken
	var role Role
	var good, noted bool
	db := s.db.WithContext(ctx)
	// Every request of a client begins with this: one row, read without a detour.
	err := db.Raw(`SELECT o.id, o.name, o.role, o.disabled_at, o.created_at, t.id AS token_id,
		t.role AS token_role, t.expires_at,
		t.revoked_at IS NULL AND t.expires_at > now() AND o.disabled_at IS NULL AS good,
		coalesce(t.last_used_at >= now() - interval '1 minute' AND t.last_used_from = ?, false) AS noted
		FROM tokens t JOIN operators o ON o.id = t.operator_id WHERE t.sha256 = ?`, address, raw(sum)).Row().
		Scan(&t.ID, &t.Name, &t.Role, &t.DisabledAt, &t.CreatedAt, &t.TokenID, &role, &t.Ends, &good, &noted)
	if errors.Is(err, sql.ErrNoRows) {
		return ByToken{}, ErrNotFound
	}
	if err != nil {
		return ByToken{}, err
	}
	if !good {
		return ByToken{}, ErrTokenExpired
	}
	// At most once a minute from one address: a busy client shall not write with every read.
	if !noted {
		if err := db.Exec("UPDATE tokens SET last_used_at = now(), last_used_from = ? WHERE id = ?", address,
			t.TokenID).Error; err != nil {
			return ByToken{}, err
		}
	}
	t.Role = Least(t.Role, role)
	return t, nil
}

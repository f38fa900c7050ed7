package store

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"gorm.io/gorm"
)

// Authority makes the service's certificate for agents.
type Authority struct {
	Certificate, Sealed []byte // DER; the key, sealed
}

// AgentAuthority returns it; ErrNotFound before one was kept.
func (s *Store) AgentAuthority(ctx context.Context) (Authority, error) {
	return one[Authority](ctx, s, "SELECT certificate, sealed FROM agent_authority")
}

// KeepAgentAuthority keeps one, unless another replica was first; what counts is returned.
func (s *Store) KeepAgentAuthority(ctx context.Context, a Authority) (Authority, error) {
	err := s.tx(ctx, func(tx *gorm.DB) error {
		return tx.Exec("INSERT INTO agent_authority (certificate, sealed) VALUES (?, ?) ON CONFLICT DO NOTHING", raw(a.Certificate), raw(a.Sealed)).Error
	})
	if err != nil {
		return Authority{}, err
	}
	return s.AgentAuthority(ctx)
}

// Agent is the resident agent of an instance.
type Agent struct {
	InstanceID                     int64
	PublicKey                      []byte
	Fingerprint, EnrolledBy        string
	EnrolledAt                     time.Time
	Version, Verbs, Never, Trust   string
	LastUpgrade                    string // what became of it, as the agent says
	Frozen                         bool
	Address                        string
	ConnectedAt, SeenAt, RefusedAt *time.Time
	RefusedFrom                    string
	Connected                      bool // it was seen within the last minutes, by some replica
}

// agentSeen is for how long an agent counts as connected after it was last seen: longer than it takes to renew that (RenewAgents).
const agentSeen = "interval '150 seconds'"

const agentColumns = `SELECT *, coalesce(seen_at > clock_timestamp() - ` + agentSeen + `, false) AS connected FROM agents `

// AgentOf returns the agent of an instance. ErrNotFound.
func (s *Store) AgentOf(ctx context.Context, instanceID int64) (Agent, error) {
	return one[Agent](ctx, s, agentColumns+"WHERE instance_id = ?", instanceID)
}

// AgentByKey returns the agent with a key, of an instance that was not removed. ErrNotFound.
func (s *Store) AgentByKey(ctx context.Context, publicKey []byte) (Agent, error) {
	return one[Agent](ctx, s, agentColumns+"WHERE public_key = ? AND EXISTS (SELECT FROM instances i WHERE i.id = instance_id AND i.phase <> 'removed')", raw(publicKey))
}

// ErrAgentElsewhere says that the key is that of another instance's agent.
var ErrAgentElsewhere = errors.New("this key is that of another instance's agent")

// EnrollAgent makes a key that of an instance's agent, in the place of a former one. ErrAgentElsewhere.
func (s *Store) EnrollAgent(ctx context.Context, by Actor, i Instance, publicKey []byte, fingerprint string) error {
	return s.tx(ctx, func(tx *gorm.DB) error {
		var others int64
		if err := tx.Raw("SELECT count(*) FROM agents WHERE public_key = ? AND instance_id <> ?", raw(publicKey), i.ID).Scan(&others).Error; err != nil {
			return err
		}
		if others > 0 {
			return ErrAgentElsewhere
		}
		return enrollAgent(tx, by, i, publicKey, fingerprint)
	})
}

func enrollAgent(tx *gorm.DB, by Actor, i Instance, publicKey []byte, fingerprint string) error {
	var former []string
	if err := tx.Raw("SELECT fingerprint FROM agents WHERE instance_id = ? FOR UPDATE", i.ID).Scan(&former).Error; err != nil {
		return err
	}
	if err := tx.Exec("DELETE FROM agents WHERE instance_id = ?", i.ID).Error; err != nil {
		return err
	}
	if err := tx.Exec("INSERT INTO agents (instance_id, public_key, fingerprint, enrolled_by) VALUES (?, ?, ?, ?)", i.ID, raw(publicKey), fingerprint,
		by.Operator).Error; err != nil {
		return err
	}
	outcome := "its agent has the key " + fingerprint
	if len(former) > 0 {
		outcome += ", in the place of " + former[0]
	}
	_, err := entry{Actor: by, Action: "agent.enroll", Target: "instance " + i.Name, Outcome: outcome}.write(tx)
	return err
}

// ForgetAgent ends what an agent is known by: its key opens no connection any more. ErrNotFound.
func (s *Store) ForgetAgent(ctx context.Context, by Actor, i Instance) error {
	return s.tx(ctx, func(tx *gorm.DB) error {
		var former []string
		if err := tx.Raw("DELETE FROM agents WHERE instance_id = ? RETURNING fingerprint", i.ID).Scan(&former).Error; err != nil {
			return err
		}
		if len(former) == 0 {
			return ErrNotFound
		}
		_, err := entry{Actor: by, Action: "agent.forget", Target: "instance " + i.Name, Outcome: "the agent with the key " + former[0] + " is known no more"}.write(tx)
		return err
	})
}

// AddAgentToken keeps the hash of a token that lets an instance's agent in once.
func (s *Store) AddAgentToken(ctx context.Context, by Actor, i Instance, hash []byte, life time.Duration) error {
	return s.tx(ctx, func(tx *gorm.DB) error {
		made := tx.Exec("INSERT INTO agent_tokens (hash, instance_id, made_by, until_at) VALUES (?, ?, ?, clock_timestamp() + ? * interval '1 second') ON CONFLICT DO NOTHING",
			raw(hash), i.ID, by.Operator, life.Seconds())
		if made.Error != nil || made.RowsAffected == 0 { // that of a launch is asked for again
			return made.Error
		}
		_, err := entry{Actor: by, Action: "agent.token", Target: "instance " + i.Name, Outcome: fmt.Sprintf("made a token that enrolls its agent once, within %s", life)}.write(tx)
		return err
	})
}

// Errors of a token.
var (
	// ErrToken: nobody made it, it was used, or its time is over.
	ErrToken = errors.New("the token is nobody's, was used, or is over")
	// ErrHasAgent: the instance has an agent, which a token does not replace.
	ErrHasAgent = errors.New("the instance has an agent already")
)

// RedeemAgentToken enrolls a key by a token, and uses that up. ErrToken, ErrHasAgent, ErrAgentElsewhere.
func (s *Store) RedeemAgentToken(ctx context.Context, hash, publicKey []byte, fingerprint, address string) (instanceID int64, err error) {
	// What is refused uses nothing up, and is journaled all the same.
	var no error
	err = s.tx(ctx, func(tx *gorm.DB) error {
		no = nil
		var rows []struct {
			InstanceID int64
			MadeBy     string
			Good, Told bool
		}
		if err := tx.Raw("SELECT instance_id, made_by, used_at IS NULL AND until_at > clock_timestamp() AS good, "+
			"coalesce(refused_at > clock_timestamp() - interval '1 hour', false) AS told FROM agent_tokens WHERE hash = ? FOR UPDATE",
			raw(hash)).Scan(&rows).Error; err != nil {
			return err
		}
		if len(rows) == 0 {
			no = ErrToken
			return nil
		}
		var i Instance
		if err := tx.Raw("SELECT id, name FROM instances WHERE id = ?", rows[0].InstanceID).Scan(&i).Error; err != nil {
			return err
		}
		var has, elsewhere int64
		if err := tx.Raw("SELECT count(*) FROM agents WHERE instance_id = ?", i.ID).Scan(&has).Error; err != nil {
			return err
		}
		if err := tx.Raw("SELECT count(*) FROM agents WHERE public_key = ?", raw(publicKey)).Scan(&elsewhere).Error; err != nil {
			return err
		}
		switch {
		case !rows[0].Good:
			no = ErrToken
		case elsewhere > 0:
			no = ErrAgentElsewhere
		case has > 0:
			no = ErrHasAgent
		}
		if no != nil {
			if err := refuseAgent(tx, i.ID, address); err != nil {
				return err
			}
			if rows[0].Told { // once an hour is enough for one that goes on trying
				return nil
			}
			if err := tx.Exec("UPDATE agent_tokens SET refused_at = clock_timestamp() WHERE hash = ?", raw(hash)).Error; err != nil {
				return err
			}
			_, err := entry{Actor: Service, Action: "agent.refuse", Target: "instance " + i.Name, Outcome: fmt.Sprintf("an agent from %s came with a token: %s", address, no)}.write(tx)
			return err
		}
		if err := tx.Exec("UPDATE agent_tokens SET used_at = clock_timestamp() WHERE hash = ?", raw(hash)).Error; err != nil {
			return err
		}
		instanceID = i.ID
		return enrollAgent(tx, Actor{Operator: rows[0].MadeBy, Address: address}, i, publicKey, fingerprint)
	})
	return instanceID, errors.Join(err, no)
}

func refuseAgent(tx *gorm.DB, instanceID int64, address string) error {
	return tx.Exec("UPDATE agents SET refused_at = clock_timestamp(), refused_from = ? WHERE instance_id = ?", address, instanceID).Error
}

// RefuseAgent keeps that another one claimed to be an instance's agent while that was connected.
func (s *Store) RefuseAgent(ctx context.Context, a Agent, name, address string) error {
	return s.tx(ctx, func(tx *gorm.DB) error {
		if err := refuseAgent(tx, a.InstanceID, address); err != nil {
			return err
		}
		// Once an hour is enough for one that goes on trying.
		if a.RefusedAt != nil && time.Since(*a.RefusedAt) < time.Hour && a.RefusedFrom == address {
			return nil
		}
		_, err := entry{Actor: Service, Action: "agent.refuse", Target: "instance " + name,
			Outcome: fmt.Sprintf("a second agent with its key came from %s while the first was connected from %s: a copy of the machine, or of its key", address, a.Address)}.write(tx)
		return err
	})
}

// AgentCame keeps that an agent connected, and what it says of itself.
func (s *Store) AgentCame(ctx context.Context, a Agent) error {
	return s.tx(ctx, func(tx *gorm.DB) error {
		return tx.Exec("UPDATE agents SET version = ?, last_upgrade = ?, verbs = ?, never = ?, trust = ?, frozen = ?, address = ?, connected_at = clock_timestamp(), seen_at = clock_timestamp() "+
			"WHERE instance_id = ? AND public_key = ?", a.Version, a.LastUpgrade, a.Verbs, a.Never, a.Trust, a.Frozen, a.Address, a.InstanceID, raw(a.PublicKey)).Error
	})
}

// RenewAgents keeps that agents are connected still, by their instances.
func (s *Store) RenewAgents(ctx context.Context, instances []int64) error {
	if len(instances) == 0 {
		return nil
	}
	return s.tx(ctx, func(tx *gorm.DB) error {
		return tx.Exec("UPDATE agents SET seen_at = clock_timestamp() WHERE instance_id IN ?", instances).Error
	})
}

// AgentKeys are the fingerprints of the agents' keys of instances that were not removed; those without one are not in it.
func (s *Store) AgentKeys(ctx context.Context, instances []int64) (map[int64]string, error) {
	out := map[int64]string{}
	if len(instances) == 0 {
		return out, nil
	}
	var rows []struct {
		InstanceID  int64
		Fingerprint string
	}
	err := s.db.WithContext(ctx).Raw("SELECT a.instance_id, a.fingerprint FROM agents a JOIN instances i ON i.id = a.instance_id WHERE a.instance_id IN ? AND i.phase <> 'removed'",
		instances).Scan(&rows).Error
	for _, r := range rows {
		out[r.InstanceID] = r.Fingerprint
	}
	return out, err
}

// AgentWent keeps that a connection ended.
func (s *Store) AgentWent(ctx context.Context, instanceID int64) error {
	return s.tx(ctx, func(tx *gorm.DB) error {
		return tx.Exec("UPDATE agents SET seen_at = LEAST(seen_at, clock_timestamp() - "+agentSeen+") WHERE instance_id = ?", instanceID).Error
	})
}

// AgentAsked journals a call that changes something, before it is made.
func (s *Store) AgentAsked(ctx context.Context, by Actor, i Instance, verb, args string) (entryID int64, err error) {
	err = s.tx(ctx, func(tx *gorm.DB) error {
		entryID, err = entry{Actor: by, Action: "agent." + verb, Target: "instance " + i.Name, Intent: "ask its agent: " + verb + " " + args}.write(tx)
		return err
	})
	return entryID, err
}

// AgentAnswered journals what came of it.
func (s *Store) AgentAnswered(ctx context.Context, by Actor, i Instance, verb string, of int64, outcome string) error {
	return s.tx(ctx, func(tx *gorm.DB) error {
		_, err := entry{Actor: by, Action: "agent." + verb, Target: "instance " + i.Name, Outcome: strings.TrimSpace(outcome), Of: of}.write(tx)
		return err
	})
}

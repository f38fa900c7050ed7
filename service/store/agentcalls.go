package store

import (
	"context"
	"time"

	"gorm.io/gorm"
)

// AgentCall is a call to an agent that another replica is connected to.
type AgentCall struct {
	ID, InstanceID int64
	Call           []byte  // JSON
	Program        bool    // the agent's program follows
	Left           float64 // seconds until its time is over
}

// AgentAnswer is what came of one. Outcome is "" as long as there is no answer.
type AgentAnswer struct {
	Taken               bool
	Outcome, Code, Said string
	Result              []byte
}

// PutAgentCall has whichever replica is connected to the agent make a call.
func (s *Store) PutAgentCall(ctx context.Context, instanceID int64, call []byte, program bool, limit time.Duration) (id int64, err error) {
	err = s.tx(ctx, func(tx *gorm.DB) error {
		return tx.Raw("INSERT INTO agent_calls (instance_id, call, program, until_at) VALUES (?, ?, ?, clock_timestamp() + ? * interval '1 second') RETURNING id",
			instanceID, raw(call), program, limit.Seconds()).Scan(&id).Error
	})
	return id, err
}

// AgentCallsWaiting are calls that no replica has taken.
func (s *Store) AgentCallsWaiting(ctx context.Context) (out []AgentCall, err error) {
	err = s.db.WithContext(ctx).Raw("SELECT id, instance_id FROM agent_calls WHERE taken_at IS NULL AND until_at > clock_timestamp() ORDER BY id LIMIT 200").Scan(&out).Error
	return out, err
}

// TakeAgentCall takes a call, for this replica alone. ErrNotFound if another one has it, or nobody wants it any more.
func (s *Store) TakeAgentCall(ctx context.Context, id int64) (c AgentCall, err error) {
	err = s.tx(ctx, func(tx *gorm.DB) error {
		var rows []AgentCall
		if err := tx.Raw("UPDATE agent_calls SET taken_at = clock_timestamp() WHERE id = ? AND taken_at IS NULL AND until_at > clock_timestamp() "+
			"RETURNING id, instance_id, call, program, extract(epoch FROM until_at - clock_timestamp())::float8 AS left", id).Scan(&rows).Error; err != nil {
			return err
		}
		if len(rows) == 0 {
			return ErrNotFound
		}
		c = rows[0]
		return nil
	})
	return c, err
}

// AnswerAgentCall answers a call that was taken. Nobody may want it any more: that is no error.
func (s *Store) AnswerAgentCall(ctx context.Context, id int64, a AgentAnswer) error {
	return s.tx(ctx, func(tx *gorm.DB) error {
		return tx.Exec("UPDATE agent_calls SET answered_at = clock_timestamp(), outcome = ?, code = ?, said = ?, result = ? WHERE id = ?", a.Outcome, a.Code, a.Said,
			raw(a.Result), id).Error
	})
}

// AgentAnswer is the answer to a call, as far as there is one. ErrNotFound if the call is gone.
func (s *Store) AgentAnswer(ctx context.Context, id int64) (AgentAnswer, error) {
	return one[AgentAnswer](ctx, s, "SELECT taken_at IS NOT NULL AS taken, outcome, code, said, result FROM agent_calls WHERE id = ?", id)
}

// DropAgentCalls takes a call away, and all whose time is long over.
func (s *Store) DropAgentCalls(ctx context.Context, id int64) error {
	return s.tx(ctx, func(tx *gorm.DB) error {
		return tx.Exec("DELETE FROM agent_calls WHERE id = ? OR until_at < clock_timestamp() - interval '10 minutes'", id).Error
	})
}

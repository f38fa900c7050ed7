package store

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"gorm.io/gorm"

	"plumlatch/core/streams"
)

// Stream is one that goes through the service, or went.
type Stream struct {
	ID, InstanceID, OperatorID int64
	Instance, Operator         string
	Address                    string // of whoever asked
	Way, Target, SeenFrom      string
	Reason                     string
	JournalID                  int64
	BegunAt, SeenAt            time.Time
	Up, Down                   int64
	EndBy                      string
	EndedAt                    *time.Time
	Why                        streams.Why
}

// streamSeen is for how long a stream counts as open after the replica that carries it was last heard of.
const streamSeen = "interval '60 seconds'"

// ErrStreams says that an operator has as many streams open as the policy lets.
var ErrStreams = errors.New("as many streams are open as one operator may have")

// BeginStream writes a stream into the ledger and the journal, before a byte goes through. ErrStreams if the operator has most of them.
func (s *Store) BeginStream(ctx context.Context, by Actor, st Stream, most int) (id int64, err error) {
	err = s.tx(ctx, func(tx *gorm.DB) error {
		if err := tx.Exec("SELECT FROM operators WHERE id = ? FOR UPDATE", st.OperatorID).Error; err != nil {
			return err
		}
		var open int
		if err := tx.Raw("SELECT count(*) FROM streams WHERE operator_id = ? AND ended_at IS NULL AND seen_at > clock_timestamp() - "+streamSeen, st.OperatorID).Scan(&open).Error; err != nil {
			return err
		}
		if open >= most {
			return ErrStreams
		}
		intent := "a stream to " + st.Target + " by the service"
		if st.Way == streams.ByAgent {
			intent = "a stream through its agent"
		}
		if st.Reason != "" {
			intent += ": " + st.Reason
		}
		entryID, err := entry{Actor: by, Action: "stream.begin", Target: "instance " + st.Instance, Intent: intent}.write(tx)
		if err != nil {
			return err
		}
		return tx.Raw(`INSERT INTO streams (instance_id, operator_id, operator, address, way, target, seen_from, reason, journal_id) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?)
			RETURNING id`, st.InstanceID, st.OperatorID, by.Operator, by.Address, st.Way, st.Target, st.SeenFrom, st.Reason, entryID).Scan(&id).Error
	})
	return id, err
}

// Going is what a replica says of a stream that it carries, and what is known of that then.
type Going struct {
	ID       int64
	Up, Down int64 // bytes
}

// Goes is what is known of a stream that goes on.
type Goes struct {
	ID     int64
	EndBy  string // who has asked for its end; "" for nobody
	Region string // of its instance, as its tags
	Tags   Tags   `gorm:"type:jsonb"`
}

// StreamsGo keeps how many bytes went through streams, and that they are still there. One that it does not return was told as ended, by another replica that
// had not heard of this one.
func (s *Store) StreamsGo(ctx context.Context, all []Going) (out []Goes, err error) {
	text, err := json.Marshal(all)
	if err != nil {
		return nil, err
	}
	err = s.tx(ctx, func(tx *gorm.DB) error {
		return tx.Raw(`UPDATE streams t SET up = v."Up", down = v."Down", seen_at = clock_timestamp()
			FROM jsonb_to_recordset(?::jsonb) AS v("ID" bigint, "Up" bigint, "Down" bigint), instances i
			WHERE t.id = v."ID" AND t.ended_at IS NULL AND i.id = t.instance_id RETURNING t.id, t.end_by, i.region, i.tags`, string(text)).Scan(&out).Error
	})
	return out, err
}

// StreamOpen tells whether a stream of an operator's is open, whichever replica carries it.
func (s *Store) StreamOpen(ctx context.Context, id, operatorID int64) (open bool, err error) {
	err = s.db.WithContext(ctx).Raw("SELECT EXISTS (SELECT FROM streams WHERE id = ? AND operator_id = ? AND ended_at IS NULL AND seen_at > clock_timestamp() - "+streamSeen+")",
		id, operatorID).Scan(&open).Error
	return open, err
}

// EndStream writes down why a stream ended, and how many bytes went through. What has ended stays as it is.
func (s *Store) EndStream(ctx context.Context, id, up, down int64, why streams.Why) error {
	return s.tx(ctx, func(tx *gorm.DB) error {
		var rows []Stream
		if err := tx.Raw(`UPDATE streams t SET up = greatest(up, ?), down = greatest(down, ?), ended_at = clock_timestamp(), why = ? FROM instances i WHERE t.id = ? AND t.ended_at IS NULL
			AND i.id = t.instance_id RETURNING t.*, i.name AS instance`, up, down, why, id).Scan(&rows).Error; err != nil || len(rows) == 0 {
			return err
		}
		return streamEnded(tx, rows[0])
	})
}

func streamEnded(tx *gorm.DB, st Stream) error {
	_, err := entry{Actor: Actor{Operator: st.Operator, Address: st.Address}, Action: "stream.end", Target: "instance " + st.Instance, Of: st.JournalID,
		Outcome: fmt.Sprintf("stream %d ended after %s, with %d bytes to the server and %d from it: %s", st.ID, st.EndedAt.Sub(st.BegunAt).Round(time.Second), st.Up, st.Down,
			st.Why.Words())}.write(tx)
	return err
}

// AskStreamEnd has a stream ended by whichever replica carries it. ErrNotFound if there is none that is open.
func (s *Store) AskStreamEnd(ctx context.Context, by Actor, id int64) error {
	return s.tx(ctx, func(tx *gorm.DB) error {
		var names []string
		if err := tx.Raw("UPDATE streams t SET end_by = ? FROM instances i WHERE t.id = ? AND t.ended_at IS NULL AND i.id = t.instance_id RETURNING i.name", by.Operator, id).
			Scan(&names).Error; err != nil {
			return err
		}
		if len(names) == 0 {
			return ErrNotFound
		}
		_, err := entry{Actor: by, Action: "stream.cut", Target: "instance " + names[0], Intent: fmt.Sprintf("end stream %d", id)}.write(tx)
		return err
	})
}

// LostStreams ends those whose replica was not heard of: it was killed, and they ended with it.
func (s *Store) LostStreams(ctx context.Context) error {
	return s.tx(ctx, func(tx *gorm.DB) error {
		var rows []Stream
		if err := tx.Raw(`UPDATE streams t SET ended_at = clock_timestamp(), why = ? FROM instances i WHERE t.ended_at IS NULL AND t.seen_at < clock_timestamp() - `+streamSeen+`
			AND i.id = t.instance_id RETURNING t.*, i.name AS instance`, streams.Lost).Scan(&rows).Error; err != nil {
			return err
		}
		for _, r := range rows {
			if err := streamEnded(tx, r); err != nil {
				return err
			}
		}
		return nil
	})
}

// Streams returns those of an instance, 0 for all, the newest first; with open only those that are.
func (s *Store) Streams(ctx context.Context, instanceID int64, open bool, limit int) (out []Stream, err error) {
	q := "SELECT t.*, i.name AS instance FROM streams t JOIN instances i ON i.id = t.instance_id WHERE true"
	var args []any
	if instanceID != 0 {
		q, args = q+" AND t.instance_id = ?", append(args, instanceID)
	}
	if open {
		q += " AND t.ended_at IS NULL AND t.seen_at > clock_timestamp() - " + streamSeen
	}
	return out, s.db.WithContext(ctx).Raw(q+" ORDER BY t.id DESC LIMIT ?", append(args, limit)...).Scan(&out).Error
}

// KeepSessionKey keeps that a key was made for one stream: it is forgotten once it opens nothing any more.
func (s *Store) KeepSessionKey(ctx context.Context, keyID, streamID int64) error {
	return s.tx(ctx, func(tx *gorm.DB) error {
		return tx.Exec("INSERT INTO stream_keys (key_id, stream_id) VALUES (?, ?)", keyID, streamID).Error
	})
}

// SessionKey is the ID of the key that was made for a stream. ErrNotFound.
func (s *Store) SessionKey(ctx context.Context, streamID int64) (int64, error) {
	r, err := one[struct{ KeyID int64 }](ctx, s, "SELECT key_id FROM stream_keys WHERE stream_id = ?", streamID)
	return r.KeyID, err
}

// SessionKeysOver are keys of sessions that open nothing any more, and that no work is about.
func (s *Store) SessionKeysOver(ctx context.Context) (ids []int64, err error) {
	err = s.db.WithContext(ctx).Raw(`SELECT s.key_id FROM stream_keys s JOIN streams t ON t.id = s.stream_id WHERE t.begun_at < clock_timestamp() - interval '1 minute'
		AND NOT EXISTS (SELECT FROM access a WHERE a.key_id = s.key_id)
		AND NOT EXISTS (SELECT FROM work w WHERE (w.new_key_id = s.key_id OR w.old_key_id = s.key_id) AND w.state IN ('queued', 'running', 'waiting', 'stuck'))
		ORDER BY s.key_id LIMIT 100`).Scan(&ids).Error
	return ids, err
}

// SessionsHolder is the holder of pairs that were made for one session: a job, so that rule 1 counts none of them as anybody's way in.
const SessionsHolder = "page-sessions"

// KeepSessionsHolder records that holder. ErrHolder if somebody else has the name.
func (s *Store) KeepSessionsHolder(ctx context.Context) error {
	return s.tx(ctx, func(tx *gorm.DB) error {
		if err := tx.Exec("INSERT INTO holders (name, name_fold, sort) VALUES (?, ?, 'job') ON CONFLICT DO NOTHING", SessionsHolder, SessionsHolder).Error; err != nil {
			return err
		}
		var sort string
		if err := tx.Raw("SELECT sort FROM holders WHERE name_fold = ?", SessionsHolder).Scan(&sort).Error; err != nil || sort == "job" {
			return err
		}
		return fmt.Errorf("%w: %s is the holder of pairs that were made for one session, and is recorded as a %s", ErrHolder, SessionsHolder, sort)
	})
}

package streams_test

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"net/url"
	"os"
	"path/filepath"
	"runtime"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/coder/websocket"

	"plumlatch/core/keypair"
	core "plumlatch/core/streams"
	"plumlatch/service/door"
	"plumlatch/service/kinds/kindtest"
	"plumlatch/service/lifecycle"
	"plumlatch/service/store"
	"plumlatch/service/streams"
	"plumlatch/stream"
)

// house is a service with an instance to which streams may be opened.
type house struct {
	*kindtest.House
	t        *testing.T
	i        store.Instance
	operator int64
	valid    atomic.Bool
	web      string
	ahead    atomic.Int64 // of the clock by which idle times and lengths are told
}

const allowed = "stream:\n  who: [{operators: [Night-Lead], tag: env=prod}]\n  each: 2\n"

func newHouse(t *testing.T) *house {
	h := &house{House: kindtest.New(t), t: t}
	h.valid.Store(true)
	server := httptest.NewServer(h.attaching())
	t.Cleanup(server.Close)
	h.web = server.URL
	h.W.Streams.SetClock(func() time.Time { return time.Now().Add(time.Duration(h.ahead.Load())) })
	h.Exec("INSERT INTO operators (name, name_fold, role, password_hash) VALUES ('night-lead', 'night-lead', 'operator', '') ON CONFLICT DO NOTHING")
	h.operator = int64(h.Count("SELECT id FROM operators WHERE name = 'night-lead'"))
	h.Key("first")
	h.Launch("berth-1", "first")
	h.Exec(`UPDATE instances SET tags = '{"env": "prod"}'`)
	h.i = h.Instance("berth-1")
	h.policy(allowed)
	return h
}

func (h *house) policy(text string) {
	h.t.Helper()
	if err := h.DB.SetPolicy(h.Context(), kindtest.By, text); err != nil {
		h.t.Fatal(err)
	}
	h.W.Door.PolicyChanged()
}

var by = store.Actor{Operator: "night-lead", Address: "192.0.2.7"}

func (h *house) open(reason, way string) (streams.Opened, error) {
	return h.W.Streams.Open(h.Context(), streams.Ask{Instance: h.i, OperatorID: h.operator, By: by, SignedIn: []byte("token"), Reason: reason, Way: way,
		Valid: func(context.Context) (bool, error) { return h.valid.Load(), nil }})
}

// carry carries an opened stream as its opener does.
func (h *house) carry(o streams.Opened, signedIn string) (*stream.Conn, chan error) {
	c, over := stream.New(), make(chan error, 1)
	h.t.Cleanup(func() { c.Close() })
	go func() {
		over <- c.Keep(context.Background(), func(ctx context.Context) (*websocket.Conn, error) {
			conn, _, err := websocket.Dial(ctx, fmt.Sprintf("%s/%d?by=%s", h.web, o.ID, url.QueryEscape(signedIn)), nil)
			return conn, err
		}, o.Secret)
	}()
	return c, over
}

// attaching is the service's end of that.
func (h *house) attaching() http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		conn, err := websocket.Accept(w, r, nil)
		if err != nil {
			return
		}
		_, text, err := conn.Read(r.Context())
		var hello core.Hello
		if err == nil {
			err = json.Unmarshal(text, &hello)
		}
		var id int64
		if err == nil {
			_, err = fmt.Sscanf(r.URL.Path, "/%d", &id)
		}
		if err == nil {
			if err = h.W.Streams.Attach(context.Background(), id, h.operator, []byte(r.URL.Query().Get("by")), hello.Secret, hello.Received, conn); errors.Is(err, streams.ErrNoStream) {
				text, _ := json.Marshal(core.Welcome{Refused: err.Error()})
				_ = conn.Write(r.Context(), websocket.MessageText, text)
			}
		}
		conn.CloseNow()
	})
}

// told waits for why a stream is over, as whoever carried it is told.
func (h *house) told(over chan error) error {
	h.t.Helper()
	select {
	case err := <-over:
		return err
	case <-time.After(20 * time.Second):
		h.t.Fatal("it goes on")
	}
	return nil
}

// last is what is kept of the last stream, once it has ended.
func (h *house) last() (s store.Stream) {
	h.t.Helper()
	h.Until("the end of the stream", func() bool {
		all, err := h.DB.Streams(h.Context(), 0, false, 1)
		if err != nil || len(all) == 0 {
			h.t.Fatalf("%v %v", all, err)
		}
		s = all[0]
		return s.EndedAt != nil
	})
	return s
}

// TestMayNot: who may not opens none, and what cannot be reached gets none; nothing is kept of it.
func TestMayNot(t *testing.T) {
	t.Parallel()
	h := newHouse(t)
	refused := func(what string, err, want error) {
		t.Helper()
		if !errors.Is(err, want) {
			t.Errorf("%s: %v", what, err)
		}
	}
	wrong := func(what string, err error, name string) {
		t.Helper()
		var f door.FieldError
		if !errors.As(err, &f) || f.Field != name {
			t.Errorf("%s: %v", what, err)
		}
	}
	_, err := h.open("", "tunnel")
	wrong("another way", err, "way")
	_, err = h.open("two\nlines", "")
	wrong("two lines", err, "reason")
	h.policy(allowed + "  reason: true\n")
	_, err = h.open(" ", "")
	wrong("no reason", err, "reason")
	for what, text := range map[string]string{"nobody": "stream:\n  who: []\n", "another": strings.Replace(allowed, "Night-Lead", "day-lead", 1),
		"another tag": strings.Replace(allowed, "env=prod", "env=test", 1), "another region": strings.Replace(allowed, "tag: env=prod", "region: elsewhere", 1)} {
		h.policy(text)
		_, err = h.open("", "")
		refused(what, err, streams.ErrMayNot)
	}
	h.policy(allowed)
	was := h.i
	h.i.State = "stopped"
	_, err = h.open("", "")
	refused("stopped", err, streams.ErrNotThere)
	h.i = was
	h.i.Phase = store.Stopping
	_, err = h.open("", "")
	refused("stopping", err, streams.ErrNotThere)
	h.i = was
	h.i.Port = 1
	_, err = h.open("", "")
	refused("nothing listens", err, streams.ErrNoWay)
	h.i = was
	h.Exec("DELETE FROM host_keys")
	_, err = h.open("", "")
	refused("no host key", err, streams.ErrHostKey)
	if n := h.Count("SELECT count(*) FROM streams"); n != 0 {
		t.Errorf("%d streams are kept", n)
	}
}

// TestEnds: each reason for which a stream ends, told to whoever carries it and kept.
func TestEnds(t *testing.T) {
	t.Parallel()
	for _, c := range []struct {
		why core.Why
		do  func(h *house, o streams.Opened, c *stream.Conn)
	}{
		{core.Closed, func(_ *house, _ streams.Opened, c *stream.Conn) { c.Close() }},
		{core.Token, func(h *house, _ streams.Opened, _ *stream.Conn) { h.valid.Store(false) }},
		{core.Policy, func(h *house, _ streams.Opened, _ *stream.Conn) { h.policy("stream:\n  who: []\n") }},
		{core.Policy, func(h *house, _ streams.Opened, _ *stream.Conn) { h.Exec(`UPDATE instances SET tags = '{}'`) }},
		{core.Cut, func(h *house, o streams.Opened, _ *stream.Conn) {
			if err := h.DB.AskStreamEnd(h.Context(), kindtest.By, o.ID); err != nil {
				h.t.Error(err)
			}
		}},
		{core.Idle, func(h *house, _ streams.Opened, _ *stream.Conn) { h.ahead.Store(int64(time.Hour + 2*time.Second)) }},
		{core.TooLong, func(h *house, _ streams.Opened, _ *stream.Conn) { h.ahead.Store(int64(24*time.Hour + 2*time.Second)) }},
		{core.Stopped, func(h *house, _ streams.Opened, _ *stream.Conn) { h.W.Streams.Close() }},
	} {
		t.Run(string(c.why), func(t *testing.T) {
			t.Parallel()
			h := newHouse(t)
			o, err := h.open("a full disk", "")
			if err != nil {
				t.Fatal(err)
			}
			conn, over := h.carry(o, "token")
			b := make([]byte, 8)
			if _, err := io.ReadFull(conn, b); err != nil || string(b) != "SSH-2.0-" {
				t.Fatalf("%q %v", b, err)
			}
			c.do(h, o, conn)
			var ended stream.Over
			if err := h.told(over); c.why != core.Closed && (!errors.As(err, &ended) || ended.Reason != c.why.Words()) {
				t.Errorf("told: %v", err)
			}
			if s := h.last(); s.Why != c.why || s.Way != core.ByService || s.Reason != "a full disk" || s.Down < 8 || s.Address != by.Address {
				t.Errorf("kept: %+v", s)
			}
			if n := h.Count("SELECT count(*) FROM journal WHERE action IN ('stream.begin', 'stream.end')"); n != 2 {
				t.Errorf("%d entries in the journal", n)
			}
		})
	}
}

// TestUnasked: a stream goes on for a while though nobody can ask whether it may, and no longer; and one that was told as lost ends.
func TestUnasked(t *testing.T) {
	t.Parallel()
	h := newHouse(t)
	for _, c := range []struct {
		why core.Why
		sql string
	}{
		{core.Lost, "UPDATE streams SET ended_at = clock_timestamp(), why = 'lost'"},
		{core.Unasked, "ALTER TABLE streams RENAME TO away"},
	} {
		o, err := h.open("", "")
		if err != nil {
			t.Fatal(err)
		}
		_, over := h.carry(o, "token")
		h.Exec(c.sql)
		var ended stream.Over
		if err := h.told(over); !errors.As(err, &ended) || ended.Reason != c.why.Words() {
			t.Errorf("%s: %v", c.why, err)
		}
	}
}

// TestDropped: what a thousand streams held is given back, whether they were carried for a moment or by nobody.
func TestDropped(t *testing.T) {
	t.Parallel()
	h := newHouse(t)
	h.policy(strings.Replace(allowed, "each: 2", "each: 1000", 1))
	before := runtime.NumGoroutine()
	const all = 1000
	for n := range all {
		o, err := h.open("", "")
		if err != nil {
			t.Fatalf("%d: %v", n, err)
		}
		if n%4 == 0 { // the others are left as they are
			continue
		}
		c, over := h.carry(o, "token")
		if _, err := io.ReadFull(c, make([]byte, 4)); err != nil {
			t.Fatal(err)
		}
		c.Close()
		<-over
	}
	if err := h.DB.SetPolicy(h.Context(), kindtest.By, "stream:\n  who: []\n"); err != nil { // nobody may: what is left ends
		t.Fatal(err)
	}
	h.W.Door.PolicyChanged()
	h.Until("all of them to end", func() bool {
		return h.W.Streams.Live() == 0 && h.Count("SELECT count(*) FROM streams WHERE ended_at IS NULL") == 0
	})
	if n := h.Count("SELECT count(*) FROM streams"); n != all {
		t.Errorf("%d were kept", n)
	}
	h.Until("what they held to be given back", func() bool { return runtime.NumGoroutine() < before+all/4 })
}

// TestWhose: a stream is carried by whoever opened it, with its secret, and by nobody else; and an operator has as many as the policy lets.
func TestWhose(t *testing.T) {
	t.Parallel()
	h := newHouse(t)
	o, err := h.open("", "")
	if err != nil {
		t.Fatal(err)
	}
	var no stream.Refused
	_, over := h.carry(o, "another token")
	if err := h.told(over); !errors.As(err, &no) {
		t.Errorf("another token: %v", err)
	}
	wrong := o
	wrong.Secret += "x"
	if _, over = h.carry(wrong, "token"); !errors.As(h.told(over), &no) {
		t.Error("another secret is taken")
	}
	wrong = o
	wrong.ID++
	if _, over = h.carry(wrong, "token"); !errors.As(h.told(over), &no) {
		t.Error("another number is taken")
	}
	if _, err := h.open("", ""); err != nil {
		t.Errorf("the second: %v", err)
	}
	if _, err := h.open("", ""); !errors.Is(err, store.ErrStreams) {
		t.Errorf("the third: %v", err)
	}
	c, _ := h.carry(o, "token")
	if _, err := io.ReadFull(c, make([]byte, 4)); err != nil {
		t.Error(err)
	}
}

// TestMet: another server at the address is found out, as long as the host key was not met within the hour.
func TestMet(t *testing.T) {
	t.Parallel()
	h := newHouse(t)
	if _, err := h.open("", ""); err != nil {
		t.Fatal(err)
	}
	h.Exec("UPDATE host_keys SET blob = decode('0000000b7373682d65643235353139000000201111111111111111111111111111111111111111111111111111111111111111', 'hex')")
	if _, err := h.open("", ""); !errors.Is(err, streams.ErrHostKey) {
		t.Errorf("another record of the host key, which nobody has met: %v", err)
	}
}

// TestLong: a stream that lasts longer than the policy's time stands on today, until it ends.
func TestLong(t *testing.T) {
	t.Parallel()
	h := newHouse(t)
	h.policy(allowed + "  long: 1s\n")
	o, err := h.open("", "")
	if err != nil {
		t.Fatal(err)
	}
	told := func(n int) func() bool {
		return func() bool {
			return h.Count("SELECT count(*) FROM matters WHERE reason = 'stream-lasts-long'") == n
		}
	}
	h.Until("it to stand on today", told(1))
	if err := h.DB.AskStreamEnd(h.Context(), kindtest.By, o.ID); err != nil {
		t.Fatal(err)
	}
	h.Until("it to be gone", told(0))
}

// TestLost: what a service carried that was killed is told as lost, and counts for no operator.
func TestLost(t *testing.T) {
	t.Parallel()
	h := newHouse(t)
	o, err := h.open("", "")
	if err != nil {
		t.Fatal(err)
	}
	h.Exec("INSERT INTO streams (instance_id, operator_id, operator, address, way, target, journal_id, seen_at) SELECT instance_id, operator_id, operator, address, way, target, journal_id, "+
		"clock_timestamp() - interval '61 seconds' FROM streams WHERE id = $1", o.ID)
	if err := h.DB.LostStreams(h.Context()); err != nil {
		t.Fatal(err)
	}
	if n := h.Count("SELECT count(*) FROM streams WHERE why = 'lost' AND ended_at IS NOT NULL"); n != 1 {
		t.Errorf("%d are lost", n)
	}
	if n := h.Count("SELECT count(*) FROM streams WHERE ended_at IS NULL"); n != 1 {
		t.Errorf("%d are open", n)
	}
}

// TestSessionKey: a pair that was made for a session is let in with an end and from where the stream comes, where the server keeps the end itself; it is
// withdrawn, and forgotten.
func TestSessionKey(t *testing.T) {
	t.Parallel()
	h := newHouse(t)
	o, err := h.open("the tally", "")
	if err != nil {
		t.Fatal(err)
	}
	if _, _, _, err := h.W.Streams.Of(o.ID, []byte("another token")); !errors.Is(err, streams.ErrNoStream) {
		t.Errorf("another's: %v", err)
	}
	i, from, reason, err := h.W.Streams.Of(o.ID, []byte("token"))
	if err != nil || i.ID != h.i.ID || from == "" || reason != "the tally" {
		t.Fatalf("%v %q %q %v", i.ID, from, reason, err)
	}
	pair, err := keypair.Create(keypair.Ed25519, "x")
	if err != nil {
		t.Fatal(err)
	}
	rsa, err := keypair.Create(keypair.ECDSA256, "x")
	if err != nil {
		t.Fatal(err)
	}
	var wrong door.FieldError
	if _, err := h.W.Accesses.AddForSession(h.Context(), by, i, o.ID, rsa.Public, from, reason); !errors.As(err, &wrong) {
		t.Errorf("another kind: %v", err)
	}
	if _, err := h.W.Accesses.AddForSession(h.Context(), by, i, o.ID, pair.Public, from, " "); !errors.As(err, &wrong) || wrong.Field != "reason" {
		t.Errorf("no reason: %v", err)
	}
	w, err := h.W.Accesses.AddForSession(h.Context(), by, i, o.ID, pair.Public, from, reason)
	if err != nil {
		t.Fatal(err)
	}
	h.Until("its line", func() bool { return strings.Contains(h.Keys("berth-1"), "session-") && h.Now(w).At == "end" })
	if keys := h.Keys("berth-1"); !strings.Contains(keys, `expiry-time="`) || !strings.Contains(keys, `from="`+from+`/32"`) {
		t.Errorf("the line: %s", keys)
	}
	if n := h.Count("SELECT count(*) FROM access_terms WHERE enforced AND until_at < clock_timestamp() + interval '5 minutes' AND reason = 'the tally'"); n != 1 {
		t.Errorf("%d terms", n)
	}
	gone := h.Done(h.W.Accesses.RemoveAfterSession(h.Context(), by, i, o.ID))
	if gone.State != store.Done || strings.Contains(h.Keys("berth-1"), "session-") {
		t.Errorf("%s: %s\n%s", gone.State, gone.Outcome, h.Keys("berth-1"))
	}
	h.Until("the work to end", func() bool { return h.Now(w).Over() })
	if ids, err := h.DB.SessionKeysOver(h.Context()); err != nil || len(ids) != 0 {
		t.Errorf("within a minute: %v %v", ids, err)
	}
	h.Exec("UPDATE streams SET begun_at = begun_at - interval '2 minutes'")
	if err := h.W.Streams.ForgetKeys(h.Context()); err != nil {
		t.Error(err)
	}
	if n := h.Count("SELECT count(*) FROM keys WHERE name LIKE 'session-%'"); n != 0 {
		t.Error("it is not forgotten")
	}
}

// TestSessionKeyWithoutEnd: where the server is too old to keep an end by itself (expiry-time, OpenSSH 7.7), nobody is let in for a session.
func TestSessionKeyWithoutEnd(t *testing.T) {
	t.Parallel()
	h := newHouse(t)
	config := filepath.Join(filepath.Dir(h.KeysFile(h.i)), "../../../etc/ssh/sshd_config.d")
	err := os.MkdirAll(config, 0o755)
	if err == nil {
		err = os.WriteFile(filepath.Join(config, "old.conf"), []byte("StandinIdentification SSH-2.0-OpenSSH_7.6p1\n"), 0o600)
	}
	if err != nil {
		t.Fatal(err)
	}
	o, err := h.open("the tally", "")
	if err != nil {
		t.Fatal(err)
	}
	i, from, reason, err := h.W.Streams.Of(o.ID, []byte("token"))
	if err != nil {
		t.Fatal(err)
	}
	pair, err := keypair.Create(keypair.Ed25519, "x")
	if err != nil {
		t.Fatal(err)
	}
	before := h.Keys("berth-1")
	w := h.Done(h.W.Accesses.AddForSession(h.Context(), by, i, o.ID, pair.Public, from, reason))
	if w.State != store.WentBack || !strings.Contains(w.Trouble, "nobody is let in for a session without that") {
		t.Errorf("%s: %s", w.State, w.Trouble)
	}
	if now := h.Keys("berth-1"); now != before {
		t.Errorf("it was let in: %s", now)
	}
}

// TestElsewhere: a stream that another replica carries, and an agent that is connected to another one, are told as that.
func TestElsewhere(t *testing.T) {
	t.Parallel()
	h := newHouse(t)
	h.W.Agents.Address = h.LetAgentsIn() // by a replica of its own
	i, _, err := h.W.Lifecycle.Launch(h.Context(), kindtest.By, store.Once{}, lifecycle.LaunchRequest{Name: "berth-2", Region: "north-pier", Image: "debian-12", Size: "medium",
		Keys: []string{"first"}, Tags: map[string]string{"env": "prod"}, AgentVerbs: []string{"look", "stream"}})
	if w := h.Done(store.Work{ID: i.WorkID}, err); w.State != store.Done {
		t.Fatalf("%s: %s", w.State, w.Outcome)
	}
	h.i = h.Instance("berth-2")
	h.Until("its agent to come", func() bool { return h.W.Agents.StreamsElsewhere(h.Context(), h.i) })
	if _, err := h.open("", core.ByAgent); !errors.Is(err, streams.ErrElsewhere) {
		t.Errorf("by its agent: %v", err)
	}
	o, err := h.open("", "")
	if err != nil || o.Way != core.ByService {
		t.Errorf("by itself: %+v %v", o, err)
	}
	// Shut to the service, it is for the replica that has the agent, as long as nobody has asked for this way alone.
	h.Exec("UPDATE instances SET address = '192.0.2.1' WHERE id = $1", h.i.ID) // nobody answers there (RFC 5737)
	h.i = h.Instance("berth-2")
	if _, err := h.open("", core.ByService); !errors.Is(err, streams.ErrShut) {
		t.Errorf("shut: %v", err)
	}
	if _, err := h.open("", ""); !errors.Is(err, streams.ErrElsewhere) {
		t.Errorf("shut, and its agent is elsewhere: %v", err)
	}
	h.Exec("INSERT INTO streams (instance_id, operator_id, operator, address, way, target, journal_id) SELECT instance_id, operator_id, operator, address, way, target, journal_id FROM streams WHERE id = $1", o.ID)
	other := int64(h.Count("SELECT max(id) FROM streams"))
	if err := h.W.Streams.Attach(h.Context(), other, h.operator, []byte("token"), "x", 0, nil); !errors.Is(err, streams.ErrElsewhere) {
		t.Errorf("another replica's: %v", err)
	}
	if err := h.W.Streams.Attach(h.Context(), other, h.operator+1, []byte("token"), "x", 0, nil); !errors.Is(err, streams.ErrNoStream) {
		t.Errorf("another replica's, and another operator's: %v", err)
	}
}

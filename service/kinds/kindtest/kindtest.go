// Package kindtest has the whole service without its API within the test, on a database and a
// stand-in cloud of its own, and takes every kind of work through a case: killed at each of its
// halts, gone on with by another replica, and taken back from there. For tests alone.
//
//	func TestShare(t *testing.T) {
//		kindtest.EveryHalt(t, kindtest.Case{Kind: "access-add", ...})
//
// The stand-in proves nothing about a door: that a real server is edited so stands in package e2e.
package kindtest

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"math/rand/v2"
	"net"
	"net/http"
	"net/http/httptest"
	"net/netip"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"

	"plumlatch/core/keypair"
	"plumlatch/reach"
	"plumlatch/service/atrest"
	"plumlatch/service/cloud"
	driver "plumlatch/service/cloud/standin"
	"plumlatch/service/door"
	"plumlatch/service/kinds"
	"plumlatch/service/lifecycle"
	"plumlatch/service/postgres/pgtest"
	"plumlatch/service/store"
	"plumlatch/service/work"
	"plumlatch/standin"
)

// By is who asks for everything.
var By = store.Actor{Operator: "night-lead", Address: "192.0.2.1"}

// House is the service, its database and its cloud.
type House struct {
	testing.TB
	DB *store.Store
	// W is the replica that is there. It is another one after each Halted.
	W     *kinds.Worker
	Cloud *standin.Cloud

	url, folder string
	cloudURL    string
	driver      *driver.Driver
	of          *store.Store // the connection of W
	bare        *pgx.Conn    // to end the claims of a replica that was killed
	while       func(*House, store.Work)
	follow      time.Duration
	letIn       *kinds.Worker // by LetAgentsIn
	kept        []byte        // by KeepKeys
	keptOf      []store.Access
}

const (
	lease = 4 * time.Second // long enough that no replica which lives loses its claim on a slow machine
	token = "for-the-test"
)

// blocks are the networks that stand-ins of this process have taken.
var blocks atomic.Uint32

// New makes a house with no instance, no key, and a replica that carries out work.
func New(t testing.TB) *House { return NewFollowing(t, -1) }

// NewFollowing is New with a replica that asks the cloud so often what has changed without us.
func NewFollowing(t testing.TB, every time.Duration) *House {
	t.Helper()
	h := &House{TB: t, url: pgtest.URL(t), folder: t.TempDir(), follow: every}
	h.DB, h.bare = pgtest.OpenURL(t, h.url), pgtest.Connect(t, h.url)
	if _, err := atrest.Create(h.file("identity.txt")); err != nil {
		t.Fatal(err)
	}
	for tries := 0; h.Cloud == nil; tries++ { // each process begins somewhere else, and a taken block is left alone
		sum := sha256.Sum256(fmt.Appendf(nil, "%d %d", os.Getpid(), blocks.Add(1)))
		block := netip.PrefixFrom(netip.AddrFrom4([4]byte{127, 128 + sum[0]%100, sum[1] &^ 15, 0}), 20)
		c, err := standin.Open(standin.Options{Folder: h.file("cloud"), Network: block, Pace: 20 * time.Millisecond,
			Log: slog.New(slog.DiscardHandler)})
		if err != nil && tries > 20 {
			t.Fatal(err)
		}
		h.Cloud = c
	}
	t.Cleanup(func() { _ = h.Cloud.Close() })
	web := httptest.NewServer(h.Cloud.Handler(token))
	t.Cleanup(web.Close)
	h.cloudURL, h.driver = web.URL, driver.New(web.URL, token)
	h.GoOn()
	t.Cleanup(h.end)
	return h
}

// OutStaysOpen has the cloud be one that cannot shut the way out of a copy.
func (h *House) OutStaysOpen() { h.driver.OutStaysOpen = true }

func (h *House) file(name string) string { return filepath.Join(h.folder, name) }

// replica makes a service on a connection of its own to the database.
func (h *House) replica(halt func(db *store.Store, point string)) *kinds.Worker {
	h.Helper()
	db := pgtest.OpenURL(h.TB, h.url)
	cipher, err := atrest.Load(h.file("identity.txt"))
	if err == nil {
		err = cipher.Keep(h.Context(), db)
	}
	heads, e := atrest.OpenHeads(h.file("journal"))
	if err = errors.Join(err, e); err != nil {
		h.Fatal(err)
	}
	d := &door.Service{Store: db, Clouds: cloud.One(h.driver), Reach: reach.Policy{AllowLoopback: true, Source: netip.MustParseAddr("127.0.0.1")}, Cipher: cipher, Heads: heads,
		Log: slog.New(slog.DiscardHandler), Lease: lease, StateLimit: 10 * time.Second, FollowEvery: h.follow}
	if halt != nil {
		d.Halt = func(point string) { halt(db, point) }
	}
	w := kinds.New(d, 0)
	if err := w.Start(context.Background()); err != nil {
		h.Fatal(err)
	}
	h.of = db
	return w
}

// LetAgentsIn lets agents in on an address, which it returns, until the test ends: whichever replica is killed meanwhile.
func (h *House) LetAgentsIn() string {
	h.Helper()
	cipher, err := atrest.Load(h.file("identity.txt"))
	if err == nil {
		err = cipher.Keep(h.Context(), h.DB)
	}
	if err != nil {
		h.Fatal(err)
	}
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		h.Fatal(err)
	}
	w := kinds.New(&door.Service{Store: h.DB, Cipher: cipher, Log: slog.New(slog.DiscardHandler)}, 0)
	w.Agents.RenewEvery = 300 * time.Millisecond
	if err := w.Agents.Serve(h.Context(), l, l.Addr().String()); err != nil {
		h.Fatal(err)
	}
	h.Cleanup(w.Agents.Close)
	h.letIn = w
	return l.Addr().String()
}

// Connected tells whether an instance's agent is connected to the replica of LetAgentsIn.
func (h *House) Connected(i store.Instance) bool {
	h.Helper()
	_, is, err := h.letIn.Agents.Of(h.Context(), i)
	if err != nil && !errors.Is(err, store.ErrNotFound) {
		h.Fatal(err)
	}
	return is
}

// end ends the replica that is there, in good order unless it was killed.
func (h *House) end() {
	h.W.Close()
	_ = h.of.Close()
}

// GoOn has another replica carry out what there is, at once.
func (h *House) GoOn() {
	h.Helper()
	h.claimsRunOut()
	h.W = h.replica(nil)
}

// Halted begins a piece of work and carries it out by a replica that is killed at a point: nothing of
// it reaches the database any more. came is false if the work was over before it came there. Nobody
// carries out anything afterwards, until GoOn.
func (h *House) Halted(point string, begin func(*House) (store.Work, error)) (w store.Work, came bool) {
	h.Helper()
	h.end()
	h.claimsRunOut()
	at, asked := make(chan struct{}), make(chan struct{})
	var once sync.Once
	h.W = h.replica(func(db *store.Store, p string) {
		if p != point {
			return
		}
		first := false
		once.Do(func() { first = true })
		if first {
			select { // whoever asks for the work asks the same replica, and has the answer before that is killed
			case <-asked:
			case <-time.After(5 * time.Second): // unless it waits for the work itself
			}
			_ = db.Close()
			close(at)
			runtime.Goexit()
		}
	})
	w = h.begun(begin)
	close(asked)
	for deadline := time.Now().Add(3 * time.Minute); ; time.Sleep(5 * time.Millisecond) {
		select {
		case <-at:
			h.end()
			return w, true
		default:
		}
		now := h.Now(w)
		if now.Over() {
			h.end()
			return w, false
		}
		if time.Now().After(deadline) {
			h.Fatalf("work %d, %s, neither comes to %s nor to its end: %s at %s", w.ID, w.Title, point, now.State, now.At)
		}
	}
}

// claimsRunOut has what a killed replica had claimed be taken over at once, as if its claims' time
// had passed.
func (h *House) claimsRunOut() {
	h.Helper()
	if _, err := h.bare.Exec(h.Context(),
		"UPDATE work SET free_at = now() - interval '1 s' WHERE state = 'running'"); err != nil {
		h.Fatal(err)
	}
}

// While has something done again and again while work waits: for what a person has to do.
func (h *House) While(do func(h *House, w store.Work)) { h.while = do }

// Older makes the accesses to an instance as old as if they had been recorded then.
func (h *House) Older(i store.Instance, then time.Time) {
	h.Helper()
	if _, err := h.bare.Exec(h.Context(), "UPDATE access SET created_at = $2 WHERE instance_id = $1", i.ID, then); err != nil {
		h.Fatal(err)
	}
}

// LoseClaim takes the claim of a piece of work away from whoever has it, as when it was asleep for too long: the
// step at hand is done again, from its beginning.
func (h *House) LoseClaim(w store.Work) {
	h.Helper()
	if _, err := h.bare.Exec(h.Context(), "UPDATE work SET fence = fence + 1, free_at = now() - interval '1 s' "+
		"WHERE id = $1 AND state = 'running'", w.ID); err != nil {
		h.Fatal(err)
	}
}

// Fault has something go wrong with the cloud's calls to come.
func (h *House) Fault(f standin.Fault) {
	h.Helper()
	text, err := json.Marshal(f)
	if err != nil {
		h.Fatal(err)
	}
	req, err := http.NewRequestWithContext(h.Context(), "POST", h.cloudURL+"/v1/faults", bytes.NewReader(text))
	if err != nil {
		h.Fatal(err)
	}
	req.Header.Set("Authorization", "Bearer "+token)
	answer, err := new(http.Transport).RoundTrip(req)
	if err != nil {
		h.Fatal(err)
	}
	defer answer.Body.Close()
	if answer.StatusCode >= 300 {
		h.Fatalf("a fault of the cloud: %s", answer.Status)
	}
}

func (h *House) begun(begin func(*House) (store.Work, error)) store.Work {
	h.Helper()
	w, err := begin(h)
	if err != nil {
		h.Fatal(err)
	}
	return w
}

// Done waits until a piece of work is over, and returns it.
func (h *House) Done(w store.Work, err error) store.Work {
	h.Helper()
	if err != nil {
		h.Fatal(err)
	}
	for deadline := time.Now().Add(3 * time.Minute); ; time.Sleep(5 * time.Millisecond) {
		now := h.Now(w)
		if now.Over() {
			return now
		}
		if time.Now().After(deadline) {
			h.Fatalf("work %d, %s, does not end: %s at %s, %s", now.ID, now.Title, now.State, now.At, now.WaitsFor)
		}
	}
}

// Key records a new key, with a person as its holder, whose private half was shown.
func (h *House) Key(name string) store.Key {
	h.Helper()
	pair, err := keypair.Create(keypair.Ed25519, name)
	if err == nil {
		err = h.DB.AddHolder(h.Context(), By, name+"-holder", "person")
	}
	if err != nil {
		h.Fatal(err)
	}
	k, err := h.DB.AddKey(h.Context(), By, store.NewKey{Name: name, Public: pair.Public, Origin: store.MadeHere,
		Holder: name + "-holder"})
	if err == nil {
		err = h.DB.KeyShown(h.Context(), By, k)
	}
	if err != nil {
		h.Fatal(err)
	}
	return k
}

// Launch launches an instance that a key opens.
func (h *House) Launch(name, key string) store.Instance {
	h.Helper()
	if w := h.Done(h.Launching(name, key)); w.State != store.Done {
		h.Fatalf("%s: %s", w.State, w.Outcome)
	}
	return h.Instance(name)
}

// Launching begins to launch an instance that a key opens.
func (h *House) Launching(name, key string) (store.Work, error) {
	i, _, err := h.W.Lifecycle.Launch(h.Context(), By, store.Once{}, lifecycle.LaunchRequest{Name: name,
		Region: "north-pier", Image: "debian-12", Size: "small", Keys: []string{key}})
	return store.Work{ID: i.WorkID}, err
}

// Instance reads an instance of the ledger.
func (h *House) Instance(name string) store.Instance {
	h.Helper()
	i, err := h.DB.InstanceByName(h.Context(), name)
	if err != nil {
		h.Fatal(err)
	}
	return i
}

// KeysFile is where an instance's file of keys lies.
func (h *House) KeysFile(i store.Instance) string {
	return h.file("cloud/instances/" + i.CloudID + "/home/debian/.ssh/authorized_keys")
}

// Keys is the text of an instance's file of keys, and the names of the keys that are recorded to open it.
func (h *House) Keys(name string) string {
	h.Helper()
	i := h.Instance(name)
	text, err := os.ReadFile(h.KeysFile(i))
	if err != nil {
		h.Fatal(err)
	}
	rows, err := h.DB.AccessesOf(h.Context(), i.ID)
	if err != nil {
		h.Fatal(err)
	}
	var names []string
	for _, a := range rows {
		names = append(names, a.Key)
	}
	slices.Sort(names)
	return fmt.Sprintf("%s\nrecorded: %s", strings.TrimSpace(string(text)), strings.Join(names, ", "))
}

// Unplaced takes a key out of an instance's ledger and file again, as if it had never been there.
func (h *House) Unplaced(name, key string) {
	h.Helper()
	i := h.Instance(name)
	rows, err := h.DB.AccessesOf(h.Context(), i.ID)
	for _, a := range rows {
		if a.Key == key && err == nil {
			err = h.DB.DropAccess(h.Context(), a.ID)
		}
	}
	file := h.KeysFile(i)
	text, e := os.ReadFile(file)
	if err = errors.Join(err, e); err != nil {
		h.Fatal(err)
	}
	var kept []string
	for line := range strings.Lines(string(text)) {
		// An empty line stands before a line that was appended.
		if text := strings.TrimSpace(line); text != "" && !strings.HasSuffix(text, " "+key) {
			kept = append(kept, line)
		}
	}
	if err := os.WriteFile(file, []byte(strings.Join(kept, "")), 0o600); err != nil {
		h.Fatal(err)
	}
}

// KeepKeys remembers an instance's file of keys, and which keys are on record there, for KeysBack.
func (h *House) KeepKeys(name string) {
	h.Helper()
	i := h.Instance(name)
	text, err := os.ReadFile(h.KeysFile(i))
	rows, e := h.DB.AccessesOf(h.Context(), i.ID)
	if err = errors.Join(err, e); err != nil {
		h.Fatal(err)
	}
	h.kept, h.keptOf = text, rows
}

// KeysBack brings back what KeepKeys remembered, by hand.
func (h *House) KeysBack(name string) {
	h.Helper()
	i := h.Instance(name)
	rows, err := h.DB.AccessesOf(h.Context(), i.ID)
	if err = errors.Join(err, os.WriteFile(h.KeysFile(i), h.kept, 0o600)); err != nil {
		h.Fatal(err)
	}
	has := func(all []store.Access, key int64) bool {
		return slices.ContainsFunc(all, func(a store.Access) bool { return a.KeyID == key })
	}
	for _, a := range rows {
		if !has(h.keptOf, a.KeyID) {
			err = errors.Join(err, h.DB.DropAccess(h.Context(), a.ID))
		}
	}
	for _, a := range h.keptOf {
		if !has(rows, a.KeyID) {
			_, e := h.DB.AddAccess(h.Context(), i.ID, a.KeyID, a.LoginUser)
			err = errors.Join(err, e)
		}
	}
	if err != nil {
		h.Fatal(err)
	}
}

// ByHand appends a line to an instance's file of keys, as somebody does without us, and takes it out
// again where line is "".
func (h *House) ByHand(name, line string) {
	h.Helper()
	file := h.KeysFile(h.Instance(name))
	text, err := os.ReadFile(file)
	if err == nil {
		before, _, _ := strings.Cut(string(text), byHand)
		if line != "" {
			before += byHand + line + "\n"
		}
		err = os.WriteFile(file, []byte(before), 0o600)
	}
	if err != nil {
		h.Fatal(err)
	}
}

const byHand = "# by hand\n"

// Until waits until something is so, a minute at most.
func (h *House) Until(what string, is func() bool) {
	h.Helper()
	for deadline := time.Now().Add(3 * time.Minute); !is(); time.Sleep(20 * time.Millisecond) {
		if time.Now().After(deadline) {
			h.Fatalf("it never came to this: %s", what)
		}
	}
}

// Rules are the ranges that the cloud lets in to an instance.
func (h *House) Rules(name string) string {
	h.Helper()
	groups, err := h.driver.Groups(h.Context(), h.Instance(name).CloudID)
	if err != nil {
		h.Fatal(err)
	}
	var all []string
	for _, g := range groups {
		for _, r := range g.Rules {
			all = append(all, fmt.Sprintf("%t %v", g.Own, r.From))
		}
	}
	slices.Sort(all)
	return strings.Join(all, "\n")
}

// Machine is what the cloud has of an instance, and how many instances it has at all.
func (h *House) Machine(name string) string {
	h.Helper()
	i := h.Instance(name)
	in, err := h.Cloud.Get(i.CloudID)
	all := h.Cloud.List("")
	text, e := h.driver.UserData(h.Context(), i.CloudID)
	if err = errors.Join(err, e); err != nil {
		h.Fatal(err)
	}
	alive := 0
	for _, in := range all {
		if in.State != standin.Removed {
			alive++
		}
	}
	return fmt.Sprintf("%s in the cloud, %s in the ledger, %s under %s, user data %x, of %d", in.State, i.State,
		in.RootVolume, in.RootDevice, sha256.Sum256([]byte(text)), alive)
}

// Case is one way through a kind of work.
type Case struct {
	Kind string
	// Prepare makes, once, what all rounds need. nil for nothing.
	Prepare func(h *House)
	// Begin begins the work.
	Begin func(h *House) (store.Work, error)
	// Reset brings what Begin's work made of it back to what it was.
	Reset func(h *House)
	// While is called again and again while the work waits: for what a person has to do. nil for nothing.
	While func(h *House, w store.Work)
	// Some is how many of the points one test takes, by chance, where all would take minutes: 0 for
	// all. PLUMLATCH_EVERY_HALT in the environment has it take all.
	Some int
	// Of takes those points alone that contain it. "" for all.
	Of string
	// Returns is a point to which the work comes and from which it can go back; what goes back is
	// killed from there on. Without it the last one is taken that was seen.
	Returns string
	// Stays are points from which what it did stays though it is cancelled: its parts are over.
	Stays []string
	// State is all that the work may change: in the cloud, at the door, in the ledger.
	State func(h *House) string
}

// EveryHalt takes a case through each halt of its kind: killed there, the work is gone on with by
// another replica, and comes to the same end as without; and, cancelled there, it leaves
// everything as it was, unless it was past the point of no return. The way back is
// killed at each of its halts too.
func EveryHalt(t *testing.T, c Case) {
	var on, back []string
	for _, p := range kinds.Halts() {
		switch {
		case !strings.HasPrefix(p, c.Kind+"/") || !strings.Contains(p, c.Of):
		case strings.Contains(p, "/undo/"):
			back = append(back, p)
		default:
			on = append(on, p)
		}
	}
	if len(on) == 0 {
		t.Fatalf("no kind is called %s", c.Kind)
	}
	shares := 4
	if c.Some > 0 && os.Getenv("PLUMLATCH_EVERY_HALT") == "" {
		on, back, shares = some(on, c.Some), some(back, c.Some/2), 2
		t.Logf("at %s", strings.Join(append(slices.Clone(on), back...), ", "))
	}
	for share := range shares { // the points are shared out over as many houses
		t.Run(fmt.Sprint(share), func(t *testing.T) {
			t.Parallel()
			h := New(t)
			h.while = c.While
			if c.Prepare != nil {
				c.Prepare(h)
			}
			before := c.State(h)
			if w := h.Done(c.Begin(h)); w.State != store.Done {
				t.Fatalf("%s: %s", w.State, w.Outcome)
			}
			after := c.State(h)
			if after == before {
				t.Fatalf("the case changes nothing of\n%s", before)
			}
			reset := func() {
				t.Helper()
				c.Reset(h)
				if now := c.State(h); now != before {
					t.Fatalf("not as it was before:\n%s\nbut\n%s", before, now)
				}
			}
			// is tells whether all is as it should be, by how the work ended.
			is := func(point string, w store.Work) {
				t.Helper()
				want := map[store.WorkState]string{store.Done: after, store.Cancelled: before}[w.State]
				if now := c.State(h); now != want {
					t.Errorf("halted at %s it is %s (%s), and there is\n%s\nand not\n%s", point, w.State, w.Outcome, now, want)
				}
			}
			reset()
			returns := c.Returns // the last point from which it goes back
			for n, point := range on {
				if n%shares != share && (point != on[len(on)-1] || c.Some > 0) {
					continue
				}
				w, came := h.Halted(point, c.Begin)
				h.GoOn()
				w = h.Done(w, nil)
				if w.State != store.Done {
					t.Errorf("halted at %s it is %s: %s", point, w.State, w.Outcome)
				}
				is(point, w)
				reset()
				if !came {
					continue
				}
				if w, came = h.Halted(point, c.Begin); !came {
					t.Fatalf("it did not come to %s once more", point)
				}
				h.W = h.replica(nil) // before it can take over, somebody cancels
				err := h.W.Door.Engine.Cancel(h.Context(), By, h.Now(w))
				h.claimsRunOut()
				w = h.Done(w, nil)
				// Past the point of no return, or over before anybody could say so.
				if _, late := errors.AsType[work.ErrNoReturn](err); late || errors.Is(err, store.ErrWorkState) {
					if w.State != store.Done {
						t.Errorf("cancelled at %s: %v, but it is %s: %s", point, err, w.State, w.Outcome)
					}
				} else if err != nil || w.State != store.Cancelled {
					t.Errorf("cancelled at %s: %v; %s: %s", point, err, w.State, w.Outcome)
				} else if slices.Contains(c.Stays, point) {
					w.State = store.Done
				} else if c.Returns == "" {
					returns = point
				}
				is("cancelled at "+point, w)
				reset()
			}
			for n, point := range back {
				if n%shares != share || returns == "" {
					continue
				}
				w, _ := h.Halted(returns, c.Begin)
				if err := h.DB.CancelWork(h.Context(), By, h.Now(w)); err != nil {
					t.Fatal(err)
				}
				h.Halted(point, func(*House) (store.Work, error) { return w, nil })
				h.GoOn()
				w = h.Done(w, nil)
				if w.State != store.Cancelled {
					t.Errorf("halted at %s it is %s: %s", point, w.State, w.Outcome)
				}
				is(point, w)
				reset()
			}
		})
	}
}

// Now is a piece of work as it is now.
func (h *House) Now(w store.Work) store.Work {
	h.Helper()
	now, err := h.DB.WorkByID(h.Context(), w.ID)
	if err != nil {
		h.Fatal(err)
	}
	if now.State == store.Waiting && h.while != nil {
		h.while(h, now)
	}
	return now
}

// some are n of the points, chosen by chance.
func some(all []string, n int) []string {
	all = slices.Clone(all)
	rand.Shuffle(len(all), func(i, j int) { all[i], all[j] = all[j], all[i] })
	return all[:min(n, len(all))]
}

// Exec runs a statement in the database, as its owner: for what a test has to have there, and no call of the service makes.
func (h *House) Exec(sql string, args ...any) {
	h.Helper()
	if _, err := h.bare.Exec(h.Context(), sql, args...); err != nil {
		h.Fatal(err)
	}
}

// Count runs a query that counts.
func (h *House) Count(sql string, args ...any) (n int) {
	h.Helper()
	if err := h.bare.QueryRow(h.Context(), sql, args...).Scan(&n); err != nil {
		h.Fatal(err)
	}
	return n
}

package e2e

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"flag"
	"fmt"
	"maps"
	"math/rand/v2"
	"net"
	"net/http"
	"net/netip"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"

	"plumlatch/client"
	"plumlatch/core/wire"
	"plumlatch/service/kinds"
	"plumlatch/standin"
)

var (
	matrixAll  = flag.Bool("matrix", false, "run every case of the harness, not a sample")
	matrixOnly = flag.String("matrix-only", "", "run only the cases whose name has this in it")
	matrixSeed = flag.Uint64("matrix-seed", 0, "choose the sample by this seed; 0 for a new one")
)

const (
	sampleSize   = 16 // of cases with processes
	sampleWithin = 16 // of those without
	slotCount    = 8
)

// scenario is one way through a kind of work.
type scenario struct {
	name string
	kind string // whose halts it passes
	back bool   // it goes back: the halts of going back are passed too
	// lacks are parts of halts that this way does not pass, and another does.
	lacks []string
	// lost: it is about answers that are lost, and passes no halts of its own.
	lost bool
	// from is the address that its services ask from; "" leaves it to the system.
	from string
	// slow is a cloud call that is slowed down, so that a cancel comes in time.
	slow string
	// prepare makes what the work is about, before anything can halt.
	prepare func(x *trial) error
	// begin begins the work and returns its ID.
	begin func(x *trial) (int64, error)
	// check tells which rules are broken, once the work is over.
	check func(x *trial, w wire.Work) []string
}

// trial is one case: a scenario with something that goes wrong in it.
type trial struct {
	scenario scenario
	point    string     // the halt; "" for none
	how      string     // kill or stop
	fault    *faultSpec // of the cloud; nil for none

	slot     *slot
	instance string // its name
	cloudID  string
	replicas []*replica
	client   *client.Client
	ended    chan error        // of that program
	state    map[string]string // what a scenario keeps
	unwatch  func()            // ends what watches the case
	later    []func() error    // what it could not say to a service that was halted
	late     bool              // the work was faster than whoever was to cancel it, or took another way: this run says nothing
}

type faultSpec struct {
	Call  string `json:"call"`
	How   string `json:"how"`
	Name  string `json:"name"`
	Times int    `json:"times"`
	Delay int    `json:"delay_ms"`
}

func (x *trial) name() string {
	parts := []string{x.scenario.name}
	if x.point != "" {
		parts = append(parts, x.how, x.point)
	}
	if x.fault != nil {
		parts = append(parts, x.fault.Call, x.fault.How)
	}
	return strings.Join(parts, " ")
}

// halts are those that a scenario can pass. Those of keys that the cloud's agent places are passed in the tests of
// the kinds themselves (those of an agent too, as the stand-in's instances have none): an instance has such keys only where somebody has put them there, and one of the whole project
// would be in the way of every other test.
func halts() []string {
	return slices.DeleteFunc(kinds.Halts(), func(p string) bool {
		return strings.Contains(p, "/unplace/") || strings.Contains(p, "/place-again/") || strings.HasPrefix(p, "cloud-key-split/") ||
			strings.HasPrefix(p, "set-logins/") || strings.HasPrefix(p, "set-user/") || strings.HasPrefix(p, "restore-agent/") || strings.HasPrefix(p, "restore-cloud-agent/") || strings.HasPrefix(p, "launch/agent/") ||
			strings.HasPrefix(p, "keybook-settle/") || strings.HasPrefix(p, "access-settle/") || strings.HasPrefix(p, "access-end/")
	})
}

// trials lists every case there is, from the step tables.
func trials() []*trial {
	var out []*trial
	points := halts()
	for _, s := range scenarios {
		for _, p := range points {
			if s.lost || !strings.HasPrefix(p, s.kind+"/") || strings.Contains(p, "/undo/") && !s.back {
				continue
			}
			if s.back && !strings.Contains(p, "/undo/") {
				continue // the scenario that goes forward has it
			}
			if slices.ContainsFunc(s.lacks, func(part string) bool { return strings.Contains(p, part) }) {
				continue
			}
			for _, how := range []string{"kill", "stop"} {
				out = append(out, &trial{scenario: s, point: p, how: how})
			}
		}
		for _, call := range cloudCalls[s.name] {
			hows := []string{"fail", "lose", "slow", "late", "twice", "hang"}
			times, delay := 2, 1200
			if s.lost { // until after the cancel was heard
				hows, times, delay = []string{"lose", "late"}, 5, 2500
			}
			for _, how := range hows {
				out = append(out, &trial{scenario: s,
					fault: &faultSpec{Call: call, How: how, Times: times, Delay: delay}})
			}
		}
	}
	return out
}

// cloudCalls are the calls whose faults a scenario meets.
var cloudCalls = map[string][]string{
	"launch with an address": {"reserve", "move"}, "launch with an address cancelled": {"move"},
	"launch": {"launch", "get", "boot-output"}, "launch cancelled": {"remove", "get", "by-token"},
	"launch never runs": {"remove"},
	"stop":              {"stop", "get"}, "stop cancelled": {"start"}, "start": {"start"},
	"start cancelled": {"stop"}, "remove": {"remove", "get"},
	"access placed": {"place-key"}, "access placed cancelled, not answered": {"place-key"},
	"admit for a while": {"groups"}, "admit me": {"own-group", "admit", "unadmit"}, "unadmit": {"unadmit"},
	"unadmit cancelled":          {"admit"},
	"admit cancelled, no answer": {"admit"}, "unadmit cancelled, no answer": {"unadmit"},
	"reserve cancelled, no answer": {"reserve"}, "move cancelled, no answer": {"move"},
	"reserve": {"reserve"}, "reserve cancelled": {"release"}, "admit cancelled": {"admit", "unadmit"},
	"release": {"release"}, "move": {"move"},
}

// TestMatrix is the harness: each case runs a piece of work through in which a
// service is killed or stopped at one point, or a call to the cloud goes wrong,
// and then checks the rules that never bend. Its services are processes.
func TestMatrix(t *testing.T) {
	t.Parallel()
	for _, p := range halts() {
		if !slices.ContainsFunc(trials(), func(x *trial) bool { return x.point == p }) {
			t.Errorf("no scenario passes the halt %s", p)
		}
	}
	runTrials(t, "harness", sampleSize, false)
}

// TestWithin is the harness within the test: other cases of the same, and many more of them,
// as its services are no processes.
func TestWithin(t *testing.T) {
	t.Parallel()
	runTrials(t, "harness within the test", sampleWithin, true)
}

// sampled chooses so many cases by a seed, or those that the command line asks for.
func sampled(size int, seed uint64) []*trial {
	all := trials()
	switch {
	case *matrixOnly != "":
		return slices.DeleteFunc(all, func(x *trial) bool { return !strings.Contains(x.name(), *matrixOnly) })
	case *matrixAll:
		return all
	}
	r := rand.New(rand.NewPCG(seed, uint64(size)))
	r.Shuffle(len(all), func(i, j int) { all[i], all[j] = all[j], all[i] })
	return all[:min(size, len(all))]
}

// runTrials runs cases, several at a time, and reports how they ended.
func runTrials(t *testing.T, name string, size int, within bool) {
	seed := *matrixSeed
	if seed == 0 {
		seed = rand.Uint64()
	}
	all, total := sampled(size, seed), len(trials())
	t.Logf("%d of %d cases, seed %d", len(all), total, seed)
	ends := map[string]int{}
	var mu sync.Mutex
	queue := make(chan *trial)
	var wg sync.WaitGroup
	slots := slotCount
	if within { // they share this process
		slots /= 2
	}
	for n := range min(slots, len(all)) {
		s := newSlot(t, n)
		s.within = within
		wg.Go(func() {
			for x := range queue {
				var end string
				var broken []string
				for range 10 {
					y := *x // a run that came too late is done again
					y.slot = s
					if end, broken = y.run(); !y.late {
						break
					}
				}
				mu.Lock()
				ends[end]++
				for _, b := range broken {
					t.Errorf("%s: %s (it ended %s)", x.name(), b, end)
				}
				mu.Unlock()
			}
		})
	}
	for _, x := range all {
		queue <- x
	}
	close(queue)
	wg.Wait()
	text := fmt.Sprintf("%s: %d of %d cases, seed %d\n", name, len(all), total, seed)
	for _, k := range slices.Sorted(maps.Keys(ends)) {
		text += fmt.Sprintf("%6d %s\n", ends[k], k)
	}
	t.Log(text)
	// "go test" shows nothing of what passes: "make test" prints this file.
	if file := os.Getenv("PLUMLATCH_HARNESS_REPORT"); file != "" {
		f, err := os.OpenFile(file, os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o644)
		if err == nil {
			_, err = f.WriteString(text)
			err = errors.Join(err, f.Close())
		}
		if err != nil {
			t.Error(err)
		}
	}
}

// slot is a database of its own, in which one case runs at a time.
type slot struct {
	password string // of first-admin
	n        int
	dir      string
	database string
	token    string
	key      string // name of a person's key in it
	rescue   string // name of a rescue instance of a case before; "" for none
	trials   int
	within   bool     // its replicas run within the test
	options  []string // further ones of its services
	slow     bool     // its services wait longer for the cloud: it answers nothing for a while
	front    *front   // where a program that is run finds the service, whichever replica it is
	from     string   // the address that its services ask from; "" leaves it to the system
	cloud    *demo    // the stand-in that its services know; shared, if it has none of its own
	libvirt  string   // the file that names the libvirt hosts that are a cloud of its services besides; "" for none
}

// ownCloud starts a stand-in that no other test knows, for one that changes what all instances of a cloud have in
// common: rules of shared groups, lists of keys, limits. Only its folder, its token and its port are of use.
func ownCloud(t *testing.T) *demo {
	t.Helper()
	d := newDemo(t.TempDir())
	mustDo(t, os.MkdirAll(d.path("standin"), 0o700))
	mustDo(t, os.WriteFile(d.path("standin-token"), []byte("own"), 0o600))
	admit := []netip.Prefix{netip.MustParsePrefix("127.0.0.1/32"), netip.MustParsePrefix("127.0.0.9/32")} // this machine, and another
	c, err := standin.Open(standin.Options{Folder: d.path("standin"), Network: netip.MustParsePrefix(d.net),
		Pace: 200 * time.Millisecond, Strangers: true, Admit: admit})
	mustDo(t, err)
	l, err := net.Listen("tcp", fmt.Sprintf("127.0.0.1:%d", d.port+1))
	mustDo(t, err)
	server := &http.Server{Handler: c.Handler("own"), ReadHeaderTimeout: 5 * time.Second}
	go func() { _ = server.Serve(l) }()
	t.Cleanup(func() { server.Close(); c.Close() })
	return d
}

func newSlot(t *testing.T, n int) *slot {
	t.Helper()
	return newSlotOn(t, n, shared)
}

// firstSlot is what every slot is a copy of: a database with all migrations, an operator and a token, and the files that
// belong to it. To make each one from nothing is a second of a processor's time.
var firstSlot = struct {
	sync.Once
	slot
	files map[string][]byte
}{}

const firstSlotDatabase = "first_slot"

func newSlotOn(t *testing.T, n int, cloud *demo) *slot {
	t.Helper()
	firstSlot.Do(func() { makeFirstSlot(t) })
	if firstSlot.files == nil {
		t.Fatal("the first slot was not made")
	}
	s := &slot{n: n, dir: t.TempDir(), key: firstSlot.key, password: firstSlot.password, token: firstSlot.token, cloud: cloud}
	var err error
	if s.front, err = newFront(); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { s.front.listener.Close() })
	for name, text := range firstSlot.files {
		mustDo(t, os.WriteFile(filepath.Join(s.dir, name), text, 0o600))
	}
	name := fmt.Sprintf("slot_%d_%d", n, rand.Uint32())
	if _, err := shared.database(t).Exec(context.Background(), "CREATE DATABASE "+name+" TEMPLATE "+firstSlotDatabase); err != nil {
		t.Fatal(err)
	}
	s.database = ownerOf(t, name)
	return s
}

// ownerOf is the URL of a database of the demo's server, as its owner.
func ownerOf(t *testing.T, name string) string {
	t.Helper()
	base, err := os.ReadFile(shared.path("owner-url"))
	mustDo(t, err)
	return strings.Replace(strings.TrimSpace(string(base)), "/postgres?", "/"+name+"?", 1)
}

func makeFirstSlot(t *testing.T) {
	t.Helper()
	s := &firstSlot.slot
	s.dir, s.key, s.cloud = t.TempDir(), "slot-key", shared
	if _, err := shared.database(t).Exec(context.Background(), "CREATE DATABASE "+firstSlotDatabase); err != nil {
		t.Fatal(err)
	}
	s.database = ownerOf(t, firstSlotDatabase)
	var err error
	if s.front, err = newFront(); err != nil {
		t.Fatal(err)
	}
	defer s.front.listener.Close()
	out, err := s.command("admin", "first-admin").Output()
	if err != nil {
		t.Fatalf("admin: %v", err)
	}
	s.password = strings.Split(string(out), "\n")[1]
	r, err := s.start("", "")
	if err != nil {
		t.Fatal(err)
	}
	d := &demo{dir: s.dir, url: r.url}
	in := d.api(t, "POST", "/api/v1/session",
		mustJSON(t, wire.Credentials{Operator: "first-admin", Password: s.password}), "Origin", r.url)
	cookie, _, _ := strings.Cut(in.header.Get("Set-Cookie"), ";")
	tok := d.api(t, "POST", "/api/v1/tokens", `{"name":"t","role":"","seconds":36000}`, "Cookie",
		cookie, "Origin", r.url)
	if s.token = tok.field(t, "token"); s.token == "" {
		t.Fatal(tok.body)
	}
	d.token = s.token
	d.must(t, "key", "create", s.key, "-dir", s.dir)
	r.end()
	files := map[string][]byte{}
	entries, err := os.ReadDir(s.dir)
	mustDo(t, err)
	for _, e := range entries {
		files[e.Name()], err = os.ReadFile(filepath.Join(s.dir, e.Name()))
		mustDo(t, err)
	}
	firstSlot.files = files
}

// connect opens the slot's database as its owner.
func (s *slot) connect(t *testing.T) *pgx.Conn {
	t.Helper()
	conn, err := pgx.Connect(context.Background(), s.database)
	mustDo(t, err)
	t.Cleanup(func() { conn.Close(context.Background()) })
	return conn
}

func (s *slot) command(args ...string) *exec.Cmd {
	// what is given comes last, and wins
	n := slices.IndexFunc(append(args, "-"), func(a string) bool { return a[0] == '-' })
	if s.from != "" {
		args = append(args, "-dial-from", s.from)
	}
	cloud := []string{"-standin-url", fmt.Sprintf("http://127.0.0.1:%d", s.cloud.port+1), "-standin-token-file", s.cloud.path("standin-token")}
	if s.libvirt != "" {
		cloud = append(cloud, "-libvirt", s.libvirt)
	}
	cmd := exec.Command(filepath.Join(bin, "plumlatchd-halt"),
		slices.Concat(args[:n], cloud, []string{"-identity-file", filepath.Join(s.dir, "identity.txt"),
			"-dial-loopback", "-lease", "2s", "-state-limit", s.stateLimit().String(), "-database-connections", "4", "-surveys", "0",
			"-follow", "-1s", "-log-format", "json", "-allow-host", s.front.listener.Addr().String()}, args[n:])...)
	cmd.Env = append(os.Environ(), "PLUMLATCHD_DATABASE_URL="+s.database)
	return cmd
}

// replica is one running service on a slot's database.
type replica struct {
	cmd *exec.Cmd // nil for one within the test
	url string
	log interface {
		fmt.Stringer
		Write([]byte) (int, error)
	}
	once  string // the file that says that it got to its halt
	ended chan error

	at, on chan struct{} // of one within the test: closed when it got to its halt, and when it goes on
	gate   *gate         // of one that is stopped
	close  func()
}

// stateLimit is how long the slot's services wait for the cloud. It is short, so that
// what never comes to an end gives up soon. Where the cloud's answers are lost for
// some seconds it is longer: a slow machine must not make that a giving up.
func (s *slot) stateLimit() time.Duration {
	if s.slow {
		return 20 * time.Second
	}
	return 6 * time.Second
}

// goOn has a replica that was stopped go on.
func (r *replica) goOn() {
	if r.cmd != nil {
		_ = r.cmd.Process.Signal(syscall.SIGCONT)
		return
	}
	if r.gate != nil {
		r.gate.hold(false)
		select {
		case <-r.on:
		default:
			close(r.on)
		}
	}
}

func (s *slot) start(point, how string) (*replica, error) {
	if s.within {
		return s.startWithin(point, how)
	}
	port, log := freePorts(1), &bytes.Buffer{}
	r := &replica{url: fmt.Sprintf("http://127.0.0.1:%d", port), log: log,
		once: filepath.Join(s.dir, fmt.Sprintf("halted-%d", rand.Uint64())), ended: make(chan error, 1)}
	r.cmd = s.command(append([]string{"serve", "-listen", fmt.Sprintf("127.0.0.1:%d", port)}, s.options...)...)
	r.cmd.Env = append(r.cmd.Env, "PLUMLATCHD_HALT="+point, "PLUMLATCHD_HALT_HOW="+how, "PLUMLATCHD_HALT_ONCE="+r.once)
	r.cmd.Stderr = log
	if err := r.cmd.Start(); err != nil {
		return nil, err
	}
	go func() { r.ended <- r.cmd.Wait() }()
	for deadline := time.Now().Add(2 * time.Minute); time.Now().Before(deadline); time.Sleep(30 * time.Millisecond) {
		select {
		case err := <-r.ended:
			return nil, fmt.Errorf("the service ended: %w: %s", err, r.log)
		default:
		}
		resp, err := http.Get(r.url + "/readyz")
		if err == nil {
			resp.Body.Close()
			if resp.StatusCode == 200 {
				return r, nil
			}
		}
	}
	r.end()
	return nil, fmt.Errorf("the service does not come up: %s", r.log)
}

// serve starts a replica for the time of a test.
func (s *slot) serve(t testing.TB) *client.Client {
	t.Helper()
	r, err := s.start("", "")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		r.end() // nobody writes its log after that
		if t.Failed() {
			t.Logf("what the service warned of:\n%s", warnings(r.log.String()))
		}
	})
	c, err := client.New(r.url, s.token)
	if err != nil {
		t.Fatal(err)
	}
	return c
}

// warnings are the last warnings and errors of a service's log: why a request or a step failed is said nowhere else.
func warnings(log string) string {
	var out []string
	for line := range strings.Lines(log) {
		if strings.Contains(line, `"level":"WARN"`) || strings.Contains(line, `"level":"ERROR"`) {
			out = append(out, line)
		}
	}
	return strings.Join(out[max(0, len(out)-100):], "")
}

func (r *replica) end() {
	if r.cmd == nil {
		r.goOn()
		r.close()
		if r.gate != nil {
			r.gate.end()
		}
		return
	}
	_ = r.cmd.Process.Signal(syscall.SIGCONT)
	_ = r.cmd.Process.Signal(syscall.SIGTERM)
	select {
	case <-r.ended:
	case <-time.After(time.Minute):
		_ = r.cmd.Process.Kill()
		<-r.ended
	}
}

// halted waits until the replica got to its halt, and is dead or stopped.
func (r *replica) halted(limit time.Duration) bool {
	if r.cmd == nil {
		select {
		case <-r.at:
			return true
		case <-time.After(limit):
			return false
		}
	}
	for deadline := time.Now().Add(limit); time.Now().Before(deadline); time.Sleep(20 * time.Millisecond) {
		if _, err := os.Stat(r.once); err == nil {
			time.Sleep(30 * time.Millisecond)
			return true
		}
	}
	return false
}

// run runs a case, and returns how the work ended and which rules are broken.
func (x *trial) run() (end string, broken []string) {
	x.slot.trials++
	// Two calls that hang take most of the short limit by themselves, on a slow machine all of it.
	x.slot.slow, x.slot.from = x.scenario.lost || x.fault != nil && x.fault.How == "hang", x.scenario.from
	x.instance = fmt.Sprintf("m%d-%d-%d", x.slot.n, x.slot.trials, rand.IntN(10000))
	x.state = map[string]string{}
	defer func() {
		for _, r := range x.replicas {
			r.end()
		}
	}()
	fail := func(err error) (string, []string) {
		x.late = strings.Contains(err.Error(), "it cannot go back any more") || strings.Contains(err.Error(), "there is nothing to cancel")
		return "in no way", []string{err.Error()}
	}
	first, err := x.replica(x.point, x.how)
	if err != nil {
		return fail(err)
	}
	if x.scenario.prepare != nil {
		if err := x.scenario.prepare(x); err != nil {
			return fail(fmt.Errorf("prepare: %w", err))
		}
	}
	if x.scenario.slow != "" {
		if err := x.inject(faultSpec{Call: x.scenario.slow, How: "slow", Times: 1, Delay: 2000}); err != nil {
			return fail(err)
		}
	}
	if x.fault != nil {
		if err := x.inject(*x.fault); err != nil {
			return fail(err)
		}
	}
	id, err := x.scenario.begin(x)
	if err != nil && (x.point == "" || client.Definite(err)) {
		return fail(fmt.Errorf("begin: %w", err))
	}
	if err != nil {
		id = 0 // the answer was lost with the service: the work is there, or the rules are broken
	}
	if x.point != "" {
		if !first.halted(60 * time.Second) {
			// Where the machine stood still, the claim was lost, and a try that nobody counted used up
			// what the cloud was to refuse: the work took another way. It has to end well all the same.
			if id != 0 && strings.Contains(first.log.String(), "the claim was lost") {
				if w, err := x.await(id); err == nil {
					x.late = true
					return w.State, append(x.rules(w), "the halt was never reached")
				}
			}
			return fail(fmt.Errorf("the halt was never reached: %s", first.log))
		}
		if _, err := x.replica("", ""); err != nil {
			return fail(err)
		}
	}
	for _, f := range x.later {
		if err := f(); err != nil {
			return fail(err)
		}
	}
	if id == 0 { // begun by a program that may not have heard of it yet
		if id, err = x.find(); err != nil {
			return fail(err)
		}
	}
	w, err := x.await(id)
	if err != nil {
		return fail(err)
	}
	if x.ended != nil {
		if err := <-x.ended; (err == nil) == x.scenario.back {
			broken = append(broken, fmt.Sprintf("the client: %v", err))
		}
	}
	if x.scenario.lost { // what comes late has come by then
		time.Sleep(time.Duration(x.fault.Delay) * time.Millisecond)
	}
	broken = append(broken, append(x.rules(w), x.scenario.check(x, w)...)...)
	if x.fault != nil && !x.met() {
		broken = append(broken, "no call met the fault")
	}
	if x.how == "stop" {
		// The stopped one goes on, past its lease: it must neither write nor do anything.
		first.goOn()
		time.Sleep(900 * time.Millisecond)
		again, err := x.await(id)
		if err != nil {
			return fail(err)
		}
		if again.State != w.State || again.Events != w.Events {
			broken = append(broken, fmt.Sprintf("the one that was stopped wrote: %s/%d and then %s/%d", w.State,
				w.Events, again.State, again.Events))
		}
		for _, b := range append(x.rules(again), x.scenario.check(x, again)...) {
			broken = append(broken, "after the stopped one went on: "+b)
		}
	}
	x.tidy()
	end = w.State
	if x.point != "" {
		end = map[string]string{"kill": "killed", "stop": "stopped"}[x.how] + ", then " + end
	} else if x.fault != nil {
		end = "cloud fault, then " + end
	}
	return end, broken
}

// replica starts a service and makes it the one that is asked.
func (x *trial) replica(point, how string) (*replica, error) {
	r, err := x.slot.start(point, how)
	if err != nil {
		return nil, err
	}
	x.replicas = append(x.replicas, r)
	x.slot.front.turn(r.url)
	x.client, err = client.New(r.url, x.slot.token)
	return r, err
}

func (x *trial) await(id int64) (wire.Work, error) {
	ctx, cancel := context.WithTimeout(context.Background(), 3*time.Minute)
	defer cancel()
	w, err := x.client.Follow(ctx, id, 0, nil)
	if err != nil {
		now, _ := x.client.WorkByID(context.Background(), id)
		return w, fmt.Errorf("the work never ended: %w: %+v", err, now)
	}
	return w, nil
}

// inject has the stand-in's next calls about this instance go wrong.
func (x *trial) inject(f faultSpec) error {
	f.Name = x.instance
	if f.Call == "by-token" {
		f.Name = ""
	}
	body, err := json.Marshal(f)
	if err != nil {
		return err
	}
	return standinCall("POST", "/v1/faults", string(body), nil)
}

// met tells whether the case's fault happened at all.
func (x *trial) met() bool { return x.metOf(*x.fault) }

func (x *trial) metOf(f faultSpec) bool {
	var left []faultSpec
	if err := standinCall("GET", "/v1/faults", "", &left); err != nil {
		return false
	}
	f.Name = x.instance
	return !slices.Contains(left, f) || f.Call == "by-token"
}

// standinCall speaks to the shared stand-in cloud itself.
func standinCall(method, path, body string, into any) error {
	return standinCallAt(shared, method, path, body, into)
}

func standinCallAt(d *demo, method, path, body string, into any) error {
	token, err := os.ReadFile(d.path("standin-token"))
	if err != nil {
		return err
	}
	req, err := http.NewRequest(method, fmt.Sprintf("http://127.0.0.1:%d%s", d.port+1, path), strings.NewReader(body))
	if err != nil {
		return err
	}
	req.Header.Set("Authorization", "Bearer "+strings.TrimSpace(string(token)))
	resp, err := http.DefaultClient.Do(req)
	if err != nil {
		return err
	}
	defer resp.Body.Close()
	if resp.StatusCode != 200 {
		return fmt.Errorf("stand-in: %s", resp.Status)
	}
	if into == nil {
		return nil
	}
	return json.NewDecoder(resp.Body).Decode(into)
}

type cloudInstance struct{ ID, Name, State, Address string }

// inCloud returns the instances of this case's name, those that are gone too.
func (x *trial) inCloud() (all, alive []cloudInstance, err error) {
	var list []cloudInstance
	if err := standinCall("GET", "/v1/instances", "", &list); err != nil {
		return nil, nil, err
	}
	for _, i := range list {
		if i.Name != x.instance {
			continue
		}
		all = append(all, i)
		if i.State != "removed" && i.State != "removing" {
			alive = append(alive, i)
		}
	}
	return all, alive, nil
}

// rules are what holds for every piece of work.
func (x *trial) rules(w wire.Work) (broken []string) {
	say := func(format string, a ...any) { broken = append(broken, fmt.Sprintf(format, a...)) }
	if w.State == "stuck" || !w.Over() {
		say("it is %s: %s", w.State, w.Trouble)
	}
	if w.State == "done" && x.scenario.back || w.State != "done" && !x.scenario.back {
		say("it is %s: %s", w.State, w.Outcome)
	}
	// Events: numbered without a gap, and one end.
	n := 0
	_, _ = x.client.Follow(context.Background(), w.ID, 0, func(e wire.WorkEvent) {
		if n++; e.N != n {
			say("event %d where %d is due", e.N, n)
		}
	})
	if n != w.Events {
		say("%d events, and %d were told", w.Events, n)
	}
	// The journal: the intent first, and one outcome to it.
	entries, err := x.client.Journal(context.Background(), "instance "+x.instance, 200)
	if err != nil {
		say("journal: %v", err)
	}
	outcomes := map[int64]int{}
	for _, e := range entries {
		if e.Of != 0 {
			outcomes[e.Of]++
			if e.Of > e.ID {
				say("an outcome stands before its intent")
			}
		}
	}
	for _, e := range entries {
		if e.Action == x.state["at hand"] { // other work, that goes on
			continue
		}
		if e.Intent != "" && e.Outcome == "" && outcomes[e.ID] != 1 {
			say("%d outcomes of %q", outcomes[e.ID], e.Intent)
		}
	}
	return broken
}

// opens tells what is wrong with the way in of a person and of the steward.
func (x *trial) opens() (broken []string) {
	rows, err := x.client.Access(context.Background(), x.instance, "")
	if err != nil {
		return []string{err.Error()}
	}
	people := 0
	for _, a := range rows {
		if !a.Steward {
			people++
		}
		if a.Evidence != "accepted" && a.Evidence != "proven" || a.Old {
			broken = append(broken, fmt.Sprintf("%s%s is only %s (old: %v)", a.Key,
				map[bool]string{true: "the steward"}[a.Steward], a.Evidence, a.Old))
		}
	}
	if people == 0 {
		broken = append(broken, "no key of a person opens it")
	}
	return broken
}

// tidy takes away what a case leaves behind.
func (x *trial) tidy() {
	_, alive, _ := x.inCloud()
	for _, a := range x.static() {
		_ = standinCall("POST", "/v1/addresses/"+a.ID+"/move", `{"client_token":"tidy-`+a.ID+`"}`, nil)
		_ = standinCall("DELETE", "/v1/addresses/"+a.ID+"?client_token=tidy-off", "", nil)
	}
	machines, images, _ := x.atCloud()
	for id := range machines {
		_ = standinCall("DELETE", "/v1/instances/"+id+"?client_token="+url.QueryEscape("tidy-"+id), "", nil)
	}
	for _, id := range images {
		_ = standinCall("DELETE", "/v1/own-images/"+id, "", nil)
	}
	for _, i := range alive {
		_ = standinCall("DELETE", "/v1/instances/"+i.ID+"?client_token="+url.QueryEscape("tidy-"+i.ID), "", nil)
	}
}

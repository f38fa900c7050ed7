package e2e

import (
	"context"
	"crypto/ed25519"
	crand "crypto/rand"
	"encoding/json"
	"errors"
	"flag"
	"fmt"
	"io"
	"maps"
	"math/rand/v2"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"golang.org/x/crypto/ssh"

	"github.com/jackc/pgx/v5"

	"plumlatch/core/keypair"
)

// The oracle of rule 1. Three operators at once do everything that there is, in
// random order, on instances whose private keys the test itself holds. After each
// step the judge logs in to the instance with each of them. It shares no code with
// the product: it knows the keys, the marks that people have set, and who gets a
// session.

var (
	oracleSeed = flag.Uint64("oracle-seed", 0,
		"seed of the sequences of TestOracle; with -oracle-only, of that one alone")
	oracleOnly = flag.Int("oracle-only", -1, "the one sequence of TestOracle to do, by its number")
	oracleN    = flag.Int("oracle", 0, "how many sequences TestOracle does; 0: 50, or 2,000 with -matrix")
)

// judgeKey is a key of the test's.
type judgeKey struct {
	name   string // as it was recorded; it may have another one since
	id     string // fingerprint
	pub    string
	signer ssh.Signer
	ghost  bool // nobody has its private half: the test never uses it
}

func newJudgeKey(t *testing.T, name string) *judgeKey {
	t.Helper()
	public, private, err := ed25519.GenerateKey(crand.Reader)
	mustDo(t, err)
	p, err := ssh.NewPublicKey(public)
	mustDo(t, err)
	s, err := ssh.NewSignerFromKey(private)
	mustDo(t, err)
	return &judgeKey{name: name, id: ssh.FingerprintSHA256(p),
		pub: strings.TrimSpace(string(ssh.MarshalAuthorizedKey(p))), signer: s}
}

// logsIn tells whether a key gets a session: not only past the server, but to a
// command. Only a server that says no has said no: one that is slow to answer is asked again.
func (k *judgeKey) logsIn(address string, port int, user string, host ssh.PublicKey) bool {
	for try := range 10 {
		in, answered := k.login(address, port, user)
		if in || answered {
			return in
		}
		time.Sleep(time.Duration(try) * 50 * time.Millisecond)
	}
	return false
}

func (k *judgeKey) login(address string, port int, user string) (in, answered bool) {
	conn, err := net.DialTimeout("tcp", net.JoinHostPort(address, fmt.Sprint(port)), 10*time.Second)
	if err != nil {
		return false, false
	}
	defer conn.Close()
	_ = conn.SetDeadline(time.Now().Add(20 * time.Second))
	c, channels, requests, err := ssh.NewClientConn(conn, "x",
		&ssh.ClientConfig{User: user, Auth: []ssh.AuthMethod{ssh.PublicKeys(k.signer)},
			HostKeyCallback: ssh.InsecureIgnoreHostKey()})
	if err != nil {
		return false, strings.Contains(err.Error(), "unable to authenticate")
	}
	client := ssh.NewClient(c, channels, requests)
	defer client.Close()
	session, err := client.NewSession()
	if err != nil {
		return false, false
	}
	defer session.Close()
	out, err := session.Output("echo judge")
	_, exited := errors.AsType[*ssh.ExitError](err)
	return err == nil && string(out) == "judge\n", err == nil || exited
}

// world is one instance with the keys of a sequence.
type world struct {
	t       *testing.T
	s       *oracleService
	n       int
	r       *rand.Rand
	mu      sync.Mutex // of r, did, seen, guests
	did     []string
	name    string
	file    string
	address string
	port    int
	keys    []*judgeKey
	guests  map[string]bool // keys that an operator gave an end
	cut     bool            // counted out: from now on nothing is promised for it

	judging  sync.Mutex
	opened   map[string]bool // by fingerprint, when last judged
	counting map[string]bool
}

// oracleService is the service under test, which may be killed.
type oracleService struct {
	t       *testing.T
	slot    *slot
	mu      sync.RWMutex
	up      *replica
	tokens  []string
	counted sync.Map // what was asked for, with its answer, to how often
}

func (o *oracleService) call(token, method, path string, body any, into any) int {
	text := ""
	if body != nil {
		data, err := json.Marshal(body)
		if err != nil {
			panic(err)
		}
		text = string(data)
	}
	for try := 0; ; try++ {
		o.mu.RLock()
		url := o.up.url
		o.mu.RUnlock()
		req, err := http.NewRequest(method, url+"/api/v1"+path, strings.NewReader(text))
		if err != nil {
			panic(err)
		}
		req.Header.Set("Authorization", "Bearer "+token)
		resp, err := http.DefaultTransport.RoundTrip(req)
		if err != nil {
			if try > 200 {
				return 0
			}
			time.Sleep(50 * time.Millisecond)
			continue
		}
		data, _ := io.ReadAll(resp.Body)
		resp.Body.Close()
		if resp.StatusCode == 500 {
			o.mu.RLock()
			said := o.up.log.String()
			o.mu.RUnlock()
			o.t.Errorf("%s %s: the service failed: %s\n%s", method, path, data, said[max(0, len(said)-1500):])
		}
		if resp.StatusCode == 429 && try < 200 {
			time.Sleep(200 * time.Millisecond)
			continue
		}
		if method != "GET" {
			parts := strings.Split(path, "/")
			what := fmt.Sprintf("%s %s %d", method, parts[len(parts)-1], resp.StatusCode)
			if method == "PATCH" || method == "DELETE" || path == "/keys" {
				what = fmt.Sprintf("%s %s %d", method, parts[1], resp.StatusCode)
			}
			n, _ := o.counted.LoadOrStore(what, &atomic.Int64{})
			n.(*atomic.Int64).Add(1)
		}
		if into != nil && resp.StatusCode < 300 {
			_ = json.Unmarshal(data, into)
		}
		return resp.StatusCode
	}
}

func (o *oracleService) restart() error {
	o.mu.Lock()
	defer o.mu.Unlock()
	_ = o.up.cmd.Process.Kill()
	o.up.end()
	r, err := o.slot.start("", "")
	if err == nil {
		o.up = r
	}
	return err
}

func startOracleService(t *testing.T, n, operators int) *oracleService {
	t.Helper()
	o := &oracleService{t: t, slot: newSlot(t, n)}
	r, err := o.slot.start("", "")
	mustDo(t, err)
	o.up = r
	t.Cleanup(func() { o.up.end() })
	for k := range operators { // tokens of their own, each an operator's
		d := &demo{dir: o.slot.dir, url: r.url, token: o.slot.token}
		name := fmt.Sprintf("oracle-%d", k)
		a := d.api(t, "POST", "/api/v1/operators", mustJSON(t, map[string]string{"name": name, "role": "operator"}))
		in := d.api(t, "POST", "/api/v1/session",
			mustJSON(t, map[string]string{"operator": name, "password": a.field(t, "password")}), "Origin", r.url)
		cookie, _, _ := strings.Cut(in.header.Get("Set-Cookie"), ";")
		o.tokens = append(o.tokens, d.api(t, "POST", "/api/v1/tokens", `{"name":"t","role":"","seconds":36000}`,
			"Cookie", cookie, "Origin", r.url).field(t, "token"))
	}
	return o
}

// keyRow is a key as the service shows it: the marks that people have set.
type keyRow struct {
	Name        string `json:"name"`
	Fingerprint string `json:"fingerprint"`
	HolderSort  string `json:"holder_sort"`
	State       string `json:"state"`
	Retired     bool   `json:"retired"`
}

type workRow struct {
	ID       int64  `json:"id"`
	State    string `json:"state"`
	Kind     string `json:"kind"`
	WaitsFor string `json:"waits_for"`
	Instance string `json:"instance"`
	Outcome  string `json:"outcome"`
}

func (w *world) note(format string, a ...any) {
	w.mu.Lock()
	defer w.mu.Unlock()
	w.did = append(w.did, fmt.Sprintf(format, a...))
}

func (w *world) random(n int) int {
	w.mu.Lock()
	defer w.mu.Unlock()
	return w.r.IntN(n)
}

// nameOf is the name that a key has now.
func (w *world) rows(token string) map[string]keyRow {
	var list struct{ Items []keyRow }
	out := map[string]keyRow{}
	if w.s.call(token, "GET", "/keys?limit=500&q="+w.prefix(), nil, &list) != 200 {
		return nil
	}
	for _, k := range list.Items {
		out[k.Fingerprint] = k
	}
	return out
}

func (w *world) prefix() string { return fmt.Sprintf("o%d-", w.n) }

func (w *world) nameOf(token string, k *judgeKey) string {
	if row, ok := w.rows(token)[k.id]; ok {
		return row.Name
	}
	return k.name
}

// state is who gets in now, and whose keys count.
func (w *world) state() (opened, counting map[string]bool) {
	opened, counting = map[string]bool{}, map[string]bool{}
	rows := w.rows(w.s.slot.token)
	for _, k := range w.keys {
		if !k.ghost && k.logsIn(w.address, w.port, "debian", nil) {
			opened[k.id] = true
		}
		row, ok := rows[k.id]
		// A person's, as people say, and not given up.
		if ok && (row.HolderSort == "person" || row.HolderSort == "team") && row.State == "in use" && !row.Retired {
			counting[k.id] = true
		}
	}
	return opened, counting
}

func both(a, b map[string]bool) int {
	n := 0
	for k := range a {
		if b[k] {
			n++
		}
	}
	return n
}

// judge compares with how it was when it was last judged. Marks that were set
// meanwhile lock nobody out by themselves; what the service wrote does.
func (w *world) judge(step string) {
	w.judging.Lock()
	defer w.judging.Unlock()
	if w.cut {
		return
	}
	opened, counting := w.state()
	either := map[string]bool{}
	for _, m := range []map[string]bool{w.counting, counting} {
		for k := range m {
			either[k] = true
		}
	}
	// A key that somebody let in for a time is no way in that anybody counts on (rule 1); the
	// end that a rotation gives to the old key is the service's own doing.
	lasting := maps.Clone(w.opened)
	w.mu.Lock()
	for id := range w.guests {
		delete(lasting, id)
	}
	w.mu.Unlock()
	had := both(lasting, w.counting) > 0 && both(lasting, counting) > 0
	if had && both(opened, either) == 0 && !w.cut {
		w.mu.Lock()
		did := strings.Join(w.did, "\n")
		w.mu.Unlock()
		w.t.Errorf("sequence %d, after %s: nobody gets in any more, and somebody did.\nopened before %v, now %v; "+
			"counting before %v, now %v\n%s\n%s", w.n, step, w.who(w.opened), w.who(opened), w.who(w.counting),
			w.who(counting), did, w.history())
	}
	w.opened, w.counting = opened, counting
}

// history is what there is to understand a failure by: each piece of work, and which keys
// stand in the file and in the copies that were made before each change.
func (w *world) history() string {
	var out strings.Builder
	conn, err := pgx.Connect(context.Background(), w.s.slot.database)
	if err == nil {
		defer conn.Close(context.Background())
		rows, err := conn.Query(context.Background(),
			`SELECT concat_ws(' ', to_char(e.at, 'HH24:MI:SS.MS'), w.id, w.kind, w.attempt, w.state, e.step, e.text) FROM work_events e JOIN work w ON w.id = e.work_id JOIN instances i ON i.id = w.instance_id
			WHERE i.name = $1 ORDER BY e.at`, w.name)
		for err == nil && rows.Next() {
			var line string
			_ = rows.Scan(&line)
			fmt.Fprintln(&out, line)
		}
	}
	files, _ := os.ReadDir(filepath.Dir(w.file))
	for _, f := range files {
		text, err := os.ReadFile(filepath.Join(filepath.Dir(w.file), f.Name()))
		info, e := f.Info()
		if err != nil || e != nil {
			continue
		}
		fmt.Fprintf(&out, "--- %s of %s\n", f.Name(), info.ModTime().UTC().Format("15:04:05.000"))
		for line := range strings.Lines(string(text)) {
			for _, k := range w.keys {
				if blob := strings.Fields(k.pub)[1]; strings.Contains(line, blob) {
					fmt.Fprintf(&out, "    %s %s\n", strings.TrimSpace(strings.Split(line, blob)[0]), k.name)
				}
			}
		}
	}
	return out.String()
}

func (w *world) who(m map[string]bool) (out []string) {
	for _, k := range w.keys {
		if m[k.id] {
			out = append(out, k.name)
		}
	}
	return out
}

// opening are the keys that are recorded to open the instance, by fingerprint.
func (w *world) opening(token string) map[string]bool {
	var list struct {
		Items []struct {
			Fingerprint string `json:"fingerprint"`
			Steward     bool   `json:"steward"`
		}
	}
	w.s.call(token, "GET", "/access?limit=100&instance="+w.name, nil, &list)
	out := map[string]bool{}
	for _, a := range list.Items {
		if !a.Steward {
			out[a.Fingerprint] = true
		}
	}
	return out
}

// prove shows the private half of a key, as its holder does.
func (w *world) prove(token string, k *judgeKey) {
	if k.ghost {
		return
	}
	name := w.nameOf(token, k)
	var ch struct{ Nonce, Text string }
	if w.s.call(token, "POST", "/keys/"+name+"/challenge", nil, &ch) != 201 {
		return
	}
	sig, err := keypair.Sign(k.signer, keypair.ProofNamespace, []byte(ch.Text))
	if err == nil {
		w.s.call(token, "POST", "/keys/"+name+"/proof",
			map[string]string{"nonce": ch.Nonce, "signature": string(sig)}, nil)
	}
}

// works are the pieces of work on the instance.
func (w *world) works(token, state string) []workRow {
	var list struct{ Items []workRow }
	w.s.call(token, "GET", "/work?limit=100&state="+state+"&instance="+w.name, nil, &list)
	return slices.DeleteFunc(list.Items, func(r workRow) bool { return r.Instance != w.name })
}

// settle waits until nothing is at hand that changes by itself.
func (w *world) settle(token string, back bool) {
	for deadline := time.Now().Add(60 * time.Second); time.Now().Before(deadline); time.Sleep(60 * time.Millisecond) {
		busy := false
		for _, r := range w.works(token, "open") {
			busy = busy || r.State == "queued" || r.State == "running" ||
				r.State == "waiting" && !strings.Contains(r.WaitsFor, "end of the")
			if back && r.State == "waiting" {
				w.s.call(token, "POST", fmt.Sprintf("/work/%d/cancel", r.ID), nil, nil)
				busy = true
			}
		}
		if !busy {
			return
		}
		if time.Now().After(deadline.Add(-40 * time.Second)) { // it waits for a proof, or for a server
			for _, r := range w.works(token, "open") {
				w.s.call(token, "POST", fmt.Sprintf("/work/%d/cancel", r.ID), nil, nil)
			}
		}
	}
}

var handEdits sync.Map // instance name to *sync.RWMutex: a hand edit and a change of the service's do not overlap

// step does one thing, as one operator.
func (w *world) step(token string) string {
	key := func() *judgeKey { return w.keys[w.random(len(w.keys))] }
	// Mostly what makes sense: a key that opens it, or one that does not; now and then any.
	opens := w.opening(token)
	that := func(is bool) *judgeKey {
		for range 8 {
			if k := key(); opens[k.id] == is {
				return k
			}
		}
		return key()
	}
	begun := false
	post := func(what, path string, body any) string {
		var out struct {
			ID int64 `json:"id"`
		}
		code := w.s.call(token, "POST", path, body, &out)
		for n := 0; code == 409 && n < 3; n++ { // other work is at hand there
			time.Sleep(150 * time.Millisecond)
			code = w.s.call(token, "POST", path, body, &out)
		}
		w.note("%s: %d %v", what, code, out.ID)
		begun = code == 202
		return what
	}
	// A key that is given an end by an operator lets nobody in for good.
	guest := func(k *judgeKey, what string) string {
		w.mu.Lock()
		defer w.mu.Unlock()
		if begun {
			w.guests[k.id] = true
		}
		return what
	}
	lock, _ := handEdits.LoadOrStore(w.name, &sync.RWMutex{})
	hand := lock.(*sync.RWMutex)
	hand.RLock()
	unlock := sync.OnceFunc(hand.RUnlock)
	defer unlock()
	switch n := w.random(100); {
	case n < 18: // a rotation
		old, fresh := that(true), that(false)
		grace := []int{0, 1, 3600}[w.random(3)]
		body := map[string]any{"old": w.nameOf(token, old), "new": w.nameOf(token, fresh), "grace_seconds": grace}
		var out struct {
			ID int64 `json:"id"`
		}
		code := w.s.call(token, "POST", "/instances/"+w.name+"/rotate", body, &out)
		w.note("rotate %s to %s, grace %d: %d, work %d", old.name, fresh.name, grace, code, out.ID)
		if code == 202 {
			time.Sleep(time.Duration(w.random(250)) * time.Millisecond)
			switch w.random(4) {
			case 0: // a lie
				w.s.call(token, "POST", fmt.Sprintf("/work/%d/login", out.ID),
					map[string]string{"fingerprint": fresh.id}, nil)
			default:
				w.prove(token, fresh)
			}
		}
		return "rotate"
	case n < 28:
		k := that(false)
		body := map[string]any{"key": w.nameOf(token, k), "reason": "oracle"}
		switch w.random(4) {
		case 0:
			body["until"] = time.Now().Add(time.Duration(1+w.random(3)) * time.Second).UTC().Format(time.RFC3339)
		case 1:
			body["until"] = time.Now().Add(time.Hour).UTC().Format(time.RFC3339)
		case 2:
			body["from"] = []string{[]string{"127.0.0.1", "192.0.2.1"}[w.random(2)]}
		}
		what := post(fmt.Sprintf("add %s %v", k.name, body), "/instances/"+w.name+"/access-add", body)
		if body["until"] != nil {
			return guest(k, what)
		}
		return what
	case n < 33:
		k := that(true)
		return guest(k, post("extend "+k.name, "/instances/"+w.name+"/access-extend",
			map[string]any{"key": w.nameOf(token, k),
				"until": time.Now().Add(time.Duration(2+w.random(5000)) * time.Second).UTC().Format(time.RFC3339)}))
	case n < 50:
		k := that(true)
		return post("remove "+k.name, "/instances/"+w.name+"/access-remove",
			map[string]any{"key": w.nameOf(token, k), "reason": "oracle"})
	case n < 58:
		if all := w.works(token, "open"); len(all) > 0 {
			r := all[w.random(len(all))]
			return post(fmt.Sprintf("cancel %d (%s)", r.ID, r.Kind), fmt.Sprintf("/work/%d/cancel", r.ID), nil)
		}
	case n < 66:
		var all []workRow
		for _, state := range []string{"failed", "stuck", "cancelled"} {
			all = append(all, w.works(token, state)...)
		}
		if len(all) > 0 {
			r := all[w.random(len(all))]
			return post(fmt.Sprintf("retry %d (%s)", r.ID, r.Kind), fmt.Sprintf("/work/%d/retry", r.ID), nil)
		}
	case n < 72: // names change, and change places
		k := key()
		now := fmt.Sprintf("%sname-%d", w.prefix(), w.random(6))
		code := w.s.call(token, "PATCH", "/keys/"+w.nameOf(token, k), map[string]string{"name": now}, nil)
		w.note("rename %s to %s: %d", k.name, now, code)
		return "rename"
	case n < 79:
		k := key()
		state := []string{"lost", "exposed", "in use", "retire", "use-again"}[w.random(5)]
		path, body := "/keys/"+w.nameOf(token, k)+"/bad-day", any(map[string]string{"state": state, "reason": "oracle"})
		if state == "retire" || state == "use-again" {
			path, body = "/keys/"+w.nameOf(token, k)+"/"+state, nil
		}
		return post(state+" "+k.name, path, body)
	case n < 84:
		k := key()
		holder := []string{"oracle-person", "oracle-job", "oracle-team", ""}[w.random(4)]
		code := w.s.call(token, "PATCH", "/keys/"+w.nameOf(token, k), map[string]string{"holder": holder}, nil)
		w.note("holder of %s is %q: %d", k.name, holder, code)
		return "holder"
	case n < 86:
		k := key()
		code := w.s.call(token, "DELETE", "/keys/"+w.nameOf(token, k), nil, nil)
		w.note("forget %s: %d", k.name, code)
		return "forget"
	case n < 90: // lies about logins
		var list struct {
			Items []struct {
				ID     int64 `json:"id"`
				Key    string
				Stward bool `json:"steward"`
			}
		}
		w.s.call(token, "GET", "/access?instance="+w.name, nil, &list)
		for _, a := range list.Items {
			w.s.call(token, "POST", fmt.Sprintf("/access/%d/login", a.ID), nil, nil)
		}
		w.note("lies")
		return "lies"
	case n < 93:
		k := key()
		w.prove(token, k)
		w.note("prove %s", k.name)
		return "prove"
	case n < 96:
		k := that(false)
		what := post("restore with "+k.name, "/instances/"+w.name+"/restore",
			map[string]any{"new": w.nameOf(token, k), "route": "steward"})
		time.Sleep(time.Duration(w.random(300)) * time.Millisecond)
		if w.random(2) == 0 {
			w.prove(token, k)
		}
		return what
	default: // by hand, while nothing of the service's is at work there
		unlock()
		hand.Lock()
		defer hand.Unlock()
		w.byHand(token)
		return "hand edit"
	}
	return "nothing"
}

// byHand edits the file as somebody with an editor does: a line more, or a key's
// lines less, but never those of the last key that counts.
func (w *world) byHand(token string) {
	w.settle(token, false)
	for _, r := range w.works(token, "open") {
		if r.State != "waiting" {
			return
		}
	}
	data, err := os.ReadFile(w.file)
	if err != nil {
		return
	}
	k := w.keys[w.random(len(w.keys))]
	opened, counting := w.state()
	if w.random(2) == 0 {
		line := []string{"", `command="echo no" `, `from="192.0.2.9" `}[w.random(3)] + k.pub + " by hand"
		// Appended: whoever asks the server in this moment must not meet an empty file.
		if f, err := os.OpenFile(w.file, os.O_APPEND|os.O_WRONLY, 0); err == nil {
			if _, err := f.WriteString("\n" + line + "\n"); err == nil {
				w.note("by hand: %s", line)
			}
			_ = f.Close()
		}
		return
	}
	delete(opened, k.id)
	if both(opened, counting) == 0 {
		return
	}
	var kept []string
	for line := range strings.Lines(string(data)) {
		if !strings.Contains(line, strings.Fields(k.pub)[1]) {
			kept = append(kept, line)
		}
	}
	next := w.file + ".hand"
	if os.WriteFile(next, []byte(strings.Join(kept, "")), 0o600) == nil && os.Rename(next, w.file) == nil {
		w.note("by hand: every line of %s is out", k.name)
	}
}

// newWorld launches the instance of a sequence, with its keys.
func newWorld(t *testing.T, s *oracleService, seed uint64, n int) *world {
	w := &world{t: t, s: s, n: n, guests: map[string]bool{}, r: rand.New(rand.NewPCG(seed, uint64(n))),
		name: fmt.Sprintf("oracle-%d", n)}
	token := s.slot.token
	for _, k := range []struct {
		name, holder string
		prove, made  bool
		ghost        bool
	}{{"first", "", true, true, false}, {"second", "oracle-person", true, false, false},
		{"third", "", false, false, false}, {"job", "oracle-job", true, false, false},
		{"ghost", "oracle-person", false, true, true}} {
		key := newJudgeKey(t, w.prefix()+k.name)
		key.ghost = k.ghost
		w.keys = append(w.keys, key)
		body := map[string]any{"name": key.name, "public_key": key.pub, "made_here": k.made}
		if k.holder != "" {
			body["holder"] = k.holder
		}
		// 409: it was killed before it answered
		if code := s.call(token, "POST", "/keys", body, nil); code != 201 && code != 409 {
			t.Errorf("key %s: %d", key.name, code)
		}
		if k.prove {
			w.prove(token, key)
		}
	}
	launch := map[string]any{"name": w.name, "image": "debian-12", "size": "small", "region": "north-pier",
		"keys": []string{w.keys[0].name}}
	if w.r.IntN(2) == 0 {
		launch["keys"] = []string{w.keys[0].name, w.keys[1].name}
	}
	if code := s.call(token, "POST", "/instances", launch, nil); code >= 300 && code != 409 {
		t.Errorf("launch: %d", code)
	}
	var i struct {
		Phase   string `json:"phase"`
		CloudID string `json:"cloud_id"`
		Address string `json:"address"`
		Port    int    `json:"port"`
	}
	for deadline := time.Now().Add(3 * time.Minute); i.Phase != "ready"; time.Sleep(50 * time.Millisecond) {
		if time.Now().After(deadline) {
			t.Errorf("%s was not launched: %+v", w.name, i)
			return nil
		}
		s.call(token, "GET", "/instances/"+w.name, nil, &i)
	}
	w.address, w.port = i.Address, i.Port
	w.file = filepath.Join(shared.path("standin", "instances", i.CloudID), "home/debian/.ssh/authorized_keys")
	w.opened, w.counting = w.state()
	if both(w.opened, w.counting) == 0 {
		t.Errorf("sequence %d begins with nobody in: %v %v", n, w.opened, w.counting)
	}
	return w
}

const oracleSteps = 5 // of each operator

// sequence is one random sequence: three operators at once.
func (w *world) sequence() {
	var wg sync.WaitGroup
	for k := range 3 {
		wg.Go(func() {
			token := w.s.tokens[k]
			for range oracleSteps {
				w.judge(w.step(token))
				time.Sleep(time.Duration(w.random(120)) * time.Millisecond)
			}
		})
	}
	wg.Wait()
	w.settle(w.s.slot.token, false)
	w.judge("the end of what was at hand")
	w.settle(w.s.slot.token, true)
	w.judge("going back")
}

func TestOracle(t *testing.T) {
	t.Parallel()
	n := *oracleN
	if n == 0 {
		n = 50
		if *matrixAll {
			n = 2000
		}
	}
	seed := *oracleSeed
	if seed == 0 {
		seed = rand.Uint64()
	}
	t.Logf("%d sequences, -oracle-seed %d", n, seed)
	s := startOracleService(t, 120, 3)
	for name, sort := range map[string]string{"oracle-person": "person", "oracle-job": "job", "oracle-team": "team"} {
		if code := s.call(s.slot.token, "POST", "/holders", map[string]string{"name": name, "sort": sort},
			nil); code != 201 {
			t.Fatal(name, code)
		}
	}
	stop := make(chan struct{})
	var killing sync.WaitGroup
	killing.Go(func() { // the service is killed now and then, in the middle of whatever it does
		r := rand.New(rand.NewPCG(seed, 1<<40))
		for {
			select {
			case <-stop:
				return
			case <-time.After(time.Duration(4+r.IntN(8)) * time.Second):
				if err := s.restart(); err != nil {
					t.Errorf("the service did not start again: %v", err)
					return
				}
			}
		}
	})
	slots := make(chan struct{}, 16)
	var wg sync.WaitGroup
	for k := range n {
		if *oracleOnly >= 0 && k != *oracleOnly {
			continue
		}
		if t.Failed() {
			break
		}
		slots <- struct{}{}
		wg.Go(func() {
			defer func() { <-slots }()
			if w := newWorld(t, s, seed, k); w != nil {
				w.sequence()
				s.call(s.slot.token, "DELETE", "/instances/"+w.name, nil, nil)
			}
		})
	}
	wg.Wait()
	close(stop)
	killing.Wait()
	// What was tried, and how often it was let through: an oracle that sees nothing
	// done is none.
	counts := map[string]int{}
	s.counted.Range(func(k, v any) bool { counts[k.(string)] = int(v.(*atomic.Int64).Load()); return true })
	for _, k := range slices.Sorted(maps.Keys(counts)) {
		t.Logf("%6d %s", counts[k], k)
	}
	var ended []struct {
		kind, state string
		n           int
	}
	rows, err := s.slot.connect(t).Query(t.Context(),
		"SELECT kind, state, count(*) FROM work GROUP BY 1, 2 ORDER BY 1, 2")
	mustDo(t, err)
	for rows.Next() {
		var kind, state string
		var n int
		mustDo(t, rows.Scan(&kind, &state, &n))
		t.Logf("%6d %s %s", n, kind, state)
		ended = append(ended, struct {
			kind, state string
			n           int
		}{kind, state, n})
	}
	if *oracleOnly < 0 && n >= 50 && len(ended) < 8 {
		t.Errorf("little was done: %v", ended)
	}
}

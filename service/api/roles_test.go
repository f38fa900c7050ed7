package api

import (
	"context"
	"encoding/json"
	"io"
	"log/slog"
	"net"
	"net/http"
	"net/http/httptest"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"testing/fstest"
	"time"

	"plumlatch/core/wire"
	"plumlatch/reach"
	"plumlatch/service/atrest"
	"plumlatch/service/cloud"
	"plumlatch/service/cloud/standin"
	"plumlatch/service/door"
	"plumlatch/service/kinds"
	"plumlatch/service/postgres/pgtest"
	"plumlatch/service/store"
)

func TestMain(m *testing.M) { pgtest.Main(m) }

// caller asks an API of its own, on a database of its own, with no cloud behind it.
type caller struct {
	t      *testing.T
	url    string
	db     *store.Store
	dbURL  string
	server *Server
	log    said
}

// said is what was logged.
type said struct {
	mu sync.Mutex
	b  strings.Builder
}

func (s *said) Write(p []byte) (int, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.b.Write(p)
}

func (s *said) String() string {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.b.String()
}

func newCaller(t *testing.T) *caller {
	t.Helper()
	c := &caller{t: t, dbURL: pgtest.URL(t)}
	c.db = pgtest.OpenURL(t, c.dbURL)
	cipher, err := atrest.Create(filepath.Join(t.TempDir(), "identity.txt"))
	if err != nil {
		t.Fatal(err)
	}
	if err := cipher.Keep(t.Context(), c.db); err != nil {
		t.Fatal(err)
	}
	heads, err := atrest.OpenHeads(filepath.Join(t.TempDir(), "journal"))
	if err != nil {
		t.Fatal(err)
	}
	shut, err := net.Listen("tcp", "127.0.0.1:0") // where no cloud answers
	if err != nil {
		t.Fatal(err)
	}
	shut.Close()
	log := slog.New(slog.NewTextHandler(&c.log, nil))
	w := kinds.New(&door.Service{Store: c.db, Clouds: cloud.One(standin.New("http://"+shut.Addr().String(), "x")), Cipher: cipher,
		Heads: heads, Log: log, FollowEvery: -1,
		Reach:      reach.Policy{AllowLoopback: true, Budget: &reach.Budget{}, Dialed: new(atomic.Int64)},
		StateLimit: time.Second}, 0)
	if err := w.Start(context.Background()); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(w.Close)
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	o := Options{Store: c.db, Worker: w, Console: fstest.MapFS{"index.html": {Data: []byte("<html>")}}, Listen: l.Addr().String(), Log: log,
		Closing: make(chan struct{})}
	c.server = &Server{opts: o}
	srv := &httptest.Server{Listener: l, Config: &http.Server{Handler: New(o)}}
	srv.Start()
	t.Cleanup(srv.Close)
	c.url = "http://" + l.Addr().String()
	return c
}

// ask asks as somebody, whose header is given; "" for nobody.
func (c *caller) ask(method, path, body, header string) (int, wire.Problem) {
	c.t.Helper()
	ctx, cancel := context.WithTimeout(c.t.Context(), 2*time.Minute)
	defer cancel()
	req, err := http.NewRequestWithContext(ctx, method, c.url+path, strings.NewReader(body))
	if err != nil {
		c.t.Fatal(err)
	}
	if header != "" {
		req.Header.Set("Authorization", "Bearer "+header)
	}
	resp, err := http.DefaultClient.Do(req)
	if err != nil {
		c.t.Fatal(err)
	}
	defer resp.Body.Close()
	text, err := io.ReadAll(io.LimitReader(resp.Body, 1<<20))
	if err != nil {
		c.t.Fatal(err)
	}
	var p wire.Problem
	_ = json.Unmarshal(text, &p)
	return resp.StatusCode, p
}

// token makes an operator of a role, signs in, and makes a token of it.
func (c *caller) token(name string, role store.Role) string {
	c.t.Helper()
	const password = "salt-on-the-quay-stones"
	if err := c.db.AddOperator(c.t.Context(), store.Service, name, role, HashPassword(password)); err != nil {
		c.t.Fatal(err)
	}
	send := func(path string, body any, cookie string, into any) *http.Response {
		text, _ := json.Marshal(body)
		req, err := http.NewRequestWithContext(c.t.Context(), http.MethodPost, c.url+"/api/v1"+path,
			strings.NewReader(string(text)))
		if err != nil {
			c.t.Fatal(err)
		}
		req.Header.Set("Origin", c.url)
		if cookie != "" {
			req.Header.Set("Cookie", cookie)
		}
		resp, err := http.DefaultClient.Do(req)
		if err != nil {
			c.t.Fatal(err)
		}
		defer resp.Body.Close()
		if err := json.NewDecoder(resp.Body).Decode(into); err != nil || resp.StatusCode > 299 {
			c.t.Fatalf("%s: %s %v", path, resp.Status, err)
		}
		return resp
	}
	var o wire.Operator
	in := send("/session", wire.Credentials{Operator: name, Password: password}, "", &o)
	cookie, _, _ := strings.Cut(in.Header.Get("Set-Cookie"), ";")
	var t wire.Token
	send("/tokens", wire.NewToken{Name: "t", Seconds: 3600}, cookie, &t)
	return t.Token
}

// TestRoles: every call of the table, asked by nobody, with a token that has ended, by an
// operator who is disabled, and by each role. Whoever may not is told so before anything
// else; whoever may is answered, and never by a failure of the service.
func TestRoles(t *testing.T) {
	t.Parallel()
	c := newCaller(t)
	tokens := map[string]string{"viewer": c.token("view", store.Viewer), "editor": c.token("edit", store.Editor),
		"admin": c.token("rule", store.Admin),
		"ended": c.token("ended", store.Admin), "disabled": c.token("gone", store.Admin), "nobody": "",
		"made up": "plt_" + strings.Repeat("a", 52)}
	conn := pgtest.Connect(t, c.dbURL)
	for _, sql := range []string{
		"UPDATE tokens SET expires_at = clock_timestamp() - interval '1 s' WHERE operator_id = (SELECT id FROM " +
			"operators WHERE name = 'ended')",
		"UPDATE operators SET disabled_at = clock_timestamp() WHERE name = 'gone'",
	} {
		if tag, err := conn.Exec(t.Context(), sql); err != nil || tag.RowsAffected() != 1 {
			t.Fatalf("%s: %v %v", sql, tag, err)
		}
	}
	rank := map[string]int{"viewer": 1, "editor": 2, "admin": 3}
	needs := map[store.Role]int{store.Viewer: 1, store.Editor: 2, store.Admin: 3}
	asked := 0
	for _, o := range c.server.operations() {
		// the one never ends, the other is of sessions
		if o.Path == "/work/:id/events" || o.Method == http.MethodDelete && o.Path == "/session" {
			continue
		}
		for who, token := range tokens {
			body := ""
			if o.In != nil {
				body = "{}"
			}
			name := "999"
			status, p := c.ask(o.Method, o.plainPath(name), body, token)
			asked++
			what := who + ": " + o.Method + " " + o.Path
			may := o.Role == "" || rank[who] >= needs[o.Role] && rank[who] > 0
			switch {
			case o.Role == "":
				if status == http.StatusForbidden || status >= 500 {
					t.Errorf("%s: %d %+v", what, status, p)
				}
			case rank[who] == 0:
				want := "/problems/bad-token"
				if token == "" {
					want = "/problems/unauthenticated"
				}
				if status != http.StatusUnauthorized || p.Type != want {
					t.Errorf("%s: %d %s, want 401 %s", what, status, p.Type, want)
				}
			case !may:
				if status != http.StatusForbidden || p.Type != "/problems/forbidden" {
					t.Errorf("%s: %d %s, want 403", what, status, p.Type)
				}
			case status == http.StatusUnauthorized, status == http.StatusForbidden,
				status == http.StatusInternalServerError:
				t.Errorf("%s: %d %+v", what, status, p)
			}
		}
	}
	if asked < 700 {
		t.Errorf("only %d were asked", asked)
	}
}

// TestTable: the table names no call twice, and says something of each.
func TestTable(t *testing.T) {
	seen := map[string]bool{}
	for _, o := range (&Server{}).operations() {
		at := o.Method + " " + o.Path
		if seen[at] || o.About == "" || !strings.HasSuffix(strings.TrimSuffix(o.About, "?"), ".") &&
			!strings.HasSuffix(o.About, "?") || o.do == nil {
			t.Errorf("%s: %q", at, o.About)
		}
		seen[at] = true
		if o.In != nil && o.Method == http.MethodGet {
			t.Errorf("%s sends a document", at)
		}
	}
}

// TestRequestID: every answer has an ID of its own, a problem names it, and the log has it.
func TestRequestID(t *testing.T) {
	t.Parallel()
	c := newCaller(t)
	seen := map[string]bool{}
	for _, path := range []string{"/api/v1/keys", "/api/v1/nothing", "/healthz", "/", "/api/v1/keys"} {
		resp, err := http.Get(c.url + path)
		if err != nil {
			t.Fatal(err)
		}
		text, _ := io.ReadAll(resp.Body)
		resp.Body.Close()
		id := resp.Header.Get(requestID)
		var p wire.Problem
		if json.Unmarshal(text, &p) == nil && p.RequestID != id {
			t.Errorf("%s: the problem names %q, the header %q", path, p.RequestID, id)
		}
		if len(id) < 10 || seen[id] || !strings.Contains(c.log.String(), "request_id="+id) {
			t.Errorf("%s: ID %q, twice %t", path, id, seen[id])
		}
		seen[id] = true
	}
}

// TestMetrics: what a page about the service needs is told as numbers, and nobody makes more
// rows of it by asking for what is not there.
func TestMetrics(t *testing.T) {
	t.Parallel()
	c := newCaller(t)
	token := c.token("watch", store.Viewer)
	for _, method := range []string{"GET", "BREW", "STEEP"} {
		c.ask(method, "/api/v1/no/such/"+method, "", token)
	}
	c.ask("GET", "/api/v1/keys", "", token)
	req, err := http.NewRequestWithContext(t.Context(), http.MethodGet, c.url+"/api/v1/metrics", nil)
	if err != nil {
		t.Fatal(err)
	}
	req.Header.Set("Authorization", "Bearer "+token)
	resp, err := http.DefaultClient.Do(req)
	if err != nil {
		t.Fatal(err)
	}
	defer resp.Body.Close()
	text, err := io.ReadAll(resp.Body)
	if err != nil {
		t.Fatal(err)
	}
	for _, want := range []string{`plumlatch_work{state="queued"} 0`, "plumlatch_work_oldest_seconds 0",
		"plumlatch_probes_total 0", "plumlatch_surveys_total 0",
		`plumlatch_request_seconds_count{method="GET",route="/api/v1/keys",status="2xx"} 1`,
		`plumlatch_request_seconds_count{method="-",route="(console)",status="4xx"} 3`} {
		if !strings.Contains(string(text), want+"\n") {
			t.Errorf("%s is not told", want)
		}
	}
	for _, word := range []string{"BREW", "such"} {
		if strings.Contains(string(text), word) {
			t.Errorf("what was asked for made a row: %s", word)
		}
	}
}

// TestCutIsNotForgotten: somebody cuts the journal's tail, heads and all, and the chain grows
// again. The service still remembers the head that it signed before, and says so.
func TestCutIsNotForgotten(t *testing.T) {
	t.Parallel()
	c := newCaller(t)
	token := c.token("lead", store.Admin)
	conn := pgtest.Connect(t, c.dbURL)
	count := func(sql string) (n int64) {
		t.Helper()
		if err := conn.QueryRow(t.Context(), sql).Scan(&n); err != nil {
			t.Fatal(err)
		}
		return n
	}
	grown := func(name string) int64 {
		t.Helper()
		if err := c.db.AddOperator(t.Context(), store.Service, name, store.Viewer, "-"); err != nil {
			t.Fatal(err)
		}
		for deadline := time.Now().Add(2 * time.Minute); count("SELECT count(*) FROM journal_waiting") > 0; time.Sleep(50 * time.Millisecond) {
			if time.Now().After(deadline) {
				t.Fatal("it was never chained")
			}
		}
		time.Sleep(200 * time.Millisecond) // the head is remembered after it is committed
		return count("SELECT max(n) FROM journal_chain")
	}
	before := grown("first")
	grown("second")
	grown("third")
	for _, sql := range []string{
		"ALTER TABLE journal DISABLE TRIGGER USER", "ALTER TABLE journal_chain DISABLE TRIGGER USER",
		"ALTER TABLE journal_heads DISABLE TRIGGER USER",
		"DELETE FROM journal_heads WHERE n > $1", "DELETE FROM journal_chain WHERE n > $1",
		"DELETE FROM journal j WHERE NOT EXISTS (SELECT 1 FROM journal_chain c WHERE c.journal_id = j.id)",
		"ALTER TABLE journal ENABLE TRIGGER USER",
	} {
		var args []any
		if strings.Contains(sql, "$1") {
			args = append(args, before)
		}
		if _, err := conn.Exec(t.Context(), sql, args...); err != nil {
			t.Fatalf("%s: %v", sql, err)
		}
	}
	for _, name := range []string{"fourth", "fifth", "sixth"} {
		grown(name)
	}
	req, err := http.NewRequestWithContext(t.Context(), http.MethodPost, c.url+"/api/v1/journal/verify", nil)
	if err != nil {
		t.Fatal(err)
	}
	req.Header.Set("Authorization", "Bearer "+token)
	resp, err := http.DefaultClient.Do(req)
	if err != nil {
		t.Fatal(err)
	}
	defer resp.Body.Close()
	var check wire.JournalCheck
	if err := json.NewDecoder(resp.Body).Decode(&check); err != nil || len(check.Breaks) == 0 {
		t.Errorf("nothing is said of the cut: %+v %v", check, err)
	}
}

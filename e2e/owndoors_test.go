package e2e

import (
	"bufio"
	"encoding/json"
	"fmt"
	"net"
	"net/http"
	"strconv"
	"strings"
	"sync"
	"testing"
	"time"

	"plumlatch/core/wire"
)

// doorsOf is a service of its own with an admin and a viewer, and the viewer's
// password.
func doorsOf(t *testing.T, n int) (s *slot, up *replica, d *demo, viewer string) {
	t.Helper()
	s = newSlot(t, n)
	r, err := s.start("", "")
	mustDo(t, err)
	t.Cleanup(func() { r.end() })
	d = newHome(t, &demo{dir: s.dir, url: r.url, token: s.token})
	a := d.api(t, "POST", "/api/v1/operators", `{"name":"watcher","role":"viewer"}`)
	in := d.api(t, "POST", "/api/v1/session",
		mustJSON(t, wire.Credentials{Operator: "watcher", Password: a.field(t, "password")}), "Origin", r.url)
	cookie, _, _ := strings.Cut(in.header.Get("Set-Cookie"), ";")
	viewer = d.api(t, "POST", "/api/v1/tokens", `{"name":"w","role":"","seconds":36000}`, "Cookie", cookie, "Origin",
		r.url).field(t, "token")
	return s, r, d, viewer
}

// memory is the most that a process has ever had in memory, in MiB.
func memory(t *testing.T, pid int) int {
	t.Helper()
	_, rest, _ := strings.Cut(mustRead(t, fmt.Sprintf("/proc/%d/status", pid)), "VmHWM:")
	kib, err := strconv.Atoi(strings.Fields(rest)[0])
	mustDo(t, err)
	return kib / 1024
}

// TestSigninsAtOnce: a hundred attempts at one moment are counted before they are
// tried, on whichever replica: five are tried, and the memory is that of two.
func TestSigninsAtOnce(t *testing.T) {
	t.Parallel()
	s, up, d, _ := doorsOf(t, 123)
	second, err := s.start("", "")
	mustDo(t, err)
	t.Cleanup(func() { second.end() })
	before := memory(t, up.cmd.Process.Pid)
	var mu sync.Mutex
	got := map[int]int{}
	var wg sync.WaitGroup
	for n := range 100 {
		wg.Go(func() {
			url := []string{up.url, second.url}[n%2]
			req, err := http.NewRequest("POST", url+"/api/v1/session",
				strings.NewReader(`{"operator":"watcher","password":"wrong"}`))
			if err != nil {
				t.Error(err)
				return
			}
			req.Header.Set("Origin", url)
			resp, err := http.DefaultTransport.RoundTrip(req)
			if err != nil {
				t.Error(err)
				return
			}
			resp.Body.Close()
			mu.Lock()
			got[resp.StatusCode]++
			mu.Unlock()
		})
	}
	wg.Wait()
	if got[401] > 5 || got[401] < 1 || got[401]+got[429] != 100 {
		t.Errorf("answers: %v", got)
	}
	allowed := 100
	if raced { // the detector keeps its own account of each byte
		allowed *= 8
	}
	if now := memory(t, up.cmd.Process.Pid); now > before+allowed {
		t.Errorf("%d MiB before, %d MiB at most", before, now)
	}
	// One after the other: five, and then none, with the right password neither.
	for n := range 3 {
		if a := d.api(t, "POST", "/api/v1/session", `{"operator":"watcher","password":"wrong"}`, "Origin",
			d.url); a.status != 429 {
			t.Errorf("another, %d: %d", n, a.status)
		}
	}
}

// TestTokensEndTogether: what a token makes ends with it, and never later; it ends
// no other.
func TestTokensEndTogether(t *testing.T) {
	t.Parallel()
	_, _, d, _ := doorsOf(t, 124)
	make := func(by, name string, seconds int) answer {
		return d.api(t, "POST", "/api/v1/tokens", fmt.Sprintf(`{"name":%q,"role":"","seconds":%d}`, name, seconds),
			"Authorization", "Bearer "+by)
	}
	short := make(d.token, "short", 600)
	parent := short.field(t, "token")
	if a := make(parent, "long", 365*86400); a.status != 422 || !strings.Contains(a.body, "ends with it") {
		t.Errorf("a year of ten minutes: %d %s", a.status, a.body)
	}
	child := make(parent, "child", 300)
	grandchild := make(child.field(t, "token"), "grandchild", 120)
	if grandchild.status != 201 {
		t.Fatal(grandchild.body)
	}
	id := func(a answer) string {
		var tok wire.Token
		unmarshal(t, a.body, &tok)
		return fmt.Sprint(tok.ID)
	}
	revoke := func(by, id string) int {
		return d.api(t, "DELETE", "/api/v1/tokens/"+id, "", "Authorization", "Bearer "+by).status
	}
	whoami := func(by string) int {
		return d.api(t, "GET", "/api/v1/session", "", "Authorization", "Bearer "+by).status
	}
	other := make(d.token, "other", 600)
	if got := revoke(parent, id(other)); got != 403 {
		t.Errorf("a token ends another: %d", got)
	}
	if got := revoke(grandchild.field(t, "token"), id(child)); got != 403 {
		t.Errorf("a token ends the one that made it: %d", got)
	}
	if whoami(other.field(t, "token")) != 200 || whoami(child.field(t, "token")) != 200 {
		t.Error("one that was not to end has ended")
	}
	if got := revoke(d.token, id(short)); got != 204 {
		t.Errorf("ending it: %d", got)
	}
	for what, a := range map[string]answer{"itself": short, "its child": child, "its grandchild": grandchild} {
		if got := whoami(a.field(t, "token")); got != 401 {
			t.Errorf("%s is good still: %d", what, got)
		}
	}
}

// TestStreamsEndWithTheirToken: who follows work is let go when the token ends.
func TestStreamsEndWithTheirToken(t *testing.T) {
	t.Parallel()
	s, _, d, _ := doorsOf(t, 125)
	d.must(t, "key", "create", "stream-guest", "-dir", t.TempDir(), "-new-passphrase", writeFile(t, ""))
	d.launchBoard(t, "stream-board", s.key)
	d.must(t, "access", "add", "stream-board", "-key", "stream-guest", "-for", "1h")
	var list wire.List[wire.Work]
	unmarshal(t, d.must(t, "work", "list", "-state", "open", "-json"), &list)
	tok := d.api(t, "POST", "/api/v1/tokens", `{"name":"stream","role":"","seconds":600}`)
	var made wire.Token
	unmarshal(t, tok.body, &made)
	req, err := http.NewRequest("GET", d.url+fmt.Sprintf("/api/v1/work/%d/events", list.Items[0].ID), nil)
	mustDo(t, err)
	req.Header.Set("Authorization", "Bearer "+made.Token)
	resp, err := http.DefaultTransport.RoundTrip(req)
	mustDo(t, err)
	defer resp.Body.Close()
	ended := make(chan bool)
	go func() {
		lines := bufio.NewScanner(resp.Body)
		for lines.Scan() {
		}
		close(ended)
	}()
	select {
	case <-ended:
		t.Fatal("it ended by itself")
	case <-time.After(3 * time.Second):
	}
	if a := d.api(t, "DELETE", fmt.Sprintf("/api/v1/tokens/%d", made.ID), ""); a.status != 204 {
		t.Fatal(a.body)
	}
	select {
	case <-ended:
	case <-time.After(time.Minute):
		t.Error("it goes on after its token ended")
	}
}

// TestJournalIsNotSilenced: an alarm about the journal stands until the service
// itself has looked, for somebody who may change things.
func TestJournalIsNotSilenced(t *testing.T) {
	t.Parallel()
	_, _, d, viewer := doorsOf(t, 126)
	alarm := func() bool {
		t.Helper()
		return strings.Contains(d.must(t, "today", "-json"), "journal-broken")
	}
	report := func(token, breaks string) int {
		return d.api(t, "POST", "/api/v1/journal/checks", `{"links":1000,"heads":1,"breaks":`+breaks+`}`,
			"Authorization", "Bearer "+token).status
	}
	if alarm() {
		t.Fatal("there is an alarm at the beginning")
	}
	if got := report(viewer, `["link 7 does not fit"]`); got != 200 {
		t.Fatalf("a viewer tells of a break: %d", got)
	}
	if !alarm() {
		t.Error("a break that a client found is no alarm")
	}
	for who, token := range map[string]string{"a viewer": viewer, "an admin": d.token} {
		if report(token, "[]"); !alarm() {
			t.Errorf("%s says that there is none, and the alarm is gone", who)
		}
	}
	if a := d.api(t, "POST", "/api/v1/journal/verify", "", "Authorization", "Bearer "+viewer); a.status != 200 ||
		!alarm() {
		t.Errorf("a viewer has the service look, and the alarm is gone: %d", a.status)
	}
	if a := d.api(t, "POST", "/api/v1/journal/verify", ""); a.status != 200 || alarm() {
		t.Errorf("the service has looked for an admin, and the alarm stands: %d", a.status)
	}
	if n := strings.Count(d.api(t, "GET", "/api/v1/journal?target=journal&limit=100", "").body,
		`"journal.check"`); n < 5 {
		t.Errorf("%d looks are in the journal", n)
	}
}

// TestOddAddresses: NUL and what is no UTF-8, in paths, queries and cursors, are
// refused as what they are, on every call.
func TestOddAddresses(t *testing.T) {
	t.Parallel()
	_, _, d, _ := doorsOf(t, 127)
	odd := []string{"%00", "a%00b", "%ff", "a%c3%28", "%ed%a0%80"}
	n := 0
	for _, path := range []string{"keys", "instances", "access", "work", "holders", "surveys", "journal", "operators",
		"tokens", "static-addresses", "discovery", "today", "restore-ready", "access-map"} {
		for _, o := range odd {
			for _, p := range []string{path + "/" + o, path + "?cursor=" + o, path + "?q=" + o, path + "?target=" + o,
				path + "?" + o + "=1", path + "?instance=" + o + "&key=" + o} {
				for _, method := range []string{"GET", "POST", "DELETE"} {
					n++
					if a := d.api(t, method, "/api/v1/"+p, ""); a.status != 400 && a.status != 404 {
						t.Errorf("%s %s: %d %s", method, p, a.status, a.body)
					}
				}
			}
		}
	}
	for _, body := range []string{`{"name":"a\u0000b","public_key":"x"}`, `{"name":"x","sort":"per\u0000son"}`} {
		for _, path := range []string{"keys", "holders", "instances", "adoptions"} {
			if a := d.api(t, "POST", "/api/v1/"+path, body); a.status != 422 && a.status != 400 {
				t.Errorf("%s %s: %d %s", path, body, a.status, a.body)
			}
		}
	}
	t.Logf("%d requests", n)
}

// TestHostAndOrigin: the whole of an origin is compared, and a request line with a
// host of its own is refused.
func TestHostAndOrigin(t *testing.T) {
	t.Parallel()
	_, _, d, _ := doorsOf(t, 128)
	host := strings.TrimPrefix(d.url, "http://")
	for origin, want := range map[string]int{d.url: 200, "http://user@" + host: 403, "http://evil@" + host: 403,
		d.url + "/": 403, d.url + "/x": 403, d.url + "?x": 403, "HTTP://" + host: 403, "https://" + host: 403,
		"null": 403, "http://" + host + "#x": 403} {
		if a := d.api(t, "GET", "/api/v1/session", "", "Authorization", "Bearer "+d.token, "Origin",
			origin); a.status != want {
			t.Errorf("origin %q: %d, want %d", origin, a.status, want)
		}
	}
	for line, want := range map[string]string{
		"GET /api/v1/session HTTP/1.1":                      "200",
		"GET http://" + host + "/api/v1/session HTTP/1.1":   "403",
		"GET http://evil.example/api/v1/session HTTP/1.1":   "403",
		"GET http://u@" + host + "/api/v1/session HTTP/1.1": "403",
		"GET //" + host + "/api/v1/session HTTP/1.1":        "404",
		"GET http://evil@" + host + "/healthz HTTP/1.1":     "403",
		"GET https://" + host + "/api/v1/session HTTP/1.1":  "403",
		"OPTIONS * HTTP/1.1":                                "4",
	} {
		for _, header := range []string{host, "evil.example"} {
			conn, err := net.Dial("tcp", host)
			mustDo(t, err)
			_ = conn.SetDeadline(time.Now().Add(10 * time.Second))
			fmt.Fprintf(conn, "%s\r\nHost: %s\r\nAuthorization: Bearer %s\r\nConnection: close\r\n\r\n",
				line, header, d.token)
			status, err := bufio.NewReader(conn).ReadString('\n')
			conn.Close()
			mustDo(t, err)
			if header == host && !strings.HasPrefix(status, "HTTP/1.1 "+want) {
				// the console answers what is no call
				if !(want == "404" && strings.HasPrefix(status, "HTTP/1.1 2")) && want != "4" {
					t.Errorf("%q with Host %s: %s", line, header, status)
				}
			}
			if header != host && strings.HasPrefix(status, "HTTP/1.1 2") && line != "OPTIONS * HTTP/1.1" {
				t.Errorf("%q with Host %s: %s", line, header, status)
			}
		}
	}
}

// TestCostlyRequestsAreBounded: what asks instances and clouds is bounded for each
// operator, and one operator's bound is no other's.
func TestCostlyRequestsAreBounded(t *testing.T) {
	t.Parallel()
	s, _, d, viewer := doorsOf(t, 129)
	d.launchBoard(t, "cost-board", s.key)
	conn := s.connect(t)
	_, err := conn.Exec(t.Context(), "UPDATE instances SET address = '127.0.0.1', port = $1 WHERE name = 'cost-board'", odd(t, "silent"))
	mustDo(t, err)
	var mu sync.Mutex
	got := map[int]int{}
	var wg sync.WaitGroup
	for range 20 {
		wg.Go(func() {
			req, err := http.NewRequest("POST", d.url+"/api/v1/instances/cost-board/why", strings.NewReader(`{}`))
			if err != nil {
				return
			}
			req.Header.Set("Authorization", "Bearer "+viewer)
			resp, err := http.DefaultTransport.RoundTrip(req)
			if err != nil {
				return
			}
			resp.Body.Close()
			mu.Lock()
			got[resp.StatusCode]++
			mu.Unlock()
			if resp.StatusCode == 429 && resp.Header.Get("Retry-After") == "" {
				t.Error("it is not said when to ask again")
			}
		})
	}
	time.Sleep(time.Second)
	began := time.Now()
	if a := d.api(t, "GET", "/api/v1/instances/cost-board", ""); a.status != 200 || time.Since(began) > 5*time.Second {
		t.Errorf("another operator waits: %d after %v", a.status, time.Since(began))
	}
	wg.Wait()
	if got[429] < 15 {
		t.Errorf("a viewer asked 20 times at once: %v", got)
	}
	for n := 0; ; n++ {
		if d.api(t, "GET", "/api/v1/restore-ready", "", "Authorization", "Bearer "+viewer).status == 429 {
			break
		}
		if n > 100 {
			t.Fatal("a viewer asks without end")
		}
	}
	if a := d.api(t, "GET", "/api/v1/restore-ready", ""); a.status != 200 {
		t.Errorf("another operator: %d", a.status)
	}
}

func unmarshal(t *testing.T, text string, into any) {
	t.Helper()
	if err := json.Unmarshal([]byte(text), into); err != nil {
		t.Fatalf("%v: %s", err, text)
	}
}

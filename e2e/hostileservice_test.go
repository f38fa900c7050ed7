package e2e

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"sync/atomic"
	"testing"

	"plumlatch/core/keypair"
	"plumlatch/core/wire"
	"plumlatch/service/cloud/standin"
)

// lyingService passes on what the shared service says, and from some moment lies
// about one instance: another host key, another alias with it, and the address of
// a listener of the attacker's.
type lyingService struct {
	*httptest.Server
	lies  atomic.Bool
	lie   *strings.Replacer
	lines wire.RestoreLines // sent for any work's lines, as long as it lies
}

func newLyingService(t *testing.T) *lyingService {
	t.Helper()
	l := &lyingService{}
	l.Server = httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if l.lies.Load() && strings.HasSuffix(r.URL.Path, "/lines") {
			_ = json.NewEncoder(w).Encode(l.lines)
			return
		}
		if l.lies.Load() && strings.Contains(r.URL.Path, "/work/") {
			_ = json.NewEncoder(w).Encode(wire.Work{ID: 7, Operator: "night-lead", State: "waiting"})
			return
		}
		on, err := http.NewRequestWithContext(r.Context(), r.Method, shared.url+r.URL.RequestURI(), r.Body)
		if err != nil {
			t.Error(err)
			return
		}
		on.Header = r.Header.Clone()
		on.Header.Del("Accept-Encoding")
		resp, err := http.DefaultTransport.RoundTrip(on)
		if err != nil {
			return
		}
		defer resp.Body.Close()
		body, _ := io.ReadAll(resp.Body)
		if l.lies.Load() {
			body = []byte(l.lie.Replace(string(body)))
		}
		w.Header().Set("Content-Type", resp.Header.Get("Content-Type"))
		w.WriteHeader(resp.StatusCode)
		_, _ = w.Write(body)
	}))
	t.Cleanup(l.Close)
	return l
}

// TestLyingService: a service that lies about a host key, and about the alias with
// it, is believed by no way into an instance, and hosts write says what it replaces.
func TestLyingService(t *testing.T) {
	t.Parallel()
	d, dir, home := shared, t.TempDir(), t.TempDir()
	d.must(t, "key", "create", "lied-key", "-dir", dir)
	d.must(t, "instance", "launch", "lied-board", "-image", "debian-12", "-size", "small", "-region", "north-pier",
		"-key", "lied-key")
	i := d.instance(t, "lied-board")
	file := filepath.Join(dir, "lied-key")
	l := newLyingService(t)
	run := func(args ...string) result { return d.clientIn(t, home, l.URL, args...) }
	if r := run("hosts", "write", "-dir", dir, "-yes"); r.code != 0 {
		t.Fatalf("%+v", r)
	}
	if r := run("open", "lied-board", "-identity", file, "--", "hostname"); r.code != 0 || r.out != "lied-board\n" {
		t.Fatalf("while it tells the truth: %+v", r)
	}

	trap, err := net.Listen("tcp", "127.0.0.1:0")
	mustDo(t, err)
	defer trap.Close()
	var caught atomic.Int32
	go func() {
		for {
			conn, err := trap.Accept()
			if err != nil {
				return
			}
			caught.Add(1)
			conn.Close()
		}
	}()
	line := newPublic(t)
	other, err := keypair.ReadPublic([]byte(line))
	mustDo(t, err)
	own := i.HostKeys[0]
	known := filepath.Join(home, ".ssh", "plumlatch_known_hosts")
	before, err := os.ReadFile(known)
	mustDo(t, err)
	pub, err := os.ReadFile(file + ".pub")
	mustDo(t, err)
	key, err := keypair.ReadPublic(pub)
	mustDo(t, err)
	l.lines = wire.RestoreLines{Work: 7, Instance: "lied-board", LoginUser: "debian", Key: "lied-key",
		Lines: []string{key.Line()}, Files: []string{".ssh/authorized_keys"}, Route: "second-key"}
	keyAndAlias := []string{own.PublicKey, other.Line(), own.Fingerprint, other.Fingerprint(), i.Alias,
		"plumlatch-zzzzzzzzzz"}
	place := []string{`"address":"` + i.Address + `"`, `"address":"127.0.0.1"`, fmt.Sprintf(`"port":%d`, i.Port),
		fmt.Sprintf(`"port":%d`, trap.Addr().(*net.TCPAddr).Port)}
	for what, lie := range map[string][]string{
		"another host key":           append(keyAndAlias[:4:4], place...),
		"another alias with it":      append(keyAndAlias[:6:6], place...),
		"another alias, the old key": append(keyAndAlias[4:6:6], place...),
	} {
		l.lie = strings.NewReplacer(lie...)
		l.lies.Store(true)
		for way, args := range map[string][]string{
			"open":          {"open", "lied-board", "-identity", file, "--", "true"},
			"survey":        {"survey", "lied-board", "-identity", file},
			"restore grant": {"restore", "grant", "7", "-identity", file, "-yes"},
		} {
			if r := run(args...); r.code == 0 || !strings.Contains(r.err, own.Fingerprint) ||
				!strings.Contains(r.err, "hosts write") {
				t.Errorf("%s, %s: %+v", what, way, r)
			}
		}
		if r := run("hosts", "write", "-dir", dir); r.code == 0 || !strings.Contains(r.err, own.Fingerprint) {
			t.Errorf("%s, hosts write without a yes: %+v", what, r)
		}
		l.lies.Store(false)
	}
	if n := caught.Load(); n != 0 {
		t.Errorf("%d connections to the attacker's listener", n)
	}
	if now, err := os.ReadFile(known); err != nil || string(now) != string(before) {
		t.Errorf("what is pinned changed: %v\n%s", err, now)
	}
	l.lie = strings.NewReplacer(append(keyAndAlias, place...)...)
	l.lies.Store(true)
	if r := run("hosts", "write", "-dir", dir, "-yes"); !strings.Contains(r.out+r.err, own.Fingerprint) ||
		!strings.Contains(r.out+r.err, other.Fingerprint()) {
		t.Errorf("hosts write -yes says nothing of what it replaced: %+v", r)
	}
}

// TestEndlessLists: a service that has always another page, or always the same,
// keeps the client busy for a while and not for ever.
func TestEndlessLists(t *testing.T) {
	t.Parallel()
	for what, next := range map[string]func(n int64) string{
		"always another cursor": func(n int64) string { return fmt.Sprintf("c%d", n) },
		"always the same":       func(int64) string { return "c" },
	} {
		var asked atomic.Int64
		service := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			_ = json.NewEncoder(w).Encode(wire.List[wire.Key]{Items: []wire.Key{{Name: "k"}},
				NextCursor: next(asked.Add(1))})
		}))
		if r := shared.clientIn(t, t.TempDir(), service.URL, "key", "list"); r.code != 1 ||
			!strings.Contains(r.err, "does not end") {
			t.Errorf("%s: ended with %d after %d pages: %s", what, r.code, asked.Load(), r.err)
		}
		service.Close()
	}
}

// TestNoRedirectIsFollowed: neither the client nor the cloud's driver goes where
// somebody sends it, and no token is seen there.
func TestNoRedirectIsFollowed(t *testing.T) {
	t.Parallel()
	var there atomic.Int32
	elsewhere := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		there.Add(1)
		_, _ = io.WriteString(w, `{"items":[]}`)
	}))
	defer elsewhere.Close()
	for _, status := range []int{301, 302, 303, 307, 308} {
		sender := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			http.Redirect(w, r, elsewhere.URL+r.URL.Path, status)
		}))
		if r := shared.clientIn(t, t.TempDir(), sender.URL, "key", "list"); r.code == 0 {
			t.Errorf("client, %d: %+v", status, r)
		}
		if _, err := standin.New(sender.URL, "secret").Regions(context.Background()); err == nil {
			t.Errorf("driver, %d: no error", status)
		}
		sender.Close()
	}
	if n := there.Load(); n != 0 {
		t.Errorf("%d requests went elsewhere", n)
	}
}

package e2e

import (
	"fmt"
	"net/http"
	"net/http/httptest"
	"net/http/httputil"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"plumlatch/core/wire"
)

// TestLinesTakenOutByHand: somebody with another key adds a restore's lines; before their client
// says so, the work is cancelled. The client takes its lines out again with a permit of the
// service's guard; where the guard says no, they stay, and that is said.
func TestLinesTakenOutByHand(t *testing.T) {
	t.Parallel()
	for _, c := range []struct {
		name string
		stay bool // the other key counts for nothing by then: the new line may be the only way in
	}{{"hand-out", false}, {"hand-stay", true}} {
		t.Run(c.name, func(t *testing.T) {
			l := newLostDoor(t, shared, c.name, "debian-12")
			d := l.d
			mate := c.name + "-mate"
			d.must(t, "key", "create", mate, "-dir", l.dir, "-new-passphrase", l.none)
			d.must(t, "access", "add", c.name, "-key", mate)
			// Somebody got a session with it: nobody sees the login user's shell from outside.
			d.must(t, "open", c.name, "-identity", filepath.Join(l.dir, mate), "--", "true")
			file := d.path("standin", "instances", l.id, "home/debian/.ssh/authorized_keys")
			before, err := os.ReadFile(file)
			mustDo(t, err)
			r := d.client(t, "", "restore", c.name, "-route", "second-key", "-new", l.new, "-yes", "-dir", l.dir)
			_, rest, _ := strings.Cut(r.err, "restore grant ")
			id, _, _ := strings.Cut(rest, " ")
			if r.code != 1 || id == "" {
				t.Fatalf("it waits for a line: %+v", r)
			}

			// What lies between the client and the service has the work cancelled before it hears of the line.
			to, err := url.Parse(d.url)
			mustDo(t, err)
			proxy := &httputil.ReverseProxy{Rewrite: func(r *httputil.ProxyRequest) { r.SetURL(to) }} // and its host
			permits := 0
			between := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
				switch {
				case strings.HasSuffix(r.URL.Path, "/placed"):
					if now, _ := os.ReadFile(file); len(now) <= len(before) {
						t.Errorf("nothing was added: %q", now)
					}
					d.must(t, "work", "cancel", id)
					waitFor(t, "the end of work "+id, func() bool {
						var n int64
						_, _ = fmt.Sscan(id, &n)
						return d.workByID(t, n).Over()
					})
					if c.stay {
						d.must(t, "key", "lost", mate)
					}
				case strings.HasSuffix(r.URL.Path, "/permit"):
					permits++
				}
				proxy.ServeHTTP(w, r)
			}))
			defer between.Close()
			r = d.clientWith(t, between.URL, d.token, "", "restore", "grant", id, "-identity",
				filepath.Join(l.dir, mate), "-yes")
			now, err := os.ReadFile(file)
			mustDo(t, err)
			if r.code != 1 || permits != 1 {
				t.Errorf("%d permits asked for: %+v", permits, r)
			}
			if c.stay {
				if len(now) <= len(before) || !strings.Contains(r.err, "the new lines stay in") ||
					!strings.Contains(r.err, "rule 1") {
					t.Errorf("%q\n%+v", now, r)
				}
				// What it says to do next can be done.
				d.must(t, "survey", c.name)
				d.must(t, "access", "record", c.name, l.new)
				contains(t, "who", d.must(t, "who", c.name), l.new)
				return
			}
			if string(now) != string(before) || !strings.Contains(r.err, "they were taken out again") {
				t.Errorf("%q, and not %q\n%+v", now, before, r)
			}
			var entries wire.List[wire.JournalEntry]
			unmarshal(t, d.api(t, "GET", "/api/v1/journal?target="+url.QueryEscape("instance "+c.name), "").body,
				&entries)
			if len(entries.Items) == 0 {
				t.Error("nothing of it is in the journal")
			}
		})
	}
}

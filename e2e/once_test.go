package e2e

import (
	"net/http"
	"net/http/httptest"
	"net/http/httputil"
	"net/url"
	"os"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
)

// launchesOf counts the instances of a name that the cloud was asked for.
func (d *demo) launchesOf(t *testing.T, name string) int {
	t.Helper()
	cloud, err := os.ReadFile(d.path("standin", "cloud.json"))
	if err != nil {
		t.Fatal(err)
	}
	return strings.Count(string(cloud), `"name": "`+name+`"`)
}

func TestIdempotencyKey(t *testing.T) {
	d, dir := shared, t.TempDir()
	d.must(t, "key", "create", "once-key", "-dir", dir)
	body := func(name string) string {
		return `{"name":"` + name + `","region":"north-pier","image":"debian-12","size":"small","keys":["once-key"],"no_key":false,"plan":false}`
	}
	post := func(key, path, body string) answer {
		return d.api(t, "POST", path, body, "Authorization", "Bearer "+d.token, "Idempotency-Key", key)
	}
	first, again := post("k-1", "/api/v1/instances", body("once-board")),
		post("k-1", "/api/v1/instances", body("once-board"))
	if first.status != 202 || again.status != 202 ||
		first.field(t, "host_key_alias") != again.field(t, "host_key_alias") {
		t.Errorf("the same twice: %d %s, %d %s", first.status, first.body, again.status, again.body)
	}
	if a := post("k-1", "/api/v1/instances", body("once-other")); a.status != 422 ||
		a.field(t, "field") != "Idempotency-Key" {
		t.Errorf("another body: %d %s", a.status, a.body)
	}
	if a := post("k-1", "/api/v1/instances/once-board/stop", ""); a.status != 422 {
		t.Errorf("another path: %d %s", a.status, a.body)
	}
	if a := post("k\u202e", "/api/v1/instances", body("once-other")); a.status != 422 {
		t.Errorf("a key with a control character: %d %s", a.status, a.body)
	}
	if a := post("k-2", "/api/v1/instances", body("once-board")); a.status != 409 {
		t.Errorf("another key, the same name: %d %s", a.status, a.body)
	}
	// All at once.
	var wg sync.WaitGroup
	var accepted atomic.Int32
	for range 8 {
		wg.Go(func() {
			if a := post("k-3", "/api/v1/instances", body("once-many")); a.status == 202 {
				accepted.Add(1)
			} else {
				t.Errorf("at once: %d %s", a.status, a.body)
			}
		})
	}
	wg.Wait()
	for _, name := range []string{"once-board", "once-many"} {
		waitFor(t, name, func() bool { return d.instance(t, name).Phase == "ready" })
		if n := d.launchesOf(t, name); n != 1 {
			t.Errorf("%s was launched %d times", name, n)
		}
	}
	stop := post("k-4", "/api/v1/instances/once-board/stop", "")
	waitFor(t, "the stop", func() bool { return d.instance(t, "once-board").State == "stopped" })
	if again := post("k-4", "/api/v1/instances/once-board/stop", ""); stop.status != 202 || again.status != 202 {
		t.Errorf("a stop that was done already: %d %s", again.status, again.body)
	}
}

// TestLostAnswerOfALaunch has the client ask again, under the same name.
func TestLostAnswerOfALaunch(t *testing.T) {
	d, dir := shared, t.TempDir()
	target, err := url.Parse(d.url)
	if err != nil {
		t.Fatal(err)
	}
	d.must(t, "key", "create", "lost-key", "-dir", dir)
	proxy := &httputil.ReverseProxy{Rewrite: func(r *httputil.ProxyRequest) { r.SetURL(target) }}
	var lost atomic.Int32
	srv := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.Method == "POST" && lost.Add(1) <= 2 {
			proxy.ServeHTTP(httptest.NewRecorder(), r)
			panic(http.ErrAbortHandler)
		}
		proxy.ServeHTTP(w, r)
	}))
	defer srv.Close()
	r := d.clientWith(t, srv.URL, d.token, "", "instance", "launch", "lost-board", "-image", "debian-12", "-size",
		"small", "-region", "north-pier", "-key", "lost-key")
	if r.code != 0 || lost.Load() != 3 || !strings.Contains(r.out, "lost-board runs") {
		t.Errorf("%d answers lost: %+v", lost.Load(), r)
	}
	if n := d.launchesOf(t, "lost-board"); n != 1 {
		t.Errorf("it was launched %d times", n)
	}
}

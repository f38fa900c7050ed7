package e2e

import (
	"bufio"
	"context"
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
	"time"

	"plumlatch/client"
	"plumlatch/core/keypair"
	"plumlatch/core/wire"
)

// TestLaunchWithEverything gives a launch all that it can be given.
func TestLaunchWithEverything(t *testing.T) {
	t.Parallel()
	d, dir := shared, t.TempDir()
	d.must(t, "key", "create", "every-key", "-dir", dir)
	stranger := keypair.Public{Blob: publicKey(t).Blob}.Line()
	own := filepath.Join(dir, "own.yaml")
	text := "#cloud-config\npackages: [rsync]\nusers:\n  - name: debian\n    groups: [adm]\nssh_authorized_keys:\n  - " + stranger + " by hand\n"
	if err := os.WriteFile(own, []byte(text), 0o600); err != nil {
		t.Fatal(err)
	}
	base := []string{"instance", "launch", "every-board", "-image", "debian-12", "-size", "medium/33", "-region",
		"south-pier/south-pier-c",
		"-tag", "line=south", "-tag", "deck=upper", "-user-data", own, "-key", "every-key"}
	r := d.client(t, "", append(base, "-plan")...)
	if r.code != 0 || !strings.Contains(r.out, "merge_how") || !strings.Contains(r.out, "packages: [rsync]") ||
		!strings.Contains(r.err, "sole opener") {
		t.Errorf("-plan: %+v", r)
	}
	if r := d.client(t, "", "instance", "show", "every-board"); r.code != 1 {
		t.Errorf("-plan launched something: %+v", r)
	}
	r = d.client(t, "", append(base, "-new-key", "every-second", "-dir", dir)...)
	if r.code != 0 || !strings.Contains(r.err, "made every-second") || !strings.Contains(r.err, "keys of its own") ||
		strings.Contains(r.err, "sole opener") {
		t.Fatalf("%+v", r)
	}
	in := d.instance(t, "every-board")
	if in.Zone != "south-pier-c" || in.DiskGB != 33 || in.Tags["line"] != "south" || in.Tags["deck"] != "upper" ||
		in.Trouble != "" || in.Keys != 2 || len(in.Addresses) != 1 {
		t.Errorf("%+v", in)
	}
	var there struct {
		Zone   string            `json:"zone"`
		DiskGB int               `json:"disk_gb"`
		Tags   map[string]string `json:"tags"`
	}
	if err := standinCall("GET", "/v1/instances/"+in.CloudID, "", &there); err != nil || there.Zone != in.Zone ||
		there.DiskGB != 33 || there.Tags["deck"] != "upper" {
		t.Errorf("in the cloud: %+v %v", there, err)
	}
	for _, k := range []string{"every-key", "every-second"} {
		if out := d.must(t, "open", "every-board", "-identity", filepath.Join(dir, k), "--",
			"hostname"); out != "every-board\n" {
			t.Errorf("%s: %q", k, out)
		}
	}
	// Neither side's keys are lost, and the engineer's own are not the ledger's.
	contains(t, "survey", d.must(t, "survey", "every-board"), "by hand", "unrecorded", "every-key", "every-second")
	conf, err := os.ReadFile(shared.path("standin", "instances", in.CloudID,
		"etc/ssh/sshd_config.d/50-cloud-init.conf"))
	if err != nil || !strings.Contains(string(conf), "PasswordAuthentication no") {
		t.Errorf("password login: %s %v", conf, err)
	}
	contains(t, "show", d.must(t, "instance", "show", "every-board"), "south-pier-c", "33 GiB",
		"deck=upper, line=south")
	// Its address changes, and the one before is remembered.
	d.must(t, "instance", "stop", "-yes", "every-board")
	d.must(t, "instance", "start", "every-board")
	if now := d.instance(t, "every-board"); len(now.Addresses) != 2 || now.Addresses[1].Address != in.Address ||
		now.Addresses[1].Until == nil || now.Addresses[0].Until != nil {
		t.Errorf("addresses: %+v", now.Addresses)
	}
	d.must(t, "instance", "remove", "every-board", "-yes")

	t.Run("a new key is made only for what can be launched", func(t *testing.T) {
		for _, c := range []struct {
			args []string
			want string
		}{
			{[]string{"-size", "huge", "-image", "debian-12"}, "unknown size"},
			{[]string{"-size", "small", "-image", "harrow-linux-4"}, "needs at least size medium"},
			{[]string{"-size", "small", "-image", "debian-12", "-key", "none"}, "one or the other"},
		} {
			r := d.client(t, "", append([]string{"instance", "launch", "new-board", "-region", "south-pier",
				"-new-key", "never-made", "-dir", dir}, c.args...)...)
			if r.code == 0 || !strings.Contains(r.err, c.want) {
				t.Errorf("%v: %+v", c.args, r)
			}
			if _, err := os.Stat(filepath.Join(dir, "never-made")); err == nil {
				t.Fatalf("%v: a key was made", c.args)
			}
		}
	})
}

// ownSlot is a service with short limits, for faults.
func ownSlot(t *testing.T, n int) (*demo, *client.Client, *slot) {
	t.Helper()
	s := newSlot(t, n)
	c := s.serve(t)
	return &demo{dir: s.dir, url: c.URL(), token: s.token}, c, s
}

func fault(t *testing.T, body string) {
	t.Helper()
	if err := standinCall("POST", "/v1/faults", body, nil); err != nil {
		t.Fatal(err)
	}
}

// TestCloudFaults: each ends, says why, and leaves nothing behind without naming it.
func TestCloudFaults(t *testing.T) {
	t.Parallel()
	d, c, s := ownSlot(t, 92)
	launch := func(name string, more ...string) result {
		return d.client(t, "", append([]string{"instance", "launch", name, "-image", "debian-12", "-size", "small",
			"-region", "north-pier", "-key", s.key}, more...)...)
	}
	alive := func(name string) int {
		_, there, err := (&trial{instance: name}).inCloud()
		if err != nil {
			t.Fatal(err)
		}
		return len(there)
	}
	t.Run("it fails for good", func(t *testing.T) {
		fault(t, `{"call":"launch","how":"fail","name":"ill-board","times":50}`)
		r := launch("ill-board")
		if r.code != 1 || !strings.Contains(r.err, "the cloud did not answer") ||
			!strings.Contains(r.err, "everything was taken back") || alive("ill-board") != 0 {
			t.Errorf("%+v", r)
		}
		if in := d.instance(t, "ill-board"); in.Phase != "failed" || in.State != "failed" {
			t.Errorf("%+v", in)
		}
	})
	t.Run("and is taken up again", func(t *testing.T) {
		if err := standinCall("DELETE", "/v1/faults?name=ill-board", "", nil); err != nil {
			t.Fatal(err)
		}
		id := strconv.FormatInt(d.instance(t, "ill-board").Work, 10)
		contains(t, "retry", d.must(t, "work", "retry", id), "done", "running at")
		if alive("ill-board") != 1 {
			t.Errorf("%d in the cloud", alive("ill-board"))
		}
		if r := d.client(t, "", "work", "retry", id); r.code != 1 || !strings.Contains(r.err, "only work that failed") {
			t.Errorf("what is done: %+v", r)
		}
		if r := d.client(t, "", "work", "cancel", id); r.code != 1 || !strings.Contains(r.err, "over") {
			t.Errorf("cancelling what is done: %+v", r)
		}
		contains(t, "the second attempt", d.must(t, "work", "show", id), "attempt", "2")
	})
	t.Run("it cannot be taken back either", func(t *testing.T) {
		fault(t, `{"call":"state","name":"stuck-board","times":1}`)
		fault(t, `{"call":"remove","how":"fail","name":"stuck-board","times":500}`)
		r := launch("stuck-board")
		if r.code != 1 || !strings.Contains(r.err, "is stuck") || !strings.Contains(r.err, "hull-") ||
			!strings.Contains(r.err, "left in the cloud") {
			t.Errorf("what is left is not named: %+v", r)
		}
		if err := standinCall("DELETE", "/v1/faults?name=stuck-board", "", nil); err != nil {
			t.Fatal(err)
		}
		id := strconv.FormatInt(d.instance(t, "stuck-board").Work, 10)
		contains(t, "list", d.must(t, "work", "list", "-state", "open"), "stuck-board", "stuck")
		r = d.client(t, "", "work", "retry", id)
		if r.code != 1 || !strings.Contains(r.err, "everything was taken back") || alive("stuck-board") != 0 {
			t.Errorf("going on back: %+v, %d left", r, alive("stuck-board"))
		}
	})
	t.Run("it answers after everybody has given up", func(t *testing.T) {
		fault(t, `{"call":"launch","how":"slow","name":"late-board","times":6,"delay_ms":9000}`)
		r := launch("late-board")
		if r.code != 1 || !strings.Contains(r.err, "everything was taken back") {
			t.Errorf("%+v", r)
		}
		time.Sleep(5 * time.Second) // past the 9 s of the call
		if n := alive("late-board"); n != 0 {
			t.Errorf("%d came to life afterwards", n)
		}
	})
	t.Run("cancel", func(t *testing.T) {
		fault(t, `{"call":"launch","how":"slow","name":"slow-board","times":1,"delay_ms":1500}`)
		r := launch("slow-board", "-detach")
		if r.code != 0 || !strings.Contains(r.out, "next: plumlatch work follow") {
			t.Fatalf("%+v", r)
		}
		id := strconv.FormatInt(d.instance(t, "slow-board").Work, 10)
		contains(t, "cancel", d.must(t, "work", "cancel", id), "cancelled", "everything was taken back")
		if alive("slow-board") != 0 {
			t.Error("it is left in the cloud")
		}
		contains(t, "show", d.must(t, "work", "show", id), "undone", "cancelled")
		contains(t, "journal", d.must(t, "journal", "list", "-target", "work "+id), "work.cancel")
		d.must(t, "instance", "remove", "slow-board", "-yes")
	})
	t.Run("what cannot go back is not cancelled", func(t *testing.T) {
		fault(t, `{"call":"remove","how":"slow","name":"ill-board","times":1,"delay_ms":1500}`)
		d.must(t, "instance", "remove", "ill-board", "-yes", "-detach")
		id := d.instance(t, "ill-board").Work
		waitFor(t, "its first step", func() bool {
			w, err := c.WorkByID(t.Context(), id)
			return err == nil && w.Step > 0
		})
		if _, err := c.CancelWork(t.Context(), id); err == nil || !strings.Contains(err.Error(), "cannot go back") {
			t.Errorf("%v", err)
		}
		if w, err := c.Follow(t.Context(), id, 0, nil); err != nil || w.State != "done" {
			t.Errorf("%+v %v", w, err)
		}
	})
	t.Run("follow goes on after a drop", func(t *testing.T) {
		fault(t, `{"call":"launch","how":"slow","name":"drop-board","times":1,"delay_ms":1200}`)
		launch("drop-board", "-detach")
		id := d.instance(t, "drop-board").Work
		seen := []int{}
		read := func(after, atMost int) (ended bool) {
			req, err := http.NewRequest("GET", fmt.Sprintf("%s/api/v1/work/%d/events", d.url, id), nil)
			if err != nil {
				t.Fatal(err)
			}
			req.Header.Set("Authorization", "Bearer "+d.token)
			if after > 0 {
				req.Header.Set("Last-Event-ID", strconv.Itoa(after))
			}
			resp, err := http.DefaultClient.Do(req)
			if err != nil {
				t.Fatal(err)
			}
			defer resp.Body.Close() // in the middle: the drop
			if resp.Header.Get("Content-Type") != "text/event-stream" {
				t.Errorf("%v", resp.Header)
			}
			lines := bufio.NewScanner(resp.Body)
			for lines.Scan() {
				if n, ok := strings.CutPrefix(lines.Text(), "id: "); ok {
					i, err := strconv.Atoi(n)
					if err != nil {
						t.Fatal(err)
					}
					seen = append(seen, i)
				}
				if lines.Text() == "event: end" {
					return true
				}
				if lines.Text() == "" && atMost > 0 && len(seen) >= atMost {
					return false
				}
			}
			return false
		}
		if read(0, 1) {
			t.Error("it ended at its first event")
		}
		if !read(seen[len(seen)-1], 0) {
			t.Error("it never ended")
		}
		for i, n := range seen {
			if n != i+1 {
				t.Errorf("events %v", seen)
				break
			}
		}
		for _, bad := range []string{"/api/v1/work/abc/events", "/api/v1/work/1/events?after=x",
			"/api/v1/work?state=odd", "/api/v1/work?parent=x"} {
			if a := d.api(t, "GET", bad, ""); a.status != 422 {
				t.Errorf("%s: %d %s", bad, a.status, a.body)
			}
		}
		if a := d.api(t, "GET", "/api/v1/work/999999", ""); a.status != 404 {
			t.Errorf("no such work: %d", a.status)
		}
		d.must(t, "instance", "remove", "drop-board", "-yes")
	})
	t.Run("the client outlives a restart", func(t *testing.T) {
		fault(t, `{"call":"launch","how":"slow","name":"again-board","times":1,"delay_ms":1200}`)
		i, err := c.Launch(t.Context(), wire.Launch{Name: "again-board", Region: "north-pier", Image: "debian-12",
			Size: "small", Keys: []string{s.key}})
		if err != nil {
			t.Fatal(err)
		}
		s.front.turn(d.url)
		through, err := client.New("http://"+s.front.listener.Addr().String(), s.token)
		if err != nil {
			t.Fatal(err)
		}
		go func() { // the connection breaks again and again
			for range 6 {
				time.Sleep(250 * time.Millisecond)
				s.front.turn(d.url)
			}
		}()
		n := 0
		w, err := through.Follow(context.Background(), i.Work, 0, func(e wire.WorkEvent) {
			if n++; e.N != n {
				t.Errorf("event %d where %d is due", e.N, n)
			}
		})
		if err != nil || w.State != "done" || n != w.Events {
			t.Errorf("%v %s, %d events", err, w.State, n)
		}
		d.must(t, "instance", "remove", "again-board", "-yes")
	})
}

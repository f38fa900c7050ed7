package e2e

import (
	"bytes"
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"plumlatch/core/wire"
)

// TestRestoreShut: a volume that is encrypted is opened by the engineer's client, on the rescue instance; the service is sent no passphrase, and looks
// itself whether it is open. On a real partition this is TestVMShut.
func TestRestoreShut(t *testing.T) {
	t.Parallel()
	s := newSlot(t, 167)
	running, err := s.start("", "")
	mustDo(t, err)
	d := newHome(t, &demo{dir: s.dir, url: running.url, token: s.token})
	const phrase = "the mooring line of pier nine"
	t.Cleanup(func() {
		running.end() // nobody writes its log after that
		text := running.log.String()
		if strings.Contains(text, phrase) {
			t.Error("the passphrase is in the log")
		}
		if t.Failed() {
			t.Logf("what the service warned of:\n%s", warnings(text))
		}
	})
	right, wrong := writeFile(t, phrase+"\n"), writeFile(t, "the mooring line of pier ten\n")
	shut := func(name string) *lostDoor {
		l := newLostDoor(t, d, name, "debian-12")
		l.cloud(t, "POST", "/v1/volumes/"+l.volumeID(t)+"/disk", `{"partitions":[{"number":1,"fstype":"crypto_LUKS","uuid":"u","passphrase":"`+phrase+
			`","label":"","holds":"system","gb":9},{"number":2,"fstype":"crypto_LUKS","uuid":"w","passphrase":"another one","label":"","holds":"empty","gb":1}],"full":false}`, nil)
		return l
	}
	home := func(t *testing.T, l *lostDoor) {
		t.Helper()
		var v struct {
			State, Device string
			Dirty         bool
		}
		l.cloud(t, "GET", "/v1/volumes/"+l.volumeID(t), "", &v)
		if i := d.instance(t, l.name); i.State != "running" || v.State != "in-use" || v.Dirty {
			t.Errorf("it is %s, and its volume %+v", i.State, v)
		}
	}
	restore := func(l *lostDoor, more ...string) []string {
		return append([]string{"restore", "unlock", l.name, "-new", l.new, "-dir", l.dir, "-yes"}, more...)
	}

	t.Run("opened", func(t *testing.T) {
		t.Parallel()
		l := shut("shut-1")
		// Without its passphrase it goes back, and says what is needed.
		if r := d.client(t, "", "restore", l.name, "-route", "disk", "-new", l.new, "-dir", l.dir, "-yes"); r.code == 0 || !strings.Contains(r.err, "vdb1 is encrypted") || !strings.Contains(r.err, "plumlatch restore unlock ") {
			t.Errorf("without: %+v", r)
		}
		waitFor(t, "it is gone back", func() bool { return d.workByID(t, lastRestore(t, d, l.name)).Over() })
		home(t, l)
		// What makes no sense is said before anything is stopped.
		for _, c := range []struct{ args, says string }{
			{"restore unlock " + l.name + " -new " + l.new + " -yes", "-unlock FILE"},
			{"restore unlock " + l.name + " -unlock " + writeFile(t, "a\nb\n") + " -new " + l.new + " -yes", "one line"},
			{"restore unlock " + l.name + " -unlock /nowhere -new " + l.new + " -yes", "/nowhere"},
		} {
			if r := d.client(t, "", strings.Fields(c.args)...); r.code == 0 || !strings.Contains(r.err, c.says) {
				t.Errorf("%s: %+v", c.args, r)
			}
		}
		if a := d.api(t, "POST", "/api/v1/instances/"+l.name+"/restore", `{"route":"boot-text","new":"`+l.new+`","unlock":true}`); a.status != 422 || !strings.Contains(a.body, "boot-text") {
			t.Errorf("by another route: %+v", a)
		}
		home(t, l)
		// A passphrase that does not open it: the work waits for another.
		if r := d.client(t, "", restore(l, "-unlock", wrong)...); r.code == 0 || !strings.Contains(r.err, "does not open it") {
			t.Errorf("another passphrase: %+v", r)
		}
		id := lastRestore(t, d, l.name)
		if w := d.workByID(t, id); w.WaitsCode != wire.WaitsHands || !strings.Contains(w.WaitsFor, "/dev/vdb1") || w.StepName != "mount" {
			t.Errorf("it waits: %+v", w)
		}
		out := d.must(t, "work", "here", fmt.Sprint(id), "-dir", l.dir, "-unlock", right)
		contains(t, "what is said", out, "In after")
		l.restored(t)
		home(t, l)
		// Nothing of it is in the service's database.
		dump, err := exec.Command("pg_dump", "--inserts", s.database).Output()
		if err != nil || !bytes.Contains(dump, []byte(l.name)) || bytes.Contains(dump, []byte(phrase)) {
			t.Errorf("the passphrase is in the database, or that was not seen: %v", err)
		}
	})
	t.Run("fetched", func(t *testing.T) {
		t.Parallel()
		l := shut("shut-2")
		out := filepath.Join(t.TempDir(), "out")
		d.must(t, "restore", "fetch", l.name, "/etc/passwd", "-out", out, "-new", l.new, "-dir", l.dir, "-unlock", right, "-yes")
		if text, err := os.ReadFile(filepath.Join(out, "etc/passwd")); err != nil || !bytes.Contains(text, []byte("debian")) {
			t.Errorf("copied: %q %v", text, err)
		}
		home(t, l)
	})
	t.Run("nobody opens it", func(t *testing.T) {
		t.Parallel()
		l := shut("shut-3")
		var w wire.Work
		mustDo(t, json.Unmarshal([]byte(d.must(t, restore(l, "-unlock", right, "-detach", "-json")...)), &w))
		waitFor(t, "it waits", func() bool { return d.workByID(t, w.ID).WaitsCode == wire.WaitsHands })
		d.must(t, "work", "cancel", fmt.Sprint(w.ID))
		home(t, l)
		// Its door on the rescue instance is shut then, as is that of work that was asked for without.
		if a := d.api(t, "GET", fmt.Sprintf("/api/v1/work/%d/rescue-door", w.ID), ""); a.status != 409 {
			t.Errorf("the door of work that is over: %d", a.status)
		}
		l.cloud(t, "POST", "/v1/faults", `{"call":"detach","how":"slow","name":"`+l.name+`","delay_ms":2000}`, nil)
		mustDo(t, json.Unmarshal([]byte(d.must(t, "restore", l.name, "-route", "disk", "-new", l.new, "-yes", "-detach", "-json")), &w))
		waitFor(t, "its rescue instance is there", func() bool { return d.workByID(t, w.ID).Step >= 3 })
		if a := d.api(t, "GET", fmt.Sprintf("/api/v1/work/%d/rescue-door", w.ID), ""); a.status != 409 || d.workByID(t, w.ID).Over() {
			t.Errorf("the door of work that lets no client in: %+v", a)
		}
		waitFor(t, "it is gone back", func() bool { return d.workByID(t, w.ID).Over() })
	})
	t.Run("opened when it has gone back", func(t *testing.T) {
		t.Parallel()
		l := shut("shut-5")
		var w wire.Work
		mustDo(t, json.Unmarshal([]byte(d.must(t, restore(l, "-unlock", right, "-detach", "-json")...)), &w))
		waitFor(t, "it waits", func() bool { return d.workByID(t, w.ID).WaitsCode == wire.WaitsHands })
		// The client opens it after the service has closed what is open, and before the volume has left the rescue instance.
		l.cloud(t, "POST", "/v1/faults", `{"call":"unlock","how":"slow","name":"`+l.name+`","delay_ms":2500}`, nil)
		l.cloud(t, "POST", "/v1/faults", `{"call":"detach","how":"slow","name":"`+l.name+`","delay_ms":5000}`, nil)
		said := make(chan result, 1)
		go func() { said <- d.client(t, "", "work", "here", fmt.Sprint(w.ID), "-dir", l.dir, "-unlock", right) }()
		waitFor(t, "the client to open it", func() bool {
			var left []struct{ Call, Name string }
			l.cloud(t, "GET", "/v1/faults", "", &left)
			for _, f := range left {
				if f.Call == "unlock" && f.Name == l.name {
					return false
				}
			}
			return true
		})
		d.must(t, "work", "cancel", fmt.Sprint(w.ID))
		if r := <-said; r.code == 0 {
			t.Errorf("the client: %+v", r)
		}
		home(t, l) // it was not pulled while it was open
	})
	t.Run("open, and then cancelled", func(t *testing.T) {
		t.Parallel()
		l := shut("shut-4")
		volume := l.volumeID(t)
		var w wire.Work
		mustDo(t, json.Unmarshal([]byte(d.must(t, restore(l, "-unlock", right, "-detach", "-json")...)), &w))
		waitFor(t, "it waits", func() bool { return d.workByID(t, w.ID).WaitsCode == wire.WaitsHands })
		cmd := exec.Command(filepath.Join(bin, "plumlatch"), "work", "here", fmt.Sprint(w.ID), "-dir", l.dir, "-unlock", right)
		cmd.Env = d.environ(d.url)
		mustDo(t, cmd.Start())
		t.Cleanup(func() { _ = cmd.Process.Kill(); _ = cmd.Wait() })
		waitFor(t, "it is open", func() bool {
			var v struct {
				Disk struct {
					Partitions []struct {
						OpenAs string `json:"open_as"`
					}
				}
			}
			l.cloud(t, "GET", "/v1/volumes/"+volume, "", &v)
			return len(v.Disk.Partitions) > 0 && v.Disk.Partitions[0].OpenAs != ""
		})
		_ = cmd.Process.Kill()
		d.must(t, "work", "cancel", fmt.Sprint(w.ID))
		home(t, l) // what was open was closed before the volume went: it is not dirty
	})
}

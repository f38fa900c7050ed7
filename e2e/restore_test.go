package e2e

import (
	"cmp"
	"encoding/json"
	"fmt"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"plumlatch/client"
	"plumlatch/core/wire"
)

// lostDoor is an instance of the stand-in whose only key is lost.
type lostDoor struct {
	at        *demo // whose stand-in it is at; shared if nil
	d         *demo
	name, id  string
	lost, new string
	dir       string
	none      string
}

func newLostDoor(t *testing.T, d *demo, name, image string, more ...string) *lostDoor {
	t.Helper()
	l := &lostDoor{d: d, name: name, lost: name + "-lost", new: name + "-new", dir: t.TempDir(), none: writeFile(t, "")}
	for _, k := range []string{l.lost, l.new} {
		d.must(t, "key", "create", k, "-dir", l.dir, "-new-passphrase", l.none)
	}
	size := map[string]string{"harrow-linux-4": "medium"}[image]
	if size == "" {
		size = "small"
	}
	d.must(t, append([]string{"instance", "launch", name, "-image", image, "-size", size, "-region",
		"south-pier/south-pier-b", "-key", l.lost}, more...)...)
	l.id = d.instance(t, name).CloudID
	d.must(t, "key", "lost", l.lost)
	return l
}

func (l *lostDoor) cloud(t *testing.T, method, path, body string, into any) {
	t.Helper()
	mustDo(t, standinCallAt(cmp.Or(l.at, shared), method, path, body, into))
}

// volumeID is the root volume that is attached, as the cloud says.
func (l *lostDoor) volumeID(t *testing.T) string {
	t.Helper()
	var in struct {
		RootVolume string `json:"root_volume"`
	}
	l.cloud(t, "GET", "/v1/instances/"+l.id, "", &in)
	return in.RootVolume
}

// ssh tries a login with the real ssh, where the ledger says that it is now.
func (l *lostDoor) ssh(t *testing.T, key string, command ...string) (string, bool) {
	t.Helper()
	i := l.d.instance(t, l.name)
	var known strings.Builder
	for _, k := range i.HostKeys {
		fmt.Fprintf(&known, "[%s]:%d %s\n", i.Address, i.Port, k.PublicKey)
	}
	args := append([]string{"-F", "none", "-o", "BatchMode=yes", "-o", "IdentitiesOnly=yes", "-o",
		"UserKnownHostsFile=" + writeFile(t, known.String()), "-i", filepath.Join(l.dir, key), "-p",
		fmt.Sprint(i.Port), i.LoginUser + "@" + i.Address}, command...)
	out, err := exec.Command("ssh", args...).CombinedOutput()
	return string(out), err == nil
}

func (l *lostDoor) restored(t *testing.T) {
	t.Helper()
	if out, ok := l.ssh(t, l.new, "hostname"); !ok || strings.TrimSpace(out) != l.name {
		t.Errorf("%s: the new key does not log in: %s", l.name, out)
	}
	if out, ok := l.ssh(t, l.lost, "true"); ok || !strings.Contains(out, "Permission denied") {
		t.Errorf("%s: the lost key: %s", l.name, out)
	}
}

// TestRestoreRoutes carries out each route to its end on the stand-in, on images
// of several layouts: a login by the real ssh with the new key, and none with the lost one.
func TestRestoreRoutes(t *testing.T) {
	t.Parallel()
	s := newSlot(t, 101)
	d := newHome(t, &demo{dir: s.dir, url: s.serve(t).URL(), token: s.token})
	for n, c := range []struct{ route, image string }{
		{"steward", "debian-12"}, {"boot-text", "debian-12"}, {"disk", "debian-12"}, {"disk", "harrow-linux-4"},
		{"disk", "tideline-2"}, {"disk", "harrow-web-2"},
	} {
		t.Run(c.route+" "+c.image, func(t *testing.T) {
			t.Parallel()
			l := newLostDoor(t, d, fmt.Sprintf("lost-%d", n), c.image)
			volume, before := l.volumeID(t), d.instance(t, l.name)
			if c.image == "harrow-web-2" {
				d.must(t, "instance", "check", "add", l.name, "http://:7080/health")
				d.must(t, "instance", "check", "add", l.name, "tcp:7081")
				if r := d.client(t, "", "instance", "check", "add", l.name, "ftp:21"); r.code != 1 ||
					!strings.Contains(r.err, "tcp:PORT") {
					t.Errorf("a check that is none: %+v", r)
				}
			}
			out := d.must(t, "restore", l.name, "-route", c.route, "-new", l.new, "-dir", l.dir, "-yes")
			contains(t, "restored", out, l.new+" opens "+l.name, l.lost+" is withdrawn")
			l.restored(t)
			after := d.instance(t, l.name)
			var report wire.Report
			mustDo(t, json.Unmarshal([]byte(d.must(t, "work", "report", fmt.Sprint(lastRestore(t, d, l.name)),
				"-json")), &report))
			if volume != l.volumeID(t) || after.State != "running" {
				t.Errorf("its volume is %s and was %s; it is %s", l.volumeID(t), volume, after.State)
			}
			moved := after.Address != before.Address
			if stops := c.route != "steward"; moved != stops || (report.Down > 0.05) != stops {
				t.Errorf("moved: %v; down for %.2f s", moved, report.Down)
			}
			if report.InAt == nil || report.Route != c.route || !slices.Equal(report.Withdrawn, []string{l.lost}) ||
				len(report.Seen) == 0 {
				t.Errorf("report: %+v", report)
			}
			if c.image == "harrow-web-2" {
				if len(report.Checks) != 2 || !report.Checks[0].Good || report.Checks[1].Good {
					t.Errorf("checks: %+v", report.Checks)
				}
				contains(t, "the report", d.must(t, "work", "report", fmt.Sprint(report.Work)),
					"http://:7080/health: works (it answers 200)", "tcp:7081 does not work",
					"## Left to do", "its address: ")
			}
		})
	}
}

// lastRestore is the last restore of an instance.
func lastRestore(t *testing.T, d *demo, name string) int64 {
	t.Helper()
	var list wire.List[wire.Work]
	mustDo(t, json.Unmarshal([]byte(d.must(t, "work", "list", "-instance", name, "-json")), &list))
	for _, w := range list.Items {
		if strings.HasPrefix(w.Kind, "restore-") {
			return w.ID
		}
	}
	t.Fatalf("no restore of %s", name)
	return 0
}

// TestRestoreService: a service that was never enabled at boot stays down, and
// that is found.
func TestRestoreService(t *testing.T) {
	t.Parallel()
	s := newSlot(t, 102)
	d := newHome(t, &demo{dir: s.dir, url: s.serve(t).URL(), token: s.token})
	l := newLostDoor(t, d, "never-enabled", "harrow-web-2")
	d.must(t, "instance", "check", "add", l.name, "http://:7080/health")
	if resp, err := http.Get("http://" + d.instance(t, l.name).Address + ":7080/health"); err != nil ||
		resp.StatusCode != 200 {
		t.Fatalf("the service: %v", err)
	}
	mustDo(t, os.Remove(shared.path("standin", "instances", l.id, "etc/board-service/enabled")))
	if r := d.client(t, "", "restore", l.name, "-route", "boot-text", "-new", l.lost, "-dir", l.dir,
		"-yes"); r.code != 1 || !strings.Contains(r.err, l.lost+" is lost") {
		t.Errorf("with the lost key itself: %+v", r)
	}
	d.must(t, "hosts", "write", "-yes", "-dir", l.dir)
	before := d.instance(t, l.name).Address
	contains(t, "the hosts file", mustRead(t, filepath.Join(d.dir, "home/.ssh/plumlatch_hosts")), before)
	out := d.must(t, "restore", l.name, "-route", "boot-text", "-new", l.new, "-dir", l.dir, "-yes")
	hosts := mustRead(t, filepath.Join(d.dir, "home/.ssh/plumlatch_hosts"))
	if now := d.instance(t, l.name).Address; now == before || strings.Contains(hosts, before) ||
		!strings.Contains(hosts, now) {
		t.Errorf("the hosts file was not renewed: %s, and before %s\n%s", now, before, hosts)
	}
	contains(t, "found", out, "DOES NOT WORK", "http://:7080/health", "never enabled at boot")
	l.restored(t)
}

// workByID is a piece of work, as the client shows it.
func (d *demo) workByID(t *testing.T, id int64) (w wire.Work) {
	t.Helper()
	mustDo(t, json.Unmarshal([]byte(d.must(t, "work", "show", fmt.Sprint(id), "-json")), &w))
	return w
}

type rescue struct {
	ID, Name, State string
	Tags            map[string]string
}

// rescuesFor are the rescue instances that were launched for an instance, or for
// "key NAME" of a restore of many, gone ones included.
func rescuesFor(t *testing.T, origin string) (out []rescue) {
	t.Helper()
	var list []rescue
	mustDo(t, standinCall("GET", "/v1/instances", "", &list))
	for _, i := range list {
		if i.Tags["plumlatch-kind"] == "rescue" && i.Tags["plumlatch-origin"] == origin {
			out = append(out, i)
		}
	}
	return out
}

// rescueOf is the one that is there.
func rescueFor(t *testing.T, origin string) string {
	t.Helper()
	for _, i := range rescuesFor(t, origin) {
		if i.State != "removed" {
			return i.ID
		}
	}
	t.Fatalf("%s has no rescue instance", origin)
	return ""
}

// TestRestoreFaults: what can be wrong with a volume, a rescue instance or the
// cloud, one at a time. Each ends with the instance as it was, or restored, its own
// volume under its own name, and nothing left open; and says what was wrong.
func TestRestoreFaults(t *testing.T) {
	t.Parallel()
	s := newSlot(t, 103)
	d := newHome(t, &demo{dir: s.dir, url: s.serve(t).URL(), token: s.token})
	disk := func(parts string, full bool) func(*testing.T, *lostDoor) {
		return func(t *testing.T, l *lostDoor) {
			l.cloud(t, "POST", "/v1/volumes/"+l.volumeID(t)+"/disk",
				fmt.Sprintf(`{"partitions":[%s],"full":%v}`, parts, full), nil)
		}
	}
	inFile := func(path string, do func(file string) error) func(*testing.T, *lostDoor) {
		return func(t *testing.T, l *lostDoor) { mustDo(t, do(shared.path("standin", "instances", l.id, path))) }
	}
	fault := func(text string) func(*testing.T, *lostDoor) {
		return func(t *testing.T, l *lostDoor) {
			l.cloud(t, "POST", "/v1/faults", strings.Replace(text, "NAME", l.name, 1), nil)
		}
	}
	slowLoan := fault(`{"call":"attach","how":"slow","name":"NAME","times":1,"delay_ms":2500}`)
	const system = `{"number":1,"fstype":"ext4","uuid":"u-1","label":"","holds":"system","gb":9}`
	for n, c := range []struct {
		what   string
		broke  func(*testing.T, *lostDoor)
		during func(*testing.T, *lostDoor, int64) // while it is at hand
		ok     bool                               // it is restored all the same
		says   string
	}{
		{what: "encrypted", broke: disk(`{"number":1,"fstype":"crypto_LUKS","uuid":"u","label":"","holds":"system","gb":9}`, false), says: "vdb1 is encrypted"},
		{what: "LVM", broke: disk(`{"number":1,"fstype":"LVM2_member","uuid":"u","label":"","holds":"system","gb":9}`,
			false), says: "volume group (LVM)"},
		{what: "another operating system",
			broke: disk(`{"number":1,"fstype":"ntfs","uuid":"u","label":"","holds":"system","gb":9}`, false),
			says:  "another operating system"},
		{what: "two systems", broke: disk(system+
			`,{"number":2,"fstype":"ext4","uuid":"u-2","label":"old","holds":"copy","gb":9}`, false),
			says: "both hold a system"},
		{what: "full", broke: disk(system, true), says: "no space left"},
		{what: "dirty", broke: disk(`{"number":1,"fstype":"ext4","uuid":"u","label":"","holds":"system","gb":9,"journal":"dirty"}`, false), ok: true},
		{what: "dirty beyond its journal",
			broke: disk(`{"number":1,"fstype":"xfs","uuid":"u","label":"","holds":"system","gb":9,"journal":"broken"}`, false), says: "Structure needs cleaning"},
		{what: "a home of its own", broke: func(t *testing.T, l *lostDoor) {
			disk(`{"number":1,"fstype":"xfs","uuid":"u","label":"","holds":"system","gb":9},{"number":2,"fstype":"ext4","uuid":"u-home","label":"","holds":"home","gb":9}`, false)(t, l)
			mustDo(t, os.WriteFile(shared.path("standin", "instances", l.id, "etc/fstab"),
				[]byte("UUID=u / xfs defaults 0 1\nUUID=u-home /home ext4 defaults 0 2\n"), 0o644))
		}, ok: true},
		{what: "a home that is not on this volume", broke: inFile("etc/fstab", func(f string) error {
			return os.WriteFile(f, []byte("UUID=elsewhere /home ext4 defaults 0 2\n"), 0o644)
		}), says: "lies on UUID=elsewhere, which is not on this volume"},
		{what: "a rescue instance in another zone", broke: func(t *testing.T, l *lostDoor) {
			l.d.must(t, "instance", "launch", "far-rescue", "-image", "debian-12", "-size", "small", "-region",
				"south-pier/south-pier-a", "-key", s.key)
			l.d.must(t, "instance", "rescue", "far-rescue", "yes", "-yes")
		}, ok: true, says: "rescue-w"},
		{what: "an UUID twice", broke: disk(`{"number":1,"fstype":"xfs","uuid":"6b2a5b01-0000-4000-8000-00000000d012","label":"","holds":"system","gb":9}`, false), ok: true},
		{what: "no login user", broke: inFile("etc/passwd", func(f string) error {
			return os.WriteFile(f, []byte("root:x:0:0:root:/root:/bin/sh\n"), 0o644)
		}), says: "a system without the user debian"},
		{what: "a linked folder", broke: inFile("home/debian/.ssh", func(f string) error {
			if err := os.Rename(f, f+".real"); err != nil {
				return err
			}
			return os.Symlink("/root/.ssh", f)
		}), says: "symbolic link"},
		{what: "no folder yet", broke: inFile("home/debian/.ssh", os.RemoveAll), ok: true},
		{what: "modes that sshd ignores",
			broke: inFile("home/debian", func(f string) error { return os.Chmod(f, 0o777) }), ok: true},
		{what: "attached under another name", broke: fault(`{"call":"attach-device","how":"astray","name":"NAME"}`),
			ok: true},
		{what: "attached under another name every time",
			// Three tries on the way on, and one or two on the way back, which finds its end: a step that is tried again makes one more.
			broke: fault(`{"call":"attach-device","how":"astray","name":"NAME","times":5}`),
			says:  "under /dev/sdq, and not under /dev/sda"},
		{what: "a detach that never ends", broke: fault(`{"call":"volume-state","how":"","name":"NAME"}`), ok: true},
		{what: "found again in the middle",
			during: func(t *testing.T, l *lostDoor, _ int64) { l.d.must(t, "key", "found", l.lost) }, ok: true,
			says: "was found meanwhile"},
		{what: "removed by somebody else", during: func(t *testing.T, l *lostDoor, id int64) {
			l.cloud(t, "DELETE", "/v1/instances/"+l.id+"?client_token=somebody-"+l.id, "", nil)
		}, says: "removed"},
		{what: "the rescue instance removed by somebody else", during: func(t *testing.T, l *lostDoor, id int64) {
			l.cloud(t, "DELETE", "/v1/instances/"+rescueFor(t, l.name)+"?client_token=somebody", "", nil)
		}, broke: slowLoan, says: "rescue"},
		{what: "the rescue instance stopped by somebody else", during: func(t *testing.T, l *lostDoor, id int64) {
			l.cloud(t, "POST", "/v1/instances/"+rescueFor(t, l.name)+"/stop", `{"client_token":"somebody"}`, nil)
		}, broke: slowLoan, says: "rescue"},
		{what: "the rescue instance stopped with the volume mounted",
			during: func(t *testing.T, l *lostDoor, id int64) {
				waitFor(t, "it to be unmounted", func() bool { return l.d.workByID(t, id).Step >= 7 })
				l.cloud(t, "POST", "/v1/instances/"+rescueFor(t, l.name)+"/stop", `{"client_token":"somebody"}`, nil)
				// the line is on the disk, and what stops mounts nothing
			}, broke: fault(`{"call":"umount","how":"fail","name":"NAME","times":20}`), ok: true},
	} {
		t.Run(c.what, func(t *testing.T) {
			t.Parallel()
			l := newLostDoor(t, d, fmt.Sprintf("odd-disk-%d", n), "debian-12")
			volume := l.volumeID(t)
			if c.broke != nil {
				c.broke(t, l)
			}
			var w wire.Work
			mustDo(t, json.Unmarshal([]byte(d.must(t, "restore", l.name, "-route", "disk", "-new", l.new, "-yes",
				"-detach", "-json")), &w))
			if c.during != nil {
				waitFor(t, "the volume to be lent", func() bool { return d.workByID(t, w.ID).Step >= 4 })
				c.during(t, l, w.ID)
			}
			if c.ok {
				d.must(t, "key", "prove", l.new, "-identity", filepath.Join(l.dir, l.new))
			}
			var end wire.Work
			deadline := time.Now().Add(3 * time.Minute)
			for end.State == "" || !end.Over() {
				end = d.workByID(t, w.ID)
				if time.Now().After(deadline) {
					t.Fatalf("it never ends: %s, %s, waits for %q, %s", end.State, end.StepTitle,
						end.WaitsFor, end.Trouble)
				}
				time.Sleep(150 * time.Millisecond)
			}
			if c.ok != (end.State == "done") {
				t.Fatalf("it is %s: %s", end.State, end.Outcome)
			}
			text := end.Outcome + end.Trouble
			if c.ok {
				text += d.must(t, "work", "report", fmt.Sprint(w.ID))
			}
			contains(t, "what is said", text, c.says)
			gone := strings.Contains(c.what, "removed by") && !strings.Contains(c.what, "rescue")
			if c.ok && c.says == "" {
				l.restored(t)
			}
			if !gone {
				i := d.instance(t, l.name)
				if i.State != "running" || l.volumeID(t) != volume {
					t.Errorf("it is %s with %s, and had %s", i.State, l.volumeID(t), volume)
				}
			}
			for _, i := range rescuesFor(t, l.name) {
				if i.State != "removed" && i.State != "removing" {
					t.Errorf("the rescue instance %s is %s", i.Name, i.State)
				}
			}
		})
	}
}

// TestRestoreReady: which ways back are open before anything is lost, our own
// rights at the cloud included; those with none are on today.
func TestRestoreReady(t *testing.T) {
	t.Parallel()
	s := newSlot(t, 104)
	d := newHome(t, &demo{dir: s.dir, url: s.serve(t).URL(), token: s.token})
	ready := func() map[string][]string {
		t.Helper()
		var list wire.List[wire.ReadyRow]
		r := d.client(t, "", "restore", "ready", "-json")
		mustDo(t, json.Unmarshal([]byte(r.out), &list))
		out := map[string][]string{}
		for _, row := range list.Items {
			out[row.Instance] = row.Open
			if len(row.Open) == 0 && len(row.Lacking) < 6 {
				t.Errorf("%s lacks %v", row.Instance, row.Lacking)
			}
		}
		return out
	}
	d.launchBoard(t, "ready-1", s.key)
	id := d.instance(t, "ready-1").CloudID
	nature := func(text string) { mustDo(t, standinCall("POST", "/v1/instances/"+id+"/nature", text, nil)) }
	if got := ready()["ready-1"]; strings.Join(got, " ") != "steward cloud-agent lent-key boot-text disk" {
		t.Errorf("in order: %v", got)
	}
	// What the steward itself writes does not make it older news that the steward gets in: its session was
	// open as it wrote.
	d.must(t, "survey", "ready-1", "-outside")
	d.must(t, "key", "create", "ready-guest", "-dir", t.TempDir(), "-new-passphrase", writeFile(t, ""))
	for _, write := range [][]string{{"add", "ready-1", "-key", "ready-guest", "-for", "1h"},
		{"extend", "ready-1", "-key", "ready-guest", "-for", "2h"}, {"remove", "-yes", "ready-1", "-key", "ready-guest"}} {
		d.must(t, append([]string{"access"}, write...)...)
		var rows wire.List[wire.Access]
		mustDo(t, json.Unmarshal([]byte(d.must(t, "access", "list", "-instance", "ready-1", "-json")), &rows))
		for _, a := range rows.Items {
			if a.Steward && (a.Evidence != "accepted" || a.Old) {
				t.Errorf("access %s, by the steward a moment ago, and it is %s, old %t", write[0], a.Evidence, a.Old)
			}
		}
	}
	if got := ready()["ready-1"]; strings.Join(got, " ") != "steward cloud-agent lent-key boot-text disk" {
		t.Errorf("after its own writes: %v", got)
	}
	nature(`{"stop_destroys":"a group replaces members that stop","missing_rights":["lend","set-keys"]}`)
	if got := ready()["ready-1"]; strings.Join(got, " ") != "steward" {
		t.Errorf("stopping destroys: %v", got)
	}
	contains(t, "compared", d.must(t, "restore", "ready-1"), "a group replaces members that stop")
	nature(`{"stop_destroys":"","missing_rights":["volumes"]}`)
	if got := ready()["ready-1"]; strings.Join(got, " ") != "steward cloud-agent lent-key boot-text" {
		t.Errorf("no right to volumes: %v", got)
	}
	// Nothing at all: the key is lost, the steward's line is gone, and nothing may be stopped.
	nature(`{"stop_destroys":"","missing_rights":["stop","lend","set-keys"]}`)
	file := shared.path("standin", "instances", id, "home/debian/.ssh/authorized_keys")
	mustDo(t, os.WriteFile(file, nil, 0o600))
	d.must(t, "survey", "ready-1", "-outside")
	if r := d.client(t, "", "restore", "ready", "-none"); r.code != 3 || !strings.Contains(r.out, "NONE") ||
		!strings.Contains(r.out, "today -what no-way-back") {
		t.Errorf("none: %+v", r)
	}
	has(t, "today", d.reasonsOf(t, "instance", "ready-1"), "no-way-back", true)
	d.must(t, "key", "create", "ready-new", "-dir", t.TempDir(), "-new-passphrase", writeFile(t, ""))
	if r := d.client(t, "", "restore", "ready-1", "-go", "-yes"); r.code != 1 ||
		!strings.Contains(r.err, "no way back into ready-1 is open") {
		t.Errorf("no way: %+v", r)
	}
	nature(`{"stop_destroys":"","missing_rights":[]}`)
	if got := ready()["ready-1"]; len(got) == 0 {
		t.Errorf("again: %v", got)
	}
	has(t, "today", d.reasonsOf(t, "instance", "ready-1"), "no-way-back", false)
}

// TestRestoreAll: each instance that only a lost key opened, by its own best
// route, over one rescue instance that takes a volume at a time.
func TestRestoreAll(t *testing.T) {
	t.Parallel()
	s := newSlot(t, 105)
	d := newHome(t, &demo{dir: s.dir, url: s.serve(t).URL(), token: s.token})
	dir, none := t.TempDir(), writeFile(t, "")
	for _, k := range []string{"all-lost", "all-new", "all-mate"} {
		d.must(t, "key", "create", k, "-dir", dir, "-new-passphrase", none)
	}
	names := []string{"all-1", "all-2", "all-3", "all-4"}
	file := func(name string) string {
		return shared.path("standin", "instances", d.instance(t, name).CloudID, "home/debian/.ssh/authorized_keys")
	}
	for _, name := range append(names, "all-rescue") {
		d.must(t, "instance", "launch", name, "-image", "debian-12", "-size", "small", "-region",
			"south-pier/south-pier-c", "-key", "all-lost")
	}
	d.must(t, "access", "add", "all-rescue", "-key", "all-mate")
	d.must(t, "access", "remove", "-yes", "all-rescue", "-key", "all-lost", "-cut-off", "1")
	d.must(t, "instance", "rescue", "all-rescue", "yes", "-yes")
	d.must(t, "access", "add", "all-4", "-key", "all-mate") // another key opens it: it is none of these
	for _, name := range names[1:3] {                       // no steward gets in, and no user data may be changed
		d.lockOut(t, name)
	}
	// A plan needs neither the new key nor a record that the old one is lost, and makes none.
	contains(t, "the plan", d.must(t, "restore", "many", "all-lost", "-plan"), "by steward", "by disk", "Nothing was changed")
	if k := d.must(t, "key", "show", "all-lost", "-json"); !strings.Contains(k, `"state": "in use"`) {
		t.Errorf("a plan recorded it as lost:\n%s", k)
	}
	if a := d.api(t, "POST", "/api/v1/restores", `{"key":"all-lost","new":"all-new"}`); a.status != 422 ||
		!strings.Contains(a.body, "key lost all-lost") {
		t.Errorf("not lost yet: %d %s", a.status, a.body)
	}
	if r := d.client(t, "", "restore", "many", "all-lost", "all-mate", "-new", "all-new", "-yes"); r.code != 2 ||
		!strings.Contains(r.err, "unexpected argument") {
		t.Errorf("two lost keys: %+v", r)
	}
	before := mustRead(t, file("all-rescue"))
	d.must(t, "hosts", "write", "-yes", "-dir", dir)
	r := d.client(t, "", "restore", "many", "all-lost", "-new", "all-new", "-dir", dir,
		"-waves", "100%", "-yes")
	contains(t, "all", r.out+r.err, "by steward", "by disk", "3 instances restored")
	for _, name := range names[:3] {
		if text := mustRead(t, file(name)); !strings.Contains(text, "all-new") || strings.Contains(text, "all-lost") {
			t.Errorf("%s:\n%s", name, text)
		}
	}
	for name, kind := range map[string]string{names[0]: "restore-steward", names[1]: "restore-disk",
		names[2]: "restore-disk"} {
		if w := d.workByID(t, lastRestore(t, d, name)); w.Kind != kind {
			t.Errorf("%s went by %s", name, w.Kind)
		}
	}
	for _, name := range names[1:3] {
		contains(t, "the hosts file", mustRead(t, filepath.Join(d.dir, "home/.ssh/plumlatch_hosts")),
			d.instance(t, name).Address)
	}
	if text := mustRead(t, file("all-4")); strings.Contains(text, "all-new") {
		t.Errorf("all-4 was restored:\n%s", text)
	}
	waitFor(t, "the line on the rescue instance to go", func() bool {
		return strings.TrimRight(mustRead(t, file("all-rescue")), "\n") == strings.TrimRight(before, "\n")
	})
}

// TestRestoreFetch copies files out of the volume, read-only and past the service,
// and changes nothing on it.
func TestRestoreFetch(t *testing.T) {
	t.Parallel()
	s := newSlot(t, 106)
	d := newHome(t, &demo{dir: s.dir, url: s.serve(t).URL(), token: s.token})
	l := newLostDoor(t, d, "fetch-board", "harrow-linux-4")
	home := shared.path("standin", "instances", l.id, "home/deckhand")
	mustDo(t, os.MkdirAll(filepath.Join(home, "logs/old"), 0o755))
	mustDo(t, os.WriteFile(filepath.Join(home, "logs/crossing.log"), []byte("the tide was late\n"), 0o640))
	mustDo(t, os.WriteFile(filepath.Join(home, "logs/old/empty"), nil, 0o600))
	mustDo(t, os.Symlink("/etc/shadow", filepath.Join(home, "logs/link")))
	before, volume := mustRead(t, filepath.Join(home, ".ssh/authorized_keys")), l.volumeID(t)
	// Its journal waits to be replayed: whoever writes anything to it has that happen.
	l.cloud(t, "POST", "/v1/volumes/"+volume+"/disk",
		`{"partitions":[{"number":1,"fstype":"xfs","uuid":"u","label":"","holds":"system","gb":9,"journal":"dirty"}]}`, nil)
	out := filepath.Join(t.TempDir(), "copied")
	args := []string{"restore", "fetch", l.name, "/home/deckhand/logs", "/etc/hostname", "-new", l.new, "-dir",
		l.dir, "-yes", "-out"}
	if r := d.client(t, "", append(args, l.dir)...); r.code != 1 ||
		!strings.Contains(r.err, "is there already; nothing was begun") {
		t.Errorf("into a folder that is there: %+v", r)
	}
	r := d.client(t, "", append(args, out)...)
	if r.code != 0 {
		t.Fatalf("%+v", r)
	}
	contains(t, "copied", r.out+r.err, "3 files of", "nothing on the volume was changed",
		"left out: /home/deckhand/logs/link (a link)")
	if text := mustRead(t, filepath.Join(out, "home/deckhand/logs/crossing.log")); text != "the tide was late\n" {
		t.Errorf("%q", text)
	}
	if _, err := os.Stat(filepath.Join(out, "home/deckhand/logs/old/empty")); err != nil {
		t.Error(err)
	}
	if text := mustRead(t, filepath.Join(out, "etc/hostname")); strings.TrimSpace(text) != l.name {
		t.Errorf("%q", text)
	}
	if now := mustRead(t, filepath.Join(home, ".ssh/authorized_keys")); now != before || l.volumeID(t) != volume ||
		d.instance(t, l.name).State != "running" {
		t.Errorf("it is not as it was: %s\n%s", d.instance(t, l.name).State, now)
	}
	var disk struct {
		Disk struct{ Partitions []struct{ Journal string } }
	}
	if l.cloud(t, "GET", "/v1/volumes/"+volume, "", &disk); len(disk.Disk.Partitions) != 1 ||
		disk.Disk.Partitions[0].Journal != "dirty" {
		t.Errorf("it was written to: %+v", disk)
	}
	// What is not there: the instance goes back to what it was.
	r = d.client(t, "", "restore", "fetch", l.name, "/home/nobody", "-new", l.new, "-dir", l.dir, "-yes",
		"-out", out+"-2")
	if r.code != 1 || !strings.Contains(r.err, "/home/nobody") || !strings.Contains(r.err, "goes back to what it was") {
		t.Errorf("what is not there: %+v", r)
	}
	waitFor(t, "the instance", func() bool {
		return d.instance(t, l.name).State == "running" &&
			l.volumeID(t) == volume
	})
}

// TestRestoreAllShares: where no rescue instance is there, one is launched for all
// parts of a zone. Each has it in turn; it is removed at the end, also if somebody
// stops it in the middle, a part fails, or all is cancelled.
func TestRestoreAllShares(t *testing.T) {
	t.Parallel()
	s := newSlot(t, 107)
	d := newHome(t, &demo{dir: s.dir, url: s.serve(t).URL(), token: s.token})
	c, err := client.New(d.url, d.token)
	mustDo(t, err)
	// begin locks some instances out, so that only the disk's way is open, and
	// begins to restore them.
	begin := func(t *testing.T, prefix string, zones []string, stop int) (lost string, dir string,
		names []string, work int64) {
		dir, lost = t.TempDir(), prefix+"-lost"
		for _, k := range []string{lost, prefix + "-new"} {
			d.must(t, "key", "create", k, "-dir", dir, "-new-passphrase", writeFile(t, ""))
		}
		for n, zone := range zones {
			name := fmt.Sprintf("%s-%d", prefix, n)
			names = append(names, name)
			d.must(t, "instance", "launch", name, "-image", "debian-12", "-size", "small", "-region",
				"south-pier/"+zone, "-key", lost)
			d.lockOut(t, name)
		}
		d.must(t, "key", "lost", lost)
		w, err := c.RestoreMany(t.Context(),
			wire.RestoreMany{Key: lost, New: prefix + "-new", AtMost: "100%", StopAfter: stop})
		mustDo(t, err)
		return lost, dir, names, w.ID
	}
	over := func(t *testing.T, work int64) (w wire.Work) {
		waitFor(t, "its end", func() bool { w = d.workByID(t, work); return w.Over() })
		return w
	}
	gone := func(t *testing.T, lost string, want int) {
		t.Helper()
		all := rescuesFor(t, "key "+lost)
		if len(all) != want {
			t.Errorf("%d rescue instances were launched, not %d: %+v", len(all), want, all)
		}
		for _, i := range all {
			if i.State != "removed" || i.Tags["plumlatch-until"] == "" {
				t.Errorf("%+v", i)
			}
		}
	}
	restored := func(t *testing.T, name, prefix string) bool {
		text := mustRead(t, shared.path("standin", "instances", d.instance(t, name).CloudID,
			"home/debian/.ssh/authorized_keys"))
		return strings.Contains(text, prefix+"-new") && !strings.Contains(text, prefix+"-lost")
	}
	prove := func(t *testing.T, dir, prefix string) {
		d.must(t, "key", "prove", prefix+"-new", "-identity", filepath.Join(dir, prefix+"-new"))
	}
	t.Run("in turn", func(t *testing.T) {
		t.Parallel()
		lost, dir, names, work := begin(t, "turn",
			[]string{"south-pier-a", "south-pier-a", "south-pier-a", "south-pier-b"}, 1)
		prove(t, dir, "turn")
		most := 0
		waitFor(t, "its end", func() bool {
			for _, i := range rescuesFor(t, "key "+lost) {
				var list []struct{ Device string }
				mustDo(t, standinCall("GET", "/v1/instances/"+i.ID+"/volumes", "", &list))
				most = max(most, len(list)-1) // its own
			}
			return d.workByID(t, work).Over()
		})
		w := over(t, work)
		if w.State != "done" || most > 1 {
			t.Errorf("%s: %s; %d volumes at once", w.State, w.Outcome, most)
		}
		for _, name := range names {
			if !restored(t, name, "turn") {
				t.Errorf("%s is not restored", name)
			}
		}
		gone(t, lost, 2) // one in each zone
		contains(t, "a part's report", d.must(t, "work", "report", fmt.Sprint(lastRestore(t, d, "turn-0"))),
			"rescue instance rescue-w", "## What it cost")
	})
	t.Run("stopped", func(t *testing.T) {
		t.Parallel()
		lost, dir, names, work := begin(t, "halt", []string{"south-pier-a", "south-pier-a", "south-pier-a"}, 3)
		prove(t, dir, "halt")
		waitFor(t, "the first", func() bool { return restored(t, names[0], "halt") })
		mustDo(t, standinCall("POST", "/v1/instances/"+rescueFor(t, "key "+lost)+"/stop",
			`{"client_token":"somebody"}`, nil))
		w := over(t, work)
		ok := 0
		for _, name := range names {
			if restored(t, name, "halt") {
				ok++
			} else if i := d.instance(t, name); i.State != "running" {
				t.Errorf("%s is %s", name, i.State)
			}
		}
		if ok < 2 { // whose volume was at it may have gone back; the next had another
			t.Errorf("%d were restored; %s: %s", ok, w.State, w.Outcome)
		}
		gone(t, lost, 2)
	})
	t.Run("stuck", func(t *testing.T) {
		t.Parallel()
		lost, dir, names, work := begin(t, "held", []string{"south-pier-c", "south-pier-c"}, 2)
		mustDo(t, standinCall("POST", "/v1/faults", `{"call":"umount","how":"fail","name":"held-0","times":1000}`, nil))
		prove(t, dir, "held")
		w := over(t, work)
		part := lastRestore(t, d, names[0])
		if p := d.workByID(t, part); p.State != "stuck" || restored(t, names[0], "held") ||
			!restored(t, names[1], "held") {
			t.Errorf("the part is %s: %s", p.State, p.Outcome)
		}
		contains(t, "what is left", w.Outcome, "1 of 2 restored", "stays: volume hold-",
			fmt.Sprintf("held-0 is still at it (plumlatch work show %d)", part))
		stays := rescueFor(t, "key "+lost)
		mustDo(t, standinCall("DELETE", "/v1/faults?name=held-0", "", nil))
		_ = d.client(t, "", "work", "retry", fmt.Sprint(part)) // it follows: what goes back has failed
		waitFor(t, "the part's end", func() bool { return d.workByID(t, part).State == "failed" })
		if i := d.instance(t, names[0]); i.State != "running" {
			t.Errorf("it is %s", i.State)
		}
		if all := rescuesFor(t, "key "+lost); len(all) != 2 ||
			!slices.ContainsFunc(all, func(i rescue) bool { return i.ID == stays && i.State == "removed" }) {
			t.Errorf("%+v", all)
		}
	})
	t.Run("cancelled", func(t *testing.T) {
		t.Parallel()
		lost, _, names, work := begin(t, "back", []string{"south-pier-b"}, 1)
		// Its key was not shown: nothing is begun before that.
		if all := rescuesFor(t, "key "+lost); len(all) != 0 {
			t.Errorf("launched before anything is sure: %+v", all)
		}
		d.must(t, "work", "cancel", fmt.Sprint(work))
		if w := over(t, work); w.State != "cancelled" || restored(t, names[0], "back") {
			t.Errorf("%+v", w)
		}
		gone(t, lost, 0)
		lost, dir, names, work := begin(t, "late", []string{"south-pier-b", "south-pier-b"}, 1)
		mustDo(t, standinCall("POST", "/v1/faults",
			`{"call":"detach","how":"slow","name":"late-0","times":1,"delay_ms":2500}`, nil))
		prove(t, dir, "late")
		waitFor(t, "one to be launched", func() bool { return len(rescuesFor(t, "key "+lost)) > 0 })
		d.must(t, "work", "cancel", fmt.Sprint(work))
		if w := over(t, work); w.State != "cancelled" {
			t.Errorf("%+v", w)
		}
		for _, name := range names {
			if i := d.instance(t, name); i.State != "running" || restored(t, name, "late") {
				t.Errorf("%s is %s", name, i.State)
			}
		}
		gone(t, lost, 1)
	})
}

// lockOut leaves an instance with no way back in but its disk's.
func (d *demo) lockOut(t *testing.T, name string) {
	t.Helper()
	id := d.instance(t, name).CloudID
	file := shared.path("standin", "instances", id, "home/debian/.ssh/authorized_keys")
	mustDo(t, os.WriteFile(file, []byte(stewardLine.ReplaceAllString(mustRead(t, file), "")), 0o600))
	mustDo(t, standinCall("POST", "/v1/instances/"+id+"/nature",
		`{"stop_destroys":"","missing_rights":["user-data","set-keys"]}`, nil))
	d.must(t, "survey", name, "-outside")
	_ = d.client(t, "", "survey", name, "-inside") // it does not get in
}

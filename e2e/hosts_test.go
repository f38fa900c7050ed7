package e2e

import (
	"encoding/json"
	"fmt"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"plumlatch/core/keypair"
	"plumlatch/core/wire"
)

// engineer is an ordinary account of this machine, with a home that is its own:
// what it types is typed into a plain shell.
type engineer struct {
	d    *demo
	name string
	home string
	cred *syscall.Credential
}

func newEngineer(t *testing.T, d *demo) *engineer {
	t.Helper()
	if os.Geteuid() != 0 {
		t.Skip("making an account needs root: run the tests as root to have this one")
	}
	e := &engineer{d: d, name: fmt.Sprintf("pl-eng-%d-%d", os.Getpid()%100000, doors.Add(1))}
	if out, err := exec.Command("useradd", "--create-home", "--shell", "/bin/sh", e.name).CombinedOutput(); err != nil {
		t.Fatalf("%v %s", err, out)
	}
	t.Cleanup(func() {
		_ = exec.Command("pkill", "-KILL", "-u", e.name).Run()
		_ = exec.Command("userdel", "--force", "--remove", e.name).Run()
	})
	u, err := user.Lookup(e.name)
	mustDo(t, err)
	uid, _ := strconv.Atoi(u.Uid)
	gid, _ := strconv.Atoi(u.Gid)
	e.home, e.cred = u.HomeDir, &syscall.Credential{Uid: uint32(uid), Gid: uint32(gid)}
	program, err := os.ReadFile(filepath.Join(bin, "plumlatch"))
	mustDo(t, err)
	mustDo(t, os.WriteFile(filepath.Join(e.home, "plumlatch"), program, 0o755))
	mustDo(t, os.Mkdir(filepath.Join(e.home, ".ssh"), 0o700))
	e.owns(t, filepath.Join(e.home, ".ssh"))
	return e
}

func (e *engineer) owns(t *testing.T, file string) {
	t.Helper()
	mustDo(t, os.Chown(file, int(e.cred.Uid), int(e.cred.Gid)))
}

// has puts a private file and its .pub into the engineer's ~/.ssh.
func (e *engineer) has(t *testing.T, identity string) {
	t.Helper()
	for _, half := range []string{"", ".pub"} {
		data, err := os.ReadFile(identity + half)
		mustDo(t, err)
		to := filepath.Join(e.home, ".ssh", filepath.Base(identity)+half)
		mustDo(t, os.WriteFile(to, data, 0o600))
		e.owns(t, to)
	}
}

// types runs a line in the engineer's shell.
func (e *engineer) types(t testing.TB, line string) result {
	t.Helper()
	cmd := exec.Command("/bin/sh", "-c", line)
	cmd.Dir = e.home
	cmd.SysProcAttr = &syscall.SysProcAttr{Credential: e.cred}
	cmd.Env = []string{"HOME=" + e.home, "USER=" + e.name, "PATH=/usr/bin:/bin:" + e.home, "PLUMLATCH_URL=" + e.d.url,
		"PLUMLATCH_TOKEN=" + e.d.token}
	var out, errOut strings.Builder
	cmd.Stdout, cmd.Stderr = &out, &errOut
	_ = cmd.Run()
	return result{out.String(), errOut.String(), cmd.ProcessState.ExitCode()}
}

func (e *engineer) must(t testing.TB, line, want string) {
	t.Helper()
	if r := e.types(t, line); r.code != 0 || !strings.Contains(r.out, want) {
		t.Errorf("%s: %d %q %q, want %q", line, r.code, r.out, r.err, want)
	}
}

// TestPlainSSH writes an engineer's configuration, and uses plain ssh, scp and
// rsync through it: to the stand-in, to an adopted real sshd, and to one behind
// a jump host; before and after the addresses change.
func TestPlainSSH(t *testing.T) {
	t.Parallel()
	d := shared
	e := newEngineer(t, d)
	dir := t.TempDir()
	d.must(t, "key", "create", "plain-key", "-dir", dir)
	d.must(t, "instance", "launch", "plain-board", "-image", "debian-12", "-size", "small", "-region", "north-pier",
		"-key", "plain-key")
	e.has(t, filepath.Join(dir, "plain-key"))
	a := startAdoptee(t, "")
	d.must(t, a.args("plain-real", "-record", "plain-engineer")...)
	e.has(t, a.identity)
	mustDo(t, os.WriteFile(filepath.Join(e.home, ".ssh", "config"),
		[]byte("Match host plain-*\n    User nobody\n\nHost *\n    Port 9\n"), 0o600))
	e.owns(t, filepath.Join(e.home, ".ssh", "config"))

	if r := e.types(t, "plumlatch hosts write"); r.code != 1 || !strings.Contains(r.err, "Put the line") ||
		!strings.Contains(r.err, "-yes") {
		t.Errorf("without leave: %+v", r)
	}
	if _, err := os.Stat(filepath.Join(e.home, ".ssh", "plumlatch_hosts")); err == nil {
		t.Error("it was written without leave")
	}
	r := e.types(t, "plumlatch hosts write -compare")
	contains(t, "-compare", r.out, "plain-board", "plain-real", "new", "would get one line")
	e.must(t, "plumlatch hosts write -yes", "2 instances")
	config, err := os.ReadFile(filepath.Join(e.home, ".ssh", "config"))
	mustDo(t, err)
	if want := "Include " + e.home + "/.ssh/plumlatch_hosts\n\nMatch host plain-*\n    User nobody\n\nHost *\n    Port 9\n"; string(config) != want {
		t.Errorf("the engineer's configuration is now\n%s", config)
	}
	written, err := os.ReadFile(filepath.Join(e.home, ".ssh", "plumlatch_hosts"))
	mustDo(t, err)
	contains(t, "the file", string(written), "Host plain-board", "Host plain-real", "HostName ", "Port ",
		"User "+a.user, "IdentityFile ", "IdentitiesOnly yes", "HostKeyAlias plumlatch-", "UserKnownHostsFile ")
	both := func(when string) {
		t.Helper()
		e.must(t, "ssh -o BatchMode=yes plain-board hostname", "plain-board")
		e.must(t, "ssh -o BatchMode=yes plain-real id -un", a.user)
		mustDo(t, os.WriteFile(filepath.Join(e.home, "note"), []byte(when), 0o644))
		for _, to := range []string{"plain-board", "plain-real"} {
			e.must(t, "scp -q note "+to+":note-there && scp -q "+to+":note-there back && cat back", when)
		}
		e.must(t, "rsync -a note plain-real:note-rsync && rsync -a plain-real:note-rsync back2 && cat back2", when)
	}
	both("before the addresses change")

	if r := e.types(t, "plumlatch instance stop plain-board -yes && plumlatch instance start plain-board"); r.code != 0 ||
		!strings.Contains(r.err, "was renewed: plain-board") {
		t.Errorf("stop and start: %+v", r)
	}
	// The real server goes to another address and port; nothing else does.
	old := a.port
	a.port = freePorts(1)
	a.serve(t, "-o", "ListenAddress=127.0.0.9")
	if r := e.types(t, "plumlatch instance refresh plain-real -address 127.0.0.10:"+
		fmt.Sprint(a.port)); r.code != 1 || !strings.Contains(r.err, "nothing was changed") {
		t.Errorf("to where nothing answers: %+v", r)
	}
	other := startSSHD(t)
	if r := e.types(t, fmt.Sprintf("plumlatch instance refresh plain-real -address 127.0.0.1:%d",
		other.port)); r.code != 1 || !strings.Contains(r.err, "another host key answers") {
		t.Errorf("to where another one answers: %+v", r)
	}
	if r := e.types(t, fmt.Sprintf("plumlatch instance refresh plain-real -address 127.0.0.9:%d",
		a.port)); r.code != 0 || !strings.Contains(r.err, "was renewed: plain-real") ||
		!strings.Contains(r.out, fmt.Sprint(old)) {
		t.Errorf("refresh: %+v", r)
	}
	both("after the addresses have changed")
	if in := d.instance(t, "plain-real"); in.Address != "127.0.0.9" || len(in.Addresses) != 2 {
		t.Errorf("the ledger: %+v", in)
	}
	// Run again, it writes the Include line no second time.
	e.must(t, "plumlatch hosts write", "Nothing changes")
	again, err := os.ReadFile(filepath.Join(e.home, ".ssh", "config"))
	if err != nil || string(again) != string(config) {
		t.Errorf("the second time: %s", again)
	}
}

// TestPlainSSHThroughAJumpHost does the same where a jump host is between.
func TestPlainSSHThroughAJumpHost(t *testing.T) {
	t.Parallel()
	e := newEngineer(t, shared)
	inner, hop := startAdoptee(t, ""), startSSHD(t)
	key, err := os.ReadFile(inner.identity + ".pub")
	mustDo(t, err)
	home{hop.home, hop.uid, hop.gid}.place(t, authorizedCase{what: "hop"}, string(key))
	h := t.TempDir()
	known := filepath.Join(h, ".ssh", "known_hosts")
	mustDo(t, os.MkdirAll(filepath.Dir(known), 0o700))
	mustDo(t, os.WriteFile(known, []byte(fmt.Sprintf("[127.0.0.1]:%d %s\n", hop.port,
		keypair.Public{Blob: hop.hostKey}.Line())), 0o600))
	args := inner.args("plain-inner", "-jump", fmt.Sprintf("%s@127.0.0.1:%d", hop.user, hop.port), "-record",
		"plain-inner-key", "-yes")
	cmd := exec.Command(filepath.Join(bin, "plumlatch"), args...)
	cmd.Env = append(os.Environ(), "PLUMLATCH_URL="+shared.url, "PLUMLATCH_TOKEN="+shared.token, "HOME="+h)
	if out, err := cmd.CombinedOutput(); err != nil {
		t.Fatalf("%v %s", err, out)
	}
	e.has(t, inner.identity)
	e.must(t, "plumlatch hosts write -yes", "1 instance")
	e.must(t, "ssh -o BatchMode=yes plain-inner id -un", inner.user)
	e.must(t, "echo tide > note && scp -q note plain-inner: && ssh plain-inner cat note", "tide")
	r := e.types(t, "ssh -G plain-inner")
	contains(t, "what ssh makes of it", r.out, "proxyjump plumlatch-", "identitiesonly yes", "hostkeyalias plumlatch-")
	e.must(t, "plumlatch why plain-inner -json", `"first": null`)
}

// TestHostsConfigShapes meets configurations as people have them.
func TestHostsConfigShapes(t *testing.T) {
	t.Parallel()
	d, dir := shared, t.TempDir()
	d.must(t, "key", "create", "shape-key", "-dir", dir)
	d.must(t, "instance", "launch", "shape-board", "-image", "debian-12", "-size", "small", "-region", "north-pier",
		"-key", "shape-key")
	for what, c := range map[string]struct {
		before  string
		prepare func(t *testing.T, file string)
		after   string // FILE is the written file
		fails   string
	}{
		"none": {after: "Include FILE\n"},
		"comments first": {before: "# mine\n\nHost a\n  Port 2\n",
			after: "Include FILE\n\n# mine\n\nHost a\n  Port 2\n"},
		"a Match at its top": {before: "Match all\n  User x\n", after: "Include FILE\n\nMatch all\n  User x\n"},
		"a Host of that name": {before: "Host shape-board\n  Port 9\n",
			after: "Include FILE\n\nHost shape-board\n  Port 9\n"},
		"CRLF": {before: "Host a\r\n  Port 2\r\n",
			after: "Include FILE\r\n\r\nHost a\r\n  Port 2\r\n"},
		"no last line feed": {before: "Host a", after: "Include FILE\n\nHost a"},
		"the Include stands late": {before: "Host a\n  Port 2\nInclude plumlatch_hosts\n",
			after: "Include FILE\n\nHost a\n  Port 2\n"},
		"the Include stands right": {before: "# mine\nInclude FILE other\nHost a\n",
			after: "# mine\nInclude FILE other\nHost a\n"},
		"a link": {before: "Host a\n", fails: "is a link", after: "Host a\n", prepare: func(t *testing.T, file string) {
			mustDo(t, os.Rename(file, file+".kept"))
			mustDo(t, os.Symlink("config.kept", file))
		}},
		"not writable": {before: "Host a\n", fails: "not writable", after: "Host a\n",
			prepare: func(t *testing.T, file string) { mustDo(t, os.Chmod(file, 0o444)) }},
		"a folder": {fails: "config", prepare: func(t *testing.T, file string) { mustDo(t, os.Mkdir(file, 0o700)) }},
	} {
		t.Run(what, func(t *testing.T) {
			b := &broken{d: d, home: t.TempDir()}
			ssh := filepath.Join(b.home, ".ssh")
			mustDo(t, os.Mkdir(ssh, 0o700))
			file := filepath.Join(ssh, "config")
			if c.before != "" {
				mustDo(t, os.WriteFile(file,
					[]byte(strings.ReplaceAll(c.before, "FILE", filepath.Join(ssh, "plumlatch_hosts"))), 0o600))
			}
			if c.prepare != nil {
				c.prepare(t, file)
			}
			r := b.client(t, "hosts", "write", "-dir", dir, "-yes")
			if c.fails != "" {
				if r.code != 1 || !strings.Contains(r.err, c.fails) || !strings.Contains(r.err, "next: ") {
					t.Errorf("%+v", r)
				}
				if _, err := os.Stat(filepath.Join(ssh, "plumlatch_hosts")); err == nil {
					t.Error("something was written")
				}
			} else if r.code != 0 {
				t.Errorf("%+v", r)
			}
			if strings.Contains(c.before, "Host shape-board") != strings.Contains(r.err, "of your own") {
				t.Errorf("the engineer's own Host: %+v", r)
			}
			if data, err := os.ReadFile(file); c.after != "" &&
				(err != nil || string(data) != strings.ReplaceAll(c.after, "FILE",
					filepath.Join(ssh, "plumlatch_hosts"))) {
				t.Errorf("%v\n%q, want\n%q", err, data, c.after)
			}
			if c.fails == "" {
				out, err := exec.Command("ssh", "-F", file, "-o", "BatchMode=yes", "shape-board",
					"hostname").CombinedOutput()
				if err != nil || string(out) != "shape-board\n" {
					t.Errorf("ssh: %v %s", err, out)
				}
			}
		})
	}
}

// TestHostsOldClient writes no option that this machine's ssh does not know.
func TestHostsOldClient(t *testing.T) {
	t.Parallel()
	d, dir := shared, t.TempDir()
	d.must(t, "key", "create", "old-client-key", "-dir", dir)
	d.must(t, "instance", "launch", "old-client-board", "-image", "debian-12", "-size", "small", "-region",
		"north-pier", "-key", "old-client-key")
	path := t.TempDir()
	mustDo(t, os.WriteFile(filepath.Join(path, "ssh"),
		[]byte("#!/bin/sh\ncase \"$*\" in *UpdateHostKeys*) echo 'command-line: line 0: Bad configuration option: "+
			"updatehostkeys' >&2; exit 255;; esac\n"), 0o755))
	b := &broken{d: d, home: t.TempDir(), env: []string{"PATH=" + path + ":" + os.Getenv("PATH")}}
	r := b.client(t, "hosts", "print", "-dir", dir)
	if r.code != 0 || !strings.Contains(r.out, "Host old-client-board\n") ||
		strings.Contains(r.out, "UpdateHostKeys") || !strings.Contains(r.out, "CheckHostIP no") {
		t.Errorf("%+v", r)
	}
}

// TestHostsPins keeps a host key that was seen once, and takes another one only
// with a yes, both fingerprints side by side.
func TestHostsPins(t *testing.T) {
	t.Parallel()
	d, dir := shared, t.TempDir()
	d.must(t, "key", "create", "pin-key", "-dir", dir)
	d.must(t, "instance", "launch", "pin-board", "-image", "debian-12", "-size", "small", "-region", "north-pier",
		"-key", "pin-key")
	i := d.instance(t, "pin-board")
	b := &broken{d: d, name: "pin-board", id: i.CloudID, disk: d.path("standin", "instances", i.CloudID),
		home: t.TempDir()}
	if r := b.client(t, "hosts", "write", "-dir", dir, "-yes"); r.code != 0 {
		t.Fatalf("%+v", r)
	}
	old := i.HostKeys[0].Fingerprint
	newHostKey(t, b)
	r := d.client(t, "", "instance", "host-key", "pin-board")
	if r.code != 3 || !strings.Contains(r.out, old) || !strings.Contains(r.out, "ANOTHER ONE") {
		t.Errorf("host-key: %+v", r)
	}
	var state wire.HostKeyState
	mustDo(t, json.Unmarshal([]byte(d.client(t, "", "instance", "host-key", "pin-board", "-json").out), &state))
	fresh := state.Offered.Fingerprint
	for what, args := range map[string][]string{"another fingerprint": {"-accept", old, "-yes"},
		"not in the boot log": {"-from-boot-log", "-yes"}, "no answer": {"-accept", fresh}} {
		if r := d.client(t, "", append([]string{"instance", "host-key", "pin-board"}, args...)...); r.code != 1 ||
			!strings.Contains(r.err, fresh) {
			t.Errorf("%s: %+v", what, r)
		}
	}
	// past the client
	for _, body := range []string{`{"fingerprint":"` + old + `","from_boot_log":false}`, `{"fingerprint":"` + fresh +
		`","from_boot_log":true}`} {
		if a := d.api(t, "POST", "/api/v1/instances/pin-board/host-key", body); a.status != 422 {
			t.Errorf("%s: %d %s", body, a.status, a.body)
		}
	}
	if got := d.instance(t, "pin-board").HostKeys[0].Fingerprint; got != old {
		t.Fatalf("it was taken by itself: %s", got)
	}
	d.must(t, "instance", "host-key", "pin-board", "-accept", fresh, "-yes") // by somebody else, elsewhere
	if in := d.instance(t, "pin-board"); len(in.HostKeys) != 1 || in.HostKeys[0].Fingerprint != fresh ||
		in.Trouble != "" {
		t.Errorf("the ledger: %+v", in.HostKeys)
	}
	if out := d.must(t, "instance", "host-key", "pin-board"); !strings.Contains(out, old) ||
		!strings.Contains(out, "replaced by") {
		t.Errorf("the old one stays on record: %s", out)
	}
	if r := b.client(t, "open", "pin-board", "-dir", dir, "--", "hostname"); r.code != 1 ||
		!strings.Contains(r.err, old) || !strings.Contains(r.err, fresh) {
		t.Errorf("open, where the old one is pinned: %+v", r)
	}
	if r := b.client(t, "hosts", "write", "-dir", dir); r.code != 1 ||
		!strings.Contains(r.err, "pinned here   "+old) || !strings.Contains(r.err, "recorded now  "+fresh) {
		t.Errorf("hosts write without a yes: %+v", r)
	}
	if r := b.client(t, "hosts", "write", "-dir", dir, "-yes"); r.code != 0 {
		t.Errorf("%+v", r)
	}
	if r := b.client(t, "open", "pin-board", "-dir", dir, "--", "hostname"); r.code != 0 || r.out != "pin-board\n" {
		t.Errorf("open after the yes: %+v", r)
	}
	// A rebuild prints its new host key on the console.
	newHostKey(t, b)
	mustDo(t, json.Unmarshal([]byte(d.client(t, "", "instance", "host-key", "pin-board", "-json").out), &state))
	b.edit(t, b.disk+".console", func(s string) string {
		return s + "-----BEGIN SSH HOST KEY FINGERPRINTS-----\n256 " + state.Offered.Fingerprint +
			" root@pin-board (ED25519)\n-----END SSH HOST KEY FINGERPRINTS-----\n\x1b[31mlogin: "
	})
	if out := d.must(t, "instance", "boot-log", "pin-board", "-lines", "3"); strings.ContainsRune(out, 0x1b) ||
		!strings.Contains(out, state.Offered.Fingerprint) {
		t.Errorf("boot-log: %q", out)
	}
	if out := b.client(t, "instance", "host-key", "pin-board", "-from-boot-log", "-yes"); out.code != 0 ||
		!strings.Contains(out.out, "boot output, and fetched") {
		t.Errorf("-from-boot-log: %+v", out)
	}
	if r := b.client(t, "open", "pin-board", "-dir", dir, "--", "hostname"); r.code != 0 {
		t.Errorf("the yes counts for what is pinned too: %+v", r)
	}
}

// TestHostileService has a service send what would hurt, in every field: none of
// it gets to a shell, an ssh, or a file.
func TestHostileService(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	shared.must(t, "key", "create", "hostile-key", "-dir", dir)
	pub, err := os.ReadFile(filepath.Join(dir, "hostile-key.pub"))
	mustDo(t, err)
	key, err := keypair.ReadPublic(pub)
	mustDo(t, err)
	good := wire.Instance{Name: "good-board", State: "running", Phase: "ready", Address: "127.0.0.1", Port: 2222,
		LoginUser: "debian", Alias: "plumlatch-good", Keys: 1,
		HostKeys: []wire.HostKey{{Type: "ssh-ed25519", Fingerprint: "x", PublicKey: newPublic(t)}}}
	const evil = "x\n    ProxyCommand touch MARK"
	cases := map[string]func(*wire.Instance){
		"name: a line break":     func(i *wire.Instance) { i.Name = "a" + evil },
		"name: a pattern":        func(i *wire.Instance) { i.Name = "*" },
		"name: an option":        func(i *wire.Instance) { i.Name = "-oProxyCommand=touch MARK" },
		"name: blanks":           func(i *wire.Instance) { i.Name = "a b" },
		"name: a negation":       func(i *wire.Instance) { i.Name = "!a" },
		"address: a name":        func(i *wire.Instance) { i.Address = "evil.example" },
		"address: an option":     func(i *wire.Instance) { i.Address = "-oProxyCommand=touch MARK" },
		"address: a line break":  func(i *wire.Instance) { i.Address = "127.0.0.1" + evil },
		"address: a zone":        func(i *wire.Instance) { i.Address = "fe80::1%$(touch MARK)" },
		"address: everything":    func(i *wire.Instance) { i.Address = "0.0.0.0" },
		"port: none":             func(i *wire.Instance) { i.Port = 0 },
		"port: too great":        func(i *wire.Instance) { i.Port = 70000 },
		"user: a line break":     func(i *wire.Instance) { i.LoginUser = "debian" + evil },
		"user: an option":        func(i *wire.Instance) { i.LoginUser = "-oProxyCommand=x" },
		"user: a command":        func(i *wire.Instance) { i.LoginUser = "$(touch MARK)" },
		"user: a token":          func(i *wire.Instance) { i.LoginUser = "%h" },
		"alias: a line break":    func(i *wire.Instance) { i.Alias = "a" + evil },
		"alias: a list":          func(i *wire.Instance) { i.Alias = "a,*" },
		"alias: empty":           func(i *wire.Instance) { i.Alias = "" },
		"host key: a line break": func(i *wire.Instance) { i.HostKeys[0].PublicKey = "ssh-ed25519 AAAA" + evil },
		"host key: an authority": func(i *wire.Instance) {
			i.HostKeys[0].PublicKey = "@cert-authority * " +
				i.HostKeys[0].PublicKey
		},
		"host key: none": func(i *wire.Instance) { i.HostKeys = nil },
		"jump host: a name": func(i *wire.Instance) {
			i.Via = &wire.Hop{Address: "a;touch MARK", Port: 22, LoginUser: "u",
				HostKeys: []string{i.HostKeys[0].PublicKey}}
		},
		"jump host: its user": func(i *wire.Instance) {
			i.Via = &wire.Hop{Address: "127.0.0.1", Port: 22, LoginUser: "u'$(touch MARK)",
				HostKeys: []string{i.HostKeys[0].PublicKey}}
		},
		"jump host: no host key": func(i *wire.Instance) {
			i.Via = &wire.Hop{Address: "127.0.0.1", Port: 22,
				LoginUser: "u"}
		},
		"jump host: a port of words": func(i *wire.Instance) {
			i.Via = &wire.Hop{Address: "127.0.0.1", Port: -1, LoginUser: "u",
				HostKeys: []string{i.HostKeys[0].PublicKey}}
		},
	}
	for what, change := range cases {
		t.Run(what, func(t *testing.T) {
			bad := good
			bad.HostKeys = append([]wire.HostKey{}, good.HostKeys...)
			bad.Name = "bad-board"
			change(&bad)
			fake := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
				var out any = wire.List[wire.Instance]{Items: []wire.Instance{good, bad}}
				switch {
				case strings.HasSuffix(r.URL.Path, "/access"):
					var rows []wire.Access
					for n, i := range []wire.Instance{good, bad} {
						rows = append(rows,
							wire.Access{ID: int64(n), Instance: i.Name, Key: "hostile-key", LoginUser: i.LoginUser,
								Fingerprint: key.Fingerprint(), PublicKey: key.Line(), Evidence: "accepted"})
					}
					out = wire.List[wire.Access]{Items: rows}
				case strings.Contains(r.URL.Path, "/instances/"):
					out = bad
				}
				_ = json.NewEncoder(w).Encode(out)
			}))
			defer fake.Close()
			home := t.TempDir()
			run := func(args ...string) result {
				return shared.clientIn(t, home, fake.URL, args...)
			}
			r := run("hosts", "write", "-dir", dir, "-yes")
			text, _ := os.ReadFile(filepath.Join(home, ".ssh", "plumlatch_hosts"))
			known, _ := os.ReadFile(filepath.Join(home, ".ssh", "plumlatch_known_hosts"))
			if r.code != 0 || !strings.Contains(string(text), "Host good-board\n") ||
				!strings.Contains(r.err, "left out: ") {
				t.Errorf("hosts write: %+v\n%s", r, text)
			}
			for _, never := range []string{"ProxyCommand", "MARK", "evil", "bad-board", "Host *", "@cert"} {
				if strings.Contains(string(text), never) || strings.Contains(string(known), never) {
					t.Errorf("%q got into a file:\n%s%s", never, text, known)
				}
			}
			if r := run("open", "bad-board", "-identity", filepath.Join(dir, "hostile-key"), "--",
				"true"); r.code == 0 || strings.Contains(r.err, "ssh ended") && !strings.HasPrefix(what, "name") {
				t.Errorf("open: %+v", r)
			}
			for _, place := range []string{home, "."} {
				if _, err := os.Stat(filepath.Join(place, "MARK")); err == nil {
					t.Error("a command was run")
				}
			}
		})
	}
	t.Run("two names that differ by case", func(t *testing.T) {
		twin := good
		twin.Name = "Good-Board"
		fake := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			var out any = wire.List[wire.Instance]{Items: []wire.Instance{good, twin}}
			if strings.HasSuffix(r.URL.Path, "/access") {
				out = wire.List[wire.Access]{Items: []wire.Access{{Instance: good.Name, LoginUser: "debian",
					Fingerprint: key.Fingerprint(), Evidence: "accepted"},
					{Instance: twin.Name, LoginUser: "debian", Fingerprint: key.Fingerprint(), Evidence: "accepted"}}}
			}
			_ = json.NewEncoder(w).Encode(out)
		}))
		defer fake.Close()
		r := shared.clientIn(t, t.TempDir(), fake.URL, "hosts", "print", "-dir", dir)
		if r.code != 0 || strings.Count(r.out, "\nHost ") != 1 ||
			!strings.Contains(r.err, "differs from another's by case") {
			t.Errorf("%+v", r)
		}
	})
	t.Logf("%d hostile values", len(cases))
}

// clientIn runs the client with another home, against another service.
func (d *demo) clientIn(t *testing.T, home, url string, args ...string) result {
	t.Helper()
	cmd := exec.Command(filepath.Join(bin, "plumlatch"), args...)
	cmd.Env = append(os.Environ(), "PLUMLATCH_URL="+url, "PLUMLATCH_TOKEN="+d.token, "HOME="+home, "SSH_AUTH_SOCK=")
	cmd.Dir = home
	var out, errOut strings.Builder
	cmd.Stdout, cmd.Stderr = &out, &errOut
	timer := time.AfterFunc(30*time.Second, func() { _ = cmd.Process.Kill() })
	defer timer.Stop()
	_ = cmd.Run()
	return result{out.String(), errOut.String(), cmd.ProcessState.ExitCode()}
}

// TestOpenPrint gives the parts of a door, and conversions that work as printed.
func TestOpenPrint(t *testing.T) {
	t.Parallel()
	d, dir := shared, t.TempDir()
	d.must(t, "key", "create", "print-key", "-dir", dir)
	d.must(t, "instance", "launch", "print-board", "-image", "debian-12", "-size", "small", "-region", "north-pier",
		"-key", "print-key")
	i := d.instance(t, "print-board")
	file := filepath.Join(dir, "print-key")
	contains(t, "-print", d.must(t, "open", "print-board", "-print", "-dir", dir), i.Address, "2222", "debian", file,
		"OpenSSH, without a passphrase", i.HostKeys[0].Fingerprint, "-format ppk -out "+file+".ppk")
	var p struct {
		Host        string
		Port        int
		User        string
		File        string
		HostKeys    []string `json:"host_keys"`
		Conversions []string
	}
	mustDo(t, json.Unmarshal([]byte(d.must(t, "open", "print-board", "-print", "-json", "-dir", dir, "-user",
		"captain")), &p))
	if p.Host != i.Address || p.Port != 2222 || p.User != "captain" || p.File != file || len(p.HostKeys) != 1 ||
		len(p.Conversions) != 2 {
		t.Errorf("%+v", p)
	}
	for _, line := range p.Conversions {
		d.must(t, append(strings.Fields(line)[1:], "-new-passphrase", "/dev/null")...)
	}
	checked := d.client(t, "", "key", "check", file+".ppk", file+".pem").out
	contains(t, "what was converted", checked, "PPK 3", "PKCS#8", "print-key")
	if r := d.client(t, "", "open", "print-board", "-json", "-dir", dir); r.code != 2 {
		t.Errorf("-json without -print: %+v", r)
	}
	if r := d.client(t, "", "open", "print-board", "-user", "-oProxyCommand=x", "-dir", dir); r.code != 2 {
		t.Errorf("a user that is none: %+v", r)
	}
	if r := d.client(t, "", "open", "print-board", "-user", "captain", "-identity", file, "--",
		"true"); r.code != 255 || !strings.Contains(r.err, "next: plumlatch why print-board -identity "+file+
		" -user captain") {
		t.Errorf("a user that is not there: %+v", r)
	}
}

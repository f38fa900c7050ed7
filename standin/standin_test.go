package standin

import (
	"bytes"
	"errors"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"net/netip"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/pkg/sftp"
	"golang.org/x/crypto/ssh"

	"plumlatch/core/hostkeys"
	"plumlatch/core/keypair"
)

func openCloud(t *testing.T, folder string) *Cloud {
	t.Helper()
	// The block depends on the process, so that packages tested at once do not meet.
	block := netip.PrefixFrom(netip.AddrFrom4([4]byte{127, byte(10 + os.Getpid()%40),
		byte(os.Getpid() / 40 % 16 * 16), 0}), 20)
	c, err := Open(Options{Folder: folder, Network: block, Pace: time.Millisecond})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { c.Close() })
	return c
}

func await(t *testing.T, c *Cloud, id string, want State) Instance {
	t.Helper()
	for range 2000 {
		if in, err := c.Get(id); err == nil && in.State == want {
			return in
		}
		time.Sleep(5 * time.Millisecond)
	}
	in, err := c.Get(id)
	t.Fatalf("%s never came: %+v %v", want, in, err)
	return in
}

// launch starts an instance that opens with a new pair.
func launch(t *testing.T, c *Cloud, token string) (Instance, *keypair.Pair) {
	t.Helper()
	pair, err := keypair.Create(keypair.Ed25519, "tester")
	if err != nil {
		t.Fatal(err)
	}
	in, err := c.Launch(Launch{ClientToken: token, Name: "tide-gauge-9", Region: "skerry-island",
		Image: "debian-12", Size: "small",
		UserData: "#cloud-config\nssh_pwauth: false\nssh_authorized_keys:\n  - " + pair.Public.Line() + "\n"})
	if err != nil {
		t.Fatal(err)
	}
	return await(t, c, in.ID, Running), pair
}

func dial(t *testing.T, in Instance, pair *keypair.Pair) *ssh.Client {
	t.Helper()
	signer, err := pair.Signer()
	if err != nil {
		t.Fatal(err)
	}
	client, err := ssh.Dial("tcp", net.JoinHostPort(in.Address, strconv.Itoa(in.Port)), &ssh.ClientConfig{
		User: in.LoginUser, Auth: []ssh.AuthMethod{ssh.PublicKeys(signer)},
		HostKeyCallback: ssh.InsecureIgnoreHostKey(), Timeout: 5 * time.Second})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { client.Close() })
	return client
}

func TestLife(t *testing.T) {
	folder := t.TempDir()
	c := openCloud(t, folder)
	in, pair := launch(t, c, "once")
	again, err := c.Launch(Launch{ClientToken: "once", Name: "tide-gauge-9", Region: "skerry-island",
		Image: "debian-12", Size: "small",
		UserData: "#cloud-config\nssh_pwauth: false\nssh_authorized_keys:\n  - " + pair.Public.Line() + "\n"})
	if err != nil || again.ID != in.ID || len(c.List("")) != 1 {
		t.Errorf("the same token launched again: %+v %v", again, err)
	}
	if _, err := c.Launch(Launch{ClientToken: "once", Name: "other", Region: "skerry-island", Image: "debian-12",
		Size: "small"}); !errors.Is(err, ErrToken) {
		t.Errorf("the token for another launch: %v", err)
	}
	output, err := c.BootOutput(t.Context(), in.ID)
	if err != nil {
		t.Fatal(err)
	}
	fingerprints, err := hostkeys.FirstBootFingerprints(output)
	if err != nil || len(fingerprints) != 1 {
		t.Errorf("%v %v", fingerprints, err)
	}
	dial(t, in, pair)

	// The state survives the program.
	if err := c.Close(); err != nil {
		t.Fatal(err)
	}
	c = openCloud(t, folder)
	same, err := c.Get(in.ID)
	if err != nil || same.Address != in.Address || same.State != Running {
		t.Errorf("after a restart: %+v %v", same, err)
	}
	dial(t, same, pair)

	if _, err := c.Start("t1", in.ID); err != nil {
		t.Errorf("starting what runs: %v", err)
	}
	if _, err := c.Stop("t2", in.ID); err != nil {
		t.Fatal(err)
	}
	if stopped := await(t, c, in.ID, Stopped); stopped.Address != "" {
		t.Errorf("it keeps its address: %+v", stopped)
	}
	if _, err := c.Start("t3", in.ID); err != nil {
		t.Fatal(err)
	}
	started := await(t, c, in.ID, Running)
	if started.Address == in.Address {
		t.Error("the address did not change")
	}
	dial(t, started, pair)
	later, err := c.BootOutput(t.Context(), in.ID)
	if err != nil || strings.Count(later, "BEGIN SSH HOST KEY") != 1 {
		t.Errorf("the second boot prints the fingerprints again: %v", err)
	}
	if _, err := c.Remove("t4", in.ID); err != nil {
		t.Fatal(err)
	}
	await(t, c, in.ID, Removed)
	if _, err := os.Stat(filepath.Join(folder, "instances", in.ID)); err == nil {
		t.Error("the root volume is still there")
	}
	if _, err := c.Start("t5", in.ID); !errors.Is(err, ErrState) {
		t.Errorf("starting what is gone: %v", err)
	}
}

// TestSFTPBehavesAsOpenSSH covers where the library's own server differs.
func TestSFTPBehavesAsOpenSSH(t *testing.T) {
	c := openCloud(t, t.TempDir())
	in, pair := launch(t, c, "sftp")
	client, err := sftp.NewClient(dial(t, in, pair))
	if err != nil {
		t.Fatal(err)
	}
	defer client.Close()
	for _, ext := range []string{"posix-rename@openssh.com", "fsync@openssh.com"} {
		if _, ok := client.HasExtension(ext); !ok {
			t.Errorf("%s is not announced", ext)
		}
	}
	write := func(name, text string, flags int) *sftp.File {
		t.Helper()
		f, err := client.OpenFile(name, flags)
		if err != nil {
			t.Fatalf("%s: %v", name, err)
		}
		if _, err := f.Write([]byte(text)); err != nil {
			t.Fatal(err)
		}
		return f
	}
	read := func(name string) string {
		t.Helper()
		f, err := client.Open(name)
		if err != nil {
			t.Fatal(err)
		}
		defer f.Close()
		data, err := io.ReadAll(f)
		if err != nil {
			t.Fatal(err)
		}
		return string(data)
	}
	f := write("a", "one\n", os.O_CREATE|os.O_WRONLY|os.O_EXCL)
	if err := f.Sync(); err != nil {
		t.Errorf("fsync: %v", err)
	}
	f.Close()
	write("b", "two\n", os.O_CREATE|os.O_WRONLY).Close()
	if err := client.Rename("a", "b"); err == nil || read("b") != "two\n" {
		t.Errorf("a plain rename overwrote: %v", err)
	}
	if err := client.PosixRename("a", "b"); err != nil || read("b") != "one\n" {
		t.Errorf("posix-rename: %v, %q", err, read("b"))
	}
	if _, err := client.OpenFile("b", os.O_CREATE|os.O_WRONLY|os.O_EXCL); err == nil {
		t.Error("O_EXCL opened what exists")
	}
	write("b", "more\n", os.O_WRONLY|os.O_APPEND).Close()
	if read("b") != "one\nmore\n" {
		t.Errorf("append: %q", read("b"))
	}
	if _, err := client.Open("../../../etc/shadow"); err == nil {
		t.Error("it reads outside of the root volume")
	}
	if p, err := client.RealPath("."); err != nil || p != "/home/debian" {
		t.Errorf("RealPath: %q %v", p, err)
	}
	if err := client.Chmod("b", 0o600); err != nil {
		t.Error(err)
	}
	if fi, err := client.Stat("b"); err != nil || fi.Mode().Perm() != 0o600 {
		t.Errorf("%v %v", fi, err)
	}
}

func TestForcedCommandAndRestrict(t *testing.T) {
	folder := t.TempDir()
	c := openCloud(t, folder)
	in, pair := launch(t, c, "forced")
	file := filepath.Join(folder, "instances", in.ID, "home", "debian", ".ssh", "authorized_keys")
	if err := os.WriteFile(file, []byte(`restrict,command="echo $SSH_ORIGINAL_COMMAND" `+pair.Public.Line()+"\n"),
		0o600); err != nil {
		t.Fatal(err)
	}
	client := dial(t, in, pair)
	session, err := client.NewSession()
	if err != nil {
		t.Fatal(err)
	}
	if out, err := session.Output("cat /etc/passwd"); err != nil || string(out) != "cat /etc/passwd\n" {
		t.Errorf("%q %v", out, err)
	}
	session, err = client.NewSession()
	if err != nil {
		t.Fatal(err)
	}
	if err := session.RequestPty("xterm", 24, 80, nil); err == nil {
		t.Error("restrict gave a terminal")
	}
	if _, err := client.Dial("tcp", "127.0.0.1:22"); err == nil {
		t.Error("it forwards")
	}
}

func TestShell(t *testing.T) {
	c := openCloud(t, t.TempDir())
	in, pair := launch(t, c, "shell")
	client := dial(t, in, pair)
	for script, want := range map[string]string{
		"whoami; hostname; id -u; pwd":                                                   "debian\ntide-gauge-9\n1000\n/home/debian\n",
		"mkdir -p a/b && echo x > a/b/c && cp a/b/c d && mv d e && cat e && ls a":        "x\nb\n",
		"printf 'one\\ntwo\\nthree\\n' > f; sed -n 2p f; tail -n 1 f; grep -c o f":       "two\nthree\n2\n",
		"printf 'a b\\n' | sed 's/\\(a\\) b/\\1-c/'; printf 'aa\\n' | sed s/a/b/g":       "a-c\nbb\n",
		"echo hi > g; chmod 600 g; stat -c '%a %U' g; rm g; ls g 2>/dev/null || echo no": "600 debian\nno\n",
		"for i in 1 2 3; do echo $i; done | tail -n 1":                                   "3\n",
		"test -f /etc/passwd && echo yes; [ -d /nowhere ] || echo no":                    "yes\nno\n",
		"ln -s /etc x; echo $?":       "127\n",
		"date +%Z; ps | grep -c sshd": "UTC\n2\n",
		"frobnicate; echo $?":         "127\n",
	} {
		session, err := client.NewSession()
		if err != nil {
			t.Fatal(err)
		}
		var out bytes.Buffer
		session.Stdout = &out
		_ = session.Run(script)
		if out.String() != want {
			t.Errorf("%s: %q, want %q", script, out.String(), want)
		}
	}
}

func TestHTTPNeedsTheToken(t *testing.T) {
	c := openCloud(t, t.TempDir())
	srv := httptest.NewServer(c.Handler("right"))
	defer srv.Close()
	for token, want := range map[string]int{"right": 200, "wrong": 401, "": 401} {
		req, _ := http.NewRequest("GET", srv.URL+"/v1/regions", nil)
		req.Header.Set("Authorization", "Bearer "+token)
		resp, err := http.DefaultClient.Do(req)
		if err != nil {
			t.Fatal(err)
		}
		resp.Body.Close()
		if resp.StatusCode != want {
			t.Errorf("token %q: %d, want %d", token, resp.StatusCode, want)
		}
	}
}

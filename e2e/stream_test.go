package e2e

import (
	"bytes"
	"crypto/rand"
	"encoding/json"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/coder/websocket"

	"plumlatch/client"
	"plumlatch/core/access"
	"plumlatch/core/keypair"
	"plumlatch/core/streams"
	"plumlatch/core/wire"
	page "plumlatch/shell"
	"plumlatch/stream"
)

// tap is a way to the service that keeps all that goes over it; of several replicas, to each in turn.
type tap struct {
	url string
	mu  sync.Mutex
	all []byte
	at  []net.Conn
}

func newTap(t testing.TB, all ...string) *tap {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	mustDo(t, err)
	t.Cleanup(func() { l.Close() })
	p := &tap{url: "http://" + l.Addr().String()}
	go func() {
		for n := 0; ; n++ {
			in, err := l.Accept()
			if err != nil {
				return
			}
			to := all[n%len(all)]
			go func() {
				out, err := net.Dial("tcp", strings.TrimPrefix(to, "http://"))
				if err != nil {
					in.Close()
					return
				}
				p.mu.Lock()
				p.at = append(p.at, in, out)
				p.mu.Unlock()
				go func() {
					defer out.Close()
					b := make([]byte, 64<<10)
					for {
						n, err := in.Read(b)
						_, _ = p.Write(b[:n])
						// The service answers to its own name alone, and to pages of its own.
						there := b[:n]
						for _, header := range []string{"Host: ", "Origin: http://"} {
							there = bytes.ReplaceAll(there, []byte(header+l.Addr().String()), []byte(header+strings.TrimPrefix(to, "http://")))
						}
						_, wrong := out.Write(there)
						if err != nil || wrong != nil {
							return
						}
					}
				}()
				_, _ = io.Copy(io.MultiWriter(in, p), out)
				in.Close()
			}()
		}
	}()
	return p
}

func (p *tap) Write(b []byte) (int, error) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.all = append(p.all, b...)
	return len(b), nil
}

// sever cuts every connection.
func (p *tap) sever() {
	p.mu.Lock()
	defer p.mu.Unlock()
	for _, c := range p.at {
		c.Close()
	}
	p.at = nil
}

// environ is what a program needs that runs the client.
func (d *demo) environ(url string) []string {
	return append(os.Environ(), "PLUMLATCH_URL="+url, "PLUMLATCH_TOKEN="+d.token, "HOME="+filepath.Join(d.dir, "home"))
}

// streamed is a real server that is adopted, and written down for the real ssh by way of the service.
func streamed(t testing.TB, url string) (a *adoptee, d *demo, name string, ssh func(program string, args ...string) *exec.Cmd) {
	t.Helper()
	return streamedBy(t, shared, url)
}

// streamedBy is that for another service's instance.
func streamedBy(t testing.TB, of *demo, url string) (a *adoptee, d *demo, name string, ssh func(program string, args ...string) *exec.Cmd) {
	t.Helper()
	a = startAdoptee(t, "")
	d = newHome(t, of)
	name = fmt.Sprintf("stream-%d", a.port)
	d.must(t, a.args(name, "-record", name+"-key")...)
	keys := filepath.Join(d.dir, "home", ".ssh")
	mustDo(t, os.MkdirAll(keys, 0o700))
	for _, f := range []string{"", ".pub"} {
		text, err := os.ReadFile(a.identity + f)
		mustDo(t, err)
		mustDo(t, os.WriteFile(filepath.Join(keys, name+f), text, 0o600))
	}
	contains(t, "written", d.must(t, "hosts", "write", "-stream", "-yes"), "1 instance")
	config := filepath.Join(keys, "plumlatch_hosts")
	return a, d, name, func(program string, args ...string) *exec.Cmd {
		cmd := exec.Command(program, append([]string{"-F", config}, args...)...)
		cmd.Env = d.environ(url)
		return cmd
	}
}

func ran(t testing.TB, cmd *exec.Cmd, in []byte) []byte {
	t.Helper()
	var out, said bytes.Buffer
	cmd.Stdin, cmd.Stdout, cmd.Stderr = bytes.NewReader(in), &out, &said
	if err := cmd.Run(); err != nil {
		t.Fatalf("%s: %v\n%s", strings.Join(cmd.Args, " "), err, said.String())
	}
	return out.Bytes()
}

// heldOpen starts a session that says "in" and stays; what its ssh says is in said once it has ended.
func heldOpen(t *testing.T, held *exec.Cmd) (_ *exec.Cmd, said *bytes.Buffer) {
	t.Helper()
	said = &bytes.Buffer{}
	held.Stderr = said
	out, err := held.StdoutPipe()
	mustDo(t, err)
	mustDo(t, held.Start())
	if _, err := io.ReadFull(out, make([]byte, 3)); err != nil {
		t.Fatalf("%v: %s", err, said.String())
	}
	return held, said
}

func (d *demo) streamsOf(t testing.TB, name string, more ...string) []wire.Stream {
	t.Helper()
	var out wire.List[wire.Stream]
	mustDo(t, json.Unmarshal([]byte(d.must(t, append([]string{"streams", "list", "-instance", name, "-json"}, more...)...)), &out))
	return out.Items
}

// TestStream: the real ssh, scp, sftp and rsync go through the service, to a real sshd, with all that they do; what goes there is SSH's cipher text.
func TestStream(t *testing.T) {
	t.Parallel()
	way := newTap(t, shared.url)
	a, d, name, run := streamed(t, way.url)
	const typed = "the tide turns at four bells"
	if out := ran(t, run("ssh", name, "cat; echo; id -un"), []byte(typed)); string(out) != typed+"\n"+a.user+"\n" {
		t.Errorf("ssh: %q", out)
	}
	whole := make([]byte, 6<<20)
	_, _ = rand.Read(whole)
	dir := t.TempDir()
	at := func(n string) string { return filepath.Join(dir, n) }
	mustDo(t, os.WriteFile(at("whole"), whole, 0o600))
	back := func(what string) {
		t.Helper()
		got, err := os.ReadFile(at("back"))
		if err != nil || !bytes.Equal(got, whole) {
			t.Errorf("%s: %d bytes of %d came back, %v", what, len(got), len(whole), err)
		}
		_ = os.Remove(at("back"))
	}
	ran(t, run("scp", at("whole"), name+":by-scp"), nil)
	ran(t, run("scp", name+":by-scp", at("back")), nil)
	back("scp")
	ran(t, run("sftp", "-b", "-", name), []byte("put "+at("whole")+" by-sftp\nget by-sftp "+at("back")+"\n"))
	back("sftp")
	rsync := run("ssh", "x")
	remote := strings.Join(rsync.Args[:3], " ")
	sync := func(args ...string) {
		t.Helper()
		cmd := exec.Command("rsync", append([]string{"-e", remote}, args...)...)
		cmd.Env = d.environ(way.url)
		ran(t, cmd, nil)
	}
	sync(at("whole"), name+":by-rsync")
	sync(name+":by-rsync", at("back"))
	back("rsync")
	// One direction ends, and the other goes on.
	if out := ran(t, run("ssh", name, "sha256sum"), whole); len(out) != 68 {
		t.Errorf("half-close: %q", out)
	}
	// Forwarding of the engineer's own ssh: to the server itself, whose greeting comes back.
	greeting := run("ssh", "-W", fmt.Sprintf("127.0.0.1:%d", a.port), name)
	if out := ran(t, greeting, nil); !strings.HasPrefix(string(out), "SSH-2.0-OpenSSH") {
		t.Errorf("forwarding: %q", out)
	}

	// What was typed and the private key are nowhere in it; that it was there is.
	private, err := os.ReadFile(a.identity)
	mustDo(t, err)
	way.mu.Lock()
	for what, secret := range map[string][]byte{"what was typed": []byte(typed), "the private key": private[40:140], "what was carried": whole[:64]} {
		if bytes.Contains(way.all, secret) {
			t.Errorf("%s went through the service", what)
		}
	}
	if !bytes.Contains(way.all, []byte("SSH-2.0-OpenSSH")) || len(way.all) < 6*len(whole) {
		t.Errorf("%d bytes went through the service", len(way.all))
	}
	way.mu.Unlock()
	waitFor(t, "their ends", func() bool { return len(d.streamsOf(t, name, "-open")) == 0 })
	all := d.streamsOf(t, name)
	if s := all[len(all)-1]; len(all) != 8 || s.Operator != "harbour-lead" || s.Way != streams.ByService || s.Why != streams.Closed || s.Up < 1000 || s.Down < 1000 || s.Ended == nil {
		t.Errorf("%d streams: %+v", len(all), s)
	}
	contains(t, "the journal", d.must(t, "journal", "list", "-target", "instance "+name), "stream.begin", "stream.end", "bytes to the server", "it was closed")
	contains(t, "the list", d.must(t, "streams", "list", "-instance", name), "INSTANCE", "ended", "it was closed")

	// open goes through the service where the direct way is shut, and says so; with -stream at once.
	contains(t, "open", d.must(t, "open", name, "-stream", "-identity", a.identity, "--", "id", "-un"), a.user)
	contains(t, "written back", d.must(t, "hosts", "write", "-stream=false", "-yes"), "1 instance")
	text, err := os.ReadFile(filepath.Join(d.dir, "home", ".ssh", "plumlatch_hosts"))
	if err != nil || strings.Contains(string(text), "ProxyCommand") {
		t.Errorf("%v\n%s", err, text)
	}
}

// TestStreamGoesOn: a stream whose connection breaks is taken up again, and the session in it does not notice; an operator ends one, and it says so.
func TestStreamGoesOn(t *testing.T) {
	t.Parallel()
	way := newTap(t, shared.url)
	_, d, name, run := streamed(t, way.url)
	whole := make([]byte, 3<<20)
	_, _ = rand.Read(whole)
	stop := make(chan struct{})
	go func() {
		for len(d.streamsOf(t, name, "-open")) == 0 { // asking for it is not taken up again
			time.Sleep(20 * time.Millisecond)
		}
		for range 15 {
			select {
			case <-stop:
				return
			case <-time.After(150 * time.Millisecond):
				way.sever()
			}
		}
	}()
	if out := ran(t, run("ssh", name, "cat; sleep 1; echo; echo whole"), whole); !bytes.Equal(out, append(bytes.Clone(whole), "\nwhole\n"...)) {
		t.Errorf("%d bytes came", len(out))
	}
	close(stop)
	if n := len(d.streamsOf(t, name)); n != 1 {
		t.Errorf("%d streams", n)
	}

	held, said := heldOpen(t, run("ssh", name, "echo in; sleep 300"))
	open := d.streamsOf(t, name, "-open")
	if len(open) != 1 {
		t.Fatalf("open are %+v", open)
	}
	contains(t, "asked", d.must(t, "streams", "end", fmt.Sprint(open[0].ID)), "within some seconds")
	_ = held.Wait()
	contains(t, "what ssh said", said.String(), "an operator ended it")
	if s := d.streamsOf(t, name)[0]; s.Why != streams.Cut {
		t.Errorf("%+v", s)
	}
	contains(t, "the journal", d.must(t, "journal", "list", "-target", "instance "+name), "stream.cut", "an operator ended it")
	if r := d.client(t, "", "streams", "end", fmt.Sprint(open[0].ID)); r.code != 1 || !strings.Contains(r.err, "it has ended") {
		t.Errorf("again: %+v", r)
	}
}

// TestStreamService: the real ssh is told by a sentence when the service that carries it stops, and when it is killed; a line for a session ends by itself.
func TestStreamService(t *testing.T) {
	t.Parallel()
	s := newSlot(t, 153)
	for _, c := range []struct {
		what string
		sig  syscall.Signal
		says string
	}{
		{"stopped", syscall.SIGTERM, "the stream ended: the service was stopped"},
		{"killed", syscall.SIGKILL, "the stream ended: "},
	} {
		t.Run(c.what, func(t *testing.T) {
			r, err := s.start("", "")
			mustDo(t, err)
			defer r.end()
			home := &demo{dir: s.dir, url: r.url, token: s.token}
			home.must(t, "policy", "set", writeFile(t, strings.Replace(access.DefaultPolicy, "\nstream:\n  who: []", "\nstream:\n  who: [{operators: [first-admin]}]", 1)))
			_, d, name, run := streamedBy(t, home, r.url)
			held, said := heldOpen(t, run("ssh", name, "echo in; sleep 300"))
			if n := len(d.streamsOf(t, name, "-open")); n != 1 {
				t.Errorf("%d are open", n)
			}
			mustDo(t, r.cmd.Process.Signal(c.sig))
			_ = held.Wait()
			contains(t, "what ssh said", said.String(), c.says, "next: plumlatch open -stream "+name)
		})
	}
}

// TestStreamReplicas: behind an address that leads to each replica in turn, a stream finds the one that carries it, also after a connection broke.
func TestStreamReplicas(t *testing.T) {
	t.Parallel()
	s := newSlot(t, 154)
	var urls []string
	for range 2 {
		r, err := s.start("", "")
		mustDo(t, err)
		t.Cleanup(func() { r.end() })
		urls = append(urls, r.url)
	}
	way := newTap(t, urls...)
	home := &demo{dir: s.dir, url: urls[0], token: s.token}
	home.must(t, "policy", "set", writeFile(t, strings.Replace(access.DefaultPolicy, "\nstream:\n  who: []", "\nstream:\n  who: [{operators: [first-admin]}]", 1)))
	_, d, name, run := streamedBy(t, home, way.url)
	for _, url := range urls {
		waitFor(t, "the policy at each", func() bool {
			r := d.clientWith(t, url, d.token, "EXIT\r\n", "stream", name)
			return strings.HasPrefix(r.out, "SSH-2.0-")
		})
	}
	for n := range 4 {
		if out := ran(t, run("ssh", name, "echo", fmt.Sprint("in-", n)), nil); string(out) != fmt.Sprintf("in-%d\n", n) {
			t.Errorf("%d: %q", n, out)
		}
	}
	held := run("ssh", name, "echo in; sleep 2; echo still")
	out, err := held.StdoutPipe()
	mustDo(t, err)
	mustDo(t, held.Start())
	if _, err := io.ReadFull(out, make([]byte, 3)); err != nil {
		t.Fatal(err)
	}
	way.sever()
	rest, _ := io.ReadAll(out)
	if err := held.Wait(); err != nil || string(rest) != "still\n" {
		t.Errorf("%q %v", rest, err)
	}
}

// TestStreamRefused: who may not, and what is no instance's own server, gets no stream; nobody carries on another's.
func TestStreamRefused(t *testing.T) {
	t.Parallel()
	a, d, name, _ := streamed(t, shared.url)
	refused := func(what string, r result, says ...string) {
		t.Helper()
		if r.code != 1 || r.out != "" {
			t.Errorf("%s: status %d, %q", what, r.code, r.out)
		}
		contains(t, what, r.err, says...)
	}
	viewer := d.token2(t, "-role", "viewer")
	refused("a viewer", d.clientWith(t, d.url, viewer, "", "stream", name), "needs the role operator")
	refused("no such instance", d.client(t, "", "stream", "no-such-berth"), "no instance of this name")
	refused("another way", d.client(t, "", "stream", name, "-way", "tunnel"), "service, agent")
	refused("a reason of two lines", d.client(t, "", "stream", name, "-reason", "a\nb"), "one line")
	refused("no agent", d.client(t, "", "stream", name, "-way", "agent"), "agent")

	// Whoever knows the secret needs the token, too; whoever has the token needs the secret.
	c, err := client.New(d.url, d.token)
	mustDo(t, err)
	begun, err := c.OpenStream(t.Context(), name, wire.NewStream{})
	mustDo(t, err)
	wrong := begun
	wrong.Secret += "x"
	if err := c.Carry(t.Context(), wrong, stream.New()); err == nil || !strings.Contains(err.Error(), "no such stream") {
		t.Errorf("a wrong secret: %v", err)
	}
	other, err := client.New(d.url, d.token2(t, "-role", "operator"))
	mustDo(t, err)
	if err := other.Carry(t.Context(), begun, stream.New()); err == nil || !strings.Contains(err.Error(), "no such stream") {
		t.Errorf("another token: %v", err)
	}
	at := strings.Replace(d.url, "http", "ws", 1) + fmt.Sprintf("/api/v1/streams/%d/bytes", begun.ID)
	for what, h := range map[string]http.Header{
		"no token":       {},
		"another origin": {"Authorization": {"Bearer " + d.token}, "Origin": {"https://elsewhere.example"}},
		"a bad token":    {"Authorization": {"Bearer " + d.token + "x"}},
	} {
		conn, answer, err := websocket.Dial(t.Context(), at, &websocket.DialOptions{HTTPHeader: h})
		if err == nil || answer == nil || answer.StatusCode < 400 {
			t.Errorf("%s: %v %v", what, conn, err)
		}
	}
	if got := d.api(t, "GET", fmt.Sprintf("/api/v1/streams/%d/bytes", begun.ID), ""); got.status != 426 || !strings.Contains(got.body, "WebSocket") {
		t.Errorf("no WebSocket: %+v", got)
	}
	conn, _, err := websocket.Dial(t.Context(), at, &websocket.DialOptions{HTTPHeader: http.Header{"Authorization": {"Bearer " + d.token}}})
	mustDo(t, err)
	defer conn.CloseNow()
	_ = conn.Write(t.Context(), websocket.MessageText, make([]byte, 64<<20))
	if _, _, err := conn.Read(t.Context()); err == nil {
		t.Error("a hello of 64 MB is answered")
	}
	// It is still there for whoever opened it, and then it is over for good.
	s := stream.New()
	go func() { _ = c.Carry(t.Context(), begun, s) }()
	if b := make([]byte, 4); true {
		if _, err := io.ReadFull(s, b); err != nil || string(b) != "SSH-" {
			t.Errorf("%q %v", b, err)
		}
	}
	s.Close()
	waitFor(t, "its end", func() bool { return len(d.streamsOf(t, name, "-open")) == 0 })
	if err := c.Carry(t.Context(), begun, stream.New()); err == nil || !strings.Contains(err.Error(), "no such stream") {
		t.Errorf("over: %v", err)
	}

	// What stands at its address by now is something else: it answers HTTP, says nothing, or is another server.
	a.stop()
	l, err := net.Listen("tcp", a.at())
	mustDo(t, err)
	web := &http.Server{Handler: http.NotFoundHandler()}
	go func() { _ = web.Serve(l) }()
	refused("HTTP", d.client(t, "", "stream", name), "no way leads there")
	web.Close()
	refused("nothing", d.client(t, "", "stream", name), "no way leads there")
	if l, err = net.Listen("tcp", a.at()); err == nil {
		go func() {
			for {
				c, err := l.Accept()
				if err != nil {
					return
				}
				_, _ = c.Write([]byte("220 ready\r\n"))
				c.Close()
			}
		}()
		refused("another protocol", d.client(t, "", "stream", name), "does not speak SSH")
		l.Close()
	}
	if got := d.api(t, "POST", "/api/v1/instances/"+name+"/streams", `{"address":"127.0.0.1","port":22}`); got.status != 400 {
		t.Errorf("an address of one's own: %+v", got)
	}
}

// TestStreamHostKey: another server at an instance's address is found out before a byte goes through, as nobody has met the host key there within the hour.
func TestStreamHostKey(t *testing.T) {
	t.Parallel()
	a, other := startAdoptee(t, ""), startAdoptee(t, "")
	d := newHome(t, shared)
	name := fmt.Sprintf("stream-key-%d", a.port)
	d.must(t, a.args(name)...)
	a.stop()
	other.stop()
	other.port = a.port
	other.serve(t)
	r := d.client(t, "", "stream", name)
	if r.code != 1 || r.out != "" || !strings.Contains(r.err, "the recorded host key was not met there") {
		t.Errorf("%+v", r)
	}
	if n := len(d.streamsOf(t, name)); n != 0 {
		t.Errorf("%d streams", n)
	}
}

// TestStreamByAgent: with the instance's port shut, the agent carries the stream to its own loopback, if its owner's file lets it.
func TestStreamByAgent(t *testing.T) {
	t.Parallel()
	m := startAgentHost(t, "-o", "ListenAddress=127.0.0.7")
	d := newHome(t, shared)
	name := fmt.Sprintf("inner-stream-%d", m.port)
	d.must(t, "instance", "adopt", name, "-address", fmt.Sprintf("127.0.0.7:%d", m.port), "-user", m.user, "-identity", m.identity, "-host-key", m.args("")[len(m.args(""))-1],
		"-record", name+"-key")
	d.must(t, "instance", "agent", "install", name, "-identity", m.identity, "-verbs", "look", "-yes")
	r := d.client(t, "", "stream", name, "-way", "agent")
	if r.code != 1 || !strings.Contains(r.err, "stream is not among its verbs") {
		t.Errorf("not opened by its owner: %+v", r)
	}
	mustDo(t, os.Rename("/etc/plumlatch-agent.yaml", filepath.Join(m.dir, "aside")))
	d.must(t, "instance", "agent", "install", name, "-identity", m.identity, "-verbs", "look,stream", "-yes")
	m.options = nil // its own address is shut
	m.start()
	if c, err := net.Dial("tcp", fmt.Sprintf("127.0.0.7:%d", m.port)); err == nil {
		c.Close()
		t.Fatal("the port is open")
	}
	r = d.client(t, "", "stream", name, "-way", "service")
	if r.code != 1 || !strings.Contains(r.err, "no way leads there") {
		t.Errorf("with the port shut: %+v", r)
	}
	r = d.client(t, "", "open", name, "-identity", m.identity, "--", "echo", "$SSH_CONNECTION")
	contains(t, "open by itself", r.err, "the direct way is shut")
	if f := strings.Fields(r.out); r.code != 0 || len(f) != 4 || f[0] != "127.0.0.1" || f[2] != "127.0.0.1" || f[3] != fmt.Sprint(m.port) {
		t.Errorf("the server sees %+v", r)
	}
	if s := d.streamsOf(t, name); len(s) == 0 || s[0].Way != streams.ByAgent || s[0].SeenFrom != "127.0.0.1" {
		t.Errorf("%+v", s)
	}

	// The steward gets in there, too: a key is shared, and a pair is let in for a session from the address that the server sees.
	mate := filepath.Join(t.TempDir(), "mate")
	pairIn(t, mate)
	d.must(t, "key", "import", name+"-mate", mate+".pub")
	contains(t, "shared", d.must(t, "access", "add", name, "-key", name+"-mate", "-for", "20m", "-reason", "the port is shut"), name)
	contains(t, "by the key that was shared", d.must(t, "open", name, "-stream", "-identity", mate, "--", "id", "-un"), m.user)
	contains(t, "who", d.must(t, "who", name), "1 access with an end")
	c, err := client.New(d.url, d.token)
	mustDo(t, err)
	begun, err := c.OpenStream(t.Context(), name, wire.NewStream{Reason: "the tally", Way: streams.ByAgent})
	mustDo(t, err)
	pair, err := keypair.Create(keypair.Ed25519, "x")
	mustDo(t, err)
	var w wire.Work
	mustDo(t, json.Unmarshal([]byte(d.api(t, "POST", fmt.Sprintf("/api/v1/streams/%d/key", begun.ID), mustJSON(t, wire.SessionKey{PublicKey: pair.Public.Line()})).body), &w))
	waitFor(t, "the pair to be let in", func() bool { w = d.workByID(t, w.ID); return w.Over() || w.StepName == "end" })
	if text := m.now(t); w.Over() || !strings.Contains(text, `from="127.0.0.1/32"`) {
		t.Fatalf("%+v: %s", w, text)
	}
	carried := stream.New()
	go func() { _ = c.Carry(t.Context(), begun, carried) }()
	signer, err := pair.Signer()
	mustDo(t, err)
	record := d.instance(t, name).HostKeys[0].PublicKey
	pinned, err := keypair.ReadPublic([]byte(record))
	mustDo(t, err)
	in, err := page.Open(t.Context(), carried, page.Options{User: m.user, Signer: signer, HostKeys: [][]byte{pinned.Blob}, Limit: time.Minute})
	if err != nil {
		t.Fatalf("the pair does not open it: %v", err)
	}
	in.Close()
	carried.Close()

	whole := make([]byte, 5<<20)
	_, _ = rand.Read(whole)
	file := filepath.Join(t.TempDir(), "whole")
	mustDo(t, os.WriteFile(file, whole, 0o600))
	r = d.client(t, string(whole), "open", name, "-stream", "-identity", m.identity, "--", "sha256sum")
	out, err := exec.Command("sha256sum", file).Output()
	if err != nil || r.code != 0 || strings.Fields(r.out)[0] != strings.Fields(string(out))[0] {
		t.Errorf("%v %+v", err, r)
	}
	m.stop()
	r = d.client(t, "", "stream", name)
	if r.code != 1 || !strings.Contains(r.err, "no SSH server runs there") {
		t.Errorf("without a server: %+v", r)
	}
}

package standin

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"log/slog"
	"net"
	"net/http"
	"net/netip"
	"os"
	"path"
	"slices"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"time"

	"golang.org/x/crypto/ssh"

	"plumlatch/core/authkeys"
	"plumlatch/standin/tree"
)

// server is the SSH server of one running instance.
type server struct {
	in       Instance
	image    Image
	root     *os.Root
	hostKey  ssh.Signer
	listener net.Listener
	log      *slog.Logger
	now      func() time.Time
	door     string
	admitted atomic.Pointer[[]netip.Prefix] // by the inbound rules
	banned   penalties
	odds     odds
	cloud    *Cloud
	tree     *tree.Tree // the root volume, and what is mounted on it
	web      *http.Server
	disk     string             // the folder of the root volume
	endAgent context.CancelFunc // nil without an agent

	mu    sync.Mutex
	conns map[net.Conn]bool
	done  bool
	wg    sync.WaitGroup
}

// maxAuthTries is OpenSSH's MaxAuthTries.
const maxAuthTries = 6

// listen starts the SSH server of an instance over its root volume.
func listen(c *Cloud, disk string, in Instance, image Image, door string) (*server, error) {
	o := c.opts
	root, err := os.OpenRoot(disk)
	if err != nil {
		return nil, err
	}
	s := &server{in: in, image: image, root: root, log: o.Log.With("instance", in.ID), door: door,
		conns: map[net.Conn]bool{}, cloud: c, tree: tree.New(root), disk: disk}
	s.now = func() time.Time { return o.Now().Add(s.odds.ahead()) }
	s.admitted.Store(&[]netip.Prefix{})
	key, err := root.ReadFile(hostKeyFile)
	if err != nil {
		root.Close()
		return nil, err
	}
	signer, err := ssh.ParsePrivateKey(key)
	if err != nil {
		root.Close()
		return nil, fmt.Errorf("host key: it cannot be read") // the cause could quote it
	}
	s.hostKey = signer
	if err := s.serveWeb(); err != nil {
		root.Close()
		return nil, err
	}
	s.runAgent() // it needs no port
	if door == DoorClosed {
		return s, nil
	}
	// A program that is just being started holds whatever was open for a moment longer.
	for tries := 0; tries == 0 || errors.Is(err, syscall.EADDRINUSE) && tries < 20; tries++ {
		if tries > 0 {
			time.Sleep(50 * time.Millisecond)
		}
		s.listener, err = net.Listen("tcp4", net.JoinHostPort(in.Address, strconv.Itoa(in.Port)))
	}
	if err != nil {
		return nil, errors.Join(fmt.Errorf("SSH server: %w; is another stand-in using this block? (NET= moves it)", err), s.Close())
	}
	s.wg.Go(s.accept)
	return s, nil
}

// Close ends the server and every connection to it, and returns when they are gone.
func (s *server) Close() error {
	s.mu.Lock()
	s.done = true
	if s.listener != nil {
		s.listener.Close()
	}
	for c := range s.conns {
		c.Close()
	}
	s.mu.Unlock()
	if s.web != nil {
		s.web.Close()
	}
	if s.endAgent != nil {
		s.endAgent()
	}
	s.wg.Wait()
	for _, m := range s.tree.Mounts() {
		m.Root.Close()
	}
	return s.root.Close()
}

// servicePort is where the service of an image answers, and serviceEnabled the
// file by which it is started at each boot; at the first boot it is there anyway.
const (
	servicePort    = 7080
	serviceEnabled = "etc/board-service/enabled"
	serviceSeen    = "var/lib/board-service/began"
)

// serveWeb starts the service of an image that has one.
func (s *server) serveWeb() error {
	if !s.image.Service {
		return nil
	}
	there := func(name string) bool { _, err := s.root.Stat(name); return err == nil }
	if there(serviceSeen) && !there(serviceEnabled) {
		return nil // nobody enabled it at boot
	}
	if !there(serviceSeen) {
		if err := errors.Join(s.root.MkdirAll(path.Dir(serviceSeen), 0o755),
			s.root.WriteFile(serviceSeen, nil, 0o644)); err != nil {
			return err
		}
	}
	l, err := net.Listen("tcp4", net.JoinHostPort(s.in.Address, strconv.Itoa(servicePort)))
	if err != nil {
		return err
	}
	s.web = &http.Server{ReadHeaderTimeout: 5 * time.Second,
		Handler: http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			if r.URL.Path != "/health" && r.URL.Path != "/" {
				http.NotFound(w, r)
				return
			}
			fmt.Fprintf(w, "%s: in order\n", s.in.Name)
		})}
	go func() { _ = s.web.Serve(l) }()
	return nil
}

// enable starts the service of an image that has one, and enables it at boot.
func (s *server) enable(unit string) error {
	if !s.image.Service || strings.TrimSuffix(unit, ".service") != "board-service" {
		return fmt.Errorf("unit file %s does not exist", unit)
	}
	err := errors.Join(s.root.MkdirAll(path.Dir(serviceEnabled), 0o755), s.root.WriteFile(serviceEnabled, nil, 0o644))
	s.mu.Lock()
	if err == nil && s.web == nil && !s.done {
		err = s.serveWeb()
	}
	s.mu.Unlock() // the cloud closes servers while it holds its own lock
	s.cloud.mu.Lock()
	defer s.cloud.mu.Unlock()
	in := s.cloud.instances[s.in.ID]
	if err != nil || in == nil {
		return err
	}
	return s.cloud.showUnits(in)
}

func (s *server) accept() {
	for {
		conn, err := s.listener.Accept()
		if err != nil {
			return
		}
		s.mu.Lock()
		if s.done {
			s.mu.Unlock()
			conn.Close()
			return
		}
		s.conns[conn] = true
		s.mu.Unlock()
		s.wg.Go(func() {
			defer func() {
				conn.Close()
				s.mu.Lock()
				delete(s.conns, conn)
				s.mu.Unlock()
			}()
			s.handle(conn)
		})
	}
}

// loginGrace is OpenSSH's LoginGraceTime.
const loginGrace = 2 * time.Minute

func (s *server) handle(conn net.Conn) {
	_ = conn.SetDeadline(time.Now().Add(loginGrace))
	from := remote(conn)
	if !s.admits(from) || s.door == DoorSilent {
		_, _ = io.Copy(io.Discard, conn) // a firewall: nothing is said, and nothing reset
		return
	}
	if s.door == DoorOther {
		_, _ = conn.Write([]byte("HTTP/1.1 400 Bad Request\r\nContent-Length: 0\r\n\r\n"))
		return
	}
	penal := s.settings()["persourcepenalties"] == "yes"
	if penal && s.banned.turnsAway(from.String(), s.now()) {
		_, _ = conn.Write([]byte(penaltyWords))
		return
	}
	sc, channels, requests, err := ssh.NewServerConn(quick(conn), s.configure())
	if err != nil {
		if penal {
			s.banned.failed(from.String(), s.now())
		}
		return
	}
	_ = conn.SetDeadline(time.Time{})
	s.logLogin(sc)
	defer sc.Close()
	go ssh.DiscardRequests(requests)
	var wg sync.WaitGroup
	for ch := range channels {
		if ch.ChannelType() != "session" {
			_ = ch.Reject(ssh.Prohibited, "the stand-in opens sessions only")
			continue
		}
		wg.Go(func() { s.session(sc, ch) })
	}
	wg.Wait()
}

// quickConn acknowledges at once what it reads: the OpenSSH client waits 40 ms
// for a delayed acknowledgement otherwise.
type quickConn struct {
	net.Conn
	raw syscall.RawConn
}

func quick(c net.Conn) net.Conn {
	t, ok := c.(*net.TCPConn)
	if !ok {
		return c
	}
	raw, err := t.SyscallConn()
	if err != nil {
		return c
	}
	return &quickConn{c, raw}
}

func (q *quickConn) Read(p []byte) (int, error) {
	n, err := q.Conn.Read(p)
	_ = q.raw.Control(func(fd uintptr) {
		_ = syscall.SetsockoptInt(int(fd), syscall.IPPROTO_TCP, syscall.TCP_QUICKACK, 1)
	})
	return n, err
}

// Extensions of ssh.Permissions by which authorize tells session what it found.
const (
	extCommand = "command"
	extNoPTY   = "no-pty"
	extPrint   = "fingerprint" // with the key's type, as the log has it
)

var errRefused = errors.New("refused")

// authorize is asked for each public key, before any signature (RFC 4252
// section 7), and decides as sshd does with PAM and StrictModes on.
func (s *server) authorize(c ssh.ConnMetadata, key ssh.PublicKey) (*ssh.Permissions, error) {
	if !slices.Contains(s.image.KeyTypes, key.Type()) {
		return nil, errRefused
	}
	user, ok := s.lookup(c.User())
	if !ok {
		return nil, errRefused
	}
	host := c.RemoteAddr().String()
	if a, err := netip.ParseAddrPort(host); err == nil {
		host = a.Addr().Unmap().String()
	}
	for _, name := range []string{".ssh/authorized_keys", ".ssh/authorized_keys2"} {
		file, err := s.readStrictly(user, name)
		if err != nil {
			continue
		}
		d := authkeys.Decide(authkeys.Parse(file, time.UTC), key.Marshal(), host, s.now())
		if !d.Allowed {
			continue
		}
		p := &ssh.Permissions{Extensions: map[string]string{extPrint: logType(key.Type()) + " " + ssh.FingerprintSHA256(key)}}
		if d.Line.Options.HasCommand {
			p.Extensions[extCommand] = d.Line.Options.Command
		}
		if d.Line.Options.NoPTY {
			p.Extensions[extNoPTY] = "yes"
		}
		return p, nil
	}
	return nil, errRefused
}

// admits tells whether the inbound rules let an address in. They stand before the machine: what is on it already they do not see.
func (s *server) admits(from netip.Addr) bool {
	if from.String() == s.in.Address {
		return true
	}
	return slices.ContainsFunc(*s.admitted.Load(), func(p netip.Prefix) bool { return p.Contains(from) })
}

func remote(conn net.Conn) netip.Addr {
	a, err := netip.ParseAddrPort(conn.RemoteAddr().String())
	if err != nil {
		return netip.Addr{}
	}
	return a.Addr().Unmap()
}

type account struct {
	name  string
	uid   int
	home  string // below the root, without a leading slash
	shell string
}

func (s *server) lookup(name string) (account, bool) {
	passwd, err := s.root.ReadFile("etc/passwd")
	if err != nil {
		return account{}, false
	}
	for line := range bytes.Lines(passwd) {
		f := strings.Split(strings.TrimSpace(string(line)), ":")
		if len(f) == 7 && f[0] == name {
			uid, err := strconv.Atoi(f[2])
			return account{name: name, uid: uid, home: strings.TrimPrefix(path.Clean(f[5]), "/"), shell: f[6]},
				err == nil
		}
	}
	return account{}, false
}

var errModes = errors.New("ownership or modes are bad")

// readStrictly reads a file below a home as sshd with StrictModes does
// (auth_secure_path): a regular file, and no part of the way from it up to the
// home writable by group or others. Every file of the disk counts as owned by
// whom it should be: on a stand-in there is one real owner only.
func (s *server) readStrictly(user account, name string) ([]byte, error) {
	full := path.Join(user.home, name)
	forbidden := fs.FileMode(0o022)
	if s.image.PrivateGroups {
		forbidden = 0o002
	}
	fi, err := s.root.Stat(full)
	if err != nil {
		return nil, err
	}
	if !fi.Mode().IsRegular() || fi.Mode().Perm()&forbidden != 0 || fi.Mode().Perm()&0o400 == 0 && user.uid != 0 {
		return nil, errModes
	}
	for dir := path.Dir(full); ; dir = path.Dir(dir) {
		fi, err := s.root.Stat(dir)
		if err != nil {
			return nil, err
		}
		if !fi.IsDir() || fi.Mode().Perm()&forbidden != 0 || fi.Mode().Perm()&0o100 == 0 && user.uid != 0 {
			return nil, errModes
		}
		if dir == user.home || dir == "." {
			break
		}
	}
	return s.root.ReadFile(full)
}

// logType is a key's type as OpenSSH's server logs it.
func logType(t string) string {
	switch {
	case t == ssh.KeyAlgoRSA:
		return "RSA"
	case strings.HasPrefix(t, "ecdsa-"):
		return "ECDSA"
	case strings.HasPrefix(t, "sk-ecdsa-"):
		return "ECDSA-SK"
	case strings.HasPrefix(t, "sk-"):
		return "ED25519-SK"
	}
	return "ED25519"
}

package e2e

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"net/netip"
	"net/url"
	"os"
	"path/filepath"
	"runtime"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"plumlatch/console"
	"plumlatch/reach"
	"plumlatch/service"
	"plumlatch/service/atrest"
	"plumlatch/service/cloud"
	"plumlatch/service/cloud/standin"
	entry "plumlatch/service/door"
	"plumlatch/service/kinds"
	"plumlatch/service/store"
)

// A replica within the test is the service itself, with its halts as a field, and no process
// of its own: every case of the harness can run in minutes. What only a process shows, that
// nothing of it is left after SIGKILL, a sample of the harness shows besides.

// withinLease is how long its claims last: another takes over after that.
const withinLease = 1500 * time.Millisecond

// locked is a buffer that many write to.
type locked struct {
	mu sync.Mutex
	b  bytes.Buffer
}

func (l *locked) Write(p []byte) (int, error) {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.b.Write(p)
}

func (l *locked) String() string {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.b.String()
}

// breakable is a listener whose connections can be broken all at once, as by the end of a process.
type breakable struct {
	net.Listener
	mu   sync.Mutex
	all  []net.Conn
	shut bool
}

func (d *breakable) Accept() (net.Conn, error) {
	c, err := d.Listener.Accept()
	if err == nil {
		d.mu.Lock()
		defer d.mu.Unlock()
		d.all = append(d.all, c)
		if d.shut {
			c.Close()
		}
	}
	return c, err
}

func (d *breakable) end() {
	d.mu.Lock()
	defer d.mu.Unlock()
	d.shut = true
	d.Listener.Close()
	for _, c := range d.all {
		c.Close()
	}
}

// gate leads to the database, and lets nothing through while its replica is stopped.
type gate struct {
	breakable
	to   string
	mu   sync.Mutex
	open *sync.Cond
	held bool
}

func newGate(to string) (*gate, error) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return nil, err
	}
	g := &gate{breakable: breakable{Listener: l}, to: to}
	g.open = sync.NewCond(&g.mu)
	go func() {
		for {
			in, err := g.Accept()
			if err != nil {
				return
			}
			go func() {
				defer in.Close()
				out, err := net.Dial("tcp", g.to)
				if err != nil {
					return
				}
				defer out.Close()
				go g.copy(out, in)
				g.copy(in, out)
			}()
		}
	}()
	return g, nil
}

func (g *gate) copy(to, from net.Conn) {
	defer to.Close()
	buf := make([]byte, 16<<10)
	for {
		n, err := from.Read(buf)
		g.mu.Lock()
		for g.held {
			g.open.Wait()
		}
		g.mu.Unlock()
		if n > 0 {
			if _, err := to.Write(buf[:n]); err != nil {
				return
			}
		}
		if err != nil {
			return
		}
	}
}

func (g *gate) hold(on bool) {
	g.mu.Lock()
	defer g.mu.Unlock()
	g.held = on
	g.open.Broadcast()
}

// startWithin starts a replica within the test, which is killed or stopped at a point.
func (s *slot) startWithin(point, how string) (_ *replica, err error) {
	r := &replica{log: &locked{}, at: make(chan struct{}), on: make(chan struct{})}
	address := s.database
	if how == "stop" {
		u, err := url.Parse(s.database)
		if err != nil {
			return nil, err
		}
		if r.gate, err = newGate(u.Host); err != nil {
			return nil, err
		}
		u.Host = r.gate.Addr().String()
		address = u.String()
	}
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return nil, err
	}
	listener := &breakable{Listener: l}
	r.url = "http://" + l.Addr().String()
	log := slog.New(slog.NewTextHandler(r.log, nil))
	ctx := context.Background()
	db, err := store.Open(ctx, address, "", 4, log)
	if err != nil {
		return nil, err
	}
	cipher, err := service.OpenCipher(ctx, db, filepath.Join(s.dir, "identity.txt"))
	if err != nil {
		return nil, errors.Join(err, db.Close())
	}
	heads, err := atrest.OpenHeads(filepath.Join(s.dir, "identity.txt.journal"))
	if err != nil {
		return nil, errors.Join(err, db.Close())
	}
	token, err := os.ReadFile(s.cloud.path("standin-token"))
	if err != nil {
		return nil, errors.Join(err, db.Close())
	}
	var once sync.Once
	source, _ := netip.ParseAddr(s.from) // the zero value leaves it to the system
	w := kinds.New(&entry.Service{
		Store: db, Clouds: cloud.One(standin.New(fmt.Sprintf("http://127.0.0.1:%d", s.cloud.port+1),
			strings.TrimSpace(string(token)))),
		Reach:  reach.Policy{AllowLoopback: true, Source: source, Budget: &reach.Budget{}, Dialed: new(atomic.Int64)},
		Cipher: cipher, Heads: heads, Log: log, Lease: withinLease, StateLimit: s.stateLimit(), FollowEvery: -1,
		Halt: func(at string) {
			first := false
			if at == point {
				once.Do(func() { first = true })
			}
			if !first {
				return
			}
			if how == "kill" {
				_ = db.Close()
				listener.end()
				close(r.at)
				runtime.Goexit()
			}
			r.gate.hold(true)
			close(r.at)
			<-r.on
		},
	}, 0)
	svc, err := service.Start(ctx, w, listener,
		service.Options{Console: console.Files(), Listen: l.Addr().String(),
			Hosts: []string{s.front.listener.Addr().String()}})
	if err != nil {
		return nil, errors.Join(err, db.Close())
	}
	r.close = func() {
		listener.end()
		_ = svc.Close()
	}
	return r, nil
}

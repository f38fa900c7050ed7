package reach

import (
	"bytes"
	"context"
	"crypto/ed25519"
	"crypto/rand"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"net"
	"runtime"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"golang.org/x/crypto/ssh"

	"plumlatch/core/keypair"
)

// A server that does every step of the protocols wrong, late, endless or not at
// all. It is written over x/crypto/ssh where that lets it misbehave, and over the
// bytes of SFTP (draft-ietf-secsh-filexfer-02) below that.

type hostile struct {
	how      string
	host     ssh.Signer
	listener net.Listener
	stall    atomic.Bool // nothing is read or answered any more
	sent     atomic.Int64
	wg       sync.WaitGroup
}

// stalling stops a connection in the middle: what is open stays open.
type stalling struct {
	net.Conn
	h *hostile
}

func (s stalling) Read(p []byte) (int, error) {
	for s.h.stall.Load() {
		if _, err := s.Conn.Write(nil); err != nil {
			return 0, err
		}
		time.Sleep(5 * time.Millisecond)
	}
	n, err := s.Conn.Read(p)
	if s.h.stall.Load() {
		return 0, io.ErrNoProgress
	}
	return n, err
}

func (s stalling) Write(p []byte) (int, error) {
	if s.h.stall.Load() {
		return len(p), nil
	}
	n, err := s.Conn.Write(p)
	s.h.sent.Add(int64(n))
	return n, err
}

func startHostile(t *testing.T, how string) (*hostile, Target, ssh.Signer) {
	t.Helper()
	signer := func() ssh.Signer {
		_, key, err := ed25519.GenerateKey(rand.Reader)
		if err != nil {
			t.Fatal(err)
		}
		s, err := ssh.NewSignerFromKey(key)
		if err != nil {
			t.Fatal(err)
		}
		return s
	}
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	h := &hostile{how: how, host: signer(), listener: l}
	ctx, cancel := context.WithCancel(context.Background())
	h.wg.Add(1)
	go func() {
		defer h.wg.Done()
		for {
			conn, err := l.Accept()
			if err != nil {
				return
			}
			h.wg.Add(1)
			go func() {
				defer h.wg.Done()
				stop := context.AfterFunc(ctx, func() { conn.Close() })
				defer stop()
				defer conn.Close()
				h.serve(ctx, conn)
			}()
		}
	}()
	t.Cleanup(func() { l.Close(); cancel(); h.wg.Wait() })
	return h, Target{Address: "127.0.0.1", Port: l.Addr().(*net.TCPAddr).Port, User: "debian",
		HostKeys: [][]byte{h.host.PublicKey().Marshal()}}, signer()
}

func (h *hostile) serve(ctx context.Context, conn net.Conn) {
	forever := func() {
		for ctx.Err() == nil {
			if _, err := conn.Read(make([]byte, 1)); err != nil {
				return
			}
		}
	}
	flood := func(what string) {
		data := bytes.Repeat([]byte(what), 1000)
		for ctx.Err() == nil {
			n, err := conn.Write(data)
			h.sent.Add(int64(n))
			if err != nil {
				return
			}
		}
	}
	switch h.how {
	case "says nothing":
		forever()
		return
	case "lines before its version without end":
		flood("notice to all\r\n")
		return
	case "a version without end":
		flood("SSH-2.0-x")
		return
	case "garbage after its version":
		fmt.Fprintf(conn, "SSH-2.0-x\r\n")
		flood("\xff\x00garbage")
		return
	case "stops after its version":
		fmt.Fprintf(conn, "SSH-2.0-x\r\n")
		forever()
		return
	}
	config := &ssh.ServerConfig{PublicKeyCallback: func(ssh.ConnMetadata, ssh.PublicKey) (*ssh.Permissions, error) {
		if h.how == "stops at the login" {
			h.stall.Store(true)
		}
		return nil, nil
	}}
	if h.how == "a banner of 200 KB" {
		config.BannerCallback = func(ssh.ConnMetadata) string { return strings.Repeat("welcome \r\n", 20_000) }
	}
	config.AddHostKey(h.host)
	c, channels, requests, err := ssh.NewServerConn(stalling{conn, h}, config)
	if err != nil {
		return
	}
	go ssh.DiscardRequests(requests)
	if h.how == "requests without end" {
		go func() {
			for ctx.Err() == nil {
				if _, _, err := c.SendRequest("x@hostile", false, make([]byte, 20_000)); err != nil {
					return
				}
			}
		}()
	}
	for n := range channels {
		switch h.how {
		case "a channel is never opened":
			continue
		case "a channel is refused":
			_ = n.Reject(ssh.Prohibited, strings.Repeat("no\x1b[2J", 1000))
			continue
		}
		ch, requests, err := n.Accept()
		if err != nil {
			return
		}
		go h.channel(ctx, ch, requests)
	}
}

func (h *hostile) channel(ctx context.Context, ch ssh.Channel, requests <-chan *ssh.Request) {
	for r := range requests {
		if h.how == "a request is never answered" {
			continue
		}
		if h.how == "a request is refused" {
			_ = r.Reply(false, nil)
			continue
		}
		_ = r.Reply(true, nil)
		switch r.Type {
		case "subsystem":
			go h.sftp(ctx, ch)
		case "exec":
			go func() {
				switch h.how {
				case "a command never ends":
				case "a command prints without end":
					for ctx.Err() == nil {
						if _, err := ch.Write(make([]byte, 32<<10)); err != nil {
							return
						}
					}
				case "a command ends and its channel is never closed":
					_, _ = ch.SendRequest("exit-status", false, []byte{0, 0, 0, 0})
					_ = ch.CloseWrite()
				default:
					_, _ = ch.SendRequest("exit-status", false, []byte{0, 0, 0, 0})
					_ = ch.Close()
				}
			}()
		}
	}
}

// Packets of SFTP version 3.
const (
	fxpInit, fxpVersion, fxpOpen, fxpClose, fxpRead, fxpLstat, fxpStat = 1, 2, 3, 4, 5, 7, 17
	fxpOpendir, fxpReaddir, fxpRealpath                                = 11, 12, 16
	fxpStatus, fxpHandle, fxpData, fxpName, fxpAttrs                   = 101, 102, 103, 104, 105
)

func str(s string) []byte {
	return append(binary.BigEndian.AppendUint32(nil, uint32(len(s))), s...)
}

func packet(typ byte, id uint32, body ...[]byte) []byte {
	p := binary.BigEndian.AppendUint32([]byte{typ}, id)
	for _, b := range body {
		p = append(p, b...)
	}
	return append(binary.BigEndian.AppendUint32(nil, uint32(len(p))), p...)
}

var (
	attrsFolder = append(binary.BigEndian.AppendUint32(nil, 4), 0, 0, 0x41, 0xed) // permissions alone
	attrsFile   = append(binary.BigEndian.AppendUint32(nil, 4), 0, 0, 0x81, 0xa4)
)

func (h *hostile) sftp(ctx context.Context, ch ssh.Channel) {
	names := 0
	for {
		head := make([]byte, 5)
		if _, err := io.ReadFull(ch, head); err != nil {
			return
		}
		body := make([]byte, min(binary.BigEndian.Uint32(head)-1, 1<<20))
		if _, err := io.ReadFull(ch, body); err != nil {
			return
		}
		id := uint32(0)
		if len(body) >= 4 {
			id = binary.BigEndian.Uint32(body)
		}
		typ := head[4]
		var out []byte
		switch typ {
		case fxpInit:
			v := append([]byte{fxpVersion, 0, 0, 0, 3}, append(str("posix-rename@openssh.com"), str("1")...)...)
			v = append(v, append(str("fsync@openssh.com"), str("1")...)...)
			out = append(binary.BigEndian.AppendUint32(nil, uint32(len(v))), v...)
		case fxpLstat, fxpStat:
			out = packet(fxpAttrs, id, attrsFile)
		case fxpRealpath:
			out = packet(fxpName, id, []byte{0, 0, 0, 1}, str("/home/debian"), str("x"), attrsFolder)
		case fxpOpen, fxpOpendir:
			out = packet(fxpHandle, id, str("h"))
		case fxpClose:
			out = packet(fxpStatus, id, []byte{0, 0, 0, 0}, str(""), str(""))
		case fxpReaddir:
			names++
			out = packet(fxpStatus, id, []byte{0, 0, 0, 1}, str("end"), str(""))
			if h.how == "a folder without end" {
				var entries []byte
				for n := range 400 {
					name := fmt.Sprintf("f%d-%d", names, n)
					entries = append(append(append(entries, str(name)...), str(name)...), attrsFile...)
				}
				out = packet(fxpName, id, binary.BigEndian.AppendUint32(nil, 400), entries)
			}
		case fxpRead:
			out = packet(fxpStatus, id, []byte{0, 0, 0, 1}, str("end"), str(""))
			if h.how == "a file without end" {
				out = packet(fxpData, id, str(strings.Repeat("# a line\n", 3000)))
			}
		default:
			out = packet(fxpStatus, id, []byte{0, 0, 0, 0}, str(""), str(""))
		}
		switch {
		case h.how == "SFTP never begins" && typ == fxpInit,
			h.how == "an operation is never answered" && typ != fxpInit,
			h.how == "reading is never answered" && typ == fxpRead,
			h.how == "closing is never answered" && typ == fxpClose:
			continue
		case h.how == "a packet of 4 GB" && typ != fxpInit:
			out = []byte{0xff, 0xff, 0xff, 0xff, fxpStatus, 0, 0, 0, 0}
		case h.how == "another answer than was asked for" && typ != fxpInit:
			out = packet(fxpHandle, id, str("h"))
		case h.how == "the answer to another request" && typ != fxpInit:
			out = packet(fxpStatus, id+1000, []byte{0, 0, 0, 0}, str(""), str(""))
		case h.how == "half a packet" && typ != fxpInit:
			out = out[:len(out)/2]
		case h.how == "bytes one by one" && typ != fxpInit:
			for _, b := range out {
				if _, err := ch.Write([]byte{b}); err != nil {
					return
				}
				select {
				case <-ctx.Done():
					return
				case <-time.After(200 * time.Millisecond):
				}
			}
			continue
		case h.how == "stops in the middle" && typ != fxpInit:
			h.stall.Store(true)
		}
		if _, err := ch.Write(out); err != nil {
			return
		}
	}
}

// ways are the ways in which the server is hostile, before and after a login.
var ways = []string{
	"says nothing", "lines before its version without end", "a version without end", "garbage after its version",
	"stops after its version", "stops at the login", "a banner of 200 KB",
	"requests without end", "a channel is never opened", "a channel is refused", "a request is never answered",
	"a request is refused",
	"SFTP never begins", "an operation is never answered", "reading is never answered", "closing is never answered",
	"a packet of 4 GB", "another answer than was asked for", "the answer to another request",
	"half a packet", "bytes one by one", "stops in the middle", "a folder without end", "a file without end",
	"a command never ends", "a command prints without end", "a command ends and its channel is never closed",
}

// TestHostile does what the service does with an instance, against each way: it
// comes back within its limits, or within a second of being cancelled, has read no
// more than its budget, and leaves no goroutine and no memory behind.
func TestHostile(t *testing.T) {
	for _, limit := range []*time.Duration{&opLimit, &enterTimeout, &probeTimeout, &lookLimit, &rescueLimit} {
		before := *limit
		*limit = 500 * time.Millisecond
		t.Cleanup(func() { *limit = before })
	}
	p := Policy{AllowLoopback: true}
	use := func(ctx context.Context, target Target, signer ssh.Signer) []error {
		var all []error
		keep := func(err error) { all = append(all, err) }
		pair, err := keypair.Create(keypair.Ed25519, "")
		keep(err)
		probe := Probe(ctx, p, target, [][]byte{pair.Public.Blob}, time.Now)
		keep(errors.New(string(probe[0].Answer)))
		_, _, err = Methods(ctx, p, target)
		keep(err)
		_, err = HostKey(ctx, p, target, "")
		keep(err)
		files, end, err := SFTP(ctx, p, target, signer)
		keep(err)
		if err == nil {
			names, _, err := files.ReadDir(".ssh", 100)
			keep(err)
			if len(names) > 100 {
				keep(fmt.Errorf("%d names", len(names)))
			}
			keep(SurveyKeys(ctx, files, "a", func(FileInfo, []byte) {}))
			_, err = ReadKeys(files, "a")
			keep(err)
			_, err = AddLine(files, "a", pair.Public.Line(), time.Now())
			keep(err)
			keep(end.Close())
		}
		rescue, err := EnterRescue(ctx, p, target, signer)
		keep(err)
		if err == nil {
			_, err = rescue.Disks(ctx)
			keep(err)
			keep(rescue.Close())
		}
		client, _, err := Enter(ctx, p, target, signer)
		keep(err)
		if err == nil {
			_, err := Inspect(ctx, client, "debian", "")
			keep(err)
			keep(client.Close())
		}
		return all
	}
	for _, how := range ways {
		t.Run(how, func(t *testing.T) {
			h, target, signer := startHostile(t, how)
			runtime.GC()
			var before, after runtime.MemStats
			runtime.ReadMemStats(&before)
			goroutines := runtime.NumGoroutine()
			done := make(chan []error, 1)
			go func() { done <- use(t.Context(), target, signer) }()
			select {
			case <-done:
			case <-time.After(60 * time.Second):
				buf := make([]byte, 1<<20)
				t.Fatalf("it hangs:\n%s", buf[:runtime.Stack(buf, true)])
			}
			h.stall.Store(false)
			// Cancelled in the middle, everything ends within a second.
			ctx, cancel := context.WithCancel(t.Context())
			go func() { done <- use(ctx, target, signer) }()
			time.Sleep(300 * time.Millisecond)
			cancel()
			select {
			case <-done:
			case <-time.After(5 * time.Second): // a second, on a machine that does much else
				t.Error("cancelling did not end it")
			}
			for n := 0; runtime.NumGoroutine() > goroutines+8 && n < 200; n++ { // the server's own are its tests'
				time.Sleep(20 * time.Millisecond)
			}
			if now := runtime.NumGoroutine(); now > goroutines+8 {
				buf := make([]byte, 1<<20)
				t.Errorf("%d goroutines before, %d after:\n%s", goroutines, now, buf[:runtime.Stack(buf, true)])
			}
			runtime.GC()
			runtime.ReadMemStats(&after)
			if grown := int64(after.HeapAlloc) - int64(before.HeapAlloc); grown > 24<<20 {
				t.Errorf("%d bytes are held", grown)
			}
			// What a flood sends stands in the sockets' own buffers too, for each connection.
			most := int64(128 << 20)
			if how == "requests without end" { // which nothing ends but the budget of bytes
				most = 32 << 20
			}
			sent, total := h.sent.Load(), int64(after.TotalAlloc-before.TotalAlloc)
			if sent > most || total > 3*most {
				t.Errorf("%d MiB were sent, %d MiB of memory taken on the way", sent>>20, total>>20)
			}
		})
	}
}

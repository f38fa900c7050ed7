package e2e

import (
	"encoding/binary"
	"fmt"
	"io"
	"net"
	"os"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"sync"
	"testing"
	"time"

	"golang.org/x/crypto/ssh"
)

// hostileInstance is an SSH server with an instance's own host key, which lets
// everybody in and then misbehaves. service/reach has every way of that; here the
// whole service meets some.
func hostileInstance(t *testing.T, hostKey []byte, how string) int {
	t.Helper()
	host, err := ssh.ParsePrivateKey(hostKey)
	mustDo(t, err)
	l, err := net.Listen("tcp", "127.0.0.1:0")
	mustDo(t, err)
	var mu sync.Mutex
	var open []net.Conn
	t.Cleanup(func() {
		l.Close()
		mu.Lock()
		defer mu.Unlock()
		for _, c := range open {
			c.Close()
		}
	})
	config := &ssh.ServerConfig{PublicKeyCallback: func(_ ssh.ConnMetadata, key ssh.PublicKey) (*ssh.Permissions,
		error) {
		return nil, nil
	}}
	config.AddHostKey(host)
	go func() {
		for {
			conn, err := l.Accept()
			if err != nil {
				return
			}
			mu.Lock()
			open = append(open, conn)
			mu.Unlock()
			go func() {
				defer conn.Close()
				c, channels, requests, err := ssh.NewServerConn(conn, config)
				if err != nil {
					return
				}
				go ssh.DiscardRequests(requests)
				if how == "requests without end" {
					go func() {
						for {
							if _, _, err := c.SendRequest("x@hostile", false, make([]byte, 30_000)); err != nil {
								return
							}
						}
					}()
				}
				for n := range channels {
					if how == "a channel is never opened" {
						continue
					}
					ch, requests, err := n.Accept()
					if err != nil {
						return
					}
					go func() {
						for r := range requests {
							if how == "a request is never answered" {
								continue
							}
							_ = r.Reply(true, nil)
							if r.Type == "subsystem" {
								go hostileSFTP(ch, how)
							}
						}
					}()
				}
			}()
		}
	}()
	return l.Addr().(*net.TCPAddr).Port
}

func hostileSFTP(ch ssh.Channel, how string) {
	text := func(s string) []byte {
		return append(binary.BigEndian.AppendUint32(nil, uint32(len(s))), s...)
	}
	send := func(parts ...[]byte) bool {
		var p []byte
		for _, b := range parts {
			p = append(p, b...)
		}
		_, err := ch.Write(append(binary.BigEndian.AppendUint32(nil, uint32(len(p))), p...))
		return err == nil
	}
	file := []byte{0, 0, 0, 4, 0, 0, 0x81, 0xa4}
	for n := 0; ; n++ {
		head := make([]byte, 5)
		if _, err := io.ReadFull(ch, head); err != nil {
			return
		}
		body := make([]byte, min(binary.BigEndian.Uint32(head)-1, 1<<20))
		if _, err := io.ReadFull(ch, body); err != nil {
			return
		}
		id := body[:min(4, len(body))]
		ok := true
		switch head[4] {
		case 1:
			ok = send([]byte{2, 0, 0, 0, 3}, text("posix-rename@openssh.com"), text("1"),
				text("fsync@openssh.com"), text("1"))
		case 7, 17:
			ok = send([]byte{105}, id, file)
		case 16:
			ok = send([]byte{104}, id, []byte{0, 0, 0, 1}, text("/home/debian"), text("x"), file)
		case 3, 11:
			ok = send([]byte{102}, id, text("h"))
		case 12:
			var names []byte
			for k := range 500 {
				names = append(append(append(names, text(fmt.Sprintf("f%d-%d", n, k))...), text("x")...), file...)
			}
			ok = send([]byte{104}, id, binary.BigEndian.AppendUint32(nil, 500), names)
		case 5:
			if how == "reading is never answered" {
				continue
			}
			ok = send([]byte{103}, id, text(strings.Repeat("# without end\n", 2000)))
		default:
			ok = send([]byte{101}, id, []byte{0, 0, 0, 0}, text(""), text(""))
		}
		if !ok {
			return
		}
	}
}

// metric reads one of the service's own numbers.
func (d *demo) metric(t testing.TB, name string) int {
	t.Helper()
	m := regexp.MustCompile(`(?m)^` + name + ` (\S+)$`).FindStringSubmatch(d.api(t, "GET", "/api/v1/metrics", "").body)
	if m == nil {
		t.Fatalf("no %s", name)
	}
	v, err := strconv.ParseFloat(m[1], 64)
	mustDo(t, err)
	return int(v)
}

// TestHostileInstances: instances that hang, flood and never end cost their own
// answers alone: others' work goes on, cancelling works, and afterwards the service
// has the goroutines and about the memory that it had.
func TestHostileInstances(t *testing.T) {
	t.Parallel()
	s := newSlot(t, 130)
	up, err := s.start("", "")
	mustDo(t, err)
	t.Cleanup(func() { up.end() })
	d := newHome(t, &demo{dir: s.dir, url: up.url, token: s.token})
	dir, none := t.TempDir(), writeFile(t, "")
	for _, k := range []string{"hostile-next", "hostile-other"} {
		d.must(t, "key", "create", k, "-dir", dir, "-new-passphrase", none)
	}
	ways := []string{"requests without end", "a channel is never opened", "a request is never answered",
		"reading is never answered", "a folder and a file without end"}
	db := s.connect(t)
	var names []string
	for n, how := range ways {
		name := fmt.Sprintf("hostile-%d", n)
		names = append(names, name)
		d.launchBoard(t, name, s.key)
		key, err := os.ReadFile(filepath.Join(shared.path("standin", "instances", d.instance(t, name).CloudID),
			"etc/ssh/ssh_host_ed25519_key"))
		mustDo(t, err)
		_, err = db.Exec(t.Context(), "UPDATE instances SET address = '127.0.0.1', port = $2 WHERE name = $1", name,
			hostileInstance(t, key, how))
		mustDo(t, err)
	}
	d.launchBoard(t, "hostile-fine", s.key)
	d.must(t, "survey", "hostile-fine")
	time.Sleep(2 * time.Second)
	goroutines, before := d.metric(t, "go_goroutines"), d.metric(t, "go_memstats_heap_inuse_bytes")

	// Everything that touches an instance.
	var wg sync.WaitGroup
	for n, name := range names {
		for _, call := range [][2]string{{"survey", `{"inside":true,"outside":true}`}, {"why", `{}`},
			{"survey", `{"inside":true}`}, {"host-key", ""}} {
			wg.Go(func() {
				method := "POST"
				if call[1] == "" {
					method = "GET"
				}
				_ = d.api(t, method, "/api/v1/instances/"+name+"/"+call[0], call[1])
			})
		}
		wg.Go(func() {
			_ = d.client(t, "", "rotate", name, "-old", s.key, "-new", "hostile-next", "-detach")
		})
		wg.Go(func() { // which compares the ways back
			_ = d.client(t, "", "restore", name)
		})
		var port int
		mustDo(t, db.QueryRow(t.Context(), "SELECT port FROM instances WHERE name = $1", name).Scan(&port))
		wg.Go(func() { // by the engineer's own client
			r := d.client(t, "", "instance", "adopt", fmt.Sprintf("hostile-adopted-%d", n), "-address",
				fmt.Sprintf("127.0.0.1:%d", port), "-user", "debian", "-identity", filepath.Join(dir, "hostile-next"), "-yes")
			if r.code == 0 {
				t.Errorf("%s was adopted: %s", ways[n], r.out)
			}
		})
	}
	time.Sleep(2 * time.Second)
	began := time.Now()
	d.must(t, "survey", "hostile-fine", "-inside")
	d.must(t, "rotate", "hostile-fine", "-old", s.key, "-new", "hostile-other", "-dir", dir, "-grace", "0", "-yes")
	if took := time.Since(began); took > 60*time.Second {
		t.Errorf("another instance's work waited for %v", took)
	}
	// A cancel is heard while an instance hangs.
	waitFor(t, "the rotations", func() bool {
		return strings.Count(d.must(t, "work", "list", "-kind", "rotate", "-state", "open"), "hostile-") >= 1
	})
	for _, line := range strings.Split(d.must(t, "work", "list", "-kind", "rotate", "-state", "open"), "\n") {
		if id := strings.Fields(line); len(id) > 0 && strings.Contains(line, "hostile-") {
			_ = d.client(t, "", "work", "cancel", strings.Trim(id[0], "#"), "-detach")
		}
	}
	wg.Wait()
	waitFor(t, "the end of all work", func() bool {
		var open int
		mustDo(t, db.QueryRow(t.Context(),
			"SELECT count(*) FROM work WHERE state IN ('queued', 'running') AND kind = 'rotate'").Scan(&open))
		return open == 0
	})
	_, err = db.Exec(t.Context(), "UPDATE work SET state = 'stuck', holding = false WHERE state IN ('queued', "+
		"'running', 'waiting') AND kind = 'rotate'")
	mustDo(t, err)
	// What takes any key, or answers nothing, is no way back by the service's own key.
	for _, name := range names {
		wg.Go(func() {
			if r := d.client(t, "", "restore", name, "-route", "steward", "-new", "hostile-other", "-dir", dir,
				"-yes", "-detach"); r.code == 0 {
				t.Errorf("a way back by the service's own key into %s: %s", name, r.out)
			}
		})
	}
	wg.Wait()
	waitFor(t, "the goroutines that there were", func() bool { return d.metric(t, "go_goroutines") <= goroutines+6 })
	// What nobody uses any more is collected after two minutes at the latest (package runtime).
	for deadline := time.Now().Add(150 * time.Second); ; time.Sleep(time.Second) {
		after := d.metric(t, "go_memstats_heap_inuse_bytes")
		if after <= before+64<<20 {
			break
		}
		if time.Now().After(deadline) {
			t.Errorf("%d MiB in use before, %d MiB after", before>>20, after>>20)
			break
		}
	}
	if most := memory(t, up.cmd.Process.Pid); most > 500 {
		t.Errorf("%d MiB at most", most)
	}
	t.Logf("goroutines %d before, %d after; heap %d MiB, %d MiB; at most %d MiB", goroutines,
		d.metric(t, "go_goroutines"), before>>20, d.metric(t, "go_memstats_heap_inuse_bytes")>>20,
		memory(t, up.cmd.Process.Pid))
	for _, name := range names {
		_ = d.client(t, "", "instance", "remove", name, "-yes", "-detach")
	}
}

package e2e

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"plumlatch/core/hostkeys"
	"plumlatch/core/wire"
)

// front passes connections on to the replica that is up, as what stands before
// a service does.
type front struct {
	listener net.Listener
	mu       sync.Mutex
	to       string
	conns    []net.Conn
}

func newFront() (*front, error) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return nil, err
	}
	f := &front{listener: l}
	go func() {
		for {
			in, err := l.Accept()
			if err != nil {
				return
			}
			f.mu.Lock()
			to := f.to
			f.mu.Unlock()
			out, err := net.Dial("tcp", to)
			if err != nil {
				in.Close()
				continue
			}
			f.mu.Lock()
			f.conns = append(f.conns, in, out)
			f.mu.Unlock()
			go func() { _, _ = io.Copy(out, in); out.Close(); in.Close() }()
			go func() { _, _ = io.Copy(in, out); out.Close(); in.Close() }()
		}
	}()
	return f, nil
}

// turn sends what comes to another replica, and cuts what goes to the last one.
func (f *front) turn(base string) {
	u, _ := url.Parse(base)
	f.mu.Lock()
	defer f.mu.Unlock()
	f.to = u.Host
	for _, c := range f.conns {
		c.Close()
	}
	f.conns = nil
}

// there makes an instance that the service knows nothing of, and that the
// slot's key opens.
func there(x *trial) error {
	public, err := os.ReadFile(filepath.Join(x.slot.dir, x.slot.key+".pub"))
	if err != nil {
		return err
	}
	data := fmt.Sprintf("#cloud-config\nusers:\n  - default\n  - name: debian\n    ssh_authorized_keys:\n      - "+
		"%q\n      - %q\n", "command=\"x\" "+strings.TrimSpace(string(public)), strings.TrimSpace(string(public)))
	body, err := json.Marshal(map[string]any{"client_token": "there-" + x.instance, "name": x.instance,
		"region": "north-pier", "image": "debian-12", "size": "small", "user_data": data})
	if err != nil {
		return err
	}
	var in cloudInstance
	if err := standinCall("POST", "/v1/instances", string(body), &in); err != nil {
		return err
	}
	for range 200 {
		if err := standinCall("GET", "/v1/instances/"+in.ID, "", &in); err != nil {
			return err
		}
		if in.State == "running" {
			break
		}
		time.Sleep(30 * time.Millisecond)
	}
	x.cloudID = in.ID
	x.state["address"] = in.Address
	// The line with the forced command first, as nobody gets in by it: take it
	// out, and put a comment in its place.
	text := "# by hand\n" + string(public)
	if err := os.WriteFile(x.keysFile(), []byte(text), 0o600); err != nil {
		return err
	}
	x.state["text"] = text
	console, err := os.ReadFile(shared.path("standin", "instances", in.ID+".console"))
	if err != nil {
		return err
	}
	fingerprints, err := hostkeys.FirstBootFingerprints(string(console))
	if err != nil {
		return err
	}
	x.state["host-key"] = fingerprints[0]
	return nil
}

func (x *trial) keysFile() string {
	return shared.path("standin", "instances", x.cloudID, "home", "debian", ".ssh", "authorized_keys")
}

// adoptByClient has the client adopt it, as a program of its own.
func adoptByClient(x *trial) (int64, error) {
	cmd := exec.Command(filepath.Join(bin, "plumlatch"), "instance", "adopt", x.instance, "-address",
		x.state["address"]+":2222", "-user", "debian",
		"-identity", filepath.Join(x.slot.dir, x.slot.key), "-host-key", x.state["host-key"])
	cmd.Env = append(os.Environ(), "PLUMLATCH_URL=http://"+x.slot.front.listener.Addr().String(), "PLUMLATCH_TOKEN="+
		x.slot.token, "HOME="+x.slot.dir)
	out := &bytes.Buffer{}
	cmd.Stdout, cmd.Stderr = out, out
	if err := cmd.Start(); err != nil {
		return 0, err
	}
	x.ended = make(chan error, 1)
	go func() {
		if err := cmd.Wait(); err != nil {
			x.ended <- fmt.Errorf("%w: %s", err, out)
			return
		}
		x.ended <- nil
	}()
	return 0, nil
}

// find returns the work on the instance, which some program has begun.
func (x *trial) find() (int64, error) {
	for range 200 {
		all, err := x.client.Work(context.Background(), url.Values{"kind": {x.scenario.kind}}, 5)
		if err != nil {
			return 0, err
		}
		all = slices.DeleteFunc(all, func(w wire.Work) bool {
			return w.Instance != x.instance &&
				!strings.Contains(w.Title, x.instance)
		})
		if len(all) == 1 {
			return all[0].ID, nil
		}
		time.Sleep(50 * time.Millisecond)
	}
	return 0, fmt.Errorf("no work on %s was ever begun", x.instance)
}

// adoptAndVanish is a client that placed the steward's line, and was never heard of again.
func adoptAndVanish(x *trial) (int64, error) {
	pub, err := hostKeyLine(x)
	if err != nil {
		return 0, err
	}
	a, err := x.client.Adopt(context.Background(),
		wire.Adoption{Name: x.instance, Address: x.state["address"], Port: 2222, LoginUser: "debian",
			HostKeys: []string{pub}, HostKnown: "test",
			KeysFiles: []string{".ssh/authorized_keys"}, File: ".ssh/authorized_keys"})
	if err != nil {
		return 0, err
	}
	f, err := os.OpenFile(x.keysFile(), os.O_APPEND|os.O_WRONLY, 0)
	if err != nil {
		return 0, err
	}
	defer f.Close()
	if _, err := f.WriteString("\n" + a.StewardLine + "\n"); err != nil {
		return 0, err
	}
	for range 100 { // until it waits
		w, err := x.client.WorkByID(context.Background(), a.Instance.Work)
		if err != nil || w.State == "waiting" {
			return w.ID, err
		}
		time.Sleep(20 * time.Millisecond)
	}
	return a.Instance.Work, nil
}

// adoptedBefore is an instance that is adopted, with its steward's line.
func adoptedBefore(x *trial) error {
	if err := there(x); err != nil {
		return err
	}
	id, err := adoptAndVanish(x)
	if err != nil {
		return err
	}
	if err := x.client.ReportLine(context.Background(), id,
		wire.LineReport{Placed: true, File: ".ssh/authorized_keys"}); err != nil {
		return err
	}
	if w, err := x.await(id); err != nil || w.State != "done" {
		return fmt.Errorf("%w %s", err, w.Outcome)
	}
	return nil
}

func hostKeyLine(x *trial) (string, error) {
	line, err := os.ReadFile(shared.path("standin", "instances", x.cloudID, "etc", "ssh", "ssh_host_ed25519_key.pub"))
	return strings.TrimSpace(string(line)), err
}

func isAdopted(x *trial, w wire.Work) (broken []string) {
	text, err := os.ReadFile(x.keysFile())
	if err != nil {
		return []string{err.Error()}
	}
	if !strings.HasPrefix(string(text), x.state["text"]) || strings.Count(string(text), "internal-sftp") != 1 {
		broken = append(broken, "the file is now:\n"+string(text))
	}
	i, err := x.client.Instance(context.Background(), x.instance)
	if err != nil || i.Phase != "ready" || i.Trouble != "" {
		broken = append(broken, fmt.Sprintf("the ledger: %v %s %s", err, i.Phase, i.Trouble))
	}
	return append(broken, x.opens()...)
}

// asItWas: what stood there stands there, and nothing else.
func asItWas(x *trial, _ wire.Work) (broken []string) {
	text, err := os.ReadFile(x.keysFile())
	if err != nil {
		return []string{err.Error()}
	}
	if strings.TrimRight(string(text), "\n") != strings.TrimRight(x.state["text"], "\n") {
		broken = append(broken, "the file is now:\n"+string(text))
	}
	if i, err := x.client.Instance(context.Background(), x.instance); err == nil {
		broken = append(broken, "the ledger still has it: "+i.Phase)
	}
	return broken
}

func adoptNone(x *trial) (int64, error) {
	w, err := x.client.AdoptMany(context.Background(), 1)
	if err != nil {
		return 0, err
	}
	return w.ID, x.closeParts(w.ID)
}

// closeParts tries until it is heard: the replica may be halted in the middle.
func (x *trial) closeParts(id int64) error {
	ctx, cancel := context.WithTimeout(context.Background(), 700*time.Millisecond)
	defer cancel()
	if x.client.CloseParts(ctx, id) == nil {
		return nil
	}
	x.later = append(x.later, func() error { return x.client.CloseParts(context.Background(), id) })
	return nil
}

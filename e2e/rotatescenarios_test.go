package e2e

import (
	"bytes"
	"context"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"plumlatch/client"
	"plumlatch/core/authkeys"
	"plumlatch/core/keypair"
	"plumlatch/core/wire"
)

// withNewKey launches an instance, writes into its file by hand, and makes the
// pair that is to come.
func withNewKey(x *trial) error {
	if err := launched(x); err != nil {
		return err
	}
	text, err := os.ReadFile(x.keysFile())
	if err != nil {
		return err
	}
	x.state["text"] = "# by hand, before\n" + string(text) + "#by hand, behind"
	if err := os.WriteFile(x.keysFile(), []byte(x.state["text"]), 0o600); err != nil {
		return err
	}
	x.state["new"] = "new-" + x.instance
	return x.plumlatch("key", "create", x.state["new"], "-dir", x.slot.dir)
}

// plumlatch runs the client against whichever replica is up.
func (x *trial) plumlatch(args ...string) error {
	cmd := exec.Command(filepath.Join(bin, "plumlatch"), args...)
	cmd.Env = append(os.Environ(), "PLUMLATCH_URL=http://"+x.slot.front.listener.Addr().String(), "PLUMLATCH_TOKEN="+
		x.slot.token, "HOME="+x.slot.dir)
	if out, err := cmd.CombinedOutput(); err != nil {
		return fmt.Errorf("%w: %s", err, out)
	}
	return nil
}

// rotates begins a rotation, has the new key's private half shown as soon as it
// can be, and watches the file all the while.
func rotates(grace int64) func(*trial) (int64, error) {
	return func(x *trial) (int64, error) {
		x.watch()
		w, err := x.client.Rotate(context.Background(), x.instance,
			wire.Rotate{Old: x.slot.key, New: x.state["new"], GraceSeconds: &grace})
		if client.Definite(err) {
			return 0, err
		}
		x.proves()
		return w.ID, err
	}
}

// proves shows the new key's private half as soon as somebody listens.
func (x *trial) proves() {
	go func() {
		for range 60 {
			if x.plumlatch("key", "prove", x.state["new"], "-identity",
				filepath.Join(x.slot.dir, x.state["new"])) == nil {
				return
			}
			time.Sleep(300 * time.Millisecond)
		}
	}()
}

// rotatesMany is rotates for all instances with a tag: here one.
func rotatesMany(grace int64) func(*trial) (int64, error) {
	return func(x *trial) (int64, error) {
		x.watch()
		w, err := x.client.RotateMany(context.Background(),
			wire.Fleet{Key: x.slot.key, Tag: "case=" + x.instance, New: x.state["new"], GraceSeconds: &grace})
		if client.Definite(err) {
			return 0, err
		}
		x.proves()
		return w.ID, err
	}
}

// withLeaked has a second key in that somebody else may have, too.
func withLeaked(x *trial) error {
	if err := withNewKey(x); err != nil {
		return err
	}
	x.state["leaked"] = "leaked-" + x.instance
	if err := x.plumlatch("key", "create", x.state["leaked"], "-dir", x.slot.dir); err != nil {
		return err
	}
	if err := x.plumlatch("access", "add", x.instance, "-key", x.state["leaked"]); err != nil {
		return err
	}
	data, err := os.ReadFile(x.keysFile())
	x.state["both"] = string(data)
	if err != nil {
		return err
	}
	return x.plumlatch("key", "exposed", x.state["leaked"], "-yes")
}

const containedTo = "203.0.113.0/24"

// replacesLeaked replaces the key that leaked, which is contained meanwhile;
// nobody shows the new one if shown is false.
func replacesLeaked(shown bool) func(*trial) (int64, error) {
	return func(x *trial) (int64, error) {
		x.watch()
		none := int64(0)
		w, err := x.client.Rotate(context.Background(), x.instance,
			wire.Rotate{Old: x.state["leaked"], New: x.state["new"], GraceSeconds: &none,
				Contain: []string{containedTo}})
		if client.Definite(err) {
			return 0, err
		}
		if shown {
			x.proves()
		}
		return w.ID, err
	}
}

// isReplaced: the new key stands where the one that leaked was, without the
// limit that this one had; whoever else got in still does.
func isReplaced(x *trial, _ wire.Work) []string {
	broken := append(x.unlocked(), x.noneLeft()...)
	data, err := os.ReadFile(x.keysFile())
	fresh, err2 := publicOf(filepath.Join(x.slot.dir, x.state["new"]+".pub"))
	if err != nil || err2 != nil || strings.Contains(string(data), x.state["leaked"]) ||
		strings.Contains(string(data), "from=") || !strings.Contains(string(data), "\n"+fresh.Line()+"\n") ||
		!strings.HasPrefix(string(data), x.state["text"]) {
		broken = append(broken, fmt.Sprintf("%v %v\n%s", err, err2, data))
	}
	rows, err := x.client.Access(context.Background(), x.instance, "")
	if err != nil || len(rows) != 3 {
		broken = append(broken, fmt.Sprintf("%+v %v", rows, err))
	}
	return broken
}

// cancelledAtProof cancels once the key that leaked is contained, and the new
// one waits to be shown.
func cancelledAtProof(begin func(*trial) (int64, error)) func(*trial) (int64, error) {
	return func(x *trial) (int64, error) {
		id, err := begin(x)
		for n := 0; err == nil && n < 600; n++ {
			w, e := x.client.WorkByID(context.Background(), id)
			if e != nil || w.Over() {
				return id, e
			}
			if w.State == "waiting" && strings.Contains(w.WaitsFor, "private half") {
				data, e := os.ReadFile(x.keysFile())
				if e != nil || strings.Count(string(data), `from="`+containedTo+`" ssh-`) != 1 {
					return 0, fmt.Errorf("it is not contained: %w\n%s", e, data)
				}
				break
			}
			time.Sleep(20 * time.Millisecond)
		}
		if err != nil {
			return 0, err
		}
		if _, err := x.client.CancelWork(context.Background(), id); err != nil && client.Definite(err) {
			return 0, err
		}
		return id, nil
	}
}

// cancelledInGrace cancels once the old key has its end.
func cancelledInGrace(begin func(*trial) (int64, error)) func(*trial) (int64, error) {
	return func(x *trial) (int64, error) {
		id, err := begin(x)
		if err != nil {
			return 0, err
		}
		for range 600 {
			w, err := x.client.WorkByID(context.Background(), id)
			if err != nil || w.Over() {
				return id, err
			}
			if w.State == "waiting" && (strings.Contains(w.WaitsFor, "grace") ||
				strings.Contains(w.WaitsFor, "the old key's end")) {
				break
			}
			time.Sleep(20 * time.Millisecond)
		}
		if _, err := x.client.CancelWork(context.Background(), id); err != nil && client.Definite(err) {
			return 0, err
		}
		return id, nil
	}
}

// watch looks at the file all the time: at every moment a person's key stands
// there with a line that nothing narrows, one whose private half was shown.
func (x *trial) watch() {
	old, err1 := publicOf(filepath.Join(x.slot.dir, x.slot.key+".pub"))
	fresh, err2 := publicOf(filepath.Join(x.slot.dir, x.state["new"]+".pub"))
	if err1 != nil || err2 != nil {
		x.state["locked out"] = "the public halves cannot be read"
		return
	}
	stop, done := make(chan struct{}), make(chan struct{})
	var once sync.Once
	x.unwatch = func() { once.Do(func() { close(stop); <-done }) }
	go func() {
		defer close(done)
		for {
			data, err := os.ReadFile(x.keysFile())
			if err != nil {
				x.state["locked out"] = err.Error()
				return
			}
			free := false
			for _, l := range authkeys.Parse(data, time.UTC) {
				mine := bytes.Equal(l.Blob, old.Blob) || bytes.Equal(l.Blob, fresh.Blob)
				free = free || mine && l.Err == nil && l.Options.Text == ""
			}
			if !free || !bytes.Contains(data, []byte("# by hand, before\n")) {
				x.state["locked out"] = string(data)
				return
			}
			select {
			case <-stop:
				return
			case <-time.After(2 * time.Millisecond):
			}
		}
	}()
}

func publicOf(file string) (keypair.Public, error) {
	data, err := os.ReadFile(file)
	if err != nil {
		return keypair.Public{}, err
	}
	return keypair.ReadPublic(data)
}

// unlocked tells whether somebody was locked out at any moment.
func (x *trial) unlocked() (broken []string) {
	if x.unwatch != nil {
		x.unwatch()
	}
	if text := x.state["locked out"]; text != "" {
		broken = append(broken, "locked out at a moment: "+text)
	}
	return broken
}

// isRotated: the new key opens, the old one is out, and what others wrote stays.
func isRotated(x *trial, w wire.Work) []string {
	broken := x.unlocked()
	say := func(format string, a ...any) { broken = append(broken, fmt.Sprintf(format, a...)) }
	data, err := os.ReadFile(x.keysFile())
	if err != nil {
		return append(broken, err.Error())
	}
	fresh, err := publicOf(filepath.Join(x.slot.dir, x.state["new"]+".pub"))
	if err != nil {
		return append(broken, err.Error())
	}
	var want strings.Builder
	for line := range strings.Lines(x.state["text"]) {
		if !strings.Contains(line, " "+x.slot.key) {
			want.WriteString(line)
		}
	}
	if string(data) != want.String()+"\n"+fresh.Line()+"\n" {
		say("the file is\n%s", data)
	}
	rows, err := x.client.Access(context.Background(), x.instance, "")
	if err != nil {
		return append(broken, err.Error())
	}
	for _, a := range rows {
		if !a.Steward && (a.Key != x.state["new"] || a.Evidence != "accepted" || a.Old) {
			say("%s is %s (old: %v)", a.Key, a.Evidence, a.Old)
		}
	}
	return append(broken, x.noneLeft()...)
}

// isAsBefore: the file is byte for byte what it was, but for the line break at
// its end that an append had to add; and the old key opens.
func isAsBefore(x *trial, w wire.Work) []string {
	broken := x.unlocked()
	say := func(format string, a ...any) { broken = append(broken, fmt.Sprintf(format, a...)) }
	data, err := os.ReadFile(x.keysFile())
	if err != nil || strings.TrimSuffix(string(data), "\n") != x.state["text"] {
		say("the file is %v\n%s", err, data)
	}
	rows, err := x.client.Access(context.Background(), x.instance, "")
	if err != nil {
		return append(broken, err.Error())
	}
	for _, a := range rows {
		if !a.Steward && (a.Key != x.slot.key || a.Evidence != "accepted" || a.Old) {
			say("%s is %s (old: %v)", a.Key, a.Evidence, a.Old)
		}
	}
	return append(broken, x.noneLeft()...)
}

// noneLeft: no half-made file lies about.
func (x *trial) noneLeft() (broken []string) {
	all, err := filepath.Glob(filepath.Join(filepath.Dir(x.keysFile()), "*plumlatch-new*"))
	if err != nil || len(all) > 0 {
		broken = append(broken, fmt.Sprintf("left behind: %v %v", all, err))
	}
	return broken
}

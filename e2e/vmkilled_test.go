package e2e

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"syscall"
	"testing"
	"time"

	"plumlatch/core/wire"
	"plumlatch/service/kinds"
)

// killed has a piece of work be carried on by one service after the other: each is killed at the next effect of it, before it, in the middle of it
// and after it. libvirtd is killed besides, where the work is at the step that is named.
type killed struct {
	*board
	t     *testing.T
	kills int
}

func (k *killed) kill() {
	if k.service != nil {
		_ = k.service.cmd.Process.Kill()
		<-k.service.ended
		k.service = nil
	}
}

// effects are the points of a kind of work at which it does something to others, in their order.
func effects(kind string) (out []string) {
	for _, p := range kinds.Halts() {
		end := p[strings.LastIndex(p, "/")+1:]
		if strings.HasPrefix(p, kind+"/") && !strings.Contains(p, "/undo/") && slices.Contains([]string{"before", "inside", "after"}, end) {
			out = append(out, p)
		}
	}
	return out
}

// through carries the work on to its end. login is what shows the new key, once the work waits for that.
func (k *killed) through(id int64, kind, without string, points []string, login func()) {
	t := k.t
	t.Helper()
	db := k.slot.connect(t)
	var steps []string
	for _, p := range kinds.Halts() {
		if f := strings.Split(p, "/"); f[0] == kind && !slices.Contains(steps, f[1]) {
			steps = append(steps, f[1])
		}
	}
	look := func() (step int, state, waits string) {
		var at string
		mustDo(t, db.QueryRow(context.Background(), "SELECT at, state, waits_code FROM work WHERE id = $1", id).Scan(&at, &state, &waits))
		return slices.Index(steps, at), state, waits
	}
	over := func(state string) bool {
		return slices.Contains([]string{"done", "failed", "cancelled", "stuck"}, state)
	}
	k.kill()
	downed := without == ""
	for deadline := time.Now().Add(40 * time.Minute); ; {
		at, state, waits := look()
		if over(state) {
			break
		}
		if time.Now().After(deadline) {
			t.Fatalf("it never ends: it is at %s, %s, waits: %s", steps[max(at, 0)], state, waits)
		}
		for len(points) > 0 && slices.Index(steps, strings.Split(points[0], "/")[1]) < at {
			points = points[1:] // it has no such effect here
		}
		if !downed && at >= 0 && steps[at] == without {
			downed = true
			k.host.Stop(syscall.SIGKILL)
			time.AfterFunc(5*time.Second, func() {
				if err := k.host.Start(context.Background()); err != nil {
					t.Error(err)
				}
			})
		}
		point := ""
		if len(points) > 0 {
			point = points[0]
		}
		if k.service == nil {
			k.serve(t, point, "kill")
		}
		shown := false
	running:
		for {
			select {
			case <-k.service.ended:
				k.kills++
				t.Logf("killed at %s", point)
				points, k.service = points[1:], nil
				break running
			case <-time.After(300 * time.Millisecond):
			}
			now, state, waits := look()
			if over(state) || now >= 0 && !downed && steps[now] == without || point != "" && now > slices.Index(steps, strings.Split(point, "/")[1]) {
				if !over(state) {
					k.kill()
				}
				break running
			}
			if waits == wire.WaitsLogin && !shown {
				shown = true
				login()
			}
			if time.Now().After(deadline) {
				break running
			}
		}
	}
	if _, state, _ := look(); state != "done" {
		k.kill()
		k.serve(t, "", "")
		t.Fatalf("%s ended %s\n%s", kind, state, k.must(t, "work", "report", fmt.Sprint(id)))
	}
	if k.service == nil {
		k.serve(t, "", "")
	}
}

// begun begins a piece of work by a command, and returns its ID.
func (k *killed) begun(t *testing.T, args ...string) int64 {
	t.Helper()
	k.must(t, args...)
	var all struct{ Items []wire.Work }
	mustDo(t, json.Unmarshal([]byte(k.must(t, "work", "list", "-json")), &all))
	latest := slices.MaxFunc(all.Items, func(x, y wire.Work) int { return int(x.ID - y.ID) })
	return latest.ID
}

// lostAndRestored loses the private key, and restores access by a route whose work is killed at the points.
func (k *killed) lostAndRestored(t *testing.T, route, without string, points []string) {
	t.Helper()
	lost, next := k.lose(t), k.fresh(t)
	k.timed(t, route, func() {
		k.through(k.begun(t, "restore", k.name, "-route", route, "-new", next, "-detach", "-yes"), "restore-"+route, without, points, func() {
			k.must(t, "key", "prove", next, "-identity", k.file(next))
		})
	})
	k.opens(t, next)
	k.shut(t, lost)
	k.key = next
}

// TestVMKilled kills the service at every effect of a launch, of the boot text and of the disk route on a real machine, and libvirtd in each of them. What
// was asked of the cloud is never done twice, the machine is let into by its new key, and nothing is left.
func TestVMKilled(t *testing.T) {
	v := startVMs(t, 164, "debian-12")
	b := &board{vms: v, name: "storm-board", image: "debian-12", key: "storm-board-key-0", keys: t.TempDir(), before: v.left(t)}
	k := &killed{board: b, t: t}
	b.must(t, "key", "create", b.key, "-dir", b.keys)
	b.timed(t, "launch", func() {
		k.through(k.begun(t, "instance", "launch", b.name, "-image", "debian-12", "-size", "small", "-region", vmRegion, "-key", b.key, "-detach"), "launch", "run", effects("launch"), func() {})
	})
	b.opens(t, b.key)
	k.lostAndRestored(t, "boot-text", "set-text", effects("restore-boot-text"))
	k.lostAndRestored(t, "disk", "lend", effects("restore-disk"))
	t.Logf("killed %d times", k.kills)
	if k.kills < 20 {
		t.Errorf("the service was killed %d times only", k.kills)
	}
	b.gone(t)
}

package e2e

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"plumlatch/client"
	"plumlatch/core/wire"
)

// The parts of the way by a copy that a cancel does not reach, and those of an image of one at rest.
var (
	beyondImage  = []string{"again/undo", "launch/undo"}
	beyondLaunch = []string{"known/undo", "compare/undo", "move/undo", "accept/undo", "checks/undo"}
	beyondChecks = []string{"login/undo", "withdraw/undo", "rules/undo", "rest/undo"}
	whileStill   = []string{"restore-copy/stop/", "restore-copy/again/"}
	toEnable     = "restore-copy/enable/"
)

// besidesEnable are all parts but that of enabling.
func besidesEnable() (out []string) {
	for _, p := range halts() {
		if strings.HasPrefix(p, "restore-copy/") && !strings.HasPrefix(p, toEnable) {
			out = append(out, p)
		}
	}
	return out
}

func copyScenarios() []scenario {
	out := []scenario{
		{name: "restore copy", kind: "restore-copy", lacks: append(whileStill, toEnable, "withdraw/unplace/"), prepare: withPlace, begin: restoresBy("copy"),
			check: isCopied},
		{name: "restore copy, enabled", kind: "restore-copy", lacks: besidesEnable(), prepare: withService, begin: copiesEnabled, check: isCopied},
		{name: "restore copy, still", kind: "restore-copy", lacks: []string{toEnable}, prepare: withPlace, begin: copiesStill, check: isCopied},
		{name: "restore copy, still, cancelled", kind: "restore-copy", back: true, slow: "make-image",
			lacks: slices.Concat(beyondImage, beyondLaunch, beyondChecks), prepare: withPlace, begin: cancelledStill("image"), check: isNotCopied},
		{name: "restore copy, still, cancelled at the copy", kind: "restore-copy", back: true, slow: "launch",
			lacks: slices.Concat(beyondLaunch, beyondChecks, []string{"stop/undo/start/"}), prepare: withPlace, begin: cancelledStill("launch"), check: isNotCopied},
		{name: "restore copy cancelled", kind: "restore-copy", back: true,
			lacks:   slices.Concat(whileStill, []string{"withdraw/undo", "rules/undo", "rest/undo"}),
			prepare: withPlace, begin: cancelledAtLogin("copy"), check: isNotCopied},
		{name: "restore copy cancelled at its end", kind: "restore-copy", back: true, slow: "stop", lacks: whileStill, prepare: withPlace,
			begin: cancelledAtEnd, check: isNotCopied},
		{name: "restore copy cancelled, image not answered", kind: "restore-copy", back: true, lost: true, prepare: withPlace,
			begin: cancelledAtStep("copy", "image"), check: isNotCopied},
		{name: "restore copy cancelled, launch not answered", kind: "restore-copy", back: true, lost: true, prepare: withPlace,
			begin: cancelledAtStep("copy", "launch"), check: isNotCopied},
		{name: "restore copy cancelled, move not answered", kind: "restore-copy", back: true, lost: true, prepare: withPlace,
			begin: cancelledAtStep("copy", "move"), check: isNotCopied},
		{name: "restore copy, no SSH", kind: "restore-copy", lacks: slices.Concat(whileStill, []string{toEnable, "restore-copy/withdraw/"}),
			prepare: withDesk, begin: copiesDesk(false), check: isDeskCopied},
		{name: "restore copy, no SSH, cancelled", kind: "restore-copy", back: true,
			lacks:   slices.Concat(whileStill, []string{"withdraw/undo", "rules/undo", "rest/undo"}),
			prepare: withDesk, begin: copiesDesk(true), check: isDeskNotCopied},
		{name: "old machine removed", kind: "restore-kept", prepare: withPlace, begin: keptThen("go-on"), check: isOver},
		{name: "back to the old machine", kind: "restore-kept", back: true, prepare: withPlace, begin: keptThen("cancel"), check: isNotCopied},
	}
	for n := range out {
		out[n].from = "127.0.0.1"
	}
	return out
}

func init() {
	scenarios = append(scenarios, copyScenarios()...)
	for name, calls := range map[string][]string{
		"restore copy": {"make-image", "own-image", "launch", "get", "boot-output", "groups", "own-group", "outbound", "move", "set-groups",
			"unadmit", "stop", "volumes"},
		"restore copy, still":                         {"stop", "start"},
		"restore copy cancelled":                      {"remove", "remove-image", "move"},
		"restore copy cancelled at its end":           {"start"},
		"restore copy cancelled, image not answered":  {"make-image"},
		"restore copy cancelled, launch not answered": {"launch"},
		"restore copy cancelled, move not answered":   {"move"},
		"old machine removed":                         {"remove", "remove-image"},
		"back to the old machine":                     {"start", "move", "remove", "remove-image"},
	} {
		cloudCalls[name] = calls
	}
}

// withPlace has an instance with a static address, whose key is lost.
func withPlace(x *trial) error {
	if err := withLost(false)(x); err != nil {
		return err
	}
	for _, args := range [][]string{{"static-address", "reserve", x.instance, "-region", "north-pier"},
		{"static-address", "move", x.instance, "-to", x.instance, "-yes"}} {
		if err := x.plumlatch(args...); err != nil {
			return err
		}
	}
	i, err := x.client.Instance(context.Background(), x.instance)
	x.state["address"], x.state["old"] = i.Address, i.CloudID
	x.state["at hand"] = "access.restore-kept"
	return err
}

// withService has an instance with a static address, on which a service runs that nothing starts at boot.
func withService(x *trial) error {
	x.state["image"] = "harrow-web-2"
	if err := withPlace(x); err != nil {
		return err
	}
	disk := shared.path("standin", "instances", x.cloudID)
	return errors.Join(os.Remove(filepath.Join(disk, "etc/board-service/enabled")),
		os.Remove(filepath.Join(disk, "etc/systemd/system/multi-user.target.wants/board-service.service")))
}

// copiesEnabled says that what did not come up was started there.
func copiesEnabled(x *trial) (int64, error) {
	front, err := client.New("http://"+x.slot.front.listener.Addr().String(), x.slot.token)
	if err != nil {
		return 0, err
	}
	w, err := x.client.Restore(context.Background(), x.instance, wire.Restore{Route: "copy", New: x.state["new"], Enable: true})
	if client.Definite(err) {
		return 0, err
	}
	x.proves()
	go func() {
		for range 300 {
			all, err := front.Work(context.Background(), url.Values{"instance": {x.instance}, "kind": {"restore-copy"}}, 0)
			if err == nil && len(all) > 0 {
				if d, err := front.CopyDoor(context.Background(), all[0].ID); err == nil && d.Ready {
					_ = front.ReportEnabled(context.Background(), all[0].ID, wire.EnabledServices{Done: d.Services, Failed: []string{"other.service: no"}})
				}
			}
			time.Sleep(100 * time.Millisecond)
		}
	}()
	return w.ID, err
}

func copiesStill(x *trial) (int64, error) {
	w, err := x.client.Restore(context.Background(), x.instance, wire.Restore{Route: "copy", New: x.state["new"], Still: true})
	if client.Definite(err) {
		return 0, err
	}
	x.proves()
	return w.ID, err
}

// cancelledStill cancels one whose image is of a machine at rest, while a step is at hand.
func cancelledStill(step string) func(*trial) (int64, error) {
	return func(x *trial) (int64, error) {
		w, err := x.client.Restore(context.Background(), x.instance, wire.Restore{Route: "copy", New: x.state["new"], Still: true})
		if err != nil {
			return 0, err
		}
		return w.ID, x.cancelWhen(w.ID, func(w wire.Work) bool { return w.StepName == step })
	}
}

// cancelledAtEnd has everybody do their part, and cancels in the last step that goes back.
func cancelledAtEnd(x *trial) (int64, error) {
	id, err := restoresBy("copy")(x)
	if err != nil {
		return id, err
	}
	return id, x.cancelWhen(id, func(w wire.Work) bool { return w.StepName == "rest" })
}

// keptThen restores by a copy, and gives the word to the work that keeps the old machine then: go-on, or cancel.
func keptThen(word string) func(*trial) (int64, error) {
	return func(x *trial) (int64, error) {
		x.state["at hand"] = ""
		front, err := client.New("http://"+x.slot.front.listener.Addr().String(), x.slot.token)
		if err != nil {
			return 0, err
		}
		w, err := x.client.Restore(context.Background(), x.instance, wire.Restore{Route: "copy", New: x.state["new"], KeepSeconds: 1})
		if client.Definite(err) {
			return 0, err
		}
		x.proves()
		if err := x.over(w.ID); err != nil {
			return 0, err
		}
		kept := make(chan int64, 1)
		go func() {
			for range 100 {
				all, err := front.Work(context.Background(), url.Values{"instance": {x.instance}, "kind": {"restore-kept"}}, 0)
				if err == nil && len(all) > 0 {
					select {
					case kept <- all[0].ID:
					default:
					}
					if word == "cancel" {
						_, err = front.CancelWork(context.Background(), all[0].ID)
					} else {
						_, err = front.GoOnFleet(context.Background(), all[0].ID)
					}
					if err == nil || client.Definite(err) && all[0].Over() {
						return
					}
				}
				time.Sleep(200 * time.Millisecond)
			}
		}()
		select {
		case id := <-kept:
			return id, nil
		case <-time.After(30 * time.Second):
			return 0, fmt.Errorf("nothing keeps the old machine")
		}
	}
}

// over waits until work is over, or nobody can tell any more.
func (x *trial) over(id int64) error {
	for range 1500 {
		w, err := x.client.WorkByID(context.Background(), id)
		if err != nil {
			return nil
		}
		if w.Over() {
			if w.State != "done" {
				return fmt.Errorf("the copy: %s", w.Outcome)
			}
			return nil
		}
		time.Sleep(40 * time.Millisecond)
	}
	return fmt.Errorf("the copy never ended")
}

// atCloud are the machines and the images that a case has at the cloud.
func (x *trial) atCloud() (machines map[string]string, images []string, err error) {
	machines = map[string]string{}
	var list []struct {
		ID, Name, State string
		Tags            map[string]string
	}
	if err := standinCall("GET", "/v1/instances?region=north-pier", "", &list); err != nil {
		return nil, nil, err
	}
	for _, i := range list {
		if i.State != "removed" && (i.Name == x.instance || strings.HasPrefix(i.Tags["plumlatch-origin"], x.instance)) {
			machines[i.ID] = i.State
		}
	}
	var own []struct {
		ID   string
		Tags map[string]string
	}
	err = standinCall("GET", "/v1/own-images", "", &own)
	for _, i := range own {
		if i.Tags["plumlatch-origin"] == x.instance {
			images = append(images, i.ID)
		}
	}
	return machines, images, err
}

// linesOf are the lines of a machine's file of keys, but for those that are empty.
func (x *trial) linesOf(id string) ([]string, error) {
	data, err := os.ReadFile(shared.path("standin", "instances", id, "home", "debian", ".ssh", "authorized_keys"))
	var out []string
	for line := range bytes.Lines(withoutLent(data)) {
		if text := strings.TrimSpace(string(line)); text != "" {
			out = append(out, text)
		}
	}
	return out, err
}

// isCopied: a copy has the place and the address; its file is the old one's, with the new key and without the lost one; the old
// one is stopped.
func isCopied(x *trial, _ wire.Work) []string {
	broken := x.hasPlace()
	machines, images, err := x.atCloud()
	if err != nil || len(machines) != 2 || machines[x.state["old"]] != "stopped" || len(images) != 1 {
		broken = append(broken, fmt.Sprintf("at the cloud: %v %v %v", machines, images, err))
	}
	return broken
}

// isOver: the old one and its image are gone.
func isOver(x *trial, _ wire.Work) []string {
	broken := x.hasPlace()
	machines, images, err := x.atCloud()
	if err != nil || len(machines) != 1 || len(images) != 0 {
		broken = append(broken, fmt.Sprintf("at the cloud: %v %v %v", machines, images, err))
	}
	return broken
}

// hasPlace tells what is wrong with a copy that has the place.
func (x *trial) hasPlace() (broken []string) {
	say := func(format string, a ...any) { broken = append(broken, fmt.Sprintf(format, a...)) }
	i, err := x.client.Instance(context.Background(), x.instance)
	if err != nil || i.CloudID == x.state["old"] || i.Address != x.state["address"] || i.State != "running" || i.Phase != "ready" {
		say("it is %+v %v", i, err)
	}
	fresh, err := publicOf(filepath.Join(x.slot.dir, x.state["new"]+".pub"))
	if err != nil {
		return append(broken, err.Error())
	}
	var want []string
	for line := range strings.Lines(x.state["text"]) {
		if text := strings.TrimSpace(line); text != "" && !strings.Contains(line, " "+x.state["lost"]) {
			want = append(want, text)
		}
	}
	got, err := x.linesOf(i.CloudID)
	if want = append(want, fresh.Line()); err != nil || !slices.Equal(got, want) {
		say("its file is\n%s\n--- wanted\n%s\n%v", strings.Join(got, "\n"), strings.Join(want, "\n"), err)
	}
	var groups, wall []struct {
		Own   string
		Rules []struct{ From, Ports string }
	}
	err = standinCall("GET", "/v1/instances/"+i.CloudID+"/groups", "", &groups)
	if err == nil && len(groups) > 0 {
		wall = groups[:len(groups)-1]
	}
	if err != nil || len(wall) != 1 || wall[0].Own != "" || len(groups[len(groups)-1].Rules) != 0 {
		say("its rules: %+v %v", groups, err)
	}
	x.cloudID = i.CloudID
	return append(broken, x.opens()...)
}

// isNotCopied: the old one has its place, as if nothing had been.
func isNotCopied(x *trial, _ wire.Work) []string {
	var broken []string
	say := func(format string, a ...any) { broken = append(broken, fmt.Sprintf(format, a...)) }
	i, err := x.client.Instance(context.Background(), x.instance)
	if err != nil || i.CloudID != x.state["old"] || i.Address != x.state["address"] || i.State != "running" || i.Phase != "ready" {
		say("it is %+v %v", i, err)
	}
	machines, images, err := x.atCloud()
	if err != nil || len(machines) != 1 || machines[x.state["old"]] != "running" || len(images) != 0 {
		say("at the cloud: %v %v %v", machines, images, err)
	}
	data, err := os.ReadFile(x.keysFile())
	if err != nil || string(withoutLent(data)) != x.state["text"] {
		say("its file is %v\n%s", err, data)
	}
	rows, err := x.client.Access(context.Background(), x.instance, "")
	n := slices.IndexFunc(rows, func(a wire.Access) bool { return a.Key == x.state["lost"] })
	if err != nil || n < 0 || slices.ContainsFunc(rows, func(a wire.Access) bool { return a.Key == x.state["new"] }) {
		say("on record: %+v %v", rows, err)
	}
	return broken
}

// withDesk has an instance without SSH, whose first password is encrypted to a lost key.
func withDesk(x *trial) error {
	x.state["lost"], x.state["new"] = "lost-"+x.instance, "new-"+x.instance
	for _, k := range []string{x.state["lost"], x.state["new"]} {
		if err := x.plumlatch("key", "create", k, "-kind", "rsa-2048", "-dir", x.slot.dir); err != nil {
			return err
		}
	}
	for _, args := range [][]string{{"instance", "launch", x.instance, "-region", "north-pier", "-image", "quay-desk-1", "-size", "medium", "-key", x.state["lost"]},
		{"static-address", "reserve", x.instance, "-region", "north-pier"}, {"static-address", "move", x.instance, "-to", x.instance, "-yes"},
		{"key", "lost", x.state["lost"], "-yes"}} {
		if err := x.plumlatch(args...); err != nil {
			return err
		}
	}
	i, err := x.client.Instance(context.Background(), x.instance)
	x.state["address"], x.state["old"], x.state["at hand"] = i.Address, i.CloudID, "access.restore-kept"
	return err
}

// copiesDesk restores by a copy; its holder shows the new key, or somebody cancels as that is waited for.
func copiesDesk(cancel bool) func(*trial) (int64, error) {
	return func(x *trial) (int64, error) {
		w, err := x.client.Restore(context.Background(), x.instance, wire.Restore{Route: "copy", New: x.state["new"]})
		if client.Definite(err) {
			return 0, err
		}
		if cancel {
			return w.ID, x.cancelWhen(w.ID, func(w wire.Work) bool { return w.StepName == "login" })
		}
		x.proves()
		return w.ID, err
	}
}

// isDesk tells what is wrong with an instance without SSH that is, or is no longer, its old machine.
func (x *trial) isDesk(copied bool, machines, images int) (broken []string) {
	i, err := x.client.Instance(context.Background(), x.instance)
	key := x.state[map[bool]string{true: "new", false: "lost"}[copied]]
	if err != nil || (i.CloudID == x.state["old"]) == copied || i.Address != x.state["address"] || i.State != "running" || i.Phase != "ready" ||
		i.FirstPassword == nil || i.FirstPassword.Key != key {
		broken = append(broken, fmt.Sprintf("it is %+v %+v %v", i, i.FirstPassword, err))
	}
	at, own, err := x.atCloud()
	if err != nil || len(at) != machines || len(own) != images || at[i.CloudID] != "running" {
		broken = append(broken, fmt.Sprintf("at the cloud: %v %v %v", at, own, err))
	}
	return broken
}

func isDeskCopied(x *trial, _ wire.Work) []string { return x.isDesk(true, 2, 1) }

func isDeskNotCopied(x *trial, _ wire.Work) []string { return x.isDesk(false, 1, 0) }

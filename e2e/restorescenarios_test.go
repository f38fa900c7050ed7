package e2e

import (
	"cmp"
	"context"
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

// atRescue are the parts of a disk restore that differ with where the rescue
// instance comes from.
var (
	withLaunched = []string{"rescue/append/", "dismiss/take-out/", "rescue/undo/take-out/"}
	withOneThere = []string{"rescue/launch/", "dismiss/remove/", "rescue/undo/remove/"}
	// homeAgain are taken back by other ways through a disk restore.
	whileAway = []string{"look/undo/take-out/", "stop/undo/stop/"}
	// sinceIn: cancelled once the volume is home again, so these find nothing to take back.
	sinceIn = []string{"rescue/undo/remove/", "rescue/undo/take-out/", "detach/undo/attach/", "lend/undo/detach/",
		"mount/undo/unmount/", "edit/undo/take-out/", "stop/undo/start/", "set-text/undo/put-back/"}
)

func restoreScenarios() []scenario {
	return []scenario{
		{name: "restore steward", kind: "restore-steward", prepare: withLost(false), begin: restoresBy("steward"),
			check: isRestored},
		{name: "restore steward cancelled", kind: "restore-steward", back: true, prepare: withShown,
			begin: cancelledAtLogin("steward"), check: isLostAsBefore},
		{name: "restore steward cancelled, no other key", kind: "restore-steward", back: true,
			lacks: []string{"look/undo/take-out/"}, prepare: withLost(false), begin: cancelledAtLogin("steward"),
			check: isLostAsBefore},
		{name: "restore second-key", kind: "restore-second-key", prepare: withLost(true),
			begin: restoresBy("second-key"), check: isRestored},
		{name: "restore second-key cancelled", kind: "restore-second-key", back: true, prepare: withShown,
			begin: cancelledAtLogin("second-key"), check: isLostAsBefore},
		{name: "restore already-open", kind: "restore-already-open", prepare: withPassword,
			begin: restoresBy("already-open"), check: isRestored},
		{name: "restore already-open cancelled", kind: "restore-already-open", back: true, prepare: withPasswordShown,
			begin: cancelledAtLogin("already-open"), check: isLostAsBefore},
		{name: "restore lent-key", kind: "restore-lent-key", prepare: withLost(false), begin: restoresBy("lent-key"),
			check: isRestored},
		{name: "restore lent-key cancelled", kind: "restore-lent-key", back: true, prepare: withShown,
			begin: cancelledAtLogin("lent-key"), check: isLostAsBefore},
		{name: "restore boot-text", kind: "restore-boot-text", lacks: []string{"rest/stop/"},
			prepare: withLost(false), begin: restoresBy("boot-text"), check: isRestored},
		{name: "restore boot-text cancelled", kind: "restore-boot-text", back: true,
			lacks: append(sinceIn, "stop/undo/stop/"), prepare: withShown, begin: cancelledAtLogin("boot-text"),
			check: isLostAsBefore},
		{name: "restore boot-text cancelled at once", kind: "restore-boot-text", back: true,
			lacks: []string{"look/undo/take-out/", "stop/undo/stop/", "start/undo", "put-text-back/undo",
				"accept/undo", "login/undo"}, slow: "set-user-data", prepare: withLost(false),
			begin: cancelledAtStep("boot-text", "set-text"), check: isLostAsBefore},
		{name: "restore disk", kind: "restore-disk", lacks: append(withLaunched, "rest/stop/"),
			prepare: withLost(false), begin: restoresBy("disk"), check: isRestored},
		{name: "restore disk, rescue there", kind: "restore-disk", lacks: append(withOneThere, "rest/stop/"),
			prepare: withRescue, begin: restoresBy("disk"), check: isRestored},
		{name: "restore disk cancelled", kind: "restore-disk", back: true,
			lacks: slices.Concat(sinceIn, []string{"stop/undo/stop/"}), prepare: withShown,
			begin: cancelledAtLogin("disk"), check: isLostAsBefore},
		{name: "restore disk, busy", kind: "restore-disk", back: true, lacks: slices.Concat(withLaunched, whileAway),
			prepare: withLost(false), begin: busyDisk, check: isLostAsBefore},
		{name: "restore disk, busy, rescue there", kind: "restore-disk", back: true,
			lacks: slices.Concat(withOneThere, whileAway), prepare: withRescue, begin: busyDisk, check: isLostAsBefore},
		{name: "restore stopped", kind: "restore-disk", lacks: slices.Concat(withLaunched, []string{"stop/stop/"}),
			prepare: withLostStopped, begin: restoresBy("disk"), check: isRestored},
		{name: "restore stopped, boot-text", kind: "restore-boot-text", lacks: []string{"stop/stop/"},
			prepare: withLostStopped, begin: restoresBy("boot-text"), check: isRestored},
		{name: "restore stopped, cancelled", kind: "restore-disk", back: true,
			lacks: slices.Concat(sinceIn, []string{"look/undo/take-out/"}), prepare: withLostStopped,
			begin: cancelledAtLogin("disk"), check: isLostStopped},
		{name: "restore stopped, boot-text, cancelled", kind: "restore-boot-text", back: true,
			lacks: slices.Concat(sinceIn, []string{"look/undo/take-out/"}), prepare: withLostStopped,
			begin: cancelledAtLogin("boot-text"), check: isLostStopped},
		// Cancelled before the cloud has answered: what it was asked for may still come.
		{name: "restore disk cancelled, stop not answered", kind: "restore-disk", back: true, lost: true,
			prepare: withLost(false), begin: cancelledAtStep("disk", "stop"), check: isLostAsBefore},
		{name: "restore disk cancelled, detach not answered", kind: "restore-disk", back: true, lost: true,
			prepare: withLostStopped, begin: cancelledAtStep("disk", "detach"), check: isLostStopped},
		{name: "restore disk cancelled, attach not answered", kind: "restore-disk", back: true, lost: true,
			prepare: withLost(false), begin: cancelledAtStep("disk", "lend"), check: isLostAsBefore},
		{name: "restore disk cancelled, launch not answered", kind: "restore-disk", back: true, lost: true,
			prepare: withLost(false), begin: cancelledAtStep("disk", "rescue"), check: isLostAsBefore},
		{name: "restore boot-text cancelled, no answer", kind: "restore-boot-text", back: true, lost: true,
			prepare: withLost(false), begin: cancelledAtStep("boot-text", "set-text"), check: isLostAsBefore},
		{name: "fetch", kind: "restore-fetch", lacks: withLaunched, prepare: withLost(false), begin: fetches,
			check: isLostAsBefore},
		{name: "fetch, rescue there", kind: "restore-fetch", lacks: withOneThere, prepare: withRescue, begin: fetches,
			check: isLostAsBefore},
		{name: "fetch cancelled", kind: "restore-fetch", back: true, lacks: withLaunched, prepare: withLost(false),
			begin: cancelledCopying, check: isLostAsBefore},
		{name: "fetch cancelled, rescue there", kind: "restore-fetch", back: true, lacks: withOneThere,
			prepare: withRescue, begin: cancelledCopying, check: isLostAsBefore},
		{name: "restore disk, shared", kind: "restore-disk",
			lacks: slices.Concat(withLaunched, []string{"rest/stop/", "dismiss/remove/"}), prepare: lockedOut,
			begin: partOf(restoresMany), check: afterWhole(isRestored)},
		{name: "restore disk, shared, busy", kind: "restore-disk", back: true,
			lacks: slices.Concat(withLaunched, whileAway, []string{"rescue/undo/remove/"}), prepare: lockedOut,
			begin: partOf(busyMany), check: afterWhole(isLostAsBefore)},
		{name: "restore many", kind: "restore-many", lacks: []string{"dismiss/remove/"}, prepare: withLost(false),
			begin: restoresMany, check: isRestored},
		{name: "restore many, shared", kind: "restore-many", prepare: lockedOut, begin: restoresMany,
			check: isRestored},
		{name: "restore many, shared, cancelled", kind: "restore-many", back: true, prepare: lockedOut,
			begin: cancelledShared, check: isLostAsBefore},
		{name: "restore many cancelled", kind: "restore-many", back: true, lacks: []string{"choose/undo/remove/"},
			prepare: withLost(false), begin: cancelledManyRestores, check: isLostOrSaid},
	}
}

func init() {
	scenarios = append(scenarios, restoreScenarios()...)
	for name, calls := range map[string][]string{
		"restore disk cancelled, stop not answered":   {"stop"},
		"restore disk cancelled, detach not answered": {"detach"},
		"restore disk cancelled, attach not answered": {"attach"},
		"restore disk cancelled, launch not answered": {"launch"},
		"restore boot-text cancelled, no answer":      {"set-user-data"},
		"restore steward":                             {"get"},
		"restore second-key":                          {"get"},
		"restore already-open":                        {"get"},
		"restore disk": {"get", "stop", "detach", "attach", "start", "launch",
			"boot-output", "volume", "remove"},
		"restore disk, rescue there":          {"attach", "detach"},
		"restore disk, busy":                  {"detach", "attach", "start", "volume", "remove"},
		"restore boot-text":                   {"get", "stop", "start", "user-data", "set-user-data"},
		"restore boot-text cancelled at once": {"set-user-data", "start"},
		"restore stopped":                     {"stop", "attach"},
		"restore stopped, cancelled":          {"attach", "stop"},
		"fetch":                               {"stop", "detach", "attach", "start", "launch", "remove"},
		"fetch cancelled":                     {"attach", "remove"},
	} {
		cloudCalls[name] = calls
	}
}

// withLost launches an instance by a key of its own, writes into its file by hand,
// loses the key, and makes the pair to get back in with.
func withLost(second bool) func(*trial) error {
	return func(x *trial) error {
		if err := x.noRescue(); err != nil {
			return err
		}
		x.state["lost"], x.state["new"] = "lost-"+x.instance, "new-"+x.instance
		for _, k := range []string{x.state["lost"], x.state["new"]} {
			if err := x.plumlatch("key", "create", k, "-dir", x.slot.dir); err != nil {
				return err
			}
		}
		keys := x.state["lost"]
		if second {
			keys += "," + x.slot.key
		}
		if err := x.plumlatch("instance", "launch", x.instance, "-region", "north-pier", "-image", cmp.Or(x.state["image"], "debian-12"),
			"-size", "small", "-key", keys, "-tag", "case="+x.instance); err != nil {
			return err
		}
		i, err := x.client.Instance(context.Background(), x.instance)
		if err != nil {
			return err
		}
		x.cloudID = i.CloudID
		text, err := os.ReadFile(x.keysFile())
		if err != nil {
			return err
		}
		x.state["text"] = "# by hand, before\n" + string(text) + "# by hand, behind\n"
		if err := os.WriteFile(x.keysFile(), []byte(x.state["text"]), 0o600); err != nil {
			return err
		}
		if x.state["volume"], err = x.volume(); err != nil {
			return err
		}
		x.state["was"] = "running"
		x.state["user data"] = i.UserData
		return x.plumlatch("key", "lost", x.state["lost"])
	}
}

// withShown has another key of a person's there, whose private half was shown: then
// the guard lets what a restore has added be taken out again.
func withShown(x *trial) error {
	if err := withLost(true)(x); err != nil {
		return err
	}
	return x.showsSecond()
}

func (x *trial) showsSecond() error {
	return x.plumlatch("key", "prove", x.slot.key, "-identity", filepath.Join(x.slot.dir, x.slot.key))
}

// lockedOut leaves only the disk's way open.
func lockedOut(x *trial) error {
	if err := withLost(false)(x); err != nil {
		return err
	}
	x.state["steward"] = strings.TrimSpace(stewardLine.FindString(x.state["text"]))
	x.state["text"] = stewardLine.ReplaceAllString(x.state["text"], "")
	if err := os.WriteFile(x.keysFile(), []byte(x.state["text"]), 0o600); err != nil {
		return err
	}
	if err := standinCall("POST", "/v1/instances/"+x.cloudID+"/nature",
		`{"stop_destroys":"","missing_rights":["user-data","set-keys"]}`, nil); err != nil {
		return err
	}
	_ = x.plumlatch("survey", x.instance, "-inside") // it does not get in
	return x.plumlatch("survey", x.instance, "-outside")
}

func withLostStopped(x *trial) error {
	if err := withLost(false)(x); err != nil {
		return err
	}
	x.state["was"] = "stopped"
	return x.plumlatch("instance", "stop", "-yes", x.instance)
}

const secretWord = "{plain}ebb and flow"

// withPassword has the server offer login by password, as a survey finds.
func withPassword(x *trial) error {
	if err := withLost(false)(x); err != nil {
		return err
	}
	return x.takesPasswords()
}

func withPasswordShown(x *trial) error {
	if err := withShown(x); err != nil {
		return err
	}
	return x.takesPasswords()
}

func (x *trial) takesPasswords() error {
	disk := shared.path("standin", "instances", x.cloudID)
	for name, text := range map[string]string{"etc/ssh/sshd_config.d/50-cloud-init.conf": "PasswordAuthentication yes\n", "etc/shadow": "debian:" + secretWord + ":1::::::\n"} {
		if err := os.WriteFile(filepath.Join(disk, name), []byte(text), 0o600); err != nil {
			return err
		}
	}
	if err := os.WriteFile(filepath.Join(x.slot.dir, "password"), []byte("ebb and flow\n"), 0o600); err != nil {
		return err
	}
	return x.plumlatch("survey", x.instance, "-outside")
}

// withRescue has a rescue instance in the zone.
func withRescue(x *trial) error {
	if err := withLost(false)(x); err != nil {
		return err
	}
	name := "r" + x.instance
	if err := x.plumlatch("instance", "launch", name, "-region", "north-pier", "-image", "debian-12", "-size",
		"small", "-key", x.slot.key); err != nil {
		return err
	}
	x.slot.rescue = name
	text, err := os.ReadFile(x.rescueFile())
	x.state["rescue text"] = string(text)
	if err != nil {
		return err
	}
	return x.plumlatch("instance", "rescue", name, "yes", "-yes")
}

func (x *trial) rescueFile() string {
	i, _ := x.client.Instance(context.Background(), x.slot.rescue)
	return shared.path("standin", "instances", i.CloudID, "home", "debian", ".ssh", "authorized_keys")
}

// noRescue takes away the rescue instance of a case before.
func (x *trial) noRescue() error {
	if x.slot.rescue == "" {
		return nil
	}
	name := x.slot.rescue
	x.slot.rescue = ""
	if err := x.plumlatch("instance", "rescue", name, "no"); err != nil {
		return err
	}
	return x.plumlatch("instance", "remove", name, "-yes")
}

// volume is the root volume of the instance, as the cloud says, "" if none is
// attached under the name that it boots from.
func (x *trial) volume() (string, error) {
	var in struct {
		RootVolume string `json:"root_volume"`
	}
	err := standinCall("GET", "/v1/instances/"+x.cloudID, "", &in)
	return in.RootVolume, err
}

// restoresBy begins a restore, and has everybody do their part.
func restoresBy(route string) func(*trial) (int64, error) {
	return func(x *trial) (int64, error) {
		id, err := x.restoring(route)
		if err == nil || !client.Definite(err) {
			x.proves()
		}
		return id, err
	}
}

// restoring begins a restore; the holder of another key grants what is asked.
func (x *trial) restoring(route string) (int64, error) {
	w, err := x.client.Restore(context.Background(), x.instance, wire.Restore{Route: route, New: x.state["new"]})
	if client.Definite(err) {
		return 0, err
	}
	args := []string{"restore", "grant", "ID", "-identity", filepath.Join(x.slot.dir, x.slot.key), "-yes"}
	switch route {
	case "already-open":
		args = []string{"work", "here", "ID", "-password-file", filepath.Join(x.slot.dir, "password"), "-dir",
			filepath.Join(x.slot.dir, "nowhere")}
	case "lent-key":
		args = []string{"work", "here", "ID", "-dir", filepath.Join(x.slot.dir, "nowhere")}
	case "second-key":
	default:
		return w.ID, err
	}
	go func() {
		id := w.ID
		for n := 0; n < 60; n++ {
			if id == 0 {
				id, _ = x.find()
			}
			args[slices.Index(args, "ID")] = fmt.Sprint(id)
			err := x.plumlatch(args...)
			ctx, cancel := context.WithTimeout(context.Background(), 2*time.Second)
			now, e := x.client.WorkByID(ctx, id)
			cancel()
			if e == nil && (now.Over() || now.Step > 1) || err == nil {
				return
			}
			args[slices.Index(args, fmt.Sprint(id))] = "ID"
			time.Sleep(300 * time.Millisecond)
		}
	}()
	return w.ID, err
}

// cancelledAtLogin cancels once the new key is in, and nobody has logged in yet.
func cancelledAtLogin(route string) func(*trial) (int64, error) {
	return func(x *trial) (int64, error) {
		id, err := x.restoring(route)
		if err != nil {
			return 0, err
		}
		return id, x.cancelWhen(id, func(w wire.Work) bool {
			return w.State == "waiting" &&
				strings.HasPrefix(w.WaitsFor, "a login with ")
		})
	}
}

// cancelledAtStep cancels while a step is at hand.
func cancelledAtStep(route, step string) func(*trial) (int64, error) {
	return func(x *trial) (int64, error) {
		id, err := x.restoring(route)
		if err != nil {
			return 0, err
		}
		return id, x.cancelWhen(id, func(w wire.Work) bool {
			return slices.ContainsFunc(w.Steps, func(s wire.WorkStep) bool {
				return s.Name == step &&
					s.State == "doing"
			})
		})
	}
}

func (x *trial) cancelWhen(id int64, when func(wire.Work) bool) error {
	for range 1500 {
		w, err := x.client.WorkByID(context.Background(), id)
		if err != nil || w.Over() {
			return err
		}
		if when(w) {
			break
		}
		time.Sleep(20 * time.Millisecond)
	}
	if _, err := x.client.CancelWork(context.Background(), id); client.Definite(err) {
		return err
	}
	return nil
}

// busyDisk restores by the disk, which cannot be unmounted for a while once the
// line is added: everything goes back.
func busyDisk(x *trial) (int64, error) {
	if err := x.inject(faultSpec{Call: "umount", How: "fail", Times: 5}); err != nil {
		return 0, err
	}
	return x.restoring("disk")
}

// fetches begins to copy files out, and says that they are copied as soon as
// somebody listens.
func fetches(x *trial) (int64, error) {
	id, err := x.restoring("fetch")
	if client.Definite(err) {
		return 0, err
	}
	go func() { // a stopped service takes its time, and the machine may have much to do
		for range 900 {
			if id == 0 {
				id, _ = x.find()
			}
			// One that is stopped gives no answer.
			ctx, cancel := context.WithTimeout(context.Background(), 2*time.Second)
			door, err := x.client.RescueDoor(ctx, id)
			done := err == nil && door.Ready && x.client.ReportFetched(ctx, id, wire.Fetched{Files: 1, Bytes: 1}) == nil
			cancel()
			if done {
				return
			}
			time.Sleep(100 * time.Millisecond)
		}
	}()
	return id, err
}

func cancelledCopying(x *trial) (int64, error) {
	id, err := x.restoring("fetch")
	if err != nil {
		return 0, err
	}
	return id, x.cancelWhen(id, func(w wire.Work) bool {
		return slices.ContainsFunc(w.Steps, func(s wire.WorkStep) bool {
			return s.Name == "copy" &&
				s.State == "doing"
		})
	})
}

func restoresMany(x *trial) (int64, error) {
	w, err := x.client.RestoreMany(context.Background(), wire.RestoreMany{Key: x.state["lost"], New: x.state["new"]})
	if err == nil || !client.Definite(err) {
		x.proves()
	}
	return w.ID, err
}

// partOf begins a restore of many, and has the case be about the part that it has.
func partOf(begin func(*trial) (int64, error)) func(*trial) (int64, error) {
	return func(x *trial) (int64, error) {
		id, err := begin(x)
		if client.Definite(err) {
			return 0, err
		}
		for range 300 {
			ctx, cancel := context.WithTimeout(context.Background(), 2*time.Second)
			list, err := x.client.Work(ctx, url.Values{"instance": {x.instance}, "kind": {"restore-disk"}}, 0)
			cancel()
			if err == nil && len(list) > 0 {
				return list[0].ID, nil
			}
			if x.point != "" && err != nil { // the service was halted: the next one is asked
				return 0, err
			}
			time.Sleep(20 * time.Millisecond)
		}
		return 0, fmt.Errorf("work %d has no part", id)
	}
}

// afterWhole checks once the restore of many is over, too.
func afterWhole(check func(*trial, wire.Work) []string) func(*trial, wire.Work) []string {
	return func(x *trial, w wire.Work) []string {
		whole, err := x.await(w.Parent)
		if err != nil || whole.State != "done" {
			return []string{fmt.Sprintf("the whole: %v %s %s", err, whole.State, whole.Outcome)}
		}
		return check(x, w)
	}
}

func busyMany(x *trial) (int64, error) {
	if err := x.inject(faultSpec{Call: "umount", How: "fail", Times: 5}); err != nil {
		return 0, err
	}
	return restoresMany(x)
}

// cancelledShared cancels while the part detaches its volume, with the rescue
// instance launched.
func cancelledShared(x *trial) (int64, error) {
	if err := x.inject(faultSpec{Call: "detach", How: "slow", Times: 1, Delay: 2000}); err != nil {
		return 0, err
	}
	id, err := restoresMany(x)
	if err != nil {
		return 0, err
	}
	return id, x.cancelWhen(id, func(wire.Work) bool {
		list, err := x.client.Work(context.Background(),
			url.Values{"instance": {x.instance}, "kind": {"restore-disk"}}, 0)
		return err == nil && len(list) > 0 && list[0].Step >= 3
	})
}

// cancelledManyRestores cancels while the one restore that it is about waits for
// the disk, which is busy.
func cancelledManyRestores(x *trial) (int64, error) {
	// Without a steward the best way is by boot text; its start takes a while.
	if err := x.inject(faultSpec{Call: "stop", How: "slow", Times: 1, Delay: 2500}); err != nil {
		return 0, err
	}
	if err := os.WriteFile(x.keysFile(),
		[]byte(strings.ReplaceAll(x.state["text"], "internal-sftp", "internal-gone")), 0o600); err != nil {
		return 0, err
	}
	x.state["text"] = strings.ReplaceAll(x.state["text"], "internal-sftp", "internal-gone")
	id, err := restoresMany(x)
	if err != nil {
		return 0, err
	}
	return id, x.cancelWhen(id, func(w wire.Work) bool { return w.Children["running"] > 0 })
}

// withoutLent is a file of keys without what the cloud's agent takes away by itself.
func withoutLent(data []byte) []byte {
	var out strings.Builder
	for line := range strings.Lines(string(data)) {
		if !strings.Contains(line, "placed-by-the-cloud:") {
			out.WriteString(line)
		}
	}
	return []byte(out.String())
}

// isRestored: the new key opens it, the lost one does not, everything else is as
// it was, and nothing is left behind.
func isRestored(x *trial, w wire.Work) []string {
	broken := x.nothingLeft()
	say := func(format string, a ...any) { broken = append(broken, fmt.Sprintf(format, a...)) }
	data, err := os.ReadFile(x.keysFile())
	if err != nil {
		return append(broken, err.Error())
	}
	data = withoutLent(data)
	fresh, err := publicOf(filepath.Join(x.slot.dir, x.state["new"]+".pub"))
	if err != nil {
		return append(broken, err.Error())
	}
	var want strings.Builder
	for line := range strings.Lines(x.state["text"]) {
		if !strings.Contains(line, " "+x.state["lost"]) {
			want.WriteString(line)
		}
	}
	if s := x.state["steward"]; s != "" { // added anew
		data = []byte(strings.Replace(string(data), "\n"+s+"\n", "", 1))
	}
	if string(data) != want.String()+"\n"+fresh.Line()+"\n" {
		say("the file is\n%s\n--- wanted\n%s\n%s", data, want.String(), fresh.Line())
	}
	rows, err := x.client.Access(context.Background(), x.instance, "")
	if err != nil {
		return append(broken, err.Error())
	}
	has := false
	for _, a := range rows {
		has = has || a.Key == x.state["new"]
		if a.Key == x.state["lost"] {
			say("the lost key is on record still")
		}
		if x.state["was"] == "running" && (a.Evidence != "accepted" && a.Evidence != "proven" || a.Old) {
			say("%s (steward: %v) is %s, old: %v", a.Key, a.Steward, a.Evidence, a.Old)
		}
	}
	if !has {
		say("the new key is not on record")
	}
	if strings.HasPrefix(w.Kind, "restore-") && w.Kind != "restore-many" {
		r, err := x.client.Report(context.Background(), w.ID)
		if err != nil || r.InAt == nil || len(r.Steps) < 7 {
			say("report: %v %+v", err, r)
		}
	}
	return broken
}

// isLostAsBefore: everything is as it was: the file byte for byte, but for the line
// break that an append had to add.
func isLostAsBefore(x *trial, _ wire.Work) []string {
	broken := x.nothingLeft()
	data, err := os.ReadFile(x.keysFile())
	data = withoutLent(data)
	// Where the guard forbids going back, as only the lost key is left besides, both
	// lines stand, the access is on record, and the work says so.
	list, e := x.client.Work(context.Background(), url.Values{"instance": {x.instance}}, 0)
	if e == nil && slices.ContainsFunc(list, func(w wire.Work) bool {
		return strings.Contains(w.Outcome, "still stands there (this would leave no way in")
	}) {
		rows, e := x.client.Access(context.Background(), x.instance, x.state["new"])
		if err != nil || e != nil || len(rows) != 1 ||
			!strings.HasPrefix(string(data), strings.TrimRight(x.state["text"], "\n")) ||
			!strings.Contains(string(data), x.state["new"]) {
			broken = append(broken, fmt.Sprintf("said to stand there: %v %v %+v\n%s", err, e, rows, data))
		}
		return broken
	}
	if err != nil || strings.TrimRight(string(data), "\n") != strings.TrimRight(x.state["text"], "\n") {
		broken = append(broken, fmt.Sprintf("the file is %v\n%s\n--- and was\n%s", err, data, x.state["text"]))
	}
	rows, err := x.client.Access(context.Background(), x.instance, x.state["new"])
	if err != nil || len(rows) != 0 {
		broken = append(broken, fmt.Sprintf("the new key is on record: %v %+v", err, rows))
	}
	return broken
}

// isLostOrSaid: everything is as it was, or, where the boot had added the line
// and no steward could look, the restore says that the line may stand.
func isLostOrSaid(x *trial, w wire.Work) []string {
	list, err := x.client.Work(context.Background(), url.Values{"instance": {x.instance}}, 0)
	if err != nil {
		return []string{err.Error()}
	}
	for _, c := range list {
		if c.Kind != "restore-boot-text" || !strings.Contains(c.Outcome, "may still stand there") {
			continue
		}
		broken := x.nothingLeft()
		rows, err := x.client.Access(context.Background(), x.instance, x.state["new"])
		if data, bad := os.ReadFile(x.keysFile()); bad != nil || err != nil || len(rows) != 1 ||
			!strings.HasPrefix(string(data), x.state["text"]) {
			broken = append(broken, fmt.Sprintf("said to stand there: %v %v %+v\n%s", bad, err, rows, data))
		}
		return broken
	}
	return isLostAsBefore(x, w)
}

// isLostStopped: it is stopped as it was, with its own volume; nobody could take
// the new line out, and that is said.
func isLostStopped(x *trial, w wire.Work) []string {
	broken := x.nothingLeft()
	data, err := os.ReadFile(x.keysFile())
	if err != nil || !strings.HasPrefix(string(data), x.state["text"]) {
		broken = append(broken, fmt.Sprintf("the file is %v\n%s", err, data))
	}
	if strings.Contains(string(data), x.state["new"]) != strings.Contains(w.Outcome, "still stand") {
		broken = append(broken, "it says: "+w.Outcome+"\n"+string(data))
	}
	return broken
}

// nothingLeft: its own volume under its own name, the run state that it had, its
// own user data, no rescue instance, no line on one that was there, and no disk
// that was pulled while it was mounted.
func (x *trial) nothingLeft() (broken []string) {
	say := func(format string, a ...any) { broken = append(broken, fmt.Sprintf(format, a...)) }
	broken = append(broken, restsIn(x.state["was"])(x, wire.Work{})...)
	if v, err := x.volume(); err != nil || v != x.state["volume"] {
		say("its root volume is %q, and was %q: %v", v, x.state["volume"], err)
	}
	var v struct {
		State, Instance, Device string
		Dirty                   bool
	}
	if err := standinCall("GET", "/v1/volumes/"+x.state["volume"], "", &v); err != nil ||
		v.State != "in-use" || v.Dirty {
		say("the volume: %+v %v", v, err)
	}
	if text, err := userDataOf(x.cloudID); err != nil || text != x.state["user data"] {
		say("its user data is %v\n%s", err, text)
	}
	var list []struct {
		Name, State string
		Tags        map[string]string
	}
	if err := standinCall("GET", "/v1/instances", "", &list); err != nil {
		say("%v", err)
	}
	for _, i := range list {
		if o := i.Tags["plumlatch-origin"]; (o == x.instance || o == "key "+x.state["lost"]) && i.State != "removed" {
			say("the rescue instance %s is %s", i.Name, i.State)
		}
	}
	if x.state["rescue text"] != "" {
		if text, err := os.ReadFile(x.rescueFile()); err != nil ||
			strings.TrimRight(string(text), "\n") != strings.TrimRight(x.state["rescue text"], "\n") {
			say("the rescue instance's file is %v\n%s", err, text)
		}
	}
	if backs, err := filepath.Glob(filepath.Join(filepath.Dir(x.keysFile()), "*plumlatch-new*")); err != nil ||
		len(backs) > 0 {
		say("left behind: %v %v", backs, err)
	}
	return broken
}

// userDataOf is what an instance reads when it boots next.
func userDataOf(id string) (string, error) {
	token, err := os.ReadFile(shared.path("standin-token"))
	if err != nil {
		return "", err
	}
	d := &demo{url: fmt.Sprintf("http://127.0.0.1:%d", shared.port+1)}
	return d.text("/v1/instances/"+url.PathEscape(id)+"/user-data", strings.TrimSpace(string(token)))
}

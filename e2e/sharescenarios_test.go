package e2e

import (
	"context"
	"fmt"
	"os"
	"slices"
	"strings"
	"time"

	"plumlatch/client"
	"plumlatch/core/authkeys"
	"plumlatch/core/wire"
)

// sharesFor lets the new key in for a while.
func sharesFor(seconds int) func(*trial) (int64, error) {
	return func(x *trial) (int64, error) {
		x.watch()
		end := time.Now().Add(time.Duration(seconds) * time.Second)
		w, err := x.client.AddAccess(context.Background(), x.instance,
			wire.AccessAdd{Key: x.state["new"], Until: &end, Reason: "mends the barrier"})
		return w.ID, err
	}
}

func sharedAndOver(x *trial, w wire.Work) []string {
	broken := isAsBefore(x, w)
	if !strings.Contains(w.Outcome, "has come to its end, and is withdrawn") {
		broken = append(broken, w.Outcome)
	}
	return broken
}

// withShared has the new key in for an hour.
func withShared(x *trial) error {
	if err := withNewKey(x); err != nil {
		return err
	}
	x.state["at hand"] = "access.add"
	id, err := sharesFor(3600)(x)
	for err == nil {
		var w wire.Work
		if w, err = x.client.WorkByID(context.Background(), id); err == nil && w.State == "waiting" {
			return nil
		}
		time.Sleep(20 * time.Millisecond)
	}
	return err
}

func extends(x *trial) (int64, error) {
	end := time.Now().Add(2 * time.Hour)
	x.state["end"] = authkeys.FormatTime(end.UTC().Truncate(time.Second))
	w, err := x.client.ExtendAccess(context.Background(), x.instance,
		wire.AccessExtend{Key: x.state["new"], Until: &end})
	return w.ID, err
}

func isExtended(x *trial, _ wire.Work) []string {
	broken := append(x.unlocked(), x.noneLeft()...)
	data, err := os.ReadFile(x.keysFile())
	if err != nil || strings.Count(string(data), `expiry-time="`) != 1 ||
		!strings.Contains(string(data), `expiry-time="`+x.state["end"]+`" ssh-`) ||
		!strings.HasPrefix(string(data), x.state["text"]) {
		broken = append(broken, fmt.Sprintf("%v, wanted the end %s:\n%s", err, x.state["end"], data))
	}
	rows, err := x.client.Access(context.Background(), x.instance, x.state["new"])
	if err != nil || len(rows) != 1 || rows[0].Until == nil ||
		authkeys.FormatTime(rows[0].Until.UTC()) != x.state["end"] || rows[0].Evidence != "accepted" {
		broken = append(broken, fmt.Sprintf("%+v %v", rows, err))
	}
	return broken
}

// sharesManyFor is sharesFor for all instances with a tag: here one.
func sharesManyFor(seconds int) func(*trial) (int64, error) {
	return func(x *trial) (int64, error) {
		x.watch()
		end := time.Now().Add(time.Duration(seconds) * time.Second)
		w, err := x.client.ChangeMany(context.Background(),
			wire.AccessMany{Do: wire.ManyAdd, Key: x.state["new"], Tag: "case=" + x.instance, Until: &end,
				Reason: "mends the barrier"})
		return w.ID, err
	}
}

// cancelledInRest cancels once every instance has the key.
func cancelledInRest(begin func(*trial) (int64, error)) func(*trial) (int64, error) {
	return func(x *trial) (int64, error) {
		id, err := begin(x)
		for n := 0; err == nil && n < 600; n++ {
			var w wire.Work
			if w, err = x.client.WorkByID(context.Background(), id); err != nil || w.Over() ||
				w.State == "waiting" && strings.Contains(w.WaitsFor, "end on") {
				break
			}
			time.Sleep(20 * time.Millisecond)
		}
		if err == nil {
			if _, e := x.client.CancelWork(context.Background(), id); client.Definite(e) {
				err = e
			}
		}
		return id, err
	}
}

func withdrawsMany(x *trial) (int64, error) {
	x.watch()
	w, err := x.client.ChangeMany(context.Background(),
		wire.AccessMany{Do: wire.ManyRemove, Key: x.slot.key, Tag: "case=" + x.instance})
	return w.ID, err
}

// hasThree: the file is as it was with the key that leaked, and no limit stays.
func hasThree(x *trial, w wire.Work) []string {
	broken := hasBoth(x, w)
	if k, err := x.client.Key(context.Background(), x.state["leaked"]); err != nil || k.State != "exposed" {
		broken = append(broken, fmt.Sprintf("%+v %v", k, err))
	}
	return broken
}

// withSecond has a second key in for good.
func withSecond(x *trial) error {
	if err := withNewKey(x); err != nil {
		return err
	}
	w, err := x.client.AddAccess(context.Background(), x.instance, wire.AccessAdd{Key: x.state["new"]})
	if err == nil {
		w, err = x.await(w.ID)
	}
	if err == nil && w.State != "done" {
		err = fmt.Errorf("%s", w.Outcome)
	}
	if err != nil {
		return err
	}
	data, err := os.ReadFile(x.keysFile())
	x.state["both"] = string(data)
	return err
}

func withdraws(x *trial) (int64, error) {
	x.watch()
	w, err := x.client.RemoveAccess(context.Background(), x.instance, wire.AccessRemove{Key: x.slot.key})
	return w.ID, err
}

// isWithdrawn is as after a rotation: the new key alone opens.
func isWithdrawn(x *trial, w wire.Work) []string { return isRotated(x, w) }

func hasBoth(x *trial, _ wire.Work) []string {
	broken := append(x.unlocked(), x.noneLeft()...)
	if data, err := os.ReadFile(x.keysFile()); err != nil || string(data) != x.state["both"] {
		broken = append(broken, fmt.Sprintf("the file is %v\n%s\n--- and was\n%s", err, data, x.state["both"]))
	}
	rows, err := x.client.Access(context.Background(), x.instance, "")
	if err != nil || len(rows) != 3 {
		broken = append(broken, fmt.Sprintf("%+v %v", rows, err))
	}
	return broken
}

// placesKey has the cloud's own agent let the new key in.
func placesKey(x *trial) (int64, error) {
	w, err := x.client.PlaceKey(context.Background(), x.instance, wire.PlaceKey{Key: x.state["new"]})
	return w.ID, err
}

func placedCancelled(x *trial) (int64, error) {
	id, err := placesKey(x)
	if err != nil {
		return 0, err
	}
	// Once the cloud was asked: a cancel before that has nothing to take back.
	asked := faultSpec{Call: "place-key", How: "slow", Times: 1, Delay: 2000}
	if x.fault != nil {
		asked = *x.fault
	}
	return id, x.cancelWhen(id, func(wire.Work) bool { return x.metOf(asked) })
}

// isPlaced: the new key opens it beside those that did, by one entry of the cloud's agent; the rest of the file is as it was.
func isPlaced(x *trial, _ wire.Work) []string {
	broken := x.unlocked()
	var placed []struct{ Name string }
	err := standinCall("GET", "/v1/instances/"+x.cloudID+"/placed-keys", "", &placed)
	if err != nil || len(placed) != 1 || placed[0].Name != strings.ToLower(x.state["new"]) {
		broken = append(broken, fmt.Sprintf("the cloud places %v %v", placed, err))
	}
	data, err := os.ReadFile(x.keysFile())
	if rest := strings.TrimSuffix(string(withoutLent(data)), "\n"); err != nil || rest != x.state["text"] {
		broken = append(broken, fmt.Sprintf("the rest of the file is %v\n%s", err, rest))
	}
	rows, err := x.client.Access(context.Background(), x.instance, "")
	for _, key := range []string{x.state["new"], x.slot.key} {
		if slices.ContainsFunc(rows, func(a wire.Access) bool { return a.Key == key && a.Evidence == "accepted" && !a.Old }) {
			continue
		}
		broken = append(broken, fmt.Sprintf("on record: %+v %v", rows, err))
	}
	return broken
}

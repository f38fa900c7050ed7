package e2e

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"plumlatch/client"
	"plumlatch/core/wire"
)

func init() {
	all := []scenario{
		{name: "rehearse", kind: "rehearse", prepare: withPlace, begin: rehearses("boot-text"), check: isRehearsed},
		{name: "rehearse cancelled", kind: "rehearse", back: true, slow: "stop", prepare: withPlace, begin: rehearsalCancelled("carry"),
			check: isRehearsed},
		{name: "rehearse cancelled, image not answered", kind: "rehearse", back: true, lost: true, prepare: withPlace,
			begin: rehearsalCancelled("image"), check: isRehearsed},
		{name: "rehearse cancelled, launch not answered", kind: "rehearse", back: true, lost: true, prepare: withPlace,
			begin: rehearsalCancelled("launch"), check: isRehearsed},
	}
	for n := range all {
		all[n].from = "127.0.0.1"
	}
	scenarios = append(scenarios, all...)
	for name, calls := range map[string][]string{
		"rehearse":                                {"make-image", "own-image", "launch", "get", "boot-output", "groups", "remove", "remove-image"},
		"rehearse cancelled":                      {"remove", "remove-image"},
		"rehearse cancelled, image not answered":  {"make-image"},
		"rehearse cancelled, launch not answered": {"launch"},
	} {
		cloudCalls[name] = calls
	}
}

// rehearses carries a way out on a copy.
func rehearses(route string) func(*trial) (int64, error) {
	return func(x *trial) (int64, error) {
		x.state["at hand"] = ""
		w, err := x.client.Rehearse(context.Background(), x.instance, wire.Rehearse{Route: route})
		if client.Definite(err) {
			return 0, err
		}
		return w.ID, err
	}
}

// rehearsalCancelled cancels one in the middle of a step.
func rehearsalCancelled(step string) func(*trial) (int64, error) {
	return func(x *trial) (int64, error) {
		id, err := rehearses("disk")(x)
		if err != nil {
			return 0, err
		}
		return id, x.cancelWhen(id, func(w wire.Work) bool { return w.StepName == step })
	}
}

// isRehearsed: nothing is left of it, neither at the cloud nor in the ledger, and the instance is as it was; nobody lost a way in.
func isRehearsed(x *trial, w wire.Work) []string {
	broken := isNotCopied(x, w)
	keys, err := x.client.Keys(context.Background(), nil)
	if err != nil || slices.ContainsFunc(keys, func(k wire.Key) bool { return strings.Contains(k.Name, "-rehearsal-") }) {
		broken = append(broken, fmt.Sprintf("a pair is left: %v %v", keys, err))
	}
	past, err := x.client.Rehearsals(context.Background(), x.instance)
	if want := map[bool]int{true: 0, false: 1}[w.State == "cancelled"]; err != nil || len(past) != want || want == 1 && !past[0].Good {
		broken = append(broken, fmt.Sprintf("kept of it: %+v %v", past, err))
	}
	return broken
}

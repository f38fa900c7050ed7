package e2e

import (
	"context"
	"fmt"
	"slices"
	"time"

	"plumlatch/client"
	"plumlatch/core/wire"
)

// scenarios are the ways through each kind of work that the harness takes. A
// new kind of work adds its own.
var scenarios = []scenario{
	{name: "launch", kind: "launch", lacks: []string{"launch/address/"}, begin: beginLaunch, check: runs},
	{name: "launch cancelled", kind: "launch", lacks: []string{"launch/address/"}, back: true, slow: "launch",
		begin: cancelled(beginLaunch), check: gone},
	{name: "launch never runs", kind: "launch", lacks: []string{"launch/address/"}, back: true, begin: neverRuns, check: gone},
	{name: "launch with an address", kind: "launch", begin: launchWithAddress, check: isAtStatic(true)},
	{name: "launch with an address cancelled", kind: "launch", back: true, slow: "move", begin: cancelledAtAddress,
		check: func(x *trial, w wire.Work) []string { return append(gone(x, w), addresses(0)(x, w)...) }},
	{name: "stop", kind: "stop", prepare: launched, begin: changes("stop"), check: restsIn("stopped")},
	{name: "stop cancelled", kind: "stop", back: true, slow: "stop", prepare: launched,
		begin: cancelled(changes("stop")), check: restsIn("running")},
	{name: "start", kind: "start", prepare: stopped, begin: changes("start"), check: runs},
	{name: "start cancelled", kind: "start", back: true, slow: "start", prepare: stopped,
		begin: cancelled(changes("start")), check: restsIn("stopped")},
	{name: "adopt", kind: "adopt", prepare: there, begin: adoptByClient, check: isAdopted},
	{name: "adopt cancelled", kind: "adopt", back: true, prepare: there, begin: cancelled(adoptAndVanish),
		check: asItWas},
	{name: "adopt many", kind: "adopt-many", begin: adoptNone, check: func(*trial, wire.Work) []string { return nil }},
	{name: "forget", kind: "remove", lacks: []string{"remove/remove/", "remove/gone/", "remove/forget/"}, prepare: adoptedBefore,
		begin: changes("remove"), check: asItWas},
	{name: "admit me", kind: "admit", lacks: []string{"admit/end/", "admit/withdraw/"},
		prepare: admitted("198.51.100.7", true), begin: admits(wire.Admit{From: []string{"198.51.100.9"}, Me: true}),
		check: letsIn("198.51.100.9/32", "198.51.100.7/32")},
	{name: "admit for a while", kind: "admit", lacks: []string{"admit/former/", "admit/group/"}, prepare: launched,
		begin: admits(wire.Admit{From: []string{"203.0.113.SLOT"}, Shared: true, Seconds: 3}),
		check: letsIn("", "203.0.113.SLOT/32")},
	{name: "admit cancelled", kind: "admit", back: true, prepare: launched,
		begin: cancelledWaiting(admits(wire.Admit{From: []string{"203.0.113.64/26"}, Seconds: 3600})),
		check: letsIn("", "203.0.113.64/26")},
	{name: "unadmit", kind: "unadmit", prepare: admitted("198.51.100.0/24", false),
		begin: unadmits("198.51.100.0/24"), check: letsIn("", "198.51.100.0/24")},
	{name: "unadmit cancelled", kind: "unadmit", back: true, slow: "unadmit",
		prepare: admitted("198.51.100.0/24", false), begin: cancelled(unadmits("198.51.100.0/24")),
		check: letsIn("198.51.100.0/24", "")},
	{name: "reserve", kind: "address-reserve", begin: reserves, check: addresses(1)},
	{name: "reserve cancelled", kind: "address-reserve", back: true, slow: "reserve", begin: cancelled(reserves),
		check: addresses(0)},
	{name: "release", kind: "address-release", prepare: reserved, begin: releases, check: addresses(0)},
	{name: "move", kind: "address-move", prepare: launchedAndReserved, begin: moves, check: isAtStatic(true)},
	{name: "move cancelled", kind: "address-move", back: true, slow: "move", prepare: launchedAndReserved,
		begin: cancelled(moves), check: isAtStatic(false)},
	{name: "admit cancelled, no answer", kind: "admit", back: true, lost: true, prepare: launched,
		begin: cancelledAt(1, admits(wire.Admit{From: []string{"203.0.113.128/25"}})),
		check: later(letsIn("", "203.0.113.128/25"))},
	{name: "unadmit cancelled, no answer", kind: "unadmit", back: true, lost: true,
		prepare: admitted("198.51.100.0/24", false), begin: cancelledAt(0, unadmits("198.51.100.0/24")),
		check: later(letsIn("198.51.100.0/24", ""))},
	{name: "reserve cancelled, no answer", kind: "address-reserve", back: true, lost: true,
		begin: cancelledAt(0, reserves), check: later(addresses(0))},
	{name: "move cancelled, no answer", kind: "address-move", back: true, lost: true, prepare: launchedAndReserved,
		begin: cancelledAt(0, moves), check: later(isAtStatic(false))},
	{name: "survey", kind: "survey", prepare: launched, begin: surveys, check: wasSurveyed},
	{name: "survey cancelled", kind: "survey", back: true, slow: "groups", prepare: launched,
		begin: cancelled(surveys), check: opensStill},
	{name: "rotate", kind: "rotate", lacks: []string{"rotate/grace/", "rotate/withdraw/", "rotate/last/", "rotate/contain/"},
		prepare: withNewKey, begin: rotates(0), check: isRotated},
	{name: "rotate with grace", kind: "rotate",
		lacks: []string{"rotate/contain/", "rotate/add/", "rotate/accept/", "rotate/proof/"}, prepare: withNewKey,
		begin: rotates(4), check: isRotated},
	{name: "rotate cancelled", kind: "rotate", back: true, lacks: []string{"rotate/contain/"}, prepare: withNewKey,
		begin: cancelledInGrace(rotates(3600)), check: isAsBefore},
	{name: "leaked", kind: "rotate", lacks: notContaining, prepare: withLeaked, begin: replacesLeaked(true),
		check: isReplaced},
	{name: "leaked cancelled", kind: "rotate", back: true, lacks: notContaining, prepare: withLeaked,
		begin: cancelledAtProof(replacesLeaked(false)), check: hasThree},
	{name: "rotate many", kind: "rotate-many", prepare: withNewKey, begin: rotatesMany(0), check: isRotated},
	{name: "rotate many cancelled", kind: "rotate-many", back: true, prepare: withNewKey,
		begin: cancelledInGrace(rotatesMany(3600)), check: isAsBefore},
	{name: "access add", kind: "access-add", prepare: withNewKey, begin: sharesFor(4), check: sharedAndOver},
	{name: "access add cancelled", kind: "access-add", back: true, prepare: withNewKey,
		begin: cancelledWaiting(sharesFor(3600)), check: isAsBefore},
	{name: "access placed", kind: "access-place", prepare: withNewKey, begin: placesKey, check: isPlaced},
	{name: "access placed cancelled", kind: "access-place", back: true, slow: "place-key", prepare: withNewKey, begin: placedCancelled,
		check: isAsBefore},
	{name: "access placed cancelled, not answered", kind: "access-place", back: true, lost: true, prepare: withNewKey, begin: placedCancelled,
		check: isAsBefore},
	{name: "access extend", kind: "access-extend", prepare: withShared, begin: extends, check: isExtended},
	{name: "access remove", kind: "access-remove", prepare: withSecond, begin: withdraws, check: isWithdrawn},
	{name: "access remove cancelled", kind: "access-remove", back: true, prepare: withSecond,
		begin: cancelledWaiting(withdraws), check: hasBoth},
	{name: "steward", kind: "steward", prepare: withHandEdits, begin: replacesSteward, check: stewardReplaced(true)},
	{name: "steward cancelled", kind: "steward", back: true, prepare: withHandEdits, begin: stewardCancelled,
		check: stewardReplaced(false)},
	{name: "add many", kind: "access-add-many", prepare: withNewKey, begin: sharesManyFor(5), check: isAsBefore},
	{name: "add many cancelled", kind: "access-add-many", back: true, prepare: withNewKey,
		begin: cancelledInRest(sharesManyFor(3600)), check: isAsBefore},
	{name: "withdraw many", kind: "access-remove-many", prepare: withSecond, begin: withdrawsMany, check: isWithdrawn},
	{name: "withdraw many cancelled", kind: "access-remove-many", back: true, slow: "groups", prepare: withSecond,
		begin: cancelledWaiting(withdrawsMany), check: hasBoth},
	{name: "remove", kind: "remove", lacks: []string{"remove/line/", "remove/forget/"}, prepare: launched,
		begin: changes("remove"), check: removed},
}

// notContaining are the steps of a rotation that other scenarios pass.
var notContaining = []string{"rotate/add/", "rotate/accept/", "rotate/proof/", "rotate/narrow/", "rotate/check/",
	"rotate/settle/", "rotate/grace/", "rotate/withdraw/", "rotate/last/", "rotate/record/"}

func surveys(x *trial) (int64, error) {
	w, err := x.client.SurveyMany(context.Background(),
		wire.SurveyMany{Instances: []string{x.instance}, Inside: true, Outside: true})
	return w.ID, err
}

// wasSurveyed: whatever happened on the way, it was seen from both sides, and nothing was changed.
func wasSurveyed(x *trial, w wire.Work) (broken []string) {
	rows, err := x.client.LastSurveys(context.Background(), x.instance)
	if err != nil || len(rows) != 3 { // inside, outside, and the configuration
		return []string{fmt.Sprintf("surveys: %+v %v", rows, err)}
	}
	for _, r := range rows {
		if r.SeenAt == nil || r.Trouble != "" ||
			r.Sort == "inside" && (r.Recorded != 2 || r.Unrecorded+r.Missing != 0) {
			broken = append(broken, fmt.Sprintf("%+v", r))
		}
	}
	return append(broken, opensStill(x, w)...)
}

func opensStill(x *trial, _ wire.Work) []string { return x.opens() }

func (x *trial) launch() (wire.Instance, error) {
	return x.client.Launch(context.Background(),
		wire.Launch{Name: x.instance, Region: "north-pier", Image: "debian-12", Size: "small",
			Keys: []string{x.slot.key}, Tags: map[string]string{"case": x.instance}})
}

// launchWithAddress launches an instance with a static address that is reserved for it.
func launchWithAddress(x *trial) (int64, error) {
	i, err := x.client.Launch(context.Background(), wire.Launch{Name: x.instance, Region: "north-pier", Image: "debian-12",
		Size: "small", Keys: []string{x.slot.key}, Tags: map[string]string{"case": x.instance}, StaticAddress: "new"})
	return i.Work, err
}

// cancelledAtAddress cancels it while the address is given.
func cancelledAtAddress(x *trial) (int64, error) {
	id, err := launchWithAddress(x)
	if err != nil {
		return 0, err
	}
	return id, x.cancelWhen(id, func(w wire.Work) bool {
		return slices.ContainsFunc(w.Steps, func(s wire.WorkStep) bool { return s.Name == "address" && s.State == "doing" })
	})
}

func beginLaunch(x *trial) (int64, error) {
	i, err := x.launch()
	return i.Work, err
}

// neverRuns launches an instance that never gets to run.
func neverRuns(x *trial) (int64, error) {
	if err := x.inject(faultSpec{Call: "state", Times: 1}); err != nil {
		return 0, err
	}
	return beginLaunch(x)
}

// cancelled begins and, once the work is under way, asks it to go back.
func cancelled(begin func(*trial) (int64, error)) func(*trial) (int64, error) {
	return func(x *trial) (int64, error) {
		id, err := begin(x)
		if err != nil {
			return 0, err
		}
		for range 100 {
			w, err := x.client.WorkByID(context.Background(), id)
			if err != nil {
				return 0, err
			}
			if w.State == "waiting" || w.State == "running" && len(w.Steps) > 0 && w.Steps[0].State == "doing" {
				break
			}
			time.Sleep(20 * time.Millisecond)
		}
		// Where a replica is not halted on the way, the slow call is at hand when it is cancelled.
		for until := time.Now().Add(time.Minute); x.point == "" && x.scenario.slow != "" && time.Now().Before(until); {
			if x.metOf(faultSpec{Call: x.scenario.slow, How: "slow", Times: 1, Delay: 2000}) {
				break
			}
			time.Sleep(20 * time.Millisecond)
		}
		if _, err = x.client.CancelWork(context.Background(), id); err != nil && !client.Definite(err) {
			err = nil // it was halted before it could answer
		}
		return id, err
	}
}

func changes(verb string) func(*trial) (int64, error) {
	return func(x *trial) (int64, error) {
		i, err := x.client.Change(context.Background(), x.instance, verb)
		return i.Work, err
	}
}

func launched(x *trial) error {
	i, err := x.launch()
	if err != nil {
		return err
	}
	if w, err := x.await(i.Work); err != nil || w.State != "done" {
		return fmt.Errorf("%w %s", err, w.Outcome)
	}
	i, err = x.client.Instance(context.Background(), x.instance)
	x.cloudID = i.CloudID
	return err
}

func stopped(x *trial) error {
	if err := launched(x); err != nil {
		return err
	}
	i, err := x.client.Change(context.Background(), x.instance, "stop")
	if err != nil {
		return err
	}
	_, err = x.await(i.Work)
	return err
}

// runs: one instance, made once, at rest in the ledger, with a way in.
func runs(x *trial, w wire.Work) (broken []string) {
	broken = restsIn("running")(x, w)
	return append(broken, x.opens()...)
}

// restsIn: the instance is the one that it was, in a state, and nothing is in the way of more work.
func restsIn(state string) func(*trial, wire.Work) []string {
	return func(x *trial, w wire.Work) (broken []string) {
		all, alive, err := x.inCloud()
		if err != nil {
			return []string{err.Error()}
		}
		if len(all) != 1 || len(alive) != 1 {
			return []string{fmt.Sprintf("the cloud has made %d instances of this name, %d are there",
				len(all), len(alive))}
		}
		if x.cloudID != "" && alive[0].ID != x.cloudID {
			broken = append(broken, "another instance stands in its place")
		}
		i, err := x.client.Instance(context.Background(), x.instance)
		if err != nil {
			return append(broken, err.Error())
		}
		if alive[0].State != state || i.State != state || i.Phase != "ready" || i.Address != alive[0].Address {
			broken = append(broken, fmt.Sprintf("the cloud says %s at %q; the ledger %s at %q, %s, %q",
				alive[0].State, alive[0].Address, i.State, i.Address, i.Phase, i.Trouble))
		}
		if w.State == "done" && i.Trouble != "" {
			broken = append(broken, "trouble: "+i.Trouble)
		}
		return broken
	}
}

// gone: what was made is taken back.
func gone(x *trial, _ wire.Work) (broken []string) {
	_, alive, err := x.inCloud()
	if err != nil {
		return []string{err.Error()}
	}
	if len(alive) > 0 {
		broken = append(broken, fmt.Sprintf("left in the cloud: %+v", alive))
	}
	i, err := x.client.Instance(context.Background(), x.instance)
	if err != nil || i.Phase != "failed" || i.Trouble == "" {
		broken = append(broken, fmt.Sprintf("the ledger: %s %q %v", i.Phase, i.Trouble, err))
	}
	return broken
}

func removed(x *trial, _ wire.Work) (broken []string) {
	_, alive, err := x.inCloud()
	if err != nil {
		return []string{err.Error()}
	}
	if len(alive) > 0 {
		broken = append(broken, fmt.Sprintf("left in the cloud: %+v", alive))
	}
	if i, err := x.client.Instance(context.Background(), x.instance); err == nil {
		broken = append(broken, "the ledger still has it: "+i.Phase)
	}
	return broken
}

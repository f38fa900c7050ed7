package e2e

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"

	"plumlatch/client"
	"plumlatch/core/wire"
)

// The ways through work on inbound rules and static addresses that the harness takes.

func admits(a wire.Admit) func(*trial) (int64, error) {
	return func(x *trial) (int64, error) {
		n := a
		n.From = []string{x.own(a.From[0])}
		w, err := x.client.Admit(context.Background(), x.instance, n)
		return w.ID, err
	}
}

// own makes a range one of this slot's own: the slots share a group.
func (x *trial) own(from string) string {
	return strings.ReplaceAll(from, "SLOT", fmt.Sprint(x.slot.n))
}

func unadmits(from string) func(*trial) (int64, error) {
	return func(x *trial) (int64, error) {
		w, err := x.client.Unadmit(context.Background(), x.instance, wire.Unadmit{From: []string{from}})
		return w.ID, err
	}
}

// admitted launches, and lets a range in.
func admitted(from string, me bool) func(*trial) error {
	return func(x *trial) error {
		if err := launched(x); err != nil {
			return err
		}
		if x.scenario.kind == "admit" { // by work it would meet the halt that the case is about
			return x.ruleByHand(from, me)
		}
		w, err := x.client.Admit(context.Background(), x.instance, wire.Admit{From: []string{from}, Me: me})
		if err != nil {
			return err
		}
		_, err = x.await(w.ID)
		return err
	}
}

// ruleByHand makes a rule and its record without any work of the service's: the
// one that halts would take that up as well.
func (x *trial) ruleByHand(from string, me bool) error {
	var own struct{ ID string }
	if err := standinCall("POST", "/v1/instances/"+x.cloudID+"/own-group", `{"client_token":"hand-`+x.instance+`"}`,
		&own); err != nil {
		return err
	}
	var rule struct{ ID string }
	if err := standinCall("POST", "/v1/groups/"+own.ID+"/rules",
		fmt.Sprintf(`{"client_token":"hand-%s","from":"%s/32"}`, x.instance, from), &rule); err != nil {
		return err
	}
	db, err := pgx.Connect(context.Background(), x.slot.database)
	if err != nil {
		return err
	}
	defer db.Close(context.Background())
	_, err = db.Exec(context.Background(),
		`INSERT INTO admissions (instance_id, work_id, group_id, rule_id, range, me, operator)
		SELECT i.id, max(w.id), $1, $2, $3, $4, 'first-admin' FROM instances i JOIN work w ON w.instance_id = i.id WHERE i.name = $5 GROUP BY i.id`, own.ID, rule.ID, from+"/32", me, x.instance)
	return err
}

// cancelledWaiting begins, and cancels once the work waits.
func cancelledWaiting(begin func(*trial) (int64, error)) func(*trial) (int64, error) {
	return func(x *trial) (int64, error) {
		id, err := begin(x)
		if err != nil {
			return 0, err
		}
		for range 200 {
			w, err := x.client.WorkByID(context.Background(), id)
			if err != nil {
				return 0, err
			}
			if w.State == "waiting" {
				break
			}
			time.Sleep(20 * time.Millisecond)
		}
		if _, err = x.client.CancelWork(context.Background(), id); err != nil && !client.Definite(err) {
			err = nil
		}
		return id, err
	}
}

// cancelledAt begins, and cancels as soon as a step is under way.
func cancelledAt(step int, begin func(*trial) (int64, error)) func(*trial) (int64, error) {
	return func(x *trial) (int64, error) {
		id, err := begin(x)
		if err != nil {
			return 0, err
		}
		for range 400 {
			w, err := x.client.WorkByID(context.Background(), id)
			if err != nil {
				return 0, err
			}
			if len(w.Steps) > step && w.Steps[step].State == "doing" {
				break
			}
			time.Sleep(5 * time.Millisecond)
		}
		_, err = x.client.CancelWork(context.Background(), id)
		return id, err
	}
}

// later checks once what comes late has come.
func later(check func(*trial, wire.Work) []string) func(*trial, wire.Work) []string {
	return func(x *trial, w wire.Work) []string {
		time.Sleep(3 * time.Second)
		return check(x, w)
	}
}

// letsIn: the one range is admitted, the other is not, and the ledger agrees
// with the cloud about what was asked for here.
func letsIn(in, not string) func(*trial, wire.Work) []string {
	return func(x *trial, _ wire.Work) (broken []string) {
		in, not := x.own(in), x.own(not)
		r, err := x.client.Rules(context.Background(), x.instance)
		if err != nil {
			return []string{err.Error()}
		}
		found := map[string]int{}
		recorded := map[string]bool{}
		for _, g := range r.Groups {
			for _, rule := range g.Rules {
				found[rule.From]++
				recorded[rule.From] = rule.By != ""
			}
		}
		if in != "" && (found[in] != 1 || !recorded[in]) {
			broken = append(broken, fmt.Sprintf("%s stands %d times, recorded: %v", in, found[in], recorded[in]))
		}
		if not != "" && found[not] > 0 {
			broken = append(broken, not+" is still let in")
		}
		if found["127.0.0.1/32"] != 1 {
			broken = append(broken, "what was there before is not")
		}
		return broken
	}
}

func (x *trial) reserve() (wire.Work, error) {
	return x.client.Reserve(context.Background(), wire.NewStaticAddress{Name: x.instance, Region: "north-pier"})
}

func reserves(x *trial) (int64, error) {
	w, err := x.reserve()
	return w.ID, err
}

// reserved reserves in the cloud itself.
func reserved(x *trial) error {
	return standinCall("POST", "/v1/addresses",
		fmt.Sprintf(`{"client_token":"hand-%s","region":"north-pier","name":"%s"}`, x.instance, x.instance), nil)
}

func launchedAndReserved(x *trial) error {
	if err := launched(x); err != nil {
		return err
	}
	return reserved(x)
}

func releases(x *trial) (int64, error) {
	w, err := x.client.Release(context.Background(), x.instance)
	return w.ID, err
}

func moves(x *trial) (int64, error) {
	w, err := x.client.MoveAddress(context.Background(), x.instance, x.instance)
	return w.ID, err
}

type cloudAddress struct{ ID, Name, Address, Instance string }

// static returns the static addresses of this case's name.
func (x *trial) static() []cloudAddress {
	var all []cloudAddress
	if err := standinCall("GET", "/v1/addresses", "", &all); err != nil {
		return nil
	}
	return slices.DeleteFunc(all, func(a cloudAddress) bool { return a.Name != x.instance })
}

func addresses(want int) func(*trial, wire.Work) []string {
	return func(x *trial, _ wire.Work) []string {
		if all := x.static(); len(all) != want {
			return []string{fmt.Sprintf("%d addresses are reserved, and not %d", len(all), want)}
		}
		return nil
	}
}

// isAtStatic: the instance has the address, or has it not, and the ledger knows.
func isAtStatic(want bool) func(*trial, wire.Work) []string {
	return func(x *trial, w wire.Work) []string {
		broken := restsIn("running")(x, w)
		all := x.static()
		if len(all) != 1 {
			return append(broken, fmt.Sprintf("%d addresses", len(all)))
		}
		i, err := x.client.Instance(context.Background(), x.instance)
		if err != nil {
			return append(broken, err.Error())
		}
		if has := i.Address == all[0].Address; has != want || (all[0].Instance != "") != want {
			broken = append(broken, fmt.Sprintf("the ledger has %s; the cloud says %+v", i.Address, all[0]))
		}
		if want {
			broken = append(broken, x.opens()...)
		}
		return broken
	}
}

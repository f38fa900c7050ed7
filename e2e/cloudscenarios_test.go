package e2e

import (
	"context"
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"

	"plumlatch/client"
	"plumlatch/core/wire"
)

func init() {
	scenarios = append(scenarios,
		scenario{name: "adopt found", kind: "adopt-found", prepare: there, begin: adoptsFound, check: wasFound},
		scenario{name: "forget found", kind: "remove", prepare: foundBefore,
			lacks: []string{"remove/remove/", "remove/gone/", "remove/line/withdraw/"}, // it has no line of ours
			begin: changes("forget"), check: isTheCloudsAlone},
		scenario{name: "cloud key added", kind: "cloud-key-add", prepare: withTally, begin: listsKey, check: isListed(2)},
		scenario{name: "cloud key added, cancelled", kind: "cloud-key-add", back: true, slow: "add-key-entry", prepare: withTally,
			begin: cancelled(listsKey), check: isListed(0)},
		scenario{name: "cloud key removed", kind: "cloud-key-remove", prepare: withListed, begin: unlistsKey, check: isListed(0)})
	cloudCalls["cloud key added"] = []string{"add-key-entry"}
}

// adoptsFound adopts what the cloud has from its list.
func adoptsFound(x *trial) (int64, error) {
	_, alive, err := x.inCloud()
	if err != nil || len(alive) != 1 {
		return 0, fmt.Errorf("%d in the cloud: %w", len(alive), err)
	}
	i, err := x.client.AdoptFound(context.Background(), wire.FoundAdoption{CloudID: alive[0].ID, LoginUser: "debian"})
	return i.Work, err
}

// wasFound: it is on record once, as the cloud's, with no key that is known to open it.
func wasFound(x *trial, _ wire.Work) []string {
	i, err := x.client.Instance(context.Background(), x.instance)
	if err != nil {
		return []string{err.Error()}
	}
	if !i.Found || i.CloudID == "" || i.State != "running" || i.Keys != 0 {
		return []string{fmt.Sprintf("on record: %+v", i)}
	}
	return nil
}

// foundBefore is on record as the cloud's.
func foundBefore(x *trial) error {
	if err := there(x); err != nil {
		return err
	}
	id, err := adoptsFound(x)
	if err != nil {
		return err
	}
	if w, err := x.await(id); err != nil || w.State != "done" {
		return fmt.Errorf("%w %s", err, w.Outcome)
	}
	return nil
}

// isTheCloudsAlone: the ledger has it no more, and the cloud as before.
func isTheCloudsAlone(x *trial, _ wire.Work) (broken []string) {
	if i, err := x.client.Instance(context.Background(), x.instance); err == nil {
		broken = append(broken, "the ledger still has it: "+i.Phase)
	}
	if _, alive, err := x.inCloud(); err != nil || len(alive) != 1 || alive[0].State != "running" {
		broken = append(broken, fmt.Sprintf("in the cloud: %+v (%v)", alive, err))
	}
	return broken
}

// tallyRegions are the lists that the scenarios use; the third one holds few keys.
var tallyRegions = []string{"north-pier", "south-pier"}

// withTally has a key of the ledger.
func withTally(x *trial) error {
	x.state["tally"] = "tally-" + x.instance
	return x.plumlatch("key", "create", x.state["tally"], "-dir", x.slot.dir)
}

// withListed has it in the lists.
func withListed(x *trial) error {
	if err := withTally(x); err != nil {
		return err
	}
	line, err := os.ReadFile(filepath.Join(x.slot.dir, x.state["tally"]+".pub"))
	if err != nil {
		return err
	}
	text, err := json.Marshal(string(line))
	for _, region := range tallyRegions {
		if err == nil {
			err = standinCall("POST", "/v1/key-entries", fmt.Sprintf(`{"client_token":"hand-%s-%s","region":%q,"name":%q,"public_key":%s}`,
				x.instance, region, region, x.instance, text), nil)
		}
	}
	return err
}

func listsKey(x *trial) (int64, error) {
	w, err := x.client.ListKey(context.Background(), wire.ListKey{Key: x.state["tally"], Name: x.instance, Regions: tallyRegions})
	if client.Definite(err) {
		return 0, err
	}
	return w.ID, err
}

func unlistsKey(x *trial) (int64, error) {
	w, err := x.client.UnlistKey(context.Background(), wire.UnlistKey{Name: x.instance, Regions: tallyRegions})
	return w.ID, err
}

// isListed: so many lists have the key, under one entry each.
func isListed(want int) func(*trial, wire.Work) []string {
	return func(x *trial, _ wire.Work) []string {
		n := 0
		for _, region := range tallyRegions {
			var list struct{ Entries []struct{ Name string } }
			if err := standinCall("GET", "/v1/key-entries?region="+region, "", &list); err != nil {
				return []string{err.Error()}
			}
			for _, e := range list.Entries {
				if e.Name == x.instance {
					n++
				}
			}
		}
		if n != want {
			return []string{fmt.Sprintf("%d lists have it, and not %d", n, want)}
		}
		return nil
	}
}

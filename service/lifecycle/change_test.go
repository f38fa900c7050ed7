package lifecycle_test

import (
	"fmt"
	"strings"
	"testing"

	"plumlatch/core/wire"
	"plumlatch/service/kinds/kindtest"
	"plumlatch/service/lifecycle"
	"plumlatch/service/store"
	"plumlatch/standin"
)

// changes begins to stop, start or remove an instance.
func changes(to store.Phase) func(h *kindtest.House) (store.Work, error) {
	return func(h *kindtest.House) (store.Work, error) {
		i, err := h.W.Lifecycle.Change(h.Context(), kindtest.By, store.Once{}, h.Instance("berth-1"), to, false)
		return store.Work{ID: i.WorkID}, err
	}
}

// TestStop: an instance that is stopped rests, and one whose stop is cancelled runs again; the
// cloud and the ledger say the same.
func TestStop(t *testing.T) {
	t.Parallel()
	kindtest.EveryHalt(t, kindtest.Case{
		Kind: "stop", Some: 5,
		Prepare: func(h *kindtest.House) {
			h.Key("first")
			h.Launch("berth-1", "first")
		},
		Begin: changes(store.Stopping),
		Reset: func(h *kindtest.House) {
			if h.Instance("berth-1").State == "stopped" {
				h.Done(changes(store.Starting)(h))
			}
		},
		State: func(h *kindtest.House) string {
			i := h.Instance("berth-1")
			in, err := h.Cloud.Get(i.CloudID)
			if err != nil {
				h.Fatal(err)
			}
			return string(in.State) + ", " + i.State + ", " + string(i.Phase)
		},
	})
}

// TestAdoptFound: an instance of the cloud is adopted from its list once, whenever the replica is killed; when
// that is cancelled, nothing is recorded; and the cloud's is the same before and after, forgotten too.
func TestAdoptFound(t *testing.T) {
	t.Parallel()
	stray := func(h *kindtest.House) standin.Instance {
		for _, in := range h.Cloud.List("") {
			if in.Name == "stray-1" {
				return in
			}
		}
		h.Fatal("the stray is gone")
		return standin.Instance{}
	}
	kindtest.EveryHalt(t, kindtest.Case{
		Kind: "adopt-found",
		Prepare: func(h *kindtest.House) {
			if _, err := h.Cloud.Launch(standin.Launch{ClientToken: "stray", Name: "stray-1", Region: "north-pier", Image: "debian-12",
				Size: "small", UserData: "#cloud-config\n"}); err != nil {
				h.Fatal(err)
			}
			h.Until("the stray to run", func() bool { return stray(h).State == standin.Running })
		},
		Begin: func(h *kindtest.House) (store.Work, error) {
			i, err := h.W.Lifecycle.AdoptFound(h.Context(), kindtest.By, store.Admin, store.Once{},
				wire.FoundAdoption{CloudID: stray(h).ID})
			return store.Work{ID: i.WorkID}, err
		},
		Reset: func(h *kindtest.House) {
			if i, err := h.DB.InstanceByName(h.Context(), "stray-1"); err == nil {
				i, err = h.W.Lifecycle.Change(h.Context(), kindtest.By, store.Once{}, i, store.Removing, true)
				if w := h.Done(store.Work{ID: i.WorkID}, err); w.State != store.Done {
					h.Fatalf("%s: %s", w.State, w.Outcome)
				}
			}
		},
		State: func(h *kindtest.House) string {
			in := stray(h)
			out := fmt.Sprintf("the cloud: %s at %s", in.State, in.Address)
			i, err := h.DB.InstanceByName(h.Context(), "stray-1")
			if err != nil {
				return out + "; nobody knows it"
			}
			keys, err := h.DB.HostKeys(h.Context(), i.ID)
			if err != nil {
				h.Fatal(err)
			}
			out += fmt.Sprintf("; the ledger: %s, %s at %s, found %t", i.Phase, i.State, i.Address, i.Found)
			for _, k := range keys {
				out += "; " + k.Source
			}
			return out
		},
	})
}

// TestAddressOfAnother: a launch that goes back leaves the address that it had reserved, if somebody has
// given it to another instance meanwhile, and goes back all the same.
func TestAddressOfAnother(t *testing.T) {
	t.Parallel()
	h := kindtest.New(t)
	h.Key("first")
	other := h.Launch("berth-2", "first")
	w, came := h.Halted("launch/host-key/begin", func(h *kindtest.House) (store.Work, error) {
		i, _, err := h.W.Lifecycle.Launch(h.Context(), kindtest.By, store.Once{}, lifecycle.LaunchRequest{Name: "berth-1",
			Region: "north-pier", Image: "debian-12", Size: "small", Keys: []string{"first"}, Static: lifecycle.NewStatic})
		return store.Work{ID: i.WorkID}, err
	})
	if !came {
		t.Fatal("it was over before")
	}
	all := h.Cloud.Addresses("")
	if len(all) != 1 || all[0].Instance == "" || all[0].Instance == other.CloudID {
		t.Fatalf("the launch has not given its address: %+v", all)
	}
	if _, err := h.Cloud.Move("by-hand", all[0].ID, other.CloudID); err != nil {
		t.Fatal(err)
	}
	if err := h.DB.CancelWork(h.Context(), kindtest.By, h.Now(w)); err != nil {
		t.Fatal(err)
	}
	h.GoOn()
	if w := h.Done(w, nil); w.State != store.Cancelled {
		t.Errorf("%s: %s", w.State, w.Outcome)
	}
	if now := h.Cloud.Addresses(""); len(now) != 1 || now[0].Instance != other.CloudID {
		t.Errorf("the other instance's address is %+v", now)
	}
}

// TestLaunchWithAddress: an instance is launched once, with the static address that was reserved for it,
// whenever its replica is killed; and when the launch is cancelled, neither is left.
func TestLaunchWithAddress(t *testing.T) {
	t.Parallel()
	there := func(h *kindtest.House) (store.Instance, bool) {
		i, err := h.DB.InstanceByName(h.Context(), "berth-1")
		return i, err == nil
	}
	kindtest.EveryHalt(t, kindtest.Case{
		Kind: "launch", Some: 8,
		Prepare: func(h *kindtest.House) { h.Key("first") },
		Begin: func(h *kindtest.House) (store.Work, error) {
			i, _, err := h.W.Lifecycle.Launch(h.Context(), kindtest.By, store.Once{}, lifecycle.LaunchRequest{Name: "berth-1",
				Region: "north-pier", Image: "debian-12", Size: "small", Keys: []string{"first"}, Static: lifecycle.NewStatic})
			return store.Work{ID: i.WorkID}, err
		},
		Reset: func(h *kindtest.House) {
			if _, ok := there(h); ok {
				h.Done(changes(store.Removing)(h))
			}
			for _, a := range h.Cloud.Addresses("") {
				h.Done(h.W.Network.Release(h.Context(), kindtest.By, store.Once{}, a.Name))
			}
		},
		State: func(h *kindtest.House) string {
			var all []string
			for _, in := range h.Cloud.List("") {
				if in.State != standin.Removed {
					all = append(all, fmt.Sprintf("%s %s, static %t", in.Name, in.State, in.Static))
				}
			}
			for _, a := range h.Cloud.Addresses("") {
				all = append(all, fmt.Sprintf("%s, of somebody %t", a.Name, a.Instance != ""))
				if i, ok := there(h); ok && i.Phase == store.Ready && i.Address != a.Address {
					all = append(all, fmt.Sprintf("recorded at %s, and not at it", i.Address))
				}
			}
			return strings.Join(all, "\n")
		},
	})
}

package restore_test

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"plumlatch/core/wire"
	"plumlatch/service/kinds/kindtest"
	"plumlatch/service/store"
)

// TestRestoreByCloudAgent: the cloud's own agent sets the new key, as one entry wherever its replica is killed; going back takes it off, and its line
// goes.
func TestRestoreByCloudAgent(t *testing.T) {
	t.Parallel()
	kindtest.EveryHalt(t, kindtest.Case{
		Kind: "restore-cloud-agent", Of: "set-key", Returns: "restore-cloud-agent/accept/end",
		Prepare: func(h *kindtest.House) {
			h.Key("first")
			h.Key("second")
			h.Launch("berth-1", "first")
			h.KeepKeys("berth-1")
		},
		Begin: func(h *kindtest.House) (store.Work, error) {
			return h.W.Restore.Restore(h.Context(), kindtest.By, store.Once{}, h.Instance("berth-1"), wire.Restore{Route: "cloud-agent", New: "second"})
		},
		While: func(h *kindtest.House, w store.Work) {
			if w.WaitsCode == wire.WaitsLogin {
				k, err := h.DB.KeyAlone(h.Context(), "second")
				if err == nil {
					err = h.DB.KeyShown(h.Context(), kindtest.By, k)
				}
				if err != nil {
					h.Fatal(err)
				}
			}
		},
		Reset: func(h *kindtest.House) {
			all, err := h.Cloud.PlacedKeys(h.Instance("berth-1").CloudID)
			for _, p := range all {
				err = errors.Join(err, h.Cloud.UnplaceKey(p.ID))
			}
			if err != nil {
				h.Fatal(err)
			}
			time.Sleep(300 * time.Millisecond) // the agent has looked since
			h.KeysBack("berth-1")
		},
		State: func(h *kindtest.House) string {
			time.Sleep(300 * time.Millisecond)
			all, err := h.Cloud.PlacedKeys(h.Instance("berth-1").CloudID)
			if err != nil {
				h.Fatal(err)
			}
			var lines []string
			for line := range strings.Lines(h.Keys("berth-1")) { // the mark of an entry has its number in it
				line, _, _ = strings.Cut(line, " placed-by-the-cloud:")
				lines = append(lines, strings.TrimSpace(line))
			}
			return fmt.Sprintf("the cloud places %d\n%s\n%s", len(all), h.Machine("berth-1"), strings.Join(lines, "\n"))
		},
	})
}

// TestCloudAgentAway: where the cloud's agent does not run, the work goes back, and the cloud keeps the key no more.
func TestCloudAgentAway(t *testing.T) {
	t.Parallel()
	h := kindtest.New(t)
	h.Key("first")
	h.Key("second")
	i := h.Launch("berth-1", "first")
	// What stands where the agent writes first keeps it from writing.
	if err := os.MkdirAll(filepath.Join(filepath.Dir(h.KeysFile(i)), ".agent.new", "x"), 0o700); err != nil {
		t.Fatal(err)
	}
	w := h.Done(h.W.Restore.Restore(h.Context(), kindtest.By, store.Once{}, i, wire.Restore{Route: "cloud-agent", New: "second"}))
	all, err := h.Cloud.PlacedKeys(i.CloudID)
	if w.State == store.Done || err != nil || len(all) != 0 {
		t.Errorf("%s %s; the cloud places %v %v", w.State, w.Outcome, all, err)
	}
}

// TestCloudAgentStays: cancelled after the only other key of a person has gone, the key that the cloud sets stays: it is the way in.
func TestCloudAgentStays(t *testing.T) {
	t.Parallel()
	h := kindtest.New(t)
	h.Key("first")
	h.Key("second")
	h.Launch("berth-1", "first")
	w, came := h.Halted("restore-cloud-agent/accept/end", func(h *kindtest.House) (store.Work, error) {
		return h.W.Restore.Restore(h.Context(), kindtest.By, store.Once{}, h.Instance("berth-1"), wire.Restore{Route: "cloud-agent", New: "second"})
	})
	if !came {
		t.Fatal("it never came so far")
	}
	h.Unplaced("berth-1", "first")
	if err := h.DB.CancelWork(h.Context(), kindtest.By, h.Now(w)); err != nil {
		t.Fatal(err)
	}
	h.GoOn()
	end := h.Done(w, nil)
	all, err := h.Cloud.PlacedKeys(h.Instance("berth-1").CloudID)
	if end.State != store.Cancelled || !strings.Contains(end.Outcome, "the cloud goes on setting second there") || err != nil || len(all) != 1 {
		t.Errorf("%s %s; the cloud places %v %v", end.State, end.Outcome, all, err)
	}
}

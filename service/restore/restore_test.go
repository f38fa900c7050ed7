package restore_test

import (
	"bytes"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"plumlatch/core/wire"
	"plumlatch/service/kinds/kindtest"
	"plumlatch/service/lifecycle"
	"plumlatch/service/store"
	"plumlatch/standin"
)

// TestRestore: wherever its replica is killed, a restore lets the new key in and leaves the rest as
// it was: the instance under its own volume, its user data, no rescue instance. Cancelled, it leaves
// everything as it was. One route after the other, as each takes the machine's whole time.
func TestRestore(t *testing.T) {
	t.Parallel()
	for _, c := range []struct {
		route, returns string
		some           int
	}{
		{"steward", "accept/end", 3},
		{"boot-text", "accept/end", 3},
		{"disk", "accept/end", 4},
	} {
		t.Run(c.route, func(t *testing.T) {
			kind := "restore-" + c.route
			kindtest.EveryHalt(t, kindtest.Case{
				Kind: kind,
				Some: c.some, Returns: kind + "/" + c.returns,
				Prepare: func(h *kindtest.House) {
					h.Key("first")
					h.Key("second")
					h.Launch("berth-1", "first")
				},
				Begin: func(h *kindtest.House) (store.Work, error) {
					return h.W.Restore.Restore(h.Context(), kindtest.By, store.Once{}, h.Instance("berth-1"),
						wire.Restore{Route: c.route, New: "second"})
				},
				While: showSecond,
				Reset: func(h *kindtest.House) { h.Unplaced("berth-1", "second") },
				State: func(h *kindtest.House) string { return h.Machine("berth-1") + "\n" + h.Keys("berth-1") },
			})
		})
	}
}

// showSecond shows the private half of the new key to exist, once the work waits for that.
func showSecond(h *kindtest.House, w store.Work) {
	if w.WaitsCode != string(wire.WaitsLogin) {
		return
	}
	k, err := h.DB.KeyAlone(h.Context(), "second")
	if err == nil {
		err = h.DB.KeyShown(h.Context(), kindtest.By, k)
	}
	if err != nil {
		h.Fatal(err)
	}
}

// TestAstray: a cloud that puts the volume under another name, and a service that loses its claim each time it has
// done so. Whoever takes the work over brings the volume home all the same: what was asked for under a token is
// answered by the cloud from memory, so that each turn needs a token of its own.
func TestAstray(t *testing.T) {
	t.Parallel()
	h := kindtest.New(t)
	h.Key("first")
	h.Key("second")
	h.Launch("berth-1", "first")
	before := h.Machine("berth-1")
	h.Fault(standin.Fault{Call: "attach-device", How: "astray", Name: "berth-1", Times: 5})
	w, err := h.W.Restore.Restore(t.Context(), kindtest.By, store.Once{}, h.Instance("berth-1"),
		wire.Restore{Route: "disk", New: "second"})
	if err != nil {
		t.Fatal(err)
	}
	volume, astray, lost := "", false, 0
	for deadline := time.Now().Add(3 * time.Minute); ; time.Sleep(2 * time.Millisecond) {
		if volume == "" {
			all, err := h.Cloud.Volumes(h.Instance("berth-1").CloudID)
			if err != nil {
				t.Fatal(err)
			}
			volume = all[0].ID
		}
		v, err := h.Cloud.Volume(volume)
		if err != nil {
			t.Fatal(err)
		}
		if is := v.Device == "/dev/sdq" && v.State == standin.InUse; is && !astray && lost < 4 {
			h.LoseClaim(w)
			lost++
			astray = true
		} else if !is {
			astray = false
		}
		now := h.Now(w)
		if now.WaitsCode == string(wire.WaitsLogin) {
			k, err := h.DB.KeyAlone(t.Context(), "second")
			if err == nil {
				err = h.DB.KeyShown(t.Context(), kindtest.By, k)
			}
			if err != nil {
				t.Fatal(err)
			}
		}
		if now.Over() {
			if now.State != store.Done {
				t.Errorf("it is %s: %s %s", now.State, now.Outcome, now.Trouble)
			}
			break
		}
		if time.Now().After(deadline) {
			t.Fatalf("it does not end: %s at %s", now.State, now.At)
		}
	}
	if lost < 3 {
		t.Errorf("the claim was lost %d times in the middle, which shows nothing", lost)
	}
	if after := h.Machine("berth-1"); after != before {
		t.Errorf("before: %s\nafter: %s", before, after)
	}
}

// TestRestoreByAgent: the same where somebody signs for the agent, which adds the line; the steward takes it out again where the restore goes
// back.
func TestRestoreByAgent(t *testing.T) {
	t.Parallel()
	key := bytes.Repeat([]byte{7}, 51)
	kindtest.EveryHalt(t, kindtest.Case{
		Kind: "restore-agent",
		Some: 4, Returns: "restore-agent/accept/end",
		Prepare: func(h *kindtest.House) {
			h.Key("first")
			h.Key("second")
			i := h.Launch("berth-1", "first")
			if err := h.DB.EnrollAgent(h.Context(), kindtest.By, i, key, "SHA256:x"); err != nil {
				h.Fatal(err)
			}
		},
		Begin: func(h *kindtest.House) (store.Work, error) {
			i := h.Instance("berth-1")
			if err := h.DB.AgentCame(h.Context(), store.Agent{InstanceID: i.ID, PublicKey: key, Verbs: "look edit", Trust: "operators"}); err != nil {
				return store.Work{}, err
			}
			return h.W.Restore.Restore(h.Context(), kindtest.By, store.Once{}, i, wire.Restore{Route: "agent", New: "second"})
		},
		While: func(h *kindtest.House, w store.Work) {
			k, err := h.DB.KeyAlone(h.Context(), "second")
			if err != nil {
				h.Fatal(err)
			}
			switch {
			case w.At == "agent" && w.WaitsCode == wire.WaitsHands:
				file := h.KeysFile(h.Instance("berth-1"))
				text, err := os.ReadFile(file)
				if err == nil && !strings.Contains(string(text), k.Public().Line()) {
					err = os.WriteFile(file, []byte(string(text)+"\n"+k.Public().Line()+"\n"), 0o600)
				}
				if err != nil {
					h.Fatal(err)
				}
				_ = h.W.Restore.ReportPlaced(h.Context(), kindtest.By, w, wire.PlacedReport{File: ".ssh/authorized_keys", With: "the agent"})
			case w.WaitsCode == wire.WaitsLogin:
				if err := h.DB.KeyShown(h.Context(), kindtest.By, k); err != nil {
					h.Fatal(err)
				}
			}
		},
		Reset: func(h *kindtest.House) { h.Unplaced("berth-1", "second") },
		State: func(h *kindtest.House) string { return h.Machine("berth-1") + "\n" + h.Keys("berth-1") },
	})
}

// TestRestoreByTrustingAgent: where the owner's file says that the service's word is enough, the agent adds the new key without anybody's hand, killed at
// each halt; the replica that carries the work out is not the one that the agent is connected to.
func TestRestoreByTrustingAgent(t *testing.T) {
	t.Parallel()
	kindtest.EveryHalt(t, kindtest.Case{
		Kind: "restore-agent", Of: "/agent/", Returns: "restore-agent/accept/end",
		Prepare: func(h *kindtest.House) {
			h.Key("first")
			h.Key("second")
			h.W.Agents.Address = h.LetAgentsIn()
			i, _, err := h.W.Lifecycle.Launch(h.Context(), kindtest.By, store.Once{}, lifecycle.LaunchRequest{Name: "berth-1", Region: "north-pier", Image: "debian-12",
				Size: "small", Keys: []string{"first"}, AgentVerbs: []string{"look", "edit"}})
			if w := h.Done(store.Work{ID: i.WorkID}, err); w.State != store.Done {
				h.Fatal(w.Outcome)
			}
			file := filepath.Join(filepath.Dir(h.KeysFile(h.Instance("berth-1"))), "../../../etc/plumlatch-agent.yaml")
			text, err := os.ReadFile(file)
			if err == nil {
				err = os.WriteFile(file, []byte(strings.Replace(string(text), "trust: operators", "trust: service", 1)), 0o644)
			}
			if err != nil {
				h.Fatal(err)
			}
			h.Exec("UPDATE agents SET trust = 'service'") // it says so when it comes next
			h.KeepKeys("berth-1")
		},
		Begin: func(h *kindtest.House) (store.Work, error) {
			return h.W.Restore.Restore(h.Context(), kindtest.By, store.Once{}, h.Instance("berth-1"), wire.Restore{Route: "agent", New: "second"})
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
		Reset: func(h *kindtest.House) { h.KeysBack("berth-1") },
		State: func(h *kindtest.House) string { return h.Machine("berth-1") + "\n" + h.Keys("berth-1") },
	})
}

// TestRestoreHomeApart: a replica that is killed when both the root and a home apart are mounted leaves two mounts, one in the other. Whoever takes the work
// over lets go of both, in the right order.
func TestRestoreHomeApart(t *testing.T) {
	t.Parallel()
	kindtest.EveryHalt(t, kindtest.Case{
		Kind: "restore-disk", Of: "mount", Returns: "restore-disk/accept/end",
		Prepare: func(h *kindtest.House) {
			h.Key("first")
			h.Key("second")
			h.Launch("berth-1", "first")
			id := h.Instance("berth-1").CloudID
			all, err := h.Cloud.Volumes(id)
			if err == nil {
				_, err = h.Cloud.SetDisk(all[0].ID, standin.Disk{Partitions: []standin.Partition{{Number: 1, FSType: "xfs", UUID: "u", Holds: "system", GB: 9},
					{Number: 2, FSType: "ext4", UUID: "u-home", Holds: "home", GB: 9}}})
			}
			if err == nil {
				etc := filepath.Join(filepath.Dir(filepath.Dir(filepath.Dir(filepath.Dir(h.KeysFile(h.Instance("berth-1")))))), "etc")
				err = os.WriteFile(filepath.Join(etc, "fstab"), []byte("UUID=u / xfs defaults 0 1\nUUID=u-home /home ext4 defaults 0 2\n"), 0o644)
			}
			if err != nil {
				h.Fatal(err)
			}
		},
		Begin: func(h *kindtest.House) (store.Work, error) {
			return h.W.Restore.Restore(h.Context(), kindtest.By, store.Once{}, h.Instance("berth-1"), wire.Restore{Route: "disk", New: "second"})
		},
		While: showSecond,
		Reset: func(h *kindtest.House) { h.Unplaced("berth-1", "second") },
		State: func(h *kindtest.House) string { return h.Machine("berth-1") + "\n" + h.Keys("berth-1") },
	})
}

package agents_test

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"plumlatch/core/agentcalls"
	"plumlatch/service/agents"
	"plumlatch/service/kinds"
	"plumlatch/service/kinds/kindtest"
	"plumlatch/service/lifecycle"
	"plumlatch/service/store"
	"plumlatch/standin"
)

// launchWith begins to launch an instance whose agent first boot enrolls.
func launchWith(name, image, address string) func(*kindtest.House) (store.Work, error) {
	return func(h *kindtest.House) (store.Work, error) {
		h.W.Agents.Address = address
		i, _, err := h.W.Lifecycle.Launch(h.Context(), kindtest.By, store.Once{}, lifecycle.LaunchRequest{Name: name, Region: "north-pier", Image: image, Size: "medium",
			Keys: []string{"first"}, AgentVerbs: []string{"look", "edit"}})
		return store.Work{ID: i.WorkID}, err
	}
}

// TestLaunchWithAgent: killed at each halt of a launch at which an agent matters, it goes on, and the instance has the agent that its first boot
// enrolled, by one token, which stands in no row.
func TestLaunchWithAgent(t *testing.T) {
	t.Parallel()
	h := kindtest.New(t)
	h.Key("first")
	address := h.LetAgentsIn()
	cases := 0
	for _, point := range kinds.Halts() {
		if strings.Contains(point, "/undo/") || !strings.HasPrefix(point, "launch/create/") && !strings.HasPrefix(point, "launch/agent/") {
			continue
		}
		cases++
		name := fmt.Sprintf("berth-%d", cases)
		w, came := h.Halted(point, launchWith(name, "debian-12", address))
		if !came {
			t.Errorf("%s: it did not come to it", point)
		}
		h.GoOn()
		if w = h.Done(w, nil); w.State != store.Done {
			t.Fatalf("%s: %s %s", point, w.State, w.Outcome)
		}
		i := h.Instance(name)
		a, err := h.DB.AgentOf(t.Context(), i.ID)
		if err != nil || a.ConnectedAt == nil || a.EnrolledBy != kindtest.By.Operator || a.Trust != string(agentcalls.ByOperators) || a.Verbs != "look edit" {
			t.Errorf("%s: %+v %v", point, a, err)
		}
		tokens := h.Count("SELECT count(*) FROM agent_tokens WHERE instance_id = $1", i.ID)
		used := h.Count("SELECT count(*) FROM agent_tokens WHERE instance_id = $1 AND used_at IS NOT NULL", i.ID)
		if tokens != 1 || used != 1 {
			t.Errorf("%s: %d tokens, %d used", point, tokens, used)
		}
		if !strings.Contains(i.UserData, "TOKEN-OF-THIS-LAUNCH") {
			t.Errorf("%s: the user data has another word for the token:\n%s", point, i.UserData)
		}
	}
	if cases < 6 {
		t.Errorf("%d cases", cases)
	}

	// Taken back, and taken up again: the machine is another one, and so is its agent.
	w, _ := h.Halted("launch/agent/begin", launchWith("berth-again", "debian-12", address))
	h.Until("its first agent", func() bool {
		a, err := h.DB.AgentOf(t.Context(), h.Instance("berth-again").ID)
		return err == nil && a.ConnectedAt != nil
	})
	was, err := h.DB.AgentOf(t.Context(), h.Instance("berth-again").ID)
	if err == nil {
		err = h.DB.CancelWork(t.Context(), kindtest.By, h.Now(w))
	}
	if err != nil {
		t.Fatal(err)
	}
	h.GoOn()
	if w = h.Done(w, nil); w.State != store.Cancelled {
		t.Fatalf("cancelled: %s %s", w.State, w.Outcome)
	}
	if a, err := h.DB.AgentOf(t.Context(), h.Instance("berth-again").ID); !errors.Is(err, store.ErrNotFound) {
		t.Errorf("taken back, and it has an agent: %+v %v", a, err)
	}
	if err := h.W.Door.Engine.Retry(t.Context(), kindtest.By, h.Now(w)); err != nil {
		t.Fatal(err)
	}
	if w = h.Done(w, nil); w.State != store.Done || strings.Contains(w.Outcome, "did not come") {
		t.Errorf("taken up again: %s %s", w.State, w.Outcome)
	}
	if a, err := h.DB.AgentOf(t.Context(), h.Instance("berth-again").ID); err != nil || a.ConnectedAt == nil || a.Fingerprint == was.Fingerprint {
		t.Errorf("taken up again: %+v %v", a, err)
	}

	// An image that has none, and for which the service has no program: the instance is there, and it is said.
	w = h.Done(launchWith("berth-none", "harrow-linux-4", address)(h))
	i := h.Instance("berth-none")
	if w.State != store.Done || !strings.Contains(w.Outcome, "its agent did not come") || i.Phase != store.Ready {
		t.Errorf("without one: %s %s, %s", w.State, w.Outcome, i.Phase)
	}
	// What is asked for badly changes nothing.
	for what, verbs := range map[string][]string{"a verb that is none": {"look", "shell"}, "none": {""}} {
		_, err := h.W.Lifecycle.Plan(t.Context(), lifecycle.LaunchRequest{Name: "berth-bad", Region: "north-pier", Image: "debian-12", Size: "small", Keys: []string{"first"},
			AgentVerbs: verbs})
		if err == nil || !strings.Contains(err.Error(), "verbs") {
			t.Errorf("%s: %v", what, err)
		}
	}
	h.W.Agents.Address = ""
	if _, err := launchWith("berth-off", "debian-12", "")(h); err == nil || !strings.Contains(err.Error(), "takes no agents") {
		t.Errorf("a service without agents: %v", err)
	}
}

// TestStandinAgent: the agents of the stand-in's instances die, are late, and stay away; a copy dials nobody.
func TestStandinAgent(t *testing.T) {
	t.Parallel()
	h := kindtest.New(t)
	h.Key("first")
	address := h.LetAgentsIn()
	if w := h.Done(launchWith("berth-1", "debian-12", address)(h)); w.State != store.Done {
		t.Fatalf("%s %s", w.State, w.Outcome)
	}
	i := h.Instance("berth-1")
	first, err := h.DB.AgentOf(t.Context(), i.ID)
	if err != nil {
		t.Fatal(err)
	}
	since := func() store.Agent {
		a, err := h.DB.AgentOf(t.Context(), i.ID)
		if err != nil {
			t.Fatal(err)
		}
		return a
	}
	// Stopped and started, it comes back with the key that it had.
	for _, change := range []store.Phase{store.Stopping, store.Starting} {
		if w := h.Done(changed(h, "berth-1", change)); w.State != store.Done {
			t.Fatalf("%s: %s", change, w.Outcome)
		}
	}
	h.Until("it came back", func() bool { return since().ConnectedAt.After(*first.ConnectedAt) })
	if again := since(); again.Fingerprint != first.Fingerprint {
		t.Errorf("it has another key: %s", again.Fingerprint)
	}
	// In a copy its key is bound to another machine: it dials nobody.
	root := filepath.Dir(filepath.Dir(filepath.Dir(filepath.Dir(h.KeysFile(i)))))
	for _, f := range []string{"etc/machine-id", "var/lib/cloud/data/instance-id", "var/lib/plumlatch-agent/bound.json", "etc/plumlatch-agent.pub"} {
		if _, err := os.Stat(filepath.Join(root, f)); err != nil {
			t.Errorf("%s: %v", f, err)
		}
	}
	was := since()
	if w := h.Done(changed(h, "berth-1", store.Stopping)); w.State != store.Done {
		t.Fatal(w.Outcome)
	}
	if err := os.Chmod(filepath.Join(root, "etc/machine-id"), 0o644); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(filepath.Join(root, "etc/machine-id"), []byte("0123456789abcdef0123456789abcdef\n"), 0o444); err != nil {
		t.Fatal(err)
	}
	if w := h.Done(changed(h, "berth-1", store.Starting)); w.State != store.Done {
		t.Fatal(w.Outcome)
	}
	if now := since(); !now.ConnectedAt.Equal(*was.ConnectedAt) {
		t.Error("a machine with another ID dialled")
	}
}

func changed(h *kindtest.House, name string, phase store.Phase) (store.Work, error) {
	i, err := h.W.Lifecycle.Change(h.Context(), kindtest.By, store.Once{}, h.Instance(name), phase, false)
	return store.Work{ID: i.WorkID}, err
}

// TestElsewhere: what a replica asks of an agent that another one is connected to, that one asks, and answers; nothing of it stays.
func TestElsewhere(t *testing.T) {
	t.Parallel()
	h := kindtest.New(t)
	h.Key("first")
	k := h.Key("second")
	address := h.LetAgentsIn() // by a replica of its own: h.W is another one, and has no agent
	if w := h.Done(launchWith("berth-1", "debian-12", address)(h)); w.State != store.Done {
		t.Fatalf("%s %s", w.State, w.Outcome)
	}
	i := h.Instance("berth-1")
	s, err := h.W.Agents.Look(t.Context(), kindtest.By, i)
	if err != nil || s.Vantage != "the agent there" || len(s.Keys) == 0 {
		t.Errorf("look: %+v %v", s, err)
	}
	// Its owner's file does not trust the service: the agent's own no comes through, with its code.
	_, refused, err := h.W.Agents.AddLine(t.Context(), i, "debian", k.Public().Line())
	var no agents.Refused
	if !refused || !errors.As(err, &no) || no.Code != agentcalls.Unsigned {
		t.Errorf("the service's word: %v %v", refused, err)
	}
	if _, err := h.W.Agents.Upgrade(t.Context(), kindtest.By, i); !errors.Is(err, agents.ErrNoRelease) {
		t.Errorf("an upgrade: %v", err)
	}
	var wg sync.WaitGroup
	h.Fault(standin.Fault{Call: "agent", How: "slow", Name: "berth-1", Delay: 500, Times: 20})
	for range 20 { // at one time: more than one connection takes
		wg.Go(func() {
			if _, err := h.W.Agents.Look(t.Context(), kindtest.By, i); err != nil && !errors.Is(err, store.ErrSurveying) {
				t.Errorf("beside others: %v", err)
			}
		})
	}
	wg.Wait()
	// One who goes away leaves nothing behind, and neither does one that nobody answers.
	gone, cancel := context.WithCancel(t.Context())
	h.Fault(standin.Fault{Call: "agent", How: "slow", Name: "berth-1", Delay: 500})
	time.AfterFunc(200*time.Millisecond, cancel)
	if _, err := h.W.Agents.Look(gone, kindtest.By, i); err == nil {
		t.Error("who asked was gone, and was answered")
	}
	h.Exec("UPDATE agents SET seen_at = clock_timestamp() + interval '1 hour'") // as if another one had it
	if w := h.Done(changed(h, "berth-1", store.Stopping)); w.State != store.Done {
		t.Fatal(w.Outcome)
	}
	h.Exec("UPDATE agents SET seen_at = clock_timestamp() + interval '1 hour'")
	if _, err := h.W.Agents.Look(t.Context(), kindtest.By, i); !errors.Is(err, agents.ErrAway) {
		t.Errorf("nobody has it: %v", err)
	}
	if n := h.Count("SELECT count(*) FROM agent_calls"); n != 0 {
		t.Errorf("%d calls are left", n)
	}
	// What one replica forgets, another one lets go: the connection there ends, though nobody asked that one.
	if w := h.Done(changed(h, "berth-1", store.Starting)); w.State != store.Done {
		t.Fatal(w.Outcome)
	}
	h.Until("it came back", func() bool {
		_, err := h.W.Agents.Look(t.Context(), kindtest.By, i)
		return err == nil
	})
	if !h.Connected(i) {
		t.Error("it is not connected to the replica that let it in")
	}
	if err := h.W.Agents.Forget(t.Context(), kindtest.By, i); err != nil {
		t.Fatal(err)
	}
	h.Until("it is let go", func() bool { return !h.Connected(i) })
}

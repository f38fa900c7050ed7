package main

import (
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"plumlatch/client"
	"plumlatch/core/keypair"
	"plumlatch/core/wire"
	"plumlatch/reach"
)

// pinnedAgent is the agent of an instance as this client knows it: from the session in which it was installed, or compared by hand. The
// service tells whose agent is connected; what is signed, or put into a box, is for the pinned one alone.
type pinnedAgent struct {
	Service     string    `json:"service"`
	Name        string    `json:"name"`
	Instance    int64     `json:"instance"`
	Fingerprint string    `json:"fingerprint"`
	Pinned      time.Time `json:"pinned"`
}

func agentPinFile() (string, error) {
	dir, err := os.UserConfigDir()
	if err != nil {
		return "", fmt.Errorf("there is no folder for your configuration: %w", err)
	}
	return filepath.Join(dir, "plumlatch", "agents.json"), nil
}

func readAgentPins() ([]pinnedAgent, error) {
	file, err := agentPinFile()
	if err != nil {
		return nil, err
	}
	data, err := os.ReadFile(file)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	var all []pinnedAgent
	if err := json.Unmarshal(data, &all); err != nil {
		return nil, failure{fmt.Errorf("%s cannot be read as it is: it has the agents that are pinned here", file), "look at it, or rm " + shellWord(file)}
	}
	return all, nil
}

// pinOf is what is pinned for an instance as somebody calls it: what the service makes of that name is its own word.
func pinOf(all []pinnedAgent, service, called string) (pinnedAgent, bool) {
	n := slices.IndexFunc(all, func(p pinnedAgent) bool {
		return p.Service == service && strings.EqualFold(p.Name, called)
	})
	if n < 0 {
		return pinnedAgent{}, false
	}
	return all[n], true
}

// setAgentPin pins an agent, in the place of a former one; with no fingerprint, it takes the pin away.
func setAgentPin(p pinnedAgent) error {
	all, err := readAgentPins()
	if err != nil {
		return err
	}
	all = slices.DeleteFunc(all, func(old pinnedAgent) bool {
		return old.Service == p.Service && (old.Name == p.Name || old.Instance == p.Instance)
	})
	if p.Fingerprint != "" {
		all = append(all, p)
	}
	file, err := agentPinFile()
	if err != nil {
		return err
	}
	return writePrivateJSON(file, all)
}

// checkAgentPin refuses an agent that is not the one pinned here for the instance as it was called.
func checkAgentPin(service *client.Client, called string, a wire.Agent) error {
	all, err := readAgentPins()
	if err != nil {
		return err
	}
	p, ok := pinOf(all, service.URL(), called)
	next := "plumlatch instance agent pin " + called
	switch {
	case !ok:
		return failure{fmt.Errorf("the agent of %s is not pinned here: %s is its key by the service's word alone, so nothing is signed for it", called, a.Fingerprint), next}
	case p.Instance != a.InstanceID:
		return failure{fmt.Errorf("%s is another instance now than the one whose agent is pinned here: nothing is signed for it", called), next}
	case p.Fingerprint != a.Fingerprint:
		return failure{fmt.Errorf("the agent of %s has another key than the one that is pinned here: pinned is %s, and the service says %s; nothing is signed for it", called,
			p.Fingerprint, a.Fingerprint), next}
	}
	if k, err := keypair.ReadPublic([]byte(a.PublicKey)); err != nil || k.Fingerprint() != p.Fingerprint {
		return fmt.Errorf("the service says another key of the agent of %s than its fingerprint: nothing is signed for it", called)
	}
	return nil
}

// agentPinWords says what is pinned here, in one line.
func agentPinWords(service *client.Client, called string, a wire.Agent) string {
	all, err := readAgentPins()
	if err != nil {
		return "what is pinned here could not be read"
	}
	switch p, ok := pinOf(all, service.URL(), called); {
	case !ok:
		return "not pinned here, so nothing is signed for it: plumlatch instance agent pin " + called
	case p.Instance != a.InstanceID || p.Fingerprint != a.Fingerprint:
		return "another one is pinned here (" + p.Fingerprint + "), so nothing is signed for it: plumlatch instance agent pin " + called
	default:
		return "pinned here since " + p.Pinned.Local().Format(time.DateOnly)
	}
}

// pinAgent pins the agent of an instance: by what stands on the instance itself, read in the engineer's own session, or by a fingerprint that
// somebody has told who read it there.
func (c *cli) pinAgent(service *client.Client, name string, o agentOptions) error {
	a, err := service.Agent(c.ctx, name)
	if err != nil {
		return err
	}
	if !a.Enrolled {
		return failure{fmt.Errorf("%s has no agent", a.Instance), "plumlatch instance agent install " + a.Instance}
	}
	there := o.fingerprint
	if there == "" {
		in, err := c.enterKnown(service, name, adoptOptions{identity: o.identity, agent: o.agent, passFile: o.passFile}, "plumlatch instance agent pin "+name)
		if err != nil {
			return err
		}
		defer in.close()
		key, err := reach.AgentKeyThere(c.ctx, in.ssh)
		if errors.Is(err, reach.ErrRefused) {
			return failure{fmt.Errorf("%s: %w", a.Instance, err), "plumlatch instance agent install " + a.Instance + ", or -fingerprint with what somebody read there"}
		}
		if err != nil {
			return err
		}
		there = key.Fingerprint()
	}
	if there != a.Fingerprint {
		return failure{fmt.Errorf("the agent of %s has the key %s, and the service says %s: whoever answers for it is not that agent. Nothing was pinned", a.Instance, there,
			a.Fingerprint), "plumlatch instance agent install " + a.Instance + ", if you know why"}
	}
	all, err := readAgentPins()
	if err != nil {
		return err
	}
	if p, ok := pinOf(all, service.URL(), a.Instance); ok && p.Fingerprint != there && !o.yes {
		if err := c.confirm(fmt.Sprintf("The agent of %s that is pinned here has the key %s. Pin %s in its place?", a.Instance, p.Fingerprint, there)); err != nil {
			return err
		}
	}
	if err := setAgentPin(pinnedAgent{Service: service.URL(), Name: a.Instance, Instance: a.InstanceID, Fingerprint: there, Pinned: time.Now().UTC()}); err != nil {
		return err
	}
	fmt.Fprintf(c.out, "The agent of %s, %s, is pinned here.\n", a.Instance, there)
	return nil
}

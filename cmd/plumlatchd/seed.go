package main

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"time"

	"plumlatch/client"
	"plumlatch/core/keypair"
	"plumlatch/core/wire"
	"plumlatch/service/cloud"
	"plumlatch/service/cloud/standin"
)

// The keys of Harrow Sound Ferries, an invented line of car ferries, and the
// folder of whoever holds each.
var seedKeys = []struct {
	name, holder, note string
	kind               keypair.Kind
	sort               string // of the holder
	keptAt             string
}{
	{"harbour-ops-2026", "harbour-ops", "the operations team's key of this year", keypair.Ed25519, "team",
		"the safe in the harbour office"},
	{"day-crew", "day-crew", "shared by the day shift", keypair.Ed25519, "team", ""},
	{"old-gate-contractor", "gate-contractor", "fitted the ticket gates; contract ended in spring",
		keypair.RSA3072, "person", ""},
	{"ticket-desk", "ticket-desk", "", keypair.Ed25519, "machine", "the desk's own computer"},
	{"tide-survey", "tide-survey", "reads the gauges for the yearly survey", keypair.Ed25519, "person", ""},
	{"cargo-robot", "cargo-robot", "a job, not a person: moves manifests at night", keypair.Ed25519, "job",
		"the job's own machine"},
	{"skerry-watch", "skerry-watch", "the watch on the island", keypair.Ed25519, "person", ""},
	{"bridge-duty", "bridge-duty", "", keypair.RSA3072, "team", ""},
}

var seedInstances = []struct {
	name, region, image, size string
	keys                      []string
	stopped                   bool
}{
	{"berth-board-1", "north-pier", "debian-12", "small", []string{"harbour-ops-2026", "day-crew"}, false},
	{"berth-board-2", "north-pier", "debian-12", "small", []string{"harbour-ops-2026", "day-crew"}, false},
	{"ticket-gate-1", "north-pier", "harrow-linux-4", "medium", []string{"harbour-ops-2026", "old-gate-contractor"},
		false},
	{"ticket-gate-2", "north-pier", "harrow-linux-4", "medium", []string{"old-gate-contractor"}, false},
	{"ticket-gate-3", "south-pier", "harrow-linux-4", "medium",
		[]string{"ticket-desk", "old-gate-contractor", "harbour-ops-2026"}, false},
	{"cargo-manifest-1", "south-pier", "debian-12", "medium", []string{"harbour-ops-2026", "cargo-robot"}, false},
	{"cargo-manifest-2", "south-pier", "debian-12", "medium", []string{"cargo-robot"}, false},
	{"fare-ledger-1", "south-pier", "debian-12", "large", []string{"harbour-ops-2026", "bridge-duty"}, false},
	{"tide-gauge-1", "skerry-island", "tideline-2", "small", []string{"tide-survey", "skerry-watch"}, false},
	{"tide-gauge-2", "skerry-island", "tideline-2", "small", []string{"tide-survey", "skerry-watch"}, false},
	{"tide-gauge-3", "skerry-island", "tideline-2", "small", []string{"tide-survey"}, true},
	{"office-desk-1", "north-pier", "quay-desk-1", "medium", []string{"bridge-duty"}, false}, // no SSH
	{"lamp-control-1", "skerry-island", "debian-12", "small", []string{"skerry-watch", "harbour-ops-2026"}, false},
}

// Instances that somebody launched at the cloud itself, with a key that nobody has any more: the ledger does
// not know them.
var seedStrays = []cloud.Launch{
	{Name: "fog-horn-1", Region: "skerry-island", Image: "debian-12", Size: "small", KeyLabel: "harbour-2019"},
	{Name: "pier-crane-1", Region: "north-pier", Image: "debian-12", Size: "small", KeyLabel: "crane-fitter",
		Tags: map[string]string{"owner": "crane-fitters"}},
}

const strayKey = "ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAICEiIyQlJicoKSorLC0uLzAxMjM0NTY3ODk6Ozw9Pj9A crane-fitter"

func (d *demoRun) seedStrays(ctx context.Context, c *client.Client) error {
	token, err := d.secretFile("standin-token", randomHex)
	if err != nil {
		return err
	}
	driver := standin.New("http://"+d.address(1), token)
	if err := seedKeyLists(ctx, c, driver); err != nil {
		return err
	}
	for _, l := range seedStrays {
		l.UserData = "#cloud-config\nssh_authorized_keys:\n  - " + strayKey + "\n"
		if _, err := driver.Launch(ctx, "seed-"+l.Name, l); err != nil {
			return fmt.Errorf("instance %s: %w", l.Name, err)
		}
	}
	return nil
}

// What the cloud's own lists of keys hold: keys of the ledger under names that somebody once gave them, one of them
// retired, and in a small list keys that nobody knows.
func seedKeyLists(ctx context.Context, c *client.Client, driver *standin.Driver) error {
	for _, e := range []struct{ region, name, key string }{
		{"north-pier", "berth-2024", "harbour-ops-2026"}, {"south-pier", "berth-2024", "harbour-ops-2026"},
		{"north-pier", "day-crew", "day-crew"}, {"south-pier", "gate contractor", "old-gate-contractor"},
	} {
		k, err := c.Key(ctx, e.key)
		if err == nil {
			_, err = driver.AddKey(ctx, "seed-"+e.region+"-"+e.name, e.region, e.name, k.PublicKey)
		}
		if err != nil {
			return fmt.Errorf("the list of %s: %s: %w", e.region, e.name, err)
		}
	}
	for n := range 11 {
		name := fmt.Sprintf("season-%d", 2015+n)
		pair, err := keypair.Create(keypair.Ed25519, name)
		if err == nil {
			_, err = driver.AddKey(ctx, "seed-"+name, "skerry-island", name, pair.Public.Line())
		}
		if err != nil {
			return fmt.Errorf("the list of skerry-island: %s: %w", name, err)
		}
	}
	return nil
}

// seedAll fills the demo through its own API, as people would have. It can be
// interrupted at any point: what stands already is passed over.
func (d *demoRun) seedAll(ctx context.Context) error {
	token, err := d.secretFile("client-token", randomHex)
	if err != nil {
		return err
	}
	c, err := client.New("http://"+d.address(0), token)
	if err != nil {
		return err
	}
	for _, k := range seedKeys {
		public, err := d.holderKey(k.holder, k.name, k.kind)
		if err != nil {
			return err
		}
		if err := passOver(c.AddHolder(ctx, k.holder, k.sort)); err != nil {
			return fmt.Errorf("holder %s: %w", k.holder, err)
		}
		_, err = c.AddKey(ctx, wire.NewKey{Name: k.name, PublicKey: public, MadeHere: true, Note: k.note,
			Holder: k.holder, KeptAt: k.keptAt, Passphrase: "no"})
		if err := passOver(err); err != nil {
			return fmt.Errorf("key %s: %w", k.name, err)
		}
	}
	for _, i := range seedInstances {
		_, err := c.Launch(ctx, wire.Launch{Name: i.name, Region: i.region, Image: i.image, Size: i.size, Keys: i.keys})
		if err := passOver(err); err != nil {
			return fmt.Errorf("instance %s: %w", i.name, err)
		}
	}
	for _, i := range seedInstances {
		in, err := c.Instance(ctx, i.name)
		if err != nil {
			return err
		}
		if _, err := c.Follow(ctx, in.Work, 0, nil); err != nil {
			return err
		}
		if in, err = c.Instance(ctx, i.name); err != nil {
			return err
		}
		if i.stopped && in.State == "running" {
			if in, err = c.Change(ctx, i.name, "stop"); err != nil {
				return fmt.Errorf("instance %s: %w", i.name, err)
			}
			if _, err := c.Follow(ctx, in.Work, 0, nil); err != nil {
				return err
			}
		}
	}
	if err := d.seedStrays(ctx, c); err != nil {
		return err
	}
	// The last: seeding that goes on after an end would be refused its launches.
	if _, err := c.RetireKey(ctx, "old-gate-contractor", true); err != nil {
		return err
	}
	return os.WriteFile(d.path("seeded"), []byte(time.Now().UTC().Format(time.RFC3339)+"\n"), 0o600)
}

func passOver(err error) error {
	if p, ok := errors.AsType[*client.Problem](err); ok && (p.Of("name-taken") || p.Of("key-known")) {
		return nil
	}
	return err
}

// holderKey makes a pair in its holder's folder, or finds it there, and
// returns the public line. These are the holders' machines, so to say: the
// service's own folder never holds them.
func (d *demoRun) holderKey(holder, name string, kind keypair.Kind) (string, error) {
	dir := filepath.Join(d.holders, holder)
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return "", err
	}
	file := filepath.Join(dir, name)
	if data, err := os.ReadFile(file); err == nil {
		p, err := keypair.PublicOfPrivate(data)
		p.Comment = name
		return p.Line(), err
	}
	pair, err := keypair.Create(kind, name)
	if err != nil {
		return "", err
	}
	private, err := pair.OpenSSH(nil)
	if err != nil {
		return "", err
	}
	return pair.Public.Line(), errors.Join(
		os.WriteFile(file+".pub", []byte(pair.Public.Line()+"\n"), 0o644),
		os.WriteFile(file, private, 0o600),
	)
}

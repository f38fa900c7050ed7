package main

import (
	"context"
	_ "embed"
	"errors"
	"fmt"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"time"

	"plumlatch/bookfile"
	"plumlatch/client"
	"plumlatch/core/access"
	"plumlatch/core/keypair"
	"plumlatch/core/wire"
	"plumlatch/service/cloud"
	"plumlatch/service/cloud/standin"
)

// fleetBook is the fleet of Harrow Sound Ferries, as a keybook: the demo is filled from it.
//
//go:embed ferry-line.yaml
var fleetBook string

// The pairs of the demo's people, each in the folder of whoever holds it, and where a private half is said to be kept.
var seedKeys = []struct {
	name, holder string
	kind         keypair.Kind
	keptAt       string
}{
	{"harbour-ops-2026", "harbour-ops", keypair.Ed25519, "the safe in the harbour office"},
	{"day-crew", "day-crew", keypair.Ed25519, ""},
	{"old-gate-contractor", "gate-contractor", keypair.RSA3072, ""},
	{"ticket-desk", "ticket-desk", keypair.Ed25519, "the desk's own computer"},
	{"tide-survey", "tide-survey", keypair.Ed25519, ""},
	{"cargo-robot", "cargo-robot", keypair.Ed25519, "the job's own machine"},
	{"skerry-watch", "skerry-watch", keypair.Ed25519, ""},
	{"bridge-duty", "bridge-duty", keypair.RSA3072, ""},
}

// stoppedAtFirst is an instance that does not run when the demo begins.
const stoppedAtFirst = "tide-gauge-3"

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

// client is the demo's own, as its operator.
func (d *demoRun) client() (*client.Client, error) {
	token, err := d.secretFile("client-token", randomHex)
	if err != nil {
		return nil, err
	}
	return client.New("http://"+d.address(0), token)
}

// seedAll fills the demo through its own API, as people would have. It can be
// interrupted at any point: what stands already is passed over.
func (d *demoRun) seedAll(ctx context.Context) error {
	c, err := d.client()
	if err != nil {
		return err
	}
	for _, k := range seedKeys {
		if _, err := d.holderKey(k.holder, k.name, k.kind); err != nil {
			return err
		}
	}
	book := filepath.Join(d.holders, "ferry-line.yaml")
	// The contractor's key is put on instances first, and retired in the end: seeding that goes on after an end would be refused its launches.
	for _, text := range []string{strings.Replace(fleetBook, "state: retired", "state: in use", 1), fleetBook} {
		if err := os.WriteFile(book, []byte(text), 0o644); err != nil {
			return err
		}
		if text == fleetBook {
			if err := d.seedRest(ctx, c); err != nil {
				return err
			}
		}
		if err := settleSeed(ctx, c, book); err != nil {
			return err
		}
	}
	return os.WriteFile(d.path("seeded"), []byte(time.Now().UTC().Format(time.RFC3339)+"\n"), 0o600)
}

// settleSeed settles the demo's keybook, as somebody who types keybook settle -launch.
func settleSeed(ctx context.Context, c *client.Client, path string) error {
	folder, err := bookfile.Open(path)
	if err != nil {
		return err
	}
	r := folder.Read(time.Now())
	if r.Report.Errors() > 0 {
		return fmt.Errorf("%s: %s", path, r.Report.Findings[0])
	}
	text := wire.KeybookText{Files: r.Sources, Publics: r.Publics}
	open, err := c.Work(ctx, url.Values{"kind": {"keybook-settle"}, "state": {"open"}}, 0)
	if err != nil {
		return err
	}
	for _, w := range open { // seeding was interrupted: that goes on
		if _, err := c.Follow(ctx, w.ID, 0, nil); err != nil {
			return err
		}
	}
	d, err := c.CompareBook(ctx, text)
	if err != nil {
		return err
	}
	if d.Difference == nil {
		return fmt.Errorf("%s: the service does not take it", path)
	}
	if d.Difference.Nothing() {
		return nil
	}
	w, err := c.SettleBook(ctx, wire.KeybookSettle{KeybookText: text, Compared: d.Difference.Hash, Launch: true})
	if err != nil {
		return fmt.Errorf("%s: %w", path, err)
	}
	if w, err = c.Follow(ctx, w.ID, 0, nil); err == nil && w.State != "done" {
		err = fmt.Errorf("%s: %s", path, w.Outcome)
	}
	return err
}

// seedRest is what no keybook says: where keys are kept, what does not run, and what the cloud has besides.
func (d *demoRun) seedRest(ctx context.Context, c *client.Client) error {
	const nobody = "\nstream:\n  who: []"
	policy := strings.Replace(access.DefaultPolicy, nobody, "\nstream:\n  who: [{operators: ["+demoOperator+"]}]", 1)
	if policy == access.DefaultPolicy {
		return errors.New("the policy has no place for who may open streams")
	}
	if err := c.SetPolicy(ctx, policy, false); err != nil {
		return err
	}
	no := "no"
	for _, k := range seedKeys {
		change := wire.KeyChange{Passphrase: &no}
		if k.keptAt != "" {
			change.KeptAt = &k.keptAt
		}
		if _, err := c.ChangeKey(ctx, k.name, change); err != nil {
			return fmt.Errorf("key %s: %w", k.name, err)
		}
	}
	in, err := c.Instance(ctx, stoppedAtFirst)
	if err != nil {
		return err
	}
	if in.State == "running" {
		if in, err = c.Change(ctx, in.Name, "stop"); err != nil {
			return fmt.Errorf("instance %s: %w", in.Name, err)
		}
		if _, err := c.Follow(ctx, in.Work, 0, nil); err != nil {
			return err
		}
	}
	if err := d.seedStrays(ctx, c); err != nil {
		return err
	}
	return nil
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

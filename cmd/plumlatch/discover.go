package main

import (
	"cmp"
	"flag"
	"fmt"
	"strings"

	"plumlatch/client"
	"plumlatch/core/access"
	"plumlatch/core/plaintext"
	"plumlatch/core/times"
	"plumlatch/core/wire"
)

// discover sets the cloud's list against the ledger's.
func discover(fs *flag.FlagSet) func(*cli) error {
	asJSON := fs.Bool("json", false, "print JSON")
	return func(c *cli) error {
		_, service, err := c.begin()
		if err != nil {
			return err
		}
		d, err := service.Discover(c.ctx)
		if err != nil {
			return err
		}
		if *asJSON {
			return c.json(d)
		}
		var rows [][]string
		for _, u := range d.Unknown {
			rows = append(rows, []string{"not recorded", u.Name, u.CloudID, u.Region, u.State, u.Address, aboutFound(u)})
		}
		for _, v := range d.Vanished {
			gone := ""
			if v.VanishedAt != nil {
				gone = "missed since " + times.Show(v.VanishedAt.Local())
			}
			rows = append(rows, []string{"gone", v.Name, v.CloudID, v.Region, "", "", gone})
		}
		for _, l := range d.Labels {
			recorded := strings.Join(l.Recorded, ", ")
			if recorded == "" {
				recorded = "no key"
			}
			rows = append(rows, []string{"label differs", l.Instance, "", "", "", "", "label: " + l.Label +
				"; recorded: " + recorded})
		}
		c.table([]string{"found", "name", "cloud id", "region", "state", "address", ""}, rows,
			"The cloud's list and the ledger's are the same.")
		if next := nextFound(d); next != "" {
			fmt.Fprintf(c.out, "next: %s\n", next)
		}
		return nil
	}
}

// aboutFound is what else is to be known of an instance that the ledger does not know.
func aboutFound(u wire.Discovered) string {
	var all []string
	if u.StopDestroys != "" {
		all = append(all, "stopping it would be its end: "+u.StopDestroys)
	}
	if u.Never != "" {
		all = append(all, "left alone: it bears "+u.Never)
	}
	if u.Like != "" {
		all = append(all, "adopted as "+u.Like+", it seems")
	}
	if u.KeyLabel != "" {
		all = append(all, "the cloud's label says "+u.KeyLabel)
	}
	return strings.Join(all, "; ")
}

func nextFound(d wire.Discovery) string {
	for _, u := range d.Unknown {
		switch {
		case u.Never != "":
		case u.Like != "":
			return "plumlatch instance link " + u.Like + " " + plaintext.Line(u.CloudID)
		default:
			return "plumlatch discover adopt " + shellWord(plaintext.Line(u.CloudID))
		}
	}
	switch {
	case len(d.Vanished) > 0:
		return "plumlatch instance remove " + d.Vanished[0].Name
	case len(d.Labels) > 0:
		return "plumlatch survey " + d.Labels[0].Instance
	}
	return ""
}

// discoverAdopt adopts instances from the cloud's list, though nobody gets into them.
func discoverAdopt(fs *flag.FlagSet) func(*cli) error {
	all := fs.Bool("all", false, "all that the ledger does not know")
	tag := fs.String("tag", "", "of those, `NAME=VALUE`, or NAME")
	region := fs.String("region", "", "of those, the ones in a `region`")
	user := fs.String("user", "", "login `user` (default: the image's, where the cloud says which)")
	name := fs.String("name", "", "`name` in the ledger, of one (default: the cloud's own)")
	noSteward := fs.Bool("no-steward", false, "never place a line of the service's there")
	yes := fs.Bool("yes", false, "do not ask")
	asJSON := fs.Bool("json", false, "print JSON")
	return func(c *cli) error {
		given := c.args
		switch {
		case *all != (len(given) == 0):
			return usagef("say which: names or cloud IDs, or -all (with -tag and -region)")
		case !*all && (*tag != "" || *region != ""):
			return usagef("-tag and -region choose among -all")
		case *name != "" && len(given) != 1:
			return usagef("-name is for one")
		}
		service, err := c.service()
		if err != nil {
			return err
		}
		d, err := service.Discover(c.ctx)
		if err != nil {
			return err
		}
		chosen, err := chooseFound(d.Unknown, given, *tag, *region)
		if err != nil {
			return err
		}
		if !*asJSON {
			var rows [][]string
			for _, u := range chosen {
				rows = append(rows, []string{u.Name, u.CloudID, u.Region, u.State, cmp.Or(*user, u.LoginUser, "(not known)"), aboutFound(u)})
			}
			c.table([]string{"name", "cloud id", "region", "state", "login user", ""}, rows, "There is nothing to adopt.")
		}
		if len(chosen) == 0 {
			return nil
		}
		if !*yes {
			if err := c.confirm(fmt.Sprintf("\nAdopt %s from the cloud's list? Nothing is changed there; a restore can let "+
				"somebody in as root then.", count(len(chosen), "instance"))); err != nil {
				return err
			}
		}
		return c.adoptFound(service, chosen, wire.FoundAdoption{Name: *name, LoginUser: *user, NoSteward: *noSteward}, *asJSON)
	}
}

// chooseFound chooses by names and cloud IDs, or all with a tag in a region that the policy does not leave alone.
func chooseFound(unknown []wire.Discovered, given []string, tag, region string) (out []wire.Discovered, err error) {
	if len(given) == 0 {
		for _, u := range unknown {
			if u.Never == "" && (tag == "" || access.TagFits(tag, u.Tags)) && (region == "" || region == u.Region) {
				out = append(out, u)
			}
		}
		return out, nil
	}
	for _, word := range given {
		var fits []wire.Discovered
		var ids []string
		for _, u := range unknown {
			if u.CloudID == word {
				fits = []wire.Discovered{u}
				break
			}
			if u.Name == word {
				fits, ids = append(fits, u), append(ids, u.CloudID)
			}
		}
		switch len(fits) {
		case 1:
			out = append(out, fits[0])
		case 0:
			return nil, failure{fmt.Errorf("the cloud has no %s that the ledger does not know", plaintext.Line(word)),
				"plumlatch discover"}
		default:
			return nil, failure{fmt.Errorf("the cloud has %d called %s: %s", len(fits), plaintext.Line(word),
				plaintext.Line(strings.Join(ids, ", "))), "plumlatch discover adopt " + shellWord(plaintext.Line(ids[0]))}
		}
	}
	return out, nil
}

// foundResult is what came of adopting one.
type foundResult struct {
	Name    string `json:"name"`
	CloudID string `json:"cloud_id"`
	Result  string `json:"result"` // adopted, failed
	Detail  string `json:"detail"`
}

// adoptFound adopts what was chosen, and tells of each what came of it.
func (c *cli) adoptFound(service *client.Client, chosen []wire.Discovered, a wire.FoundAdoption, asJSON bool) error {
	var results []foundResult
	var begun []wire.Instance
	failed, first := 0, ""
	for _, u := range chosen {
		a.CloudID = u.CloudID
		i, err := service.AdoptFound(c.ctx, a)
		if c.ctx.Err() != nil {
			return c.ctx.Err()
		}
		r := foundResult{Name: cmp.Or(a.Name, u.Name), CloudID: u.CloudID, Result: "adopted"}
		if err != nil {
			r.Result, r.Detail = "failed", err.Error()
		}
		results, begun = append(results, r), append(begun, i)
	}
	for n := range results {
		if results[n].Result == "failed" {
			failed++
			continue
		}
		w, err := c.follow(service, begun[n].Work, begun[n].Name)
		if err != nil {
			return err
		}
		results[n].Name, results[n].Detail = begun[n].Name, w.Outcome
		if w.State != "done" {
			results[n].Result, failed = "failed", failed+1
		} else if first == "" {
			first = begun[n].Name
		}
	}
	if asJSON {
		if err := c.json(wire.List[foundResult]{Items: results}); err != nil {
			return err
		}
	} else {
		var rows [][]string
		for _, r := range results {
			rows = append(rows, []string{r.Name, r.Result, r.Detail})
		}
		c.table([]string{"instance", "result", ""}, rows, "")
		if first != "" {
			fmt.Fprintf(c.out, "\nnext: plumlatch restore %s\n", first)
		}
	}
	if failed > 0 {
		return failure{fmt.Errorf("%d of %d were not adopted", failed, len(results)), "plumlatch discover"}
	}
	return nil
}

// instanceLink says which of the cloud's instances an adopted one is.
func instanceLink(fs *flag.FlagSet) func(*cli) error {
	yes := fs.Bool("yes", false, "do not ask")
	asJSON := fs.Bool("json", false, "print JSON")
	return func(c *cli) error {
		args, service, err := c.begin("NAME", "CLOUD-ID")
		if err != nil {
			return err
		}
		if !*yes {
			if err := c.confirm(fmt.Sprintf("Is %s the cloud's %s? From then on it is stopped, started and removed there, by "+
				"that ID.", args[0], plaintext.Line(args[1]))); err != nil {
				return err
			}
		}
		i, err := service.Link(c.ctx, args[0], args[1])
		if err != nil {
			return err
		}
		if *asJSON {
			return c.json(i)
		}
		fmt.Fprintf(c.out, "%s is the cloud's %s in %s now: its address and host key agree.\nnext: plumlatch instance show %s\n",
			i.Name, plaintext.Line(i.CloudID), plaintext.Line(i.Region), i.Name)
		return nil
	}
}

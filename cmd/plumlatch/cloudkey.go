package main

import (
	"errors"
	"flag"
	"fmt"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"plumlatch/client"
	"plumlatch/core/access"
	"plumlatch/core/keylists"
	"plumlatch/core/plaintext"
	"plumlatch/core/wire"
)

// cloudKeyList sets the cloud's own lists of keys against the ledger and against the files of this machine.
func cloudKeyList(fs *flag.FlagSet) func(*cli) error {
	region := fs.String("region", "", "`regions` whose list is read, with commas between (default: all)")
	dir := fs.String("dir", "", "`folder` with key files of this machine (default: ~/.ssh, if it is there)")
	instance := fs.String("instance", "", "`instance` of which the keys are listed that the cloud's own agent places there")
	all := fs.Bool("all", false, "every entry, those that are no key of the ledger too")
	asJSON := fs.Bool("json", false, "print JSON")
	return func(c *cli) error {
		_, service, err := c.begin()
		if err != nil {
			return err
		}
		files, err := filesByPrint(*dir)
		if err != nil {
			return err
		}
		if *instance != "" {
			return c.placedKeys(service, *instance, files, *asJSON)
		}
		ask := wire.LookKeyLists{Regions: splitList(*region)}
		for print := range files {
			if ask.Prints = append(ask.Prints, print); len(ask.Prints) == 1000 {
				break
			}
		}
		if *all {
			ask.Limit = 100_000
		}
		l, err := service.KeyLists(c.ctx, ask)
		if err != nil {
			return err
		}
		if *asJSON {
			return c.json(l)
		}
		c.printKeyLists(l, files)
		return nil
	}
}

// placedKeys lists what the cloud's own agent places on an instance.
func (c *cli) placedKeys(service *client.Client, instance string, files map[string]string, asJSON bool) error {
	all, err := service.PlacedKeys(c.ctx, instance)
	if err != nil {
		return err
	}
	if asJSON {
		return c.json(wire.List[wire.PlacedKey]{Items: all})
	}
	var rows [][]string
	for _, p := range all {
		key, of := "no key of the ledger", instance
		if p.Key != "" {
			if key = marked(p.Key, p.KeyState); p.Retired && p.KeyState == access.InUse {
				key = p.Key + " (retired)"
			}
		}
		if p.ForAll {
			of = "every instance of the project"
		}
		rows = append(rows, []string{p.Name, key, p.User, of, files[p.SHA256]})
	}
	c.table([]string{"placed as", "is", "user", "on", "file here"}, rows, "The cloud's agent places no key there.")
	if len(all) > 0 {
		fmt.Fprintf(c.out, "What is placed comes back if its line is taken out: plumlatch access remove takes the entry off first.\n"+
			"next: plumlatch who %s\n", instance)
	}
	return nil
}

// cloudKeyPlace has the cloud's own agent let a key in.
func cloudKeyPlace(fs *flag.FlagSet) func(*cli) error {
	key := fs.String("key", "", "recorded `key` that is to open it")
	reason := fs.String("reason", "", "`text` for whoever reads the list: why")
	detach := fs.Bool("detach", false, "print the work's ID and leave")
	asJSON := fs.Bool("json", false, "print JSON")
	return func(c *cli) error {
		if *key == "" {
			return usagef("-key is missing")
		}
		args, service, err := c.begin("INSTANCE")
		if err != nil {
			return err
		}
		if err := c.keyNames(service, key); err != nil {
			return err
		}
		w, err := service.PlaceKey(c.ctx, args[0], wire.PlaceKey{Key: *key, Reason: *reason})
		if err != nil {
			return err
		}
		return c.shared(service, w, *detach, *asJSON, func(w wire.Work) {
			fmt.Fprintf(c.out, "%s opens %s: the cloud's agent places it, again and again.\nnext: plumlatch cloud-key list -instance %s; off again: "+
				"plumlatch access remove %s -key %s\n", *key, w.Instance, w.Instance, w.Instance, *key)
		})
	}
}

// filesByPrint are the key files of a folder, by the fingerprint of the public half. "" is ~/.ssh, which may be missing.
func filesByPrint(dir string) (map[string]string, error) {
	out := map[string]string{}
	given := dir != ""
	if !given {
		home, err := os.UserHomeDir()
		if err != nil {
			return out, nil
		}
		dir = filepath.Join(home, ".ssh")
	}
	files, err := keyFiles([]string{dir})
	if err != nil {
		if given {
			return nil, err
		}
		return out, nil
	}
	for _, f := range files {
		r := checkFile(f.path, nil, false)
		if r.Fingerprint != "" && (out[r.Fingerprint] == "" || r.Private) {
			out[r.Fingerprint] = f.path
		}
	}
	return out, nil
}

func (c *cli) printKeyLists(l wire.KeyLists, files map[string]string) {
	now := time.Now()
	var rows [][]string
	next, doubtful := "", ""
	for _, e := range l.Entries {
		key, marks := e.Key, []string(nil)
		switch {
		case e.Key == "":
			key = "no key of the ledger"
		case e.KeyState != access.InUse || e.Retired:
			key = marked(e.Key, e.KeyState)
			if e.KeyState == access.InUse {
				key = e.Key + " (retired)"
			}
			if next == "" {
				next = "plumlatch cloud-key remove " + e.Key
			}
		}
		if e.Lies {
			marks = append(marks, "its fingerprint lies")
			if doubtful == "" {
				doubtful = fmt.Sprintf("The cloud shows %s for %s in %s, and the key that it lists is %s.", e.Fingerprint, e.Name,
					whereListed(e.Region), e.SHA256)
			}
		}
		added := ""
		if e.AddedAt != nil {
			added = ago(*e.AddedAt, now)
		}
		labelled := ""
		if e.Labelled > 0 {
			labelled = strconv.Itoa(e.Labelled)
			if len(e.Some) > 0 {
				labelled += ": " + some(e.Some)
			}
		}
		rows = append(rows, []string{e.Name, e.Region, e.ID, key, files[e.SHA256], labelled, added, strings.Join(marks, ", ")})
	}
	c.table([]string{"listed as", "region", "id", "is", "file here", "launched with it", "since", ""}, rows,
		"The cloud lists no key that is known here.")
	if l.LeftOut > 0 {
		fmt.Fprintf(c.out, "%s are left out, none of them a key of the ledger: -all shows them.\n", count(l.LeftOut, "entry"))
	}
	fmt.Fprintln(c.out)
	inOf, lists := map[string]int{}, 0
	rows = nil
	for _, list := range l.Lists {
		used := strconv.Itoa(list.Used)
		if list.Limit > 0 {
			used += " of " + strconv.Itoa(list.Limit)
		}
		note := ""
		switch {
		case list.Trouble != "":
			used, note = "not read", list.Trouble
		case list.Limit > 0 && list.Used >= list.Limit:
			note = "full"
		case keylists.Full(list.Used, list.Limit):
			note = "nearly full"
		}
		if list.Trouble == "" {
			lists++
		}
		rows = append(rows, []string{whereListed(list.Region), used, strconv.Itoa(list.Known), note})
	}
	c.table([]string{"list", "used", "keys of the ledger", ""}, rows, "")
	seen := map[string]bool{}
	for _, e := range l.Entries {
		if at := e.Key + "\x00" + e.Region; e.Key != "" && !seen[at] {
			seen[at] = true
			inOf[e.Key]++
		}
	}
	for _, e := range l.Entries {
		if n := inOf[e.Key]; e.Key != "" && n > 0 && n < lists && len(l.Lists) > 1 {
			fmt.Fprintf(c.out, "%s is listed in %d of %d regions.\n", e.Key, n, lists)
			inOf[e.Key] = 0
		}
	}
	if doubtful != "" {
		fmt.Fprintln(c.out, plaintext.Line(doubtful))
	}
	if next != "" {
		fmt.Fprintf(c.out, "next: %s\n", next)
	}
}

func whereListed(region string) string {
	if region == "" {
		return "the cloud's list"
	}
	return region
}

// chosenRegions are those that -region and -everywhere mean; one of them has to be given.
func chosenRegions(region string, everywhere bool) ([]string, error) {
	chosen := splitList(region)
	if everywhere == (len(chosen) > 0) {
		return nil, usagef("say where: -region REGION, or -everywhere")
	}
	return chosen, nil
}

// cloudKeyUpload takes keys of the ledger into lists of the cloud.
func cloudKeyUpload(fs *flag.FlagSet) func(*cli) error {
	region := fs.String("region", "", "`regions` whose list takes it, with commas between")
	everywhere := fs.Bool("everywhere", false, "the list of every region")
	name := fs.String("name", "", "`name` in the list, of one key (default: the key's own)")
	asJSON := fs.Bool("json", false, "print JSON")
	return func(c *cli) error {
		switch {
		case len(c.args) == 0:
			return usagef("say which: names of recorded keys")
		case *name != "" && len(c.args) > 1:
			return usagef("-name is for one key")
		}
		regions, err := chosenRegions(*region, *everywhere)
		if err != nil {
			return err
		}
		service, err := c.service()
		if err != nil {
			return err
		}
		var done []wire.Work
		for _, word := range c.args {
			k, err := c.recordedKey(service, word)
			if err != nil {
				return err
			}
			w, err := service.ListKey(c.ctx, wire.ListKey{Key: k.Name, Name: *name, Regions: regions})
			if err != nil {
				return keyListProblem(err, k.Name)
			}
			if w, err = c.follow(service, w.ID, plaintext.Line(w.Title)); err != nil {
				return err
			}
			if w.State != "done" {
				return c.workFailed(service, w)
			}
			if done = append(done, w); !*asJSON {
				fmt.Fprintf(c.out, "%s.\n", plaintext.Line(w.Outcome))
			}
		}
		if *asJSON {
			return c.json(wire.List[wire.Work]{Items: done})
		}
		fmt.Fprintf(c.out, "next: plumlatch cloud-key list%s\n", regionOption(*region))
		return nil
	}
}

func regionOption(region string) string {
	if region == "" {
		return ""
	}
	return " -region " + shellWord(region)
}

// keyListProblem adds to a refusal what helps.
func keyListProblem(err error, key string) error {
	p, ok := errors.AsType[*client.Problem](err)
	switch {
	case !ok:
		return err
	case p.Field == "name":
		return failure{err, "plumlatch cloud-key list -all"}
	case p.Field == "regions":
		return failure{err, "plumlatch region list"}
	case p.Field == "key":
		return failure{err, "plumlatch key show " + key}
	}
	return err
}

// cloudKeyRemove takes entries out of lists of the cloud, and says first what bears their name.
func cloudKeyRemove(fs *flag.FlagSet) func(*cli) error {
	region := fs.String("region", "", "`regions` whose list it leaves, with commas between")
	everywhere := fs.Bool("everywhere", false, "the list of every region")
	yes := fs.Bool("yes", false, "do not ask")
	asJSON := fs.Bool("json", false, "print JSON")
	return func(c *cli) error {
		args, service, err := c.begin("NAME")
		if err != nil {
			return err
		}
		regions := splitList(*region)
		if *everywhere && len(regions) > 0 {
			return usagef("give -region or -everywhere")
		}
		l, err := service.KeyLists(c.ctx, wire.LookKeyLists{Regions: regions, Limit: 100_000})
		if err != nil {
			return err
		}
		var gone []wire.KeyEntry
		at := map[string]bool{}
		for _, e := range l.Entries {
			if e.Name == args[0] || e.Key == args[0] || e.ID == args[0] {
				gone, at[e.Region] = append(gone, e), true
			}
		}
		if len(gone) == 0 {
			return failure{fmt.Errorf("no list has %s, neither as a name nor as a key of the ledger", plaintext.Line(args[0])),
				"plumlatch cloud-key list -all"}
		}
		if len(at) > 1 && !*everywhere && len(regions) == 0 {
			return failure{fmt.Errorf("%s stands in %d lists", plaintext.Line(args[0]), len(at)),
				fmt.Sprintf("plumlatch cloud-key remove %s -everywhere, or -region %s", shellWord(args[0]), gone[0].Region)}
		}
		if !*yes {
			if err := c.confirm(removalWords(gone) + "\nTake it out?"); err != nil {
				return err
			}
		}
		w, err := service.UnlistKey(c.ctx, wire.UnlistKey{Name: args[0], Regions: regions})
		if err != nil {
			return keyListProblem(err, args[0])
		}
		return c.workDone(service, w, *asJSON, "plumlatch cloud-key list"+regionOption(*region))
	}
}

// removalWords say what entries are, and what was launched with them.
func removalWords(all []wire.KeyEntry) string {
	var out []string
	for _, e := range all {
		is := "no key of the ledger"
		if e.Key != "" {
			is = e.Key
		}
		line := fmt.Sprintf("%s of %s (%s)", e.Name, whereListed(e.Region), is)
		if e.Labelled > 0 {
			line += fmt.Sprintf(": %s bear its label", count(e.Labelled, "instance"))
			if len(e.Some) > 0 {
				line += ", " + some(e.Some)
			}
			line += "; what stands in their files stays"
		}
		out = append(out, plaintext.Line(line))
	}
	return strings.Join(out, "\n") + "\nWhatever names it when it launches (templates, groups, scripts) fails from then on; the cloud does " +
		"not say what does."
}

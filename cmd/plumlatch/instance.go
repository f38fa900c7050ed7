package main

import (
	"bufio"
	"cmp"
	"context"
	"errors"
	"flag"
	"fmt"
	"maps"
	"net/url"
	"slices"
	"strings"
	"time"

	"plumlatch/client"
	"plumlatch/core/access"
	"plumlatch/core/names"
	"plumlatch/core/plaintext"
	"plumlatch/core/times"
	"plumlatch/core/wire"
)

func splitList(s string) []string {
	var out []string
	for _, p := range strings.Split(s, ",") {
		if p = strings.TrimSpace(p); p != "" {
			out = append(out, p)
		}
	}
	return out
}

func nextForField(p *client.Problem, name string) string {
	switch {
	case p.Of("name-taken"):
		return "choose another name, or: plumlatch instance show " + name
	case p.Code == wire.FieldNoKey:
		return "add -key NAME; plumlatch key list shows which there are"
	case len(p.Choices) > 0:
		return "plumlatch help instance launch"
	}
	return ""
}

// finish follows the work to its end and tells how it ended.
func (c *cli) finish(service *client.Client, i wire.Instance, verb string, asJSON bool) error {
	name := i.Name
	w, err := c.follow(service, i.Work, verb+" "+name)
	if err != nil {
		return err
	}
	gone := verb == "remove" || verb == "forget"
	if gone && w.State == "done" {
		c.forgetPins(service, name)
	}
	c.renewHosts(service)
	if w.State != "done" {
		if asJSON {
			if err := c.json(w); err != nil {
				return err
			}
		}
		return c.workFailed(service, w)
	}
	if gone {
		if asJSON {
			return c.json(map[string]any{"name": name, "state": "removed", "work": w.ID})
		}
		if i.Adopted || verb == "forget" {
			fmt.Fprintf(c.out, "%s is %s.\n", name, plaintext.Line(w.Outcome))
			return nil
		}
		fmt.Fprintf(c.out, "%s is gone, with its root volume.\n", name)
		return nil
	}
	if i, err = service.Instance(c.ctx, name); err != nil {
		return err
	}
	if asJSON {
		return c.json(i)
	}
	return c.ended(service, i, verb)
}

func (c *cli) ended(service *client.Client, i wire.Instance, verb string) error {
	if verb == "stop" {
		address := "its address was given back"
		if i.Address != "" { // a static one
			address = "its static address stays with it"
		}
		fmt.Fprintf(c.out, "%s is stopped. What was known of its doors is old now; %s.\nnext: plumlatch instance start "+
			"%s\n", i.Name, address, i.Name)
		return nil
	}
	fmt.Fprintf(c.out, "%s runs in %s at %s port %d; the login user is %s.\n", i.Name, plaintext.Line(i.Region),
		plaintext.Line(i.Address), i.Port, plaintext.Line(i.LoginUser))
	for _, h := range i.HostKeys {
		fmt.Fprintf(c.out, "host key %s %s, known from %s.\n", plaintext.Line(h.Type), plaintext.Line(h.Fingerprint),
			plaintext.Line(h.Source))
	}
	if i.Trouble != "" {
		fmt.Fprintf(c.out, "\ntrouble: %s\n", plaintext.Line(i.Trouble))
	}
	fmt.Fprintln(c.out)
	if i.Desktop {
		c.printFirstPassword(i.Name, i.FirstPassword)
		return nil
	}
	rows, err := service.Access(c.ctx, i.Name, "")
	if err != nil {
		return err
	}
	c.accessRows(rows, false)
	if i.Keys == 0 {
		fmt.Fprintf(c.out, "\nNo key of a person opens it.\nnext: plumlatch instance show %s\n", i.Name)
		return nil
	}
	fmt.Fprintf(c.out, "\nnext: plumlatch open %s\n", i.Name)
	return nil
}

func instanceList(fs *flag.FlagSet) func(*cli) error {
	text := fs.String("match", "", "`part` of the name, or an address")
	region := fs.String("region", "", "`region`")
	image := fs.String("image", "", "`image`")
	state := fs.String("state", "", "`state`: running, stopped, failed ...")
	key := fs.String("key", "", "`name` of a key that opens them")
	asJSON := fs.Bool("json", false, "print JSON")
	return func(c *cli) error {
		_, service, err := c.begin()
		if err != nil {
			return err
		}
		rows, err := service.Instances(c.ctx,
			url.Values{"q": {*text}, "region": {*region}, "image": {*image}, "state": {*state}, "key": {*key}})
		if err != nil {
			return err
		}
		if *asJSON {
			return c.json(wire.List[wire.Instance]{Items: rows})
		}
		var out [][]string
		for _, i := range rows {
			going := i.Progress
			if going == "" && i.Trouble != "" {
				going = "trouble: " + plaintext.Cut(i.Trouble, 60)
			}
			address := i.Address
			if address != "" && i.Port != 22 {
				address += fmt.Sprintf(" port %d", i.Port)
			}
			out = append(out, []string{i.Name, i.State, i.Region, address, i.LoginUser, i.Image, i.Size,
				fmt.Sprint(i.Keys), going})
		}
		c.table([]string{"instance", "state", "region", "address", "user", "image", "size", "keys", ""}, out,
			nothing(fs, "No instance.\nnext: plumlatch help instance launch"))
		return nil
	}
}

func instanceShow(fs *flag.FlagSet) func(*cli) error {
	asJSON := fs.Bool("json", false, "print JSON")
	return func(c *cli) error {
		args, service, err := c.begin("NAME")
		if err != nil {
			return err
		}
		i, err := service.Instance(c.ctx, args[0])
		if err != nil {
			return err
		}
		if *asJSON {
			return c.json(i)
		}
		o, err := service.Opening(c.ctx, i.Name)
		if err != nil && i.Phase != "failed" {
			return err
		}
		line := func(label, value string) {
			if value != "" {
				fmt.Fprintf(c.out, "  %-12s %s\n", label, plaintext.Line(value))
			}
		}
		fmt.Fprintf(c.out, "%s, %s\n\n", i.Name, plaintext.Line(i.State))
		if i.Address == "" {
			line("address", "none now")
		} else {
			line("address", fmt.Sprintf("%s port %d", i.Address, i.Port))
		}
		line("login user", i.LoginUser)
		line("region", i.Region)
		line("zone", i.Zone)
		line("image", i.Image)
		line("size", i.Size)
		if i.DiskGB > 0 {
			line("root volume", fmt.Sprintf("%d GiB", i.DiskGB))
		}
		line("tags", tagWords(i.Tags))
		if i.Via != nil {
			line("through", fmt.Sprintf("%s@%s port %d", i.Via.LoginUser, i.Via.Address, i.Via.Port))
		}
		line("privilege", i.Privilege)
		a, err := service.Agent(c.ctx, i.Name)
		if err != nil {
			return err
		}
		line("agent", agentWords(a, time.Now()))
		line("files", strings.Join(i.KeysFiles, ", "))
		line("cloud", strings.TrimSpace(i.Cloud+" "+i.CloudID))
		line(map[bool]string{true: "adopted", false: "launched"}[i.Adopted || i.Found], ago(i.CreatedAt, time.Now())+
			" by "+i.CreatedBy)
		for _, h := range i.HostKeys {
			line("host key", h.Type+" "+h.Fingerprint+" ("+h.Source+")")
		}
		if len(i.HostKeys) == 0 && !i.Desktop {
			line("host key", "not known")
		}
		if len(i.Addresses) > 1 {
			var before []string
			for _, a := range i.Addresses {
				if a.Until != nil {
					before = append(before, fmt.Sprintf("%s until %s", a.Address, ago(*a.Until, time.Now())))
				}
			}
			line("before", strings.Join(before[:min(3, len(before))], ", "))
		}
		for _, old := range i.OldMachines {
			line("old machine", fmt.Sprintf("%s, kept until %s, %.4g %s a week; back to it: plumlatch work cancel %d; remove it: "+
				"plumlatch work go-on %d", old.CloudID, times.Show(old.Until.Local()), old.WeekPrice, old.Currency, old.Work, old.Work))
		}
		line("going on", i.Progress)
		if i.Work != 0 && (i.Progress != "" || i.Trouble != "") {
			line("work", fmt.Sprint(i.Work))
		}
		line("trouble", i.Trouble)
		fmt.Fprintln(c.out)
		if i.Desktop {
			c.printFirstPassword(i.Name, i.FirstPassword)
			return nil
		}
		c.accessRows(o.Keys, false)
		c.foundRows(o.Unrecorded, false)
		for _, d := range o.Doors {
			fmt.Fprintf(c.out, "another door: %s\n", plaintext.Line(d.Text))
		}
		if o.NotSeen != "" && i.Phase == "ready" {
			fmt.Fprintf(c.out, "There may be more: %s.\n", plaintext.Line(o.NotSeen))
		}
		if next := nextForInstance(i); next != "" {
			fmt.Fprintf(c.out, "\nnext: %s\n", next)
		}
		return nil
	}
}

func nextForInstance(i wire.Instance) string {
	switch {
	case i.State == "failed":
		return fmt.Sprintf("plumlatch work retry %d, or: plumlatch instance remove %s", i.Work, i.Name)
	case i.State == "stopped":
		return "plumlatch instance start " + i.Name
	case i.State == "running" && i.Phase == "ready" && i.Keys > 0 && len(i.HostKeys) > 0:
		return "plumlatch open " + i.Name
	}
	return ""
}

// changeCommand makes the command that stops, starts or removes an instance.
func changeCommand(verb string) func(fs *flag.FlagSet) func(*cli) error {
	return func(fs *flag.FlagSet) func(*cli) error {
		detach := fs.Bool("detach", false, "do not wait for the end")
		asJSON := fs.Bool("json", false, "print JSON")
		yes := new(bool)
		if verb != "start" {
			yes = fs.Bool("yes", false, "do not ask")
		}
		return func(c *cli) error {
			args, service, err := c.begin("NAME")
			if err != nil {
				return err
			}
			if (verb == "remove" || verb == "forget") && !*yes {
				i, err := service.Instance(c.ctx, args[0])
				if err != nil {
					return err
				}
				if i.Adopted || verb == "forget" {
					err = c.confirm(fmt.Sprintf("Forget %s? The machine stays as it is; the steward's line is "+
						"taken out of it.", i.Name))
				} else {
					not := ""
					if i.Found {
						not = fmt.Sprintf(" It was not launched here: plumlatch instance forget %s leaves it alone.", i.Name)
					}
					err = c.confirm(fmt.Sprintf("Remove %s (%s in %s) and its root volume, for good?%s", i.Name,
						plaintext.Line(i.State), plaintext.Line(i.Region), not))
				}
				if err != nil {
					return err
				}
			}
			if verb == "stop" && !*yes {
				if err := c.askStop(service, args[0]); err != nil {
					return err
				}
			}
			i, err := service.Change(c.ctx, args[0], verb)
			if err != nil {
				return err
			}
			if *detach {
				if *asJSON {
					return c.json(i)
				}
				fmt.Fprintf(c.out, "Began to %s %s: work %d.\nnext: plumlatch work follow %d\n", verb,
					i.Name, i.Work, i.Work)
				return nil
			}
			return c.finish(service, i, verb, *asJSON)
		}
	}
}

// askStop asks before an instance is stopped, with what follows.
func (c *cli) askStop(service *client.Client, name string) error {
	i, err := service.Instance(c.ctx, name)
	if err != nil {
		return err
	}
	if i.State != "running" || i.Adopted { // the service says why not
		return nil
	}
	address := "is given back; it gets another one when it is started"
	if len(i.Addresses) > 0 && i.Addresses[0].Until == nil && i.Addresses[0].Static {
		address = "stays: it is a static one"
	}
	rows := [][]string{{"who is logged in, and what runs there", "is ended"},
		{"its root volume", "stays"}, {"its address " + i.Address, address},
		{"its keys", "open it again once it is started"}}
	c.table([]string{"what", "then"}, rows, "")
	return c.confirm(fmt.Sprintf("\nStop %s in %s?", i.Name, plaintext.Line(i.Region)))
}

// askRemoval asks before a key is withdrawn from an instance, with what opens it afterwards.
func (c *cli) askRemoval(service *client.Client, name, key string) error {
	o, err := service.Opening(c.ctx, name)
	if err != nil {
		return err
	}
	var rows [][]string
	is := func(a, fingerprint string) bool { return names.Fold(a) == names.Fold(key) || fingerprint == key }
	now := time.Now()
	there := false
	for _, a := range o.Keys {
		if a.Steward {
			continue
		}
		then := "opens it still"
		switch {
		case is(a.Key, a.Fingerprint):
			then, there = "is withdrawn", true
		case a.KeyState != access.InUse:
			then = "is " + a.KeyState
		}
		rows = append(rows, []string{a.Key, a.Holder, evidence(a), known(a, now), then})
	}
	for _, x := range o.Unrecorded {
		then := "opens it still"
		if is(x.Key, x.Fingerprint) {
			then, there = "is withdrawn", true
		}
		rows = append(rows, []string{"? " + cmp.Or(x.Key, x.Comment, x.Fingerprint), "(not recorded)", "◔ seen",
			ago(x.Seen, now) + " by " + x.From, then})
	}
	doors := ""
	for _, d := range o.Doors {
		if d.Sort == "authority" && is(d.Key, d.Fingerprint) {
			there = true
			doors += "\nWho came in by a certificate of this authority was not seen: the service does not read who logs in there yet."
			continue
		}
		doors += "\nAnother door stays: " + plaintext.Line(d.Text)
	}
	if !there { // the service says what is wrong
		return nil
	}
	c.table([]string{"key", "holder", "evidence", "known", "then"}, rows, "")
	fmt.Fprintln(c.out, doors)
	return c.confirm(fmt.Sprintf("Withdraw %s from %s?", key, o.Instance))
}

// confirm asks a question that yes, or y, answers. Without a terminal it is an error.
func (c *cli) confirm(question string) error {
	if !c.tty {
		return failure{fmt.Errorf("a question needs an answer, and there is no terminal: %s", question),
			"the same command with -yes"}
	}
	fmt.Fprintf(c.err, "%s Type yes: ", question)
	answer, err := bufio.NewReader(c.in).ReadString('\n')
	if answer = strings.ToLower(strings.TrimSpace(answer)); err != nil || answer != "yes" && answer != "y" {
		return failure{errors.New("not confirmed; nothing was changed"), ""}
	}
	return nil
}

func imageList(fs *flag.FlagSet) func(*cli) error {
	region := fs.String("region", "", "only those of a `region`")
	get := func(service *client.Client, ctx context.Context) ([]wire.Image, error) {
		return service.Images(ctx, *region)
	}
	return catalogueList(fs, get, []string{"image", "title", "login user", "least size", "least disk", "regions",
		"kinds of key"}, func(i wire.Image) []string {
		return []string{i.Name, i.Title, i.LoginUser, i.SmallestSize, fmt.Sprintf("%d GiB", i.MinDiskGB),
			strings.Join(i.Regions, " "), kindWords(i.KeyTypes)}
	})
}

func sizeList(fs *flag.FlagSet) func(*cli) error {
	region := fs.String("region", "", "only those of a `region`")
	get := func(service *client.Client, ctx context.Context) ([]wire.Size, error) {
		return service.Sizes(ctx, *region)
	}
	return catalogueList(fs, get, []string{"size", "cpus", "memory", "disk", "an hour", "a month", "regions"}, func(s wire.Size) []string {
		hour, month := priceCells(s.Price)
		return []string{s.Name, fmt.Sprint(s.CPUs), fmt.Sprintf("%d MiB", s.MemoryMB),
			fmt.Sprintf("%d GiB", s.DiskGB), hour, month, strings.Join(s.Regions, " ")}
	})
}

func regionList(fs *flag.FlagSet) func(*cli) error {
	return catalogueList(fs, (*client.Client).Regions, []string{"region", "title", "zones"},
		func(r wire.Region) []string {
			return []string{r.Name, r.Title, strings.Join(r.Zones, " ")}
		})
}

// kindWords shortens the types of a key's line to what people call them.
func kindWords(types []string) string {
	var out []string
	for _, t := range types {
		word := t
		switch {
		case strings.HasPrefix(t, "sk-"):
			word = "hardware-held"
		case strings.HasPrefix(t, "ecdsa-"):
			word = "ecdsa"
		case strings.HasPrefix(t, "ssh-"):
			word = strings.TrimPrefix(t, "ssh-")
		}
		if !slices.Contains(out, word) {
			out = append(out, word)
		}
	}
	return strings.Join(out, " ")
}

func tagWords(tags map[string]string) string {
	var out []string
	for _, k := range slices.Sorted(maps.Keys(tags)) {
		out = append(out, k+"="+tags[k])
	}
	return strings.Join(out, ", ")
}

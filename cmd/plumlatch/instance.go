package main

import (
	"bufio"
	"errors"
	"flag"
	"fmt"
	"net/url"
	"os"
	"strings"
	"time"

	"github.com/jedib0t/go-pretty/v6/progress"

	"plumlatch/client"
	"plumlatch/core/plaintext"
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

func instanceLaunch(fs *flag.FlagSet) func(*cli) error {
	image := fs.String("image", "", "`image` of the root volume; it decides the login user (image list)")
	size := fs.String("size", "", "`size` (size list)")
	region := fs.String("region", "", "`region` (region list)")
	keys := fs.String("key", "", "`names` of the keys that open it, comma-separated")
	noKey := fs.Bool("no-key", false, "launch without a key: a locked box that nobody can log in to")
	detach := fs.Bool("detach", false, "do not wait until it runs")
	asJSON := fs.Bool("json", false, "print JSON")
	return func(c *cli) error {
		args, service, err := c.begin("NAME")
		if err != nil {
			return err
		}
		i, err := service.Launch(c.ctx, wire.Launch{Name: args[0], Region: *region, Image: *image, Size: *size, Keys: splitList(*keys), NoKey: *noKey})
		if err != nil {
			if p, ok := errors.AsType[*client.Problem](err); ok && p.Field != "" {
				return failure{fmt.Errorf("%s: %w", p.Field, err), nextForField(p, args[0])}
			}
			return err
		}
		for _, w := range i.Warnings {
			fmt.Fprintf(c.err, "warning: %s\n", plaintext.Line(w))
		}
		if *detach {
			if *asJSON {
				return c.json(i)
			}
			fmt.Fprintf(c.out, "Launching %s.\nnext: plumlatch instance show %s\n", i.Name, i.Name)
			return nil
		}
		return c.finish(service, i.Name, "launch", *asJSON)
	}
}

func nextForField(p *client.Problem, name string) string {
	switch {
	case p.Of("name-taken"):
		return "choose another name, or: plumlatch instance show " + name
	case p.Field == "keys" && strings.Contains(p.Detail, "no key is named"):
		return "add -key NAME; plumlatch key list shows which there are"
	case len(p.Choices) > 0:
		return "plumlatch help instance launch"
	}
	return ""
}

// finish waits until nothing is going on with the instance and tells how it ended.
func (c *cli) finish(service *client.Client, name, verb string, asJSON bool) error {
	i, err := c.follow(service, name, verb)
	if p, ok := errors.AsType[*client.Problem](err); ok && verb == "remove" && p.Of("not-found") {
		if asJSON {
			return c.json(map[string]string{"name": name, "state": "removed"})
		}
		fmt.Fprintf(c.out, "%s is gone, with its root volume.\n", name)
		return nil
	}
	if err != nil {
		if c.ctx.Err() != nil {
			return failure{errors.New("stopped waiting; the service goes on"), "plumlatch instance show " + name}
		}
		return err
	}
	if asJSON {
		if err := c.json(i); err != nil {
			return err
		}
	}
	want := map[string]string{"launch": "running", "start": "running", "stop": "stopped", "remove": "removed"}[verb]
	if i.Phase == "failed" || i.State != want {
		next := "plumlatch instance show " + i.Name
		if verb == "launch" {
			next = "plumlatch instance remove " + i.Name + ", and launch again"
		}
		return failure{fmt.Errorf("the %s of %s failed: %s", verb, i.Name, plaintext.Line(i.Trouble)), next}
	}
	if asJSON {
		return nil
	}
	return c.ended(service, i, verb)
}

func (c *cli) ended(service *client.Client, i wire.Instance, verb string) error {
	if verb == "stop" {
		fmt.Fprintf(c.out, "%s is stopped. What was known of its doors is old now; its address was given back.\nnext: plumlatch instance start %s\n", i.Name, i.Name)
		return nil
	}
	fmt.Fprintf(c.out, "%s runs in %s at %s port %d; the login user is %s.\n", i.Name, plaintext.Line(i.Region), plaintext.Line(i.Address), i.Port, plaintext.Line(i.LoginUser))
	for _, h := range i.HostKeys {
		fmt.Fprintf(c.out, "host key %s %s, known from %s.\n", plaintext.Line(h.Type), plaintext.Line(h.Fingerprint), plaintext.Line(h.Source))
	}
	if i.Trouble != "" {
		fmt.Fprintf(c.out, "\ntrouble: %s\n", plaintext.Line(i.Trouble))
	}
	rows, err := service.Access(c.ctx, i.Name, "")
	if err != nil {
		return err
	}
	fmt.Fprintln(c.out)
	c.accessRows(rows, false)
	if i.Keys == 0 {
		fmt.Fprintf(c.out, "\nNo key of a person opens it.\nnext: plumlatch instance show %s\n", i.Name)
		return nil
	}
	fmt.Fprintf(c.out, "\nnext: plumlatch open %s\n", i.Name)
	return nil
}

// steps of a change, as the service words them: how far along each is.
var steps = []string{"recorded", "waiting until", "reading the host keys", "asking the server"}

// follow shows progress until nothing is going on: a bar on a terminal, plain
// lines elsewhere.
func (c *cli) follow(service *client.Client, name, verb string) (wire.Instance, error) {
	if !c.tty {
		last := ""
		return client.Await(c.ctx, service, name, func(i wire.Instance) {
			if p := plaintext.Line(i.Progress); p != "" && p != last {
				last = p
				fmt.Fprintf(c.err, "%s: %s\n", i.Name, p)
			}
		})
	}
	w := progress.NewWriter()
	w.SetOutputWriter(os.Stderr) // it moves the cursor; its words are made safe one by one
	w.SetAutoStop(false)
	w.SetUpdateFrequency(80 * time.Millisecond)
	w.SetTrackerLength(24)
	w.Style().Visibility.Value = false
	w.Style().Visibility.Percentage = false
	tracker := &progress.Tracker{Message: verb + " " + name, Total: int64(len(steps))}
	w.AppendTracker(tracker)
	go w.Render()
	i, err := client.Await(c.ctx, service, name, func(i wire.Instance) {
		for n, s := range steps {
			if strings.HasPrefix(i.Progress, s) {
				tracker.SetValue(int64(n) + 1)
				tracker.UpdateMessage(fmt.Sprintf("%s %s: %s", verb, i.Name, plaintext.Line(i.Progress)))
			}
		}
	})
	tracker.MarkAsDone()
	for time.Sleep(100 * time.Millisecond); w.IsRenderInProgress(); time.Sleep(20 * time.Millisecond) {
		w.Stop()
	}
	return i, err
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
		rows, err := service.Instances(c.ctx, url.Values{"q": {*text}, "region": {*region}, "image": {*image}, "state": {*state}, "key": {*key}})
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
			out = append(out, []string{i.Name, i.State, i.Region, address, i.LoginUser, i.Image, i.Size, fmt.Sprint(i.Keys), going})
		}
		c.table([]string{"instance", "state", "region", "address", "user", "image", "size", "keys", ""}, out, nothing(fs, "No instance.\nnext: plumlatch help instance launch"))
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
		rows, err := service.Access(c.ctx, i.Name, "")
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
		line("image", i.Image)
		line("size", i.Size)
		line("cloud", i.Cloud+" "+i.CloudID)
		line("launched", ago(i.CreatedAt, time.Now())+" by "+i.CreatedBy)
		for _, h := range i.HostKeys {
			line("host key", h.Type+" "+h.Fingerprint+" ("+h.Source+")")
		}
		if len(i.HostKeys) == 0 {
			line("host key", "not known")
		}
		line("going on", i.Progress)
		line("trouble", i.Trouble)
		fmt.Fprintln(c.out)
		c.accessRows(rows, false)
		if next := nextForInstance(i); next != "" {
			fmt.Fprintf(c.out, "\nnext: %s\n", next)
		}
		return nil
	}
}

func nextForInstance(i wire.Instance) string {
	switch {
	case i.State == "failed":
		return "plumlatch instance remove " + i.Name
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
		if verb == "remove" {
			yes = fs.Bool("yes", false, "do not ask")
		}
		return func(c *cli) error {
			args, service, err := c.begin("NAME")
			if err != nil {
				return err
			}
			if verb == "remove" && !*yes {
				i, err := service.Instance(c.ctx, args[0])
				if err != nil {
					return err
				}
				if err := c.confirm(fmt.Sprintf("Remove %s (%s in %s) and its root volume, for good?", i.Name, plaintext.Line(i.State), plaintext.Line(i.Region))); err != nil {
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
				fmt.Fprintf(c.out, "Began to %s %s.\nnext: plumlatch instance show %s\n", verb, i.Name, i.Name)
				return nil
			}
			return c.finish(service, i.Name, verb, *asJSON)
		}
	}
}

// confirm asks a question that only "yes" answers. Without a terminal it is an error.
func (c *cli) confirm(question string) error {
	if !c.tty {
		return failure{fmt.Errorf("a question needs an answer, and there is no terminal: %s", question), "the same command with -yes"}
	}
	fmt.Fprintf(c.err, "%s Type yes: ", question)
	answer, err := bufio.NewReader(c.in).ReadString('\n')
	if err != nil || strings.TrimSpace(answer) != "yes" {
		return failure{errors.New("not confirmed; nothing was changed"), ""}
	}
	return nil
}

func imageList(fs *flag.FlagSet) func(*cli) error {
	return catalogueList(fs, (*client.Client).Images, []string{"image", "title", "login user", "kinds of key"}, func(i wire.Image) []string {
		return []string{i.Name, i.Title, i.LoginUser, strings.Join(i.KeyTypes, " ")}
	})
}

func sizeList(fs *flag.FlagSet) func(*cli) error {
	return catalogueList(fs, (*client.Client).Sizes, []string{"size", "cpus", "memory", "disk"}, func(s wire.Size) []string {
		return []string{s.Name, fmt.Sprint(s.CPUs), fmt.Sprintf("%d MiB", s.MemoryMB), fmt.Sprintf("%d GiB", s.DiskGB)}
	})
}

func regionList(fs *flag.FlagSet) func(*cli) error {
	return catalogueList(fs, (*client.Client).Regions, []string{"region", "title"}, func(r wire.Region) []string { return []string{r.Name, r.Title} })
}

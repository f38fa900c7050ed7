package main

import (
	"errors"
	"flag"
	"fmt"
	"io"
	"strconv"
	"strings"

	"plumlatch/client"
	"plumlatch/core/cloudconfig"
	"plumlatch/core/keypair"
	"plumlatch/core/names"
	"plumlatch/core/plaintext"
	"plumlatch/core/wire"
)

// tagFlag is -tag NAME=VALUE, as often as wanted.
type tagFlag map[string]string

func (t tagFlag) String() string { return "" }

func (t tagFlag) Set(v string) error {
	name, value, ok := strings.Cut(v, "=")
	if !ok {
		return errors.New("a tag is NAME=VALUE")
	}
	if err := names.Check(name); err != nil {
		return err
	}
	t[name] = value
	return nil
}

func instanceLaunch(fs *flag.FlagSet) func(*cli) error {
	image := fs.String("image", "", "`image` of the root volume; it decides the login user (image list)")
	size := fs.String("size", "", "`SIZE` or SIZE/GIB of its root volume; without that the size's own (size list)")
	region := fs.String("region", "", "`REGION` or REGION/ZONE; without a zone the cloud chooses one (region list)")
	agent := fs.String("agent", "", "first boot enrolls the resident agent, which may do these `verbs`: look,edit,users,... "+
		"(docs/agent.md); the people of -key may sign for it")
	tags := tagFlag{}
	fs.Var(tags, "tag", "`NAME=VALUE` to label it with; as often as wanted")
	userData := fs.String("user-data", "", "`file` with user data of your own, which is merged with the keys")
	keys := fs.String("key", "", "`names` of the keys that open it, comma-separated; cloud:NAME: an "+
		"entry of the cloud's own list, which the cloud places; none: a locked box that nobody can log in to")
	newKey := fs.String("new-key", "", "`name` of a pair to make on the spot; the launch starts once its file is written")
	var made showing
	made.dirFlag(fs)
	var passphrase string
	newPassphraseFlag(fs, &passphrase, "the pair of -new-key", asked)
	static := fs.String("static-address", "", "`name` of a static address that it gets; new: one is reserved for it")
	plan := fs.Bool("plan", false, "show what first boot would read and what it costs, and launch nothing")
	detach := fs.Bool("detach", false, "do not wait until it runs")
	asJSON := fs.Bool("json", false, "print JSON")
	return func(c *cli) error {
		args, service, err := c.begin("NAME")
		if err != nil {
			return err
		}
		r := wire.Launch{Name: args[0], Image: *image, Tags: tags, StaticAddress: *static, AgentVerbs: commas(*agent)}
		var disk string
		var sized bool
		if r.Size, disk, sized = strings.Cut(*size, "/"); sized {
			if r.DiskGB, err = strconv.Atoi(disk); err != nil || r.DiskGB < 1 {
				return usagef("-size is SIZE, or SIZE/GIB with the root volume's size in whole GiB")
			}
		}
		r.Region, r.Zone, _ = strings.Cut(*region, "/")
		if r.NoKey = *keys == none; !r.NoKey {
			for _, name := range splitList(*keys) {
				entry, listed := strings.CutPrefix(name, "cloud:")
				switch {
				case !listed:
					r.Keys = append(r.Keys, name)
				case r.CloudKey != "":
					return usagef("one entry of the cloud's list can be placed, and not two")
				default:
					r.CloudKey = entry
				}
			}
		}
		for n := range r.Keys {
			if err := c.keyNames(service, &r.Keys[n]); err != nil {
				return err
			}
		}
		if r.UserData, err = readUserData(*userData); err != nil {
			return err
		}
		if *newKey != "" {
			if r.NoKey {
				return usagef("-new-key makes a key, and -key none wants none: give one or the other")
			}
			if err := c.makeKey(service, &r, newPair{name: *newKey, dir: made.dir, passphrase: passphrase, passFD: -1},
				*plan); err != nil {
				return launchError(err, args[0])
			}
		}
		if *plan {
			p, err := service.PlanLaunch(c.ctx, r)
			if err != nil {
				return launchError(err, args[0])
			}
			if *asJSON {
				return c.json(p)
			}
			c.warnings(p.Warnings)
			if _, err = io.WriteString(c.out, p.UserData); err != nil {
				return err
			}
			if p.Price != nil { // beside what first boot reads, which is whole by itself
				fmt.Fprintf(c.err, "It costs %s, by the cloud's list, with its root volume.\n", priceWords(*p.Price))
			}
			if p.Seconds > 0 {
				fmt.Fprintf(c.err, "It usually runs after %s, and boots then.\n", until(p.Seconds))
			}
			return nil
		}
		i, err := service.Launch(c.ctx, r)
		if err != nil {
			return launchError(err, args[0])
		}
		c.warnings(i.Warnings)
		if *detach {
			if *asJSON {
				return c.json(i)
			}
			fmt.Fprintf(c.out, "Launching %s: work %d.\nnext: plumlatch work follow %d\n", i.Name, i.Work, i.Work)
			return nil
		}
		if err := c.finish(service, i, "launch", *asJSON); err != nil || *agent == "" {
			return err
		}
		fmt.Fprintf(c.err, "Its agent is known by the service's word alone until you have compared it: plumlatch instance agent pin %s\n", i.Name)
		return nil
	}
}

func (c *cli) warnings(all []string) {
	for _, w := range all {
		fmt.Fprintf(c.err, "warning: %s\n", plaintext.Line(w))
	}
}

// fieldWord is what a person calls a field of a request: the option that fills it.
func fieldWord(field string) string {
	if word := map[string]string{"disk_gb": "-size SIZE/GIB", "agent_verbs": "-agent", "user_data": "-user-data", "keys": "-key", "no_key": "-key none", "cloud_key": "-key",
		"static_address": "-static-address", "host_keys": "host key", "public_key": "public key", "login_user": "-user"}[field]; word != "" {
		return word
	}
	return strings.ReplaceAll(field, "_", " ")
}

func launchError(err error, name string) error {
	if p, ok := errors.AsType[*client.Problem](err); ok && p.Field != "" {
		return failure{fmt.Errorf("%s: %w", fieldWord(p.Field), err), nextForField(p, name)}
	}
	return err
}

// readUserData reads the engineer's own user data, which must not hold a
// private key: the ledger and the cloud keep it.
func readUserData(file string) (string, error) {
	if file == "" {
		return "", nil
	}
	data, err := readLimited(file)
	if err != nil {
		return "", err
	}
	if len(data) > cloudconfig.MaxSize {
		return "", fmt.Errorf("%s: it has %d bytes, and clouds take at most %d of user data, the keys among them",
			file, len(data), cloudconfig.MaxSize)
	}
	if keypair.LooksPrivate(data) {
		return "", failure{fmt.Errorf("%s: there is a private key in it, which the ledger and the cloud would "+
			"keep; nothing was sent", file), "take it out, and bring it to the instance once that runs"}
	}
	if len(data) == 0 {
		return "", fmt.Errorf("%s: it is empty", file)
	}
	if err := cloudconfig.Check(string(data)); err != nil {
		return "", fmt.Errorf("%s: %w", file, err)
	}
	return string(data), nil
}

// makeKey makes a pair for a launch that is sound otherwise, and adds it to the request. Its kind is the
// first that the image and the policy take.
func (c *cli) makeKey(service *client.Client, r *wire.Launch, p newPair, planOnly bool) error {
	sound := *r
	sound.NoKey = len(r.Keys) == 0
	if _, err := service.PlanLaunch(c.ctx, sound); err != nil || planOnly {
		if err == nil {
			err = usagef("-plan makes no key; leave -new-key away to see the rest")
		}
		return err
	}
	images, err := service.Images(c.ctx, r.Region)
	if err != nil {
		return err
	}
	p.format, p.kind = keypair.FormatOpenSSH, ""
	for _, i := range images {
		if i.Name == r.Image {
			p.kind = c.pairKind(service, i.KeyTypes...)
		}
	}
	if p.kind == "" {
		return failure{fmt.Errorf("image %s takes no kind of key that the policy allows", r.Image),
			"plumlatch image list; plumlatch policy show"}
	}
	if err := names.Check(p.name); err != nil {
		return usageError{"-new-key: " + err.Error()}
	}
	if _, _, err := c.makePair(service, &p); err != nil {
		return err
	}
	fmt.Fprintf(c.err, "made %s: the private half is %s (%s, stays here)\n", p.name, p.files.private, aloneNote)
	r.Keys = append(r.Keys, p.name)
	return nil
}

// priceWords says what something costs, an hour and a month.
func priceWords(p wire.Price) string {
	return fmt.Sprintf("%s %s an hour, %s a month", amount(p.Hour), plaintext.Line(p.Currency), amount(p.Month))
}

// priceCells are the cells of a table that say what something costs.
func priceCells(p *wire.Price) (hour, month string) {
	if p == nil {
		return "not known", "not known"
	}
	currency := plaintext.Line(p.Currency)
	return amount(p.Hour) + " " + currency, amount(p.Month) + " " + currency
}

// amount writes an amount of money: with the digits that it has, four after the point at most, and
// without any from a hundred on.
func amount(x float64) string {
	if x >= 100 {
		return fmt.Sprintf("%.0f", x)
	}
	return strings.TrimSuffix(strings.TrimRight(fmt.Sprintf("%.4f", x), "0"), ".")
}

package main

import (
	"errors"
	"flag"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
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
	size := fs.String("size", "", "`size` (size list)")
	region := fs.String("region", "", "`region` (region list)")
	zone := fs.String("zone", "", "`zone` of the region; without it the cloud chooses")
	disk := fs.Int("disk", 0, "size of the root volume, in `GiB`; without it the size's own")
	tags := tagFlag{}
	fs.Var(tags, "tag", "`NAME=VALUE` to label it with; as often as wanted")
	userData := fs.String("user-data", "", "`file` with user data of your own, which is merged with the keys")
	keys := fs.String("key", "", "`names` of the keys that open it, comma-separated")
	newKey := fs.String("new-key", "", "`name` of a pair to make on the spot; the launch starts once its file is written")
	dir := fs.String("dir", "", "with -new-key: `folder` to write its files in (default ~/.ssh)")
	kind := fs.String("kind", string(keypair.Ed25519), "with -new-key: its `kind`")
	passFile := fs.String("new-passphrase-file", "",
		"with -new-key: `file` with its passphrase; an empty one means none")
	noKey := fs.Bool("no-key", false, "launch without a key: a locked box that nobody can log in to")
	plan := fs.Bool("plan", false, "show what first boot would read, and launch nothing")
	detach := fs.Bool("detach", false, "do not wait until it runs")
	asJSON := fs.Bool("json", false, "print JSON")
	return func(c *cli) error {
		args, service, err := c.begin("NAME")
		if err != nil {
			return err
		}
		r := wire.Launch{Name: args[0], Region: *region, Zone: *zone, Image: *image, Size: *size, DiskGB: *disk,
			Tags: tags, Keys: splitList(*keys), NoKey: *noKey}
		for n := range r.Keys {
			if err := c.keyNames(service, &r.Keys[n]); err != nil {
				return err
			}
		}
		if r.UserData, err = readUserData(*userData); err != nil {
			return err
		}
		if *newKey != "" {
			if *noKey {
				return usagef("-new-key and -no-key: give one or the other")
			}
			if err := c.makeKey(service, &r, *newKey, *dir, *kind, *passFile, *plan); err != nil {
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
			_, err = io.WriteString(c.out, p.UserData)
			return err
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
		return c.finish(service, i, "launch", *asJSON)
	}
}

func (c *cli) warnings(all []string) {
	for _, w := range all {
		fmt.Fprintf(c.err, "warning: %s\n", plaintext.Line(w))
	}
}

// fieldWord is what a person calls a field of a request: the option that fills it.
func fieldWord(field string) string {
	if word := map[string]string{"disk_gb": "-disk", "user_data": "-user-data", "keys": "-key", "no_key": "-no-key",
		"host_keys": "host key", "public_key": "public key", "login_user": "-user"}[field]; word != "" {
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

// makeKey makes a pair for a launch that is sound otherwise, and adds it to the request.
func (c *cli) makeKey(service *client.Client, r *wire.Launch, name, dir, kind, passFile string, planOnly bool) error {
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
	lineType := map[string]string{"ed": "ssh-ed25519", "rs": "ssh-rsa"}[kind[:min(2, len(kind))]]
	if n, ok := strings.CutPrefix(kind, "ecdsa-"); ok {
		lineType = "ecdsa-sha2-nistp" + n
	}
	for _, i := range images {
		if i.Name == r.Image && !slices.Contains(i.KeyTypes, lineType) {
			return usagef("-kind: image %s takes no %s; it takes %s", i.Name, plaintext.Line(kind),
				kindWords(i.KeyTypes))
		}
	}
	fs := flag.NewFlagSet("key create", flag.ContinueOnError)
	create := keyCreate(fs)
	for option, v := range map[string]string{"dir": dir, "kind": kind, "new-passphrase-file": passFile} {
		if v == "" {
			continue
		}
		if err := fs.Set(option, v); err != nil {
			return usageError{err.Error()}
		}
	}
	sub := *c
	sub.args, sub.out = []string{name}, io.Discard
	if err := create(&sub); err != nil {
		return err
	}
	if dir == "" {
		if dir, err = sshDir(); err != nil {
			return err
		}
	}
	file := filepath.Join(dir, name)
	if _, err := os.Stat(file); err != nil {
		return err
	}
	fmt.Fprintf(c.err, "made %s: the private half is %s (mode 0600, stays here)\n", name, file)
	r.Keys = append(r.Keys, name)
	return nil
}

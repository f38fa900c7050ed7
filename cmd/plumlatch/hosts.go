package main

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"io/fs"
	"maps"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"

	"plumlatch/client"
	"plumlatch/core/hostkeys"
	"plumlatch/core/keypair"
	"plumlatch/core/plaintext"
	"plumlatch/core/sshconfig"
	"plumlatch/core/wire"
)

// hostsFiles are the files that "hosts write" keeps.
type hostsFiles struct {
	dir    string // that they lie in: ~/.ssh
	config string // one Host for each instance
	known  string // their host keys
	main   string // the engineer's own configuration
}

func hostsPlace() (hostsFiles, error) {
	dir, err := sshDir()
	if err != nil {
		return hostsFiles{}, err
	}
	if dir, err = filepath.Abs(dir); err != nil {
		return hostsFiles{}, err
	}
	return hostsFiles{dir: dir, config: filepath.Join(dir, "plumlatch_hosts"),
		known: filepath.Join(dir, "plumlatch_known_hosts"), main: filepath.Join(dir, "config")}, nil
}

// includePaths are the ways to name the file in an Include line, besides its
// full path: relative ones begin at ~/.ssh (ssh_config(5), Include). The full
// path is written, as ssh takes the home from the user database and not from $HOME.
func (h hostsFiles) includePaths() []string {
	return []string{filepath.Base(h.config), "~/.ssh/" + filepath.Base(h.config)}
}

const (
	headService = "service: "
	headKeys    = "keys: "
	headWay     = "way: "
	wayStream   = "stream" // of headWay: through the service
)

// hostsPlan is what the files would hold.
type hostsPlan struct {
	files   hostsFiles
	stream  string // the program that carries the bytes through the service; "" for the direct way
	text    string
	service string
	pins    *hostkeys.Pins
	before  string
	hosts   []sshconfig.Host
	changes []sshconfig.Change
	left    []leftOut
	moved   []pinMoved // host keys that differ from the pinned ones

	known    map[string][]keypair.Public // by instance: its recorded host keys
	sessions []sshconfig.Host            // of the instances that a PPK file opens, where they are asked for
}

// leftOut is an instance that gets no Host, and why.
type leftOut struct {
	Instance string `json:"instance"`
	Reason   string `json:"reason"`
}

// pinMoved is a host key that is another than the pinned one.
type pinMoved struct {
	Instance string `json:"instance"`
	owner    string
	alias    string
	Pinned   []string `json:"pinned"`
	Now      []string `json:"now"`
	keys     []keypair.Public
}

// planHosts works out the files. accepted are host keys, by fingerprint, that
// the engineer has said yes to. With sessions, what PPK files open is worked out, too.
func (c *cli) planHosts(service *client.Client, base, keyDir string, sessions bool, by *bool, accepted ...string) (*hostsPlan, error) {
	files, err := hostsPlace()
	if err != nil {
		return nil, err
	}
	p := &hostsPlan{files: files, known: map[string][]keypair.Public{}}
	before, err := readOptional(files.config)
	if err != nil {
		return nil, err
	}
	p.before = before
	if at := headValue(before, headService); at != "" && at != base {
		return nil, failure{fmt.Errorf("%s was written for another service, %s", files.config, plaintext.Line(at)),
			"remove that file to have it written for this one"}
	}
	if by == nil && headValue(before, headWay) == wayStream || by != nil && *by {
		if p.stream, err = os.Executable(); err != nil {
			return nil, err
		}
	}
	if keyDir == "" {
		if keyDir = headValue(before, headKeys); keyDir == "" {
			keyDir = files.dir
		}
	}
	if keyDir, err = filepath.Abs(keyDir); err != nil {
		return nil, err
	}
	local, err := localKeys(keyDir)
	if errors.Is(err, fs.ErrNotExist) { // a typo, or a disk that is away: every Host would go
		return nil, failure{fmt.Errorf("the folder of your private keys, %s, is not there: nothing was changed", keyDir),
			"plumlatch hosts write -dir FOLDER"}
	}
	ppk := map[string]string{}
	if err == nil && sessions {
		ppk, err = ppkFiles(keyDir)
	}
	if err != nil {
		return nil, err
	}
	pinned, err := readOptional(files.known)
	if err != nil {
		return nil, err
	}
	p.pins, p.service = hostkeys.ReadPins(pinned), service.URL()
	namePins(p.pins, before)
	all, err := service.Instances(c.ctx, url.Values{"host_keys": {"true"}})
	if err != nil {
		return nil, err
	}
	rows, err := service.Access(c.ctx, "", "")
	if err != nil {
		return nil, err
	}
	bestOf := func(files map[string]string) map[string]*wire.Access {
		best := map[string]*wire.Access{}
		for n := range rows {
			a := &rows[n]
			if !a.Steward && files[a.Fingerprint] != "" && (best[a.Instance] == nil || better(*a, *best[a.Instance])) {
				best[a.Instance] = a
			}
		}
		return best
	}
	best, bestPPK := bestOf(local), bestOf(ppk)
	seen := map[string]bool{}
	knows := knownOptions()
	for _, i := range all {
		if a := bestPPK[i.Name]; a != nil {
			host, err := p.host(i, *a, ppk[a.Fingerprint], accepted)
			if err != nil {
				p.left = append(p.left, leftOut{plaintext.Line(plaintext.Cut(i.Name, 60)), err.Error()})
				continue
			}
			p.sessions = append(p.sessions, host)
		}
		a := best[i.Name]
		if a == nil {
			continue // no local key opens it
		}
		host, err := p.host(i, *a, local[a.Fingerprint], accepted)
		if err == nil && host.Hop != nil && !knows("ProxyJump") {
			err = errors.New("it stands behind a jump host, and this machine's ssh knows no ProxyJump; plumlatch " +
				"open gets there")
		}
		if err == nil && seen[strings.ToLower(host.Name)] {
			err = errors.New("its name differs from another's by case only, and they are one to ssh")
		}
		if err != nil {
			p.left = append(p.left, leftOut{plaintext.Line(plaintext.Cut(i.Name, 60)), err.Error()})
			continue
		}
		seen[strings.ToLower(host.Name)] = true
		p.hosts = append(p.hosts, host)
	}
	head := []string{"Written by \"plumlatch hosts write\", which writes it anew: change nothing here.",
		headService + base, headKeys + keyDir}
	if p.stream != "" {
		head = append(head, headWay+wayStream)
	}
	if p.text, err = sshconfig.Render(head, p.hosts, knows); err != nil {
		return nil, err
	}
	p.changes = sshconfig.Compare(before, p.text)
	return p, nil
}

// host is the Host of an instance, every field checked, its host keys pinned.
func (p *hostsPlan) host(i wire.Instance, a wire.Access, identity string, accepted []string) (sshconfig.Host, error) {
	h := sshconfig.Host{}
	switch {
	case i.State == "stopped":
		return h, errors.New("it is stopped, and has no address")
	case i.Address == "":
		return h, errors.New("it has no address")
	case len(i.HostKeys) == 0:
		return h, errors.New("no host key of it is known")
	}
	i.LoginUser = a.LoginUser
	d, err := checkDoor(i)
	if err != nil {
		return h, err
	}
	if identity, err = filepath.Abs(identity); err != nil {
		return h, err
	}
	h = sshconfig.Host{Name: i.Name, Address: d.address, Port: d.port, User: d.user, IdentityFile: identity,
		Alias: d.alias, KnownHosts: p.files.known, Stream: p.stream}
	p.known[h.Name] = d.keys
	keys := map[string][]keypair.Public{"": d.keys}
	aliases := map[string]string{"": d.alias}
	if d.hop != nil && p.stream == "" {
		h.Hop = &sshconfig.Host{Name: d.hop.alias, Address: d.hop.address, Port: d.hop.port, User: d.hop.user,
			IdentityFile: identity, Alias: d.hop.alias, KnownHosts: p.files.known}
		keys[hopServer], aliases[hopServer] = d.hop.keys, d.hop.alias
	}
	if err := h.Check(); err != nil {
		return h, err
	}
	for _, server := range slices.Sorted(maps.Keys(keys)) {
		p.pin(i.Name, server, aliases[server], keys[server], accepted)
	}
	return h, nil
}

// pin takes host keys at first use; others than the pinned ones wait for a yes.
// Another alias than the pinned one counts as another host key.
func (p *hostsPlan) pin(instance, server, alias string, keys []keypair.Public, accepted []string) {
	owner := hostkeys.Owner(p.service, instance, server)
	pinned := p.pins.Pinned(owner, alias)
	var now []string
	for _, k := range keys {
		now = append(now, k.Fingerprint())
	}
	yes := !slices.ContainsFunc(now, func(fp string) bool {
		return !slices.Contains(accepted, fp) &&
			!slices.Contains(pinned, fp)
	})
	switch {
	case len(pinned) == 0 && p.pins.Fits(owner, alias, keys) || yes && len(accepted) > 0:
		p.pins.Set(owner, alias, keys)
	case slices.ContainsFunc(p.moved, func(m pinMoved) bool { return m.owner == owner }): // said already
	case !p.pins.Fits(owner, alias, keys):
		p.moved = append(p.moved, pinMoved{instance, owner, alias, pinned, now, keys})
	default:
		p.pins.Name(alias, owner)
	}
}

func readOptional(file string) (string, error) {
	data, err := os.ReadFile(file)
	if errors.Is(err, fs.ErrNotExist) {
		return "", nil
	}
	return string(data), err
}

func headValue(text, label string) string {
	for line := range strings.Lines(text) {
		if rest, ok := strings.CutPrefix(line, "# "+label); ok {
			return strings.TrimSpace(rest)
		}
		if !strings.HasPrefix(line, "#") {
			return ""
		}
	}
	return ""
}

// knownOptions asks this machine's own ssh which of the options it knows; all
// of them where there is none to ask.
func knownOptions() func(string) bool {
	program, err := exec.LookPath("ssh")
	if err != nil {
		return func(string) bool { return true }
	}
	unknown := map[string]bool{}
	for _, o := range sshconfig.Options {
		value := map[string]string{"Port": "22", "IdentitiesOnly": "yes", "StrictHostKeyChecking": "yes",
			"CheckHostIP": "no", "UpdateHostKeys": "no"}[o]
		if value == "" {
			value = "x"
		}
		out, err := exec.Command(program, "-F", "none", "-G", "-o", o+"="+value, "x").CombinedOutput()
		if err != nil && strings.Contains(strings.ToLower(string(out)), "bad configuration option") {
			unknown[o] = true
		}
	}
	return func(o string) bool { return !unknown[o] }
}

// planned works the files out for the service that the environment names.
func (c *cli) planned(dir string, sessions bool, by *bool) (*hostsPlan, error) {
	_, service, err := c.begin()
	if err != nil {
		return nil, err
	}
	return c.planHosts(service, os.Getenv("PLUMLATCH_URL"), dir, sessions, by)
}

func hostsPrint(fs *flag.FlagSet) func(*cli) error {
	dir := fs.String("dir", "", "`folder` with your private keys (default: as last written, else ~/.ssh)")
	asJSON := fs.Bool("json", false, "print JSON")
	return func(c *cli) error {
		p, err := c.planned(*dir, false, nil)
		if err != nil {
			return err
		}
		if *asJSON {
			return c.json(map[string]any{"text": p.text, "changes": p.changes, "left_out": p.left,
				"host_keys_moved": p.moved})
		}
		_, err = fmt.Fprint(c.out, p.text)
		c.leftOut(p)
		return err
	}
}

func (c *cli) leftOut(p *hostsPlan) {
	for _, l := range p.left {
		fmt.Fprintf(c.err, "left out: %s: %s\n", l.Instance, plaintext.Line(l.Reason))
	}
}

func hostsWrite(fs *flag.FlagSet) func(*cli) error {
	dir := fs.String("dir", "", "`folder` with your private keys (default: as last written, else ~/.ssh)")
	compare := fs.Bool("compare", false, "show what would change, and write nothing")
	yes := fs.Bool("yes", false, "do not ask before ~/.ssh/config gets its Include line, or a host key changes")
	sessions := fs.String("sessions", "", "write saved sessions, too, for the Windows client that reads PPK files: a "+
		"registry `file`, which must not exist")
	byStream := fs.Bool("stream", false, "have ssh go through the service, which passes bytes on that it cannot read; it stays so until -stream=false")
	asJSON := fs.Bool("json", false, "print JSON")
	return func(c *cli) error {
		var by *bool
		fs.Visit(func(f *flag.Flag) {
			if f.Name == "stream" {
				by = byStream
			}
		})
		p, err := c.planned(*dir, *sessions != "", by)
		if err != nil {
			return err
		}
		include, err := p.files.include()
		if err != nil {
			return err
		}
		if *compare {
			if *asJSON {
				return c.json(map[string]any{"changes": p.changes, "left_out": p.left, "host_keys_moved": p.moved,
					"include": include.state})
			}
			c.changes(p)
			if include.state != sshconfig.IncludeFirst {
				fmt.Fprintf(c.out, "%s would get one line, first: Include %s\n", p.files.main, p.files.config)
			}
			c.leftOut(p)
			return nil
		}
		if include.state != sshconfig.IncludeFirst && !*yes {
			if err := c.confirm(fmt.Sprintf("Put the line \"Include %s\" first in %s? Nothing else in it changes.",
				p.files.config, p.files.main)); err != nil {
				return err
			}
		}
		if err := c.askMoved(p, *yes); err != nil {
			return err
		}
		if err := p.write(); err != nil {
			return err
		}
		if err := include.write(); err != nil {
			return err
		}
		if *sessions != "" {
			if err := c.writeSessions(p, *sessions, *asJSON); err != nil {
				return err
			}
		}
		if *asJSON {
			return c.json(map[string]any{"changes": p.changes, "left_out": p.left, "include": sshconfig.IncludeFirst,
				"file": p.files.config})
		}
		c.changes(p)
		for _, h := range p.hosts {
			if slices.Contains(sshconfig.Named(include.text), h.Name) {
				fmt.Fprintf(c.err, "warning: %s has a Host %s of your own; the written one stands before it, and wins\n", p.files.main, h.Name)
			}
		}
		fmt.Fprintf(c.out, "%s has %s.\n", p.files.config, count(len(p.hosts), "instance"))
		c.leftOut(p)
		if len(p.hosts) > 0 {
			fmt.Fprintf(c.out, "next: ssh %s\n", p.hosts[0].Name)
		}
		return nil
	}
}

func count(n int, what string) string {
	if n == 1 {
		return "1 " + what
	}
	if strings.HasSuffix(what, "s") {
		what += "e"
	}
	return fmt.Sprintf("%d %ss", n, what)
}

func (c *cli) changes(p *hostsPlan) {
	var rows [][]string
	for _, ch := range p.changes {
		rows = append(rows, []string{ch.Host, ch.How, ch.Option, ch.Before, ch.After})
	}
	for _, m := range p.moved {
		rows = append(rows, []string{m.Instance, "host key", "", strings.Join(m.Pinned, " "), strings.Join(m.Now, " ")})
	}
	c.table([]string{"host", "", "option", "before", "after"}, rows, "Nothing changes.")
}

// askMoved asks about host keys that differ from the pinned ones, both
// fingerprints side by side. Without a yes the pinned ones stay.
func (c *cli) askMoved(p *hostsPlan, yes bool) error {
	for _, m := range p.moved {
		fmt.Fprintf(c.err, "The host key of %s is another one now, or it is another host by the same name.\n  "+
			"pinned here   %s\n  recorded now  %s\n", m.Instance, strings.Join(m.Pinned, " "), strings.Join(m.Now, " "))
		if yes {
			fmt.Fprintf(c.err, "  taken, as -yes answers every question\n")
		}
		if !yes {
			if err := c.confirm("Take the recorded one, because you know why it changed?"); err != nil {
				return err
			}
		}
		p.pins.Set(m.owner, m.alias, m.keys)
	}
	return nil
}

// write puts both files in place, each in one step.
func (p *hostsPlan) write() error {
	known, err := p.pins.Text()
	if err != nil {
		return err
	}
	if err := makeFolder(p.files.dir); err != nil {
		return err
	}
	return errors.Join(replaceFile(p.files.known, known, 0o600), replaceFile(p.files.config, p.text, 0o600))
}

// replaceFile writes a file beside and renames it over, unless it is so already.
func replaceFile(file, text string, mode fs.FileMode) error {
	if now, err := os.ReadFile(file); err == nil && string(now) == text {
		return nil
	}
	if fi, err := os.Lstat(file); err == nil && !fi.Mode().IsRegular() {
		return failure{fmt.Errorf("%s is no regular file; nothing was written", file), "move it away, and try again"}
	}
	temp, err := os.CreateTemp(filepath.Dir(file), filepath.Base(file)+".new-")
	if err != nil {
		return err
	}
	defer os.Remove(temp.Name())
	_, err = temp.WriteString(text)
	if err = errors.Join(err, temp.Chmod(mode), temp.Sync(), temp.Close()); err != nil {
		return err
	}
	return os.Rename(temp.Name(), file)
}

// included is what the engineer's configuration needs.
type included struct {
	file, text string
	state      string
	mode       fs.FileMode
	path       string
	also       []string
}

// include looks at the engineer's configuration, and refuses what it would not
// write to, with what to do instead.
func (h hostsFiles) include() (included, error) {
	in := included{file: h.main, mode: 0o600, path: h.config, also: h.includePaths()}
	byHand := fmt.Sprintf("put this line first in it yourself: Include %s", h.config)
	if fi, err := os.Stat(h.main); err == nil && !fi.Mode().IsRegular() {
		return in, failure{fmt.Errorf("%s is no regular file, and ssh cannot read it as its configuration; nothing "+
			"was written", h.main), "move it away, and try again"}
	}
	text, err := readOptional(h.main)
	if err != nil {
		return in, err
	}
	in.text = text
	if in.state = sshconfig.FindInclude(text, append(in.also, in.path)...); in.state == sshconfig.IncludeFirst {
		return in, nil
	}
	fi, err := os.Lstat(h.main)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return in, nil
	case err != nil:
		return in, err
	case fi.Mode()&fs.ModeSymlink != 0:
		target, _ := os.Readlink(h.main)
		return in, failure{fmt.Errorf("%s is a link to %s, which something else keeps; nothing was written", h.main,
			plaintext.Line(target)), byHand + ", and: plumlatch hosts write"}
	case fi.Mode().Perm()&0o200 == 0:
		return in, failure{fmt.Errorf("%s is not writable (mode %04o); nothing was written", h.main,
			fi.Mode().Perm()), "chmod u+w " + h.main + ", or " + byHand}
	}
	in.mode = fi.Mode().Perm()
	return in, nil
}

func (in included) write() error {
	if in.state == sshconfig.IncludeFirst {
		return nil
	}
	return replaceFile(in.file, sshconfig.AddInclude(in.text, in.path, in.also...), in.mode)
}

// renewHosts writes both files anew after a command that changes what they
// say, if "hosts write" was used before. Whatever goes wrong is only told: the
// command itself is done.
func (c *cli) renewHosts(service *client.Client, accepted ...string) {
	files, err := hostsPlace()
	if err != nil {
		return
	}
	base := os.Getenv("PLUMLATCH_URL")
	if text, err := readOptional(files.config); err != nil || headValue(text, headService) != base {
		return
	}
	inner := *c
	inner.ctx = context.WithoutCancel(c.ctx)
	p, err := inner.planHosts(service, base, "", false, nil, accepted...)
	if err == nil {
		err = p.write()
	}
	if err != nil {
		fmt.Fprintf(c.err, "warning: %s was not renewed: %s\n", files.config, plaintext.Line(err.Error()))
		return
	}
	for _, m := range p.moved {
		fmt.Fprintf(c.err, "warning: the host key of %s is another one than is pinned here; ssh will refuse "+
			"it\nnext: plumlatch hosts write\n", m.Instance)
	}
	changed := map[string]bool{}
	for _, ch := range p.changes {
		changed[ch.Host] = true
	}
	if len(changed) > 0 {
		fmt.Fprintf(c.err, "%s was renewed: %s.\n", files.config, strings.Join(slices.Sorted(maps.Keys(changed)), ", "))
	}
}

// forgetPins forgets what is pinned for an instance that was removed by a command
// from here: another of its name is not taken for it.
func (c *cli) forgetPins(service *client.Client, instance string) {
	files, err := hostsPlace()
	if err != nil {
		return
	}
	text, err := readOptional(files.known)
	if err != nil || text == "" {
		return
	}
	pins := hostkeys.ReadPins(text)
	if written, err := readOptional(files.config); err == nil {
		namePins(pins, written)
	}
	for _, server := range []string{"", hopServer} {
		pins.Drop(hostkeys.Owner(service.URL(), instance, server))
	}
	now, err := pins.Text()
	if err == nil {
		err = replaceFile(files.known, now, 0o600)
	}
	if err != nil {
		fmt.Fprintf(c.err, "warning: %s still has the host key of %s: %s\n", files.known, instance,
			plaintext.Line(err.Error()))
	}
}

package main

import (
	"cmp"
	"context"
	"errors"
	"flag"
	"fmt"
	"net/netip"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"time"

	"golang.org/x/crypto/ssh"

	"plumlatch/client"
	"plumlatch/core/access"
	"plumlatch/core/hostkeys"
	"plumlatch/core/keypair"
	"plumlatch/core/names"
	"plumlatch/core/plaintext"
	"plumlatch/core/wire"
)

// door is all that ssh needs, every field checked by its grammar: what comes
// from the service stands on a command line and in a file here.
type door struct {
	address netip.Addr
	port    int
	user    string
	alias   string
	known   string // known_hosts lines
	keys    []keypair.Public
	hop     *door  // the jump host, nil for none
	proxy   string // the command that carries the bytes; "" for none
}

func checkDoor(i wire.Instance) (door, error) {
	d := door{port: i.Port, user: i.LoginUser, alias: i.Alias}
	var err error
	if d.address, err = netip.ParseAddr(i.Address); err != nil || d.address.Zone() != "" {
		return d, errors.New("the service sent an address that is none; nothing was started")
	}
	if i.Port < 1 || i.Port > 65535 {
		return d, errors.New("the service sent a port that is none; nothing was started")
	}
	if _, err := here.Check(i.Address, i.Port); err != nil {
		return d, errors.New("the service sent an address that no instance has; nothing was started")
	}
	if !names.LoginUser(i.LoginUser) {
		return d, errors.New("the service sent a login user that is no user name; nothing was started")
	}
	for _, h := range i.HostKeys {
		p, err := keypair.ReadPublic([]byte(h.PublicKey))
		if err != nil {
			return d, errors.New("the service sent a host key that cannot be read; nothing was started")
		}
		line, err := hostkeys.KnownHostsLine(i.Alias, p.Blob)
		if err != nil {
			return d, errors.New("the service sent a host key alias that is none; nothing was started")
		}
		d.known += line
		d.keys = append(d.keys, p)
	}
	if i.Via == nil {
		return d, nil
	}
	hop, err := checkDoor(wire.Instance{Address: i.Via.Address, Port: i.Via.Port, LoginUser: i.Via.LoginUser,
		Alias: i.Alias + "-hop", HostKeys: hopKeys(*i.Via)})
	if err != nil {
		return d, fmt.Errorf("jump host: %w", err)
	}
	if hop.known == "" {
		return d, errors.New("no host key of the jump host is known; nothing was started")
	}
	d.hop = &hop
	d.known += hop.known
	return d, nil
}

func hopKeys(h wire.Hop) []wire.HostKey {
	var out []wire.HostKey
	for _, k := range h.HostKeys {
		out = append(out, wire.HostKey{PublicKey: k})
	}
	return out
}

func open(fs *flag.FlagSet) func(*cli) error {
	identity := fs.String("identity", "",
		"`file` with the private key to use, and no other (default: a key of -dir that opens the instance)")
	dir := fs.String("dir", "", "`folder` to look for keys in (default ~/.ssh)")
	user := fs.String("user", "", "log in as this `user` (default: the recorded login user)")
	lent := fs.Bool("lent", false, "have the cloud take a key made for this minute (not every cloud and image does)")
	byStream := fs.Bool("stream", false, "go through the service, which passes bytes on that it cannot read; without it, only if the direct way is shut")
	reason := fs.String("reason", "", "with -lent, or for a stream: `why`; it is kept in the journal")
	show := fs.Bool("print", false, "print the parts that another client needs, and start nothing")
	asJSON := fs.Bool("json", false, "with -print: print JSON")
	return func(c *cli) error {
		args, service, err := c.begin("INSTANCE")
		if err != nil {
			return err
		}
		if *user != "" && !names.LoginUser(*user) {
			return usagef("-user: that is no login user")
		}
		switch {
		case *asJSON && !*show:
			return usagef("-json goes with -print")
		case *lent && (*identity != "" || *user != "" || *show):
			return usagef("-lent makes a key of its own, for the recorded login user: leave out -identity, -user and -print")
		case *lent && *reason == "":
			return usagef("-lent and -reason go together: say why, it is kept in the journal")
		case *byStream && *show:
			return usagef("-stream and -print do not go together: plumlatch hosts write -stream is for other programs")
		}
		i, err := service.Instance(c.ctx, args[0])
		if err != nil {
			return err
		}
		if err := openable(i); err != nil {
			return err
		}
		if *user != "" {
			i.LoginUser = *user
		}
		d, err := pinnedDoor(service, i)
		if err != nil {
			return err
		}
		if *byStream {
			if err := d.byStream(i.Name, *reason); err != nil {
				return err
			}
		}
		if *lent {
			return c.openLent(service, i, d, *reason)
		}
		o, err := service.Opening(c.ctx, i.Name)
		if err != nil {
			return err
		}
		row, file, err := chooseIdentity(forUser(openers(o), *user), i.Name, *identity, *dir)
		if err != nil {
			return err
		}
		if *show {
			return c.printDoor(i, d, file, *asJSON)
		}
		status, err := c.ssh(d, file, c.rest)
		if err == nil && status == sshFailed && d.proxy == "" {
			if why := d.shut(c.ctx); why != nil && c.ctx.Err() == nil {
				fmt.Fprintf(c.err, "plumlatch: the direct way is shut (%s): going through the service\n", plaintext.Line(why.Error()))
				if err = d.byStream(i.Name, *reason); err == nil {
					status, err = c.ssh(d, file, c.rest)
				}
			}
		}
		if err != nil {
			return err
		}
		if status == sshFailed {
			fmt.Fprintf(c.err, "plumlatch: ssh ended with 255: it could not log in, or the connection broke\nnext: "+
				"plumlatch why %s%s\n", i.Name, whyArgs(*identity, *user, *dir))
		} else if row != nil && row.ID != 0 {
			reportLogin(service, i.Name, *row, fileQuietly(file))
		}
		c.exit = status
		return nil
	}
}

// shellWord quotes a word for a shell where it needs that.
func shellWord(s string) string {
	if s != "" && strings.Trim(s, "abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789_@%+=:,./~-") == "" {
		return s
	}
	return "'" + strings.ReplaceAll(s, "'", `'\''`) + "'"
}

// openers are what opens an instance, as accesses: those on record, and keys that a survey found there
// though nobody recorded them, which have no ID.
func openers(o wire.Opening) []wire.Access {
	rows := o.Keys
	for _, x := range o.Unrecorded {
		if x.Limits != access.Expired {
			rows = append(rows, wire.Access{Instance: x.Instance, LoginUser: x.LoginUser, Key: x.Key,
				Fingerprint: x.Fingerprint, Evidence: access.Seen.String(), At: &x.Seen, From: x.From})
		}
	}
	return rows
}

// forUser keeps the accesses of one login user; "" keeps all. Where none is
// recorded for that user, all stay: the key may open it all the same.
func forUser(rows []wire.Access, user string) []wire.Access {
	var out []wire.Access
	for _, a := range rows {
		if a.LoginUser == user {
			out = append(out, a)
		}
	}
	if user == "" || len(out) == 0 {
		return rows
	}
	return out
}

// whyArgs are the options that "why" takes over from "open".
func whyArgs(identity, user, dir string) string {
	out := ""
	for _, o := range [][2]string{{"-identity", identity}, {"-user", user}, {"-dir", dir}} {
		if o[1] != "" {
			out += " " + o[0] + " " + shellWord(o[1])
		}
	}
	return out
}

// pinnedDoor is checkDoor for whatever is about to get in: what the service says
// of the host key, and of the alias that it is known by, must be what is pinned
// here for the instance, if anything is. Every way of this program into an instance
// goes through it.
func pinnedDoor(service *client.Client, i wire.Instance) (door, error) {
	d, err := checkDoor(i)
	if err != nil {
		return d, err
	}
	return d, checkPins(service.URL(), i.Name, d)
}

// checkPins refuses a host key, or an alias, that is another than the one pinned here.
func checkPins(service, instance string, d door) error {
	pins, err := readPins()
	if err != nil || pins == nil {
		return err
	}
	server := ""
	for p := &d; p != nil; p = p.hop {
		owner := hostkeys.Owner(service, instance, server)
		if !pins.Fits(owner, p.alias, p.keys) {
			var now []string
			for _, k := range p.keys {
				now = append(now, k.Fingerprint())
			}
			return failure{fmt.Errorf("the host key of %s is another one now: pinned here is %s, and recorded %s; "+
				"nothing was started", instance, strings.Join(pins.Pinned(owner, p.alias), " "),
				strings.Join(now, " ")),
				"plumlatch hosts write, which asks about it"}
		}
		server = hopServer
	}
	return nil
}

// hopServer is how a pin names the jump host of an instance.
const hopServer = "hop"

// readPins reads what is pinned here; nil without a home.
func readPins() (*hostkeys.Pins, error) {
	files, err := hostsPlace()
	if err != nil {
		return nil, nil
	}
	text, err := readOptional(files.known)
	if err != nil {
		return nil, err
	}
	pins := hostkeys.ReadPins(text)
	written, err := readOptional(files.config)
	if err != nil {
		return nil, err
	}
	namePins(pins, written)
	return pins, nil
}

// namePins says whose the pins are that were written before that was kept with
// them: the Hosts of our own configuration have name and alias.
func namePins(pins *hostkeys.Pins, config string) {
	service := strings.TrimSuffix(headValue(config, headService), "/")
	name := ""
	for line := range strings.Lines(config) {
		word, value, _ := strings.Cut(strings.TrimSpace(line), " ")
		switch word {
		case "Host":
			name = strings.TrimSpace(value)
		case "HostKeyAlias":
			if owner := hostkeys.Owner(service, name, ""); owner != "" && !strings.ContainsAny(name, " *?!") {
				pins.Name(strings.TrimSpace(value), owner)
			}
		}
	}
}

// doorParts is what another client needs.
type doorParts struct {
	Host         string   `json:"host"`
	Port         int      `json:"port"`
	User         string   `json:"user"`
	File         string   `json:"file"`
	Format       string   `json:"format"`
	Passphrase   string   `json:"passphrase"` // "yes" or "no"
	HostKeys     []string `json:"host_keys"`  // type and fingerprint
	JumpHost     string   `json:"jump_host,omitempty"`
	Conversions  []string `json:"conversions"` // for clients that read other formats
	LoadedByHere bool     `json:"loaded_by_openssh"`
}

// printDoor prints the parts of a door, and starts nothing.
func (c *cli) printDoor(i wire.Instance, d door, file string, asJSON bool) error {
	data, err := readLimited(file)
	if err != nil {
		return err
	}
	defer clear(data)
	f, err := keypair.Read(data, nil)
	if err != nil {
		return fmt.Errorf("%s: %w", file, err)
	}
	abs, err := filepath.Abs(file)
	if err != nil {
		return err
	}
	p := doorParts{Host: d.address.String(), Port: d.port, User: d.user, File: abs, Format: f.Format.Title(),
		Passphrase: map[bool]string{true: "yes", false: "no"}[f.Encrypted],
		HostKeys:   []string{}, LoadedByHere: keypair.LoadWarning(f.Public.Kind(), f.Format) == ""}
	for _, k := range d.keys {
		p.HostKeys = append(p.HostKeys, k.Type()+" "+k.Fingerprint())
	}
	if d.hop != nil {
		p.JumpHost = fmt.Sprintf("%s@%s port %d", d.hop.user, d.hop.address, d.hop.port)
	}
	base := strings.TrimSuffix(abs, filepath.Ext(abs))
	pem := keypair.FormatPEM
	if f.Public.Kind() == string(keypair.Ed25519) { // which has no older PEM form
		pem = keypair.FormatPKCS8
	}
	for _, to := range []keypair.Format{keypair.FormatOpenSSH, keypair.FormatPPK3, pem} {
		if f.Format == to || to == keypair.FormatPPK3 && f.Format == keypair.FormatPPK2 {
			continue
		}
		out := base + map[keypair.Format]string{keypair.FormatOpenSSH: ".openssh",
			keypair.FormatPPK3: ".ppk", pem: ".pem"}[to]
		p.Conversions = append(p.Conversions,
			fmt.Sprintf("plumlatch key convert %s -format %s -out %s", shellWord(abs), to, shellWord(out)))
	}
	if asJSON {
		return c.json(p)
	}
	fmt.Fprintf(c.out, "%s\n\n", i.Name)
	line := func(label, value string) { fmt.Fprintf(c.out, "  %-12s %s\n", label, value) }
	line("host", p.Host)
	line("port", strconv.Itoa(p.Port))
	line("user", p.User)
	line("file", p.File)
	line("format", p.Format+map[string]string{"yes": ", with a passphrase",
		"no": ", without a passphrase"}[p.Passphrase])
	for _, k := range p.HostKeys {
		line("host key", k)
	}
	if p.JumpHost != "" {
		line("through", p.JumpHost)
	}
	fmt.Fprintln(c.out, "\nA client that reads another format needs the file converted first:")
	for _, conv := range p.Conversions {
		fmt.Fprintf(c.out, "  %s\n", conv)
	}
	return nil
}

// openable says why an instance cannot be opened now.
func openable(i wire.Instance) error {
	switch {
	case i.Desktop:
		return failure{fmt.Errorf("%s has no SSH: people come in by remote desktop, at %s port %d, with its password", i.Name, i.Address, i.Port),
			"plumlatch instance password " + i.Name}
	case i.State == "stopped":
		return failure{fmt.Errorf("%s is stopped", i.Name), "plumlatch instance start " + i.Name}
	case i.State != "running" || i.Address == "":
		return failure{fmt.Errorf("%s is %s, and has no address yet", i.Name, i.State),
			"plumlatch instance show " + i.Name}
	case len(i.HostKeys) == 0:
		return failure{fmt.Errorf("no host key of %s is known, so nobody can tell whether it is %s that answers: "+
			"ssh is not started blindly", i.Name, i.Name), "plumlatch instance show " + i.Name}
	}
	return nil
}

// chooseIdentity returns the private file to use and the access that it stands
// for, if the ledger has it.
func chooseIdentity(rows []wire.Access, instance, identity, dir string) (*wire.Access, string, error) {
	if identity != "" {
		data, err := readLimited(identity)
		if err != nil {
			return nil, "", err
		}
		p, err := keypair.PublicOfPrivate(data)
		if errors.Is(err, keypair.ErrNotPrivate) {
			return nil, "", failure{fmt.Errorf("%s: %w", identity, err), "give the private file, not the .pub"}
		}
		for n := range rows {
			if err == nil && rows[n].Fingerprint == p.Fingerprint() && !rows[n].Steward {
				return &rows[n], identity, nil
			}
		}
		return nil, identity, nil // ssh will tell
	}
	if dir == "" {
		var err error
		if dir, err = sshDir(); err != nil {
			return nil, "", err
		}
	}
	local, err := localKeys(dir)
	if err != nil && !errors.Is(err, os.ErrNotExist) {
		return nil, "", err
	}
	var best *wire.Access
	var wanted []string
	for n := range rows {
		a := &rows[n]
		if a.Steward {
			continue
		}
		wanted = append(wanted, cmp.Or(a.Key, a.Fingerprint))
		if local[a.Fingerprint] != "" && (best == nil || better(*a, *best)) {
			best = a
		}
	}
	if best == nil {
		if len(wanted) == 0 {
			return nil, "", failure{fmt.Errorf("nothing is known that opens %s", instance),
				"plumlatch who " + instance}
		}
		return nil, "", failure{fmt.Errorf("no private key in %s opens %s; it opens with: %s", dir, instance,
			strings.Join(wanted, ", ")), "plumlatch open " + instance + " -identity FILE"}
	}
	return best, local[best.Fingerprint], nil
}

func better(a, b wire.Access) bool {
	ka, _ := access.ParseKind(a.Evidence)
	kb, _ := access.ParseKind(b.Evidence)
	if a.Old != b.Old {
		return b.Old
	}
	return ka > kb
}

// localKeys finds the private files of a folder by their fingerprint, from the
// .pub beside each, or from OpenSSH's format, which has the public half in the clear.
func localKeys(dir string) (map[string]string, error) {
	entries, err := readKeyDir(dir)
	if err != nil {
		return nil, err
	}
	found := map[string]string{}
	for _, e := range entries {
		file := filepath.Join(dir, e.Name())
		if !e.Type().IsRegular() || strings.HasSuffix(file, ".pub") {
			continue
		}
		data, err := readLimited(file)
		if err != nil || !keypair.LooksPrivate(data) {
			continue
		}
		f, err := keypair.Read(data, nil)
		if err != nil || !f.Private || keypair.LoadWarning(f.Public.Kind(), f.Format) != "" {
			continue // not a file that ssh loads
		}
		p := f.Public
		if len(p.Blob) == 0 { // locked, in a format that hides the public half
			pub, err := readLimited(strings.TrimSuffix(file, filepath.Ext(file)) + ".pub")
			if err != nil {
				if pub, err = readLimited(file + ".pub"); err != nil {
					continue
				}
			}
			if p, err = keypair.ReadPublic(pub); err != nil {
				continue
			}
		}
		if found[p.Fingerprint()] == "" {
			found[p.Fingerprint()] = file
		}
	}
	return found, nil
}

// sshFailed is the status with which ssh says that it failed itself (ssh(1)).
const sshFailed = 255

// ssh runs this machine's own ssh and returns its status. The host key is
// pinned in a file of our own under an alias, and the person's configuration
// is left out, so that exactly the given key is used.
func (c *cli) ssh(d door, identity string, command []string) (int, error) {
	program, err := exec.LookPath("ssh")
	if err != nil {
		return 0, failure{errors.New("there is no ssh on this machine"), "apt-get install openssh-client"}
	}
	dir, err := os.MkdirTemp("", "plumlatch-open-") // mode 0700
	if err != nil {
		return 0, err
	}
	defer os.RemoveAll(dir)
	known := filepath.Join(dir, "known_hosts")
	if err := os.WriteFile(known, []byte(d.known), 0o600); err != nil {
		return 0, err
	}
	identity, err = filepath.Abs(identity)
	if err != nil {
		return 0, err
	}
	args := []string{"-F", "none", "-i", percent(identity), "-p", strconv.Itoa(d.port), "-l", d.user}
	for _, o := range []string{
		"IdentitiesOnly=yes", "IdentityAgent=none", "StrictHostKeyChecking=yes", "UserKnownHostsFile=" +
			quoted(known), "GlobalKnownHostsFile=/dev/null",
		"HostKeyAlias=" + d.alias, "CheckHostIP=no", "UpdateHostKeys=no", "PreferredAuthentications=publickey",
		"ConnectTimeout=15",
	} {
		args = append(args, "-o", o)
	}
	switch {
	case d.proxy != "":
		args = append(args, "-o", "ProxyCommand="+d.proxy)
	case d.hop != nil:
		args = append(args, "-o", "ProxyCommand="+proxyCommand(program, *d.hop, identity, known))
	}
	args = append(append(args, "--", d.address.String()), command...)
	cmd := exec.Command(program, args...)
	cmd.Stdin, cmd.Stdout, cmd.Stderr = os.Stdin, os.Stdout, os.Stderr
	if err := cmd.Start(); err != nil {
		return 0, err
	}
	// Ctrl-C reaches ssh by itself, as it shares the terminal; what was sent to
	// this program alone is passed on.
	stop := context.AfterFunc(c.ctx, func() { _ = cmd.Process.Signal(syscall.SIGTERM) })
	defer stop()
	err = cmd.Wait()
	if exit, ok := errors.AsType[*exec.ExitError](err); ok {
		if exit.ExitCode() < 0 {
			return sshFailed, nil
		}
		return exit.ExitCode(), nil
	}
	return 0, err
}

// proxyCommand is ssh through a jump host, whose host key is pinned as well
// (ssh_config(5), ProxyCommand: a shell runs it).
func proxyCommand(program string, hop door, identity, known string) string {
	words := []string{program, "-F", "none", "-i", percent(identity), "-p", strconv.Itoa(hop.port), "-l", hop.user}
	for _, o := range []string{"StrictHostKeyChecking=yes", "UserKnownHostsFile=" + quoted(known),
		"GlobalKnownHostsFile=/dev/null",
		"HostKeyAlias=" + hop.alias, "CheckHostIP=no", "UpdateHostKeys=no", "ConnectTimeout=15"} {
		words = append(words, "-o", o)
	}
	for n, w := range words {
		words[n] = shellWord(percent(w))
	}
	return strings.Join(append(words, "-W", "[%h]:%p", "--", hop.address.String()), " ")
}

// percent keeps ssh from expanding tokens in a file name (ssh_config(5), TOKENS).
func percent(s string) string { return strings.ReplaceAll(s, "%", "%%") }

func quoted(s string) string { return `"` + percent(s) + `"` }

// reportLogin tells the service of the login. With a signer the key signs for it;
// without one it is a word, which counts for nothing. Failing to tell is no failure
// of the login.
func reportLogin(service *client.Client, instance string, a wire.Access, signer ssh.Signer) {
	ctx, cancel := context.WithTimeout(context.Background(), 5*time.Second)
	defer cancel()
	var report wire.LoginReport
	if signer != nil {
		if r, err := signChallenge(ctx, service, a.Key, a.Fingerprint, signer,
			wire.ChallengeRequest{Instance: instance}); err == nil {
			report = r
		}
	}
	_ = service.ReportLogin(ctx, a.ID, report)
}

// fileQuietly is the signer of a private file that signs without asking anybody:
// nil for one with a passphrase, or of a key that wants a touch.
func fileQuietly(file string) ssh.Signer {
	data, err := readLimited(file)
	if err != nil {
		return nil
	}
	defer clear(data)
	f, err := keypair.Read(data, nil)
	if err != nil || f.Encrypted || f.Pair == nil || strings.HasPrefix(f.Public.Type(), "sk-") {
		return nil
	}
	signer, err := f.Pair.Signer()
	if err != nil {
		return nil
	}
	return signer
}

package main

import (
	"bytes"
	"cmp"
	"context"
	"errors"
	"flag"
	"fmt"
	"net"
	"net/netip"
	"strconv"
	"strings"
	"time"

	"golang.org/x/crypto/ssh"

	"plumlatch/client"
	"plumlatch/core/authkeys"
	"plumlatch/core/keypair"
	"plumlatch/core/names"
	"plumlatch/core/plaintext"
	"plumlatch/core/rotation"
	"plumlatch/core/wire"
	"plumlatch/reach"
)

// adoptee is an instance that is there already, and the way in to it.
type adoptee struct {
	name     string
	host     string // address or DNS name
	port     int
	user     string
	identity string
	jump     *jumpHost
	hostKey  string // SHA256 fingerprint, "" to look in known_hosts
	tags     map[string]string
}

// jumpHost is a server that the instance is reached through.
type jumpHost struct {
	host string
	port int
	user string
}

// adoptOptions are the same for all that one command adopts.
type adoptOptions struct {
	signer     ssh.Signer // that is opened already, instead of a file or the agent
	agent      bool
	passFile   string
	keysFile   string
	user       string
	identity   string
	record     string // the name of the key that one comes in with; none
	holder     string
	tags       tagFlag
	own        *ownKeys
	noSteward  bool
	yes        bool
	parent     int64
	unattended bool // many at once: nothing is asked, and nothing is said on the way
	// byPassword: where the server does not take the key, it may be placed by a password login. It becomes true if it was.
	byPassword *bool
}

// flags are the options of adopting, of one and of many.
func (o *adoptOptions) flags(fs *flag.FlagSet) {
	fs.StringVar(&o.user, "user", "", "login `user` (default: yours here)")
	fs.StringVar(&o.identity, "identity", "", "`file` with a private key that opens it; it is used here and never sent")
	fs.BoolVar(&o.agent, "ssh-agent", false, "use the keys in the running ssh-agent")
	fs.StringVar(&o.passFile, "passphrase-file", "", "`file` with the passphrase of -identity")
	fs.StringVar(&o.keysFile, "authorized-keys", "",
		"`path` of the file that its server reads for the user, where nobody can tell")
	fs.StringVar(&o.record, "record", "",
		"record the key that you come in with under this `name`; none: do not record it (default: from its comment)")
	fs.StringVar(&o.holder, "holder", "",
		"`name` of who holds the key that you come in with (default: on a terminal it is asked)")
	fs.BoolVar(&o.noSteward, "no-steward", false, "place no line of the service's: it is recorded for probing only")
	o.tags = tagFlag{}
	fs.Var(o.tags, "tag", "`NAME=VALUE` to label it with; as often as wanted")
	fs.BoolVar(&o.yes, "yes", false,
		"do not ask: an unknown host key is taken for the right one, and said so in the ledger")
}

// recording says whether and how the key that one comes in with is recorded.
func (o *adoptOptions) recording() error {
	if o.record == none {
		if o.holder != "" {
			return usagef("-record none records no key: leave -holder out")
		}
		return nil
	}
	o.own = &ownKeys{name: o.record, holder: o.holder}
	return nil
}

func instanceAdopt(fs *flag.FlagSet) func(*cli) error {
	var o adoptOptions
	o.flags(fs)
	address := fs.String("address", "", "`HOST[:PORT]`: the address or DNS name at which it answers, and its port (default 22)")
	hostKey := fs.String("host-key", "",
		"SHA256 `fingerprint` that its host key has (default: known_hosts, else it is asked)")
	jump := fs.String("jump", "", "`[USER@]HOST[:PORT]` of the jump host that it is reached through")
	asJSON := fs.Bool("json", false, "print JSON")
	return func(c *cli) error {
		if err := o.recording(); err != nil {
			return err
		}
		args, service, err := c.begin("NAME")
		if err != nil {
			return err
		}
		if *address == "" {
			return usagef("-address is missing")
		}
		if (o.identity == "") == !o.agent {
			return usagef("give -identity FILE or -ssh-agent")
		}
		if err := names.Check(args[0]); err != nil {
			return usageError{err.Error()}
		}
		a := adoptee{name: args[0], user: o.user, identity: o.identity, hostKey: *hostKey, tags: o.tags}
		if a.host, a.port, err = hostPort(*address, 22); err != nil {
			return err
		}
		if a.user == "" {
			a.user = localUser()
		}
		if *jump != "" {
			if a.jump, err = parseJump(*jump, a.user); err != nil {
				return err
			}
		}
		placed := false
		o.byPassword = &placed
		r, err := c.adopt(service, a, o)
		if err != nil {
			return err
		}
		c.renewHosts(service)
		if placed && !*asJSON {
			defer c.offerPasswordOff(service, r, o)
		}
		if *asJSON {
			return c.json(r)
		}
		return c.adoptReport(service, r)
	}
}

// hostPort reads HOST[:PORT]; without a port it is the other one. An IPv6 address with a port stands in brackets (RFC 3986 section 3.2.2).
func hostPort(text string, otherwise int) (host string, port int, err error) {
	host, port = strings.TrimSuffix(strings.TrimPrefix(text, "["), "]"), otherwise
	if h, p, err := net.SplitHostPort(text); err == nil {
		if port, err = strconv.Atoi(p); err != nil || port < 1 || port > 65535 {
			return "", 0, usagef("-address: %q is no port; HOST or HOST:PORT, and an IPv6 address with a port is [ADDRESS]:PORT",
				plaintext.Line(p))
		}
		host = h
	}
	return host, port, nil
}

// adoptResult is what came of adopting one instance.
type adoptResult struct {
	Instance   wire.Instance   `json:"instance"`
	Work       wire.Work       `json:"work"`
	File       string          `json:"file"`
	KeysFiles  []string        `json:"keys_files"`
	KeysKnown  string          `json:"keys_files_known"`
	Privilege  string          `json:"privilege"`
	HostKnown  string          `json:"host_key_source"`
	NotSeen    []string        `json:"not_seen"`
	Keys       []wire.FoundKey `json:"keys"`
	OwnKey     string          `json:"own_key"` // fingerprint
	ownComment string
	steward    []byte
}

// adopt brings one instance in: it gets in with the engineer's own key, finds
// out what there is, places the steward's line and follows the work to its
// end. If that fails the line is taken out again.
func (c *cli) adopt(service *client.Client, a adoptee, o adoptOptions) (adoptResult, error) {
	var r adoptResult
	in, err := c.enter(a, o)
	if err != nil {
		return r, err
	}
	defer in.close()
	if err := in.look(c.ctx, o); err != nil {
		return r, err
	}
	r.KeysFiles, r.KeysKnown, r.Privilege, r.NotSeen, r.HostKnown = in.found.KeysFiles, in.found.KeysKnown,
		in.found.Privilege, in.found.NotSeen, in.hostKnown
	r.File, r.Keys = in.file, in.keys
	r.OwnKey, r.ownComment = in.own.Fingerprint(), in.own.Comment
	undo := func() {}
	if o.own != nil {
		if undo, err = o.own.record(c, service, in, o.yes || o.unattended); err != nil {
			return r, err
		}
	}
	request := wire.Adoption{Name: a.name, Address: in.address.String(), Port: a.port, LoginUser: a.user,
		HostKeys: []string{keypair.Public{Blob: in.hostKey}.Line()}, HostKnown: in.hostKnown,
		Tags: a.tags, NoSteward: o.noSteward, KeysFiles: in.found.KeysFiles, File: in.file, Keys: in.keys,
		Privilege: in.found.Privilege, Parent: o.parent}
	if in.hop != nil {
		request.Via = &wire.Hop{Address: in.hop.address.String(), Port: a.jump.port, LoginUser: a.jump.user,
			HostKeys: []string{keypair.Public{Blob: in.hop.hostKey}.Line()}}
	}
	begun, err := service.Adopt(c.ctx, request)
	if err != nil {
		if client.Definite(err) {
			undo()
		}
		return r, launchError(err, a.name)
	}
	r.Instance = begun.Instance
	if !o.noSteward {
		if err := c.placeLine(service, in, begun, &r, o); err != nil {
			return r, err
		}
	}
	if o.unattended {
		r.Work, err = service.Follow(c.ctx, begun.Instance.Work, 0, nil)
	} else {
		r.Work, err = c.follow(service, begun.Instance.Work, "adopt "+a.name)
	}
	if err != nil {
		return r, err // the service goes on, and so may the steward
	}
	if r.Work.State != "done" {
		err := c.workFailed(service, r.Work)
		if r.steward != nil {
			err = in.withdraw(c, service, r.Work.ID, err)
		}
		return r, err
	}
	if r.Instance, err = service.Instance(c.ctx, a.name); err != nil {
		return r, err
	}
	c.tellOwnLogin(service, r, a.identity)
	return r, nil
}

// placeLine places the steward's line, on the jump host first, and tells the service.
func (c *cli) placeLine(service *client.Client, in *entrance, begun wire.Adopted, r *adoptResult,
	o adoptOptions) error {
	blob, err := checkLine(begun.StewardLine, authkeys.StewardOptions)
	if err == nil && in.hop != nil {
		var hopBlob []byte
		hopBlob, err = checkLine(begun.HopLine, authkeys.HopOptions(netip.AddrPortFrom(in.address, uint16(in.port))))
		if err == nil && !bytes.Equal(blob, hopBlob) {
			err = errBadLine
		}
	}
	if err != nil {
		_, cancelErr := service.CancelWork(c.ctx, begun.Instance.Work)
		return errors.Join(err, cancelErr)
	}
	r.steward = blob
	if in.hop != nil {
		if !o.unattended {
			fmt.Fprintf(c.err, "on the jump host, for forwarding to this server only:\n  %s\n",
				plaintext.Line(begun.HopLine))
		}
		if err := in.hop.add(begun.HopLine, blob); err != nil {
			return in.giveUp(c, service, begun.Instance.Work, fmt.Errorf("jump host: %w", err))
		}
		in.hop.line = begun.HopLine
	}
	if err := strange(in.files, in.file, blob); err != nil {
		return in.giveUp(c, service, begun.Instance.Work, err)
	}
	in.line = begun.StewardLine
	if _, err := reach.AddLine(in.files, in.file, begun.StewardLine, time.Now()); err != nil {
		return in.giveUp(c, service, begun.Instance.Work, err)
	}
	if err := service.ReportLine(c.ctx, begun.Instance.Work, wire.LineReport{Placed: true, File: in.file}); err != nil {
		return in.giveUp(c, service, begun.Instance.Work, err)
	}
	return nil
}

var errBadLine = errors.New("the service sent a line for its steward that is not of the steward's form; nothing " +
	"was placed")

// checkLine accepts a steward's line of exactly the form that it must have, and
// returns its key.
func checkLine(line, options string) ([]byte, error) {
	rest, ok := strings.CutPrefix(line, options+" ")
	p, err := keypair.ReadPublic([]byte(rest))
	if !ok || err != nil || plaintext.HasControl(line) || p.Line() != rest {
		return nil, errBadLine
	}
	return p.Blob, nil
}

// giveUp has the work go back, and takes the line out again.
func (in *entrance) giveUp(c *cli, service *client.Client, work int64, cause error) error {
	ctx, cancel := context.WithTimeout(context.WithoutCancel(c.ctx), 10*time.Second)
	defer cancel()
	_, _ = service.CancelWork(ctx, work)
	return in.withdraw(c, service, work, cause)
}

// withdraw takes the steward's line out again, and adds to the cause if it cannot.
func (in *entrance) withdraw(c *cli, service *client.Client, work int64, cause error) error {
	ctx, cancel := context.WithTimeout(context.WithoutCancel(c.ctx), 20*time.Second)
	defer cancel()
	err := takeOut(ctx, in.files, in.file, in.line)
	if in.hop != nil {
		err = errors.Join(err, takeOut(ctx, in.hop.files, in.hop.file, in.hop.line))
	}
	if err != nil {
		return fmt.Errorf("%w\nThe steward's line could not be taken out again: %w", cause, err)
	}
	_ = service.ReportLine(ctx, work, wire.LineReport{File: in.file}) // the work may be over: its word is then enough
	return fmt.Errorf("%w\nThe steward's line is out again; nothing is left on the instance", cause)
}

// takeOut takes a line that was placed here out again: that line alone, whatever
// else there is of its key, as the service chose the key.
func takeOut(ctx context.Context, files reach.Files, file, line string) error {
	l := authkeys.Parse([]byte(line), time.UTC)
	if len(l) != 1 || l[0].Err != nil {
		return nil // none was placed
	}
	_, err := reach.Edit(ctx, files, file, rotation.Own(l[0].Blob, line), reach.EditOptions{Now: time.Now()},
		func(d *authkeys.Document) error {
			d.RemoveAppended(line)
			return nil
		})
	return err
}

// strange refuses a steward's key that stands in the file already: a service that
// sends somebody's own key for its steward's could narrow it, or have it taken out.
func strange(files reach.Files, file string, blob []byte) error {
	data, err := reach.ReadKeys(files, file)
	if err != nil {
		return err
	}
	if len(authkeys.ParseDocument(data).Lines(blob)) > 0 {
		return fmt.Errorf("the key that the service calls its steward's (%s) stands in %s already: nothing was placed", keypair.Fingerprint(blob), file)
	}
	return nil
}

// tellOwnLogin reports the login that this adoption was, if its key is recorded.
func (c *cli) tellOwnLogin(service *client.Client, r adoptResult, identity string) {
	var quiet ssh.Signer
	if identity != "" {
		quiet = fileQuietly(identity)
	}
	rows, err := service.Access(c.ctx, r.Instance.Name, "")
	if err != nil {
		return
	}
	for _, a := range rows {
		if a.Fingerprint == r.OwnKey && !a.Steward {
			reportLogin(service, r.Instance.Name, a, quiet)
		}
	}
}

// adoptReport tells what was done, what was found and what to do next.
func (c *cli) adoptReport(service *client.Client, r adoptResult) error {
	i := r.Instance
	rows, err := service.Access(c.ctx, i.Name, "")
	if err != nil {
		return err
	}
	fmt.Fprintf(c.out, "%s is adopted: %s port %d; the login user is %s.\n\n", i.Name, plaintext.Line(i.Address),
		i.Port, plaintext.Line(i.LoginUser))
	line := func(label, value string) {
		if value != "" {
			fmt.Fprintf(c.out, "  %-10s %s\n", label, plaintext.Line(value))
		}
	}
	for _, h := range i.HostKeys {
		line("host key", h.Fingerprint+" ("+h.Source+")")
	}
	line("files", strings.Join(r.KeysFiles, ", ")+" ("+r.KeysKnown+")")
	line("privilege", r.Privilege)
	if r.steward != nil {
		line("steward", "its line stands in "+r.File)
	} else {
		line("steward", "none: it can be probed, not surveyed or changed")
	}
	line("trouble", i.Trouble)
	for _, n := range r.NotSeen {
		line("not seen", n)
	}
	fmt.Fprintln(c.out)
	c.accessRows(rows, false)
	known := map[string]bool{}
	for _, a := range rows {
		known[a.Fingerprint] = true
	}
	var unrecorded [][]string
	seen := map[string]bool{}
	for _, k := range r.Keys {
		p, err := keypair.ReadPublic([]byte(k.PublicKey))
		if err != nil || known[p.Fingerprint()] || seen[p.Fingerprint()] {
			continue
		}
		seen[p.Fingerprint()] = true
		whose := ""
		if p.Fingerprint() == r.OwnKey {
			whose = "the one that you came in with"
		}
		unrecorded = append(unrecorded, []string{p.Kind(), p.Bitting().String(), p.Fingerprint(), p.Comment, whose})
	}
	if len(unrecorded) > 0 {
		fmt.Fprintf(c.out, "\nNot in the ledger, and there: %d\n\n", len(unrecorded))
		c.table([]string{"kind", "bitting", "fingerprint", "comment", ""}, unrecorded, "")
	}
	fmt.Fprintln(c.out)
	if !known[r.OwnKey] {
		what := "The key that you came in with is not recorded"
		if o, err := service.Opening(c.ctx, i.Name); err == nil && o.People == 0 {
			what += ": only keys that nobody recorded open it"
		}
		fmt.Fprintf(c.out, "%s.\nnext: plumlatch access record %s %s -as %s\n", what, i.Name, r.OwnKey,
			cmp.Or(names.Suggest(plaintext.Line(r.ownComment)), "NAME"))
		return nil
	}
	for _, a := range rows {
		if a.Fingerprint == r.OwnKey && a.Holder == "" && !a.Steward {
			fmt.Fprintf(c.out, "Nobody is written down as the holder of %s: plumlatch key set %s -holder NAME.\n", a.Key,
				a.Key)
		}
	}
	fmt.Fprintf(c.out, "next: plumlatch open %s\n", i.Name)
	return nil
}

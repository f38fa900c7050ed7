package main

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"net/netip"
	"os"
	"os/user"
	"path"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"golang.org/x/crypto/ssh"
	"golang.org/x/crypto/ssh/knownhosts"

	"plumlatch/core/authkeys"
	"plumlatch/core/keypair"
	"plumlatch/core/names"
	"plumlatch/core/plaintext"
	"plumlatch/core/wire"
	"plumlatch/reach"
)

// entrance is an instance that the engineer's own key has opened, from here.
type entrance struct {
	adoptee
	address   netip.Addr
	hostKey   []byte
	hostKnown string // how the host key is known
	own       keypair.Public
	signer    ssh.Signer // of own
	hop       *hopEntrance
	quiet     bool

	ssh   *reach.Client
	files reach.Files
	found reach.Inspection
	file  string // that the steward's line goes into
	line  string // that was placed in it; "" before
	keys  []wire.FoundKey
	ends  []func() error
}

// hopEntrance is the jump host, opened in the same way.
type hopEntrance struct {
	address netip.Addr
	hostKey []byte
	ssh     *reach.Client
	files   reach.Files
	file    string
	line    string // that was placed in it; "" before
}

const enterLimit = 20 * time.Second

// here is where the engineer's own machine may dial: anywhere but where no
// server is, and metadata services.
var here = reach.Policy{AllowLoopback: true}

func localUser() string {
	if u, err := user.Current(); err == nil {
		return u.Username
	}
	return ""
}

// parseJump reads [USER@]HOST[:PORT].
func parseJump(s, otherwise string) (*jumpHost, error) {
	if strings.Contains(s, ",") {
		return nil, usagef("one jump host only: %s names several", plaintext.Line(s))
	}
	j := &jumpHost{user: otherwise, port: 22}
	if u, rest, ok := strings.Cut(s, "@"); ok {
		j.user, s = u, rest
	}
	j.host = s
	if h, p, err := net.SplitHostPort(s); err == nil {
		n, err := strconv.Atoi(p)
		if err != nil {
			return nil, usagef("the jump host's port is no number")
		}
		j.host, j.port = h, n
	}
	if !names.LoginUser(j.user) || j.host == "" {
		return nil, usagef("a jump host is [USER@]HOST[:PORT]")
	}
	return j, nil
}

func (in *entrance) close() {
	for n := len(in.ends) - 1; n >= 0; n-- {
		_ = in.ends[n]()
	}
}

// enter gets in with the engineer's own key, through the jump host if there is
// one, and opens the way to the files.
func (c *cli) enter(a adoptee, o adoptOptions) (*entrance, error) {
	in, err := c.login(a, o)
	if err != nil {
		return nil, err
	}
	files, end, err := reach.OverSSH(in.ssh)
	if err != nil {
		in.close()
		return nil, failure{fmt.Errorf("%s lets you in, and the files cannot be reached: %w", a.name, err),
			"the same command with -no-steward, to record it for probing only"}
	}
	in.ends = append(in.ends, end.Close)
	in.files = files
	return in, nil
}

// login is enter without the files: it ends at authentication, and opens no
// channel, so that a forced command does not run.
func (c *cli) login(a adoptee, o adoptOptions) (_ *entrance, err error) {
	if !names.LoginUser(a.user) {
		return nil, usagef("-user: %q is no login user", plaintext.Line(a.user))
	}
	signers, err := c.ownSigners(a, o)
	if err != nil {
		return nil, err
	}
	in := &entrance{adoptee: a, quiet: o.unattended}
	defer func() {
		if err != nil {
			in.close()
		}
	}()
	t := reach.Target{Port: a.port, User: a.user}
	if a.jump != nil {
		if err := in.enterHop(c, signers, o); err != nil {
			return nil, fmt.Errorf("jump host %s: %w", plaintext.Line(a.jump.host), err)
		}
		if in.address, err = netip.ParseAddr(a.host); err != nil {
			return nil, failure{fmt.Errorf("behind a jump host, give the IP address and not the name %s",
				plaintext.Line(a.host)), "the same command with -address ADDRESS"}
		}
	} else if in.address, err = resolve(c.ctx, a.host); err != nil {
		return nil, err
	}
	t.Address = in.address.String()
	dial := func(ctx context.Context) (net.Conn, error) { return here.Dial(ctx, t.Address, t.Port) }
	if in.hop != nil {
		dial = func(ctx context.Context) (net.Conn, error) {
			if _, err := here.Check(t.Address, t.Port); err != nil {
				return nil, err
			}
			return in.hop.ssh.DialContext(ctx, "tcp", net.JoinHostPort(t.Address, strconv.Itoa(t.Port)))
		}
	}
	if in.hostKey, in.hostKnown, err = c.knownHostKey(dial, a.host, t, a.hostKey, o); err != nil {
		return nil, err
	}
	t.HostKeys = [][]byte{in.hostKey}
	used := &usedSigner{}
	in.ssh, err = reach.Login(c.ctx, dial, t, used.wrap(signers), enterLimit)
	if errors.Is(err, reach.ErrNotLetIn) && o.byPassword != nil && c.tty && in.hop == nil && len(signers) > 0 {
		if *o.byPassword, err = c.keyByPassword(dial, t, a, signers[0], o.keysFile); err != nil {
			return nil, err
		}
		in.ssh, err = reach.Login(c.ctx, dial, t, used.wrap(signers), enterLimit)
	}
	if err != nil {
		return nil, c.notIn(err, a, signers)
	}
	in.ends = append(in.ends, in.ssh.Close)
	in.signer = used.last
	if in.own, err = keypair.FromBlob(used.last.PublicKey().Marshal(), ""); err != nil {
		return nil, err
	}
	return in, nil
}

// keyByPassword places the engineer's own key where a server takes a password and not the key, with the engineer's own rights there. The
// password is asked for, used for one login, and kept nowhere. false if the server takes none, or none was given.
func (c *cli) keyByPassword(dial func(context.Context) (net.Conn, error), t reach.Target, a adoptee, signer ssh.Signer, keysFile string) (bool, error) {
	methods, _, err := reach.Methods(c.ctx, here, t)
	if err != nil || !slices.Contains(methods, "password") && !slices.Contains(methods, "keyboard-interactive") {
		return false, nil // why the key does not get in is said by the caller
	}
	own, err := keypair.FromBlob(signer.PublicKey().Marshal(), a.name)
	if err != nil {
		return false, err
	}
	fmt.Fprintf(c.err, "%s does not take %s for %s. It takes a password: by that the key can be placed there.\n", plaintext.Line(a.host), own.Fingerprint(), a.user)
	password, err := c.ask(fmt.Sprintf("Password of %s at %s (nothing shows while you type; empty: leave it): ", a.user, plaintext.Line(a.host)))
	if err != nil || len(password) == 0 {
		return false, err
	}
	defer clear(password)
	conn, err := reach.LoginBy(c.ctx, dial, t, []ssh.AuthMethod{ssh.Password(string(password)),
		ssh.KeyboardInteractive(func(_, _ string, questions []string, echos []bool) ([]string, error) {
			if len(questions) == 0 {
				return nil, nil
			}
			if len(questions) > 1 || echos[0] { // it asks for something else
				return nil, errors.New("the server asks for more than a password")
			}
			return []string{string(password)}, nil
		})}, enterLimit)
	if errors.Is(err, reach.ErrNotLetIn) {
		return false, failure{fmt.Errorf("%s does not let %s in by that password; nothing was changed", plaintext.Line(a.host), a.user), "run the command again"}
	}
	if err != nil {
		return false, fmt.Errorf("%s: %w", plaintext.Line(a.host), err)
	}
	defer conn.Close()
	file, err := reach.PlaceOwnKey(c.ctx, conn, a.user, keysFile, own.Line())
	if err != nil {
		return false, fmt.Errorf("%s: the key could not be placed: %w", plaintext.Line(a.host), err)
	}
	fmt.Fprintf(c.err, "%s stands in %s of %s now.\n", own.Fingerprint(), plaintext.Line(file), a.user)
	return true, nil
}

// notIn explains why the engineer's key did not get in.
func (c *cli) notIn(err error, a adoptee, signers []ssh.Signer) error {
	if errors.Is(err, reach.ErrNotLetIn) {
		return failure{fmt.Errorf("%s does not let %s in with %s: the server refused %d keys", plaintext.Line(a.host),
			a.user, map[bool]string{true: "the agent's keys", false: a.identity}[a.identity == ""], len(signers)),
			"see -user and -identity; ssh -v shows what is offered"}
	}
	return fmt.Errorf("%s port %d: %w", plaintext.Line(a.host), a.port, err)
}

func (in *entrance) enterHop(c *cli, signers []ssh.Signer, o adoptOptions) error {
	h := &hopEntrance{}
	var err error
	if h.address, err = resolve(c.ctx, in.jump.host); err != nil {
		return err
	}
	t := reach.Target{Address: h.address.String(), Port: in.jump.port, User: in.jump.user}
	dial := func(ctx context.Context) (net.Conn, error) { return here.Dial(ctx, t.Address, t.Port) }
	if h.hostKey, _, err = c.knownHostKey(dial, in.jump.host, t, "", o); err != nil {
		return err
	}
	t.HostKeys = [][]byte{h.hostKey}
	if h.ssh, err = reach.Login(c.ctx, dial, t, signers, enterLimit); err != nil {
		return err
	}
	in.ends = append(in.ends, h.ssh.Close)
	in.hop = h
	if o.noSteward {
		return nil
	}
	files, end, err := reach.OverSSH(h.ssh)
	if err != nil {
		return err
	}
	in.ends = append(in.ends, end.Close)
	h.files = files
	found, err := reach.Inspect(c.ctx, h.ssh, in.jump.user, "")
	if err != nil {
		return err
	}
	h.file, _, err = chooseFile(files, found.KeysFiles)
	return err
}

// add places the steward's line on the jump host.
func (h *hopEntrance) add(line string, blob []byte) error {
	if err := strange(h.files, h.file, blob); err != nil {
		return err
	}
	_, err := reach.AddLine(h.files, h.file, line, time.Now())
	return err
}

func resolve(ctx context.Context, host string) (netip.Addr, error) {
	if a, err := netip.ParseAddr(host); err == nil {
		return a, nil
	}
	ctx, cancel := context.WithTimeout(ctx, enterLimit)
	defer cancel()
	all, err := net.DefaultResolver.LookupNetIP(ctx, "ip", host)
	if err != nil || len(all) == 0 {
		return netip.Addr{}, fmt.Errorf("%s has no address: the name is not known", plaintext.Line(host))
	}
	return all[0].Unmap(), nil
}

// ownSigners are the engineer's keys: one from a file, or those of the agent.
func (c *cli) ownSigners(a adoptee, o adoptOptions) ([]ssh.Signer, error) {
	if o.signer != nil {
		return []ssh.Signer{o.signer}, nil
	}
	if a.identity != "" {
		_, s, err := c.fileSigner(a.identity, o.passFile)
		return []ssh.Signer{s}, err
	}
	signers, err := agentSigners()
	if err != nil {
		return nil, err
	}
	if len(signers) == 0 {
		return nil, failure{errors.New("the ssh-agent has no keys"), "ssh-add FILE"}
	}
	return signers[:min(5, len(signers))], nil // more are too many failures for a server
}

// usedSigner tells which of several keys signed at last.
type usedSigner struct{ last ssh.Signer }

func (u *usedSigner) wrap(signers []ssh.Signer) []ssh.Signer {
	var out []ssh.Signer
	for _, s := range signers {
		out = append(out, noting{s, u})
	}
	return out
}

type noting struct {
	ssh.Signer
	used *usedSigner
}

// SignWithAlgorithm notes the key and signs (RFC 8332 needs the algorithm for RSA).
func (n noting) SignWithAlgorithm(rand io.Reader, data []byte, algorithm string) (*ssh.Signature, error) {
	n.used.last = n.Signer
	if s, ok := n.Signer.(ssh.AlgorithmSigner); ok {
		return s.SignWithAlgorithm(rand, data, algorithm)
	}
	return n.Signer.Sign(rand, data)
}

// knownHostKey fetches the host key and decides whether it is the right one:
// by the fingerprint given, by known_hosts, or by asking.
func (c *cli) knownHostKey(dial func(context.Context) (net.Conn, error), host string, t reach.Target, want string,
	o adoptOptions) (blob []byte, known string, err error) {
	callback, err := knownHostsFiles()
	if err != nil {
		return nil, "", err
	}
	name := host
	if t.Port != 22 {
		name = "[" + host + "]:" + strconv.Itoa(t.Port)
	}
	remote := &net.TCPAddr{IP: net.ParseIP(t.Address), Port: t.Port}
	types := []string{""}
	switch {
	case want != "":
		types = []string{ssh.KeyAlgoED25519, ssh.KeyAlgoECDSA256, ssh.KeyAlgoRSASHA512}
	default:
		if ts := knownTypes(callback, name, remote); len(ts) > 0 {
			types = ts
		}
	}
	var last string
	for _, of := range types {
		blob, err = reach.FetchHostKey(c.ctx, dial, t.Address, of)
		if err != nil {
			if want != "" && last != "" {
				continue
			}
			if len(types) > 1 && strings.Contains(err.Error(), "algorithms") {
				continue
			}
			return nil, "", fmt.Errorf("%s port %d: %w", plaintext.Line(host), t.Port, err)
		}
		last = keypair.Fingerprint(blob)
		if want == last {
			return blob, "given", nil
		}
		if want == "" {
			break
		}
	}
	if want != "" {
		return nil, "", fmt.Errorf("its host key is %s, and not %s: something else may answer at %s; nothing was sent", last, plaintext.Line(want), plaintext.Line(host))
	}
	if blob == nil {
		return nil, "", fmt.Errorf("%s port %d: %w", plaintext.Line(host), t.Port, err)
	}
	key, err := ssh.ParsePublicKey(blob)
	if err != nil {
		return nil, "", err
	}
	err = callback(name, remote, key)
	if err == nil {
		return blob, "known_hosts", nil
	}
	if ke, ok := errors.AsType[*knownhosts.KeyError](err); ok && len(ke.Want) > 0 {
		return nil, "", failure{fmt.Errorf("its host key is %s, and known_hosts has another: %s; something else "+
			"may answer at %s; nothing was sent", last, keypair.Fingerprint(ke.Want[0].Key.Marshal()),
			plaintext.Line(host)),
			"find out which of the two is right before anything else"}
	}
	question := fmt.Sprintf("The host key of %s is %s (%s), and nobody here knows it. Is it the right one?",
		plaintext.Line(host), last, key.Type())
	if o.unattended && !o.yes {
		return nil, "", fmt.Errorf("its host key %s is not in known_hosts", last)
	}
	if o.yes {
		return blob, "taken at first sight (-yes)", nil
	}
	if err := c.confirm(question); err != nil {
		if f, ok := errors.AsType[failure](err); ok && !c.tty {
			f.next = "the same command with -host-key " + last + " once you have seen that it is right"
			return nil, "", f
		}
		return nil, "", err
	}
	return blob, "confirmed by hand", nil
}

// knownTypes are the algorithms under which known_hosts has the host.
func knownTypes(callback ssh.HostKeyCallback, name string, remote net.Addr) []string {
	pair, err := keypair.Create(keypair.Ed25519, "")
	if err != nil {
		return nil
	}
	probe, err := ssh.ParsePublicKey(pair.Public.Blob)
	if err != nil {
		return nil
	}
	var out []string
	if ke, ok := errors.AsType[*knownhosts.KeyError](callback(name, remote, probe)); ok {
		for _, k := range ke.Want {
			if t := k.Key.Type(); t == ssh.KeyAlgoRSA {
				out = append(out, ssh.KeyAlgoRSASHA512)
			} else {
				out = append(out, t)
			}
		}
	}
	return out
}

// knownHostsFiles reads the known_hosts files that ssh reads.
func knownHostsFiles() (ssh.HostKeyCallback, error) {
	var files []string
	if dir, err := sshDir(); err == nil {
		files = append(files, filepath.Join(dir, "known_hosts"))
	}
	files = append(files, "/etc/ssh/ssh_known_hosts")
	var there []string
	for _, f := range files {
		if _, err := os.Stat(f); err == nil {
			there = append(there, f)
		}
	}
	callback, err := knownhosts.New(there...)
	if err != nil {
		return nil, fmt.Errorf("known_hosts: %w; mend that line, or give -host-key", err)
	}
	return callback, nil
}

// look finds out which file counts, what is in it, and what the user may do.
func (in *entrance) look(ctx context.Context, o adoptOptions) error {
	version := authkeys.ParseVersion(string(in.ssh.ServerVersion()))
	if err := authkeys.CheckOptions(version, authkeys.StewardOptions); err != nil && !o.noSteward {
		return failure{fmt.Errorf("a steward is not possible there: %w", err),
			"the same command with -no-steward, to record it for probing only"}
	}
	var err error
	if in.found, err = reach.Inspect(ctx, in.ssh, in.user, o.keysFile); errors.Is(err, reach.ErrKeysFiles) {
		return failure{err, "the same command with -authorized-keys PATH"}
	} else if err != nil {
		return err
	}
	// A root-owned file is edited by an SFTP server that sudo runs, where the user may.
	file, why, err := chooseFile(in.files, in.found.KeysFiles)
	if errors.Is(why, reach.ErrOwner) && in.found.SFTPCommand != "" && in.found.Privilege != "root" {
		if e := in.rise(); e != nil {
			return e
		}
		file, _, err = chooseFile(in.files, in.found.KeysFiles)
	}
	in.file = file
	if err != nil && !o.noSteward {
		return err
	}
	for _, f := range in.found.KeysFiles {
		data, err := reach.ReadKeys(in.files, f)
		if errors.Is(err, reach.ErrMissing) {
			continue
		}
		if err != nil {
			in.found.NotSeen = append(in.found.NotSeen, plaintext.Line(err.Error()))
			continue
		}
		for _, l := range authkeys.Parse(data, time.UTC) {
			if l.Err == nil {
				in.keys = append(in.keys,
					wire.FoundKey{File: f, Line: l.Number, Options: l.Options.Text,
						PublicKey: keypair.Public{Blob: l.Blob, Comment: plaintext.Line(l.Comment)}.Line()})
			} else {
				in.found.NotSeen = append(in.found.NotSeen, fmt.Sprintf("%s line %d: %v", f, l.Number, l.Err))
			}
		}
	}
	return nil
}

// rise reaches the files as root, by sudo, with paths from the root.
func (in *entrance) rise() error {
	home, err := in.files.RealPath(".")
	if err != nil {
		return err
	}
	files, end, err := reach.OverCommand(in.ssh, in.found.SFTPCommand)
	if err != nil {
		return fmt.Errorf("sudo: %w", err)
	}
	in.ends = append(in.ends, end.Close)
	in.files = files
	for n, f := range in.found.KeysFiles {
		if !path.IsAbs(f) {
			in.found.KeysFiles[n] = path.Join(home, f)
		}
	}
	return nil
}

// chooseFile returns the first of the files that the steward's line can go
// into. why is the reason for which the first that exists cannot be edited.
func chooseFile(files reach.Files, names []string) (file string, why, err error) {
	for _, n := range names {
		e := reach.Editable(files, n)
		if e == nil {
			return n, nil, nil
		}
		if !errors.Is(e, reach.ErrMissing) && why == nil {
			why = e
		}
	}
	if why != nil {
		return "", why, failure{fmt.Errorf("the steward's line cannot be placed: %w; nothing was changed", why),
			"the same command with -no-steward, or -authorized-keys PATH"}
	}
	return "", nil, failure{fmt.Errorf("the steward's line cannot be placed: none of %s exists; your key came in "+
		"by another way (a command or a certificate authority)", strings.Join(names, ", ")),
		"the same command with -authorized-keys PATH, or -no-steward"}
}

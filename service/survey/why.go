package survey

import (
	"bytes"
	"cmp"
	"context"
	"errors"
	"fmt"
	"net/netip"
	"path"
	"slices"
	"strings"
	"time"

	"plumlatch/core/access"
	"plumlatch/core/authkeys"
	"plumlatch/core/keypair"
	"plumlatch/core/names"
	"plumlatch/core/plaintext"
	"plumlatch/core/why"
	"plumlatch/core/wire"
	"plumlatch/reach"
	"plumlatch/service/cloud"
	"plumlatch/service/door"
	"plumlatch/service/store"
)

// whyLimit is the most that looking at one door may take.
const whyLimit = 45 * time.Second

// door gathers what the service sees of one.
type whyAt struct {
	*Service
	i      store.Instance
	rows   []store.Access
	f      why.Facts
	target reach.Target
	key    keypair.Public
}

// Why looks at an instance's door from the service, from outside to inside,
// and changes nothing. FieldError for a user or a key that is none.
func (w *Service) Why(ctx context.Context, i store.Instance, r wire.WhyRequest) (wire.WhyAnswer, error) {
	ctx, cancel := context.WithTimeout(ctx, whyLimit)
	defer cancel()
	d := &whyAt{Service: w, i: i}
	if _, err := netip.ParseAddr(r.SeenAs); err != nil {
		r.SeenAs = ""
	}
	if r.User == "" {
		r.User = i.LoginUser
	}
	if !names.LoginUser(r.User) {
		return wire.WhyAnswer{}, door.FieldError{Field: "user", Problem: "that is no login user"}
	}
	d.f = why.Facts{Instance: i.Name, User: r.User, Recorded: i.LoginUser, Adopted: i.Adopted, State: i.State,
		Address: i.Address, Port: i.Port, SeenAs: r.SeenAs}
	d.f.Forwarded = i.Cloud != "" && w.CloudOf(i).Properties().Forwards
	if i.Via != nil {
		d.f.Via = i.Via.Address
	}
	var err error
	if d.rows, err = w.Store.AccessesWithEvidence(ctx, i.ID); err != nil {
		return wire.WhyAnswer{}, err
	}
	if err := d.chooseKey(r.PublicKey); err != nil {
		return wire.WhyAnswer{}, err
	}
	if d.target, err = w.Target(ctx, i); err != nil {
		if f, ok := errors.AsType[door.Failure](err); ok {
			d.f.NotSeen = append(d.f.NotSeen, "the server, from the service: "+f.Reason)
		} else {
			return wire.WhyAnswer{}, err
		}
	}
	for _, h := range d.target.HostKeys {
		d.f.HostKeys = append(d.f.HostKeys, keypair.Fingerprint(h))
	}
	if err := d.cloud(ctx); err != nil {
		return wire.WhyAnswer{}, err
	}
	if d.f.Address != "" && (d.f.Adopted || !d.f.CloudAsked || d.f.CloudState == string(cloud.Running)) &&
		(i.Via == nil || d.target.Via != nil) {
		d.look(ctx)
	}
	return wire.WhyAnswer{Facts: d.f, Report: why.Judge(d.f)}, nil
}

// chooseKey takes the key that is asked about, or the best recorded one.
func (d *whyAt) chooseKey(line string) error {
	for _, a := range d.rows {
		p := keypair.Public{Blob: a.Blob}
		before := !a.Evidence.LastPositive(access.Accepted).IsZero() ||
			!a.Evidence.LastPositive(access.Seen).IsZero() || !a.Evidence.LastPositive(access.Proven).IsZero()
		d.f.Keys = append(d.f.Keys, why.Key{Name: a.Key, Fingerprint: p.Fingerprint(), Type: p.Type(),
			Steward: a.Steward, Before: before})
	}
	if line == "" {
		best := -1
		for n, a := range d.rows {
			if !a.Steward && (best < 0 ||
				a.Evidence.Standing(a.ChangedAt).Shown.Kind > d.rows[best].Evidence.Standing(d.rows[best].ChangedAt).Shown.Kind) {
				best = n
			}
		}
		if best >= 0 {
			k := d.f.Keys[best]
			d.f.Key, d.key = &k, keypair.Public{Blob: d.rows[best].Blob}
		}
		return nil
	}
	p, err := keypair.ReadPublic([]byte(line))
	if err != nil {
		return door.FieldError{Field: "public_key", Problem: err.Error()}
	}
	d.key = p
	d.f.Key = &why.Key{Fingerprint: p.Fingerprint(), Type: p.Type()}
	for _, k := range d.f.Keys {
		if k.Fingerprint == p.Fingerprint() {
			d.f.Key = &k
		}
	}
	return nil
}

// cloud asks the cloud about the instance and its rules.
func (d *whyAt) cloud(ctx context.Context) error {
	addresses, err := d.Store.Addresses(ctx, d.i.ID)
	if err != nil {
		return err
	}
	d.f.Restarted = len(addresses) > 1
	if d.i.Adopted {
		return nil
	}
	if d.i.CloudID == "" {
		d.f.CloudFailed = "the cloud has not made it"
		return nil
	}
	in, err := d.CloudOf(d.i).Get(ctx, d.i.CloudID)
	switch {
	case errors.Is(err, cloud.ErrNotFound):
		d.f.CloudAsked, d.f.CloudGone = true, true
		return nil
	case err != nil:
		d.f.CloudFailed = door.Words(err)
		return nil
	}
	d.f.CloudAsked, d.f.CloudState, d.f.CloudAddress = true, string(in.State), in.Address
	d.f.CloudGone = in.State == cloud.Removed
	if in.State == cloud.Running && in.Address == "" {
		d.f.Address = ""
	}
	groups, err := d.CloudOf(d.i).Groups(ctx, d.i.CloudID)
	if err != nil {
		d.f.NotSeen = append(d.f.NotSeen, "the inbound rules: "+door.Words(err))
	} else {
		d.f.RulesSeen = true
		for _, g := range groups {
			for _, r := range g.SSH() {
				d.f.Rules = append(d.f.Rules, why.Rule{From: r.From.String()})
			}
		}
	}
	images, err := d.CloudOf(d.i).Images(ctx, "")
	if err != nil {
		d.f.NotSeen = append(d.f.NotSeen, "the image's login user: "+door.Words(err))
		return nil
	}
	for _, image := range images {
		if image.Name == d.i.Image {
			d.f.ImageUser, d.f.KeyTypes = image.LoginUser, image.KeyTypes
		}
	}
	return nil
}

// look knocks, asks about keys, and has the steward read what it can.
func (d *whyAt) look(ctx context.Context) {
	k := reach.Knock(ctx, d.Reach, d.target)
	side := &why.Side{From: k.From, Reached: k.Reached, Said: k.Said, Algorithms: k.Algorithms,
		Asked: map[string]string{}}
	if side.From == "" && d.Reach.Source.IsValid() {
		side.From = d.Reach.Source.String()
	}
	d.f.Service = side
	if len(k.HostKey) > 0 {
		side.HostKey = keypair.Fingerprint(k.HostKey)
	}
	if k.Reached != why.Answers || len(d.target.HostKeys) == 0 ||
		!slices.ContainsFunc(d.target.HostKeys, func(b []byte) bool { return bytes.Equal(b, k.HostKey) }) {
		d.f.Inside.NotSeen = "the service does not get as far as that"
		return
	}
	d.inside(ctx)
	if d.key.Blob == nil {
		return
	}
	if d.ask(ctx, d.f.User, d.key.Blob) != reach.Refused {
		if d.f.User != d.f.Recorded {
			d.ask(ctx, d.f.Recorded, d.key.Blob)
		}
		return
	}
	others := []string{d.f.Recorded, d.f.ImageUser}
	others = append(others, d.f.Inside.Users...)
	tried := map[string]bool{d.f.User: true, "": true}
	for _, user := range others {
		if !tried[user] && len(tried) < 7 && names.LoginUser(user) {
			tried[user] = true
			if d.ask(ctx, user, d.key.Blob) == reach.Accepted {
				return
			}
		}
	}
	// Is the whole file passed over?
	var blobs [][]byte
	for _, a := range d.rows {
		if a.LoginUser == d.f.Recorded && len(blobs) < 5 {
			blobs = append(blobs, a.Blob)
		}
	}
	d.ask(ctx, d.f.Recorded, blobs...)
}

// ask asks the server about keys for a user, and returns the last answer.
func (d *whyAt) ask(ctx context.Context, user string, blobs ...[]byte) reach.Answer {
	t := d.target
	t.User = user
	last := reach.NotAsked
	for n, r := range reach.Probe(ctx, d.Reach, t, blobs, time.Now) {
		last = r.Answer
		switch r.Answer {
		case reach.NotAsked:
			d.f.Service.AskedFailed = r.Detail
		default:
			d.f.Service.Asked[user+" "+keypair.Fingerprint(blobs[n])] = string(r.Answer)
		}
	}
	return last
}

// inside has the steward log in, and read what it can: never more than the
// files of the login user that count, and what every user may read.
func (d *whyAt) inside(ctx context.Context) {
	in := &d.f.Inside
	signer, err := d.StewardSigner(ctx, d.i.ID)
	if errors.Is(err, store.ErrNotFound) {
		in.NotSeen = "it has no steward"
		return
	}
	if err != nil {
		in.NotSeen = "the steward's key cannot be opened"
		return
	}
	client, entered, err := reach.Enter(ctx, d.Reach, d.target, signer)
	in.Banner, in.Prompted = entered.Banner, entered.Prompted
	if err != nil {
		in.Refused = entered.Took && !entered.Prompted
		in.NotSeen = "the steward does not get in: " + door.Words(err)
		return
	}
	defer client.Close()
	files, end, err := reach.OverSSH(client)
	if err != nil {
		in.NotSeen = "the steward does not get in: " + door.Words(err)
		return
	}
	defer end.Close()
	in.Seen = true
	d.readPasswd(files)
	if _, err := files.Lstat("/etc/nologin"); err == nil {
		in.NoLogin = true
	}
	if text, err := reach.ReadText(files, "/etc/ssh/sshd_config"); err == nil {
		in.RootOff = says(text, "permitrootlogin", "no")
	}
	if d.f.User == d.f.Recorded {
		d.readLines(files)
	}
}

// says tells whether a configuration sets a keyword to a value before any
// Match: the first value wins (sshd_config(5)).
func says(text, keyword, value string) bool {
	for line := range strings.Lines(text) {
		f := strings.Fields(strings.ToLower(strings.ReplaceAll(line, "=", " ")))
		switch {
		case len(f) > 0 && f[0] == "match":
			return false
		case len(f) > 1 && f[0] == keyword:
			return f[1] == value
		}
	}
	return false
}

// readPasswd reads who is there (passwd(5)).
func (d *whyAt) readPasswd(files reach.Files) {
	text, err := reach.ReadText(files, "/etc/passwd")
	if err != nil {
		return
	}
	in := &d.f.Inside
	in.HasUsers = true
	for line := range strings.Lines(text) {
		f := strings.Split(strings.TrimSpace(line), ":")
		if len(f) != 7 || !names.LoginUser(f[0]) {
			continue
		}
		shell := f[6]
		if shell == "" {
			shell = "/bin/sh"
		}
		if f[0] == d.f.User {
			in.Shell = plaintext.Line(plaintext.Cut(shell, 80))
		}
		switch path.Base(shell) {
		case "nologin", "false", "sync", "halt", "shutdown":
		default:
			if len(in.Users) < 12 {
				in.Users = append(in.Users, f[0])
			}
		}
	}
}

// readLines looks for the key's lines in the files that count.
func (d *whyAt) readLines(files reach.Files) {
	in := &d.f.Inside
	address := d.f.SeenAs
	if address == "" && d.Reach.Source.IsValid() {
		address = d.Reach.Source.String()
	}
	read, failed := 0, ""
	for _, name := range door.FilesOf(d.i) {
		data, err := reach.ReadKeys(files, name)
		if errors.Is(err, reach.ErrMissing) {
			continue
		}
		if err != nil {
			failed = door.Words(err)
			continue
		}
		if read++; read == 1 {
			in.File = name
		}
		if d.key.Blob == nil {
			continue
		}
		for _, l := range authkeys.Parse(data, time.UTC) {
			if l.Err != nil || !bytes.Equal(l.Blob, d.key.Blob) {
				continue
			}
			line := why.Line{Where: fmt.Sprintf("%s line %d", name, l.Number), Forced: l.Options.HasCommand,
				Command: plaintext.Line(plaintext.Cut(l.Options.Command, 120))}
			decided := authkeys.Decide([]authkeys.Line{l}, l.Blob, address, time.Now())
			if !decided.Allowed {
				line.Reason = decided.Reason
				line.Expired = !l.Options.Expires.IsZero() && l.Options.Expires.Before(time.Now())
				if !line.Expired && l.Options.From != "" {
					line.From = plaintext.Line(plaintext.Cut(l.Options.From, 120))
				}
			}
			in.Lines = append(in.Lines, line)
		}
	}
	in.FileSeen = read > 0 && failed == ""
	if !in.FileSeen {
		in.NotSeen = cmp.Or(failed, "none of the files that count is there")
	}
}

package main

import (
	"bytes"
	"context"
	"crypto/ed25519"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"flag"
	"fmt"
	"net"
	"os"
	"strings"
	"time"

	"golang.org/x/crypto/ssh"

	"plumlatch/client"
	"plumlatch/core/agentcalls"
	"plumlatch/core/authkeys"
	"plumlatch/core/keypair"
	"plumlatch/core/plaintext"
	"plumlatch/core/rotation"
	"plumlatch/core/routes"
	"plumlatch/core/wire"
	"plumlatch/reach"
)

// restoreGrant lets the new key of somebody else's restore in, by one's own key.
func restoreGrant(fs *flag.FlagSet) func(*cli) error {
	var o showing
	yes := fs.Bool("yes", false, "do not ask")
	fs.StringVar(&o.identity, "identity", "", "`file` with a private key that opens it; it is used here and never sent")
	fs.BoolVar(&o.agent, "ssh-agent", false, "use the keys in the running ssh-agent")
	fs.StringVar(&o.passFile, "passphrase-file", "", "`file` with the passphrase of -identity")
	return func(c *cli) error {
		id, service, err := c.workArg()
		if err != nil {
			return err
		}
		if (o.identity == "") == !o.agent {
			return usagef("give -identity FILE or -ssh-agent")
		}
		lines, err := service.RestoreLines(c.ctx, id)
		if err != nil {
			return err
		}
		i, err := service.Instance(c.ctx, lines.Instance)
		if err != nil {
			return err
		}
		if err := c.checkLines(service, lines); err != nil {
			return err
		}
		w, err := service.WorkByID(c.ctx, id)
		if err != nil {
			return err
		}
		fmt.Fprintf(c.out, "%s asks to be let into %s as %s again, with %s:\n\n", w.Operator, lines.Instance,
			lines.LoginUser, lines.Key)
		for _, l := range lines.Lines {
			fmt.Fprintf(c.out, "  %s\n", plaintext.Line(l))
		}
		fmt.Fprintln(c.out)
		byAgent := w.Kind == "restore-agent"
		how := "Add these lines, by your own key?"
		if byAgent {
			how = "Have the agent there add these lines, signed by your key?"
		}
		if !*yes {
			if err := c.confirm(how); err != nil {
				return err
			}
		}
		if byAgent {
			return c.placeByAgent(service, lines, o)
		}
		return c.addByOwn(service, i, lines, o)
	}
}

// addByOwn adds the lines of a restore by a key of whoever is at this machine.
func (c *cli) addByOwn(service *client.Client, i wire.Instance, lines wire.RestoreLines, o showing) error {
	d, err := pinnedDoor(service, i)
	if err != nil {
		return err
	}
	if len(d.keys) == 0 {
		return failure{errors.New("no host key of it is recorded, so nothing is sent there"),
			"plumlatch instance host-key " + i.Name}
	}
	in, err := c.enter(adopteeOf(i, d, o.identity),
		adoptOptions{agent: o.agent, passFile: o.passFile, noSteward: true})
	if err != nil {
		return err
	}
	defer in.close()
	return c.addLines(service, in.files, lines, in.own.Fingerprint())
}

// checkLines takes only what a restore may place: the recorded new key, as it
// stands in the ledger, and the steward's line in exactly its form.
func (c *cli) checkLines(service *client.Client, l wire.RestoreLines) error {
	k, err := service.Key(c.ctx, l.Key)
	if err != nil {
		return err
	}
	if len(l.Lines) == 0 || len(l.Lines) > 2 || len(l.Files) == 0 {
		return errors.New("the service sends lines that no restore places; nothing was changed")
	}
	for n, line := range l.Lines {
		rest := line
		if n == 1 {
			var ok bool
			if rest, ok = strings.CutPrefix(line, authkeys.StewardOptions+" "); !ok {
				return errors.New("the service sends a line that is not the steward's; nothing was changed")
			}
		}
		p, err := keypair.ReadPublic([]byte(rest))
		if err != nil || strings.ContainsAny(line, "\r\n\x00") || p.Line() != rest ||
			n == 0 && p.Fingerprint() != k.Fingerprint {
			return errors.New("the service sends a line that is not the recorded key's; nothing was changed")
		}
	}
	return nil
}

// addLines adds the lines by the safe edit, and tells the service.
func (c *cli) addLines(service *client.Client, files reach.Files, l wire.RestoreLines, with string) error {
	file, _, err := chooseFile(files, l.Files)
	if err != nil {
		return err
	}
	var added []string
	for _, line := range l.Lines {
		data, err := reach.ReadKeys(files, file)
		if err != nil {
			return err
		}
		if authkeys.ParseDocument(data).Has(line) {
			continue
		}
		if _, err := reach.AddLine(files, file, line, time.Now()); err != nil {
			return err
		}
		added = append(added, line)
	}
	err = service.ReportPlaced(c.ctx, l.Work, wire.PlacedReport{File: file, With: with})
	if client.Definite(err) && len(added) > 0 { // it was cancelled meanwhile: nobody else would take them out
		return c.takeLinesOut(service, files, file, l, added, err)
	}
	if err != nil {
		return fmt.Errorf("the lines stand in %s, and the service did not hear of it: %w", file, err)
	}
	fmt.Fprintf(c.out, "Added to %s of %s on %s; the service asks the server now.\nnext: plumlatch work follow %d\n",
		file, l.LoginUser, l.Instance, l.Work)
	return nil
}

// placeByPassword logs in without a key, once, and adds the lines. The password
// is used here and never sent to the service.
func (c *cli) placeByPassword(service *client.Client, id int64, o ownPart) error {
	lines, err := service.RestoreLines(c.ctx, id)
	if err != nil {
		return err
	}
	if err := c.checkLines(service, lines); err != nil {
		return err
	}
	i, err := service.Instance(c.ctx, lines.Instance)
	if err != nil {
		return err
	}
	d, err := pinnedDoor(service, i)
	if err != nil {
		return err
	}
	if len(d.keys) == 0 {
		return errors.New("no host key of it is recorded, so no password is sent there")
	}
	password, err := c.password(lines.LoginUser+" on "+i.Name, o.passwordFile)
	if err != nil {
		return err
	}
	t := reach.Target{Address: i.Address, Port: i.Port, User: lines.LoginUser}
	for _, k := range d.keys {
		t.HostKeys = append(t.HostKeys, k.Blob)
	}
	by := []ssh.AuthMethod{ssh.Password(password),
		ssh.KeyboardInteractive(func(_, _ string, questions []string, _ []bool) ([]string, error) {
			out := make([]string, len(questions))
			for n := range out {
				out[n] = password
			}
			return out, nil
		})}
	conn, err := reach.LoginBy(c.ctx, func(ctx context.Context) (net.Conn,
		error) {
		return here.Dial(ctx, i.Address, i.Port)
	}, t, by, enterLimit)
	if err != nil {
		return fmt.Errorf("%s does not let %s in by that password: %w", i.Name, lines.LoginUser, err)
	}
	defer conn.Close()
	files, end, err := reach.OverSSH(conn)
	if err != nil {
		return err
	}
	defer end.Close()
	return c.addLines(service, files, lines, "password")
}

// password reads a login password: from a file, or from the terminal.
func (c *cli) password(of, file string) (string, error) {
	if file != "" {
		data, err := os.ReadFile(file)
		if err != nil {
			return "", err
		}
		return strings.TrimSuffix(strings.TrimSuffix(string(data), "\n"), "\r"), nil
	}
	if !c.tty {
		return "", errors.New("a password is needed, and there is no terminal to ask on (-password-file)")
	}
	text, err := c.ask(fmt.Sprintf("Password of %s (used here, once, and never sent to the service): ", of))
	return string(text), err
}

// reportText is the report in Markdown.
func reportText(r wire.Report) string { return routes.Markdown(r) }

// takeLinesOut takes lines that were added here a moment ago out again, with the
// permit of the service's guard: the work went back meanwhile, and they may be the
// only way in by now. Where there is no permit they stay, and that is said.
func (c *cli) takeLinesOut(service *client.Client, files reach.Files, file string, l wire.RestoreLines,
	added []string, cause error) error {
	stay := stays(file, l, cause)
	i, err := service.Instance(c.ctx, l.Instance)
	if err != nil {
		return stay(err)
	}
	data, err := reach.ReadKeys(files, file)
	if err != nil {
		return stay(err)
	}
	sum := sha256.Sum256(data)
	want := rotation.Paper{Work: l.Work, Instance: i.Alias, LoginUser: l.LoginUser, File: file, Lines: added}
	r := wire.PermitRequest{File: file, SHA256: hex.EncodeToString(sum[:]), Lines: added, Keys: []wire.FoundKey{}}
	for _, k := range authkeys.Parse(data, time.UTC) {
		if k.Err == nil {
			r.Keys = append(r.Keys, wire.FoundKey{File: file, Line: k.Number, Options: k.Options.Text,
				PublicKey: keypair.Public{Blob: k.Blob}.Line()})
		}
	}
	signed, err := service.Permit(c.ctx, l.Work, r)
	if err != nil {
		return stay(err)
	}
	key, err := signingKey(service, signed.PublicKey)
	if err != nil {
		return stay(err)
	}
	permit, err := rotation.Signed([]byte(signed.Text), signed.Signature, key, want, data, time.Now())
	if err != nil {
		return stay(err)
	}
	if _, err := reach.Edit(c.ctx, files, file, permit, reach.EditOptions{Now: time.Now()},
		func(d *authkeys.Document) error {
			for _, line := range added {
				d.RemoveAppended(line)
			}
			return nil
		}); err != nil {
		return stay(err)
	}
	return fmt.Errorf("the service does not want the lines any more, and they were taken out again: %w", cause)
}

// stays says that lines stay which nobody wants any more, and what to do about them.
func stays(file string, l wire.RestoreLines, cause error) func(error) error {
	return func(why error) error {
		return failure{fmt.Errorf("the work is over (%w), and the new lines stay in %s: %w", cause, file, why),
			fmt.Sprintf("plumlatch survey %[1]s; plumlatch access record %[1]s %[2]s; and once another way in is shown: "+
				"plumlatch access remove %[1]s -key %[2]s", l.Instance, l.Key)}
	}
}

// takeOutByAgent is takeLinesOut by the agent there, which has the file: it tells what stands in it, the guard judges by that, and the agent
// takes the lines out if the file is still so.
func (c *cli) takeOutByAgent(service *client.Client, hands agentHands, file string, l wire.RestoreLines, added []string, cause error) error {
	stay := stays(file, l, cause)
	i, err := service.Instance(c.ctx, l.Instance)
	if err != nil {
		return stay(err)
	}
	var seen agentcalls.Edited
	if err := hands.ask(c.ctx, agentcalls.Edit, "", agentcalls.EditArgs{User: l.LoginUser}, &seen); err != nil {
		return stay(err)
	}
	r := wire.PermitRequest{File: file, SHA256: seen.SHA256, Lines: added, Keys: []wire.FoundKey{}}
	for _, k := range seen.Keys {
		r.Keys = append(r.Keys, wire.FoundKey{File: file, Line: k.Line, Options: k.Options, PublicKey: k.PublicKey})
	}
	signed, err := service.Permit(c.ctx, l.Work, r)
	if err != nil {
		return stay(err)
	}
	key, err := signingKey(service, signed.PublicKey)
	if err != nil {
		return stay(err)
	}
	paper, err := rotation.CheckPaper([]byte(signed.Text), signed.Signature, key, rotation.Paper{Work: l.Work, Instance: i.Alias, LoginUser: l.LoginUser, File: file,
		Lines: added}, time.Now())
	if err == nil && paper.SHA256 != seen.SHA256 {
		err = rotation.ErrStale
	}
	if err != nil {
		return stay(err)
	}
	var done agentcalls.Edited
	if err := hands.ask(c.ctx, agentcalls.Edit, paper.SHA256, agentcalls.EditArgs{User: l.LoginUser, Take: added, Rests: paper.Rests}, &done); err != nil {
		return stay(err)
	}
	return fmt.Errorf("the service does not want the lines any more, and the agent took them out again: %w", cause)
}

// signingKey is the key that this machine knows the service to sign with, or the
// one that it says, where it is met for the first time.
func signingKey(service *client.Client, said []byte) (ed25519.PublicKey, error) {
	at, err := rememberedFile(service.URL())
	if err != nil {
		return nil, err
	}
	known, err := recall(at)
	if err != nil {
		return nil, err
	}
	if known != nil && !bytes.Equal(known.Head.PublicKey, said) {
		return nil, errors.New("the service signs with another key than the one that this machine knows it by " +
			"(plumlatch journal verify)")
	}
	return said, nil
}

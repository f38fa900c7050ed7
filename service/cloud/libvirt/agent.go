package libvirt

import (
	"context"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"plumlatch/core/keypair"
	"plumlatch/core/plaintext"
	"plumlatch/service/cloud"
)

// QEMU's guest agent runs on a machine as root, and is asked through libvirt. Its answers are a machine's words: they are bounded in size and
// time, and nothing is believed because of them: whoever has a key added asks the SSH server itself whether it takes it.
//
// It has calls of its own for keys. Those read the file and write it whole, with all lines and the new one: the last line loses its end (seen with
// QEMU 7.2), and a link or what somebody writes meanwhile may be lost (not measured). So a line is appended by the user's own shell,
// which changes nothing else, and those calls are taken only where the machine's owner lets the agent run no programs.

const (
	// guestLimit bounds what the agent has to say, in bytes.
	guestLimit = 64 << 10
	// lentFor is how long a key is lent: an emulated machine needs a while for a login.
	lentFor = 3 * time.Minute
	// maxPlaced is how many keys that were added are remembered of a machine.
	maxPlaced = 20
)

// placed is a key that the agent added.
type placed struct {
	ID   string `xml:"id,attr"`
	User string `xml:"user,attr"`
	Line string `xml:",chardata"`
}

// ask has the agent carry out one of its commands.
func (l *link) ask(d domain, command string, arguments, answer any) error {
	text, err := json.Marshal(struct {
		Execute   string `json:"execute"`
		Arguments any    `json:"arguments,omitempty"`
	}{command, arguments})
	if err != nil {
		return err
	}
	said, err := l.guest(d, string(text))
	if err != nil {
		return err
	}
	if len(said) > guestLimit {
		return refused("the machine's guest agent answers with %d bytes", len(said))
	}
	out := struct {
		Return any `json:"return"`
	}{answer}
	if err := json.Unmarshal([]byte(said), &out); err != nil {
		return refused("the machine's guest agent does not answer as it should: %s", plaintext.Line(plaintext.Cut(err.Error(), 100)))
	}
	return nil
}

// runs tells whether the machine's owner lets the agent run programs.
func (l *link) runs(d domain) (bool, error) {
	var info struct {
		Commands []struct {
			Name    string `json:"name"`
			Enabled bool   `json:"enabled"`
		} `json:"supported_commands"`
	}
	if err := l.ask(d, "guest-info", nil, &info); err != nil {
		return false, err
	}
	for _, c := range info.Commands {
		if c.Name == "guest-exec" {
			return c.Enabled, nil
		}
	}
	return false, nil
}

// appendScript adds a line to a user's file as that user: whatever a link there leads to, it is nothing that the user could not write.
const appendScript = `home=$(getent passwd "$1" | cut -d: -f6)
[ -n "$home" ] || { echo "there is no user $1"; exit 3; }
exec runuser -u "$1" -- sh -c 'umask 077
mkdir -p "$1/.ssh" || exit 4
grep -qxF -e "$2" "$1/.ssh/authorized_keys" 2>/dev/null || printf "\n%s\n" "$2" >>"$1/.ssh/authorized_keys"' sh "$home" "$2" 2>&1`

// appends runs that.
func (l *link) appends(ctx context.Context, d domain, user, line string) error {
	var begun struct {
		PID int `json:"pid"`
	}
	if err := l.ask(d, "guest-exec", map[string]any{"path": "/bin/sh", "arg": []string{"-c", appendScript, "sh", user, line}, "capture-output": true}, &begun); err != nil {
		return err
	}
	for {
		var done struct {
			Exited   bool   `json:"exited"`
			ExitCode int    `json:"exitcode"`
			Signal   int    `json:"signal"`
			Out      string `json:"out-data"`
		}
		if err := l.ask(d, "guest-exec-status", map[string]any{"pid": begun.PID}, &done); err != nil {
			return err
		}
		if done.Exited {
			if done.ExitCode != 0 || done.Signal != 0 {
				said, _ := base64.StdEncoding.DecodeString(done.Out)
				return refused("the machine's guest agent could not add the line (%d): %s", done.ExitCode, plaintext.Line(plaintext.Cut(string(said), 200)))
			}
			return nil
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(200 * time.Millisecond):
		}
	}
}

// rewrites has the agent add a line by its own call. The lines of others are compared; one that is gone is added again.
func (l *link) rewrites(d domain, user, line string) error {
	before, err := l.guestKeys(d, user)
	if err != nil {
		return err
	}
	add := []string{line}
	for range 2 {
		if err := l.addGuestKeys(d, user, add); err != nil {
			return err
		}
		after, err := l.guestKeys(d, user)
		if err != nil {
			return err
		}
		add = nil
		for _, is := range append(slices.Clone(before), line) {
			if !slices.Contains(after, is) {
				add = append(add, is)
			}
		}
		if len(add) == 0 {
			return nil
		}
	}
	return refused("the machine's guest agent has added the line, and %d others are gone from the file of %s since", len(add), plaintext.Line(plaintext.Cut(user, 40)))
}

// add has the guest agent add a line, in the better of its two ways that is open.
func (o *ours) add(ctx context.Context, user, line string) error {
	o.agentUntil = time.Now().Add(agentBudget)
	runs, err := o.runs(o.domain)
	if err != nil {
		return err
	}
	if runs {
		return o.appends(ctx, o.domain, user, line)
	}
	return o.rewrites(o.domain, user, line)
}

// Lend has the guest agent add a key's line with an end, which the machine's SSH server keeps (sshd(8), expiry-time); the line stays in the file. Asked again with the
// same token it is lent once.
func (d *Driver) Lend(ctx context.Context, clientToken, id, user, line string) (until time.Time, err error) {
	if _, err := keypair.ReadPublic([]byte(line)); err != nil || strings.ContainsAny(line, "\r\n\x00") || !isUser(user) {
		return until, refused("that is no key's line, or no user")
	}
	_, err = d.change(ctx, "", id, func(o *ours) error {
		for _, l := range o.a.Lent {
			if l.Token == clientToken {
				until, err = time.Parse(time.RFC3339, l.Until)
				return err
			}
		}
		if !o.running || o.paused || o.a.Stopping != "" {
			return refused("%s does not run: its guest agent adds nothing", o.a.Name)
		}
		until = time.Now().UTC().Add(lentFor).Truncate(time.Second)
		if err := o.add(ctx, user, fmt.Sprintf(`expiry-time="%sZ" %s`, until.Format("20060102150405"), line)); err != nil {
			return err
		}
		if o.a.Lent = append(o.a.Lent, lent{clientToken, until.Format(time.RFC3339)}); len(o.a.Lent) > maxPlaced {
			o.a.Lent = o.a.Lent[1:]
		}
		return o.keep("")
	})
	return until, err
}

// lent is a request to lend a key that was met.
type lent struct {
	Token string `xml:"token,attr"`
	Until string `xml:"until,attr"` // RFC 3339
}

// isUser tells whether a login user's name is safe in a command's arguments.
func isUser(user string) bool {
	return user != "" && !strings.ContainsAny(user, "\r\n\x00/:") && !strings.HasPrefix(user, "-")
}

// PlaceKey has the guest agent add a key's line to a user's file, once. Nothing places it again.
func (d *Driver) PlaceKey(ctx context.Context, clientToken, id, user, name, line string) (out cloud.PlacedKey, err error) {
	if strings.ContainsAny(line, "\r\n\x00") || !isUser(user) {
		return out, refused("that is no line of a file of keys, or no user")
	}
	entry := id + "/" + uuidOf("placed " + clientToken)[:8]
	_, err = d.change(ctx, clientToken, id, func(o *ours) error {
		if !o.running || o.paused || o.a.Stopping != "" {
			return refused("%s does not run: its guest agent adds nothing", o.a.Name)
		}
		if err := o.add(ctx, user, line); err != nil {
			return err
		}
		if o.a.Placed = append(o.a.Placed, placed{entry, user, line}); len(o.a.Placed) > maxPlaced {
			o.a.Placed = o.a.Placed[1:]
		}
		return o.keep(clientToken)
	})
	return cloud.PlacedKey{ID: entry, Instance: id, User: user, Name: name, Public: line}, err
}

// UnplaceKey has the guest agent take a line out again that it has added; one that was taken out, or that it did not add, is no error.
func (d *Driver) UnplaceKey(ctx context.Context, clientToken, entryID string) error {
	id, _, ok := strings.Cut(entryID, "/")
	if !ok {
		return nil
	}
	_, err := d.change(ctx, clientToken, id, func(o *ours) error {
		n := slices.IndexFunc(o.a.Placed, func(p placed) bool { return p.ID == entryID })
		if n < 0 {
			return nil
		}
		if !o.running || o.paused {
			return fmt.Errorf("%w: %s does not run: its guest agent takes nothing out", cloud.ErrFailed, o.a.Name)
		}
		o.agentUntil = time.Now().Add(agentBudget)
		if err := o.dropGuestKeys(o.domain, o.a.Placed[n].User, []string{o.a.Placed[n].Line}); err != nil {
			return err
		}
		o.a.Placed = slices.Delete(o.a.Placed, n, n+1)
		return o.keep(clientToken)
	})
	if errors.Is(err, cloud.ErrNotFound) {
		return nil
	}
	return err
}

// PlacedKeys answers none: the agent adds a line once, and keeps nothing.
func (d *Driver) PlacedKeys(ctx context.Context, id string) ([]cloud.PlacedKey, error) {
	return nil, nil
}

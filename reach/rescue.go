package reach

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"regexp"
	"strings"
	"time"

	"golang.org/x/crypto/ssh"

	"plumlatch/core/plaintext"
	"plumlatch/core/routes"
)

// Rescue is a session on a rescue instance, of a user who is root or may become
// it by sudo without a password. Its commands are those that every Debian or Red
// Hat has: lsblk, blkid, mount, umount, findmnt, blockdev, sync, mkdir, rmdir; for
// volume groups also pvs, lvs and dmsetup, which their package lvm2 has.
type Rescue struct {
	client *Client
	sudo   string // before each command
	sftp   string // the SFTP server, as root
}

// rescueLimit is how long one command may take: a journal may have to be read.
var rescueLimit = 2 * time.Minute

const rescueScript = `echo "uid $(id -u)"
if command -v sudo >/dev/null 2>&1 && sudo -n true >/dev/null 2>&1; then echo "sudo free"; fi
for s in /usr/lib/openssh/sftp-server /usr/libexec/openssh/sftp-server /usr/libexec/sftp-server /usr/lib/ssh/sftp-server; do [ -x "$s" ] && echo "sftp-server $s" && break; done
echo plumlatch-end`

// Errors of a rescue instance.
var (
	ErrNoRoot = errors.New("the rescue instance's login user is not root, and has no sudo without a password")
	// ErrMounted: it is still mounted, so it must not be detached.
	ErrMounted = errors.New("it is still mounted")
	// ErrNotMounted: what lies there is the rescue instance's own.
	ErrNotMounted = errors.New("nothing is mounted there")
)

// EnterRescue opens the session. The context ends it.
func EnterRescue(ctx context.Context, p Policy, t Target, signer ssh.Signer) (*Rescue, error) {
	client, err := login(ctx, p.dial, t, []ssh.AuthMethod{ssh.PublicKeys(signer)}, enterTimeout, 0)
	if err != nil {
		return nil, err
	}
	r, err := RescueOver(ctx, client)
	if err != nil {
		client.Close()
	}
	return r, err
}

// RescueOver is a Rescue over a connection that is logged in. ErrNoRoot.
func RescueOver(ctx context.Context, client *Client) (*Rescue, error) {
	text, err := capture(ctx, client, rescueScript)
	if !strings.Contains(text, "plumlatch-end") {
		return nil, fmt.Errorf("the rescue instance runs no commands for us: %w",
			errors.Join(err, errors.New(plaintext.Line(plaintext.Cut(text, 120)))))
	}
	r := &Rescue{client: client}
	rooted := false
	for line := range strings.Lines(text) {
		switch word, rest, _ := strings.Cut(strings.TrimSpace(line), " "); {
		case word == "uid" && rest == "0":
			rooted = true
		case word == "sudo" && !rooted:
			rooted, r.sudo = true, "sudo -n "
		case word == "sftp-server" && safePath.MatchString(rest):
			r.sftp = rest
		}
	}
	if !rooted {
		return nil, ErrNoRoot
	}
	if r.sftp == "" {
		return nil, errors.New("the rescue instance has no SFTP server program where Debian and Red Hat have it")
	}
	r.sftp = r.sudo + r.sftp
	return r, nil
}

// Close ends the session.
func (r *Rescue) Close() error { return r.client.Close() }

// run runs a command as root. What it complains of is in the error.
func (r *Rescue) run(ctx context.Context, command string) (string, error) {
	return r.feed(ctx, command, nil)
}

// feed is run of a command that reads something.
func (r *Rescue) feed(ctx context.Context, command string, in io.Reader) (string, error) {
	out, said := &bounded{limit: maxCapture}, &bounded{limit: 4 << 10}
	err := r.client.feed(ctx, r.sudo+command, in, rescueLimit, out, said)
	if ctx.Err() != nil {
		return "", ctx.Err()
	}
	word, _, _ := strings.Cut(command, " ")
	if exit, ok := errors.AsType[*ssh.ExitError](err); ok {
		text := plaintext.Line(plaintext.Cut(strings.TrimSpace(said.String()), 300))
		return out.String(), statusError{word, exit.ExitStatus(), text}
	}
	if err != nil {
		err = fmt.Errorf("%s: %w", word, err)
	}
	return out.String(), err
}

// statusError is a command that ran, and ended with a status of its own: what it
// says is known, unlike after a connection that broke.
type statusError struct {
	word   string
	status int
	said   string
}

func (e statusError) Error() string {
	if e.said == "" {
		return fmt.Sprintf("%s ended with %d", e.word, e.status)
	}
	return e.word + ": " + strings.TrimPrefix(e.said, e.word+": ")
}

var deviceFile = regexp.MustCompile(`^/dev/[A-Za-z0-9][A-Za-z0-9_./-]{0,80}$`)

// Disks lists the disks. What lsblk does not know of a filesystem (it asks udev),
// blkid reads from it.
func (r *Rescue) Disks(ctx context.Context) ([]routes.BlockDevice, error) {
	text, err := r.run(ctx, "lsblk --json --bytes --output "+routes.LsblkColumns)
	if err != nil {
		return nil, err
	}
	all, err := routes.ReadDisks([]byte(text))
	if err != nil {
		return nil, err
	}
	return all, nil
}

// Identify reads from a disk itself what filesystems its parts have.
func (r *Rescue) Identify(ctx context.Context, d routes.BlockDevice) (routes.BlockDevice, error) {
	parts := make([]*routes.BlockDevice, 0, len(d.Children)+1)
	for n := range d.Children {
		parts = append(parts, &d.Children[n])
	}
	if len(parts) == 0 {
		parts = append(parts, &d)
	}
	for _, p := range parts {
		if p.FSType != "" && p.UUID != "" {
			continue
		}
		if !deviceFile.MatchString(p.Path()) {
			return d, routes.ErrDisks
		}
		text, err := r.run(ctx, "blkid -p -o export "+p.Path())
		if ctx.Err() != nil {
			return d, ctx.Err()
		}
		if err != nil {
			continue // nothing that it knows
		}
		for line := range strings.Lines(text) {
			switch word, value, _ := strings.Cut(strings.TrimSpace(line), "="); word {
			case "TYPE":
				if plainWord.MatchString(value) {
					p.FSType = value
				}
			case "UUID":
				p.UUID = value
			case "LABEL":
				p.Label = value
			}
		}
	}
	return d, nil
}

var plainWord = regexp.MustCompile(`^[A-Za-z0-9_]{1,32}$`)

// mappingName is what a mapping of ours is called.
var mappingName = regexp.MustCompile(`^[a-z0-9][a-z0-9-]{0,60}$`)

// OpenGroups has the logical volumes of a disk's partitions (LVM) be there as devices, by mappings of our own, each called prefix and a number.
// What the rescue instance has activated of the disk by itself is let go of first. The disk comes back with those devices among its parts; a
// group that cannot be opened stays a part, and is said. names is told what the mappings will be called, before there is one.
func (r *Rescue) OpenGroups(ctx context.Context, d routes.BlockDevice, prefix string, names func([]string) error) (routes.BlockDevice, []string, error) {
	var parts []string
	rest := d
	rest.Children = nil
	for _, p := range d.Children {
		if p.FSType != "LVM2_member" {
			rest.Children = append(rest.Children, p)
			continue
		}
		if !deviceFile.MatchString(p.Path()) {
			return d, nil, routes.ErrDisks
		}
		parts = append(parts, p.Path())
	}
	if len(parts) == 0 {
		return d, nil, nil
	}
	ask := func(command, columns string) (string, error) {
		return r.run(ctx, command+" --reportformat json --units s --nosuffix -o "+columns+" --config "+shellQuote(routes.LVMConfig(parts)))
	}
	unable := func(err error) (routes.BlockDevice, []string, error) {
		if ctx.Err() != nil {
			return d, nil, ctx.Err()
		}
		return d, []string{"its volume group: " + plaintext.Line(plaintext.Cut(err.Error(), 200)) + " (the rescue instance needs the package lvm2)"}, nil
	}
	if err := r.letGo(ctx, d); err != nil {
		return unable(err)
	}
	pvs, err := ask("pvs", routes.PVSColumns)
	if err != nil {
		return unable(err)
	}
	lvs, err := ask("lvs --segments", routes.LVSColumns)
	if err != nil {
		return unable(err)
	}
	all, err := routes.ReadGroups([]byte(pvs), []byte(lvs), parts)
	if err != nil {
		return unable(err)
	}
	var called []string
	for n := range all {
		called = append(called, fmt.Sprintf("%s-%d", prefix, n+1))
	}
	if err := names(called); err != nil {
		return d, nil, err
	}
	var not []string
	for n, v := range all {
		if v.Not != "" {
			not = append(not, v.Group+"/"+v.Name+": "+v.Not)
			continue
		}
		if !mappingName.MatchString(called[n]) {
			return d, nil, routes.ErrDisks
		}
		stands, err := r.mapped(ctx, called[n], v.Table)
		if err != nil {
			return d, nil, err
		}
		table := "printf '%s\\n' " + shellQuote(strings.Join(v.Table, "\n")) + " | dmsetup create " + called[n]
		if stands { // an earlier try has made it, and may have mounted it
			err = nil
		} else if err = r.CloseMapped(ctx, called[n:n+1]); err == nil {
			_, err = r.run(ctx, "sh -c "+shellQuote(table))
		}
		if err != nil {
			if ctx.Err() != nil {
				return d, nil, ctx.Err()
			}
			not = append(not, v.Group+"/"+v.Name+": "+plaintext.Line(plaintext.Cut(err.Error(), 200)))
			continue
		}
		p := routes.BlockDevice{Name: "mapper/" + called[n], Type: "lvm", Aliases: v.Names()}
		if p, err = r.Identify(ctx, p); err != nil {
			return d, nil, err
		}
		rest.Children = append(rest.Children, p)
	}
	return rest, not, nil
}

// ErrPassphrase: no passphrase of it is the one that was given.
var ErrPassphrase = errors.New("that passphrase does not open it")

// Unlock opens an encrypted part of a disk (LUKS) as a mapping, by a passphrase that it gives to cryptsetup(8) alone. One that is open already is no
// error. ErrPassphrase.
func (r *Rescue) Unlock(ctx context.Context, device, mapping string, passphrase []byte) error {
	if !deviceFile.MatchString(device) || !mappingName.MatchString(mapping) {
		return routes.ErrDisks
	}
	if _, err := r.run(ctx, "dmsetup info "+mapping); err == nil {
		return nil
	}
	_, err := r.feed(ctx, "cryptsetup open --type luks --key-file - "+device+" "+mapping, bytes.NewReader(passphrase))
	if e, known := errors.AsType[statusError](err); known && e.status == 2 { // cryptsetup(8), RETURN CODES: no permission (bad passphrase)
		return fmt.Errorf("%s: %w", device, ErrPassphrase)
	}
	if _, known := errors.AsType[statusError](err); known {
		_, there := r.run(ctx, "sh -c 'command -v cryptsetup'")
		if _, known := errors.AsType[statusError](there); known {
			return fmt.Errorf("%s: the rescue instance has no cryptsetup (package cryptsetup-bin)", device)
		}
	}
	return err
}

// mapped tells whether a mapping is there and is laid out by a table. dmsetup names the disks of a table by their numbers, so those are not compared:
// the name is this work's own, and no other disk is laid out so.
func (r *Rescue) mapped(ctx context.Context, name string, table []string) (bool, error) {
	text, err := r.run(ctx, "dmsetup table "+name)
	if _, known := errors.AsType[statusError](err); known {
		return false, nil
	}
	if err != nil {
		return false, err
	}
	return routes.SameTable(table, strings.Split(strings.TrimSpace(text), "\n")), nil
}

// letGo removes the mappings that the rescue instance has made of a disk by itself, as it does for a group that it has not met before.
func (r *Rescue) letGo(ctx context.Context, d routes.BlockDevice) error {
	all, err := r.Disks(ctx)
	if err != nil {
		return err
	}
	var made []string
	var below func(routes.BlockDevice)
	below = func(d routes.BlockDevice) {
		for _, c := range d.Children {
			below(c)
			if c.Type == "lvm" {
				made = append(made, c.Name)
			}
		}
	}
	for _, now := range all {
		if now.Name == d.Name {
			below(now)
		}
	}
	for _, name := range made {
		if _, err := r.run(ctx, "dmsetup remove --retry "+name); err != nil {
			return err
		}
	}
	return nil
}

// CloseMapped removes mappings of ours; one that is not there is no error. ErrMounted.
func (r *Rescue) CloseMapped(ctx context.Context, names []string) error {
	for n := len(names) - 1; n >= 0; n-- {
		if !mappingName.MatchString(names[n]) {
			return routes.ErrDisks
		}
		_, err := r.run(ctx, "dmsetup info "+names[n])
		if _, known := errors.AsType[statusError](err); known {
			continue // there is none
		}
		if err != nil {
			return err
		}
		if _, err := r.run(ctx, "dmsetup remove --retry "+names[n]); err != nil {
			if _, known := errors.AsType[statusError](err); known {
				return fmt.Errorf("%s: %w: %w", names[n], ErrMounted, err)
			}
			return err
		}
	}
	return nil
}

// Mount mounts a filesystem of somebody else's disk so that nothing on it runs,
// and sees that it is so. The folder is made.
func (r *Rescue) Mount(ctx context.Context, device, fsType, at string, readOnly bool) error {
	if !deviceFile.MatchString(device) || !plainWord.MatchString(fsType) || !safePath.MatchString(at) {
		return routes.ErrDisks
	}
	if source, _, err := r.mounted(ctx, at); err == nil && source == device {
		return nil
	}
	if _, err := r.run(ctx, "mkdir -p -m 700 "+at); err != nil {
		return err
	}
	if _, err := r.run(ctx, "mount -t "+fsType+" -o "+routes.MountOptions(fsType, readOnly)+" "+device+
		" "+at); err != nil {
		return err
	}
	source, options, err := r.mounted(ctx, at)
	if err != nil {
		return err
	}
	has := map[string]bool{}
	for o := range strings.SplitSeq(options, ",") {
		has[o] = true
	}
	if source != device || !has["nodev"] || !has["nosuid"] || !has["noexec"] || has["ro"] != readOnly {
		return errors.Join(fmt.Errorf("mount: %s stands at %s with %s, which is not what was asked for",
			plaintext.Line(source), at, plaintext.Line(options)), r.Unmount(ctx, device, at))
	}
	return nil
}

// mounted tells what is mounted at a folder, by findmnt(8). ErrNotMounted.
func (r *Rescue) mounted(ctx context.Context, at string) (source, options string, err error) {
	text, err := r.run(ctx, "findmnt -n -o SOURCE,OPTIONS "+at)
	if _, known := errors.AsType[statusError](err); known {
		return "", "", fmt.Errorf("%s: %w", at, ErrNotMounted)
	}
	if err != nil {
		return "", "", err // not seen is not unmounted
	}
	f := strings.Fields(text)
	if len(f) < 2 {
		return "", "", fmt.Errorf("findmnt: %s", plaintext.Line(plaintext.Cut(text, 100)))
	}
	source, _, _ = strings.Cut(f[0], "[") // a subvolume stands in brackets
	return source, f[1], nil
}

// Unmount writes everything out and unmounts, and is not done before nothing of
// the device is mounted any more: clouds let one pull a mounted disk. ErrMounted.
func (r *Rescue) Unmount(ctx context.Context, device, at string) error {
	if !deviceFile.MatchString(device) || !safePath.MatchString(at) {
		return routes.ErrDisks
	}
	var trouble error
	for n := range 5 {
		_, err := r.run(ctx, "findmnt -n -o TARGET --source "+device)
		if _, known := errors.AsType[statusError](err); err != nil && !known {
			return err // not seen is not unmounted
		}
		if err != nil {
			if _, err := r.run(ctx, "blockdev --flushbufs "+device); err != nil {
				// A mapping of ours that an earlier try has removed already has nothing more to write out.
				_, gone := r.run(ctx, "test -e "+device)
				if _, known := errors.AsType[statusError](gone); !known || !strings.HasPrefix(device, "/dev/mapper/") {
					return err
				}
			}
			_, _ = r.run(ctx, "rmdir "+at)
			return nil
		}
		if n > 0 {
			select {
			case <-ctx.Done():
				return ctx.Err()
			case <-time.After(time.Duration(n) * 300 * time.Millisecond):
			}
		}
		_, _ = r.run(ctx, "sync")
		_, trouble = r.run(ctx, "umount "+at)
	}
	return fmt.Errorf("%s: %w: %w", device, ErrMounted, trouble)
}

// Files is the way to every file there, as root.
func (r *Rescue) Files() (Files, io.Closer, error) { return OverCommand(r.client, r.sftp) }

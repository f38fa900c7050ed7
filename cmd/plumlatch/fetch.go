package main

import (
	"errors"
	"flag"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"strings"

	"golang.org/x/crypto/ssh"

	"plumlatch/client"
	"plumlatch/core/plaintext"
	"plumlatch/core/wire"
	"plumlatch/reach"
)

// fetching is what is copied, by which key, and where to.
type fetching struct {
	showing
	unlocking
	out   string
	paths []string
}

// restoreFetch copies files out of an instance's root volume: for those who only need
// their data. Nothing of it passes the service.
func restoreFetch(fs *flag.FlagSet) func(*cli) error {
	var o fetching
	o.showing.flags(fs)
	fs.StringVar(&o.out, "out", "", "`folder` to copy into; it must not exist")
	fresh := fs.String("new", "", "recorded `key` that enters the rescue instance for it; its private half is here")
	o.unlocking.flags(fs)
	yes := fs.Bool("yes", false, "do not ask")
	asJSON := fs.Bool("json", false, "print JSON")
	return func(c *cli) error {
		if err := o.check(); err != nil {
			return err
		}
		if len(c.args) < 2 || o.out == "" || *fresh == "" {
			return usagef("give INSTANCE and PATH..., -out FOLDER, and -new KEY, whose private half is here")
		}
		instance := c.args[0]
		o.paths = c.args[1:]
		service, err := c.service()
		if err != nil {
			return err
		}
		for _, p := range o.paths {
			if !path.IsAbs(p) {
				return usagef("%q is no path from the root", plaintext.Line(p))
			}
		}
		if _, err := os.Stat(o.out); err == nil {
			return failure{fmt.Errorf("%s is there already; nothing was begun", o.out),
				"the same command with another -out"}
		}
		k, err := c.recordedKey(service, *fresh)
		if err != nil {
			return err
		}
		signer, err := c.newSigner(k, o.showing)
		if err != nil {
			return err
		}
		if !*yes {
			if err := c.confirm(fmt.Sprintf("Stop %s for as long as it takes to copy %s out of its root volume?", instance,
				strings.Join(o.paths, ", "))); err != nil {
				return err
			}
		}
		if err := c.readUnlock(&o.unlocking, instance); err != nil {
			return err
		}
		defer o.unlocking.forget()
		w, err := service.Restore(c.ctx, instance, wire.Restore{Route: "fetch", New: k.Name, Unlock: o.from != ""})
		if err != nil {
			return err
		}
		tell, done := c.teller(service, w.ID, plaintext.Line(w.Title))
		var trouble error
		began, opened := false, false
		end, err := service.Follow(c.ctx, w.ID, 0, func(e wire.WorkEvent) {
			tell(e)
			if e.Step == "mount" && e.Code == wire.EventWaits && !opened && c.isAt(service, w.ID, e) {
				opened = true
				if trouble = c.unlockThere(service, w, signer, &o.unlocking); trouble != nil {
					_, _ = service.CancelWork(c.ctx, w.ID)
				}
			}
			if e.Step == "copy" && !began && c.isAt(service, w.ID, e) {
				began = true
				if trouble = c.copyFrom(service, w.ID, signer, o); trouble != nil {
					_, _ = service.CancelWork(c.ctx, w.ID) // the instance is down meanwhile
				}
			}
		})
		done(end)
		switch {
		case trouble != nil:
			return failure{fmt.Errorf("nothing more was copied: %w; the instance goes back to what it was", trouble),
				fmt.Sprintf("plumlatch work show %d", w.ID)}
		case err != nil:
			return err
		case end.State != "done":
			return c.workFailed(service, end)
		case *asJSON:
			return c.json(end)
		}
		c.renewHosts(service)
		fmt.Fprintf(c.out, "%s: %s.\nnext: ls -R %s; plumlatch work report %d\n", end.Instance,
			plaintext.Line(end.Outcome), o.out, end.ID)
		return nil
	}
}

// copyFrom copies what was asked for from the rescue instance, by the engineer's
// own key and an SFTP server that sudo runs there.
func (c *cli) copyFrom(service *client.Client, id int64, signer ssh.Signer, o fetching) error {
	door, err := service.RescueDoor(c.ctx, id)
	if err != nil {
		return err
	}
	if !path.IsAbs(door.Mount) || path.Clean(door.Mount) != door.Mount {
		return errNoRescue
	}
	rescue, err := c.enterRescue(service, door, signer)
	if err != nil {
		return err
	}
	defer rescue.Close()
	files, end, err := rescue.Files()
	if err != nil {
		return err
	}
	defer end.Close()
	if err := os.Mkdir(o.out, 0o700); err != nil {
		return err
	}
	root, err := os.OpenRoot(o.out)
	if err != nil {
		return err
	}
	defer root.Close()
	copied := copying{from: reach.Beneath{Files: files, Mount: door.Mount}, to: root}
	for _, p := range o.paths {
		if err := copied.tree(path.Clean(p)); err != nil {
			return err
		}
	}
	for _, text := range copied.left {
		fmt.Fprintf(c.err, "left out: %s\n", plaintext.Line(text))
	}
	return service.ReportFetched(c.ctx, id, wire.Fetched{Files: copied.files, Bytes: copied.bytes})
}

// copying copies files and folders beneath a mount; links and devices are left out.
type copying struct {
	from  reach.Beneath
	to    *os.Root
	files int
	bytes int64
	left  []string
}

const maxInFolder = 1_000_000

func (c *copying) tree(name string) error {
	fi, err := c.from.Describe(name)
	if err != nil {
		return fmt.Errorf("%s: %w", name, err)
	}
	local := strings.TrimPrefix(name, "/")
	switch {
	case fi.Mode.IsDir():
		if local != "" {
			if err := c.to.MkdirAll(local, 0o700); err != nil {
				return err
			}
		}
		names, _, err := c.from.Files.ReadDir(path.Join(c.from.Mount, name), maxInFolder)
		if err != nil {
			return fmt.Errorf("%s: %w", name, err)
		}
		for _, n := range names {
			if strings.ContainsAny(n, "/\x00") || n == "." || n == ".." {
				return fmt.Errorf("%s holds a name that is none", name)
			}
			if err := c.tree(path.Join(name, n)); err != nil {
				return err
			}
		}
		return nil
	case fi.Mode.IsRegular():
		return c.file(name, local, fi.Mode.Perm())
	}
	c.left = append(c.left, name+" ("+map[bool]string{true: "a link", false: "no file"}[fi.Mode&fs.ModeSymlink != 0]+
		")")
	return nil
}

func (c *copying) file(name, local string, mode fs.FileMode) error {
	if dir := path.Dir(local); dir != "." {
		if err := c.to.MkdirAll(dir, 0o700); err != nil {
			return err
		}
	}
	in, err := c.from.Files.Open(path.Join(c.from.Mount, name))
	if err != nil {
		return fmt.Errorf("%s: %w", name, err)
	}
	defer in.Close()
	out, err := c.to.OpenFile(local, os.O_CREATE|os.O_EXCL|os.O_WRONLY, mode&0o700|0o400)
	if err != nil {
		return err
	}
	n, err := io.Copy(out, in)
	c.files, c.bytes = c.files+1, c.bytes+n
	return errors.Join(err, out.Close())
}

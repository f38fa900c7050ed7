package shell

import (
	"cmp"
	"encoding/json"
	"fmt"
	"io"
	"path"
	"slices"
	"strconv"
	"strings"
)

// BlockDevice is a disk, or one of its partitions.
type BlockDevice struct {
	Name                string // such as vdb1
	Size                int64  // bytes
	FSType, Label, UUID string
	Serial              string
	Kind                string // as lsblk's TYPE; "" for a disk or a partition
	Children            []BlockDevice
}

// rootOnly tells whether root asks, and says so otherwise.
func (c *call) rootOnly() bool {
	if c.host.UID != 0 {
		fmt.Fprintf(c.err, "%s: only root can do that\n", c.name)
	}
	return c.host.UID == 0
}

func (c *call) devices() []BlockDevice {
	if c.host.Blocks == nil {
		return nil
	}
	return c.host.Blocks()
}

func (c *call) mountedAt(device string) string {
	for _, m := range c.host.Root.Mounts() {
		if m.Device == device {
			return "/" + m.At
		}
	}
	return ""
}

// lsblk does "lsblk --json --bytes --output COLUMNS" (lsblk(8)).
func lsblk(c *call) int {
	columns := []string{"NAME", "SIZE", "TYPE", "MOUNTPOINT"}
	asJSON := false
	for n := 0; n < len(c.args); n++ {
		switch a := c.args[n]; {
		case a == "--json" || a == "-J":
			asJSON = true
		case (a == "--output" || a == "-o") && n+1 < len(c.args):
			n++
			columns = strings.Split(strings.ToUpper(c.args[n]), ",")
		case strings.HasPrefix(a, "--output="):
			columns = strings.Split(strings.ToUpper(a[len("--output="):]), ",")
		}
	}
	var show func(d BlockDevice, kind string) map[string]any
	show = func(d BlockDevice, kind string) map[string]any {
		mounted := c.mountedAt("/dev/" + d.Name)
		if kind == "part" && strings.HasPrefix(d.Name, "vda") && len(d.FSType) > 3 && d.FSType != "swap" &&
			d.FSType != "vfat" {
			mounted = "/"
		}
		value := func(s string) any {
			if s == "" {
				return nil
			}
			return s
		}
		out := map[string]any{}
		for _, column := range columns {
			out[strings.ToLower(column)] = map[string]any{
				"NAME": d.Name, "KNAME": d.Name, "PATH": "/dev/" + d.Name, "SIZE": d.Size, "TYPE": kind,
				"FSTYPE": value(d.FSType), "LABEL": value(d.Label),
				"UUID": value(d.UUID), "MOUNTPOINT": value(mounted), "SERIAL": value(d.Serial), "RO": false,
			}[column]
		}
		if len(d.Children) > 0 {
			var all []map[string]any
			for _, x := range d.Children {
				all = append(all, show(x, cmp.Or(x.Kind, "part")))
			}
			out["children"] = all
		}
		return out
	}
	var all []map[string]any
	for _, d := range c.devices() {
		all = append(all, show(d, "disk"))
	}
	if asJSON {
		text, err := json.MarshalIndent(map[string]any{"blockdevices": all}, "", "   ")
		if err != nil {
			return 1
		}
		c.print("%s\n", text)
		return 0
	}
	c.print("NAME   SIZE\n")
	for _, d := range c.devices() {
		c.print("%-6s %dG\n", d.Name, d.Size>>30)
		for _, p := range d.Children {
			c.print("`-%-4s %dG\n", p.Name, p.Size>>30)
		}
	}
	return 0
}

// blkid does "blkid [-p] -o export DEVICE" (blkid(8)).
func blkid(c *call) int {
	if !c.rootOnly() {
		return 2
	}
	device := c.args[len(c.args)-1]
	for _, d := range c.devices() {
		parts := append([]BlockDevice{d}, d.Children...)
		for _, p := range d.Children {
			for _, m := range p.Children {
				m.Name = "mapper/" + m.Name
				parts = append(parts, m)
			}
		}
		for _, p := range parts {
			if "/dev/"+p.Name != device || p.FSType == "" {
				continue
			}
			c.print("DEVNAME=%s\n", device)
			if p.Label != "" {
				c.print("LABEL=%s\n", p.Label)
			}
			if p.UUID != "" {
				c.print("UUID=%s\n", p.UUID)
			}
			c.print("TYPE=%s\n", p.FSType)
			return 0
		}
	}
	return 2
}

// mount does "mount [-t TYPE] [-o OPTIONS] DEVICE FOLDER" (mount(8)).
func mount(c *call) int {
	if len(c.args) == 0 {
		for _, m := range c.host.Root.Mounts() {
			c.print("%s on /%s type %s (%s)\n", m.Device, m.At, m.Type, strings.Join(m.Options, ","))
		}
		return 0
	}
	if !c.rootOnly() {
		return 1
	}
	opts, names := c.options("to")
	if len(names) != 2 || c.host.Mount == nil {
		return c.fail("bad usage")
	}
	if err := c.host.Mount(names[0], c.path(names[1]), opts['t'],
		strings.FieldsFunc(opts['o'], func(r rune) bool { return r == ',' })); err != nil {
		fmt.Fprintf(c.err, "mount: %s: %s.\n", names[1], cause(err))
		return 32
	}
	return 0
}

func umount(c *call) int {
	if !c.rootOnly() {
		return 1
	}
	_, names := c.options("")
	return c.each(names, func(p string) error {
		if c.host.Unmount != nil {
			for _, m := range c.host.Root.Mounts() {
				if m.At == p && !slices.Contains(m.Options, "ro") { // what was written has to go out first
					if err := c.host.Unmount(m.Device); err != nil {
						return err
					}
				}
			}
		}
		return c.host.Root.Unmount("/" + p)
	})
}

// findmnt does "findmnt -n -o COLUMNS [--source DEVICE | --target FOLDER | FOLDER]" (findmnt(8)).
func findmnt(c *call) int {
	columns, what := []string{"TARGET", "SOURCE", "FSTYPE", "OPTIONS"}, ""
	for n := 0; n < len(c.args); n++ {
		switch a := c.args[n]; {
		case (a == "-o" || a == "--output") && n+1 < len(c.args):
			n++
			columns = strings.Split(strings.ToUpper(c.args[n]), ",")
		case strings.HasPrefix(a, "-"):
		default:
			what = a
		}
	}
	found := false
	for _, m := range c.host.Root.Mounts() {
		if what != "" && m.Device != what && "/"+m.At != path.Clean(what) {
			continue
		}
		found = true
		var row []string
		for _, column := range columns {
			row = append(row, map[string]string{"TARGET": "/" + m.At, "SOURCE": m.Device, "FSTYPE": m.Type,
				"OPTIONS": strings.Join(m.Options, ","), "UUID": m.UUID}[column])
		}
		c.print("%s\n", strings.Join(row, " "))
	}
	if !found {
		return 1
	}
	return 0
}

func blockdev(c *call) int {
	if !c.rootOnly() {
		return 1
	}
	return 0
}

// cryptsetup does "cryptsetup open --type luks --key-file - DEVICE NAME" (cryptsetup(8)).
func cryptsetup(c *call) int {
	if !c.rootOnly() || c.host.Unlock == nil {
		return 1
	}
	if len(c.args) != 7 || c.args[0] != "open" || c.args[3] != "--key-file" || c.args[4] != "-" {
		return c.fail("bad usage")
	}
	phrase, err := io.ReadAll(io.LimitReader(c.in, 8<<20))
	if err != nil {
		return 1
	}
	status := c.host.Unlock(c.args[5], c.args[6], string(phrase))
	switch status {
	case 2:
		fmt.Fprintln(c.err, "No key available with this passphrase.")
	case 4:
		fmt.Fprintf(c.err, "Device %s does not exist or access denied.\n", c.args[5])
	}
	return status
}

// dmsetup does "dmsetup info NAME" and "dmsetup remove [--retry] NAME" (dmsetup(8)).
func dmsetup(c *call) int {
	if !c.rootOnly() || c.host.Mapping == nil || len(c.args) < 2 {
		return 1
	}
	name, remove := c.args[len(c.args)-1], c.args[0] == "remove"
	there, busy := c.host.Mapping(name, remove)
	switch {
	case !there:
		return c.fail("Device %s does not exist.", name)
	case remove && busy:
		return c.fail("remove ioctl on %s  failed: Device or resource busy", name)
	}
	return 0
}

// sudo runs a command as root: whoever has a session on a stand-in may.
func sudo(c *call) int {
	args := c.args
	for len(args) > 0 && strings.HasPrefix(args[0], "-") {
		args = args[1:]
	}
	if len(args) == 0 {
		return c.fail("a command is missing")
	}
	var words []string
	for _, a := range args {
		words = append(words, "'"+strings.ReplaceAll(a, "'", `'\''`)+"'")
	}
	h := c.host
	h.User, h.UID, h.Home = "root", 0, "/root"
	s, err := New(h, c.in, c.out, c.err)
	if err != nil {
		return c.fail("%v", err)
	}
	s.runner.Dir = c.dir
	if args[0] == "sh" && len(args) > 2 && args[1] == "-c" {
		return s.Run(c.ctx, args[2])
	}
	return s.Run(c.ctx, strings.Join(words, " "))
}

// systemctl does "systemctl enable --now UNIT".
func systemctl(c *call) int {
	if len(c.args) != 3 || c.args[0] != "enable" || c.args[1] != "--now" {
		return c.fail("this stand-in's systemctl knows enable --now UNIT")
	}
	if !c.rootOnly() {
		return 1
	}
	if c.host.Enable == nil {
		return c.fail("there is no systemd here")
	}
	if err := c.host.Enable(c.args[2]); err != nil {
		return c.fail("Failed to enable unit: %v", err)
	}
	return 0
}

// getent does "getent passwd USER".
func getent(c *call) int {
	names := slices.DeleteFunc(slices.Clone(c.args), func(a string) bool { return a == "--" })
	if len(names) != 2 || names[0] != "passwd" {
		return c.fail("this stand-in's getent knows passwd")
	}
	text, err := c.host.Root.ReadFile("etc/passwd")
	if err != nil {
		return 2
	}
	for line := range strings.Lines(string(text)) {
		f := strings.Split(strings.TrimSpace(line), ":")
		if f[0] == names[1] || len(f) > 2 && f[2] == names[1] {
			c.print("%s\n", strings.TrimSpace(line))
			return 0
		}
	}
	return 2
}

// cut does "cut -d C -f N".
func cut(c *call) int {
	opts, names := c.options("df")
	n, err := strconv.Atoi(opts['f'])
	if err != nil || n < 1 || opts['d'] == "" {
		return c.fail("give -d and one field")
	}
	return c.eachInput(names, lines(func(line string) {
		f := strings.Split(line, opts['d'])
		if len(f) == 1 {
			c.print("%s\n", line)
		} else if n <= len(f) {
			c.print("%s\n", f[n-1])
		} else {
			c.print("\n")
		}
	}))
}

// chown changes nothing: on a stand-in's disk, where a file lies says whose it is.
func chown(c *call) int {
	if !c.rootOnly() {
		return 1
	}
	_, names := c.options("")
	if len(names) < 2 {
		return c.fail("missing operand")
	}
	return c.each(names[1:], func(p string) error { _, err := c.host.Root.Lstat(p); return err })
}

// chcon: no image of the stand-in has SELinux.
func chcon(c *call) int { return c.fail("can't apply partial context to unlabeled file") }

// owner tells whose file a path is.
func (c *call) owner(p string) string {
	_, user := c.host.Root.OwnerOf(p)
	return user
}

package standin

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"plumlatch/standin/shell"
	"plumlatch/standin/tree"
)

// Volume is a disk that is attached to an instance, or to none.
type Volume struct {
	ID     string `json:"id"`
	Zone   string `json:"zone"`
	SizeGB int    `json:"size_gb"`
	// State is in-use, available, attaching or detaching; the last two end by themselves.
	State    string `json:"state"`
	Instance string `json:"instance"` // that it is attached to; "" for none
	Device   string `json:"device"`   // under which it is attached, as the cloud says
	Note     string `json:"note"`     // of whoever moved it last
	Origin   string `json:"origin"`   // the instance that it was made for

	Disk  Disk     `json:"disk"`
	Done  []string `json:"done_tokens,omitempty"`
	InVM  string   `json:"in_vm,omitempty"` // the disk's name inside of a running instance
	Dirty bool     `json:"dirty"`           // it was pulled while it was mounted
}

// Disk is what is on a volume.
type Disk struct {
	Partitions []Partition `json:"partitions"`
	Full       bool        `json:"full"` // nothing more can be written
}

// Partition is one partition of a disk, or with Number 0 the disk itself.
type Partition struct {
	Number int    `json:"number"`
	FSType string `json:"fstype"` // as blkid(8) names it; "" for none
	Label  string `json:"label"`
	UUID   string `json:"uuid"`
	// Holds is "system" (the folder that the instance boots from), "empty",
	// "copy": an older copy of the system, or "home": what the system mounts at
	// /home, and has not itself.
	Holds string `json:"holds"`
	// Journal is "" for a filesystem that was unmounted in order, "dirty" for one
	// whose journal is replayed by the next mount that may write one, and "broken"
	// for one that cannot be.
	Journal string `json:"journal,omitempty"`
	// Passphrase opens one of the type crypto_LUKS, in which an ext4 filesystem lies; OpenAs is the mapping that it is open as now.
	Passphrase string `json:"passphrase,omitempty"`
	OpenAs     string `json:"open_as,omitempty"`
	GB         int    `json:"gb"`
}

// States of a volume.
const (
	InUse     = "in-use"
	Available = "available"
	Attaching = "attaching"
	Detaching = "detaching"
)

// rootDevice is the name under which an instance boots from its root volume,
// and firstOther the one that a volume gets when nobody says which.
const (
	rootDevice = "/dev/sda"
	firstOther = "/dev/sdf"
)

// layouts are what the images' disks look like. Disks that were made from one
// image share the UUIDs of their filesystems, as in the field.
var layouts = map[string][]Partition{
	"debian-12": {{Number: 1, FSType: "ext4", UUID: "6b2a5b01-0000-4000-8000-00000000d012", Holds: "system", GB: 9},
		{Number: 14, GB: 1}, {Number: 15, FSType: "vfat", Label: "EFI", UUID: "6B2A-5B15", Holds: "empty", GB: 1}},
	"harrow-linux-4": {{Number: 1, FSType: "vfat", Label: "EFI", UUID: "A979-2B01", Holds: "empty", GB: 1},
		{Number: 2, FSType: "ext4", Label: "boot", UUID: "a9792b02-0000-4000-8000-000000004a04", Holds: "empty", GB: 1},
		{Number: 3, FSType: "xfs", Label: "root", UUID: "a9792b03-0000-4000-8000-000000004a04",
			Holds: "system", GB: 18}},
	"tideline-2": {{Number: 1, FSType: "swap", UUID: "3f6a7d01-0000-4000-8000-00000000071d", GB: 1},
		{Number: 2, FSType: "ext4", UUID: "3f6a7d02-0000-4000-8000-00000000071d", Holds: "system", GB: 8}},
	"harrow-web-2": {{Number: 1, FSType: "ext4", UUID: "3f6a7d11-0000-4000-8000-0000000000eb", Holds: "system", GB: 9}},
	"quay-desk-1":  {{Number: 1, FSType: "ntfs", UUID: "5D3A8B1100DE5C01", Holds: "empty", GB: 18}},
}

// newVolume makes the record of an instance's root volume; its folder is the instance's.
func (c *Cloud) newVolume(in *stored) *Volume {
	v := &Volume{ID: "hold-" + strings.TrimPrefix(in.ID, "hull-"), Zone: in.Zone, SizeGB: in.DiskGB, State: InUse,
		Instance: in.ID, Device: rootDevice, Origin: in.ID,
		Disk: Disk{Partitions: slices.Clone(layouts[in.Image])}}
	c.volumes[v.ID] = v
	return v
}

// rootOf returns the volume that an instance boots from, nil if there is none; the caller holds mu.
func (c *Cloud) rootOf(id string) *Volume {
	for _, v := range c.volumes {
		if v.Instance == id && v.Device == rootDevice && (v.State == InUse || v.State == Detaching) {
			return v
		}
	}
	return nil
}

// Volumes returns the volumes that are attached to an instance, its own first.
func (c *Cloud) Volumes(id string) ([]Volume, error) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if _, ok := c.instances[id]; !ok {
		return nil, ErrNotFound
	}
	out := []Volume{}
	for _, v := range c.volumes {
		if v.Instance == id {
			out = append(out, *v)
		}
	}
	slices.SortFunc(out, func(a, b Volume) int { return strings.Compare(a.Device+a.ID, b.Device+b.ID) })
	return out, nil
}

// Volume returns one volume.
func (c *Cloud) Volume(id string) (Volume, error) {
	c.mu.Lock()
	defer c.mu.Unlock()
	v, ok := c.volumes[id]
	if !ok {
		return Volume{}, ErrNoVolume
	}
	return *v, nil
}

// ErrNoVolume says that there is no volume of this name.
var ErrNoVolume = fmt.Errorf("%w: no such volume", ErrNotFound)

// Detach begins to take a volume from its instance: a root volume only of a
// stopped one, any other at any time, mounted or not.
func (c *Cloud) Detach(token, id, note string) (Volume, error) {
	c.mu.Lock()
	defer c.mu.Unlock()
	v, err := c.movable(token, id, "volumes")
	if err != nil || slices.Contains(v.Done, token) {
		return *v, err
	}
	switch in := c.instances[v.Instance]; {
	case v.State == Available:
		v.Done = append(v.Done, token)
		return *v, c.save()
	case v.State == Detaching: // asked again, the cloud looks after it again
		v.Done = append(v.Done, token)
		c.detachLater(v)
		return *v, c.save()
	case v.State != InUse:
		return Volume{}, fmt.Errorf("%w: the volume is %s", ErrState, v.State)
	case in != nil && v.Device == rootDevice && in.State != Stopped:
		return Volume{}, fmt.Errorf("%w: the root volume of an instance that is %s is not detached", ErrState, in.State)
	}
	v.State, v.Note, v.Done = Detaching, note, append(v.Done, token)
	if err := c.save(); err != nil {
		return Volume{}, err
	}
	c.detachLater(v)
	return *v, nil
}

func (c *Cloud) detachLater(v *Volume) {
	c.laterVolume(v, func(v *Volume) {
		if in := c.instances[v.Instance]; in != nil && in.server != nil && v.InVM != "" &&
			in.server.tree.Pull("/dev/"+v.InVM) {
			v.Dirty = true
		}
		if v.shut() {
			v.Dirty = true
		}
		v.State, v.Instance, v.Device, v.InVM = Available, "", "", ""
	})
}

// Attach begins to give a volume to an instance of its zone, under a device
// name; without one it gets the next that is free, which no instance boots from.
func (c *Cloud) Attach(token, id, instance, device, note string) (Volume, error) {
	c.mu.Lock()
	defer c.mu.Unlock()
	v, err := c.movable(token, id, "volumes")
	if err != nil || slices.Contains(v.Done, token) {
		return *v, err
	}
	in, ok := c.instances[instance]
	switch {
	case !ok || in.State == Removed || in.State == Removing:
		return Volume{}, ErrNotFound
	case v.State == InUse && v.Instance == instance && (device == "" || v.Device == device):
		v.Done = append(v.Done, token)
		return *v, c.save()
	case v.State != Available:
		return Volume{}, fmt.Errorf("%w: the volume is %s", ErrState, v.State)
	case in.Zone != v.Zone:
		return Volume{}, fmt.Errorf("%w: the volume is in zone %s, and the instance in %s", ErrState, v.Zone, in.Zone)
	case slices.Contains(in.Nature.MissingRights, "volumes"):
		return Volume{}, fmt.Errorf("%w: attach volumes of %s", ErrRights, in.Name)
	case device != "" && !deviceName(device):
		return Volume{}, fmt.Errorf("%w: a device is /dev/sda to /dev/sdz", ErrInvalid)
	}
	taken := map[string]bool{}
	for _, other := range c.volumes {
		if other.Instance == instance {
			taken[other.Device] = true
		}
	}
	if device != "" && taken[device] {
		return Volume{}, fmt.Errorf("%w: %s of the instance is taken", ErrState, device)
	}
	if fault, ok := c.faults.take("attach-device", in.Name); ok && fault.How == "astray" {
		device = "/dev/sdq"
	}
	if device == "" {
		for device = firstOther; taken[device]; {
			device = device[:len(device)-1] + string(device[len(device)-1]+1)
		}
	}
	v.State, v.Instance, v.Device, v.Note, v.Done = Attaching, instance, device, note, append(v.Done, token)
	if err := c.save(); err != nil {
		return Volume{}, err
	}
	c.laterVolume(v, func(v *Volume) {
		v.State = InUse
		if in := c.instances[v.Instance]; in != nil && in.State == Running {
			v.InVM = c.nameInVM(in.ID)
		}
	})
	return *v, nil
}

func deviceName(s string) bool {
	return len(s) == len(rootDevice) && strings.HasPrefix(s, "/dev/sd") && s[len(s)-1] >= 'a' && s[len(s)-1] <= 'z'
}

// movable checks what is to be moved.
func (c *Cloud) movable(token, id, right string) (*Volume, error) {
	v, ok := c.volumes[id]
	switch {
	case !ok:
		return &Volume{}, ErrNoVolume
	case token == "":
		return &Volume{}, fmt.Errorf("%w: client_token is missing", ErrInvalid)
	}
	if in := c.instances[v.Instance]; in != nil && slices.Contains(in.Nature.MissingRights, right) {
		return &Volume{}, fmt.Errorf("%w: %s of %s", ErrRights, right, in.Name)
	}
	return v, nil
}

// nameInVM is what a disk is called inside of a running instance: not as the
// cloud calls it. vda is what it booted from; the caller holds mu.
func (c *Cloud) nameInVM(instance string) string {
	taken := map[string]bool{"vda": true}
	for _, v := range c.volumes {
		if v.Instance == instance {
			taken[v.InVM] = true
		}
	}
	for letter := byte('b'); ; letter++ {
		if name := "vd" + string(letter); !taken[name] {
			return name
		}
	}
}

// laterVolume ends a volume's change after the pace; the caller holds mu.
func (c *Cloud) laterVolume(v *Volume, f func(*Volume)) {
	id, was := v.ID, v.State
	name := ""
	if in := c.instances[v.Instance]; in != nil {
		name = in.Name
	}
	c.after(func() error {
		v, ok := c.volumes[id]
		if !ok || v.State != was {
			return nil
		}
		if _, sticks := c.faults.take("volume-state", name); sticks {
			return nil
		}
		f(v)
		return c.save()
	})
}

// bootDevices names the disks of an instance that boots; the caller holds mu.
func (c *Cloud) bootDevices(id string) {
	for _, v := range c.volumes {
		if v.Instance == id && v.State == InUse {
			v.InVM = ""
			v.shut()
			if v.Device == rootDevice {
				v.InVM = "vda"
			}
		}
	}
	for _, v := range c.volumes {
		if v.Instance == id && v.State == InUse && v.InVM == "" {
			v.InVM = c.nameInVM(id)
		}
	}
}

// folderOf is where what lies on a volume is kept.
func (v *Volume) folder() string { return diskName(v.Origin) }

// SetDisk changes what is on a volume, for tests.
func (c *Cloud) SetDisk(id string, d Disk) (Volume, error) {
	c.mu.Lock()
	defer c.mu.Unlock()
	v, ok := c.volumes[id]
	if !ok {
		return Volume{}, ErrNoVolume
	}
	for _, p := range d.Partitions {
		if p.Holds != "copy" {
			continue
		}
		passwd, err := c.root.ReadFile(v.folder() + "/etc/passwd")
		if err == nil {
			err = errors.Join(c.root.MkdirAll(v.folder()+".copy/etc", 0o755),
				c.root.WriteFile(v.folder()+".copy/etc/passwd", passwd, 0o644))
		}
		if err != nil {
			return Volume{}, err
		}
	}
	v.Disk = d
	return *v, c.save()
}

// block lists an instance's disks for its shell.
func (c *Cloud) block(id string) []shell.BlockDevice {
	c.mu.Lock()
	defer c.mu.Unlock()
	var out []shell.BlockDevice
	for _, v := range c.volumes {
		if v.Instance != id || v.State != InUse || v.InVM == "" {
			continue
		}
		d := shell.BlockDevice{Name: v.InVM, Size: int64(v.SizeGB) << 30, Serial: strings.ReplaceAll(v.ID, "-", "")}
		for _, p := range v.Disk.Partitions {
			part := shell.BlockDevice{Name: fmt.Sprint(v.InVM, p.Number), Size: int64(p.GB) << 30, FSType: p.FSType,
				Label: p.Label, UUID: p.UUID}
			if p.OpenAs != "" {
				part.Children = []shell.BlockDevice{{Name: p.OpenAs, Kind: "crypt", Size: part.Size, FSType: within, UUID: p.UUID + "-in"}}
			}
			if p.Number == 0 {
				d.FSType, d.Label, d.UUID = p.FSType, p.Label, p.UUID
				continue
			}
			d.Children = append(d.Children, part)
		}
		out = append(out, d)
	}
	slices.SortFunc(out, func(a, b shell.BlockDevice) int { return strings.Compare(a.Name, b.Name) })
	return out
}

// mount mounts a partition of an attached volume, as mount(8) does.
func (c *Cloud) mount(s *server, device, at, fsType string, options []string) error {
	c.mu.Lock()
	defer c.mu.Unlock()
	for _, v := range c.volumes {
		if v.Instance != s.in.ID || v.State != InUse || v.InVM == "" {
			continue
		}
		for _, p := range v.Disk.Partitions {
			name := "/dev/" + v.InVM
			if p.Number > 0 {
				name += fmt.Sprint(p.Number)
			}
			if p.OpenAs != "" && device == "/dev/mapper/"+p.OpenAs {
				name, p.FSType = device, within
			}
			if name != device {
				continue
			}
			return c.mountPartition(s, v, p, device, at, fsType, options)
		}
	}
	return fmt.Errorf("special device %s does not exist", device)
}

// within is the filesystem in an encrypted partition.
const within = "ext4"

// shut has no encrypted partition of it be open, and tells whether one was.
func (v *Volume) shut() (was bool) {
	for n := range v.Disk.Partitions {
		was = was || v.Disk.Partitions[n].OpenAs != ""
		v.Disk.Partitions[n].OpenAs = ""
	}
	return was
}

// unlock opens an encrypted partition of an attached volume, as cryptsetup(8) does: 0, 2 for another passphrase, 4 for no such device.
func (c *Cloud) unlock(s *server, device, name, passphrase string) int {
	c.unlockLate(s)
	c.mu.Lock()
	defer c.mu.Unlock()
	for _, v := range c.volumes {
		for n := range v.Disk.Partitions {
			p := &v.Disk.Partitions[n]
			if v.Instance != s.in.ID || v.State != InUse || v.InVM == "" || device != fmt.Sprint("/dev/", v.InVM, p.Number) || p.FSType != "crypto_LUKS" {
				continue
			}
			if p.Passphrase == "" || p.Passphrase != passphrase {
				return 2
			}
			if p.OpenAs = name; c.save() != nil {
				return 1
			}
			return 0
		}
	}
	return 4
}

// unlockLate waits, if that is a fault of an instance whose volume is there.
func (c *Cloud) unlockLate(s *server) {
	c.mu.Lock()
	var names []string
	for _, v := range c.volumes {
		if in := c.instances[v.Origin]; in != nil && v.Instance == s.in.ID {
			names = append(names, in.Name)
		}
	}
	c.mu.Unlock()
	if f, met := c.faults.take("unlock", names...); met {
		f.wait()
	}
}

// mapping tells whether a mapping is there, and removes it if remove is set and nothing of it is mounted.
func (c *Cloud) mapping(s *server, name string, remove bool) (there, busy bool) {
	c.mu.Lock()
	defer c.mu.Unlock()
	for _, v := range c.volumes {
		for n := range v.Disk.Partitions {
			p := &v.Disk.Partitions[n]
			if v.Instance != s.in.ID || p.OpenAs != name || name == "" {
				continue
			}
			for _, m := range s.tree.Mounts() {
				busy = busy || m.Device == "/dev/mapper/"+name
			}
			if remove && !busy {
				p.OpenAs = ""
				_ = c.save()
			}
			return true, busy
		}
	}
	return false, false
}

// busy tells why a mounted device is not to be unmounted now: a fault of the
// instance that its volume was made for.
func (c *Cloud) busy(s *server, device string) error {
	c.mu.Lock()
	defer c.mu.Unlock()
	for _, v := range c.volumes {
		if v.Instance != s.in.ID || v.InVM == "" || !strings.HasPrefix(device, "/dev/"+v.InVM) {
			continue
		}
		if in := c.instances[v.Origin]; in != nil {
			if _, busy := c.faults.take("umount", in.Name); busy {
				return errors.New("target is busy")
			}
		}
	}
	return nil
}

var errMount = errors.New("wrong fs type, bad option, bad superblock on the device, missing codepage or helper " +
	"program, or other error")

func (c *Cloud) mountPartition(s *server, v *Volume, p Partition, device, at, fsType string, options []string) error {
	mountable := []string{"ext2", "ext3", "ext4", "xfs", "btrfs", "vfat"}
	if !slices.Contains(mountable, p.FSType) || fsType != "" && fsType != p.FSType && fsType != "auto" {
		return errMount
	}
	if v.InVM == "vda" {
		return errors.New("already mounted or mount point busy")
	}
	for _, m := range s.tree.Mounts() {
		if m.Device == device {
			return errors.New("already mounted or mount point busy")
		}
	}
	if p.FSType == "xfs" && !slices.Contains(options, "nouuid") && c.uuidMounted(s, v, p) {
		return errMount // the kernel log: "Filesystem has duplicate UUID"
	}
	if p.Journal != "" && !slices.Contains(options, "noload") && !slices.Contains(options, "norecovery") {
		if p.Journal == "broken" {
			return errors.New("mount(2) system call failed: Structure needs cleaning")
		}
		for n := range v.Disk.Partitions { // replayed, by a mount for reading, too
			if v.Disk.Partitions[n].Number == p.Number {
				v.Disk.Partitions[n].Journal = ""
			}
		}
		if err := c.save(); err != nil {
			return err
		}
	}
	folder := filepath.Join(c.opts.Folder, v.folder())
	m := tree.Mount{At: at, Device: device, Type: p.FSType, UUID: p.UUID, Options: options, Full: v.Disk.Full}
	open := func(into **os.Root, folder string) (err error) {
		if err = os.MkdirAll(folder, 0o755); err == nil {
			*into, err = os.OpenRoot(folder)
		}
		return err
	}
	var root *os.Root
	var err error
	switch apart := slices.ContainsFunc(v.Disk.Partitions, func(x Partition) bool { return x.Holds == "home" }); {
	case p.Holds == "home":
		m.Below = "home"
		err = errors.Join(open(&root, filepath.Join(folder, "home")), open(&m.Names, folder))
	case p.Holds != "system":
		err = open(&root, folder+"."+p.Holds)
	case apart:
		m.Apart = "home"
		err = errors.Join(open(&root, folder), open(&m.Hollow, folder+".hollow"))
	default:
		err = open(&root, folder)
	}
	if err != nil {
		return err
	}
	m.Root = root
	return s.tree.Mount(m)
}

// uuidMounted: the same filesystem UUID is mounted already, the root volume's included.
func (c *Cloud) uuidMounted(s *server, v *Volume, p Partition) bool {
	for _, m := range s.tree.Mounts() {
		if m.UUID == p.UUID {
			return true
		}
	}
	own := c.rootOf(s.in.ID)
	if own == nil || own == v {
		return false
	}
	return slices.ContainsFunc(own.Disk.Partitions, func(x Partition) bool {
		return x.UUID == p.UUID &&
			x.Holds == "system"
	})
}

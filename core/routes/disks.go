package routes

import (
	"encoding/json"
	"errors"
	"fmt"
	"path"
	"regexp"
	"slices"
	"strconv"
	"strings"
)

// BlockDevice is a disk of a rescue instance, or one of its partitions, as
// "lsblk --json --bytes" lists them (lsblk(8)).
type BlockDevice struct {
	Name   string // such as vdb1
	Type   string // disk, part, loop, crypt, lvm
	Size   int64  // bytes
	FSType string // ext4, xfs, ...; "" if it is not known
	UUID   string
	Label  string
	Serial string
	// Mounted is where it, or a part of it, is mounted; "" for nowhere.
	Mounted  string
	Children []BlockDevice
	// Aliases are other names that an fstab may mean it by.
	Aliases []string
}

// LsblkColumns are the columns that ReadDisks reads: those that Debian's and Red
// Hat's lsblk have had for long.
const LsblkColumns = "NAME,TYPE,SIZE,FSTYPE,UUID,LABEL,SERIAL,MOUNTPOINT"

// Path is the device's file.
func (d BlockDevice) Path() string { return "/dev/" + d.Name }

var (
	deviceName = regexp.MustCompile(`^[A-Za-z0-9][A-Za-z0-9_.-]{0,63}$`)
	fsWord     = regexp.MustCompile(`^[A-Za-z0-9_]{0,32}$`)
	// ErrDisks says that a list of disks cannot be read.
	ErrDisks = errors.New("the rescue instance's list of disks cannot be read")
)

const maxDevices = 512

// ReadDisks reads the output of lsblk. What is not a plain name is refused: it
// goes back into a command there.
func ReadDisks(text []byte) ([]BlockDevice, error) {
	type row struct {
		Name       string  `json:"name"`
		Type       string  `json:"type"`
		Size       any     `json:"size"` // a number, or in older versions text
		FSType     *string `json:"fstype"`
		UUID       *string `json:"uuid"`
		Label      *string `json:"label"`
		Serial     *string `json:"serial"`
		Mountpoint *string `json:"mountpoint"`
		Children   []row   `json:"children"`
	}
	var doc struct {
		BlockDevices []row `json:"blockdevices"`
	}
	if err := json.Unmarshal(text, &doc); err != nil {
		return nil, ErrDisks
	}
	n := 0
	of := func(s *string) string {
		if s == nil {
			return ""
		}
		return *s
	}
	var read func(rows []row, deep int) ([]BlockDevice, error)
	read = func(rows []row, deep int) ([]BlockDevice, error) {
		var out []BlockDevice
		for _, r := range rows {
			if n++; n > maxDevices || deep > 4 || !deviceName.MatchString(r.Name) || !fsWord.MatchString(of(r.FSType)) {
				return nil, ErrDisks
			}
			d := BlockDevice{Name: r.Name, Type: r.Type, FSType: of(r.FSType), UUID: of(r.UUID), Label: of(r.Label),
				Serial: of(r.Serial), Mounted: of(r.Mountpoint)}
			switch v := r.Size.(type) {
			case float64:
				d.Size = int64(v)
			case string:
				d.Size, _ = strconv.ParseInt(v, 10, 64)
			}
			var err error
			if d.Children, err = read(r.Children, deep+1); err != nil {
				return nil, err
			}
			out = append(out, d)
		}
		return out, nil
	}
	return read(doc.BlockDevices, 0)
}

// Names are the names of disks, to know new ones by.
func Names(all []BlockDevice) []string {
	out := []string{}
	for _, d := range all {
		out = append(out, d.Name)
	}
	slices.Sort(out)
	return out
}

// Attached finds the disk that was not there before: never by a fixed name, as
// the guest's names are not the cloud's. Of several it is the one whose serial
// holds the volume's name, as clouds set it.
func Attached(before []string, now []BlockDevice, volume string) (BlockDevice, error) {
	var fresh []BlockDevice
	for _, d := range now {
		if (d.Type == "disk" || d.Type == "loop") && d.Size > 0 && !slices.Contains(before, d.Name) {
			fresh = append(fresh, d)
		}
	}
	if len(fresh) > 1 {
		plain := func(s string) string { return strings.ToLower(strings.ReplaceAll(s, "-", "")) }
		fresh = slices.DeleteFunc(fresh, func(d BlockDevice) bool {
			return plain(d.Serial) == "" || !strings.Contains(plain(volume), plain(d.Serial)) &&
				!strings.Contains(plain(d.Serial), plain(volume))
		})
	}
	switch len(fresh) {
	case 0:
		return BlockDevice{}, errors.New("no new disk has come up in the rescue instance")
	case 1:
		return fresh[0], nil
	}
	return BlockDevice{}, fmt.Errorf("%d new disks have come up in the rescue instance, and none says which is the volume", len(fresh))
}

// Linux filesystems that are mounted to be looked at.
var mountable = []string{"ext2", "ext3", "ext4", "xfs", "btrfs"}

// Candidates are the filesystems of a disk that may hold a system, and in words
// why each other part does not.
func Candidates(d BlockDevice) (parts []BlockDevice, not []string) {
	all := d.Children
	if len(all) == 0 {
		all = []BlockDevice{d} // a filesystem on the disk itself
	}
	for _, p := range all {
		switch {
		case slices.Contains(mountable, p.FSType):
			parts = append(parts, p)
		case p.FSType == luks:
			not = append(not, p.Name+" is encrypted")
		case p.FSType == "LVM2_member":
			not = append(not, p.Name+" belongs to a volume group (LVM), which is not opened here")
		case strings.HasPrefix(p.FSType, "ntfs") || p.FSType == "BitLocker" || strings.HasPrefix(p.FSType, "zfs") ||
			strings.HasPrefix(p.FSType, "ufs"):
			not = append(not, p.Name+" has a filesystem of another operating system ("+p.FSType+")")
		}
	}
	return parts, not
}

// MountOptions are those by which a filesystem of a stranger's disk is mounted:
// nothing on it runs, and for XFS that another one has the same UUID, as two
// disks made from one image do, is no matter. With readOnly not even a journal
// is written.
func MountOptions(fsType string, readOnly bool) string {
	out := "rw"
	if readOnly {
		out = "ro"
		switch fsType {
		case "ext3", "ext4":
			out += ",noload"
		case "xfs":
			out += ",norecovery"
		}
	}
	out += ",nodev,nosuid,noexec"
	if fsType == "xfs" {
		out += ",nouuid"
	}
	return out
}

// Account is a login user, as a volume's own etc/passwd has it (passwd(5)).
type Account struct {
	UID, GID    int
	Home, Shell string
}

// ReadAccount finds a user.
func ReadAccount(passwd, user string) (Account, bool) {
	for line := range strings.Lines(passwd) {
		f := strings.Split(strings.TrimRight(line, "\r\n"), ":")
		if len(f) != 7 || f[0] != user {
			continue
		}
		uid, err := strconv.Atoi(f[2])
		gid, err2 := strconv.Atoi(f[3])
		home := path.Clean(f[5])
		if err != nil || err2 != nil || uid < 0 || gid < 0 || !path.IsAbs(home) || home == "/" {
			return Account{}, false
		}
		return Account{UID: uid, GID: gid, Home: home, Shell: f[6]}, true
	}
	return Account{}, false
}

// HomeApart tells whether a home lies on a filesystem of its own by a volume's
// own etc/fstab (fstab(5)): which, as UUID= or LABEL=, and where it is mounted.
func HomeApart(fstab, home string) (spec, at string) {
	for line := range strings.Lines(fstab) {
		f := strings.Fields(line)
		if len(f) < 2 || strings.HasPrefix(f[0], "#") {
			continue
		}
		dir := path.Clean(f[1])
		if dir != "/" && (home == dir || strings.HasPrefix(home, dir+"/")) && len(dir) > len(at) {
			spec, at = f[0], dir
		}
	}
	return spec, at
}

// Named finds the part of a disk that an fstab's word means.
func Named(d BlockDevice, spec string) (BlockDevice, bool) {
	word, value, _ := strings.Cut(spec, "=")
	value = strings.Trim(value, `"`)
	for _, p := range d.Children {
		if slices.Contains(p.Aliases, spec) {
			return p, true
		}
		if value != "" && (word == "UUID" && strings.EqualFold(p.UUID, value) || word == "LABEL" && p.Label == value) {
			return p, true
		}
	}
	return BlockDevice{}, false
}

package routes

import (
	"cmp"
	"encoding/json"
	"errors"
	"fmt"
	"path"
	"regexp"
	"slices"
	"strconv"
	"strings"
)

// A disk whose partitions belong to a volume group (lvm(8)) is looked at without activating the group: a machine whose own disk was made from the
// same image has a group of the same name, and of the same UUIDs, and its own volumes would be taken for those. So only what LVM says of the
// layout is read, and each logical volume is laid onto the partitions as a mapping of our own (dmsetup(8)). Nothing on the disk changes.

// LogicalVolume is one volume of a group.
type LogicalVolume struct {
	Group, Name string
	// Table is its mapping, a line for each piece, as dmsetup reads it; nil if it is not laid out plainly, and Not says why.
	Table []string
	Not   string
}

// Names by which an fstab means it (lvm(8)): /dev/GROUP/NAME, and in /dev/mapper with each hyphen doubled.
func (v LogicalVolume) Names() []string {
	double := func(s string) string { return strings.ReplaceAll(s, "-", "--") }
	return []string{"/dev/" + v.Group + "/" + v.Name, "/dev/mapper/" + double(v.Group) + "-" + double(v.Name)}
}

// LVM's questions, for one disk's partitions alone; the answers are in sectors of 512 bytes.
const (
	PVSColumns = "pv_name,pe_start,vg_extent_size"
	LVSColumns = "vg_name,lv_name,segtype,seg_start,seg_size,devices"
)

// ErrGroups says that what LVM answers cannot be read.
var ErrGroups = errors.New("what LVM says of the volume's groups cannot be read")

var (
	lvmName  = regexp.MustCompile(`^[A-Za-z0-9_+.][A-Za-z0-9_+.-]{0,126}$`)
	lvmPiece = regexp.MustCompile(`^(/dev/(?:mapper/)?[A-Za-z0-9_.-]{1,64})\(([0-9]{1,12})\)$`)
)

const maxPieces = 4096

// LVMConfig is what has an LVM command see some partitions, and nothing else of the machine (lvm.conf(5)).
func LVMConfig(partitions []string) string {
	var only []string
	for _, p := range partitions {
		only = append(only, fmt.Sprintf(`"a|^%s$|"`, p))
	}
	filter := "[" + strings.Join(append(only, `"r|.*|"`), ",") + "]"
	return "devices { use_devicesfile=0 scan_lvs=0 filter=" + filter + " global_filter=" + filter + " }"
}

// ReadGroups reads what "pvs" and "lvs --segments" say of the partitions, in JSON (lvmreport(7)). A piece that lies on anything else is none: the
// group has a disk that is not here.
func ReadGroups(pvs, lvs []byte, partitions []string) ([]LogicalVolume, error) {
	type row map[string]string
	read := func(text []byte, kind string) ([]row, error) {
		var doc struct {
			Report []map[string][]row `json:"report"`
		}
		if err := json.Unmarshal(text, &doc); err != nil {
			return nil, ErrGroups
		}
		var out []row
		for _, r := range doc.Report {
			out = append(out, r[kind]...)
		}
		if len(out) > maxPieces {
			return nil, ErrGroups
		}
		return out, nil
	}
	number := func(text string) (int64, error) {
		n, err := strconv.ParseInt(strings.TrimSpace(text), 10, 64)
		if err != nil || n < 0 || n > 1<<52 {
			return 0, ErrGroups
		}
		return n, nil
	}
	type layout struct{ start, extent int64 }
	places := map[string]layout{}
	rows, err := read(pvs, "pv")
	if err != nil {
		return nil, err
	}
	for _, r := range rows {
		start, bad := number(r["pe_start"])
		extent, err := number(r["vg_extent_size"])
		if bad != nil || err != nil {
			return nil, ErrGroups
		}
		if slices.Contains(partitions, r["pv_name"]) && extent > 0 {
			places[r["pv_name"]] = layout{start, extent}
		}
	}
	if rows, err = read(lvs, "seg"); err != nil {
		return nil, err
	}
	if len(rows) == 0 { // older ones call the rows otherwise
		if rows, err = read(lvs, "lv"); err != nil {
			return nil, err
		}
	}
	type piece struct {
		start int64
		line  string
	}
	pieces := map[LogicalVolumeName][]piece{}
	not := map[LogicalVolumeName]string{}
	var order []LogicalVolumeName
	for _, r := range rows {
		name := LogicalVolumeName{r["vg_name"], r["lv_name"]}
		if !lvmName.MatchString(name.Group) || !lvmName.MatchString(name.Name) {
			return nil, ErrGroups
		}
		if !slices.Contains(order, name) {
			order = append(order, name)
		}
		start, bad := number(r["seg_start"])
		size, err := number(r["seg_size"])
		if bad != nil || err != nil {
			return nil, ErrGroups
		}
		at := lvmPiece.FindStringSubmatch(r["devices"])
		switch {
		case r["segtype"] != "linear" && r["segtype"] != "striped":
			not[name] = "it is of the kind " + word(r["segtype"])
		case at == nil:
			not[name] = "it lies on several disks at once, or on one that is not here"
		default:
			place, ok := places[at[1]]
			extent, err := number(at[2])
			if !ok || err != nil {
				not[name] = "it lies on another disk, which is not here"
				break
			}
			pieces[name] = append(pieces[name], piece{start, fmt.Sprintf("%d %d linear %s %d", start, size, at[1], place.start+extent*place.extent)})
		}
	}
	var out []LogicalVolume
	for _, name := range order {
		v := LogicalVolume{Group: name.Group, Name: name.Name, Not: not[name]}
		if v.Not == "" {
			all := pieces[name]
			slices.SortFunc(all, func(a, b piece) int { return cmp.Compare(a.start, b.start) })
			for _, p := range all {
				v.Table = append(v.Table, p.line)
			}
		}
		out = append(out, v)
	}
	return out, nil
}

// SameTable tells whether a mapping is laid out by a table, whatever its disks are called: dmsetup(8) answers with their numbers.
func SameTable(want, is []string) bool {
	return slices.EqualFunc(want, is, func(a, b string) bool {
		x, y := strings.Fields(a), strings.Fields(b)
		return len(x) == 5 && len(y) == 5 && x[0] == y[0] && x[1] == y[1] && x[2] == y[2] && x[4] == y[4]
	})
}

// LogicalVolumeName tells logical volumes apart.
type LogicalVolumeName struct{ Group, Name string }

// word is a word of LVM's, if it is one.
func word(s string) string {
	if fsWord.MatchString(s) && s != "" {
		return s
	}
	return "unknown"
}

// Mapped is the device file of a mapping.
func Mapped(name string) string { return path.Join("/dev/mapper", name) }

package libvirt

import (
	"bytes"
	"encoding/xml"
	"fmt"
	"net/netip"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"plumlatch/service/cloud"
)

// namespace is that of the element in which the driver keeps what libvirt has no place for.
const namespace = "urn:plumlatch:instance:1"

// about is that element: what is known of an instance besides what its domain says. libvirt changes it for nobody but us, and
// as a whole; an administrator of the host can edit it, so nothing in it is believed beyond what it says of this one instance.
type about struct {
	XMLName   xml.Name `xml:"urn:plumlatch:instance:1 instance"`
	Token     string   `xml:"token"` // of its launch
	Name      string   `xml:"name"`
	Image     string   `xml:"image"`
	Size      string   `xml:"size"`
	LoginUser string   `xml:"login-user"`
	KeyLabel  string   `xml:"key-label,omitempty"`
	DiskGB    int      `xml:"disk-gb"`
	Address   string   `xml:"address"`
	Port      int      `xml:"port"`
	Created   string   `xml:"created"` // RFC 3339
	Tags      []tag    `xml:"tag"`
	UserData  string   `xml:"user-data"` // in base64: not every byte is one of XML's
	// Launched: its launch went to its end.
	Launched bool `xml:"launched"`
	// Asks: each boot of it waits for somebody at its console.
	Asks bool `xml:"asks,omitempty"`
	// Stopping is since when it is asked to stop, "" if it is not.
	Stopping string `xml:"stopping,omitempty"`
	// Groups are the shared groups of inbound rules that it has, and Notes what was said of rules of its own.
	Groups []string `xml:"group,omitempty"`
	Notes  []note   `xml:"rule-note,omitempty"`
	// Placed are keys that its guest agent has added, the newest last.
	Placed []placed `xml:"placed,omitempty"`
	// Lent are the keys that it has added for a while.
	Lent []lent `xml:"lent,omitempty"`
	// Note is of whoever moved its root volume last; Leaving is the domain that the volume is being taken from.
	Note    string `xml:"note,omitempty"`
	Leaving string `xml:"leaving,omitempty"`
	// Done are the client tokens of the changes that were made, the newest last: one that comes again changes nothing.
	Done []string `xml:"done"`
}

// note is what was said of a rule when it was made.
type note struct {
	Rule string `xml:"rule,attr"`
	Text string `xml:",chardata"`
}

type tag struct {
	Key   string `xml:"key,attr"`
	Value string `xml:",chardata"`
}

// maxDone is how many tokens are kept: a request that is later than so many others is not made.
const maxDone = 500

func (a *about) done(token string) bool { return slices.Contains(a.Done, token) }

func (a *about) note(token string) {
	a.Done = append(a.Done, token)
	if n := len(a.Done) - maxDone; n > 0 {
		a.Done = a.Done[n:]
	}
}

func (a *about) text() (string, error) {
	out, err := xml.Marshal(a)
	return string(out), err
}

// machine is a domain's definition, in so far as the driver reads it.
type machine struct {
	UUID     string `xml:"uuid"`
	Name     string `xml:"name"`
	Metadata struct {
		About *about `xml:"urn:plumlatch:instance:1 instance"`
	} `xml:"metadata"`
	Disks []disk `xml:"devices>disk"`
}

type disk struct {
	Device string `xml:"device,attr"`
	Source struct {
		File   string `xml:"file,attr"`
		Pool   string `xml:"pool,attr"`
		Volume string `xml:"volume,attr"`
	} `xml:"source"`
	Target struct {
		Dev string `xml:"dev,attr"`
	} `xml:"target"`
	Serial string `xml:"serial"`
}

func (d disk) file() string {
	if d.Source.File == "" {
		return d.Source.Volume
	}
	return filepath.Base(d.Source.File)
}

// at returns the disk under a device name.
func (m machine) at(device string) (disk, bool) {
	n := slices.IndexFunc(m.Disks, func(d disk) bool { return d.Target.Dev == device })
	if n < 0 {
		return disk{}, false
	}
	return m.Disks[n], true
}

// has tells whether a volume is attached, and under which device name.
func (m machine) has(volume string) (device string, ok bool) {
	for _, d := range m.Disks {
		if d.file() == volume {
			return d.Target.Dev, true
		}
	}
	return "", false
}

func parse(text string) (m machine, err error) {
	if err := xml.Unmarshal([]byte(text), &m); err != nil {
		return m, fmt.Errorf("%w: libvirt's definition of a domain cannot be read: %w", cloud.ErrFailed, err)
	}
	return m, nil
}

// The names of what the driver makes in the pool, all after the instance's ID.
func rootName(id string) string    { return "plumlatch-" + id + "-root.qcow2" }
func seedName(id string) string    { return "plumlatch-" + id + "-seed.iso" }
func consoleName(id string) string { return "plumlatch-" + id + "-console.log" }

// goneName is a volume without content, which says for ever that an instance was removed: libvirt forgets a domain.
func goneName(id string) string { return "plumlatch-" + id + "-removed" }

func goneXML(id string) string {
	return fmt.Sprintf("<volume><name>%s</name><capacity>0</capacity><target><format type='raw'/></target></volume>", goneName(id))
}

// homeOf is the instance that a root volume was made for.
func homeOf(volume string) (id string, ok bool) {
	id, ok = strings.CutPrefix(volume, "plumlatch-")
	if !ok {
		return "", false
	}
	return strings.CutSuffix(id, "-root.qcow2")
}

// rootDevice is the device that a machine boots from.
const rootDevice, seedDevice = "vda", "vdz"

func esc(s string) string {
	var out bytes.Buffer
	_ = xml.EscapeText(&out, []byte(s)) // a buffer takes all
	return out.String()
}

// diskXML is a volume as a device of a domain.
func diskXML(path, device, serial string) string {
	return fmt.Sprintf(`<disk type='file' device='disk'><driver name='qemu' type='qcow2' discard='unmap'/><source file='%s'/><target dev='%s' bus='virtio'/><serial>%s</serial></disk>`,
		esc(path), esc(device), esc(serial))
}

// serialOf is a volume's serial number, by which a guest finds it: a guest names devices as it likes. At most 20 characters.
func serialOf(id string) string { return "pl-" + strings.ReplaceAll(id, "-", "")[:16] }

type definition struct {
	id, root, seed, console string // paths
	about                   string
	name                    string
	cpus, memoryMB          int
	kvm, asks               bool
	network, filter         string // of libvirt; "" for QEMU's own network
	address                 string // in it
}

// nic is its network card. In QEMU's own network what leads in is a forward that the driver asks for when it runs; in one of libvirt's the
// card has the machine's filter, and an address that the network gives to this card alone.
func (d definition) nic() string {
	if d.network == "" {
		return fmt.Sprintf(`<interface type='user'><mac address='52:54:00:%s:%s:%s'/><model type='virtio'/><rom enabled='no'/><alias name='ua-net0'/></interface>`,
			d.id[0:2], d.id[2:4], d.id[4:6])
	}
	address, _ := netip.ParseAddr(d.address) // that of the driver itself
	return fmt.Sprintf(`<interface type='network'><mac address='%s'/><source network='%s'/><filterref filter='%s'><parameter name='IP' value='%s'/></filterref>`+
		`<model type='virtio'/><rom enabled='no'/><alias name='ua-net0'/></interface>`, macOf(address), esc(d.network), esc(d.filter), address)
}

// macOf is the card's address of the machine that has an IPv4 address: two machines of a network have none in common.
func macOf(a netip.Addr) string {
	b := a.As4()
	return fmt.Sprintf("52:54:00:%02x:%02x:%02x", b[1], b[2], b[3])
}

// domainXML is the machine that an instance is.
func domainXML(d definition) string {
	kind, cpu, tcg := "kvm", "<cpu mode='host-passthrough'/>", ""
	if !d.kvm {
		// Without a bound QEMU takes a GiB for what it has translated.
		kind, cpu, tcg = "qemu", "<cpu mode='custom' match='exact' check='none'><model fallback='allow'>qemu64</model></cpu>", "<tcg><tb-cache unit='MiB'>96</tb-cache></tcg>"
	}
	return fmt.Sprintf(`<domain type='%s'>
<name>plumlatch-%s</name><uuid>%s</uuid><title>%s</title>
<metadata>%s</metadata>
<memory unit='MiB'>%d</memory><vcpu>%d</vcpu>
<os><type arch='x86_64' machine='pc'>hvm</type><boot dev='hd'/></os>
<features><acpi/><apic/>%s</features>%s
<clock offset='utc'/><on_poweroff>destroy</on_poweroff><on_reboot>restart</on_reboot><on_crash>destroy</on_crash>
<devices>
%s
<disk type='file' device='disk'><driver name='qemu' type='raw'/><source file='%s'/><target dev='%s' bus='virtio'/><readonly/><serial>seed</serial></disk>
<controller type='usb' model='none'/>
%s
%s
<channel type='unix'><target type='virtio' name='org.qemu.guest_agent.0'/></channel>
<rng model='virtio'><backend model='random'>/dev/urandom</backend></rng>
<memballoon model='none'/>
</devices>
</domain>`, kind, d.id, d.id, esc(d.name), d.about, d.memoryMB, d.cpus, tcg, cpu, diskXML(d.root, rootDevice, serialOf(d.id)), esc(d.seed), seedDevice, d.nic(),
		d.serial())
}

// serial is its console. What it writes goes into a file; one that somebody has to answer at is a terminal besides (virsh(1), console).
func (d definition) serial() string {
	if d.asks {
		return fmt.Sprintf(`<serial type='pty'><log file='%s' append='on'/><target port='0'/></serial>`, esc(d.console))
	}
	return fmt.Sprintf(`<serial type='file'><source path='%s' append='on'/><target port='0'/></serial>`, esc(d.console))
}

// show is what the cloud says of one of our instances.
func (c *Config) show(h Host, d domain, m machine, a *about) cloud.Instance {
	out := cloud.Instance{ID: m.UUID, Name: a.Name, Region: h.Region, Zone: zone, Port: a.Port, LoginUser: a.LoginUser, Image: a.Image, Size: a.Size,
		DiskGB: a.DiskGB, Tags: map[string]string{}, KeyLabel: a.KeyLabel, RootDevice: rootDevice, Static: true}
	if a.Asks {
		out.Asks = fmt.Sprintf("on its host: virsh --connect '%s?socket=%s' console %s", h.URI, h.Socket, m.UUID)
	}
	out.Launched, _ = time.Parse(time.RFC3339, a.Created)
	for _, t := range a.Tags {
		out.Tags[t.Key] = t.Value
	}
	if root, ok := m.at(rootDevice); ok {
		out.RootVolume = root.file()
	}
	if _, err := netip.ParseAddr(a.Address); err == nil {
		out.Address = a.Address
	}
	switch {
	case !a.Launched:
		out.State = cloud.Pending
	case d.running && !d.paused && a.Stopping != "":
		out.State = cloud.Stopping
	case d.running && !d.paused:
		out.State = cloud.Running
	default: // one that stands paused, though nobody asked for that, is broken: it answers nothing
		out.State = cloud.Stopped
	}
	return out
}

// showOther is what is said of a domain that somebody else made: it is there, and nothing of it is ours to touch.
func showOther(h Host, d domain, m machine) cloud.Instance {
	out := cloud.Instance{ID: m.UUID, Name: m.Name, Region: h.Region, Zone: zone, Port: 22, State: cloud.Stopped,
		MissingRights: []cloud.Right{cloud.RightStop, cloud.RightStart, cloud.RightVolumes, cloud.RightUserData, cloud.RightLend, cloud.RightImages, cloud.RightPlace}}
	if d.running {
		out.State = cloud.Running
	}
	return out
}

// zone is the one zone of a host.
const zone = "host"

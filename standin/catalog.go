// Package standin is the stand-in cloud: a small simulated cloud for trying
// and testing Plum Latch. It has an HTTP interface of its own; its instances
// are folders, each served by an in-process SSH server that obeys
// authorized_keys as OpenSSH does. It is for scale, clouds and faults, and
// proves nothing about a real door.
package standin

import "regexp"

// Region is a place where instances run.
type Region struct {
	Name  string   `json:"name"`
	Title string   `json:"title"`
	Zones []string `json:"zones"`
}

// Image is what an instance's root volume is made from.
type Image struct {
	Name      string   `json:"name"`
	Title     string   `json:"title"`
	LoginUser string   `json:"login_user"`
	KeyTypes  []string `json:"key_types"` // that its SSH server takes, as on a key's line

	MinDiskGB    int      `json:"min_disk_gb"`   // of the root volume
	SmallestSize string   `json:"smallest_size"` // that it runs on
	Regions      []string `json:"regions"`       // that have it

	Banner string `json:"-"` // SSH identification string, RFC 4253 section 4.2

	// PrivateGroups: its sshd, as Debian builds it, lets a user's own group
	// write to files that StrictModes checks. OpenSSH as released does not.
	PrivateGroups bool `json:"-"`

	// Service: a web service runs on it, at port 7080.
	Service bool `json:"-"`

	// FirstPassword: it takes no key and runs no SSH server, but gives a first
	// password, encrypted to the RSA key that it is launched with.
	FirstPassword bool `json:"first_password,omitempty"`

	// Agent: Plum Latch's own agent is on it.
	Agent bool `json:"-"`
}

// Size is how large an instance is.
type Size struct {
	Name     string `json:"name"`
	CPUs     int    `json:"cpus"`
	MemoryMB int    `json:"memory_mb"`
	DiskGB   int    `json:"disk_gb"`

	Regions []string `json:"regions"` // that have it
}

var allTypes = []string{
	"ssh-ed25519", "ssh-rsa", "ecdsa-sha2-nistp256", "ecdsa-sha2-nistp384", "ecdsa-sha2-nistp521",
	"sk-ssh-ed25519@openssh.com", "sk-ecdsa-sha2-nistp256@openssh.com",
}

var everywhere = []string{"north-pier", "south-pier", "skerry-island"}

// NameRule is which names the stand-in takes for an instance: as clouds often
// do, fewer than a name may otherwise have.
var (
	NameRule    = regexp.MustCompile(`^[a-z0-9]([a-z0-9-]*[a-z0-9])?$`)
	MaxNameSize = 50
)

// maxDiskGB is the greatest root volume, maxTags how many tags an instance can have.
const (
	maxDiskGB = 1024
	maxTags   = 20
)

// Regions, Images and Sizes are the invented ferry line's catalogue. Every
// region has the image debian-12 and the size small.
var (
	Regions = []Region{
		{"north-pier", "North Pier", []string{"north-pier-a", "north-pier-b"}},
		{"south-pier", "South Pier", []string{"south-pier-a", "south-pier-b", "south-pier-c"}},
		{"skerry-island", "Skerry Island", []string{"skerry-island-a"}},
	}
	Images = []Image{
		{"debian-12", "Debian 12", "debian", allTypes, 8, "small", everywhere, "SSH-2.0-OpenSSH_9.2p1 standin-debian",
			true, false, false, true},
		{"harrow-linux-4", "Harrow Linux 4", "deckhand", allTypes, 12, "medium", []string{"north-pier", "south-pier"},
			"SSH-2.0-OpenSSH_9.3 standin-harrow", false, false, false, false},
		{"tideline-2", "Tideline 2 (no RSA)", "gauger",
			[]string{"ssh-ed25519", "ecdsa-sha2-nistp256", "ecdsa-sha2-nistp384", "ecdsa-sha2-nistp521"}, 4, "small",
			[]string{"south-pier", "skerry-island"}, "SSH-2.0-OpenSSH_9.6 standin-tideline", false, false, false, false},
		{"harrow-web-2", "Harrow Web 2 (a board service on port 7080)", "debian", allTypes, 8, "small", everywhere,
			"SSH-2.0-OpenSSH_9.2p1 standin-web", true, true, false, true},
		{"quay-desk-1", "Quay Desk 1 (remote desktop, no SSH)", "Administrator", []string{"ssh-rsa"}, 20, "medium",
			[]string{"north-pier", "south-pier"}, "", false, false, true, false},
	}
	Sizes = []Size{
		{"small", 1, 1024, 10, everywhere},
		{"medium", 2, 4096, 20, everywhere},
		{"large", 4, 16384, 80, []string{"north-pier", "south-pier"}},
	}
)

func imageByName(name string) (Image, bool) {
	for _, i := range Images {
		if i.Name == name {
			return i, true
		}
	}
	return Image{}, false
}

func sizeByName(name string) (Size, bool) {
	for _, s := range Sizes {
		if s.Name == name {
			return s, true
		}
	}
	return Size{}, false
}

// Terms are what the stand-in asks for, and how long its changes take.
type Terms struct {
	Currency     string             `json:"currency"`
	InstanceHour map[string]float64 `json:"instance_hour"` // by size
	VolumeHourGB float64            `json:"volume_hour_gb"`
	StaticHour   float64            `json:"static_hour"`
	PaceMS       int64              `json:"pace_ms"` // of each change of state
}

// Terms returns the price list.
func (c *Cloud) Terms() Terms {
	return Terms{Currency: "harbour pence", InstanceHour: map[string]float64{"small": 2, "medium": 7, "large": 24},
		VolumeHourGB: 0.02, StaticHour: 0.5, PaceMS: c.opts.Pace.Milliseconds()}
}

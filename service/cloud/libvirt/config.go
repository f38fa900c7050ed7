package libvirt

import (
	"bytes"
	"cmp"
	"errors"
	"fmt"
	"io"
	"net/netip"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"time"

	"go.yaml.in/yaml/v3"

	"plumlatch/core/wire"
)

// Config says which libvirt hosts there are, and what is launched on them. It is written by the service's operator, as YAML.
type Config struct {
	Hosts  []Host  `yaml:"hosts"`
	Images []Image `yaml:"images"`
	Sizes  []Size  `yaml:"sizes"`
	// Rescue says what a rescue machine is launched from.
	Rescue struct {
		Image string `yaml:"image"`
		Size  string `yaml:"size"`
	} `yaml:"rescue"`
	// PowerOff is how long a machine that is asked to stop may take until its power is cut; 0 is one minute.
	PowerOff time.Duration `yaml:"power_off"`
	// Boot is how long a machine may take from its start until its SSH server answers; 0 is five minutes.
	Boot time.Duration `yaml:"boot"`
}

// Host is one libvirtd. Each is a region of its own.
type Host struct {
	Region string `yaml:"region"`
	Title  string `yaml:"title"`
	Socket string `yaml:"socket"` // path of libvirt's socket for reading and writing, such as /run/libvirt/libvirt-sock
	URI    string `yaml:"uri"`    // "qemu:///session" or "qemu:///system"; "" is the first
	Pool   string `yaml:"pool"`   // name of the pool for images and volumes, which stands already
	// Addresses are those of this host at which its machines are reached: each machine has one of its own, and a network of QEMU's own
	// besides. They must be loopback addresses: what listens elsewhere is not for this service to open.
	Addresses netip.Prefix `yaml:"addresses"`
	Port      int          `yaml:"port"` // at which the SSH server of each is reached there; 0 is 2222
	// Network is taken instead of Addresses: machines have their addresses in it, in a network of libvirt that the driver makes, and
	// inbound rules. Only the system's libvirtd ("qemu:///system") has such networks. All hosts have the one, or all the other.
	Network netip.Prefix `yaml:"network"`
	// Admit is who gets to the SSH port of every machine of such a network by the rules that all share; none for everybody whom the
	// host lets into the network.
	Admit []netip.Prefix `yaml:"admit"`
	// Processor is "kvm", "emulated", or "auto", which takes KVM where the processor has it; "" is "auto".
	Processor string `yaml:"processor"`
}

// Image is a volume of the pool that machines are launched from. Every host has it.
type Image struct {
	Name      string   `yaml:"name"`
	Title     string   `yaml:"title"`
	Volume    string   `yaml:"volume"` // its name in the pool; of the format qcow2
	LoginUser string   `yaml:"login_user"`
	KeyTypes  []string `yaml:"key_types"` // that its SSH server takes, as on a key's line; none for Ed25519, ECDSA and RSA
	DiskGB    int      `yaml:"disk_gb"`   // the least
	Size      string   `yaml:"size"`      // the smallest
	Asks      bool     `yaml:"asks"`      // each boot of it waits for somebody at its serial console
}

// Size is how large a machine is.
type Size struct {
	Name     string `yaml:"name"`
	CPUs     int    `yaml:"cpus"`
	MemoryMB int    `yaml:"memory_mb"`
	DiskGB   int    `yaml:"disk_gb"`
}

var word = regexp.MustCompile(`^[a-z0-9]([a-z0-9-]{0,48}[a-z0-9])?$`)

// Read reads a configuration. Its errors say what is wrong and where.
func Read(text []byte) (Config, error) {
	var c Config
	d := yaml.NewDecoder(bytes.NewReader(text))
	d.KnownFields(true)
	if err := d.Decode(&c); err != nil {
		if errors.Is(err, io.EOF) {
			return c, errors.New("the file is empty; docs/libvirt.md has an example")
		}
		return c, err
	}
	return c, c.check()
}

func (c *Config) check() error {
	if len(c.Hosts) == 0 {
		return errors.New("hosts: there is none")
	}
	if c.PowerOff < 0 || c.PowerOff > 10*time.Minute {
		return errors.New("power_off: take at most 10m")
	}
	if c.Boot < 0 || c.Boot > time.Hour {
		return errors.New("boot: take at most 1h")
	}
	c.PowerOff, c.Boot = cmp.Or(c.PowerOff, time.Minute), cmp.Or(c.Boot, 5*time.Minute)
	var taken []netip.Prefix
	for n := range c.Hosts {
		h := &c.Hosts[n]
		at := fmt.Sprintf("hosts, number %d", n+1)
		h.Processor = cmp.Or(h.Processor, "auto")
		if h.Network.IsValid() {
			h.URI = cmp.Or(h.URI, "qemu:///system")
			if len(h.Admit) == 0 {
				h.Admit = []netip.Prefix{netip.PrefixFrom(netip.IPv4Unspecified(), 0)}
			}
		}
		h.URI, h.Port = cmp.Or(h.URI, "qemu:///session"), cmp.Or(h.Port, map[bool]int{true: 22, false: 2222}[h.Network.IsValid()])
		switch {
		case !word.MatchString(h.Region):
			return fmt.Errorf("%s: region: take 1 to 50 of a-z, 0-9 and '-', and '-' neither first nor last", at)
		case slices.ContainsFunc(c.Hosts[:n], func(o Host) bool { return o.Region == h.Region }):
			return fmt.Errorf("%s: region: %s is there twice", at, h.Region)
		case !filepath.IsAbs(h.Socket):
			return fmt.Errorf("%s: socket: take the whole path, such as /run/libvirt/libvirt-sock", at)
		case h.URI != "qemu:///session" && h.URI != "qemu:///system":
			return fmt.Errorf("%s: uri: take qemu:///session or qemu:///system", at)
		case h.Pool == "" || strings.ContainsAny(h.Pool, "/\n\x00"):
			return fmt.Errorf("%s: pool: the name of a storage pool is missing", at)
		case h.Network.IsValid() != c.Hosts[0].Network.IsValid():
			return fmt.Errorf("%s: network: all hosts have one, or all have addresses: what a cloud can do is the same for all of it", at)
		case h.Network.IsValid():
			if err := h.checkNetwork(); err != nil {
				return fmt.Errorf("%s: %w", at, err)
			}
		case len(h.Admit) != 0:
			return fmt.Errorf("%s: admit: there are no inbound rules without network", at)
		case !h.Addresses.IsValid() || !h.Addresses.Addr().Is4() || !h.Addresses.Addr().IsLoopback() || h.Addresses.Bits() > 30 || h.Addresses.Bits() < 16:
			return fmt.Errorf("%s: addresses: take a range of loopback addresses from /16 to /30, such as 127.50.0.0/24", at)
		case h.Port < 1024 || h.Port > 65535:
			return fmt.Errorf("%s: port: take 1024 to 65535", at)
		}
		switch {
		case !slices.Contains([]string{"auto", "kvm", "emulated"}, h.Processor):
			return fmt.Errorf("%s: processor: take auto, kvm or emulated", at)
		}
		h.Addresses = h.Addresses.Masked()
		if slices.ContainsFunc(taken, h.machines().Overlaps) {
			return fmt.Errorf("%s: another host has some of the addresses of %s", at, h.machines())
		}
		taken = append(taken, h.machines())
		h.Title = cmp.Or(h.Title, h.Region)
	}
	if len(c.Sizes) == 0 {
		return errors.New("sizes: there is none")
	}
	for n, z := range c.Sizes {
		at := fmt.Sprintf("sizes, number %d", n+1)
		switch {
		case !word.MatchString(z.Name):
			return fmt.Errorf("%s: name: take 1 to 50 of a-z, 0-9 and '-', and '-' neither first nor last", at)
		case slices.ContainsFunc(c.Sizes[:n], func(o Size) bool { return o.Name == z.Name }):
			return fmt.Errorf("%s: name: %s is there twice", at, z.Name)
		case z.CPUs < 1 || z.CPUs > 64 || z.MemoryMB < 64 || z.DiskGB < 1:
			return fmt.Errorf("%s: take at least 1 of cpus, 64 of memory_mb and 1 of disk_gb", at)
		}
	}
	if len(c.Images) == 0 {
		return errors.New("images: there is none")
	}
	for n := range c.Images {
		i := &c.Images[n]
		at := fmt.Sprintf("images, number %d", n+1)
		i.Size, i.Title, i.DiskGB = cmp.Or(i.Size, c.Sizes[0].Name), cmp.Or(i.Title, i.Name), max(i.DiskGB, 1)
		if len(i.KeyTypes) == 0 {
			i.KeyTypes = []string{"ssh-ed25519", "ecdsa-sha2-nistp256", "ecdsa-sha2-nistp384", "ecdsa-sha2-nistp521", "ssh-rsa"}
		}
		switch {
		case !word.MatchString(i.Name):
			return fmt.Errorf("%s: name: take 1 to 50 of a-z, 0-9 and '-', and '-' neither first nor last", at)
		case slices.ContainsFunc(c.Images[:n], func(o Image) bool { return o.Name == i.Name }):
			return fmt.Errorf("%s: name: %s is there twice", at, i.Name)
		case i.Volume == "" || strings.ContainsAny(i.Volume, "/\n\x00"):
			return fmt.Errorf("%s: volume: the name of a volume of the pool is missing", at)
		case i.LoginUser == "":
			return fmt.Errorf("%s: login_user: who logs in there is missing", at)
		case !c.hasSize(i.Size):
			return fmt.Errorf("%s: size: there is no size %s", at, i.Size)
		}
	}
	if c.Rescue.Image == "" && c.Rescue.Size == "" {
		c.Rescue.Image, c.Rescue.Size = c.Images[0].Name, c.Sizes[0].Name
	}
	if i, ok := c.image(c.Rescue.Image); !ok {
		return fmt.Errorf("rescue: image: there is no image %q", c.Rescue.Image)
	} else if i.Asks {
		return fmt.Errorf("rescue: image: a rescue machine of %s would wait for somebody at its console; name another image", i.Name)
	}
	if !c.hasSize(c.Rescue.Size) {
		return fmt.Errorf("rescue: size: there is no size %q", c.Rescue.Size)
	}
	return nil
}

// checkNetwork checks a host whose machines are in a network of their own.
func (h *Host) checkNetwork() error {
	switch n := h.Network; {
	case h.Addresses.IsValid():
		return errors.New("network: it is taken instead of addresses, not beside them")
	case !n.Addr().Is4() || !n.Addr().IsPrivate() || n.Bits() > 29 || n.Bits() < 24 || n != n.Masked():
		return errors.New("network: take a private network from /24 to /29, such as 192.168.150.0/24")
	case h.URI != "qemu:///system":
		return errors.New("network: only qemu:///system has networks with inbound rules")
	case h.Port != 22:
		return errors.New("port: a machine in a network is reached at port 22")
	case len(h.Region) > 40:
		return errors.New("region: take at most 40 characters")
	}
	for _, p := range h.Admit {
		if !p.Addr().Is4() || p != p.Masked() {
			return fmt.Errorf("admit: %s is no range of IPv4 addresses, such as 192.0.2.0/24", p)
		}
	}
	return nil
}

// machines is the range in which its machines are reached.
func (h *Host) machines() netip.Prefix {
	if h.Network.IsValid() {
		return h.Network
	}
	return h.Addresses
}

// networked tells whether the machines are in networks of libvirt, and have inbound rules.
func (c *Config) networked() bool { return c.Hosts[0].Network.IsValid() }

func (c *Config) image(name string) (Image, bool) {
	n := slices.IndexFunc(c.Images, func(i Image) bool { return i.Name == name })
	if n < 0 {
		return Image{}, false
	}
	return c.Images[n], true
}

func (c *Config) size(name string) (Size, bool) {
	n := slices.IndexFunc(c.Sizes, func(z Size) bool { return z.Name == name })
	if n < 0 {
		return Size{}, false
	}
	return c.Sizes[n], true
}

func (c *Config) hasSize(name string) bool {
	_, ok := c.size(name)
	return ok
}

func (c *Config) regions() []string {
	var out []string
	for _, h := range c.Hosts {
		out = append(out, h.Region)
	}
	return out
}

func (c *Config) catalogue() (images []wire.Image, sizes []wire.Size) {
	for _, i := range c.Images {
		title := i.Title
		if i.Asks {
			title = strings.TrimPrefix(title+"; each boot asks at its console", "; ")
		}
		images = append(images, wire.Image{Name: i.Name, Title: title, LoginUser: i.LoginUser, KeyTypes: i.KeyTypes, MinDiskGB: i.DiskGB,
			SmallestSize: i.Size, Regions: c.regions()})
	}
	for _, z := range c.Sizes {
		sizes = append(sizes, wire.Size{Name: z.Name, CPUs: z.CPUs, MemoryMB: z.MemoryMB, DiskGB: z.DiskGB, Regions: c.regions()})
	}
	return images, sizes
}

// Package libvirt is the driver for hosts that run libvirt: real machines, each a domain with a volume of its own in a storage
// pool. It speaks to libvirt's socket, and touches nothing that it did not make.
//
// A machine's network is one of two kinds. With QEMU's own (libvirt calls it "user") what leads in is one forward to its SSH port, at a
// loopback address of the host which is the machine's for its life; there are no inbound rules, and whatever a machine sees of a
// connection comes from 10.0.2.2. The system's libvirtd has networks besides: the driver makes one for each host, in which a machine has
// an address of its own for its life, and inbound rules that the host enforces outside the machine. Either has no addresses that move,
// no lists of keys and no prices: Properties says so, and none is pretended.
//
// What libvirt has no place for (client tokens, tags, user data) is kept in the domain's metadata. libvirt offers no
// compare-and-set for that: two changes of one instance at once must be kept apart by whoever asks, as the service's claims do.
package libvirt

import (
	"cmp"
	"context"
	"encoding/base64"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net/netip"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"time"

	"plumlatch/core/plaintext"
	"plumlatch/service/cloud"
)

// Driver manages the machines of one or several libvirt hosts.
type Driver struct {
	c     Config
	names cloud.NameRule

	// making is held while a machine is given an address, so that two have none in common.
	making sync.Mutex

	// copying are the images that are being made now, and copyFailed what went wrong with one.
	copies     sync.Mutex
	copying    map[string]bool
	copyFailed map[string]error
}

var _ cloud.Driver = (*Driver)(nil)

// hostAt is what a machine finds its host at, in QEMU's own network.
const hostAt = "10.0.2.2"

// maxUserData is the bound of this driver's own, in bytes: the text stands in the domain's metadata.
const maxUserData = 64 << 10

const maxBootOutput = 1 << 20

// New returns a driver for a configuration that Read has checked.
func New(c Config) *Driver {
	return &Driver{c: c, names: cloud.NameRule{Pattern: regexp.MustCompile(`^[a-z0-9]([a-z0-9-]*[a-z0-9])?$`), MaxLength: 50,
		Words: "it takes 1 to 50 of a-z, 0-9 and '-', and '-' neither first nor last"}}
}

// Name returns "libvirt".
func (d *Driver) Name() string { return "libvirt" }

// Properties says what a host with libvirt takes, and what it lacks.
func (d *Driver) Properties() cloud.Properties {
	p := cloud.Properties{Names: d.names, MaxUserData: maxUserData, MaxTags: 50, Boot: d.c.Boot, BootText: true, Volumes: true, NoStaticAddresses: true,
		NoPrices: true, RescueImage: d.c.Rescue.Image, RescueSize: d.c.Rescue.Size, Images: &cloud.Imaging{Running: true, PerGB: copyPerGB},
		Adds: &cloud.Placing{Takes: 5 * time.Second}, Lends: &cloud.Lending{For: lentFor, Stays: true}}
	if d.c.networked() {
		p.Images.Shuts, p.Images.ShutsOut = true, true
	} else {
		p.HostAt, p.Forwards, p.NoRules = hostAt, true, true
	}
	return p
}

// Regions returns the hosts.
func (d *Driver) Regions(ctx context.Context) (out []cloud.Region, err error) {
	for _, h := range d.c.Hosts {
		out = append(out, cloud.Region{Name: h.Region, Title: h.Title, Zones: []string{zone}})
	}
	return out, nil
}

// Images returns the images, which every host has.
func (d *Driver) Images(ctx context.Context, region string) ([]cloud.Image, error) {
	images, _ := d.c.catalogue()
	if _, err := d.host(region); region != "" && err != nil {
		return nil, err
	}
	return images, nil
}

// Sizes returns the sizes, which every host has.
func (d *Driver) Sizes(ctx context.Context, region string) ([]cloud.Size, error) {
	_, sizes := d.c.catalogue()
	if _, err := d.host(region); region != "" && err != nil {
		return nil, err
	}
	return sizes, nil
}

func (d *Driver) host(region string) (Host, error) {
	n := slices.IndexFunc(d.c.Hosts, func(h Host) bool { return h.Region == region })
	if n < 0 {
		return Host{}, refused("there is no region %q", plaintext.Line(plaintext.Cut(region, 50)))
	}
	return d.c.Hosts[n], nil
}

func refused(format string, a ...any) error {
	return fmt.Errorf("%w: %s", cloud.ErrRefused, fmt.Sprintf(format, a...))
}

// ours is an instance of ours, as a link finds it.
type ours struct {
	*link
	h Host
	domain
	m machine
	a *about
}

// on looks an instance up, on whichever host it is, and calls f with it. ErrNotFound.
func (d *Driver) on(ctx context.Context, id string, f func(*ours) error) error {
	for _, h := range d.c.Hosts {
		err := with(ctx, h, func(l *link) error {
			x, err := l.lookup(id)
			if err != nil {
				return err
			}
			m, err := parse(x.xml)
			if err != nil {
				return err
			}
			o := &ours{link: l, h: h, domain: x, m: m, a: m.Metadata.About}
			if o.a != nil {
				if err := o.settle(d.c.PowerOff); err != nil {
					return err
				}
			}
			return f(o)
		})
		if !errors.Is(err, cloud.ErrNotFound) {
			return err
		}
	}
	return cloud.ErrNotFound
}

// change is on for what changes something: again with the same token nothing is done, and what is not ours is not touched.
func (d *Driver) change(ctx context.Context, clientToken, id string, f func(*ours) error) (out cloud.Instance, err error) {
	err = d.on(ctx, id, func(o *ours) error {
		if o.a == nil {
			return refused("%s was made by somebody else; it is not for this service to change", plaintext.Line(plaintext.Cut(o.m.Name, 100)))
		}
		if !o.a.done(clientToken) {
			if err := f(o); err != nil {
				return err
			}
		}
		out = d.c.show(o.h, o.domain, o.m, o.a)
		return nil
	})
	return out, err
}

// keep keeps what is known of the instance, with the token of a change.
func (o *ours) keep(clientToken string) error {
	if clientToken != "" {
		o.a.note(clientToken)
	}
	text, err := o.a.text()
	if err != nil {
		return err
	}
	return o.link.keep(o.domain, text)
}

// again reads the instance anew.
func (o *ours) again() (err error) {
	if o.domain, err = o.read(o.d); err != nil {
		return err
	}
	if o.m, err = parse(o.xml); err == nil {
		o.a = o.m.Metadata.About
	}
	return err
}

// settle goes on with what takes its time: a machine that does not stop when it is asked to has its power cut, and one that
// runs is led to, also when somebody else started it.
func (o *ours) settle(powerOff time.Duration) error {
	if o.a.Stopping != "" {
		since, err := time.Parse(time.RFC3339Nano, o.a.Stopping)
		if o.running && (err != nil || time.Since(since) > powerOff) {
			if err := o.cut(o.domain); err != nil {
				return err
			}
		}
		if o.running {
			if err := o.again(); err != nil || o.running {
				return err
			}
		}
		o.a.Stopping = "" // it is stopped: whoever starts it now, also by hand, means it
		return o.keep("")
	}
	if o.running && !o.paused && o.a.Launched {
		return o.lead()
	}
	return nil
}

// lead has the machine be reached: in a network of libvirt it is, as long as that is up.
func (o *ours) lead() error {
	if o.h.Network.IsValid() {
		return nil
	}
	return o.forward()
}

// forward has the machine's SSH port be reached at its address. The forward is gone when its QEMU ends. The address stands in
// metadata, which the host's administrator can edit: one that is not of the host's range opens nothing.
func (o *ours) forward() error {
	address, err := netip.ParseAddr(o.a.Address)
	if err != nil || !o.h.Addresses.Contains(address) || o.a.Port < 1024 || o.a.Port > 65535 {
		return refused("the metadata of domain %s names an address or a port that are not this host's (%s): somebody has changed it",
			plaintext.Line(plaintext.Cut(o.m.Name, 100)), o.h.Addresses)
	}
	all, err := o.monitor(o.domain, "info usernet")
	if err != nil {
		return err
	}
	for line := range strings.Lines(all) { // its columns: what, descriptor, address, port, ...; what a guest connects to is listed too
		if f := strings.Fields(line); len(f) > 3 && f[0] == "TCP[HOST_FORWARD]" && f[2] == o.a.Address && f[3] == strconv.Itoa(o.a.Port) {
			return nil
		}
	}
	said, err := o.monitor(o.domain, fmt.Sprintf("hostfwd_add hostua-net0 tcp:%s:%d-:22", o.a.Address, o.a.Port))
	if err != nil {
		return err
	}
	if said = strings.TrimSpace(said); said != "" {
		return fmt.Errorf("%w: nothing leads to its SSH port at %s:%d: %s", cloud.ErrFailed, o.a.Address, o.a.Port, plaintext.Line(plaintext.Cut(said, 200)))
	}
	return nil
}

// Get returns one instance.
func (d *Driver) Get(ctx context.Context, id string) (out cloud.Instance, err error) {
	err = d.on(ctx, id, func(o *ours) error {
		if o.a == nil {
			out = showOther(o.h, o.domain, o.m)
		} else {
			out = d.c.show(o.h, o.domain, o.m, o.a)
		}
		return nil
	})
	return out, err
}

// List returns every instance of a region, and the domains that somebody else made.
func (d *Driver) List(ctx context.Context, region string) (out []cloud.Instance, err error) {
	h, err := d.host(region)
	if err != nil {
		return nil, err
	}
	return out, with(ctx, h, func(l *link) error {
		all, err := l.domains()
		if err != nil {
			return err
		}
		for _, x := range all {
			m, err := parse(x.xml)
			if err != nil {
				return err
			}
			if a := m.Metadata.About; a != nil {
				out = append(out, d.c.show(h, x, m, a))
			} else {
				out = append(out, showOther(h, x, m))
			}
		}
		return nil
	})
}

// ByToken returns what Launch made under a client token.
func (d *Driver) ByToken(ctx context.Context, clientToken string) (cloud.Instance, error) {
	return d.Get(ctx, idOf(clientToken))
}

// Launch makes the volume, the seed and the domain, and starts it. Cut off in the middle it goes on where it was, when it is
// asked again.
func (d *Driver) Launch(ctx context.Context, clientToken string, l cloud.Launch) (out cloud.Instance, err error) {
	h, err := d.host(l.Region)
	if err != nil {
		return out, err
	}
	id := idOf(clientToken)
	return out, with(ctx, h, func(link *link) error {
		if _, _, err := link.volume(goneName(id)); err == nil {
			out = cloud.Instance{ID: id, Name: l.Name, Region: h.Region, State: cloud.Removed}
			return nil
		} else if !errors.Is(err, cloud.ErrNotFound) {
			return err
		}
		x, err := link.lookup(id)
		if errors.Is(err, cloud.ErrNotFound) {
			if err = d.make(link, h, id, clientToken, l); err == nil {
				x, err = link.lookup(id)
			}
		}
		if err != nil {
			return err
		}
		m, err := parse(x.xml)
		if err != nil {
			return err
		}
		o := &ours{link: link, h: h, domain: x, m: m, a: m.Metadata.About}
		if o.a == nil {
			return refused("the metadata of domain %s was changed by somebody else", plaintext.Line(plaintext.Cut(m.Name, 100)))
		}
		if !o.a.Launched {
			if !o.running {
				if err := o.create(); err != nil {
					return err
				}
			}
			if err := o.lead(); err != nil {
				return err
			}
			o.a.Launched = true
			if err := o.keep(""); err != nil {
				return err
			}
		}
		out = d.c.show(h, o.domain, o.m, o.a)
		return nil
	})
}

// fits checks a launch before anything is made.
func (d *Driver) fits(link *link, l cloud.Launch) (image Image, size Size, err error) {
	if err := d.names.Check(l.Name); err != nil {
		return image, size, refused("%s", err)
	}
	size, ok := d.c.size(l.Size)
	if !ok {
		return image, size, refused("there is no size %q", plaintext.Line(plaintext.Cut(l.Size, 50)))
	}
	if image, err = d.imageFor(link, l.Image); err != nil {
		return image, size, err
	}
	least, _ := d.c.size(image.Size)
	disk := cmp.Or(l.DiskGB, size.DiskGB)
	switch {
	case l.Zone != "" && l.Zone != zone:
		err = refused("there is no zone %q; a host has one, %q", plaintext.Line(plaintext.Cut(l.Zone, 50)), zone)
	case size.MemoryMB < least.MemoryMB || size.CPUs < least.CPUs:
		err = refused("image %s needs at least size %s", image.Name, image.Size)
	case disk < image.DiskGB || disk < size.DiskGB && l.DiskGB != 0:
		err = refused("the root volume needs at least %d GiB", max(image.DiskGB, size.DiskGB))
	case disk > 1<<14:
		err = refused("the root volume has at most %d GiB", 1<<14)
	case len(l.UserData) > maxUserData:
		err = refused("user data has at most %d bytes", maxUserData)
	case len(l.Tags) > d.Properties().MaxTags:
		err = refused("an instance has at most %d tags", d.Properties().MaxTags)
	case l.KeyEntry != "" || l.PasswordKey != "":
		err = refused("a libvirt host has no list of keys, and no first passwords")
	case l.Shut != nil && !d.c.networked():
		err = lacks("inbound rules")
	}
	return image, size, err
}

// make makes what an instance is of, but does not start it. All of it is named after its ID: made twice it is the same.
func (d *Driver) make(l *link, h Host, id, clientToken string, ask cloud.Launch) error {
	image, size, err := d.fits(l, ask)
	if err != nil {
		return err
	}
	diskGB := cmp.Or(ask.DiskGB, size.DiskGB)
	base, bytes, err := l.volume(image.Volume)
	if errors.Is(err, cloud.ErrNotFound) {
		return refused("image %s: there is no volume %q in pool %s", image.Name, image.Volume, h.Pool)
	}
	if err != nil {
		return err
	}
	if bytes > uint64(diskGB)<<30 {
		return refused("image %s needs a root volume of at least %d GiB", image.Name, (bytes+1<<30-1)>>30)
	}
	root := fmt.Sprintf(`<volume><name>%s</name><capacity unit='GiB'>%d</capacity><target><format type='qcow2'/></target>`+
		`<backingStore><path>%s</path><format type='qcow2'/></backingStore></volume>`, rootName(id), diskGB, esc(base))
	if _, err := l.makeVolume(rootName(id), root); err != nil {
		return err
	}
	if err := l.seed(id, ask.Name, ask.UserData); err != nil {
		return err
	}
	rootPath, _, err := l.volume(rootName(id))
	if err != nil {
		return err
	}
	seedPath, _, err := l.volume(seedName(id))
	if err != nil {
		return err
	}
	kvm, err := l.kvm(h)
	if err != nil {
		return err
	}
	d.making.Lock()
	defer d.making.Unlock()
	address, err := freeAddress(l, h)
	if err != nil {
		return err
	}
	a := &about{Token: clientToken, Name: ask.Name, Image: image.Name, Size: size.Name, LoginUser: image.LoginUser, KeyLabel: ask.KeyLabel, DiskGB: diskGB,
		Address: address.String(), Port: h.Port, Created: time.Now().UTC().Format(time.RFC3339), UserData: base64.StdEncoding.EncodeToString([]byte(ask.UserData)), Asks: image.Asks}
	for k, v := range ask.Tags {
		a.Tags = append(a.Tags, tag{k, v})
	}
	slices.SortFunc(a.Tags, func(x, y tag) int { return cmp.Compare(x.Key, y.Key) })
	def := definition{id: id, root: rootPath, seed: seedPath, console: strings.TrimSuffix(rootPath, rootName(id)) + consoleName(id), name: ask.Name, cpus: size.CPUs,
		memoryMB: size.MemoryMB, kvm: kvm, asks: image.Asks}
	if h.Network.IsValid() {
		def.network, def.filter, def.address = networkName(h.Region), filterName(id), a.Address
		if err := l.ready(h); err != nil {
			return err
		}
		r := rules{shared: []string{sharedName(h.Region)}, out: true}
		if ask.Shut != nil {
			r = rules{}
			for _, p := range ask.Shut.Admit {
				rule := cloud.Rule{From: p}
				rule.ID = rule.Word()
				r.own = append(r.own, rule)
			}
		}
		a.Groups = r.shared
		if err := l.setFilter(r.xml(id)); err != nil {
			return err
		}
	}
	def.about, err = a.text()
	if err != nil {
		return err
	}
	if err := l.define(domainXML(def)); err != nil {
		if h.Network.IsValid() { // nobody would find the filter
			err = errors.Join(err, l.dropFilter(def.filter))
		}
		return err
	}
	return l.onlyOne(h, id, a.Address)
}

// onlyOne has a machine be there that no other has the address of. Another service may give the host's addresses out at the same moment. Each looks
// after it has defined its machine, so that at least the later one sees the other; whoever sees one takes its own away, and is asked again.
func (l *link) onlyOne(h Host, id, address string) error {
	return l.each(func(m machine, a *about) error {
		if a.Address != address || m.UUID == id {
			return nil
		}
		own, err := l.lookup(id)
		if err == nil {
			err = l.undefine(own)
		}
		if err == nil && h.Network.IsValid() {
			err = l.dropFilter(filterName(id))
		}
		return errors.Join(fmt.Errorf("%w: another machine was given the address %s at the same moment", cloud.ErrFailed, address), err)
	})
}

// each goes through the host's machines that are ours, until f has an error.
func (l *link) each(f func(machine, *about) error) error {
	all, err := l.domains()
	for n := 0; n < len(all) && err == nil; n++ {
		var m machine
		if m, err = parse(all[n].xml); err == nil && m.Metadata.About != nil {
			err = f(m, m.Metadata.About)
		}
	}
	return err
}

// freeAddress is the first address of the host's range that no machine of it has.
func freeAddress(l *link, h Host) (netip.Addr, error) {
	taken := map[string]bool{}
	if err := l.each(func(_ machine, a *about) error { taken[a.Address] = true; return nil }); err != nil {
		return netip.Addr{}, err
	}
	within := h.machines()
	first := within.Addr().Next()
	if h.Network.IsValid() { // the first one is the host's own
		first = first.Next()
	}
	for a := first; within.Contains(a.Next()); a = a.Next() {
		if !taken[a.String()] {
			return a, nil
		}
	}
	return netip.Addr{}, refused("the machines of this host have all addresses of %s", within)
}

// kvm tells whether a machine is run by the processor itself. A device /dev/kvm says little: where the processor of this
// machine has no such extension a kernel stops in its first second, and QEMU with it.
func (l *link) kvm(h Host) (bool, error) {
	switch h.Processor {
	case "kvm":
		return true, nil
	case "emulated":
		return false, nil
	}
	text, err := l.capabilities()
	if err != nil {
		return false, err
	}
	var offers struct {
		Domains []struct {
			Type string `xml:"type,attr"`
		} `xml:"guest>arch>domain"`
	}
	if err := xml.Unmarshal([]byte(text), &offers); err != nil {
		return false, fmt.Errorf("%w: libvirt's capabilities cannot be read: %w", cloud.ErrFailed, err)
	}
	offered := false
	for _, o := range offers.Domains {
		offered = offered || o.Type == "kvm"
	}
	info, err := os.ReadFile("/proc/cpuinfo")
	return offered && err == nil && extension.Match(info), nil
}

var extension = regexp.MustCompile(`(?m)^flags\s*:.*\b(vmx|svm)\b`)

// create gives a machine power.
func (o *ours) create() error {
	if o.h.Network.IsValid() {
		if err := o.ready(o.h); err != nil {
			return err
		}
	}
	if err := o.link.create(o.domain); err != nil {
		return err
	}
	return o.again()
}

// Stop asks a machine to stop, as its power button does.
func (d *Driver) Stop(ctx context.Context, clientToken, id string) (cloud.Instance, error) {
	return d.change(ctx, clientToken, id, func(o *ours) error {
		if o.running {
			if o.paused {
				if err := o.cut(o.domain); err != nil {
					return err
				}
				return errors.Join(o.keep(clientToken), o.again())
			}
			o.a.Stopping = time.Now().UTC().Format(time.RFC3339Nano)
			if err := o.keep(clientToken); err != nil {
				return err
			}
			return o.askToStop(o.domain)
		}
		return o.keep(clientToken)
	})
}

// Start starts a machine that is stopped and has its root volume. libvirt itself would start one without.
func (d *Driver) Start(ctx context.Context, clientToken, id string) (cloud.Instance, error) {
	return d.change(ctx, clientToken, id, func(o *ours) error {
		if o.running && o.a.Stopping != "" {
			return refused("%s is stopping; ask again when it is stopped", o.a.Name)
		}
		if o.paused {
			if err := o.cut(o.domain); err != nil {
				return err
			}
			if err := o.again(); err != nil {
				return err
			}
		}
		if !o.running {
			if root, ok := o.m.at(rootDevice); !ok || root.file() != rootName(id) {
				return refused("%s has no root volume", o.a.Name)
			}
			if err := o.create(); err != nil {
				return err
			}
			if err := o.lead(); err != nil {
				return err
			}
		}
		o.a.Stopping, o.a.Launched = "", true
		return o.keep(clientToken)
	})
}

// Remove removes a machine and its volumes. That it was removed is remembered in the pool.
func (d *Driver) Remove(ctx context.Context, clientToken, id string) (cloud.Instance, error) {
	out, err := d.change(ctx, "", id, func(o *ours) error {
		name := rootName(id)
		all, err := o.domains()
		if err != nil {
			return err
		}
		for _, x := range all {
			m, err := parse(cmp.Or(x.live, x.xml))
			if err != nil {
				return err
			}
			if _, has := m.has(name); has && m.UUID != o.m.UUID {
				return refused("its root volume is at %s", plaintext.Line(plaintext.Cut(m.Name, 100)))
			}
		}
		if _, err := o.makeVolume(goneName(id), goneXML(id)); err != nil {
			return err
		}
		if o.running {
			if err := o.cut(o.domain); err != nil {
				return err
			}
		}
		if err := o.refresh(); err != nil {
			return err
		}
		for _, v := range []string{name, seedName(id), consoleName(id)} {
			if err := o.removeVolume(v); err != nil {
				return err
			}
		}
		if isImage(o.a.Image) {
			if _, _, err := o.link.volume(madeName(o.a.Image)); errors.Is(err, cloud.ErrNotFound) {
				if err := o.dropImage(o.a.Image, id); err != nil {
					return err
				}
			} else if err != nil {
				return err
			}
		}
		if o.h.Network.IsValid() {
			if err := o.dropFilter(filterName(id)); err != nil {
				return err
			}
		}
		if err := told(o.undefine(o.domain)); !errors.Is(err, cloud.ErrNotFound) { // somebody has undefined it while it ran: it went with its power
			return err
		}
		return nil
	})
	out.State = cloud.Removed
	return out, err
}

// BootOutput returns the end of what the machine wrote to its serial port, over all of its boots.
func (d *Driver) BootOutput(ctx context.Context, id string) (text string, err error) {
	err = d.on(ctx, id, func(o *ours) error {
		if o.a == nil {
			return refused("what a domain of somebody else writes is not read")
		}
		root, _, err := o.link.volume(rootName(id))
		if err != nil {
			return err
		}
		b, err := tail(filepath.Join(filepath.Dir(root), consoleName(id)), maxBootOutput)
		text = string(b)
		return err
	})
	return text, err
}

// tail reads the last bytes of what a machine has written to its console; nothing if it has written nothing yet. The file is read, and
// not asked for through libvirt: libvirtd 9.0 breaks down now and then when it hands out a volume's content, and every machine of the
// host would be out of reach.
func tail(file string, limit int64) ([]byte, error) {
	f, err := os.OpenFile(file, os.O_RDONLY|syscall.O_NOFOLLOW|syscall.O_NONBLOCK, 0)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return nil, nil
	case errors.Is(err, fs.ErrPermission):
		return nil, refused("%s cannot be read by the user of this service: setfacl -m u:%d:r %s", file, os.Getuid(), file)
	case err != nil:
		return nil, fmt.Errorf("%w: %w", cloud.ErrFailed, err)
	}
	defer f.Close()
	info, err := f.Stat()
	if err == nil && !info.Mode().IsRegular() {
		return nil, refused("%s is no file", file)
	}
	if err == nil && info.Size() > limit {
		_, err = f.Seek(-limit, io.SeekEnd)
	}
	var out []byte
	if err == nil {
		out, err = io.ReadAll(io.LimitReader(f, limit))
	}
	if err != nil {
		return nil, fmt.Errorf("%w: %w", cloud.ErrFailed, err)
	}
	return out, nil
}

// FirstPassword answers ErrNotFound: no image of a libvirt host gives one.
func (d *Driver) FirstPassword(ctx context.Context, id string) (string, error) {
	if _, err := d.Get(ctx, id); err != nil {
		return "", err
	}
	return "", cloud.ErrNotFound
}

// UserData returns what an instance reads when it boots.
func (d *Driver) UserData(ctx context.Context, id string) (text string, err error) {
	err = d.on(ctx, id, func(o *ours) error {
		if o.a == nil {
			return refused("the user data of a domain of somebody else is not read")
		}
		b, err := base64.StdEncoding.DecodeString(o.a.UserData)
		text = string(b)
		return err
	})
	return text, err
}

// SetUserData writes another seed, which a machine reads when it boots next, also one that runs: its volume stays, so that this holds also
// for a boot that the machine begins by itself. Its instance-id stays, so that it does not take itself for a new one.
func (d *Driver) SetUserData(ctx context.Context, clientToken, id, text string) error {
	if len(text) > maxUserData {
		return refused("user data has at most %d bytes", maxUserData)
	}
	_, err := d.change(ctx, clientToken, id, func(o *ours) error {
		if err := o.seed(id, o.a.Name, text); err != nil {
			return err
		}
		o.a.UserData = base64.StdEncoding.EncodeToString([]byte(text))
		return o.keep(clientToken)
	})
	return err
}

// Terms says how long changes take. A host of one's own has no price list.
func (d *Driver) Terms(ctx context.Context) (cloud.Terms, error) {
	return cloud.Terms{Change: 10 * time.Second}, nil
}

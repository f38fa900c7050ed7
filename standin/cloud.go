package standin

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"maps"
	"net"
	"net/netip"
	"os"
	"path/filepath"
	"slices"
	"sort"
	"strings"
	"sync"
	"time"
)

// State is where an instance is in its life.
type State string

// The states. Pending, Stopping and Removing end by themselves.
const (
	Pending  State = "pending"
	Running  State = "running"
	Stopping State = "stopping"
	Stopped  State = "stopped"
	Removing State = "removing"
	Removed  State = "removed"
)

// Instance is one machine, as the stand-in keeps it and shows it.
type Instance struct {
	ID        string    `json:"id"`
	Name      string    `json:"name"`
	Region    string    `json:"region"`
	Image     string    `json:"image"`
	Size      string    `json:"size"`
	State     State     `json:"state"`
	Address   string    `json:"address"` // empty while stopped: addresses are dynamic
	Port      int       `json:"port"`
	LoginUser string    `json:"login_user"`
	Created   time.Time `json:"created"`
	Booted    time.Time `json:"booted"`

	Zone   string            `json:"zone"`
	DiskGB int               `json:"disk_gb"`
	Tags   map[string]string `json:"tags"`
	Groups []string          `json:"groups"` // of inbound rules
	Static bool              `json:"static_address"`

	KeyLabel string `json:"key_label"` // as whoever launched it said; never looked at

	Nature Nature `json:"nature"`
	// RootVolume is what it boots from, and RootDevice the name that it must be
	// attached under for that. They are shown, and not kept.
	RootVolume string `json:"root_volume"`
	RootDevice string `json:"root_device"`
}

// Nature is what is particular about an instance.
type Nature struct {
	// StopDestroys: stopping it is its end; why, in words.
	StopDestroys string `json:"stop_destroys"`
	// MissingRights are what the caller may not do with it: stop, start, volumes, user-data, lend, images, set-keys.
	MissingRights []string `json:"missing_rights"`
}

type stored struct {
	Instance
	UserData   string `json:"user_data"`
	FirstBoot  bool   `json:"first_boot_done"`
	Token      string `json:"client_token"`
	LaunchHash string `json:"launch_hash"`
	KeyLine    string `json:"key_line,omitempty"` // of the entry that it was launched with
	From       string `json:"from,omitempty"`     // the image of one's own that it was launched from
	Shut       bool   `json:"shut,omitempty"`     // nothing leads out of it
	// Done are the client tokens of what was asked of it since: asked again, nothing happens.
	Done []string `json:"done_tokens"`
	Door string   `json:"door,omitempty"` // how its SSH port is; "" is open

	server *server
}

// Options configure a Cloud. Folder and Network are needed.
type Options struct {
	Folder  string        // where everything is kept
	Network netip.Prefix  // IPv4 block on loopback that the instances' addresses come from
	Port    int           // of every instance's SSH server; 2222 if 0
	Pace    time.Duration // how long a change of state takes; 400 ms if 0
	Log     *slog.Logger  // slog.Default() if nil
	Now     func() time.Time
	// Admit is whom the shared rules of each region let in from the beginning;
	// all of loopback if nil.
	Admit []netip.Prefix
	// Strangers: an address that is given back goes to somebody else's server.
	Strangers bool
}

// Cloud is a running stand-in cloud.
type Cloud struct {
	opts Options
	root *os.Root // of the folder
	hold net.Listener

	mu        sync.Mutex
	instances map[string]*stored
	next      uint32 // the address given out last, as an offset into the network
	serial    int
	closed    bool
	saved     time.Time // when the state was written last
	saveDue   bool      // it is to be written soon
	timers    sync.WaitGroup
	quit      chan struct{}
	faults    faults

	groups     map[string]*Group
	static     map[string]*Address
	reserved   map[string]Address // by client token, for good
	volumes    map[string]*Volume
	entries    map[string]*storedEntry
	placed     map[string]*storedPlaced
	own        map[string]*storedOwn // images that were made from instances
	sent       []Sent                // what the instances' jobs have sent
	unlisted   []string              // client tokens of entries that were taken out
	strangers  map[string]*stranger
	strangerAt []string // the oldest first
}

// firstOffset leaves the lowest addresses of the block to the service and to people.
const firstOffset = 256

// Open loads the cloud of the folder, or begins a new one, and starts the
// instances that were running, at the addresses that they had.
func Open(o Options) (*Cloud, error) {
	if o.Port == 0 {
		o.Port = 2222
	}
	if o.Pace == 0 {
		o.Pace = 400 * time.Millisecond
	}
	if o.Log == nil {
		o.Log = slog.Default()
	}
	if o.Now == nil {
		o.Now = time.Now
	}
	if o.Admit == nil {
		o.Admit = []netip.Prefix{netip.MustParsePrefix("127.0.0.0/8")}
	}
	if !o.Network.Addr().Is4() || o.Network.Bits() > 20 || !o.Network.Addr().IsLoopback() {
		return nil, fmt.Errorf("network %s: give an IPv4 block of 127.0.0.0/8 of /20 or larger, such as 127.31.0.0/16", o.Network)
	}
	if err := os.MkdirAll(filepath.Join(o.Folder, "instances"), 0o700); err != nil {
		return nil, err
	}
	root, err := os.OpenRoot(o.Folder)
	if err != nil {
		return nil, err
	}
	// Holding one port of the block keeps a second stand-in out of it.
	hold, err := net.Listen("tcp4", netip.AddrPortFrom(o.Network.Masked().Addr().Next(), uint16(o.Port)).String())
	if err != nil {
		root.Close()
		return nil, fmt.Errorf("the block %s is in use by another stand-in: %w; NET= moves this one", o.Network, err)
	}
	c := &Cloud{opts: o, root: root, hold: hold, instances: map[string]*stored{}, next: firstOffset,
		quit:   make(chan struct{}),
		groups: map[string]*Group{}, static: map[string]*Address{}, reserved: map[string]Address{},
		strangers: map[string]*stranger{}, volumes: map[string]*Volume{}, entries: map[string]*storedEntry{},
		placed: map[string]*storedPlaced{}, own: map[string]*storedOwn{}}
	if err := c.load(); err != nil {
		hold.Close()
		root.Close()
		return nil, err
	}
	for _, in := range c.instances {
		if err := c.resume(in); err != nil {
			c.Close()
			return nil, err
		}
	}
	c.resumeVolumes()
	for _, i := range c.own {
		if i.State == ImageMaking {
			c.imageReady(i.ID, 1)
		}
	}
	c.timers.Go(c.agent)
	return c, nil
}

// resume brings an instance back to where it was when the stand-in last ended.
func (c *Cloud) resume(in *stored) error {
	switch in.State {
	case Running:
		return c.serve(in)
	case Pending:
		c.later(in.ID, c.boot)
	case Stopping:
		c.later(in.ID, c.halt)
	case Removing:
		c.later(in.ID, c.erase)
	}
	return nil
}

// Close ends every SSH server; the instances stay as they are for the next Open.
func (c *Cloud) Close() error {
	c.mu.Lock()
	if c.closed {
		c.mu.Unlock()
		return nil
	}
	c.closed = true
	var err error
	if c.saveDue {
		err = c.saveNow()
	}
	close(c.quit)
	for _, in := range c.instances {
		if in.server != nil {
			in.server.Close()
		}
	}
	for _, s := range c.strangers {
		s.listener.Close()
		s.wg.Wait()
	}
	c.mu.Unlock()
	c.timers.Wait()
	return errors.Join(err, c.hold.Close(), c.root.Close())
}

type stateFile struct {
	Next      uint32             `json:"next_address"`
	Serial    int                `json:"serial"`
	Instances []*stored          `json:"instances"`
	Groups    []*Group           `json:"groups"`
	Static    []*Address         `json:"static_addresses"`
	Reserved  map[string]Address `json:"reserved_tokens"`
	Strangers []string           `json:"strangers"`
	Volumes   []*Volume          `json:"volumes"`
	Entries   []*storedEntry     `json:"key_entries"`
	Placed    []*storedPlaced    `json:"placed_keys"`
	Own       []*storedOwn       `json:"own_images"`
	Unlisted  []string           `json:"unlisted_tokens"`
}

const stateName = "cloud.json"

func (c *Cloud) load() error {
	data, err := c.root.ReadFile(stateName)
	if errors.Is(err, os.ErrNotExist) {
		return nil
	}
	if err != nil {
		return err
	}
	var f stateFile
	if err := json.Unmarshal(data, &f); err != nil {
		return fmt.Errorf("%s is damaged: %w; remove the stand-in's folder to begin anew",
			filepath.Join(c.opts.Folder, stateName), err)
	}
	c.next, c.serial = f.Next, f.Serial
	for _, g := range f.Groups {
		c.groups[g.ID] = g
	}
	for _, a := range f.Static {
		c.static[a.ID] = a
	}
	maps.Copy(c.reserved, f.Reserved)
	for _, in := range f.Instances {
		if len(in.Groups) == 0 { // kept by a stand-in that had none
			in.Groups = []string{c.defaultGroup(in.Region).ID}
		}
		c.instances[in.ID] = in
	}
	for _, v := range f.Volumes {
		c.volumes[v.ID] = v
	}
	for _, e := range f.Entries {
		c.entries[e.ID] = e
	}
	for _, i := range f.Own {
		c.own[i.ID] = i
	}
	for _, p := range f.Placed {
		c.placed[p.ID] = p
	}
	c.unlisted = f.Unlisted
	for _, in := range c.instances { // kept by a stand-in that had no volumes
		if v := c.volumes["hold-"+strings.TrimPrefix(in.ID, "hull-")]; v == nil && in.State != Removed {
			c.newVolume(in)
		}
	}
	for _, a := range f.Strangers {
		c.freed(a)
	}
	return nil
}

// A cloud of many instances writes its state at most this often: each time is
// the whole of it. What a kill loses then is its last moment.
const (
	manyInstances = 300
	saveManyEvery = 500 * time.Millisecond
)

// save writes the state; the caller holds mu.
func (c *Cloud) save() error {
	if len(c.instances)+len(c.entries) > manyInstances && time.Since(c.saved) < saveManyEvery {
		if !c.saveDue {
			c.saveDue = true
			time.AfterFunc(saveManyEvery, func() {
				c.mu.Lock()
				defer c.mu.Unlock()
				if c.closed {
					return
				}
				if err := c.saveNow(); err != nil {
					c.opts.Log.Error("the state was not saved", "error", err)
				}
			})
		}
		return nil
	}
	return c.saveNow()
}

func (c *Cloud) saveNow() error {
	c.saved, c.saveDue = time.Now(), false
	f := stateFile{Next: c.next, Serial: c.serial, Strangers: c.strangerAt, Reserved: c.reserved, Unlisted: c.unlisted}
	for _, e := range c.entries {
		f.Entries = append(f.Entries, e)
	}
	sort.Slice(f.Entries, func(i, j int) bool { return f.Entries[i].ID < f.Entries[j].ID })
	for _, g := range c.groups {
		f.Groups = append(f.Groups, g)
	}
	sort.Slice(f.Groups, func(i, j int) bool { return f.Groups[i].ID < f.Groups[j].ID })
	for _, a := range c.static {
		f.Static = append(f.Static, a)
	}
	sort.Slice(f.Static, func(i, j int) bool { return f.Static[i].ID < f.Static[j].ID })
	for _, v := range c.volumes {
		f.Volumes = append(f.Volumes, v)
	}
	sort.Slice(f.Volumes, func(i, j int) bool { return f.Volumes[i].ID < f.Volumes[j].ID })
	for _, in := range c.instances {
		f.Instances = append(f.Instances, in)
	}
	sort.Slice(f.Instances, func(i, j int) bool { return f.Instances[i].ID < f.Instances[j].ID })
	for _, p := range c.placed {
		f.Placed = append(f.Placed, p)
	}
	for _, i := range c.own {
		f.Own = append(f.Own, i)
	}
	sort.Slice(f.Own, func(i, j int) bool { return f.Own[i].ID < f.Own[j].ID })
	sort.Slice(f.Placed, func(i, j int) bool { return f.Placed[i].ID < f.Placed[j].ID })
	data, err := json.MarshalIndent(f, "", "  ")
	if err != nil {
		return err
	}
	if err := c.root.WriteFile(stateName+".new", data, 0o600); err != nil {
		return err
	}
	return c.root.Rename(stateName+".new", stateName)
}

// Errors of the Cloud's calls.
var (
	ErrNotFound = errors.New("no such instance")
	ErrState    = errors.New("not in this state")
	ErrInvalid  = errors.New("invalid request")
	ErrToken    = errors.New("this client token was used for another launch")
	ErrRights   = errors.New("these credentials may not")
)

// Launch is a request for a new instance.
type Launch struct {
	ClientToken string `json:"client_token"` // the same token launches once
	Name        string `json:"name"`
	Region      string `json:"region"`
	Image       string `json:"image"`
	Size        string `json:"size"`
	UserData    string `json:"user_data"`

	Zone   string            `json:"zone"`    // "" for the region's first
	DiskGB int               `json:"disk_gb"` // 0 for the size's own
	Tags   map[string]string `json:"tags"`

	KeyLabel string `json:"key_label"`
	KeyEntry string `json:"key_entry"` // of the region's list of keys: it is placed at the first boot
	// PasswordKey is the RSA key, as a line, that an image without SSH encrypts its first password to.
	PasswordKey string `json:"password_key"`
	// Shut has it begin with a group of rules of its own alone, which admits these networks, and nothing leads out of it.
	Shut bool `json:"shut"`
	// OutOpen has what leads out of it stay open: other clouds can do no more.
	OutOpen bool     `json:"out_open,omitempty"`
	Admit   []string `json:"admit"`
}

// check refuses what this cloud does not take.
func (l *Launch) check() error {
	invalid := func(format string, a ...any) error {
		return fmt.Errorf("%w: %s", ErrInvalid, fmt.Sprintf(format, a...))
	}
	region := slices.IndexFunc(Regions, func(r Region) bool { return r.Name == l.Region })
	image, hasImage := imageByName(l.Image)
	size, hasSize := sizeByName(l.Size)
	switch {
	case l.ClientToken == "":
		return invalid("client_token is missing")
	case !NameRule.MatchString(l.Name) || len(l.Name) > MaxNameSize:
		return invalid("a name is 1 to %d of a-z, 0-9 and '-', and neither begins nor ends with '-'", MaxNameSize)
	case region < 0:
		return invalid("unknown region")
	case !hasImage || !slices.Contains(image.Regions, l.Region):
		return invalid("unknown image")
	case !hasSize || !slices.Contains(size.Regions, l.Region):
		return invalid("unknown size")
	case l.Zone != "" && !slices.Contains(Regions[region].Zones, l.Zone):
		return invalid("unknown zone")
	case len(l.UserData) > 16<<10:
		return invalid("user data is over 16 KiB")
	case len(l.KeyLabel) > 100:
		return invalid("key_label is over 100 bytes")
	case len(l.Tags) > maxTags:
		return invalid("more than %d tags", maxTags)
	}
	if least, ok := sizeByName(image.SmallestSize); ok && (size.MemoryMB < least.MemoryMB || size.CPUs < least.CPUs) {
		return invalid("image %s needs size %s", image.Name, least.Name)
	}
	if err := l.checkPasswordKey(image); err != nil {
		return err
	}
	if l.DiskGB == 0 {
		l.DiskGB = size.DiskGB
	}
	if l.DiskGB < image.MinDiskGB || l.DiskGB > maxDiskGB {
		return invalid("a root volume of image %s has %d to %d GiB", image.Name, image.MinDiskGB, maxDiskGB)
	}
	if l.Zone == "" {
		l.Zone = Regions[region].Zones[0]
	}
	return nil
}

// Launch begins a new instance and returns it, pending. With a ClientToken
// that was used before for the same launch, it returns that instance.
func (c *Cloud) Launch(l Launch) (Instance, error) {
	hash, err := json.Marshal(l)
	if err != nil {
		return Instance{}, err
	}
	from := ""
	base, err := c.baseOf(l)
	if err != nil {
		return Instance{}, err
	}
	if base != l.Image {
		from, l.Image = l.Image, base
	}
	if err := l.check(); err != nil {
		return Instance{}, err
	}
	image, _ := imageByName(l.Image)
	c.mu.Lock()
	defer c.mu.Unlock()
	for _, in := range c.instances {
		if in.Token == l.ClientToken {
			if in.LaunchHash != string(hash) {
				return Instance{}, ErrToken
			}
			return c.showInstance(in), nil
		}
	}
	line := ""
	if l.KeyEntry != "" {
		var ok bool
		if line, ok = c.entryLine(l.Region, l.KeyEntry); !ok {
			return Instance{}, fmt.Errorf("%w: the list of %s has no key %q", ErrInvalid, l.Region, l.KeyEntry)
		}
	}
	if l.PasswordKey != "" {
		line = l.PasswordKey
	}
	if image.FirstPassword {
		if _, err := passwordKey(line); err != nil {
			return Instance{}, err
		}
	}
	c.serial++
	in := &stored{
		Instance: Instance{
			ID: fmt.Sprintf("hull-%05d", c.serial), Name: l.Name, Region: l.Region, Image: l.Image, Size: l.Size,
			State: Pending, Port: c.opts.Port, LoginUser: image.LoginUser, Created: c.opts.Now().UTC(),
			Zone: l.Zone, DiskGB: l.DiskGB, Tags: l.Tags, Groups: []string{c.defaultGroup(l.Region).ID},
			KeyLabel: l.KeyLabel,
		},
		UserData: l.UserData, Token: l.ClientToken, LaunchHash: string(hash), KeyLine: line, From: from,
	}
	if l.Shut {
		if err := c.shutIn(in, l.Admit); err != nil {
			return Instance{}, err
		}
		in.Shut = !l.OutOpen
	}
	if image.FirstPassword {
		in.Port = desktopPort
	}
	c.instances[in.ID] = in
	v := c.newVolume(in)
	if err := c.save(); err != nil {
		delete(c.instances, in.ID)
		delete(c.volumes, v.ID)
		if l.Shut {
			delete(c.groups, in.Groups[0])
		}
		return Instance{}, err
	}
	c.later(in.ID, c.boot)
	return c.showInstance(in), nil
}

// Get returns one instance, or ErrNotFound.
func (c *Cloud) Get(id string) (Instance, error) {
	c.mu.Lock()
	defer c.mu.Unlock()
	in, ok := c.instances[id]
	if !ok {
		return Instance{}, ErrNotFound
	}
	return c.showInstance(in), nil
}

// showInstance adds what is not kept with it; the caller holds mu.
func (c *Cloud) showInstance(in *stored) Instance {
	out := in.Instance
	out.RootDevice = rootDevice
	if v := c.rootOf(in.ID); v != nil {
		out.RootVolume = v.ID
	}
	return out
}

// ByToken returns what a launch with a client token made, or ErrNotFound.
func (c *Cloud) ByToken(token string) (Instance, error) {
	c.mu.Lock()
	defer c.mu.Unlock()
	for _, in := range c.instances {
		if in.Token == token && token != "" {
			return c.showInstance(in), nil
		}
	}
	return Instance{}, ErrNotFound
}

// List returns the instances of a region, or of all with "", by ID.
func (c *Cloud) List(region string) []Instance {
	c.mu.Lock()
	defer c.mu.Unlock()
	out := []Instance{}
	for _, in := range c.instances {
		if region == "" || in.Region == region {
			out = append(out, in.Instance)
		}
	}
	roots := map[string]string{}
	for _, v := range c.volumes {
		if v.Device == rootDevice {
			roots[v.Instance] = v.ID
		}
	}
	for n := range out {
		out[n].RootDevice, out[n].RootVolume = rootDevice, roots[out[n].ID]
	}
	sort.Slice(out, func(i, j int) bool { return out[i].ID < out[j].ID })
	return out
}

// Stop begins to stop a running instance; one that is stopping or stopped stays
// so. Some are destroyed by it.
func (c *Cloud) Stop(token, id string) (Instance, error) {
	c.mu.Lock()
	in, ok := c.instances[id]
	destroys := ok && in.Nature.StopDestroys != ""
	c.mu.Unlock()
	if destroys {
		return c.change(token, id, []State{Running}, []State{Removing, Removed}, Removing, c.erase)
	}
	return c.change(token, id, []State{Running}, []State{Stopping, Stopped}, Stopping, c.halt)
}

// Start begins to start a stopped instance, under a new address.
func (c *Cloud) Start(token, id string) (Instance, error) {
	return c.change(token, id, []State{Stopped}, []State{Pending, Running}, Pending, c.boot)
}

// Remove begins to remove an instance with its root volume.
func (c *Cloud) Remove(token, id string) (Instance, error) {
	return c.change(token, id, []State{Running, Stopped, Pending, Stopping}, []State{Removing, Removed},
		Removing, c.erase)
}

func (c *Cloud) change(token, id string, from, done []State, to State, then func(*stored) error) (Instance, error) {
	c.mu.Lock()
	defer c.mu.Unlock()
	in, ok := c.instances[id]
	switch {
	case !ok:
		return Instance{}, ErrNotFound
	case token == "":
		return Instance{}, fmt.Errorf("%w: client_token is missing", ErrInvalid)
	case slices.Contains(in.Done, token):
		return c.showInstance(in), nil // it comes again, or late
	case slices.Contains(done, in.State):
		in.Done = append(in.Done, token)
		return c.showInstance(in), c.save()
	case !slices.Contains(from, in.State):
		return Instance{}, fmt.Errorf("%w: the instance is %s", ErrState, in.State)
	case to == Stopping && slices.Contains(in.Nature.MissingRights, "stop"), to == Pending &&
		slices.Contains(in.Nature.MissingRights, "start"):
		return Instance{}, fmt.Errorf("%w: stop or start %s", ErrRights, in.Name)
	case to == Pending && c.rootOf(id) == nil:
		return Instance{}, fmt.Errorf("%w: no volume is attached under %s, which it boots from", ErrState, rootDevice)
	}
	in.State, in.Done = to, append(in.Done, token)
	if err := c.save(); err != nil {
		return Instance{}, err
	}
	c.later(id, then)
	return c.showInstance(in), nil
}

// after does something after the pace, unless the cloud ends before; the caller
// holds mu, and so does f.
func (c *Cloud) after(f func() error) {
	c.timers.Go(func() {
		select {
		case <-c.quit:
			return
		case <-time.After(c.opts.Pace):
		}
		c.mu.Lock()
		defer c.mu.Unlock()
		if c.closed {
			return
		}
		if err := f(); err != nil {
			c.opts.Log.Error("cloud", "error", err)
		}
	})
}

// later runs f on the instance after the pace, unless its state has moved on
// by then; the caller holds mu, and so does f.
func (c *Cloud) later(id string, f func(*stored) error) {
	was := c.instances[id].State
	c.after(func() error {
		in, ok := c.instances[id]
		if !ok || in.State != was {
			return nil
		}
		if _, sticks := c.faults.take("state", in.Name); sticks {
			return nil // it stays where it is
		}
		if err := f(in); err != nil {
			return fmt.Errorf("instance %s, which is %s: %w", id, in.State, err)
		}
		return c.save()
	})
}

func (c *Cloud) boot(in *stored) error {
	if err := c.makeDisk(in); err != nil {
		return err
	}
	c.giveAddress(in)
	in.Booted = c.opts.Now().UTC()
	c.bootDevices(in.ID)
	if err := c.firstBoot(in); err != nil {
		return err
	}
	if err := c.bootJobs(in); err != nil {
		return err
	}
	in.State = Running
	return c.serve(in)
}

func (c *Cloud) halt(in *stored) error {
	c.unserve(in)
	c.freed(in.Address)
	in.State, in.Address = Stopped, ""
	return nil
}

func (c *Cloud) erase(in *stored) error {
	c.unserve(in)
	for _, a := range c.static {
		if a.Instance == in.ID {
			a.Instance = ""
		}
	}
	for id, g := range c.groups {
		if g.Own == in.ID {
			delete(c.groups, id)
		}
	}
	for id, p := range c.placed {
		if p.Instance == in.ID {
			delete(c.placed, id)
		}
	}
	c.freed(in.Address)
	in.State, in.Address = Removed, ""
	for id, v := range c.volumes {
		switch {
		case v.Instance != in.ID:
		case v.Device == rootDevice: // it goes with its instance
			delete(c.volumes, id)
			if err := c.root.RemoveAll(v.folder()); err != nil {
				return err
			}
		default:
			v.State, v.Instance, v.Device, v.InVM = Available, "", "", ""
		}
	}
	return nil
}

// resumeVolumes ends the changes that were at hand when the stand-in last ended.
func (c *Cloud) resumeVolumes() {
	c.mu.Lock()
	defer c.mu.Unlock()
	for _, v := range c.volumes {
		switch v.State {
		case Attaching:
			v.State = InUse
		case Detaching:
			v.State, v.Instance, v.Device, v.InVM = Available, "", "", ""
		}
	}
}

// SetNature says what is particular about an instance.
func (c *Cloud) SetNature(id string, n Nature) (Instance, error) {
	c.mu.Lock()
	defer c.mu.Unlock()
	in, ok := c.instances[id]
	if !ok {
		return Instance{}, ErrNotFound
	}
	in.Nature = n
	return c.showInstance(in), c.save()
}

// UserData returns the text that an instance reads when it boots.
func (c *Cloud) UserData(id string) (string, error) {
	c.mu.Lock()
	defer c.mu.Unlock()
	in, ok := c.instances[id]
	if !ok {
		return "", ErrNotFound
	}
	return in.UserData, nil
}

// SetUserData gives an instance another text, which it reads at its next boot.
func (c *Cloud) SetUserData(token, id, text string) error {
	c.mu.Lock()
	defer c.mu.Unlock()
	in, ok := c.instances[id]
	switch {
	case !ok:
		return ErrNotFound
	case token == "" || len(text) > 16<<10:
		return fmt.Errorf("%w: a client token, and at most 16 KiB of text", ErrInvalid)
	case slices.Contains(in.Nature.MissingRights, "user-data"):
		return fmt.Errorf("%w: change the user data of %s", ErrRights, in.Name)
	case slices.Contains(in.Done, token):
		return nil
	}
	in.UserData, in.Done = text, append(in.Done, token)
	return c.save()
}

func (c *Cloud) unserve(in *stored) {
	if in.server != nil {
		in.server.Close()
		in.server = nil
	}
}

func (c *Cloud) serve(in *stored) error {
	if in.Address == "" {
		return nil
	}
	image, _ := imageByName(in.Image)
	if image.FirstPassword { // nobody listens there
		return nil
	}
	disk := diskName(in.ID)
	if v := c.rootOf(in.ID); v != nil { // another one's, if somebody swapped them
		disk = v.folder()
	}
	s, err := listen(c, filepath.Join(c.opts.Folder, disk), in.Instance, image, in.Door)
	if err != nil {
		return fmt.Errorf("instance %s: %w", in.Name, err)
	}
	in.server = s
	c.enforce(in)
	return nil
}

// newAddress returns the next address of the block that nobody has. Addresses
// come back into use only after the whole block was gone through, so that an
// instance that was stopped starts with another one.
func (c *Cloud) newAddress() string {
	used := map[string]bool{}
	for _, in := range c.instances {
		used[in.Address] = true
	}
	for _, a := range c.static {
		used[a.Address] = true
	}
	for a := range c.strangers {
		used[a] = true
	}
	size := uint32(1) << (32 - c.opts.Network.Bits())
	base := c.opts.Network.Masked().Addr().As4()
	for {
		c.next++
		if c.next >= size-1 {
			c.next = firstOffset
		}
		n := uint32(base[0])<<24 | uint32(base[1])<<16 | uint32(base[2])<<8 | uint32(base[3])
		n += c.next
		if last := byte(n); last == 0 || last == 255 {
			continue
		}
		a := netip.AddrFrom4([4]byte{byte(n >> 24), byte(n >> 16), byte(n >> 8), byte(n)}).String()
		if !used[a] {
			return a
		}
	}
}

// BootOutput returns what the instance printed on its console so far.
func (c *Cloud) BootOutput(_ context.Context, id string) (string, error) {
	if _, err := c.Get(id); err != nil {
		return "", err
	}
	data, err := c.root.ReadFile(diskName(id) + ".console")
	if errors.Is(err, os.ErrNotExist) {
		return "", nil
	}
	return string(data), err
}

func diskName(id string) string { return "instances/" + id }

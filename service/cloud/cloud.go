// Package cloud says what Plum Latch asks of a cloud. A new cloud is one
// package below this one that implements Driver.
package cloud

import (
	"context"
	"errors"
	"fmt"
	"net/netip"
	"regexp"
	"time"

	"plumlatch/core/inbound"
	"plumlatch/core/wire"
)

// Errors that a Driver wraps.
var (
	// ErrNotFound: the cloud knows no such instance (any more).
	ErrNotFound = errors.New("the cloud knows no such instance")
	// ErrRefused: the cloud understood and will not; trying again is of no use.
	ErrRefused = errors.New("the cloud refused")
	// ErrLacks is ErrRefused of what this cloud has not at all, as its Properties say.
	ErrLacks = fmt.Errorf("%w", ErrRefused)
	// ErrFailed: the cloud did not answer, or failed; trying again may help.
	ErrFailed = errors.New("the cloud did not answer")
)

// State is where an instance is in its life, in words that all clouds share.
type State string

// The states. An instance that is Pending, Stopping or Removing moves on by itself.
const (
	Pending  State = "pending"
	Running  State = "running"
	Stopping State = "stopping"
	Stopped  State = "stopped"
	Removing State = "removing"
	Removed  State = "removed"
)

// Instance is what the cloud says of one instance.
type Instance struct {
	ID        string // the cloud's own name for it, never used for another
	Name      string
	Region    string
	Zone      string
	State     State
	Address   string // IP address; empty where it has none now
	Port      int    // of its SSH server
	LoginUser string // as the image decides; "" if the cloud does not say
	Image     string // that it was launched from; "" if the cloud does not say
	Size      string
	Launched  time.Time // zero if the cloud does not say
	DiskGB    int       // of the root volume
	Tags      map[string]string
	Static    bool // the address stays until it is taken away
	// KeyLabel is the cloud's own word on the key that it was launched with: a
	// claim, weaker than anything that was placed or seen. "" for none.
	KeyLabel string

	// RootVolume is the volume that it boots from, "" while none is attached, and
	// RootDevice the name under which that must be attached.
	RootVolume, RootDevice string
	// StopDestroys says, in words, why stopping it would be its end (a group that
	// replaces stopped members, local disks that are wiped); "" if it is not.
	StopDestroys string
	// Asks says, in words, how somebody answers what each boot of it asks at its console, before its SSH server runs (the passphrase of an
	// encrypted root volume); "" if a boot asks nothing.
	Asks string
	// MissingRights are what our credentials may not do with it.
	MissingRights []Right
}

// Right is something that credentials may do with an instance, or may not.
type Right string

// The rights that a way back in can need.
const (
	RightStop     Right = "stop"
	RightStart    Right = "start"
	RightVolumes  Right = "volumes"
	RightUserData Right = "user-data"
	RightLend     Right = "lend"
	RightImages   Right = "images"
	RightPlace    Right = "set-keys"
)

// VolumeState is where a volume is, in words that all clouds share.
type VolumeState string

// The states. One that is Attaching or Detaching moves on by itself.
const (
	VolumeInUse     VolumeState = "in-use"
	VolumeAvailable VolumeState = "available"
	VolumeAttaching VolumeState = "attaching"
	VolumeDetaching VolumeState = "detaching"
)

// Volume is what the cloud says of one volume.
type Volume struct {
	ID, Zone string
	SizeGB   int
	State    VolumeState
	Instance string // that it is attached to, by the cloud's own name; "" for none
	Device   string // under which it is attached, as the cloud says: a guest may call it otherwise
	Note     string // of whoever moved it last
}

// Terms are what a cloud asks for, and how long its changes usually take.
type Terms struct {
	Currency     string
	InstanceHour map[string]float64 // by size
	VolumeHourGB float64
	StaticHour   *float64      // a static address; nil: the cloud does not say
	Change       time.Duration // one change of state: stopping, starting, attaching
}

// Region, Image and Size are what a launch can choose from, as the API shows them.
type (
	Region = wire.Region
	Image  = wire.Image
	Size   = wire.Size
)

// Launch is a request for an instance.
type Launch struct {
	Name, Region, Image, Size string
	Zone                      string // "" leaves it to the cloud
	DiskGB                    int    // of the root volume; 0 for the size's own
	Tags                      map[string]string
	UserData                  string
	KeyLabel                  string // which key it is launched with, for the cloud to show
	// KeyEntry is the name of an entry of the region's list of keys, which the cloud places itself; "" for none.
	KeyEntry string
	// PasswordKey is the key, as a line, that an image which gives a first password encrypts it to; "" for every other
	// image, and where KeyEntry is that key.
	PasswordKey string
	// Shut has it begin shut; nil leaves its rules to the cloud. Asked only of clouds whose Imaging says
	// that they can.
	Shut *Shut
}

// Shut is how an instance begins of which nobody is to see anything yet, and which is to do nothing: it has a group of rules
// of its own alone, and, where Imaging.ShutsOut says so, nothing leads out of it, from before its first boot.
type Shut struct {
	Admit []netip.Prefix // to its SSH port
}

// OwnImage is an image that was made from an instance.
type OwnImage struct {
	ID, Name string
	Instance string // that it was made from
	Region   string
	GB       int
	Ready    bool // it can be launched from
	Ran      bool // the instance ran meanwhile: what its processes had not written yet is not on it
	Tags     map[string]string
}

// Imaging is how a cloud makes images of instances.
type Imaging struct {
	Running bool          // also of one that runs; else only of one that is stopped
	PerGB   time.Duration // how long it usually takes for each GiB of the root volume
	Limit   int           // how many the account may have; 0 if the cloud does not say
	Shuts   bool          // a copy can begin shut: Launch.Shut
	// ShutsOut: nothing leads out of one that begins shut. Else its jobs run, beside those of the machine that it was made from.
	ShutsOut bool
}

// NameRule is which names a cloud takes for an instance.
type NameRule struct {
	Pattern   *regexp.Regexp
	MaxLength int
	Words     string // the rule, in words
}

// Check returns nil if the cloud takes the name.
func (r NameRule) Check(name string) error {
	if r.Pattern == nil || r.Pattern.MatchString(name) && len(name) <= r.MaxLength {
		return nil
	}
	return fmt.Errorf("the cloud takes no such name: %s", r.Words)
}

// Rule is one inbound rule: it lets an address range in to the SSH port, or to other ports.
type Rule struct {
	ID    string
	From  netip.Prefix
	Ports inbound.Ports // zero: the SSH port
	Note  string
}

// Word tells the rule from others of its group.
func (r Rule) Word() string { return inbound.Word(r.From, r.Ports) }

// Group is a group of inbound rules. What none of an instance's groups admits
// does not get through.
type Group struct {
	ID, Name string
	Own      bool // made for one instance, and for no other
	Rules    []Rule
	Members  []string // the instances that have it, by the cloud's own names
}

// SSH are the group's rules for the SSH port: by no other does anybody log in.
func (g Group) SSH() (out []Rule) {
	for _, r := range g.Rules {
		if r.Ports.SSH() {
			out = append(out, r)
		}
	}
	return out
}

// StaticAddress is an address that stays until it is released.
type StaticAddress struct {
	ID, Name, Region string
	Address          string
	Instance         string // that has it, by the cloud's own name; "" for none
}

// KeyScope is of what a cloud keeps one list of keys each.
type KeyScope string

// The scopes of lists of keys.
const (
	KeysByRegion  KeyScope = "region"
	KeysByProject KeyScope = "project"
	KeysByPerson  KeyScope = "person" // whose credentials ask
	KeysForAll    KeyScope = "all"
)

// KeyLists is what a cloud says of the lists in which it keeps public keys under names.
type KeyLists struct {
	Scope KeyScope
	Names NameRule
	Kinds []string // algorithms of the keys that it takes, as on a key's line
	Print string   // how it writes fingerprints, in words
}

// KeyList is one such list.
type KeyList struct {
	Region  string // "" for a scope other than the region
	Limit   int    // how many keys it holds; 0 if the cloud does not say
	Entries []KeyEntry
}

// KeyEntry is one key of a list.
type KeyEntry struct {
	ID, Name string
	// Fingerprint is the cloud's own word, in its own form: a claim.
	Fingerprint string
	// Public is the public half, as a line of a file of keys; "" if the cloud does not show it.
	Public string
	Added  time.Time // zero if the cloud does not say
}

// PlacedKey is a key that the cloud's own agent places for a user of an instance, again and again: whoever takes its
// line out of the file has it come back.
type PlacedKey struct {
	ID       string
	Instance string // by the cloud's own name; "" for one that is placed on every instance of the project
	User     string // whom it lets in as; "" if the cloud does not say
	Name     string
	Public   string // the public half, as a line of a file of keys
}

// Lending is a cloud's favour: its own agent takes a public key for a login user for a while, and takes it away again.
type Lending struct {
	For    time.Duration
	Images []string // that have the agent; nil for all
	// Stays: the key is a line of the user's file with an end that the SSH server keeps (expiry-time, sshd(8)), and the line stays there until somebody
	// takes it out.
	Stays bool
}

// Placing is a cloud whose own agent places keys on instances.
type Placing struct {
	Images  []string      // that carry the agent; nil for all
	Takes   time.Duration // until a key that was asked for is there
	Grant   string        // what has to be granted first, in words, where RightPlace is missing; "" for nothing
	Granted time.Duration // how long that takes to hold
}

// Properties are what differs between clouds and is no branch in our code.
type Properties struct {
	Names       NameRule
	MaxUserData int // bytes
	MaxTags     int
	// IPv6: its instances have IPv6 addresses.
	IPv6 bool
	// NoRules: it has no inbound rules. NoStaticAddresses: it has no addresses to reserve and to move. NoPrices: it has no
	// price list, and Terms says of nothing what it costs.
	NoRules, NoStaticAddresses, NoPrices bool
	// Forwards: what listens at an instance's address is a forward of its host, which takes connections also while no server runs
	// behind it.
	Forwards bool
	// HostAt is the address at which its instances reach the loopback addresses of the machine that the service runs on; "" where
	// they do not.
	HostAt string
	// Boot is how long an instance may take from its start until its SSH server answers; 0 for two minutes.
	Boot time.Duration
	// BootText: an instance runs user data that begins with "#cloud-boothook" at
	// every boot, and its user data can be changed.
	BootText bool
	// Volumes: root volumes can be detached from a stopped instance, and attached elsewhere.
	Volumes bool
	// Lends: it lends keys; nil if it does not.
	Lends *Lending
	// Images: it makes images of instances, and launches from them; nil if it does not.
	Images *Imaging
	// Places: it keeps keys for an instance, or for a whole project, which its own agent places there; nil if it does not.
	Places *Placing
	// Adds: its own agent adds a key's line to a file once, when it is asked to by PlaceKey, and UnplaceKey takes it out; nothing is kept, and
	// nothing placed again. nil if it does not.
	Adds *Placing
	// KeyLists: it keeps public keys under names, for launches; nil if it does not.
	KeyLists *KeyLists
	// RescueImage and RescueSize are what a rescue instance is launched from, in every region.
	RescueImage, RescueSize string
	// CallerURL answers whoever asks with the address that the cloud sees them
	// under, as text; "" if the cloud has no such thing.
	CallerURL string
}

// Driver is one cloud. Every method gives up when its context ends. A method
// that changes something takes a client token: called again with the same
// token it does nothing further and returns the same instance, so that an
// answer that was lost can be asked for again, and a request that comes late
// undoes nothing that was done since.
type Driver interface {
	// Name returns the word for this cloud in the ledger, such as "standin".
	Name() string
	Properties() Properties
	Regions(ctx context.Context) ([]Region, error)
	// Images and Sizes return those of a region; of all regions with "".
	Images(ctx context.Context, region string) ([]Image, error)
	Sizes(ctx context.Context, region string) ([]Size, error)

	// Launch begins a new instance and returns it in whatever state it is in.
	Launch(ctx context.Context, clientToken string, l Launch) (Instance, error)
	// ByToken returns what Launch made under a client token, or ErrNotFound.
	ByToken(ctx context.Context, clientToken string) (Instance, error)
	// Get returns one instance, or ErrNotFound.
	Get(ctx context.Context, id string) (Instance, error)
	// Stop and Start begin a change of state; Remove begins the end of the
	// instance and of its root volume. ErrNotFound from Remove means that it is gone.
	Stop(ctx context.Context, clientToken, id string) (Instance, error)
	Start(ctx context.Context, clientToken, id string) (Instance, error)
	Remove(ctx context.Context, clientToken, id string) (Instance, error)
	// BootOutput returns what the instance has printed on its console so far.
	BootOutput(ctx context.Context, id string) (string, error)
	// FirstPassword returns the first password of an instance whose image gives one, encrypted to its launch key by
	// RSAES-PKCS1-v1_5, in base64. ErrNotFound as long as there is none.
	FirstPassword(ctx context.Context, id string) (string, error)
	// List returns every instance of a region that is not removed.
	List(ctx context.Context, region string) ([]Instance, error)

	// Volumes returns the volumes that are attached to an instance; Volume returns
	// one, or ErrNotFound.
	Volumes(ctx context.Context, id string) ([]Volume, error)
	Volume(ctx context.Context, volumeID string) (Volume, error)
	// Detach begins to take a volume from its instance, and Attach to give one that
	// nobody has to an instance, under the device name; the note says for what.
	Detach(ctx context.Context, clientToken, volumeID, note string) (Volume, error)
	Attach(ctx context.Context, clientToken, volumeID, id, device, note string) (Volume, error)
	// UserData returns what an instance reads when it boots; SetUserData changes
	// that, from its next boot on, also of one that runs.
	UserData(ctx context.Context, id string) (string, error)
	SetUserData(ctx context.Context, clientToken, id, text string) error
	// Terms returns the price list, and how long changes take.
	Terms(ctx context.Context) (Terms, error)

	// Groups returns the groups of inbound rules of an instance.
	Groups(ctx context.Context, id string) ([]Group, error)
	// OwnGroup returns the group of an instance's own, and makes it if there is
	// none; it goes with the instance.
	OwnGroup(ctx context.Context, clientToken, id string) (Group, error)
	// Admit adds a rule to a group; one for the same range and ports is returned as it is.
	Admit(ctx context.Context, clientToken, groupID string, from netip.Prefix, ports inbound.Ports, note string) (Rule,
		error)
	// Unadmit takes a rule out of a group; one that is gone is no error.
	Unadmit(ctx context.Context, clientToken, groupID, ruleID string) error

	// ListKeys returns the list of keys of a region; that of the scope with "". Asked only of clouds that have
	// such lists, as are AddKey and RemoveKey.
	ListKeys(ctx context.Context, region string) (KeyList, error)
	// AddKey takes a public key into a list, under a name. The same key under the same name is returned as it is;
	// another key under it is refused. A list that is full is ErrRefused.
	AddKey(ctx context.Context, clientToken, region, name, line string) (KeyEntry, error)
	// RemoveKey takes an entry out of a list; one that is gone is no error.
	RemoveKey(ctx context.Context, clientToken, region, entryID string) error

	// PlacedKeys returns the keys that the cloud's agent places on an instance. Asked only of clouds that have such
	// keys; PlaceKey and UnplaceKey also of those whose agent adds a line once.
	PlacedKeys(ctx context.Context, id string) ([]PlacedKey, error)
	// PlaceKey has a key placed on an instance for a user. The same key again is returned as it is.
	PlaceKey(ctx context.Context, clientToken, id, user, name, line string) (PlacedKey, error)
	// UnplaceKey takes an entry off; one that is gone is no error.
	UnplaceKey(ctx context.Context, clientToken, entryID string) error

	// MakeImage begins to make an image of an instance's root volume; again with the same token it is the same one. Asked only
	// of clouds that make images, as are the others.
	MakeImage(ctx context.Context, clientToken, id, name string, tags map[string]string) (OwnImage, error)
	// OwnImage returns one. ErrNotFound.
	OwnImage(ctx context.Context, imageID string) (OwnImage, error)
	// OwnImages returns those of a region, or all with "".
	OwnImages(ctx context.Context, region string) ([]OwnImage, error)
	// RemoveImage removes one; one that is gone is no error.
	RemoveImage(ctx context.Context, clientToken, imageID string) error

	// SetGroups gives an instance these shared groups instead of those that it has; the group of its own stays. SetOutbound
	// lets out of it what leads out, or nothing. Asked only of clouds whose Imaging says that copies can begin shut, and that nothing
	// leads out of them then.
	SetGroups(ctx context.Context, clientToken, id string, groupIDs []string) error
	SetOutbound(ctx context.Context, clientToken, id string, open bool) error

	// Lend has the cloud's agent take a public key for a user of an instance for a while, and returns until when.
	// Asked only of clouds that lend. The same key again is lent anew.
	Lend(ctx context.Context, clientToken, id, user, line string) (time.Time, error)

	// StaticAddresses returns those of a region, or all with "".
	StaticAddresses(ctx context.Context, region string) ([]StaticAddress, error)
	// Reserve takes an address; again with the same token it is the same one.
	Reserve(ctx context.Context, clientToken, region, name string) (StaticAddress, error)
	// Move gives a static address to an instance, or takes it from any with "".
	// Whoever loses it gets a dynamic one, if it runs.
	Move(ctx context.Context, clientToken, addressID, id string) (StaticAddress, error)
	// Release gives an address back that no instance has. ErrNotFound means that it is gone.
	Release(ctx context.Context, clientToken, addressID string) error
}

// Package cloud says what Plum Latch asks of a cloud. A new cloud is one
// package below this one that implements Driver.
package cloud

import (
	"context"
	"errors"
	"fmt"
	"regexp"

	"plumlatch/core/wire"
)

// Errors that a Driver wraps.
var (
	// ErrNotFound: the cloud knows no such instance (any more).
	ErrNotFound = errors.New("the cloud knows no such instance")
	// ErrRefused: the cloud understood and will not; trying again is of no use.
	ErrRefused = errors.New("the cloud refused")
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
	LoginUser string // as the image decides
	DiskGB    int    // of the root volume
	Tags      map[string]string
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

// Properties are what differs between clouds and is no branch in our code.
type Properties struct {
	Names       NameRule
	MaxUserData int // bytes
	MaxTags     int
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
}

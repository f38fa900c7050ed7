package standin

import (
	"fmt"
	"slices"
	"sync"
	"time"
)

// Fault is something that goes wrong with the calls to come.
type Fault struct {
	// Call is launch, get, by-token, stop, start, remove, boot-output, list,
	// groups, own-group, admit, unadmit, addresses, reserve, move, release,
	// volumes, volume, detach, attach, user-data, set-user-data, key-entries,
	// add-key-entry, remove-key-entry, placed-keys, place-key, unplace-key or lend; or "state",
	// "volume-state": the next change of state of the instance, or of a volume of
	// it, never comes; "attach-device", "astray": under another name than asked; or
	// "umount", "fail": a filesystem of a volume of it is busy; "lent-stays",
	// "fail": the next key that is lent stays where it is; or "lent-late", "slow":
	// the agent takes it only after Delay; or "first-password", "fail": it is no
	// cipher text, "astray": it is encrypted to another key; or own-images,
	// own-image, make-image, remove-image, and "image-state", "fail": the image
	// never gets ready; or "host-keys", "fail": a copy has those of its original; or
	// "agent", "slow": the agent on it answers after Delay, "fail": it dies in the
	// middle of a verb; or "agent-away", "hang": it stays away for Delay at its next start; or
	// "unlock", "slow": an encrypted partition of its volume opens after Delay.
	Call string `json:"call"`
	// How is fail (500, and nothing is done), lose (it is done, and the
	// connection breaks before the answer), slow (it is done after Delay),
	// late (it is done after Delay, though the connection breaks at once),
	// twice (it is done twice, as when a request is repeated on its way), or
	// hang (after Delay the connection breaks, and nothing was done).
	How string `json:"how"`
	// Name is that of the instance, or the value of a tag of it; of keys the entry's name or ID, or the region; "" for any.
	Name  string `json:"name"`
	Times int    `json:"times"` // how often; 1 if 0
	Delay int    `json:"delay_ms"`
}

var (
	faultCalls = []string{"launch", "get", "by-token", "stop", "start", "remove", "boot-output", "list", "state",
		"groups", "own-group", "admit", "unadmit", "addresses", "reserve", "move", "release",
		"volumes", "volume", "detach", "attach", "user-data", "set-user-data", "volume-state",
		"attach-device", "umount", "key-entries", "add-key-entry", "remove-key-entry",
		"placed-keys", "place-key", "unplace-key", "lend", "lent-stays", "lent-late", "first-password",
		"own-images", "own-image", "make-image", "remove-image", "image-state", "host-keys", "set-groups", "outbound", "sent",
		"agent", "agent-away", "unlock"}
	faultHows = []string{"fail", "lose", "slow", "late", "twice", "hang", "astray"}
)

type faults struct {
	mu      sync.Mutex
	waiting []Fault
}

func (f *faults) add(x Fault) error {
	if !slices.Contains(faultCalls, x.Call) ||
		x.Call != "state" && x.Call != "volume-state" && !slices.Contains(faultHows, x.How) {
		return fmt.Errorf("%w: a fault has a call of %v and a how of %v", ErrInvalid, faultCalls, faultHows)
	}
	f.mu.Lock()
	defer f.mu.Unlock()
	x.Times = max(x.Times, 1)
	f.waiting = append(f.waiting, x)
	return nil
}

// clear forgets the faults of the instance called name; all if "".
func (f *faults) clear(name string) {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.waiting = slices.DeleteFunc(f.waiting, func(x Fault) bool { return name == "" || x.Name == name })
}

// left returns the faults that no call has met, or met less often than was asked.
func (f *faults) left() []Fault {
	f.mu.Lock()
	defer f.mu.Unlock()
	return append([]Fault{}, f.waiting...)
}

// take returns the fault that a call meets, and uses it up.
func (f *faults) take(call string, names ...string) (Fault, bool) {
	f.mu.Lock()
	defer f.mu.Unlock()
	for i := range f.waiting {
		x := &f.waiting[i]
		if x.Call != call || x.Name != "" && !slices.Contains(names, x.Name) {
			continue
		}
		out := *x
		if x.Times--; x.Times == 0 {
			f.waiting = slices.Delete(f.waiting, i, i+1)
		}
		return out, true
	}
	return Fault{}, false
}

func (f Fault) wait() { time.Sleep(time.Duration(f.Delay) * time.Millisecond) }

package access

import (
	"cmp"
	"slices"
)

// Follow is one instance that a lost or exposed key opens, or may open.
type Follow struct {
	Door   Door
	Key    DoorKey
	Others []string // keys that open it besides, for people
	Why    string   // it stands where it does in the order
	order  int
}

// Follows says which doors a key opens, by its fingerprint: those that have
// another opener for people, in the order in which to shut them, and those that
// have none. A door that it is known not to open any more is left out. Keys that
// are as good as exposed too, by their fingerprints, are no other openers.
func Follows(doors []Door, fingerprint string, too ...string) (others, none []Follow) {
	for _, d := range doors {
		var f *Follow
		open := map[string]bool{}
		for _, k := range d.Keys {
			if k.Fingerprint != fingerprint || k.Steward {
				if ok, _ := k.WayIn(); ok && !slices.Contains(too, k.Fingerprint) {
					open[k.Key] = true
				}
				continue
			}
			if !k.gone() && (f == nil || k.Standing > f.Key.Standing) {
				f = &Follow{Door: d, Key: k}
			}
		}
		if f == nil {
			continue
		}
		for name := range open {
			f.Others = append(f.Others, name)
		}
		slices.Sort(f.Others)
		f.weigh()
		if len(f.Others) > 0 {
			others = append(others, *f)
		} else {
			none = append(none, *f)
		}
	}
	for _, all := range [][]Follow{others, none} {
		slices.SortStableFunc(all, func(a, b Follow) int {
			return cmp.Or(a.order-b.order, cmp.Compare(a.Door.Name, b.Door.Name))
		})
	}
	return others, none
}

// weigh puts first what somebody with the key can get into most surely.
func (f *Follow) weigh() {
	sure := f.Key.Standing >= Accepted && !f.Key.Old
	switch {
	case f.Key.There != nil && f.Key.There.Limits == Command:
		f.order, f.Why = 4, "its line runs one command only"
	case sure && f.Door.World != "":
		f.order, f.Why = 0, "it is known to be taken, and the whole world may knock"
	case sure:
		f.order, f.Why = 1, "it is known to be taken"
	case f.Key.There != nil:
		f.order, f.Why = 2, "it stands in the files"
	default:
		f.order, f.Why = 3, "it is on record; nobody has looked lately"
	}
	if !f.Door.Running {
		f.order, f.Why = f.order+10, f.Why+"; the instance does not run"
	}
}

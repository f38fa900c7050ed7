package restore

import (
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"plumlatch/service/cloud"
	"plumlatch/service/door"
	"plumlatch/service/store"
)

// The parts of a restore of many that go by the disk share one rescue instance in
// each zone. Whichever part needs it first launches it; each gives it back when
// its own volume is home; the whole removes it, at its end or on its way back.

// shareTime is how much later a shared rescue instance's account shuts for each part.
const shareTime = 10 * time.Minute

// shareLeft is how much of that time must be left for a part to begin.
const shareLeft = time.Hour

// shares tells whether this is a part of a restore of many that is at hand: one
// that is taken up again later is on its own.
func (r *restoreJob) shares() (bool, error) {
	if r.Work.ParentID == 0 {
		return false, nil
	}
	whole, err := r.Store.WorkByID(r.Ctx, r.Work.ParentID)
	return err == nil && whole.Kind == "restore-many" && !whole.Over() && !whole.Back, err
}

// takeShared has the shared rescue instance to itself for a while, and launches it
// if nobody has.
func (r *restoreJob) takeShared(c cloud.Instance) error {
	for range 3 {
		row, at, err := r.haveShared(c)
		if errors.Is(err, store.ErrInProgress) {
			if at.Name == "" {
				at.Name = "the one"
			}
			return r.svc.rescueBusy(r.Run, fmt.Sprintf("%s of work %d", at.Name, r.Work.ParentID))
		}
		if err != nil {
			return err
		}
		fresh := at.Address == ""
		if !fresh {
			good, err := r.stillGood(at)
			if err != nil {
				return err
			}
			if !good {
				if err := r.Store.SpoilShared(r.Ctx, row.ID); err != nil { // it goes with the whole
					return err
				}
				continue
			}
		}
		// Before anything is asked for: going back has to know of it.
		now, err := r.Store.Now(r.Ctx)
		if err != nil {
			return err
		}
		x := r.D.Restore
		x.Rescue = at
		x.Rescue.Shared, x.Rescue.KeyOf, x.Rescue.HadAt, x.Rescue.Address = row.ID, r.Work.ParentID, &now, ""
		if err := r.Keep(); err != nil {
			return err
		}
		tags, err := r.sharedTags()
		if err != nil {
			return err
		}
		err = r.launchRescue(c, &at, tags, row.Token,
			func() error { return r.Store.KeepShared(r.Ctx, row.ID, at.CloudID, at) })
		if err != nil {
			if _, no := errors.AsType[door.Failure](err); no || errors.Is(err, cloud.ErrRefused) {
				err = errors.Join(err, r.Store.SpoilShared(r.Ctx, row.ID)) // the next part has another
			}
			return err
		}
		x.Rescue.CloudID, x.Rescue.Address, x.Rescue.Port, x.Rescue.HostKeys = at.CloudID, at.Address,
			at.Port, at.HostKeys
		if err := r.Keep(); err != nil {
			return err
		}
		if fresh {
			return r.Say("%s was launched for all of work %d, and takes this volume first", at.Name, r.Work.ParentID)
		}
		return r.Say("%s of work %d takes the volume now", at.Name, r.Work.ParentID)
	}
	return door.Failf("the rescue instances that work %d launches are stopped or removed by somebody else",
		r.Work.ParentID)
}

// sharedTags tell, at the cloud, for what a shared rescue instance is there.
func (r *restoreJob) sharedTags() (map[string]string, error) {
	whole, err := r.Store.WorkByID(r.Ctx, r.Work.ParentID)
	if err != nil {
		return nil, err
	}
	var in struct { // of the input of the restore of many that this is a part of
		Restore *struct{ Key string }
	}
	if err := door.Decode(whole.Input, &in); err != nil {
		return nil, err
	}
	out := map[string]string{"plumlatch-work": fmt.Sprint(whole.ID)}
	if in.Restore != nil {
		out["plumlatch-origin"] = "key " + in.Restore.Key
	}
	return out, nil
}

// haveShared takes the row of the shared rescue instance, with its settings made.
func (r *restoreJob) haveShared(c cloud.Instance) (row store.SharedRescue, at rescueAt, err error) {
	row, err = r.Store.TakeShared(r.Ctx, r.Work.ParentID, r.Work.ID, c.Region, c.Zone, door.Token(26))
	if row.At != "" {
		if bad := json.Unmarshal([]byte(row.At), &at); bad != nil {
			return row, at, bad
		}
	}
	if err != nil || at.Asked {
		return row, at, err
	}
	waves, err := r.Store.Waves(r.Ctx, r.Work.ParentID)
	if err != nil {
		return row, at, err
	}
	parts := 0
	for _, v := range waves {
		parts += v.All
	}
	at, err = r.rescueSettings(c, r.Work.ParentID, fmt.Sprintf("rescue-w%d-%d", r.Work.ParentID, row.ID),
		rescueEnds+time.Duration(parts)*shareTime)
	return row, at, err
}

// stillGood tells whether a shared rescue instance runs, and stays open for long enough.
func (r *restoreJob) stillGood(at rescueAt) (bool, error) {
	now, err := r.Store.Now(r.Ctx)
	if err != nil || at.Ends.Sub(now) < shareLeft {
		return false, err
	}
	in, err := r.Get(at.CloudID)
	if errors.Is(err, cloud.ErrNotFound) {
		return false, nil
	}
	return err == nil && in.State == cloud.Running && in.Address == at.Address, err
}

// giveShared gives it back, and removes it if nobody is to have it after this.
func (r *restoreJob) giveShared(x *restored) error {
	row, err := r.Store.SharedByID(r.Ctx, x.Rescue.Shared)
	if err != nil || row.GoneAt != nil {
		return err
	}
	if err := r.notAt(x, x.Rescue.CloudID); err != nil {
		return err
	}
	whole, err := r.Store.WorkByID(r.Ctx, r.Work.ParentID)
	if err != nil || !whole.Over() && !row.Spoilt || row.PartID != r.Work.ID && row.PartID != 0 {
		return err
	}
	if err := r.svc.RemoveShared(r.Run, row); err != nil {
		return err
	}
	left, err := r.Store.SharedLeft(r.Ctx, whole.ID)
	if err != nil || !whole.Over() || len(left) > 0 {
		return err
	}
	return r.Store.DropWorkKey(r.Ctx, whole.ID)
}

// RemoveShared removes a shared rescue instance, also one whose launch was not
// answered; not while a volume is at it.
func (w *Service) RemoveShared(r *door.Run, row store.SharedRescue) (err error) {
	var at rescueAt
	if err := json.Unmarshal([]byte(row.At), &at); err != nil {
		return err
	}
	// The whole has no instance, and so no cloud of its own.
	was := r.Cloud
	defer func() { r.Cloud = was }()
	if r.Cloud, err = r.Clouds.Still(r.Ctx, row.Region); err != nil {
		return err
	}
	if at.CloudID == "" && at.Asked {
		if at.CloudID, err = w.lostRescue(r, row.Token); err != nil {
			return err
		}
	}
	if at.CloudID != "" {
		parts, err := r.Store.PartVolumes(r.Ctx, row.WorkID)
		if err != nil {
			return err
		}
		for _, p := range parts {
			v, err := w.volume(r, p.Volume)
			if errors.Is(err, cloud.ErrNotFound) {
				continue
			}
			if err != nil {
				return err
			}
			if v.Instance == at.CloudID {
				return door.Failf("the rescue instance %s stays: volume %s of %s is still at it (plumlatch work show %d)", at.Name, p.Volume, p.Instance, p.WorkID)
			}
		}
		if err := w.removeRescue(r, at.CloudID, row.Token+"-remove"); err != nil {
			return err
		}
	}
	return r.Store.SharedGone(r.Ctx, row.ID)
}

// ManyLeft is what a restore of many keeps: what it could not close.
type ManyLeft struct {
	Left []string `json:"left,omitempty"`
}

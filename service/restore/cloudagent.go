package restore

import (
	"context"
	"errors"
	"fmt"
	"slices"

	"plumlatch/core/access"
	"plumlatch/reach"
	"plumlatch/service/cloud"
	"plumlatch/service/door"
	"plumlatch/service/store"
)

// The cloud's own agent sets the new key. It goes on doing so after the restore, as with "access place": the entry at the cloud is what lets the key
// in, and not a line of ours.

// setKey has the cloud set it, always under one token, so that it is one entry.
func (r *restoreJob) setKey() error {
	if r.InstanceGone() {
		return door.Failf("the instance is gone")
	}
	k, err := r.Store.KeyByID(r.Ctx, r.In.NewID)
	if err != nil {
		return err
	}
	x := r.D.Restore
	if !x.SetAsked {
		has, err := r.IsPlaced(k)
		if err != nil {
			return err
		}
		if has {
			return door.Failf("the cloud sets %s there already; if its server does not take it, the cloud's agent does not run there", r.In.New)
		}
		x.SetAsked = true
		if err := r.Keep(); err != nil {
			return err
		}
	}
	if err := r.Effect("set", func(ctx context.Context) error { return r.askToSet(ctx, k) }); err != nil {
		return err
	}
	r.D.File = door.FilesOf(r.Instance)[0]
	return r.recordSet()
}

func (r *restoreJob) askToSet(ctx context.Context, k store.Key) error {
	entry, err := r.SetByCloud(ctx, r.TokenOf("set-key", "set"), k)
	if err != nil {
		return err
	}
	r.D.Restore.SetEntry = entry
	return r.Keep()
}

// recordSet records the access of the new key: the cloud's agent places it, and no line of it is ours. Where it adds the line once, that is one
// as any other from then on.
func (r *restoreJob) recordSet() error {
	once := r.Cloud.Properties().Adds != nil
	id, err := r.Store.Place(r.Ctx, r.Instance.ID, r.In.NewID, r.Instance.LoginUser, "the cloud's agent", once)
	if err != nil {
		return err
	}
	r.D.Added = r.D.Added || r.D.NewAccess == 0
	r.D.NewAccess = id
	return r.Keep()
}

// unsetKey has the cloud keep it no more, unless it is the only way in that is seen.
func (r *restoreJob) unsetKey() error {
	x := r.D.Restore
	if !x.SetAsked {
		return nil
	}
	k, err := r.Store.KeyByID(r.Ctx, r.In.NewID)
	if err != nil {
		return err
	}
	rows, err := r.Store.AccessesOf(r.Ctx, r.Instance.ID)
	if err != nil {
		return err
	}
	if r.D.NewAccess == 0 { // it was recorded, and that was not kept
		if n := slices.IndexFunc(rows, func(a store.Access) bool { return a.KeyID == k.ID && a.LoginUser == r.Instance.LoginUser }); n >= 0 {
			r.D.NewAccess, r.D.Added = rows[n].ID, true
		}
	}
	if r.InstanceGone() {
		return r.DropNew()
	}
	if stays, err := r.onlySet(rows); err != nil || stays {
		if err == nil {
			stays := fmt.Sprintf("the cloud goes on setting %s there", r.In.New)
			if r.Cloud.Properties().Adds != nil {
				stays = fmt.Sprintf("the line of %s that the cloud's agent has added stays there", r.In.New)
			}
			x.Left = append(x.Left, fmt.Sprintf("%s, as it is the only key of a person that the server is seen to take: plumlatch access remove %s -key %s",
				stays, r.Instance.Name, r.In.New))
			err = r.Keep()
		}
		return err
	}
	err = r.Effect("unset", func(ctx context.Context) error {
		if x.SetEntry == "" { // asked once more under its token, it cannot come late
			if err := r.askToSet(ctx, k); err != nil {
				if no, ok := errors.AsType[door.Failure](err); ok && no.Reason != "" {
					return nil // it was refused, so there is none
				}
				return err
			}
		}
		_, err := door.Asked(ctx, r.Run, func(ctx context.Context) (struct{}, error) {
			return struct{}{}, r.Cloud.UnplaceKey(ctx, r.ClientToken("unset"), x.SetEntry)
		})
		return err
	})
	if err != nil && !errors.Is(err, cloud.ErrNotFound) {
		return err
	}
	if err := r.seeUnset(k); err != nil {
		return err
	}
	return r.DropNew()
}

// onlySet tells whether the server takes the key, and no other of a person's that it took before.
func (r *restoreJob) onlySet(rows []store.Access) (bool, error) {
	if r.D.NewAccess == 0 || r.Instance.State != string(cloud.Running) {
		return false, nil
	}
	var others []int64
	for _, a := range rows {
		if a.ID != r.D.NewAccess && !a.Steward && a.OfPerson() && a.OutOfUse() == "" && a.LoginUser == r.Instance.LoginUser &&
			(a.Standing == access.Accepted.String() || a.Standing == access.Proven.String()) {
			others = append(others, a.ID)
		}
	}
	answers, err := r.AskServer(append([]int64{r.D.NewAccess}, others...)...)
	if err != nil {
		return false, err
	}
	return answers[r.D.NewAccess] == reach.Accepted && !slices.ContainsFunc(others, func(id int64) bool { return answers[id] == reach.Accepted }), nil
}

// seeUnset waits a while until the agent has taken the line out again. One that stays is said.
func (r *restoreJob) seeUnset(k store.Key) error {
	if r.D.NewAccess == 0 || r.Instance.State != string(cloud.Running) {
		return nil
	}
	answer, err := r.SeeOff(k)
	if err != nil || answer == reach.Refused {
		return err
	}
	r.D.Restore.Left = append(r.D.Restore.Left, fmt.Sprintf("the cloud keeps %s for it no more, and whether its line is out is not seen (%s): plumlatch survey %s", r.In.New, answer,
		r.Instance.Name))
	return r.Keep()
}

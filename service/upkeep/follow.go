package upkeep

import (
	"context"
	"errors"
	"slices"
	"time"

	"plumlatch/service/cloud"
	"plumlatch/service/door"
	"plumlatch/service/store"
)

// followEvery is how often the cloud is asked what has changed without us.
const followEvery = 30 * time.Second

// followLoop has the ledger follow what the cloud does by itself, or by
// somebody else's hand: states and addresses.
func (w *Service) followLoop() {
	for {
		select {
		case <-w.Base().Done():
			return
		case <-time.After(w.FollowEvery):
		}
		if err := w.followAll(w.Base()); err != nil && w.Base().Err() == nil {
			w.Log.Warn("the cloud was not followed", "error", door.Words(err))
		}
	}
}

// followAll follows every cloud: one that does not answer holds up no other.
func (w *Service) followAll(ctx context.Context) (err error) {
	for _, c := range w.Clouds.All() {
		err = errors.Join(err, w.followOne(ctx, c))
	}
	return errors.Join(err, w.JudgeRest(ctx))
}

func (w *Service) followOne(ctx context.Context, c cloud.Driver) error {
	regions, err := c.Regions(ctx)
	if err != nil {
		return err
	}
	for _, region := range regions {
		all, err := c.List(ctx, region.Name)
		if err != nil {
			return err
		}
		if err := w.discover(ctx, c.Name(), region.Name, all); err != nil {
			return err
		}
		byID := map[string]cloud.Instance{}
		var ids []string
		for _, in := range all {
			byID[in.ID] = in
			ids = append(ids, in.ID)
		}
		for chunk := range slices.Chunk(ids, 1000) {
			known, err := w.Store.InstancesOf(ctx, c.Name(), chunk)
			if err != nil {
				return err
			}
			for _, i := range known {
				in := byID[i.CloudID]
				if i.Phase == store.Ready && (i.Address != in.Address || i.State != string(in.State)) {
					if _, err := w.Network.Refresh(ctx, store.Service, i); err != nil {
						w.Log.Warn("an instance was not followed", "instance", i.Name, "error", door.Words(err))
					}
				}
			}
		}
	}
	return nil
}

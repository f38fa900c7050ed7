package keylists

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"sync"
	"time"

	"plumlatch/core/access"
	"plumlatch/core/keypair"
	"plumlatch/reach"
	"plumlatch/service/cloud"
	"plumlatch/service/door"
	"plumlatch/service/store"
	"plumlatch/service/work"
)

// A key that the cloud's agent places on every instance of a project cannot be taken off one of them. So it is kept for each
// instance by itself first, and then for the project no more: nobody's file changes by that, and a withdrawal from one instance
// takes off what is kept for that one. An instance that is launched later does not get the key any more.

// split is what its steps keep.
//
//lint:ignore U1000 it is used, as an argument of Job
type split struct {
	Each  []string `json:"each,omitempty"`  // instances that it is kept for by this work, as the cloud calls them
	Known []string `json:"known,omitempty"` // all that were looked at
	Asked bool     `json:"asked,omitempty"` // the cloud was asked to keep it for the project no more
}

type splitJob struct {
	door.Job[door.Splitting, split]
	svc *Service
}

func (w *Service) splitKind() *work.Kind {
	var steps door.Family[*splitJob] = func() *splitJob { return &splitJob{svc: w} }
	return &work.Kind{
		Name: door.SplitKind, Action: "cloud-key.split",
		Steps: []work.Step{
			{Name: "each", Title: "having the cloud keep the key for each instance", Do: steps.Do((*splitJob).each),
				Effects: []string{"keep"}, Undo: steps.Do((*splitJob).eachBack), UndoEffects: []string{"take-off"}},
			{Name: "project", Title: "having the cloud keep it for the project no more", Do: steps.Do((*splitJob).project),
				Effects: []string{"take-off"}, Undo: steps.Do((*splitJob).projectBack), UndoEffects: []string{"keep"}},
			{Name: "see", Title: "asking the servers whether they take it as before", Do: steps.Do((*splitJob).see)},
		},
		End: steps.End(func(r *splitJob, state store.WorkState) (store.WorkEnd, error) {
			end := store.WorkEnd{Target: "cloud-key " + r.In.Name}
			if state != store.Done {
				end.Outcome = r.TookBack(state, "the cloud keeps it for the project as before")
				return end, nil
			}
			end.Outcome = fmt.Sprintf("the cloud keeps %s for each of %d instances by itself, and for the project no more; one that is launched "+
				"later does not get it", r.In.Name, len(r.D.Each))
			return end, nil
		}),
	}
}

// of is the cloud whose entry it is.
func (r *splitJob) of() cloud.Driver {
	for _, c := range r.Clouds.All() {
		if r.In.Cloud == "" && c.Properties().Places != nil { // begun when a service had one cloud
			return c
		}
	}
	return r.Clouds.Named(r.In.Cloud)
}

// token names what is asked for an instance.
func (r *splitJob) token(instance string) string { return r.TokenOf("each", "each-"+instance) }

// each has the cloud keep the key for each instance that it places it on for the project.
func (r *splitJob) each() error {
	if err := r.look(); err != nil {
		return err
	}
	return r.Effect("keep", func(ctx context.Context) error { return r.keepEach(ctx) })
}

// look finds the instances on which the entry has the key placed, and which have none of their own.
func (r *splitJob) look() error {
	regions, err := r.of().Regions(r.Ctx)
	if err != nil {
		return err
	}
	var fresh []string
	for _, region := range regions {
		all, err := door.Asked(r.Ctx, r.Run, func(ctx context.Context) ([]cloud.Instance, error) { return r.of().List(ctx, region.Name) })
		if err != nil {
			return err
		}
		for _, in := range all {
			if in.State != cloud.Removed && in.State != cloud.Removing && !slices.Contains(r.D.Known, in.ID) {
				fresh = append(fresh, in.ID)
			}
		}
	}
	onto := make([]bool, len(fresh))
	problems := make([]error, len(fresh))
	slots := make(chan struct{}, atOnce)
	var wait sync.WaitGroup
	for n, id := range fresh {
		wait.Go(func() {
			slots <- struct{}{}
			defer func() { <-slots }()
			onto[n], problems[n] = r.placedByProject(id)
		})
	}
	wait.Wait()
	if err := errors.Join(problems...); err != nil {
		return err
	}
	for n, id := range fresh {
		r.D.Known = append(r.D.Known, id)
		if onto[n] {
			r.D.Each = append(r.D.Each, id)
		}
	}
	return r.SetData(r.D)
}

// placedByProject tells whether the key comes to an instance by the project's entry, and by none of its own. Once that entry is gone
// the cloud does not tell: an instance that has come since is taken for one.
func (r *splitJob) placedByProject(id string) (bool, error) {
	all, err := door.Asked(r.Ctx, r.Run, func(ctx context.Context) ([]cloud.PlacedKey, error) { return r.of().PlacedKeys(ctx, id) })
	if errors.Is(err, cloud.ErrNotFound) {
		return false, nil
	}
	if err != nil {
		return false, err
	}
	key, err := keypair.ReadPublic([]byte(r.In.Line))
	if err != nil {
		return false, door.Failure{Reason: door.Words(err)}
	}
	its := slices.ContainsFunc(all, func(p cloud.PlacedKey) bool { return p.Instance == id && door.Places(p, key.Blob, r.In.User) })
	byProject := slices.ContainsFunc(all, func(p cloud.PlacedKey) bool { return p.ID == r.In.Entry })
	return (byProject || r.D.Asked) && !its, nil
}

// keepEach asks for each instance, always under one token, so that it is one entry.
func (r *splitJob) keepEach(ctx context.Context) error {
	for _, id := range r.D.Each {
		switch _, err := r.keepFor(ctx, r.token(id), id); {
		case errors.Is(err, cloud.ErrNotFound): // it was removed meanwhile
		case errors.Is(err, cloud.ErrRefused):
			return door.Failf("the cloud does not keep it for %s alone: %s", id, door.Words(err))
		case err != nil:
			return err
		}
		if err := r.Stopping(); err != nil {
			return err
		}
	}
	return nil
}

func (r *splitJob) keepFor(ctx context.Context, token, id string) (cloud.PlacedKey, error) {
	return door.Asked(ctx, r.Run, func(ctx context.Context) (cloud.PlacedKey, error) {
		return r.of().PlaceKey(ctx, token, id, r.In.User, r.In.Name, r.In.Line)
	})
}

// project has the cloud keep it for the project no more. Instances that have come since are looked for before and after.
func (r *splitJob) project() error {
	for _, after := range []bool{false, true} {
		if after {
			if err := r.Effect("take-off", func(ctx context.Context) error { return r.takeOff(ctx, r.ClientToken("project"), r.In.Entry) }); err != nil {
				return err
			}
		}
		if err := r.look(); err != nil {
			return err
		}
		if err := r.keepEach(r.Ctx); err != nil {
			return err
		}
		if r.D.Asked = true; !after {
			if err := r.SetData(r.D); err != nil {
				return err
			}
		}
	}
	return nil
}

func (r *splitJob) takeOff(ctx context.Context, token, entry string) error {
	_, err := door.Asked(ctx, r.Run, func(ctx context.Context) (struct{}, error) {
		return struct{}{}, r.of().UnplaceKey(ctx, token, entry)
	})
	if errors.Is(err, cloud.ErrNotFound) {
		return nil
	}
	return err
}

// projectBack has the cloud keep it for the project again.
func (r *splitJob) projectBack() error {
	if !r.D.Asked {
		return nil
	}
	if err := r.Effect("keep", func(ctx context.Context) error {
		_, err := r.keepFor(ctx, r.ClientToken("project-again"), "")
		return err
	}); err != nil {
		return err
	}
	r.D.Asked = false
	return r.SetData(r.D)
}

// eachBack takes off what this work has had kept for each instance, once the project has it again.
func (r *splitJob) eachBack() error {
	return r.Effect("take-off", func(ctx context.Context) error {
		for len(r.D.Each) > 0 {
			id := r.D.Each[len(r.D.Each)-1]
			// Asked once more under its token, it cannot come late; one that was refused or is gone has none.
			p, err := r.keepFor(ctx, r.token(id), id)
			if err == nil {
				err = r.takeOff(ctx, r.ClientToken("each-back-"+id), p.ID)
			}
			if err != nil && !errors.Is(err, cloud.ErrNotFound) && !errors.Is(err, cloud.ErrRefused) {
				return err
			}
			r.D.Each = r.D.Each[:len(r.D.Each)-1]
			if len(r.D.Each)%100 == 0 {
				if err := r.SetData(r.D); err != nil {
					return err
				}
			}
		}
		r.D.Known = nil
		return r.SetData(r.D)
	})
}

// agentLimit is how long an agent may need until a server takes the key as before.
const agentLimit = time.Minute

// see asks the servers of the ledger's instances that took the key before. One that does not take it any more has all of it go back.
func (r *splitJob) see() error {
	p, err := keypair.ReadPublic([]byte(r.In.Line))
	if err != nil {
		return door.Failure{Reason: door.Words(err)}
	}
	k, err := r.Store.KeyByFingerprint(r.Ctx, p.Fingerprint())
	if errors.Is(err, store.ErrNotFound) {
		return r.Say("no key of the ledger is placed there: no server was asked")
	}
	if err != nil {
		return err
	}
	rows, err := r.Store.AccessesOfKey(r.Ctx, k.ID)
	if err != nil {
		return err
	}
	taken, unseen := 0, 0
	for deadline := time.Now().Add(min(agentLimit, r.StateLimit)); ; {
		var lost []string
		taken, unseen = 0, 0
		for _, a := range rows {
			if a.Standing != access.Accepted.String() && a.Standing != access.Proven.String() {
				continue
			}
			i, err := r.Store.InstanceByID(r.Ctx, a.InstanceID)
			if err != nil || !slices.Contains(r.D.Each, i.CloudID) || i.State != string(cloud.Running) {
				if err != nil {
					return err
				}
				continue
			}
			i.LoginUser = a.LoginUser
			t, err := r.Target(r.Ctx, i)
			if err != nil || len(t.HostKeys) == 0 {
				unseen++
				continue
			}
			switch r.AskWithin(r.Ctx, door.Soon, t, [][]byte{p.Blob})[0].Answer {
			case reach.Accepted:
				taken++
			case reach.Refused:
				lost = append(lost, i.Name)
			default:
				unseen++
			}
			if err := r.Stopping(); err != nil {
				return err
			}
		}
		if len(lost) == 0 {
			break
		}
		if time.Now().After(deadline) {
			return door.Failf("%s: the server does not take %s any more, so the project has it again", lost[0], k.Name)
		}
		r.Sleep(4 * door.Poll)
	}
	said := ""
	if unseen > 0 {
		said = fmt.Sprintf("; of %d it was not seen", unseen)
	}
	return r.Say("%d servers that took %s were asked, and take it%s", taken, k.Name, said)
}

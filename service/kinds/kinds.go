// Package kinds wires the service: it gives the engine of service/work every kind of work
// that there is, and starts what goes on by itself. A new kind stands in the package that it
// belongs to, and in the list of that package's Kinds.
package kinds

import (
	"context"
	"errors"

	"plumlatch/service/accesses"
	"plumlatch/service/agents"
	"plumlatch/service/cloud"
	"plumlatch/service/door"
	"plumlatch/service/fleet"
	"plumlatch/service/inside"
	"plumlatch/service/keylists"
	"plumlatch/service/lifecycle"
	"plumlatch/service/network"
	"plumlatch/service/restore"
	"plumlatch/service/streams"
	"plumlatch/service/survey"
	"plumlatch/service/upkeep"
	"plumlatch/service/work"
)

// Worker is the service without its API.
type Worker struct {
	Door      *door.Service
	Survey    *survey.Service
	Lifecycle *lifecycle.Service
	Network   *network.Service
	KeyLists  *keylists.Service
	Inside    *inside.Service
	Accesses  *accesses.Service
	Restore   *restore.Service
	Fleet     *fleet.Service
	Upkeep    *upkeep.Service
	Agents    *agents.Service
	Streams   *streams.Service

	// Book is a keybook on this disk that is followed; nil for none.
	Book *fleet.Following
}

// New wires a service. surveysAtOnce is how many instances this replica surveys at one time
// by itself; with 0 it surveys none, and looks for nothing else that is due on instances.
func New(d *door.Service, surveysAtOnce int) *Worker {
	w := &Worker{Door: d, Survey: survey.New(d, surveysAtOnce)}
	w.Lifecycle = &lifecycle.Service{Service: w.Survey}
	w.Network = &network.Service{Service: w.Survey}
	w.KeyLists = &keylists.Service{Service: d}
	w.Accesses = &accesses.Service{Service: w.Survey}
	w.Inside = &inside.Service{Service: w.Accesses}
	w.Restore = &restore.Service{Service: w.Accesses, Lifecycle: w.Lifecycle, Network: w.Network}
	w.Fleet = &fleet.Service{Service: w.Restore, KeyLists: w.KeyLists}
	w.Upkeep = &upkeep.Service{Service: w.Restore, KeyLists: w.KeyLists}
	w.Agents = &agents.Service{Service: w.Survey}
	w.Streams = &streams.Service{Service: d, Agents: w.Agents}
	d.Over = w.Agents.Over
	w.Lifecycle.Agents, w.Restore.Agents = w.Agents, w.Agents
	return w
}

// Kinds returns every kind of work that there is.
func (w *Worker) Kinds() []*door.Kind {
	var all []*door.Kind
	for _, some := range [][]*door.Kind{w.Fleet.Kinds(), w.Restore.Kinds(), w.Lifecycle.Kinds(), w.Network.Kinds(),
		w.Survey.Kinds(), w.Accesses.Kinds(), w.KeyLists.Kinds(), w.Inside.Kinds()} {
		all = append(all, some...)
	}
	return all
}

// Halts returns the name of every point at which the harness can halt a service.
func Halts() []string { return work.Halts((&door.Service{}).Register(New(&door.Service{}, 0).Kinds())) }

// Start begins to carry out what is queued, and what others left; and the upkeep.
func (w *Worker) Start(ctx context.Context) error {
	d := w.Door
	if d.StateLimit == 0 {
		d.StateLimit = door.StateLimit
	}
	d.Engine = &work.Engine{Ledger: d.Store, Log: d.Log, Lease: d.Lease, Halt: d.Halt, Final: func(err error) bool {
		return errors.Is(err, cloud.ErrRefused) || errors.Is(err, cloud.ErrFailed) || errors.Is(err, cloud.ErrNotFound)
	}}
	if err := d.Engine.Start(ctx, d.Register(w.Kinds())...); err != nil {
		return err
	}
	d.Lease = d.Engine.Lease
	w.Survey.Start()
	w.Upkeep.Start()
	w.Streams.Start()
	if w.Book != nil {
		d.Engine.Go(func() { w.Fleet.Follow(w.Book) })
	}
	return nil
}

// Close lays down the work at hand, for any replica to go on with at once, and waits until
// that is done.
func (w *Worker) Close() {
	w.Streams.Close() // before the agents, which carry some
	w.Agents.Close()
	w.Door.Engine.Close()
}

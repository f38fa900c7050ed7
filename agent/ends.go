package agent

import (
	"context"
	"encoding/json"
	"errors"
	"io/fs"
	"os"
	"slices"
	"sync"
	"time"

	"plumlatch/core/plaintext"
)

// An end that the agent keeps itself: it comes whether the service is there or not. The system alone would end an account from the day after on,
// and what runs already would go on.

// end is that of an account which was made by this agent.
type end struct {
	User string    `json:"user"`
	At   time.Time `json:"at"`
	// UID and Day are the account's number, and the day of its own end, as it was made (shadow(5)). Where either is another one by then, somebody has
	// made another account of that name, or has given this one another end: it is left alone.
	UID int `json:"uid"`
	Day int `json:"day"`
}

var endsLock sync.Mutex

// endsEvery is how often the ends are looked at.
var endsEvery = 20 * time.Second

func (p Paths) ends() (all []end, err error) {
	data, err := os.ReadFile(p.at(StateDir + "/ends.json"))
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err == nil {
		err = json.Unmarshal(data, &all)
	}
	return all, err
}

// changeEnds changes the list of ends, flushed.
func (p Paths) changeEnds(change func([]end) []end) error {
	endsLock.Lock()
	defer endsLock.Unlock()
	all, err := p.ends()
	if err != nil {
		return err
	}
	data, err := json.Marshal(change(all))
	if err == nil {
		err = p.write("ends.json", data)
	}
	return err
}

// keepEnd adds an end, or takes that of a user away, if at is the zero time.
func (p Paths) keepEnd(user string, uid, day int, at time.Time) error {
	return p.changeEnds(func(all []end) []end {
		all = slices.DeleteFunc(all, func(e end) bool { return e.User == user })
		if !at.IsZero() {
			all = append(all, end{User: user, At: at, UID: uid, Day: day})
		}
		return all
	})
}

// keepEnds carries the ends out as they come, until ctx ends. What fails is tried again.
func (a *Agent) keepEnds(ctx context.Context) {
	for {
		all, err := a.Paths.ends()
		if err != nil {
			a.Log.Error("the ends that are kept here cannot be read", "error", err)
		}
		for _, e := range all {
			if time.Now().Before(e.At) {
				continue
			}
			err := a.machine().End(ctx, e.User, e.UID, e.Day)
			if err == nil {
				err = a.Paths.changeEnds(func(all []end) []end { return slices.DeleteFunc(all, func(x end) bool { return x == e }) })
			}
			if err != nil {
				a.Log.Error("an account could not be ended", "user", e.User, "error", plaintext.Line(plaintext.Cut(err.Error(), 300)))
			} else {
				a.Log.Info("an account has come to its end", "user", e.User, "at", e.At.UTC().Format(time.RFC3339))
			}
		}
		select {
		case <-ctx.Done():
			return
		case <-time.After(endsEvery):
		}
	}
}

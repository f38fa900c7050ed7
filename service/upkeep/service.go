// Package upkeep has what goes on by itself: it chains the journal, judges what has changed,
// follows what the clouds do without us, and keeps ends that no work keeps.
package upkeep

import (
	"context"

	"plumlatch/service/accesses"
	"plumlatch/service/keylists"
	"plumlatch/service/restore"
)

// Service keeps the ledger true, and what time asks for done.
type Service struct {
	*restore.Service
	KeyLists *keylists.Service
}

// Start begins with all of it.
func (w *Service) Start() {
	if w.FollowEvery == 0 {
		w.FollowEvery = followEvery
	}
	if w.FollowEvery > 0 {
		w.Engine.Go(w.followLoop)
		w.Engine.Go(func() {
			w.upkeepLoop(keyListsEvery, "reading the cloud's lists of keys",
				func(ctx context.Context) (bool, error) { return false, w.KeyLists.LookAll(ctx) })
		})
	}
	w.Engine.Go(func() { w.upkeepLoop(chainEvery, "chaining the journal", w.chain) })
	w.Engine.Go(func() { w.upkeepLoop(judgeEvery, "judging what has changed", w.judge) })
	w.Engine.Go(func() { w.upkeepLoop(endsEvery, "withdrawing rules at their end", w.keepEnds) })
	w.Engine.Go(func() {
		w.upkeepLoop(restore.LentEvery, "looking whether lent keys are gone",
			func(ctx context.Context) (bool, error) { return false, w.LookLent(ctx) })
	})
	w.Engine.Go(func() {
		w.upkeepLoop(restEvery, "judging the journal and the clouds",
			func(ctx context.Context) (bool, error) { return false, w.JudgeRest(ctx) })
	})
	if w.SurveysAtOnce > 0 {
		w.Engine.Go(func() {
			w.upkeepLoop(accesses.StewardsEvery, "looking for steward keys that are due",
				w.StewardsDue)
		})
		w.Engine.Go(func() {
			w.upkeepLoop(restore.ReadyEvery, "looking which ways back in are open",
				func(ctx context.Context) (bool, error) { _, err := w.Ready(ctx, ""); return false, err })
		})
		w.Engine.Go(func() { w.upkeepLoop(restore.RehearseEvery, "looking which rehearsals are due", w.RehearsalsDue) })
	}
}

// Package survey looks at instances: from outside, which keys the server takes, and inside,
// what stands in the files that the steward may read. What was seen is compared with the
// ledger and kept. Why answers, for one key and one instance, why a login works or not.
//
// Start with Service.SurveyOne for one instance, and surveyKind for the work that takes many.
package survey

import (
	"plumlatch/service/door"
)

// Service surveys.
type Service struct {
	*door.Service
	// SurveysAtOnce is how many instances this replica surveys at one time by
	// itself; none if 0.
	SurveysAtOnce int

	surveyState
}

// Kinds are the kinds of work of this package.
func (w *Service) Kinds() []*door.Kind {
	return door.Plain(w.surveyKind())
}

// New makes the service of an instance's doors survey; surveysAtOnce may be 0.
func New(d *door.Service, surveysAtOnce int) *Service {
	return &Service{Service: d, SurveysAtOnce: surveysAtOnce, surveyState: surveyState{toKeep: make(chan keeping)}}
}

// Start keeps what surveys see, and surveys by itself what is due.
func (w *Service) Start() {
	for range 2 { // one looks at what has come while the other waits for the database
		w.Engine.Go(w.keepLoop)
	}
	if w.SurveysAtOnce > 0 {
		w.Engine.Go(w.surveyLoop)
	}
}

package wire

import "time"

// Work is a durable piece of change. Steps come with a single one, not in lists.
type Work struct {
	ID        int64  `json:"id"`
	Kind      string `json:"kind"` // launch, adopt, stop, start, remove ...
	Title     string `json:"title"`
	Waves     bool   `json:"waves,omitempty"`    // it takes many instances, in waves
	Restores  bool   `json:"restores,omitempty"` // it is a way back into one instance, and has a report
	Instance  string `json:"instance,omitempty"`
	Parent    int64  `json:"parent,omitempty"`
	State     string `json:"state"` // queued, running, waiting, done, failed, cancelled, stuck
	GoingBack bool   `json:"going_back"`
	Step      int    `json:"step"` // how many steps are done, or are left to be undone
	StepCount int    `json:"step_count"`
	// the step at hand; none before the first and after the last
	StepName    string         `json:"step_name,omitempty"`
	StepTitle   string         `json:"step_title,omitempty"`
	Steps       []WorkStep     `json:"steps,omitempty"`
	Attempt     int            `json:"attempt"`
	CancelAsked bool           `json:"cancel_asked"`
	Trouble     string         `json:"trouble,omitempty"`
	Outcome     string         `json:"outcome,omitempty"`
	Code        string         `json:"code,omitempty"`       // of the trouble or the outcome; one of the Work constants
	WaitsCode   string         `json:"waits_code,omitempty"` // why it waits; one of the Waits constants
	WaitsFor    string         `json:"waits_for,omitempty"`  // the same for people
	WaitEndsAt  *time.Time     `json:"wait_ends_at,omitempty"`
	Children    map[string]int `json:"children,omitempty"` // how many are in each state
	Beware      string         `json:"beware,omitempty"`   // what going back would bring; of one piece of work alone
	Rotating    *Rotating      `json:"rotating,omitempty"` // of a rotation, with a single one
	Events      int            `json:"events"`             // the number of the last one
	Operator    string         `json:"operator"`
	CreatedAt   time.Time      `json:"created_at"`
	EndedAt     *time.Time     `json:"ended_at,omitempty"`
}

// Over tells whether the work has ended, for good or until somebody takes it up again.
func (w Work) Over() bool {
	return w.State != "queued" && w.State != "running" && w.State != "waiting"
}

// WorkStep is one step of a piece of work.
type WorkStep struct {
	Name    string     `json:"name"`
	Title   string     `json:"title"`
	State   string     `json:"state"` // to do, doing, waiting, done, passed over, undoing, undone
	Tries   int        `json:"tries"` // how often it was begun
	BeganAt *time.Time `json:"began_at,omitempty"`
	EndedAt *time.Time `json:"ended_at,omitempty"`
}

// StepPassedOver is the state of a step that had nothing to do in this piece of work.
const StepPassedOver = "passed over"

// WorkEvent is one thing that was told about a piece of work, numbered from 1.
type WorkEvent struct {
	N    int       `json:"n"`
	At   time.Time `json:"at"`
	Step string    `json:"step"`
	Code string    `json:"code,omitempty"` // EventWaits where the work begins to wait, EventHand where somebody has to do something
	Text string    `json:"text"`
}

// Codes of how a piece of work went, where a program decides by it.
const (
	WorkNoRule        = "no-such-rule"   // no inbound rule lets the network in that was named
	WorkLocksOut      = "no-other-way"   // rule 1: no other way in for people was shown to work
	WorkPlacedForAll  = "placed-for-all" // the cloud's agent places the key on every instance of the project
	WorkStillOffered  = "still-offered"  // a way of logging in was switched off, and its server offers it still
	WorkStaysAdmitted = "stays-admitted" // an inbound rule stays: people come in by nothing else
)

// EventWaits is the code of an event that tells what the work waits for from there on.
const EventWaits = "waits"

// EventHand is the code of an event that tells what somebody has to do by hand now, outside of this product.
const EventHand = "hand"

// Why a piece of work waits: what a program may decide by. What it waits for in detail,
// and what happens if it does not come, Work.WaitsFor says in words.
const (
	WaitsBack   = "back"   // for an instance that is out of reach: nothing of it was changed yet
	WaitsAnswer = "answer" // for a server to answer that did so a moment ago
	WaitsProof  = "proof"  // for a private half to be shown
	WaitsLogin  = "login"  // for a login from its holder's machine
	WaitsHands  = "hands"  // for an operator to do something by hand
	WaitsWord   = "word"   // for the word that the policy asks for
	WaitsGoOn   = "go-on"  // for an operator to let it go on, after failures or a pause
	WaitsRescue = "rescue" // for a rescue instance that is at hand for others
	WaitsEnd    = "end"    // for the end of what it gave for a time
	WaitsGrace  = "grace"  // for the end that it has given to what was there before
	WaitsParts  = "parts"  // for its parts
	WaitsOther  = "other"  // for other work on an instance
	WaitsClient = "client" // for the client that asked for it
	WaitsRetry  = "retry"  // to try something again
)

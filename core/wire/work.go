package wire

import "time"

// Work is a durable piece of change. Steps come with a single one, not in lists.
type Work struct {
	ID          int64          `json:"id"`
	Kind        string         `json:"kind"` // launch, adopt, stop, start, remove ...
	Title       string         `json:"title"`
	Instance    string         `json:"instance,omitempty"`
	Parent      int64          `json:"parent,omitempty"`
	State       string         `json:"state"` // queued, running, waiting, done, failed, cancelled, stuck
	GoingBack   bool           `json:"going_back"`
	Step        int            `json:"step"` // how many steps are done, or are left to be undone
	StepCount   int            `json:"step_count"`
	StepTitle   string         `json:"step_title,omitempty"`
	Steps       []WorkStep     `json:"steps,omitempty"`
	Attempt     int            `json:"attempt"`
	CancelAsked bool           `json:"cancel_asked"`
	Trouble     string         `json:"trouble,omitempty"`
	Outcome     string         `json:"outcome,omitempty"`
	WaitsFor    string         `json:"waits_for,omitempty"`
	WaitEndsAt  *time.Time     `json:"wait_ends_at,omitempty"`
	Children    map[string]int `json:"children,omitempty"` // how many are in each state
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
	State   string     `json:"state"` // to do, doing, waiting, done, undoing, undone
	Tries   int        `json:"tries"` // how often it was begun
	BeganAt *time.Time `json:"began_at,omitempty"`
	EndedAt *time.Time `json:"ended_at,omitempty"`
}

// WorkEvent is one thing that was told about a piece of work, numbered from 1.
type WorkEvent struct {
	N    int       `json:"n"`
	At   time.Time `json:"at"`
	Step string    `json:"step"`
	Text string    `json:"text"`
}

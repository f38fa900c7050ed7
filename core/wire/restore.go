package wire

import "time"

// Lack is something that a way back in lacks, with the command that would supply it.
type Lack struct {
	What    string `json:"what"`
	Command string `json:"command,omitempty"`
}

// Charge is what a way back in costs.
type Charge struct {
	What     string  `json:"what"`
	Amount   float64 `json:"amount"`
	Currency string  `json:"currency"`
}

// RouteOffer is what one way back in says of an instance.
type RouteOffer struct {
	Route     string   `json:"route"`
	About     string   `json:"about"`
	Open      bool     `json:"open"`
	Lacking   []Lack   `json:"lacking"`
	UntilIn   float64  `json:"until_in_seconds"`
	Down      float64  `json:"down_seconds"`
	People    string   `json:"people,omitempty"` // whose hand it needs besides
	Charges   []Charge `json:"charges"`
	Changes   []string `json:"changes"`
	CanBeLost []string `json:"can_be_lost"`
	ToCheck   []string `json:"to_check"`
	Sure      string   `json:"sure"` // how that is known
	Steps     []string `json:"steps"`

	Rehearsable bool       `json:"rehearsable"`         // on a copy, with nobody's hand
	Rehearsed   *Rehearsed `json:"rehearsed,omitempty"` // its last rehearsal
}

// Routes are the ways back into an instance side by side: the open ones first, the best first of all.
type Routes struct {
	Instance  string       `json:"instance"`
	LoginUser string       `json:"login_user"`
	State     string       `json:"state"`
	Lost      []string     `json:"lost"` // keys there that are recorded as lost or exposed
	Offers    []RouteOffer `json:"offers"`
	Machine   *Machine     `json:"machine,omitempty"` // which one it is at the cloud; not there if no cloud has it
}

// Machine is an instance as its cloud has it now: what a route that boots or detaches is about.
type Machine struct {
	CloudID  string     `json:"cloud_id"`
	Name     string     `json:"name"` // that the cloud has for it
	Launched *time.Time `json:"launched,omitempty"`
	Volume   string     `json:"volume,omitempty"` // its root volume
}

// CompareRoutes asks for the ways back in; Ask has the server asked now which keys it takes.
type CompareRoutes struct {
	Ask bool `json:"ask"`
}

// Restore asks for one way back in to be carried out.
type Restore struct {
	Route string `json:"route"` // "" for the best open one; "fetch" copies files out, by the disk, and lets nobody in
	New   string `json:"new"`   // recorded key that is to open it
	// Of the route "copy": how long the old one is kept, a week if 0; whether it is stopped while the image is made, so that
	// all that was written is on it; and whether the image stays.
	KeepSeconds int64 `json:"keep_seconds,omitempty"`
	Still       bool  `json:"still,omitempty"`
	KeepImage   bool  `json:"keep_image,omitempty"`
	// Enable: services that ran and do not come up on the copy are started and enabled there by the client that asks.
	Enable bool `json:"enable,omitempty"`
	// Unlock, of the routes "disk" and "fetch": what is encrypted on the volume is opened on the rescue instance by the client that asks, with a
	// passphrase that the service is not sent.
	Unlock bool `json:"unlock,omitempty"`
}

// CopyDoor is where a client does its part on a copy, before that has the place of the instance: starts and enables services, or comes
// in for a rehearsal.
type CopyDoor struct {
	Ready    bool     `json:"ready"` // it waits for that now
	CloudID  string   `json:"cloud_id"`
	Address  string   `json:"address"`
	Port     int      `json:"port"`
	User     string   `json:"user"`
	HostKeys []string `json:"host_keys"` // public key lines
	Key      string   `json:"key"`       // that opens it
	Services []string `json:"services"`  // such as board-service.service
}

// EnabledServices is what a client has done there.
type EnabledServices struct {
	Done   []string `json:"done"`
	Failed []string `json:"failed"` // each with what was said
}

// RestoreMany asks for every instance that only a lost key opened to be restored,
// each by its own best route.
type RestoreMany struct {
	Key         string `json:"key"` // the lost one
	New         string `json:"new"`
	Tag         string `json:"tag,omitempty"`
	First       int    `json:"first,omitempty"`
	Grow        int    `json:"grow,omitempty"`
	AtMost      string `json:"at_most,omitempty"`
	StopAfter   int    `json:"stop_after,omitempty"`
	BackSeconds int64  `json:"back_seconds,omitempty"`
}

// Rehearse asks for a way back in to be carried out on a copy.
type Rehearse struct {
	Route string `json:"route"` // "" for the best open one of those that need nobody's hand
	// Twice says that whoever asks has read what would run twice, where the plan names something.
	Twice bool `json:"twice,omitempty"`
}

// RehearsalPlan is what a rehearsal would do, take and cost.
type RehearsalPlan struct {
	Instance string   `json:"instance"`
	Machine  *Machine `json:"machine,omitempty"`
	Route    string   `json:"route"`
	Others   []string `json:"others"` // routes that could be rehearsed too
	Steps    []string `json:"steps"`
	Carried  []string `json:"carried"` // the steps of the route itself, on the copy
	Seconds  float64  `json:"seconds"` // about, in all
	Charges  []Charge `json:"charges"`
	Notes    []string `json:"notes"` // what it does not show
	// Twice is what would run twice, on the copy too: the cloud cannot shut the way out of it. It has to be accepted.
	Twice []string `json:"twice,omitempty"`
	Hand  string   `json:"hand,omitempty"` // what whoever asks for it has to do meanwhile
}

// Rehearsed is what a rehearsal came to.
type Rehearsed struct {
	Route       string    `json:"route"`
	Work        int64     `json:"work"`
	At          time.Time `json:"at"`
	Good        bool      `json:"good"` // somebody would have been in, and what worked before worked there
	InSeconds   float64   `json:"in_seconds"`
	DownSeconds float64   `json:"down_seconds"`
	Said        string    `json:"said,omitempty"` // why it was not good, or what is to be looked at
}

// ReadyRow says which ways back into an instance are open today, by what is recorded.
type ReadyRow struct {
	Instance string   `json:"instance"`
	Region   string   `json:"region"`
	State    string   `json:"state"`
	Open     []string `json:"open"` // names of routes, the best first
	Lacking  []Lack   `json:"lacking,omitempty"`
	Desktop  bool     `json:"desktop,omitempty"` // it has no SSH: no way of ours leads there, and none is missed

	// Of the best open route: how long until somebody is in, of that down, and how that is known.
	UntilIn float64 `json:"until_in_seconds"`
	Down    float64 `json:"down_seconds"`
	Sure    string  `json:"sure"`
	// Rehearsed are the last rehearsals of each route.
	Rehearsed []Rehearsed `json:"rehearsed"`
}

// RestoreLines are what somebody adds to an instance's file by hand: a grant.
type RestoreLines struct {
	Work      int64    `json:"work"`
	Instance  string   `json:"instance"`
	LoginUser string   `json:"login_user"`
	Key       string   `json:"key"` // the new one
	Lines     []string `json:"lines"`
	Files     []string `json:"files"` // that the server reads; relative ones from the home
	Route     string   `json:"route"`
}

// PlacedReport tells that the lines stand, and where.
type PlacedReport struct {
	File string `json:"file"`
	With string `json:"with"` // fingerprint of the key that was used, or the login method
}

// RescueDoor is where an engineer's machine copies files out of a volume that is mounted on a rescue instance, read-only: straight from there. It
// also opens there what is encrypted on a volume.
type RescueDoor struct {
	Ready    bool     `json:"ready"` // it is mounted
	Name     string   `json:"name"`
	Address  string   `json:"address"`
	Port     int      `json:"port"`
	User     string   `json:"user"`
	HostKeys []string `json:"host_keys"` // public key lines
	Mount    string   `json:"mount"`
	Key      string   `json:"key"` // that is let in there
	// Locked is what it waits for to be opened, before anything is mounted.
	Locked []LockedPart `json:"locked"`
}

// LockedPart is an encrypted part of a volume (LUKS), as the rescue instance calls it, and the mapping that it is opened as.
type LockedPart struct {
	Device  string `json:"device"`  // such as /dev/vdb1
	Mapping string `json:"mapping"` // a name below /dev/mapper
}

// Fetched tells what was copied out.
type Fetched struct {
	Files int   `json:"files"`
	Bytes int64 `json:"bytes"`
}

// CheckChange adds or removes what "works" means for an instance.
type CheckChange struct {
	Check  string `json:"check"` // tcp:PORT, http://:PORT/PATH or https://:PORT/PATH
	Remove bool   `json:"remove,omitempty"`
}

// RescueChange says that an instance rescues others, and where it is.
type RescueChange struct {
	On     bool   `json:"on"`
	Region string `json:"region,omitempty"`
	Zone   string `json:"zone,omitempty"`
}

// RescueTerms are what a rescue instance's account is opened with for a piece of
// work: shown before it is agreed to.
type RescueTerms struct {
	Line string `json:"line"` // with a placeholder for the key
}

// CheckResult is how one of an instance's own checks came out.
type CheckResult struct {
	Check string `json:"check"`
	Good  bool   `json:"good"`
	Said  string `json:"said"`
}

// UpSpan is a stretch of time in which the outside probe was answered, or not.
type UpSpan struct {
	From time.Time `json:"from"`
	To   time.Time `json:"to"`
	Up   bool      `json:"up"`
}

// ReportStep is one step, with its times.
type ReportStep struct {
	Name    string     `json:"name"`
	Title   string     `json:"title"`
	State   string     `json:"state"`
	BeganAt *time.Time `json:"began_at,omitempty"`
	EndedAt *time.Time `json:"ended_at,omitempty"`
}

// Report is what is to be known of a restore afterwards.
type Report struct {
	Work      int64         `json:"work"`
	Instance  string        `json:"instance"`
	LoginUser string        `json:"login_user"`
	Operator  string        `json:"operator"`
	State     string        `json:"state"`
	Outcome   string        `json:"outcome"`
	Lost      []string      `json:"lost"` // keys
	New       string        `json:"new"`
	Route     string        `json:"route"`
	Why       string        `json:"why"` // this one
	BeganAt   time.Time     `json:"began_at"`
	InAt      *time.Time    `json:"in_at,omitempty"` // the new key was accepted
	EndedAt   *time.Time    `json:"ended_at,omitempty"`
	Steps     []ReportStep  `json:"steps"`
	Seen      []UpSpan      `json:"seen"`             // by the outside probe
	Down      float64       `json:"down_seconds"`     // measured by it
	NotSeen   float64       `json:"not_seen_seconds"` // of the work's time until the new key was in
	Changed   []string      `json:"changed"`
	Withdrawn []string      `json:"withdrawn"`
	Checks    []CheckResult `json:"checks"`
	Left      []string      `json:"left"` // to check, or not done, with what to do
	Charges   []Charge      `json:"charges"`
	GoesOn    []string      `json:"goes_on"` // what goes on costing
}

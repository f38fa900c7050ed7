package access

import (
	"maps"
	"slices"
)

// Reason is why something needs a hand. Its words are stable: scripts and the
// policy name them.
type Reason string

// The reasons, most urgent first.
const (
	GrantAsked      Reason = "grant-asked"          // a restore waits for the holder of another key
	NoWayIn         Reason = "no-way-in"            // no person's key opens the instance
	OpenToAnybody   Reason = "open-without-key"     // its server lets anybody in
	ExposedOpens    Reason = "exposed-key-opens"    // a key that somebody else may have opens it
	BadKeyUsed      Reason = "bad-key-used"         // a key came in after it was marked as lost or exposed
	HostKeyChanged  Reason = "host-key-changed"     // another host key answers
	CameBack        Reason = "key-came-back"        // a withdrawn or retired key stands in its files again
	JournalBroken   Reason = "journal-broken"       // the journal was tampered with
	NotRecorded     Reason = "way-in-unrecorded"    // only what nobody recorded opens it
	UnrecordedKey   Reason = "unrecorded-key"       // a key that nobody wrote down opens it
	StrangerUsed    Reason = "unknown-key-used"     // a key that is none of the ledger's came in
	NewAddress      Reason = "new-address-used"     // somebody came in from an address that no log had before
	SharedHostKey   Reason = "shared-host-key"      // one host key on several instances
	AgentCopied     Reason = "agent-key-elsewhere"  // another machine came with its agent's key
	HostKeyDoubtful Reason = "host-key-doubtful"    // somebody may have read its private half
	MissingKey      Reason = "missing-key"          // a recorded key is not there
	LostOpens       Reason = "lost-key-opens"       // a lost key still opens it
	PasswordLogin   Reason = "password-login"       // its server offers password login
	OpenToWorld     Reason = "open-to-the-world"    // an inbound rule lets everybody in
	SoleOpenerKey   Reason = "sole-opener"          // one person's key is the only way in
	NoWayBack       Reason = "no-way-back"          // no way back in would be open, if its keys were lost
	WeakKey         Reason = "weak-key"             // a key that opens something is weak
	StillListed     Reason = "key-still-listed"     // a cloud's list has a key that is lost, exposed or retired
	LentStays       Reason = "lent-key-stays"       // a key that the cloud lent for a minute is still taken
	StreamLong      Reason = "stream-lasts-long"    // a session through the service lasts longer than the policy's time
	PasswordKey     Reason = "first-password-key"   // the key of a first password that nobody changed is lost or exposed
	FirstPassword   Reason = "first-password"       // a first password that was not recorded as changed
	RehearsalFailed Reason = "rehearsal-failed"     // its last rehearsal of a way back in did not get in
	OldKept         Reason = "old-machine-kept"     // what a copy took the place of waits for a word, and costs
	AccessExpired   Reason = "access-expired"       // an access whose end has come
	AccessExpiring  Reason = "access-expiring"      // an access whose end comes soon
	SurveyFailed    Reason = "survey-failed"        // the last survey could not look
	AgentAway       Reason = "agent-away"           // its agent has not been connected for a day
	VanishedReason  Reason = "vanished-instance"    // the cloud knows it no more
	Undiscovered    Reason = "unknown-instance"     // the cloud has it and the ledger does not
	BookDiffers     Reason = "keybook-differs"      // the ledger is not as a followed keybook says
	BookTrouble     Reason = "keybook-trouble"      // a followed keybook could not be compared
	KeyListFull     Reason = "key-list-full"        // a cloud's list of keys has little room
	LabelDiffers    Reason = "label-differs"        // the cloud's label names another key
	AgentTrusts     Reason = "agent-trusts-service" // its agent changes what the service alone asks for
	OldEvidence     Reason = "old-evidence"         // nobody has looked for a long time
	UnusedKey       Reason = "unused-key"           // a key that opens it was not used for a long time
	JournalNotCheck Reason = "journal-not-checked"  // the journal was not verified for a long time
	OpensNothing    Reason = "opens-nothing"        // a key opens nothing any more
)

// Urgency is how soon a matter wants a hand.
type Urgency string

// The urgencies, most urgent first.
const (
	Now   Urgency = "now"
	Soon  Urgency = "soon"
	Later Urgency = "later"
)

type urgency struct {
	rank    int
	urgency Urgency
	about   string
}

var reasons = map[Reason]urgency{
	GrantAsked:      {5, Now, "a restore waits for the holder of another key"},
	NoWayIn:         {10, Now, "no person's key opens an instance"},
	OpenToAnybody:   {15, Now, "a server lets anybody in without a key"},
	ExposedOpens:    {20, Now, "an exposed key still opens an instance"},
	BadKeyUsed:      {22, Now, "a lost or exposed key came in"},
	HostKeyChanged:  {25, Now, "another host key answers than the recorded one"},
	CameBack:        {30, Now, "a key that was taken out of use stands in the files again"},
	JournalBroken:   {35, Now, "the journal was changed behind the service's back"},
	NotRecorded:     {105, Soon, "only what nobody recorded lets people in"},
	UnrecordedKey:   {110, Soon, "a key that nobody wrote down opens an instance"},
	StrangerUsed:    {112, Soon, "a key that nobody recorded came in"},
	NewAddress:      {113, Soon, "somebody came in from an address that no log had before"},
	SharedHostKey:   {115, Soon, "several instances have one host key"},
	AgentCopied:     {117, Soon, "another machine came with an agent's key"},
	HostKeyDoubtful: {118, Soon, "somebody may have read a host key's private half"},
	MissingKey:      {120, Soon, "a recorded key is not in the files"},
	LostOpens:       {125, Soon, "a lost key still stands in the files"},
	PasswordLogin:   {130, Soon, "a server offers password login"},
	OpenToWorld:     {135, Soon, "an inbound rule lets the whole world in"},
	SoleOpenerKey:   {140, Soon, "one person's key is the only way in"},
	NoWayBack:       {142, Soon, "no way back in would be open, if the keys were lost"},
	RehearsalFailed: {143, Soon, "the last rehearsal of a way back in failed"},
	WeakKey:         {145, Soon, "a weak key opens something"},
	PasswordKey:     {146, Soon, "the key of a first password, not recorded as changed, is lost or exposed"},
	FirstPassword:   {212, Later, "a first password was not recorded as changed"},
	OldKept:         {213, Later, "an old machine that a copy took the place of waits to be removed"},
	StillListed:     {147, Soon, "a cloud's list of keys has one that nobody should launch with"},
	LentStays:       {148, Soon, "a key that the cloud lent for a minute is still taken"},
	StreamLong:      {149, Soon, "a session through the service lasts long"},
	AccessExpired:   {150, Soon, "the end of an access has come"},
	AccessExpiring:  {155, Soon, "the end of an access is near"},
	SurveyFailed:    {160, Soon, "the last survey could not look"},
	AgentAway:       {162, Soon, "an agent has not been connected for a day"},
	BookTrouble:     {163, Soon, "a followed keybook cannot be compared"},
	BookDiffers:     {164, Soon, "the ledger is not as a followed keybook says"},
	VanishedReason:  {165, Soon, "the cloud knows an instance no more"},
	Undiscovered:    {210, Later, "the cloud has an instance that the ledger does not know"},
	KeyListFull:     {213, Later, "a cloud's list of keys is nearly full"},
	LabelDiffers:    {215, Later, "the cloud's label names another key than the ledger"},
	AgentTrusts:     {218, Later, "an agent changes what the service alone asks for"},
	OldEvidence:     {220, Later, "what is known is old"},
	UnusedKey:       {222, Later, "a key that opens an instance was not used for a long time"},
	JournalNotCheck: {225, Later, "the journal was not verified for a long time"},
	OpensNothing:    {230, Later, "a key opens nothing any more"},
}

// ReasonNames returns every reason, most urgent first.
func ReasonNames() []string {
	all := slices.Collect(maps.Keys(reasons))
	slices.SortFunc(all, func(a, b Reason) int { return reasons[a].rank - reasons[b].rank })
	var out []string
	for _, r := range all {
		out = append(out, string(r))
	}
	return out
}

// About says in a few words what the reason is.
func (r Reason) About() string { return reasons[r].about }

// Rank orders reasons: the lower, the more urgent.
func (r Reason) Rank() int { return reasons[r].rank }

// Urgency says how soon it wants a hand.
func (r Reason) Urgency() Urgency { return reasons[r].urgency }

// UrgencyOf is Urgency by the rank.
func UrgencyOf(rank int) Urgency {
	switch {
	case rank < 100:
		return Now
	case rank < 200:
		return Soon
	}
	return Later
}

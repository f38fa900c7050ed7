package store

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"gorm.io/gorm"

	"plumlatch/core/names"
	"plumlatch/core/wire"
)

// WorkState is where a piece of work is in its life.
type WorkState string

// The states. The first three are at hand; Stuck could neither go on nor back,
// and needs a hand.
const (
	Queued    WorkState = "queued"
	Running   WorkState = "running"
	Waiting   WorkState = "waiting"
	Done      WorkState = "done"
	WentBack  WorkState = "failed"
	Cancelled WorkState = "cancelled"
	Stuck     WorkState = "stuck"
)

// Errors of work.
var (
	// ErrLost: the claim is another's by now. Whoever gets it must stop, and write nothing.
	ErrLost = errors.New("the claim on this work was lost to another replica")
	// ErrCancelAsked: somebody asked that the work go back, and what was to be written is only for work
	// that does not.
	ErrCancelAsked = errors.New("it was asked to go back")
	// ErrNoReturn: a step has begun from which the work cannot go back.
	ErrNoReturn = errors.New("it has passed the point of no return")
	// ErrWorkState: the work is in no state for what was asked.
	ErrWorkState = errors.New("the work is in no state for that")
)

// Work is a durable piece of change.
type Work struct {
	ID          int64
	Token       string
	Kind        string
	Title       string
	ParentID    int64
	InstanceID  int64
	Instance    string
	Operator    string
	Address     string
	Input       string // JSON
	Data        string // JSON
	State       WorkState
	Back        bool
	At          string // the step at hand, by its name in the plan; "" before the first and after the last
	Attempt     int
	Changing    bool
	CancelAsked bool
	Trouble     string
	Outcome     string
	Code        string // of the trouble or the outcome, for programs
	WaitsCode   string // why it waits, for programs
	WaitsFor    string // and for people
	WaitEndsAt  *time.Time
	Fence       int64
	Replica     string
	Events      int
	IntentID    int64
	CreatedAt   time.Time
	EndedAt     *time.Time
	PlanNames   string // the names of its steps in their order, with a comma between
	StepTitle   string
	Resumed     bool // the claim has written that the step at hand, which waited, is being done
	// InstanceVersion is which version of its instance's row there was when the work was claimed
	// or moved the last time; "" where that was not read.
	InstanceVersion string
}

// Plan returns the names of the work's steps, in their order: as its kind had them when it
// was begun, whatever a later version of the program has.
func (w Work) Plan() []string {
	if w.PlanNames == "" {
		return nil
	}
	return strings.Split(w.PlanNames, ",")
}

// Place returns where in its plan the work is: -1 before the first step, on the way back,
// and the number of steps after the last.
func (w Work) Place() int {
	plan := w.Plan()
	if n := slices.Index(plan, w.At); n >= 0 || w.Back {
		return n
	}
	return len(plan)
}

// Over tells whether the work has ended, for good or until somebody asks again.
func (w Work) Over() bool {
	return w.State != Queued && w.State != Running && w.State != Waiting
}

// What is read of a piece of work: before and after the name of its instance.
const (
	workFieldsBefore = `w.id, w.token, w.kind, w.title, coalesce(w.parent_id, 0) AS parent_id,
	coalesce(w.instance_id, 0) AS instance_id, `
	workFieldsAfter = ` AS instance, w.operator, w.address, w.input::text AS input, w.data::text AS data, w.state,
	w.back, w.at, w.attempt, w.changing, w.cancel_asked,
	w.trouble, w.outcome, w.code, w.waits_code, w.waits_for, w.wait_ends_at, w.fence, w.replica, w.events,
	coalesce(w.intent_id, 0) AS intent_id, w.created_at, w.ended_at,
	coalesce((SELECT string_agg(s.name, ',' ORDER BY s.n) FROM work_steps s WHERE s.work_id = w.id), '') AS plan_names,
	coalesce((SELECT s.title FROM work_steps s WHERE s.work_id = w.id AND s.name = w.at), '') AS step_title`

	workColumns = "SELECT " + workFieldsBefore + "coalesce(i.name, '')" + workFieldsAfter +
		" FROM work w LEFT JOIN instances i ON i.id = w.instance_id"
	// workReturned is the same after RETURNING, where nothing can be joined.
	workReturned = workFieldsBefore + "coalesce((SELECT i.name FROM instances i WHERE i.id = w.instance_id), '')" +
		workFieldsAfter + ", " + instanceVersion
	// instanceVersion names the version of the row of the work's instance.
	instanceVersion = "coalesce((SELECT i.xmin::text FROM instances i WHERE i.id = w.instance_id), '') AS instance_version"
)

// Claim is the right to carry out a piece of work, until another has it.
type Claim struct {
	Work, Fence int64
	// Progress: what the work says is also written to the instance, as the line of text that
	// lists show while it is launched, stopped, started or removed.
	Progress bool
}

type claimKey struct{}

// WithClaim makes every transaction under the context one of the claim's: it
// writes only as long as nobody else has claimed the work since.
func WithClaim(ctx context.Context, c Claim) context.Context {
	return context.WithValue(ctx, claimKey{}, c)
}

// Facts are what a piece of work found out or holds that others than its own steps look
// for. They stand in columns.
type Facts struct {
	RescueCloudID string // the rescue instance that it uses, as its cloud calls it
	Volume        string // the root volume that it moves
	Contained     string // whether an exposed key was contained, in words
}

// Factual is data of a piece of work that has facts in it.
type Factual interface{ Facts() Facts }

// FactsOf returns the facts in a piece of work's data.
func FactsOf(data any) Facts {
	if f, ok := data.(Factual); ok {
		return f.Facts()
	}
	return Facts{}
}

type dataKey struct{}

type keptData struct {
	text  string
	facts Facts
}

// WithData has the next transactions under the context keep what the work's step
// found out (JSON, and the facts in it), as NoteData does.
func WithData(ctx context.Context, text string, facts Facts) context.Context {
	return context.WithValue(ctx, dataKey{}, keptData{text, facts})
}

type heedsKey struct{}

// Heeds has the next statement of a claim under the context write nothing if somebody has asked that the
// work go back: it returns ErrCancelAsked then. Between a look and a write somebody may ask.
func Heeds(ctx context.Context) context.Context {
	return context.WithValue(ctx, heedsKey{}, " AND NOT cancel_asked")
}

// heeds is the condition that Heeds sets, "" for none.
func heeds(ctx context.Context) string {
	condition, _ := ctx.Value(heedsKey{}).(string)
	return condition
}

// lost says why a statement of a claim has changed nothing: ErrLost, or ErrCancelAsked.
func (s *Store) lost(ctx context.Context, work, fence int64) error {
	if heeds(ctx) == "" {
		return ErrLost
	}
	r, err := one[struct{ CancelAsked bool }](ctx, s,
		"SELECT cancel_asked FROM work WHERE id = ? AND fence = ? AND state = 'running'", work, fence)
	switch {
	case err != nil && !errors.Is(err, ErrNotFound):
		return err
	case err == nil && r.CancelAsked:
		return ErrCancelAsked
	}
	return ErrLost
}

type onDiskKey struct{}

// onDisk has the next transactions under the context wait until they, and all that they stand
// on, are on the disk.
func onDisk(ctx context.Context) context.Context { return context.WithValue(ctx, onDiskKey{}, "on") }

// fenced begins a transaction of a claim. The row stays locked until its end,
// so that nobody claims the work in the middle of it. It does not wait for the
// disk, unless it is asked to (onDisk): what a step found out is found out again. ErrLost.
func fenced(ctx context.Context, tx *gorm.DB) error {
	if _, claimed := ctx.Value(claimKey{}).(Claim); !claimed {
		return nil
	}
	sql, args := fence(ctx)
	var held []string
	err := tx.Raw("WITH f AS ("+sql+") SELECT "+commits+" FROM f", args).Scan(&held).Error
	if err == nil && len(held) != 1 {
		return ErrLost
	}
	return err
}

// fence is a statement, and its arguments, that has a row only as long as the claim of the
// context holds, and locks the work's row: for a CTE of a statement that writes. Without a claim it
// always has one. commits, in the same statement, has it wait for the disk or not.
func fence(ctx context.Context) (sql string, args map[string]any) {
	commit, _ := ctx.Value(onDiskKey{}).(string)
	c, ok := ctx.Value(claimKey{}).(Claim)
	if !ok {
		return "SELECT 1 AS held", map[string]any{"commit": commit}
	}
	args = map[string]any{"commit": cmp.Or(commit, "off"), "work": c.Work, "fence": c.Fence}
	kept, ok := ctx.Value(dataKey{}).(keptData)
	if !ok {
		// To lock the row is enough, and costs less than another version of it.
		return "SELECT 1 AS held FROM work WHERE id = @work AND fence = @fence AND state = 'running'" + heeds(ctx) +
			" FOR NO KEY UPDATE", args
	}
	maps.Copy(args, kept.args())
	return "UPDATE work SET " + keeps + " WHERE id = @work AND fence = @fence AND state = 'running'" + heeds(ctx) +
		" RETURNING 1 AS held", args
}

const (
	commits = "set_config('synchronous_commit', coalesce(nullif(@commit, ''), current_setting('synchronous_commit')), true)"
	keeps   = "data = @data, rescue_cloud_id = @rescue, volume = @volume, contained = @contained"
)

func (k keptData) args() map[string]any {
	return map[string]any{"data": k.text, "rescue": k.facts.RescueCloudID, "volume": k.facts.Volume,
		"contained": k.facts.Contained}
}

// WorkStep is one step of a kind of work, as it stands in a piece of it.
type WorkStep struct {
	N       int
	Name    string
	Title   string
	State   string // to do, doing, done, undoing, undone, waiting
	Tries   int
	BeganAt *time.Time
	EndedAt *time.Time
}

// NewWork is what begins a piece of work.
type NewWork struct {
	Kind, Title string
	Token       string // random; client tokens are made of it
	ParentID    int64
	Changing    bool
	Input       any   // becomes JSON; never a secret
	OldKeyID    int64 // the key that it takes or ends; 0 for none
	NewKeyID    int64 // the key that it adds; 0 for none
	Steps       []WorkStep
	Subject     string // what it is about, where that is no instance: others look for work of the same one
	Target      string // in the journal, such as "instance berth-board-1"
	Action      string // such as "instance.launch"
	Intent      string
}

// addWork begins a piece of work in the transaction of what it is about.
// ErrInProgress if another piece of changing work holds the instance.
func addWork(tx *gorm.DB, by Actor, once Once, instanceID int64, n NewWork) (int64, error) {
	intent, err := entry{by, n.Action, n.Target, n.Intent, "", 0}.write(tx)
	if err != nil {
		return 0, err
	}
	input := []byte("{}")
	if n.Input != nil {
		if input, err = json.Marshal(n.Input); err != nil {
			return 0, err
		}
	}
	var instance, parent *int64
	if instanceID != 0 {
		instance = &instanceID
	}
	if n.ParentID != 0 {
		parent = &n.ParentID
	}
	first := ""
	if len(n.Steps) > 0 {
		first = n.Steps[0].Name
	}
	var id int64
	err = tx.Raw(`INSERT INTO work (token, kind, title, parent_id, instance_id, operator, address, input, state,
		changing, holding, intent_id, at, old_key_id, new_key_id, subject)
		VALUES (?, ?, ?, ?, ?, ?, ?, ?, 'queued', ?, ?, ?, ?, nullif(?, 0), nullif(?, 0), ?) RETURNING id`,
		n.Token, n.Kind, n.Title, parent, instance, by.Operator, by.Address, string(input), n.Changing, n.Changing,
		intent, first, n.OldKeyID, n.NewKeyID, n.Subject).Scan(&id).Error
	if constraint, ok := unique(err); ok && constraint == "work_holds_instance" {
		return 0, ErrInProgress
	}
	if err != nil {
		return 0, err
	}
	if err := addSteps(tx, id, n.Steps); err != nil {
		return 0, err
	}
	return id, once.take(tx, instanceID, id)
}

// ClaimWork claims a piece of work that is to be carried out now: one whose claim has run out, that
// has waited long enough, or that is queued, in this order and the oldest first: what was begun is
// ended before anything else begins. The claim
// is free for others once life is over, unless it is renewed. Work whose
// instance another piece holds is left alone. ErrNotFound if there is none.
//
// A step that waited is begun again with it (Work.Resumed).
//
// One committed statement; no lock outlives it.
func (s *Store) ClaimWork(ctx context.Context, replica string, kinds []string, life time.Duration) (Work, error) {
	var claimed []Work
	err := s.db.WithContext(ctx).Raw(`WITH c AS (UPDATE work w SET fence = fence + 1, state = 'running', replica = @replica,
		holding = changing,
			free_at = clock_timestamp() + make_interval(secs => @life), wake_at = NULL, woken_at = NULL
		WHERE id = coalesce(
			(`+claimable+` AND q.state = 'running' AND q.free_at < now() ORDER BY q.free_at FOR UPDATE SKIP LOCKED LIMIT 1),
			(`+claimable+` AND q.state = 'waiting' AND q.wake_at <= now() ORDER BY q.wake_at FOR UPDATE SKIP LOCKED LIMIT 1),
			(`+claimable+` AND q.state = 'queued' ORDER BY q.id FOR UPDATE SKIP LOCKED LIMIT 1))
		RETURNING `+workReturned+`),
		s AS (UPDATE work_steps s SET state = 'doing', tries = s.tries + 1, ended_at = NULL FROM c
			WHERE s.work_id = c.id AND s.name = c.at AND s.state = 'waiting' AND NOT c.back AND NOT c.cancel_asked RETURNING 1)
		SELECT c.*, EXISTS (SELECT 1 FROM s) AS resumed FROM c`, map[string]any{"replica": replica, "life": life.Seconds(), "kinds": "{" + strings.Join(kinds, ",") + "}"}).Scan(&claimed).Error
	if _, taken := unique(err); taken {
		return Work{}, ErrNotFound // another piece took the instance in this moment
	}
	if err != nil {
		return Work{}, err
	}
	if len(claimed) == 0 {
		return Work{}, ErrNotFound
	}
	return claimed[0], nil
}

// claimable chooses from work of some kinds what nothing else holds the instance of: what holds it
// already need not look.
const claimable = `SELECT q.id FROM work q WHERE q.kind = ANY(CAST(@kinds AS text[])) AND NOT (q.changing AND NOT q.holding
	AND EXISTS (SELECT 1 FROM work o WHERE o.instance_id = q.instance_id AND o.holding AND o.id <> q.id))`

// Queue is how much work is at hand.
type Queue struct {
	Queued, Running, Waiting int64
	// Oldest is for how many seconds the oldest work that could be carried out now has not been.
	Oldest float64
}

// Queue counts the work that is not over.
func (s *Store) Queue(ctx context.Context) (Queue, error) {
	return one[Queue](ctx, s, `SELECT count(*) FILTER (WHERE state = 'queued') AS queued,
		count(*) FILTER (WHERE state = 'running') AS running, count(*) FILTER (WHERE state = 'waiting') AS waiting,
		coalesce(max(extract(epoch FROM clock_timestamp() - coalesce(wake_at,
		created_at))) FILTER (WHERE state = 'queued' OR state = 'waiting' AND wake_at <= clock_timestamp()),
		0)::float8 AS oldest
		FROM work WHERE state IN ('queued', 'running', 'waiting')`)
}

// RenewClaim keeps a claim for another while, and tells whether somebody asked
// to cancel the work. ErrLost.
func (s *Store) RenewClaim(ctx context.Context, c Claim, life time.Duration) (cancel bool, err error) {
	var rows []struct{ CancelAsked bool }
	err = s.db.WithContext(ctx).Raw(`UPDATE work SET free_at = clock_timestamp() + make_interval(secs => ?)
		WHERE id = ? AND fence = ? AND state = 'running' RETURNING cancel_asked`, life.Seconds(), c.Work,
		c.Fence).Scan(&rows).Error
	if err == nil && len(rows) != 1 {
		err = ErrLost
	}
	return len(rows) == 1 && rows[0].CancelAsked, err
}

// ReleaseClaim gives a claim back, for the next to go on at once. That it was lost is no error.
func (s *Store) ReleaseClaim(ctx context.Context, c Claim) error {
	return s.db.WithContext(ctx).Exec("UPDATE work SET state = 'queued', free_at = NULL WHERE id = ? AND fence = ? "+
		"AND state = 'running'", c.Work, c.Fence).Error
}

// StepMove is how a step of a claimed piece of work begins or ends, and what
// that makes of the work.
type StepMove struct {
	Step      string // by its name
	StepState string // of Step; "" leaves it
	At        string // the work's step from here on; "" for none: it is through, or back at its beginning
	Back      bool   // from here on it goes back
	Settled   bool   // Step is the one with which the work has shown what it is for
	Trouble   string // why
	Code      string // the same for programs; "" leaves it
	Event     string // told to who follows; "" for nothing
}

// MoveStep writes the beginning or the end of a step, if the claim is still
// held: one statement, as every step of every piece of work makes two of them.
// Nobody waits for the disk: a step that a crash of the database forgets is done
// again, and what going back needs is kept by SetData. It returns which version of its
// instance's row there is (Work.InstanceVersion). ErrLost, and ErrCancelAsked under Heeds.
func (s *Store) MoveStep(ctx context.Context, c Claim, m StepMove) (version string, err error) {
	began := m.StepState == "doing" || m.StepState == "undoing"
	same := began // a wait may go on; one that ended has been left by the end of its step, or by turning back
	return s.moved(ctx, `WITH w AS (UPDATE work SET at = @at, back = @back,
			settled_at = CASE WHEN @settled THEN clock_timestamp() ELSE settled_at END,
			trouble = CASE WHEN @trouble = '' THEN trouble ELSE @trouble END,
			code = CASE WHEN @why = '' THEN code ELSE @why END,
			waits_code = CASE WHEN @same THEN waits_code ELSE '' END,
			waits_for = CASE WHEN @same THEN waits_for ELSE '' END,
			wait_ends_at = CASE WHEN @same THEN wait_ends_at ELSE NULL END,
			events = events + CASE WHEN @text = '' THEN 0 ELSE 1 END
			WHERE id = @work AND fence = @fence AND state = 'running'`+heeds(ctx)+`
			RETURNING id, events, instance_id, holding),
		s AS (UPDATE work_steps s SET
			state = CASE WHEN s.state = 'to do' AND @state = 'undone' THEN s.state ELSE @state END,
			tries = s.tries + CASE WHEN @state = 'doing' THEN 1 ELSE 0 END,
			began_at = CASE WHEN @began AND s.state <> @state AND NOT (s.state = 'waiting' AND @state = 'doing')
				THEN clock_timestamp() ELSE s.began_at END,
			ended_at = CASE WHEN @began THEN NULL ELSE clock_timestamp() END
			FROM w WHERE s.work_id = w.id AND s.name = @step AND @state <> ''), `+eventOf(c.Progress),
		map[string]any{"work": c.Work, "fence": c.Fence, "step": m.Step, "at": m.At, "back": m.Back,
			"settled": m.Settled, "trouble": m.Trouble, "why": m.Code, "same": same, "text": m.Event,
			"state": m.StepState, "began": began, "code": ""})
}

// MoveOn ends the step at hand, and with it those up to the next that have
// nothing to do, and begins that one, by one statement; event is its title. settled: with
// one of those that end, the work has shown what it is for. It returns what MoveStep does, and
// the same errors.
func (s *Store) MoveOn(ctx context.Context, c Claim, from, to string, settled bool, event string) (version string,
	err error) {
	return s.moved(ctx, `WITH w AS (UPDATE work SET at = @step,
			settled_at = CASE WHEN @settled THEN clock_timestamp() ELSE settled_at END,
			waits_code = '', waits_for = '', wait_ends_at = NULL, events = events + 1
			WHERE id = @work AND fence = @fence AND state = 'running'`+heeds(ctx)+`
			RETURNING id, events, instance_id, holding),
		s AS (UPDATE work_steps s SET state = CASE WHEN s.name = @step THEN 'doing' ELSE 'done' END,
			tries = s.tries + CASE WHEN s.name = @step THEN 1 ELSE 0 END,
			began_at = CASE WHEN s.name = @step THEN clock_timestamp() ELSE s.began_at END,
			ended_at = CASE WHEN s.name = @step THEN NULL ELSE clock_timestamp() END
			FROM w, work_steps f, work_steps t
			WHERE s.work_id = w.id AND f.work_id = w.id AND f.name = @from
				AND t.work_id = w.id AND t.name = @step AND s.n BETWEEN f.n AND t.n), `+eventOf(c.Progress),
		map[string]any{"work": c.Work, "fence": c.Fence, "from": from, "step": to, "settled": settled,
			"text": event, "code": ""})
}

// moved runs a statement that has changed the claimed work in w, and returns the version of its
// instance's row. ErrLost, and ErrCancelAsked under Heeds.
func (s *Store) moved(ctx context.Context, sql string, args map[string]any) (version string, err error) {
	var n int64
	err = s.db.WithContext(ctx).Raw(sql+" SELECT count(*), set_config('synchronous_commit', 'off', true), coalesce("+
		"(SELECT i.xmin::text FROM instances i JOIN w ON i.id = w.instance_id), '') FROM w", args).Row().
		Scan(&n, new(string), &version)
	if err == nil && n != 1 {
		err = s.lost(ctx, args["work"].(int64), args["fence"].(int64))
	}
	return version, err
}

// eventOf are parts of a statement that has counted an event of the work in w:
// they write it, and the instance's own line if that is wanted. Touching an
// instance at all has its triggers run, which costs more than all the rest.
func eventOf(progress bool) string {
	text := `e AS (INSERT INTO work_events (work_id, n, step, code, text) SELECT w.id, w.events, @step, @code, @text
		FROM w WHERE @text <> '')`
	if progress {
		text = `i AS (UPDATE instances i SET progress = @text FROM w
			WHERE i.id = w.instance_id AND w.holding AND @text <> ''), ` + text
	}
	return text
}

// claimed runs a statement that answers how many rows of work it has changed. ErrLost.
func (s *Store) claimed(ctx context.Context, sql string, args map[string]any) error {
	var n int64
	if err := s.db.WithContext(ctx).Raw(sql, args).Row().Scan(&n, new(string)); err != nil {
		return err
	}
	if n != 1 {
		return ErrLost
	}
	return nil
}

// event appends a numbered event in the transaction of whoever holds the work's row.
func event(tx *gorm.DB, work int64, step, code, text string) error {
	if text == "" {
		return nil
	}
	return tx.Exec("WITH w AS (UPDATE work SET events = events + 1 WHERE id = @work RETURNING id, events, "+
		"instance_id, holding), "+eventOf(false)+" SELECT 1",
		map[string]any{"work": work, "step": step, "code": code, "text": text}).Error
}

// Say tells those who follow the work what is going on in a step. ErrLost.
func (s *Store) Say(ctx context.Context, c Claim, step, code, text string) error {
	return s.claimed(ctx, "WITH w AS (UPDATE work SET events = events + 1 WHERE id "+
		"= @work AND fence = @fence AND state = 'running' RETURNING id, events, instance_id, holding), "+
		eventOf(c.Progress)+
		" SELECT count(*) AS n, set_config('synchronous_commit', 'off', true) FROM w",
		map[string]any{"work": c.Work, "fence": c.Fence, "step": step, "text": text, "code": code})
}

// Wait lays a claimed piece of work down until wake, at the latest until end.
// It holds no instance meanwhile. end stays what it was if the step waits on.
// Who was to wake it since it was claimed does so now: the step had looked before.
// code is why it waits, for programs; reason is for people.
func (s *Store) Wait(ctx context.Context, c Claim, step, code, reason string, wake time.Duration,
	end time.Duration) error {
	// One statement: the row is locked first, and what it says then is what is compared.
	return s.claimed(ctx, `WITH b AS (SELECT id, waits_for FROM work WHERE id = @work AND fence = @fence
			AND state = 'running' FOR UPDATE),
		u AS (UPDATE work w SET state = 'waiting', holding = false, free_at = NULL,
			waits_code = @why, waits_for = @reason,
			wait_ends_at = coalesce(w.wait_ends_at, clock_timestamp() + make_interval(secs => @end)),
			wake_at = CASE WHEN w.woken_at IS NOT NULL THEN clock_timestamp()
				WHEN w.wait_ends_at <= clock_timestamp() THEN clock_timestamp() + make_interval(secs => @wake)
				ELSE least(clock_timestamp() + make_interval(secs => @wake),
					coalesce(w.wait_ends_at, clock_timestamp() + make_interval(secs => @end))) END,
			events = w.events + CASE WHEN b.waits_for = @reason THEN 0 ELSE 1 END
			FROM b WHERE w.id = b.id RETURNING w.id, w.events, w.instance_id, w.holding, b.waits_for <> @reason AS news),
		s AS (UPDATE work_steps s SET state = 'waiting' FROM u WHERE s.work_id = u.id AND s.name = @step),
		w AS (SELECT * FROM u WHERE u.news), `+eventOf(false)+`
		SELECT count(*) AS n, set_config('synchronous_commit', 'off', true) FROM u`,
		map[string]any{"work": c.Work, "fence": c.Fence, "step": step, "why": code, "reason": reason,
			"wake": wake.Seconds(), "end": end.Seconds(), "text": "waits: " + reason, "code": wire.EventWaits})
}

// wakes is what wakes a piece of work, or keeps it from going to sleep if it is
// awake. Only for transactions that hold nothing that the work's own may want.
const wakes = "woken_at = clock_timestamp(), wake_at = CASE WHEN state = 'waiting' THEN clock_timestamp() ELSE " +
	"wake_at END"

// WaitOver tells whether the end of the work's wait has come, by the database's clock.
func (s *Store) WaitOver(ctx context.Context, id int64) (bool, error) {
	var over bool
	err := s.db.WithContext(ctx).Raw("SELECT coalesce(wait_ends_at <= clock_timestamp(), false) FROM work WHERE id = ?", id).Scan(&over).Error
	return over, err
}

// StepAge tells how long ago the work's step began, by the database's clock.
func (s *Store) StepAge(ctx context.Context, id int64, step string) (time.Duration, error) {
	var seconds float64
	err := s.db.WithContext(ctx).Raw("SELECT coalesce(extract(epoch FROM clock_timestamp() - began_at), 0) FROM "+
		"work_steps WHERE work_id = ? AND name = ?", id, step).Scan(&seconds).Error
	return time.Duration(seconds * float64(time.Second)), err
}

// NoteData is SetData for what can be found out again: nobody waits for the disk.
func (s *Store) NoteData(ctx context.Context, c Claim, data any) error {
	text, err := json.Marshal(data)
	if err != nil {
		return err
	}
	args := keptData{string(text), FactsOf(data)}.args()
	args["work"], args["fence"] = c.Work, c.Fence
	return s.claimed(ctx, "WITH w AS (UPDATE work SET "+keeps+" WHERE id = @work AND fence = @fence AND state = "+
		"'running' RETURNING id) SELECT count(*), set_config('synchronous_commit', 'off', true) FROM w", args)
}

// SetData keeps what a step found out, for the steps after it.
func (s *Store) SetData(ctx context.Context, c Claim, data any) error {
	text, err := json.Marshal(data)
	if err != nil {
		return err
	}
	f := FactsOf(data)
	// On the disk before anything that it is needed for is done.
	r := s.db.WithContext(ctx).Exec("UPDATE work SET data = ?, rescue_cloud_id = ?, volume = ?, contained = ? "+
		"WHERE id = ? AND fence = ? AND state = 'running'",
		string(text), f.RescueCloudID, f.Volume, f.Contained, c.Work, c.Fence)
	if r.Error == nil && r.RowsAffected != 1 {
		return ErrLost
	}
	return r.Error
}

// WorkEnd is how a piece of work ends, and what that makes of its instance.
type WorkEnd struct {
	State   WorkState
	Outcome string
	Code    string // of the outcome, for programs; "" leaves that of the trouble
	Trouble string // of the instance; "" for none
	// TroubleCode is what the instance's trouble is, for programs.
	TroubleCode string
	Phase       Phase  // of the instance; "" leaves it
	Action      string // for the journal
	Target      string
	// Last is the step that is done with it, by its name, and with it those after it; "" where that
	// was written. Settled: the work has shown what it is for with them.
	Last    string
	Settled bool
}

// ParentLooks is how long after the end of a part its parent looks at the latest. Not at once: a hundred parts
// may end in a second, and their parent counts all of them each time.
const ParentLooks = 300 * time.Millisecond

// EndWork ends a claimed piece of work, with its outcome in the journal. ErrLost, and ErrCancelAsked
// under Heeds.
func (s *Store) EndWork(ctx context.Context, w Work, e WorkEnd) error {
	text := string(e.State)
	if e.Outcome != "" {
		text += ": " + e.Outcome
	}
	at, err := s.Now(ctx)
	if err != nil {
		return err
	}
	at = at.Truncate(time.Microsecond) // as the database keeps it
	journal := entry{Service, e.Action, e.Target, "", text, w.IntentID}
	exact, err := journal.exact(at)
	if err != nil {
		return err
	}
	held, args := fence(onDisk(ctx))
	maps.Copy(args, map[string]any{"state": string(e.State), "outcome": e.Outcome, "why": e.Code, "id": w.ID,
		"parent": w.ParentID, "step": w.At, "code": "", "text": text, "at": at, "operator": journal.Actor.Operator,
		"address": journal.Actor.Address, "action": e.Action, "target": e.Target, "of": w.IntentID, "bytes": raw(exact),
		"last": e.Last, "settled": e.Settled, "phase": string(e.Phase), "instance": w.InstanceID, "trouble": e.Trouble,
		"trouble_code": e.TroubleCode, "looks": ParentLooks.Seconds(), "wakes": []string{wire.WaitsBack, wire.WaitsAnswer}})
	instance := ""
	if e.Phase != "" {
		instance += `, i AS (UPDATE instances SET phase = @phase, progress = '', trouble = @trouble,
			trouble_code = @trouble_code FROM f WHERE instances.id = @instance)`
	}
	if e.Phase == Ready { // what waits for it to be back need not wait longer
		instance += `, waits AS (UPDATE work SET wake_at = clock_timestamp() FROM f WHERE work.instance_id = @instance
			AND work.state = 'waiting' AND work.waits_code IN @wakes)`
	}
	if e.Phase == Removed {
		instance += `, steward AS (DELETE FROM steward_keys USING f WHERE instance_id = @instance),
			address AS (UPDATE addresses SET until = clock_timestamp() FROM f WHERE instance_id = @instance AND until IS NULL)`
	}
	err = s.claimed(ctx, `WITH f AS (`+held+`),
		j AS (INSERT INTO journal (at, operator, address, action, target, intent, outcome, of, bytes)
			SELECT CAST(@at AS timestamptz), CAST(@operator AS text), CAST(@address AS text), CAST(@action AS text),
			CAST(@target AS text), '', CAST(@text AS text), nullif(CAST(@of AS bigint), 0), CAST(@bytes AS bytea) FROM f),
		w AS (UPDATE work SET state = @state, outcome = @outcome,
			code = CASE WHEN @why = '' THEN code ELSE @why END, holding = false, free_at = NULL, wake_at = NULL,
			settled_at = CASE WHEN @settled THEN clock_timestamp() ELSE settled_at END,
			at = CASE WHEN @last = '' THEN at ELSE '' END,
			waits_code = CASE WHEN @last = '' THEN waits_code ELSE '' END,
			waits_for = CASE WHEN @last = '' THEN waits_for ELSE '' END,
			wait_ends_at = CASE WHEN @last = '' THEN wait_ends_at END,
			ended_at = clock_timestamp(), events = events + 1
			FROM f WHERE id = @id RETURNING id, events, instance_id, holding),
		s AS (UPDATE work_steps s SET state = 'done', ended_at = clock_timestamp() FROM w, work_steps l
			WHERE s.work_id = w.id AND l.work_id = w.id AND l.name = @last AND s.n >= l.n),
		parent AS (UPDATE work SET wake_at = least(wake_at, clock_timestamp() + make_interval(secs => @looks)) FROM f
			WHERE work.id = @parent AND work.state = 'waiting')`+
		instance+", "+eventOf(false)+" SELECT count(*), "+commits+" FROM w", args)
	if errors.Is(err, ErrLost) {
		return s.lost(ctx, w.ID, w.Fence)
	}
	return err
}

// CancelWork asks that a piece of work go back. ErrWorkState if it is over, ErrNoReturn if one of the
// steps with these names has begun.
func (s *Store) CancelWork(ctx context.Context, by Actor, w Work, noReturn ...string) error {
	return s.tx(ctx, func(tx *gorm.DB) error {
		if len(noReturn) > 0 {
			// Whoever writes that a step begins locks the row too: what is read here stands until the end.
			if err := tx.Exec("SELECT 1 FROM work WHERE id = ? FOR UPDATE", w.ID).Error; err != nil {
				return err
			}
			var begun bool
			if err := tx.Raw("SELECT EXISTS (SELECT 1 FROM work_steps WHERE work_id = ? AND name IN ? AND state <> "+
				"'to do')", w.ID, noReturn).Scan(&begun).Error; err != nil {
				return err
			}
			if begun {
				return ErrNoReturn
			}
		}
		r := tx.Exec(`UPDATE work SET cancel_asked = true, woken_at = clock_timestamp(), state = CASE
			WHEN state = 'waiting' THEN 'queued' ELSE state END
			WHERE id = ? AND state IN ('queued', 'running', 'waiting') AND NOT cancel_asked`, w.ID)
		if r.Error != nil {
			return r.Error
		}
		if r.RowsAffected == 0 {
			return ErrWorkState
		}
		_, err := entry{by, "work.cancel", fmt.Sprintf("work %d", w.ID), "cancel: " + w.Title, "asked", 0}.write(tx)
		return err
	})
}

// RetryWork takes up a piece of work again: one that is stuck where it is
// stuck, one that went back from its beginning, with these steps as its plan.
// ErrWorkState for any other, ErrInProgress if another piece holds the instance.
func (s *Store) RetryWork(ctx context.Context, by Actor, w Work, steps []WorkStep, phase Phase) error {
	return s.tx(ctx, func(tx *gorm.DB) error {
		intent, err := entry{by, "work.retry", fmt.Sprintf("work %d", w.ID), "take up again: " +
			w.Title, "", 0}.write(tx)
		if err != nil {
			return err
		}
		r := tx.Exec(`UPDATE work SET state = 'queued', holding = changing, ended_at = NULL, outcome = '',
			cancel_asked = false, intent_id = ?, code = '', waits_code = '', waits_for = '', wait_ends_at = NULL,
			back = (state = 'stuck' AND back), trouble = CASE WHEN state = 'stuck' AND back THEN trouble ELSE '' END,
			at = CASE WHEN state = 'stuck' THEN at ELSE ? END, settled_at = CASE
			WHEN state = 'stuck' THEN settled_at END, attempt = attempt + CASE WHEN state = 'stuck' THEN 0 ELSE 1 END
			WHERE id = ? AND state IN ('failed', 'cancelled', 'stuck')`, intent, steps[0].Name, w.ID)
		if constraint, ok := unique(r.Error); ok && constraint == "work_holds_instance" {
			return ErrInProgress
		}
		if r.Error != nil {
			return r.Error
		}
		if r.RowsAffected == 0 {
			return ErrWorkState
		}
		// Limits on time begin anew, for the step that was stuck or for all.
		if w.State == Stuck {
			err = tx.Exec("UPDATE work_steps SET state = 'to do', began_at = NULL, ended_at = NULL WHERE work_id = "+
				"? AND name = ?", w.ID, w.At).Error
		} else if err = tx.Exec("DELETE FROM work_steps WHERE work_id = ?", w.ID).Error; err == nil {
			err = addSteps(tx, w.ID, steps)
		}
		if err != nil {
			return err
		}
		if phase != "" {
			if err := tx.Exec("UPDATE instances SET phase = ?, trouble = '', trouble_code = '' WHERE id = ?",
				string(phase), w.InstanceID).Error; err != nil {
				return err
			}
		}
		return event(tx, w.ID, w.At, "", "taken up again by "+by.Operator)
	})
}

// WorkInput returns what was asked for and reported of a piece of work, JSON.
func (s *Store) WorkInput(ctx context.Context, id int64) (string, error) {
	r, err := one[struct{ Input string }](ctx, s, "SELECT input::text AS input FROM work WHERE id = ?", id)
	return r.Input, err
}

// WorkByID finds a piece of work; ErrNotFound.
func (s *Store) WorkByID(ctx context.Context, id int64) (Work, error) {
	return one[Work](ctx, s, workColumns+" WHERE w.id = ?", id)
}

// WorkSteps returns the steps of a piece of work in their order.
func (s *Store) WorkSteps(ctx context.Context, id int64) ([]WorkStep, error) {
	out := []WorkStep{}
	err := s.db.WithContext(ctx).Raw("SELECT n, name, title, state, tries, began_at, ended_at FROM work_steps "+
		"WHERE work_id = ? ORDER BY n", id).Scan(&out).Error
	return out, err
}

// addSteps makes the plan of a piece of work.
func addSteps(tx *gorm.DB, id int64, steps []WorkStep) error {
	text, err := recordset(steps)
	if err != nil {
		return err
	}
	return tx.Exec(`INSERT INTO work_steps (work_id, n, name, title) SELECT ?, s.n - 1, s.step->>'Name',
		s.step->>'Title' FROM jsonb_array_elements(?::jsonb) WITH ORDINALITY AS s(step, n)`, id, text).Error
}

// WorkEvent is one thing that was told about a piece of work.
type WorkEvent struct {
	N    int
	At   time.Time
	Step string
	Code string
	Text string
}

// WorkEvents returns at most limit events after the one numbered after.
func (s *Store) WorkEvents(ctx context.Context, id int64, after, limit int) ([]WorkEvent, error) {
	out := []WorkEvent{}
	err := s.db.WithContext(ctx).Raw("SELECT n, at, step, code, text FROM work_events WHERE work_id = ? AND n > ? "+
		"ORDER BY n LIMIT ?", id, after, limit).Scan(&out).Error
	return out, err
}

// WorkCount is how many children of a piece of work are in a state.
type WorkCount struct {
	State WorkState
	Count int
}

// Children counts the children of a piece of work by state.
func (s *Store) Children(ctx context.Context, id int64) ([]WorkCount, error) {
	out := []WorkCount{}
	err := s.db.WithContext(ctx).Raw("SELECT state, count(*) AS count FROM work WHERE parent_id = ? GROUP BY state "+
		"ORDER BY state", id).Scan(&out).Error
	return out, err
}

// AddWork begins a piece of work that is about no single instance. Replayed or ErrReused by once.
func (s *Store) AddWork(ctx context.Context, by Actor, once Once, n NewWork) (Work, error) {
	var id int64
	err := s.tx(ctx, func(tx *gorm.DB) (err error) {
		id, err = addWork(tx, by, once, 0, n)
		return err
	})
	if err != nil {
		return Work{}, err
	}
	return s.WorkByID(ctx, id)
}

// WorkQuery chooses pieces of work.
type WorkQuery struct {
	State    string // one state; "open" for those at hand; "" for all
	Kind     string
	Instance string
	Parent   int64
	Page
}

// WorkList returns a page of work, the newest first.
func (s *Store) WorkList(ctx context.Context, q WorkQuery) ([]Work, string, error) {
	var l list
	switch {
	case q.State == "open":
		l.filter("w.state IN ('queued', 'running', 'waiting', 'stuck')")
	case q.State != "":
		l.filter("w.state = ?", q.State)
	}
	if q.Kind != "" {
		l.filter("w.kind = ?", q.Kind)
	}
	if q.Instance != "" {
		l.filter("i.name_fold = ?", names.Fold(q.Instance))
	}
	if q.Parent != 0 {
		l.filter("w.parent_id = ?", q.Parent)
	}
	value := func(w Work) (string, int64) { return strings.Repeat("0", 1), w.ID }
	return pageOf(ctx, s, &l, workColumns, "'0'", "w.id", true, q.Page, value)
}

// Tell adds to the input of a piece of work at hand what somebody reports of
// it, and has it look at once. ErrWorkState if it is over.
func (s *Store) Tell(ctx context.Context, id int64, add any, text string) error {
	addition, err := json.Marshal(add)
	if err != nil {
		return err
	}
	return s.tx(ctx, func(tx *gorm.DB) error {
		r := tx.Exec(`UPDATE work SET input = input || ?::jsonb, `+wakes+`
			WHERE id = ? AND state IN ('queued', 'running', 'waiting')`, string(addition), id)
		if r.Error != nil {
			return r.Error
		}
		if r.RowsAffected == 0 {
			return ErrWorkState
		}
		return event(tx, id, "", "", text)
	})
}

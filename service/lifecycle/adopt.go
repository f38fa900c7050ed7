package lifecycle

import (
	"bytes"
	"cmp"
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"plumlatch/core/access"
	"plumlatch/core/authkeys"
	"plumlatch/core/keypair"
	"plumlatch/core/names"
	"plumlatch/core/plaintext"
	"plumlatch/core/wire"
	"plumlatch/reach"
	"plumlatch/service/cloud"
	"plumlatch/service/door"
	"plumlatch/service/store"
	"plumlatch/service/survey"
	"plumlatch/service/work"
)

// An instance that is there already is adopted by two: the engineer's client,
// which gets in with the engineer's own key and places the steward's line, and
// the service, which waits for that, shows that the line works, and reads what
// there is. If it does not work the client takes the line out again.

// adoption is the input of the work: what the client found, and what it reported since.
type adoption struct {
	wire.Adoption
	Placed    bool   `json:"placed"`
	Withdrawn bool   `json:"withdrawn"`
	From      string `json:"from"` // the client's address
	// Forget, of work that removes an instance: the cloud keeps it.
	Forget bool `json:"forget,omitempty"`
}

// adopted is what the steps found out.
type adopted struct {
	Recorded   int      `json:"recorded"`
	Unrecorded int      `json:"unrecorded"`
	NotSeen    []string `json:"not_seen,omitempty"`
	Refused    []string `json:"refused,omitempty"`
	Left       bool     `json:"left"` // the line may still be there
}

const lineLimit = 10 * time.Minute // for the client to place the steward's line

const askLimit = 15 * time.Second // for a server that does not answer

const partsLimit = 4 * time.Hour // for all parts of adopting many

func (w *Service) adoptKind() *work.Kind {
	adoptOf := w.adoptSteps()
	return &work.Kind{
		Name: "adopt", Action: "instance.adopt", Phase: store.Adopting, Changing: true,
		Steps: []work.Step{
			{Name: "host-key", Title: "seeing whether the same host key answers from here",
				Do: adoptOf.Do((*adoptJob).sameHostKey)},
			{Name: "line", Title: "waiting for the steward's line", Do: adoptOf.Do((*adoptJob).awaitLine),
				Undo: adoptOf.Do((*adoptJob).withdrawLine), UndoEffects: []string{"withdraw"}},
			{Name: "probe", Title: "asking the server whether it takes the steward's key",
				Do: adoptOf.Do((*adoptJob).probeSteward)},
			{Name: "read", Title: "reading which keys are there", Do: adoptOf.Do((*adoptJob).readAdopted)},
			{Name: "accept", Title: "asking the server which keys it takes", Do: adoptOf.Do((*adoptJob).probeAdopted)},
		},
		End: adoptOf.End((*adoptJob).endAdopt),
	}
}

func (w *Service) adoptManyKind() *work.Kind {
	return &work.Kind{
		Name: "adopt-many", Action: "instance.adopt-many",
		Steps: []work.Step{{Name: "parts", Title: "waiting for its parts", Do: plainSteps.Do((*plainJob).awaitParts)}},
		End: plainSteps.End(func(r *plainJob, state store.WorkState) (store.WorkEnd, error) {
			counts, err := r.Store.Children(r.Ctx, r.Work.ID)
			if err != nil {
				return store.WorkEnd{}, err
			}
			var in struct{ Count int }
			if err := door.Decode(r.Work.Input, &in); err != nil {
				return store.WorkEnd{}, err
			}
			done, failed := 0, 0
			for _, c := range counts {
				if c.State == store.Done {
					done += c.Count
				} else {
					failed += c.Count
				}
			}
			// What the client could not get into never became a part.
			return store.WorkEnd{Outcome: fmt.Sprintf("%d of %d adopted; %d failed, %d the client did not get into",
				done, in.Count, failed, max(0, in.Count-done-failed))}, nil
		}),
	}
}

// Adopt records an instance that is there already, with the work that brings
// it in. It answers with the instance and the lines that the client is to
// place. FieldError, store.ErrNameTaken, store.ErrReused.
func (w *Service) Adopt(ctx context.Context, by store.Actor, once store.Once, a wire.Adoption) (store.Instance,
	wire.Adopted, error) {
	if i, again, err := w.Replayed(ctx, w.Store.Seen(ctx, once)); again || err != nil {
		if err != nil {
			return i, wire.Adopted{}, err
		}
		lines, err := w.lines(ctx, i)
		return i, lines, err
	}
	n, err := w.planAdoption(ctx, a)
	if err != nil {
		return store.Instance{}, wire.Adopted{}, err
	}
	if !a.NoSteward {
		pair, err := keypair.Create(keypair.Ed25519, "steward "+n.Alias)
		if err != nil {
			return store.Instance{}, wire.Adopted{}, err
		}
		n.Steward = pair.Public
		if n.StewardSealed, err = w.Encrypt(ctx, pair); err != nil {
			return store.Instance{}, wire.Adopted{}, err
		}
	}
	what := fmt.Sprintf("adopt %s port %d as %s, with a steward's line in %s", a.Address, a.Port, a.LoginUser,
		plaintext.Line(a.File))
	if a.NoSteward {
		what = fmt.Sprintf("adopt %s port %d as %s, without a steward", a.Address, a.Port, a.LoginUser)
	}
	n.Work = w.Begun(w.Named("adopt"), "adopt "+a.Name, door.Token(26), n.Instance, what,
		adoption{Adoption: a, From: by.Address})
	n.Work.ParentID = a.Parent
	i, err := w.Store.AddInstance(ctx, by, once, n)
	if done, again, err := w.Replayed(ctx, err); again || err != nil {
		if err != nil {
			return done, wire.Adopted{}, err
		}
		i = done
	}
	w.Look()
	lines, err := w.lines(ctx, i)
	return i, lines, err
}

// planAdoption checks what the client sends.
func (w *Service) planAdoption(ctx context.Context, a wire.Adoption) (store.NewInstance, error) {
	n := store.NewInstance{Instance: store.Instance{
		Name: a.Name, Alias: "plumlatch-" + door.Token(10), Adopted: true, Address: a.Address, Port: a.Port,
		LoginUser: a.LoginUser,
		Phase:     store.Adopting, State: string(cloud.Running), Tags: a.Tags, KeysFiles: a.KeysFiles,
		Privilege: plaintext.Line(plaintext.Cut(a.Privilege, 200)),
	}}
	wrong := func(field, format string, args ...any) (store.NewInstance, error) {
		return n, door.FieldError{Field: field, Problem: fmt.Sprintf(format, args...)}
	}
	if err := names.Check(a.Name); err != nil {
		return wrong("name", "%v", err)
	}
	if err := checkTags(a.Tags, 50); err != nil {
		return n, err
	}
	if _, err := w.Reach.Check(a.Address, a.Port); err != nil {
		return wrong("address", "%v", err)
	}
	if !names.LoginUser(a.LoginUser) {
		return wrong("login_user", "this is no user name")
	}
	if len(a.KeysFiles) == 0 || len(a.KeysFiles) > 16 {
		return wrong("keys_files", "name the files that its server reads, 1 to 16")
	}
	inFiles := a.NoSteward
	for _, f := range a.KeysFiles {
		if f == "" || len(f) > 255 || plaintext.HasControl(f) {
			return wrong("keys_files", "a file's name is 1 to 255 printable characters")
		}
		inFiles = inFiles || f == a.File
	}
	if !inFiles {
		return wrong("file", "the steward's line goes into one of the files that its server reads")
	}
	if len(a.Keys) > survey.MaxFound {
		return wrong("keys", "more than %d keys", survey.MaxFound)
	}
	var err error
	if n.HostKeys, err = hostKeysOf(a.HostKeys, a.HostKnown); err != nil {
		return wrong("host_keys", "%v", err)
	}
	if a.Via != nil {
		if a.NoSteward {
			return wrong("via", "through a jump host a steward is needed: the service has no other way in")
		}
		if _, err := w.Reach.Check(a.Via.Address, a.Via.Port); err != nil {
			return wrong("via", "%v", err)
		}
		if !names.LoginUser(a.Via.LoginUser) {
			return wrong("via", "this is no user name")
		}
		hop, err := hostKeysOf(a.Via.HostKeys, a.HostKnown)
		if err != nil {
			return wrong("via", "%v", err)
		}
		n.Via = &store.Via{Address: a.Via.Address, Port: a.Via.Port, LoginUser: a.Via.LoginUser}
		for _, h := range hop {
			n.Via.HostKeys = append(n.Via.HostKeys, h.Blob)
		}
	} else if there, err := w.Store.InstanceAt(ctx, a.Address, a.Port); err == nil {
		return wrong("address", "%s port %d is in the ledger already, as %s", a.Address, a.Port, there.Name)
	} else if !errors.Is(err, store.ErrNotFound) {
		return n, err
	}
	if a.Parent != 0 {
		p, err := w.Store.WorkByID(ctx, a.Parent)
		if err != nil || p.Kind != "adopt-many" || p.Over() {
			return wrong("parent", "there is no such work at hand that adopts many")
		}
	}
	return n, nil
}

func hostKeysOf(lines []string, source string) ([]store.HostKey, error) {
	if len(lines) == 0 || len(lines) > 8 {
		return nil, errors.New("give 1 to 8 host keys")
	}
	source = plaintext.Line(plaintext.Cut(source, 100))
	var out []store.HostKey
	for _, l := range lines {
		p, err := keypair.ReadPublic([]byte(l))
		if err != nil {
			return nil, errors.New("a host key cannot be read")
		}
		out = append(out, store.HostKey{Blob: p.Blob, Type: p.Type(), Fingerprint: p.Fingerprint(), Source: source})
	}
	return out, nil
}

// lines are the lines that the client is to place for the steward of an instance.
func (w *Service) lines(ctx context.Context, i store.Instance) (wire.Adopted, error) {
	blob, err := w.Store.StewardPublic(ctx, i.ID)
	if errors.Is(err, store.ErrNotFound) {
		return wire.Adopted{}, nil
	}
	if err != nil {
		return wire.Adopted{}, err
	}
	line := keypair.Public{Blob: blob, Comment: "steward " + i.Alias}.Line()
	out := wire.Adopted{StewardLine: authkeys.StewardOptions + " " + line}
	if i.Via != nil {
		target, err := w.Reach.Check(i.Address, i.Port)
		if err != nil {
			return wire.Adopted{}, err
		}
		out.HopLine = authkeys.HopOptions(target) + " " + line
	}
	return out, nil
}

// ReportLine keeps what the client tells of the steward's line. store.ErrWorkState.
func (w *Service) ReportLine(ctx context.Context, work store.Work, report wire.LineReport) error {
	if work.Kind != "adopt" {
		return store.ErrWorkState
	}
	add, text := map[string]any{"placed": true, "withdrawn": false, "file": report.File},
		"the client has placed the steward's line"
	if !report.Placed {
		add, text = map[string]any{"withdrawn": true}, "the client has taken the steward's line out again"
	}
	err := w.Store.Tell(ctx, work.ID, add, text)
	w.Look()
	return err
}

// AdoptMany begins a piece of work that many adoptions are part of.
func (w *Service) AdoptMany(ctx context.Context, by store.Actor, once store.Once, count int) (store.Work, error) {
	k := w.Named("adopt-many")
	title := fmt.Sprintf("adopt %d instances", count)
	n := store.NewWork{Kind: k.Name, Title: title, Token: door.Token(26), Input: map[string]any{"count": count},
		Steps: k.Plan(), Action: k.Action, Target: "instances", Intent: title}
	work, err := w.Store.AddWork(ctx, by, once, n)
	if done, ok := errors.AsType[store.Replayed](err); ok {
		return w.Store.WorkByID(ctx, done.WorkID)
	}
	w.Look()
	return work, err
}

// CloseParts says that a piece of work gets no further parts. store.ErrWorkState.
func (w *Service) CloseParts(ctx context.Context, work store.Work) error {
	if work.Kind != "adopt-many" {
		return store.ErrWorkState
	}
	err := w.Store.Tell(ctx, work.ID, map[string]any{"closed": true}, "no further part comes")
	w.Look()
	return err
}

func (r *plainJob) awaitParts() error {
	now, err := r.Store.WorkByID(r.Ctx, r.Work.ID)
	if err != nil {
		return err
	}
	var in struct{ Closed bool }
	if err := door.Decode(now.Input, &in); err != nil {
		return err
	}
	counts, err := r.Store.Children(r.Ctx, r.Work.ID)
	if err != nil {
		return err
	}
	open := 0
	for _, c := range counts {
		if c.State == store.Queued || c.State == store.Running || c.State == store.Waiting {
			open += c.Count
		}
	}
	if in.Closed && open == 0 {
		return nil
	}
	if over, err := r.WaitOver(); err != nil || over {
		return err
	}
	return r.Wait(wire.WaitsParts, "its parts; those that are not over then go on by themselves",
		2*time.Second, partsLimit)
}

// sameHostKey compares the host key that answers the service with the one that
// the client saw. Through a jump host nothing answers before the line is there;
// the probe compares it then.
func (r *adoptJob) sameHostKey() error {
	if r.Instance.Via != nil {
		return nil
	}
	pinned, err := r.Store.HostKeys(r.Ctx, r.Instance.ID)
	if err != nil {
		return err
	}
	left, err := r.Left(askLimit)
	if err != nil {
		return err
	}
	blob, err := r.HostKey(pinned[0].Type, time.Now().Add(left))
	if stop := r.Stopping(); stop != nil {
		return stop
	}
	if err != nil {
		return door.Failf("the service does not get to %s port %d: %s", r.Instance.Address,
			r.Instance.Port, door.Words(err))
	}
	for _, p := range pinned {
		if bytes.Equal(p.Blob, blob) {
			return nil
		}
	}
	return door.Failf("another host key answers the service than the client: %s, and the client saw %s; one of the "+
		"two talks to something else", keypair.Fingerprint(blob), pinned[0].Fingerprint)
}

// awaitLine waits until the client has placed the steward's line.
func (r *adoptJob) awaitLine() error {
	if err := r.Reread(); err != nil {
		return err
	}
	if r.In.NoSteward || r.In.Placed {
		return nil
	}
	if over, err := r.WaitOver(); err != nil {
		return err
	} else if over {
		return door.Failf("the client did not place the steward's line within %s", lineLimit)
	}
	return r.Wait(wire.WaitsClient, "the client to place the steward's line; if it does not, this goes back",
		time.Second, lineLimit)
}

// withdrawLine takes the steward's line out by the steward itself, if that gets
// in; else the client does it. The private half is destroyed with the work, so
// that a line that is left behind opens nothing.
func (r *adoptJob) withdrawLine() error {
	if err := r.Reread(); err != nil {
		return err
	}
	if r.In.NoSteward {
		return nil
	}
	left, err := r.withdraw()
	if err != nil {
		return err
	}
	return r.SetData(adopted{Left: left && r.In.Placed && !r.In.Withdrawn})
}

// forgetLine does the same for an adopted instance that is to be forgotten.
func (r *adoptJob) forgetLine() error {
	left, err := r.withdraw()
	if err != nil {
		return err
	}
	return r.SetData(adopted{Left: left})
}

// withdraw has the steward take its own line out of every file; left means
// that it could not.
func (r *adoptJob) withdraw() (left bool, err error) {
	blob, err := r.Store.StewardPublic(r.Ctx, r.Instance.ID)
	if errors.Is(err, store.ErrNotFound) {
		return false, nil
	}
	if err != nil {
		return false, err
	}
	ctx, cancel := context.WithTimeout(r.Ctx, askLimit)
	defer cancel()
	files, closer, err := r.Steward(ctx, r.Instance)
	if err == nil {
		defer closer()
		err = r.Effect("withdraw", func(ctx context.Context) error {
			return door.WithdrawOwn(ctx, files, r.Instance, blob)
		})
	}
	if r.Ctx.Err() != nil || errors.Is(err, store.ErrLost) {
		return false, store.ErrLost
	}
	return err != nil, nil
}

// probeSteward asks whether the steward's key is taken.
func (r *adoptJob) probeSteward() error {
	if err := r.Reread(); err != nil {
		return err
	}
	if r.In.NoSteward {
		return nil
	}
	rows, err := r.Store.AccessesOf(r.Ctx, r.Instance.ID)
	if err != nil {
		return err
	}
	var steward []store.Access
	for _, row := range rows {
		if row.Steward {
			steward = append(steward, row)
			if err := r.Store.Observe(r.Ctx, row.ID, access.Placed, true, r.In.From); err != nil {
				return err
			}
		}
	}
	left, err := r.Left(askLimit)
	if err != nil {
		return err
	}
	deadline := time.Now().Add(left)
	for {
		refused, err := r.ProbeRows(steward)
		if err != nil || len(refused) == 0 {
			return err
		}
		// A refusal is an answer; silence may pass.
		if time.Now().After(deadline) || !strings.Contains(refused[0], string(reach.NotAsked)) {
			return door.Failf("the server does not take the steward's key (%s): it may read another file than %s, "+
				"or an option of its configuration stands against it", refused[0], r.In.File)
		}
		if err := r.Stopping(); err != nil {
			return err
		}
		r.Sleep(time.Second)
	}
}

// readAdopted reads the files by the steward, and records which known keys open
// the instance. What the steward could not read, or where there is none, is
// taken from what the client read, as the client's word.
func (r *adoptJob) readAdopted() error {
	if err := r.Reread(); err != nil {
		return err
	}
	part := store.SurveyPart{Sort: "client", Vantage: "the client at " + r.In.From}
	l := survey.Looked{Whole: true}
	if !r.In.NoSteward {
		known, err := r.Store.ForSurvey(r.Ctx, r.Instance.ID)
		if err != nil {
			return err
		}
		if l, err = r.svc.LookInside(r.Ctx, r.Instance, known[r.Instance.ID]); err != nil {
			return door.Failf("%s", door.Words(err))
		}
		part = store.SurveyPart{Sort: "inside", Vantage: l.Out.Vantage, Document: l.Document}
	}
	if r.In.NoSteward || len(l.Out.Files) == 0 {
		l.Found, part.Vantage = survey.ReadByClient(r.In.Keys), "the client at "+r.In.From
	}
	c := survey.Compared{Found: map[int64]bool{}}
	for _, f := range l.Found {
		k, err := r.Store.KeyByFingerprint(r.Ctx, keypair.Fingerprint(f.Blob))
		if errors.Is(err, store.ErrNotFound) || f.Limits == access.Authority {
			continue
		}
		if err != nil {
			return err
		}
		if _, err := r.Store.AddAccess(r.Ctx, r.Instance.ID, k.ID, r.Instance.LoginUser); err != nil {
			return err
		}
	}
	known, err := r.Store.ForSurvey(r.Ctx, r.Instance.ID)
	if err != nil {
		return err
	}
	rows := known[r.Instance.ID].Accesses
	if err := r.svc.Show(r.Ctx, &l.Out, &c, r.Instance.LoginUser, rows, l.Found, false); err != nil {
		return err
	}
	part.Recorded, part.Unrecorded, part.Report = c.Recorded, c.Unrecorded, l.Out
	fence, err := r.Store.TakeTurn(r.Ctx, r.Instance.ID)
	if errors.Is(err, store.ErrSurveying) { // it may be whoever had this work before: the turn ends by itself
		over, e := r.WaitOver()
		if e != nil || over {
			return cmp.Or(e, err)
		}
		return r.Wait(wire.WaitsRetry, "the survey of it that is at hand", time.Second, time.Minute)
	}
	if err != nil {
		return err
	}
	kept := store.Kept{By: store.Service, Turn: store.Turn{InstanceID: r.Instance.ID, Fence: fence},
		Parts: []store.SurveyPart{part}, Found: c.Found}
	for _, f := range l.Found {
		kept.Keys = append(kept.Keys, store.SeenKey{LoginUser: r.Instance.LoginUser, Found: f})
	}
	if err := r.Store.KeepSurvey(r.Ctx, r.Instance, kept); err != nil {
		return err
	}
	for _, a := range rows {
		if a.Steward && c.Found[a.ID] {
			c.Recorded--
		}
	}
	return r.SetData(adopted{Recorded: c.Recorded, Unrecorded: c.Unrecorded, NotSeen: l.Out.NotSeen})
}

// probeAdopted asks about every key that is recorded for the instance.
func (r *adoptJob) probeAdopted() error {
	var err error
	if r.D.Refused, err = r.ProbeAll(); err != nil {
		return err
	}
	return r.Keep()
}

func (r *adoptJob) endAdopt(state store.WorkState) (store.WorkEnd, error) {
	if state != store.Done {
		if err := r.Reread(); err != nil {
			return store.WorkEnd{}, err
		}
		text := r.Work.Trouble + "; nothing is recorded"
		if state == store.Cancelled {
			text = "nothing is recorded"
		}
		if r.D.Left {
			text += fmt.Sprintf("; the steward's line may still stand in %s of %s: its private half was destroyed, "+
				"so it opens nothing", plaintext.Line(r.In.File), r.In.LoginUser)
		}
		return store.WorkEnd{Phase: store.Removed, Trouble: r.Work.Trouble, Outcome: text}, nil
	}
	e := store.WorkEnd{Phase: store.Ready,
		Outcome: fmt.Sprintf("adopted: recorded keys %d, unrecorded %d", r.D.Recorded, r.D.Unrecorded)}
	if len(r.D.Refused) > 0 {
		e.Trouble = "not every key is accepted: " + strings.Join(r.D.Refused, "; ")
	}
	e.Outcome = door.OutcomeOf(e.Outcome, e.Trouble)
	return e, nil
}

// adoptJob is an instance that is adopted, or removed.
type adoptJob struct {
	door.Job[adoption, adopted]
	svc *Service
}

func (w *Service) adoptSteps() door.Family[*adoptJob] {
	return func() *adoptJob { return &adoptJob{svc: w} }
}

// plainJob is work whose steps keep nothing, or that asks for nothing.
type plainJob struct{ door.Job[struct{}, struct{}] }

var plainSteps door.Family[*plainJob] = func() *plainJob { return new(plainJob) }

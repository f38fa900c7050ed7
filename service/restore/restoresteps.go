package restore

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"net"
	"net/http"
	"path"
	"slices"
	"strconv"
	"strings"
	"time"

	"plumlatch/core/access"
	"plumlatch/core/agentcalls"
	"plumlatch/core/authkeys"
	"plumlatch/core/keypair"
	"plumlatch/core/plaintext"
	"plumlatch/core/rotation"
	"plumlatch/core/routes"
	"plumlatch/core/wire"
	"plumlatch/reach"
	"plumlatch/service/accesses"
	"plumlatch/service/cloud"
	"plumlatch/service/door"
	"plumlatch/service/store"
	"plumlatch/service/work"
)

// linesFor are the lines that let people, and the service, into an instance again.
func (w *Service) linesFor(ctx context.Context, i store.Instance, keyID int64) ([]string, error) {
	k, err := w.Store.KeyByID(ctx, keyID)
	if err != nil {
		return nil, err
	}
	lines := []string{k.Public().Line()}
	steward, err := w.Store.StewardPublic(ctx, i.ID)
	if errors.Is(err, store.ErrNotFound) || i.Via != nil {
		return lines, nil
	}
	if err != nil {
		return nil, err
	}
	own, err := keypair.FromBlob(steward, "steward "+i.Alias)
	return append(lines, authkeys.StewardOptions+" "+own.Line()), err
}

// restoreLook keeps what the instance is like before anything is done.
func (r *restoreJob) restoreLook() error {
	if r.InstanceGone() {
		return door.Failf("the instance is gone")
	}
	x := r.D.Restore
	if x.Attempt == r.Work.Attempt {
		return nil
	}
	if err := r.AwaitWord(); err != nil {
		return err
	}
	r.D = restoreKept{Restore: &restored{Attempt: r.Work.Attempt, Was: r.Instance.State, Address: r.Instance.Address,
		Asked: map[string]bool{}, Turns: map[string]int{}}}
	x = r.D.Restore
	if r.Instance.Adopted {
		x.Was = string(cloud.Running)
	} else {
		c, err := r.Settled()
		if err != nil {
			return err
		}
		if c.State == cloud.Removed {
			return door.Failf("the cloud says that it was removed")
		}
		if err := r.Note(c); err != nil {
			return err
		}
		x.Was, x.Address, x.Volume, x.Device = string(c.State), c.Address, c.RootVolume, c.RootDevice
		if c.StopDestroys != "" && slices.Contains([]string{"disk", "boot-text", copyRoute}, r.In.Route) {
			return door.Failf("stopping would be its end: %s", c.StopDestroys)
		}
	}
	rows, err := r.Store.AccessesOf(r.Ctx, r.Instance.ID)
	if err != nil {
		return err
	}
	for _, a := range rows {
		if a.KeyID == r.In.NewID && a.LoginUser == r.Instance.LoginUser && !a.Steward {
			r.D.NewAccess = a.ID
		}
	}
	return r.Keep()
}

// lookBack takes our line out, if it still stands there after all else was
// taken back and somebody of ours gets in.
func (r *restoreJob) lookBack() error {
	// By the service's own way the line is kept before it is written: a replica that ended in between has
	// written it, and has not said so.
	if !r.D.Appended && r.In.Route != "steward" || r.InstanceGone() {
		return nil
	}
	x := r.D.Restore
	stands := "still stands"
	if r.In.Route == "boot-text" || !r.D.Appended {
		// The boot adds it, or was not come to; or whoever was to write it ended: nobody of ours has seen it.
		stands = "may still stand"
	}
	say := func(why string) error {
		x.Left = append(x.Left, fmt.Sprintf("the line of %s %s there (%s): plumlatch access remove %s -key %s",
			r.In.New, stands, why, r.Instance.Name, r.In.New))
		return r.Keep()
	}
	if r.D.Line == "" || r.D.Stood { // it stood there before, and is not ours
		return nil
	}
	if r.Instance.State != string(cloud.Running) && !r.Instance.Adopted {
		return say("it does not run, so nobody could take it out")
	}
	ctx, cancel := context.WithTimeout(r.Ctx, 20*time.Second)
	defer cancel()
	_, done, err := r.Steward(ctx, r.Instance)
	if err == nil {
		done()
		var fresh store.Key
		if fresh, err = r.Store.KeyByID(r.Ctx, r.In.NewID); err == nil {
			var stays string
			// The new key may be the only way in by now, which was shown to work.
			if stays, err = r.TakeOurs(fresh, r.In.NewWas); stays != "" {
				stands = "still stands" // the service has seen it
				return say(stays)
			}
		}
	} else {
		err = errors.New("the service does not get in")
	}
	if r.Ctx.Err() != nil || errors.Is(err, store.ErrLost) {
		return store.ErrLost
	}
	if wait, ok := errors.AsType[*work.Waiting](err); ok {
		return say(wait.Reason)
	}
	if err != nil {
		return say(door.Words(err))
	}
	r.D.Appended = false
	if err := r.DropNew(); err != nil {
		return err
	}
	return r.Keep()
}

// restorePlace adds the new key's line by the steward.
func (r *restoreJob) restorePlace() error {
	fresh, err := r.Store.KeyByID(r.Ctx, r.In.NewID)
	if err != nil {
		return err
	}
	files, all, err := r.Inside()
	if err != nil {
		return err
	}
	if len(all) == 0 {
		return door.Failf("none of the files that the server reads is there: %s",
			strings.Join(door.FilesOf(r.Instance), ", "))
	}
	stands := freeLine(door.LinesOf(all, fresh.Blob))
	if r.D.File == "" {
		r.D.File, r.D.Line, r.D.Stood = all[0].Name, fresh.Public().Line(), stands
		if stands {
			r.D.Line = ""
		}
		if err := r.Keep(); err != nil {
			return err
		}
	}
	return r.Place(files, fresh, stands)
}

// freeLine tells whether one of a key's lines lets it in on no terms.
func freeLine(lines []authkeys.Line) bool {
	return slices.ContainsFunc(lines, func(l authkeys.Line) bool { return l.Err == nil && l.Options.Text == "" })
}

// byAgent has the agent there add the lines, where its owner's file says that the service's word is enough; elsewhere an operator signs for it.
func (r *restoreJob) byAgent() error {
	a, err := r.Store.AgentOf(r.Ctx, r.Instance.ID)
	if errors.Is(err, store.ErrNotFound) {
		return door.Failf("it has no agent any more")
	}
	if err != nil {
		return err
	}
	if a.Trust != string(agentcalls.ByService) || r.In.Placed {
		return r.byHand()
	}
	if r.InstanceGone() {
		return door.Failf("the instance is gone")
	}
	lines, err := r.svc.linesFor(r.Ctx, r.Instance, r.In.NewID)
	if err != nil {
		return err
	}
	file, no := "", false
	// What is to be added is kept before it is: a replica that ended in between has added it, and has not said so.
	r.D.File, r.D.Line, r.D.Appended = door.FilesOf(r.Instance)[0], lines[0], true
	if err := r.Keep(); err != nil {
		return err
	}
	err = r.Effect("add", func(ctx context.Context) error {
		for _, line := range lines {
			var err error
			if file, no, err = r.svc.Agents.AddLine(ctx, r.Instance, r.Instance.LoginUser, line); err != nil {
				return err
			}
		}
		return nil
	})
	switch {
	case no:
		r.D.Appended = false
		return errors.Join(r.Keep(), door.Failf("the agent there does not add it: %s", door.Words(err)))
	case errors.Is(err, store.ErrLost) || r.Ctx.Err() != nil:
		return err
	case err != nil:
		return r.UntilAnswered(err)
	}
	for _, f := range door.FilesOf(r.Instance) { // the ledger names files as the server's configuration does
		if file == f || !path.IsAbs(f) && strings.HasSuffix(file, "/"+f) {
			file = f
			break
		}
	}
	r.D.File = file
	return r.recordPlaced(r.In)
}

// byHand waits until somebody with another way in has added the lines.
func (r *restoreJob) byHand() error {
	if err := r.Reread(); err != nil {
		return err
	}
	if r.InstanceGone() {
		return door.Failf("the instance is gone")
	}
	if r.In.Placed {
		fresh, err := r.Store.KeyByID(r.Ctx, r.In.NewID)
		if err != nil {
			return err
		}
		r.D.File, r.D.Line, r.D.Appended = r.In.PlacedFile, fresh.Public().Line(), true
		return r.recordPlaced(r.In)
	}
	over, err := r.WaitOver()
	if err != nil {
		return err
	}
	if over {
		return door.Failf("nobody has added the line of %s within %s", r.In.New, door.SpanWords(grantLimit))
	}
	what := fmt.Sprintf("the holder of another key to add %s (plumlatch restore grant %d -identity FILE)",
		r.In.New, r.Work.ID)
	if r.In.Route == "already-open" {
		what = fmt.Sprintf("%s to be added by a login without a key (plumlatch work here %d)",
			r.In.New, r.Work.ID)
	}
	if r.In.Route == "lent-key" {
		what = fmt.Sprintf("%s to be added by a key that the cloud lends (plumlatch work here %d)", r.In.New, r.Work.ID)
	}
	if r.In.Route == "agent" {
		what = fmt.Sprintf("an operator to sign for the agent there, which adds %s (plumlatch restore grant %d -identity FILE)", r.In.New, r.Work.ID)
	}
	return r.Wait(wire.WaitsHands, what+"; if nobody does, this ends", time.Minute, grantLimit)
}

// recordPlaced records the access of the new key, placed by this work.
func (r *restoreJob) recordPlaced(in restoring) error {
	id, err := r.Store.Place(r.Ctx, r.Instance.ID, in.NewID, r.Instance.LoginUser, "work "+fmt.Sprint(r.Work.ID), true)
	if err != nil {
		return err
	}
	r.D.Added = r.D.Added || r.D.NewAccess == 0
	r.D.NewAccess = id
	return r.Keep()
}

// accepted waits until the server takes the new key.
func (r *restoreJob) accepted() error {
	if r.InstanceGone() {
		return door.Failf("the instance is gone")
	}
	if r.Instance.Desktop { // it gives a first password, which is all that can be seen of it from here
		return r.isIn()
	}
	if r.In.Route == "agent" { // no port has to be open to where the service is
		if out, err := r.outOfSight(); err != nil || out {
			return err
		}
	}
	if err := r.awaitAccepted(); err != nil {
		return err
	}
	answers, err := r.AskServer(r.D.NewAccess)
	if err != nil {
		return err
	}
	if answers[r.D.NewAccess] != reach.Accepted {
		return door.Failf("the server does not take %s, though its line was added", r.In.New)
	}
	return r.isIn()
}

// outOfSight tells that the server cannot be asked from here, after the agent has added the line: then nothing is seen of whether it takes the
// key, and that is said. A server that answers is asked as after any other route.
func (r *restoreJob) outOfSight() (bool, error) {
	t, err := r.Target(r.Ctx, r.Instance)
	if err != nil {
		return false, err
	}
	k, err := r.Store.KeyByID(r.Ctx, r.In.NewID)
	if err != nil {
		return false, err
	}
	for tries := 0; ; tries++ {
		answer := reach.Probe(r.Ctx, r.Reach, t, [][]byte{k.Blob}, time.Now)[0]
		switch {
		case r.Ctx.Err() != nil:
			return false, store.ErrLost
		case answer.Answer != reach.NotAsked:
			return false, nil
		case tries == 2: // it is not the network of a moment
			left := fmt.Sprintf("not seen from outside: whether its server takes %s (%s); the agent there says that its line stands in %s", r.In.New,
				plaintext.Line(plaintext.Cut(answer.Detail, 150)), r.D.File)
			if !slices.Contains(r.D.Restore.Left, left) {
				r.D.Restore.Left = append(r.D.Restore.Left, left)
			}
			return true, r.isIn()
		}
		if stop := r.Stopping(); stop != nil {
			return false, stop
		}
		r.Sleep(2 * door.Poll)
	}
}

// isIn notes since when the new key is in.
func (r *restoreJob) isIn() error {
	if r.D.Restore.InAt == nil {
		now, err := r.Store.Now(r.Ctx)
		if err != nil {
			return err
		}
		r.D.Restore.InAt = &now
		return r.Keep()
	}
	return nil
}

// awaitAccepted asks for a while, as the server may still be coming up. Whether
// it takes the key is for its caller to find out.
func (r *restoreJob) awaitAccepted() error {
	if !r.Instance.Adopted && r.D.Restore.Was != string(cloud.Running) && r.Instance.State != string(cloud.Running) {
		return nil
	}
	left, err := r.Left(r.ServerLimit())
	if err != nil {
		return err
	}
	a, err := r.Store.AccessByID(r.Ctx, r.D.NewAccess)
	if err != nil {
		return err
	}
	return r.UntilAccepted(a.KeyID, left)
}

// login waits for a login from the engineer's machine. Without one nothing
// goes back, as the new key is in; but nothing is withdrawn either.
func (r *restoreJob) login() error {
	if err := r.Reread(); err != nil {
		return err
	}
	if r.In.RehearsalOf != 0 {
		return r.loginRehearsed()
	}
	proofOf := r.In.ProofOf
	if proofOf == 0 {
		proofOf = r.Work.ID
	}
	_, within, err := r.Store.ShownSince(r.Ctx, r.In.NewID, proofOf)
	if err != nil {
		return err
	}
	if within && r.In.Login && !r.Instance.Desktop { // with a signature
		return r.Store.Observe(r.Ctx, r.D.NewAccess, access.Proven, true, r.In.LoginFrom)
	}
	if within {
		return nil
	}
	over, err := r.WaitOver()
	if err != nil {
		return err
	}
	if over && r.In.Route == copyRoute { // the old one is there still, and nobody else gets in to the copy
		return door.Failf("nobody has logged in with %s, or shown its private half, within %s", r.In.New, door.SpanWords(accesses.ProofLimit))
	}
	if over {
		r.D.Restore.Left = append(r.D.Restore.Left,
			fmt.Sprintf("nobody has logged in with %s, or shown its private half: do so (plumlatch open %s), and "+
				"then withdraw the lost key", r.In.New, r.Instance.Name))
		return r.Keep()
	}
	return r.Wait(wire.WaitsLogin, fmt.Sprintf("a login with %s (plumlatch work here %d -identity FILE), "+
		"or its private half to be shown (plumlatch key prove %s)", r.In.New, r.Work.ID, r.In.New), time.Minute,
		accesses.ProofLimit)
}

// withdraw takes every lost key out of every file, if it still is lost.
// What cannot be done is said, and is no reason to take the new key out again.
func (r *restoreJob) withdraw() error {
	if r.InstanceGone() {
		return nil
	}
	x := r.D.Restore
	lost := r.In.LostKeys
	if lost == nil { // asked for when names were kept alone
		for _, name := range r.In.Lost {
			if k, err := r.Store.KeyAlone(r.Ctx, name); err == nil {
				lost = append(lost, lostKey{ID: k.ID})
			} else if !errors.Is(err, store.ErrNotFound) {
				return err
			}
		}
	}
	rows, err := r.Store.AccessesOf(r.Ctx, r.Instance.ID)
	if err != nil {
		return err
	}
	for _, l := range lost {
		k, err := r.Store.KeyByID(r.Ctx, l.ID)
		if errors.Is(err, store.ErrNotFound) {
			continue
		}
		if err != nil {
			return err
		}
		name := k.Name
		if slices.Contains(x.Withdrawn, name) {
			continue
		}
		if k.State != access.Lost && k.State != access.Exposed {
			x.Left = append(x.Left, fmt.Sprintf("%s was found meanwhile, and stays where it is", name))
			continue
		}
		n := slices.IndexFunc(rows, func(a store.Access) bool {
			return a.KeyID == k.ID &&
				a.LoginUser == r.Instance.LoginUser
		})
		if n < 0 {
			continue // it is on record there no more
		}
		old := rows[n]
		if err := r.withdrawLost(r.In, k, l.Was, old); err != nil {
			if errors.Is(err, store.ErrLost) || r.Ctx.Err() != nil {
				return err
			}
			reason := door.Words(err)
			if wait, ok := errors.AsType[*work.Waiting](err); ok {
				reason = wait.Reason
			}
			if r.In.Route == copyRoute { // it would open the copy as soon as others get in
				return door.Failf("%s is not shown refused on the copy: %s", name, reason)
			}
			x.Left = append(x.Left, fmt.Sprintf("%s was not withdrawn (%s): plumlatch access remove %s -key %s", name,
				reason, r.Instance.Name, name))
			if err := r.Keep(); err != nil {
				return err
			}
			continue
		}
		x.Withdrawn = append(x.Withdrawn, name)
		if err := r.Keep(); err != nil {
			return err
		}
		if err := r.Store.EndAccess(r.Ctx, old.ID, r.Work.ID,
			fmt.Sprintf("lost; access was restored with %s (work %d)", r.In.New, r.Work.ID),
			r.SurveysAfter()...); err != nil {
			return err
		}
	}
	return r.Keep()
}

// withdrawLost withdraws one lost key, with the guard of rule 1, and asks whether it is refused.
func (r *restoreJob) withdrawLost(in restoring, k store.Key, was rotation.Mark, old store.Access) error {
	if !r.Entered() { // not r.enter, which would wait for a steward that may never get in
		if err := r.stewardSoon(); err != nil {
			return err
		}
	}
	_, within, err := r.Store.ShownSince(r.Ctx, in.NewID, cmp.Or(in.ProofOf, r.Work.ID))
	if err != nil {
		return err
	}
	r.D.Taken = nil
	if err := r.TakeOld(door.Taking{Key: k, Was: was, Rely: r.D.NewAccess, Shown: within}, true); err != nil {
		return err
	}
	answers, err := r.AskServer(old.ID, r.D.NewAccess)
	if err != nil {
		return err
	}
	if answers[old.ID] == reach.Accepted {
		return door.Failf("the server still takes it, though it is in no file that it is known to read")
	}
	return nil
}

// stewardSoon sees that the steward gets in. A machine that was started a moment ago may start its SSH server anew in its first minute (cloud-init
// does): where this work has started it, a server that cannot be reached is asked again for a while. One that refuses the steward has answered.
func (r *restoreJob) stewardSoon() error {
	route, _ := routes.ByName(r.In.Route)
	starts := slices.ContainsFunc(route.Steps, func(s routes.Step) bool { return s.Name == "start" })
	for deadline := time.Now().Add(min(3*time.Minute, r.ServerLimit())); ; {
		ctx, cancel := context.WithTimeout(r.Ctx, 20*time.Second)
		_, done, err := r.Steward(ctx, r.Instance)
		cancel()
		if err == nil {
			done()
			return nil
		}
		if !starts || door.CauseOf(err) != "reach" || r.Ctx.Err() != nil || time.Now().After(deadline) {
			return err
		}
		if stop := r.Stopping(); stop != nil {
			return stop
		}
		r.Sleep(5 * door.Poll)
	}
}

// checks runs what "works" means for the instance.
func (r *restoreJob) checks() error {
	if r.InstanceGone() || len(r.D.Restore.Checks) > 0 {
		return nil
	}
	x := r.D.Restore
	left, err := r.Left(min(checkLimit, 4*r.StateLimit))
	if err != nil {
		return err
	}
	deadline := time.Now().Add(left)
	for _, check := range r.Instance.Checks {
		result := checked{Check: check}
		for {
			result.Said, err = r.runCheck(check)
			if result.Good = err == nil; result.Good || time.Now().After(deadline) {
				break
			}
			if stop := r.Stopping(); stop != nil {
				return stop
			}
			r.Sleep(5 * door.Poll)
		}
		if !result.Good {
			result.Said = door.Words(err)
			x.Left = append(x.Left, fmt.Sprintf("%s does not work: %s; a service that was never enabled at boot "+
				"stays down after a stop", check, result.Said))
		}
		x.Checks = append(x.Checks, result)
	}
	if bad := slices.IndexFunc(x.Checks, func(c checked) bool { return !c.Good }); bad >= 0 && r.In.Route == copyRoute &&
		x.Was == string(cloud.Running) {
		return door.Failf("%s does not work on the copy: %s", x.Checks[bad].Check, x.Checks[bad].Said)
	}
	return r.Keep()
}

// runCheck runs one check once.
func (r *restoreJob) runCheck(check string) (said string, err error) {
	return r.checkAt(r.Instance.Address, check)
}

// checkAt runs one check once, at an address.
func (r *restoreJob) checkAt(address, check string) (said string, err error) {
	port, path, web := parseCheck(check)
	ctx, cancel := context.WithTimeout(r.Ctx, 5*time.Second)
	defer cancel()
	conn, err := r.Reach.DialAny(ctx, address, port)
	if err != nil {
		return "", err
	}
	defer conn.Close()
	if web == "" {
		return "it answers", nil
	}
	client := &http.Client{Timeout: 5 * time.Second,
		CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse },
		Transport: &http.Transport{DisableKeepAlives: true,
			DialContext: func(context.Context, string, string) (net.Conn, error) { return conn, nil }}}
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, web+"://"+
		net.JoinHostPort(address, strconv.Itoa(port))+path, nil)
	if err != nil {
		return "", err
	}
	resp, err := client.Do(req)
	if err != nil {
		return "", err
	}
	resp.Body.Close()
	if resp.StatusCode >= 400 {
		return "", fmt.Errorf("it answers %d", resp.StatusCode)
	}
	return fmt.Sprintf("it answers %d", resp.StatusCode), nil
}

// parseCheck reads tcp:PORT, http://:PORT/PATH or https://:PORT/PATH; port 0 if it is none of them.
func parseCheck(check string) (port int, path, web string) {
	rest, ok := strings.CutPrefix(check, "tcp:")
	if !ok {
		for _, scheme := range []string{"http", "https"} {
			if after, has := strings.CutPrefix(check, scheme+"://:"); has {
				web = scheme
				n := strings.IndexByte(after, '/')
				if n < 0 {
					n = len(after)
				}
				rest, path = after[:n], after[n:]
			}
		}
	}
	port, err := strconv.Atoi(rest)
	if err != nil || port < 1 || port > 65535 || strings.HasPrefix(rest, "+") || plaintext.HasControl(check) ||
		strings.ContainsAny(path, " ?#@") || len(check) > 200 {
		return 0, "", ""
	}
	if path == "" {
		path = "/"
	}
	return port, path, web
}

// ChangeChecks adds or removes what "works" means for an instance. FieldError.
func (w *Service) ChangeChecks(ctx context.Context, by store.Actor, i store.Instance, c wire.CheckChange) error {
	if port, _, _ := parseCheck(c.Check); port == 0 {
		return door.FieldError{Field: "check", Problem: "a check is tcp:PORT, http://:PORT/PATH or https://:PORT/PATH"}
	}
	at := slices.Index(i.Checks, c.Check)
	checks := slices.Clone([]string(i.Checks))
	switch {
	case c.Remove && at < 0:
		return door.FieldError{Field: "check", Problem: "it has no such check", Choices: i.Checks}
	case c.Remove:
		return w.Store.SetChecks(ctx, by, i, slices.Delete(checks, at, at+1), "check no longer: "+c.Check)
	case at >= 0:
		return nil
	case len(checks) >= 10:
		return door.FieldError{Field: "check", Problem: "an instance has at most 10 checks"}
	}
	return w.Store.SetChecks(ctx, by, i, append(checks, c.Check), "check: "+c.Check)
}

// BookChecks has an instance have these checks and no others, as a keybook says. FieldError.
func (w *Service) BookChecks(ctx context.Context, by store.Actor, i store.Instance, checks []string) error {
	for _, c := range checks {
		if port, _, _ := parseCheck(c); port == 0 {
			return door.FieldError{Field: "check", Problem: "a check is tcp:PORT, http://:PORT/PATH or https://:PORT/PATH"}
		}
	}
	if len(checks) > 10 {
		return door.FieldError{Field: "check", Problem: "an instance has at most 10 checks"}
	}
	return w.Store.SetChecks(ctx, by, i, checks, "checks: "+strings.Join(checks, ", "))
}

// rest stops it again, if it did not run before.
func (r *restoreJob) rest() error {
	if r.InstanceGone() || r.Instance.Adopted || r.D.Restore.Was != string(cloud.Stopped) {
		return nil
	}
	in, err := r.Get(r.Instance.CloudID)
	if err != nil {
		return err
	}
	if in.State != cloud.Stopped {
		if err := r.Ask("stop", r.Cloud.Stop); err != nil {
			return err
		}
	}
	return r.Await(cloud.Stopped)
}

// tidy looks once more that nothing of the work is left open, and says what changed.
func (r *restoreJob) tidy() error {
	if r.InstanceGone() {
		return nil
	}
	x := r.D.Restore
	if err := r.Store.GiveRescue(r.Ctx, r.Work.ID); err != nil {
		return err
	}
	if err := r.Store.DropWorkKey(r.Ctx, r.Work.ID); err != nil {
		return err
	}
	if r.Instance.State == string(cloud.Running) && !r.Instance.Desktop { // who opens it now, as it stands now
		if _, err := r.ProbeAll(); err != nil {
			return err
		}
	}
	x.Changed = nil
	if r.Instance.Address != x.Address && r.Instance.Address != "" && x.Address != "" {
		x.Changed = append(x.Changed, fmt.Sprintf("its address: %s, and before %s", r.Instance.Address, x.Address))
	}
	if x.Home && x.Was == string(cloud.Running) {
		x.Changed = append(x.Changed, "every process on it began anew")
	}
	for name, mode := range x.Added.Modes {
		x.Changed = append(x.Changed, fmt.Sprintf("mode of %s: %o, and before %o, which its server ignores",
			plaintext.Line(name), mode&^0o022, mode))
	}
	if x.Added.Made {
		x.Changed = append(x.Changed, plaintext.Line(x.Added.File)+" was made: it was not there")
	}
	if r.In.Route == copyRoute {
		if err := r.tellCopy(); err != nil {
			return err
		}
	} else if x.Volume != "" && !r.Instance.Adopted {
		c, err := r.Get(r.Instance.CloudID)
		if err != nil {
			return err
		}
		if c.RootVolume != x.Volume {
			x.Left = append(x.Left, fmt.Sprintf("its root volume is %s, and was %s: look at it in the cloud",
				c.RootVolume, x.Volume))
		}
	}
	if r.In.Route == fetchRoute.Name {
		return r.Keep()
	}
	if r.In.Route == copyRoute {
		defer r.Look()
		if err := r.keepOld(); err != nil {
			return err
		}
	}
	if len(r.In.Lost) == 0 {
		x.Left = append(x.Left, "no key of it was recorded as lost, so none was withdrawn (plumlatch key lost NAME)")
	}
	if x.Home && len(r.Instance.Checks) == 0 {
		x.Left = append(x.Left, fmt.Sprintf("nobody has said what \"works\" means for it: see for yourself, and "+
			"say it (plumlatch instance check add %s tcp:PORT)", r.Instance.Name))
	}
	return r.Keep()
}

func (r *restoreJob) endRestore(state store.WorkState) (store.WorkEnd, error) {
	var err error
	x := r.D.Restore
	switch {
	case state == store.Stuck: // its volume may be at the rescue instance, which it keeps, with its key
		if x.Rescue.Shared != 0 && !x.Rescue.Gone {
			err = r.Store.SpoilShared(r.Ctx, x.Rescue.Shared) // the other parts have another
		}
	case state != store.Done: // whatever was not given back in order
		err = errors.Join(r.Store.GiveRescue(r.Ctx, r.Work.ID), r.Store.DropWorkKey(r.Ctx, r.Work.ID))
	}
	if err != nil {
		return store.WorkEnd{}, err
	}
	switch {
	case state == store.Stuck:
		return store.WorkEnd{Phase: r.phaseAfter(), Outcome: door.OutcomeOf(r.Work.Trouble, x.Left...)}, nil
	case state == store.Cancelled:
		return store.WorkEnd{Phase: r.phaseAfter(), Outcome: door.OutcomeOf("everything was taken back", x.Left...)},
			nil
	case state != store.Done:
		return store.WorkEnd{Phase: r.phaseAfter(),
			Outcome: door.OutcomeOf(r.Work.Trouble+"; everything was taken back", x.Left...)}, nil
	}
	text := fmt.Sprintf("%s opens %s", r.In.New, r.Instance.Name)
	if r.Instance.Desktop {
		text = fmt.Sprintf("the first password of %s is encrypted to %s: plumlatch instance password %s", r.Instance.Name, r.In.New, r.Instance.Name)
	}
	if r.In.Route == fetchRoute.Name {
		text = fmt.Sprintf("%s of %s copied; nothing on the volume was changed", door.Plural(r.In.Files, "file"),
			sizeWords(r.In.Bytes))
	}
	if len(x.Withdrawn) > 0 {
		text += "; " + strings.Join(x.Withdrawn, ", ") + " is withdrawn"
	}
	if n := len(x.Left); n > 0 {
		text += fmt.Sprintf("; %s left to do or to check (plumlatch work report %d)",
			door.Plural(n, "thing"), r.Work.ID)
	}
	return store.WorkEnd{Phase: r.phaseAfter(), Outcome: text}, nil
}

// phaseAfter leaves an instance that somebody else removed meanwhile alone.
func (r *restoreJob) phaseAfter() store.Phase {
	if r.Instance.Phase != store.Ready {
		return ""
	}
	return store.Ready
}

// once notes that the cloud is asked for an effect, does it, and notes that it
// has answered: what was not answered is asked for again before it is taken back.
func (r *restoreJob) once(effect string, f func(ctx context.Context) error) error {
	return r.askedFor(r.Work.At, effect, func(string) error { return r.Effect(effect, f) })
}

// askedFor does an effect of a step under its token. Until the cloud has answered, the work knows that it may come
// late; a refusal and "not found" are answers.
func (r *restoreJob) askedFor(step, effect string, do func(token string) error) error {
	x := r.D.Restore
	x.Asked[step+"/"+effect] = true
	if err := r.Keep(); err != nil {
		return err
	}
	err := do(r.TokenOf(step, effect))
	if err == nil || errors.Is(err, cloud.ErrRefused) || errors.Is(err, cloud.ErrNotFound) {
		delete(x.Asked, step+"/"+effect)
		return errors.Join(err, r.Keep())
	}
	return err
}

// sizeWords writes a number of bytes for people.
func sizeWords(n int64) string {
	switch {
	case n >= 1<<30:
		return fmt.Sprintf("%.1f GiB", float64(n)/(1<<30))
	case n >= 1<<20:
		return fmt.Sprintf("%.1f MiB", float64(n)/(1<<20))
	case n >= 1<<10:
		return fmt.Sprintf("%.1f KiB", float64(n)/(1<<10))
	}
	return fmt.Sprintf("%d bytes", n)
}

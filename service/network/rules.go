package network

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"plumlatch/core/inbound"
	"plumlatch/core/plaintext"
	"plumlatch/core/wire"
	"plumlatch/service/cloud"
	"plumlatch/service/door"
	"plumlatch/service/store"
	"plumlatch/service/work"
)

// admission is the input of work that lets an address range in.
type admission struct {
	Ranges  []string `json:"ranges"`
	Me      bool     `json:"me"`
	Shared  bool     `json:"shared"`  // into the group that others have too
	Seconds int64    `json:"seconds"` // until its end; 0 for none
	Reason  string   `json:"reason"`
}

// ruleInput is the input of either.
//
//lint:ignore U1000 it is used, as an argument of Job
type ruleInput struct {
	admission
	CutOff int `json:"cut_off"` // how many instances may be left with no rule that people come in by
}

// kept is a rule that work changed.
type kept struct {
	Group  string `json:"group"`
	Rule   string `json:"rule"`
	Range  string `json:"range"`
	Note   string `json:"note"`
	Before bool   `json:"before"` // it stood there already
	Asked  bool   `json:"asked"`  // the cloud was asked for the change; its answer may have been lost
	// Was is what had been asked for of it here before, nil for nothing.
	Was *store.Admission `json:"was,omitempty"`
}

// changedRules is what the steps of work on rules keep.
type changedRules struct {
	Group  string `json:"group"`
	Rules  []kept `json:"rules"`
	Former []kept `json:"former"`
	Stays  string `json:"stays,omitempty"` // a former rule that was not withdrawn, and why
}

func (w *Service) admitKind() *work.Kind {
	ruleOf := w.ruleSteps()
	lasts := func(r *ruleJob) bool { return r.In.Seconds == 0 }
	return &work.Kind{
		Name: "admit", Action: "instance.admit",
		Steps: []work.Step{
			{Name: "group", Title: "choosing the group of rules", Effects: []string{"own-group"},
				Do: ruleOf.Do((*ruleJob).chooseGroup)},
			{Name: "rule", Title: "adding the rule", Effects: []string{"admit"}, Do: ruleOf.Do((*ruleJob).admit),
				Undo: ruleOf.Do((*ruleJob).takeBackRules), UndoEffects: []string{"unadmit"}},
			{Name: "former", Title: "withdrawing the rule for your former address", Effects: []string{"unadmit"},
				Do:   ruleOf.Do((*ruleJob).replaceFormer),
				Skip: ruleOf.Skip(func(r *ruleJob) bool { return !r.In.Me })},
			{Name: "end", Title: "waiting for the rule's end", Do: ruleOf.Do((*ruleJob).awaitEnd),
				Skip: ruleOf.Skip(lasts)},
			{Name: "withdraw", Title: "withdrawing the rule at its end", Effects: []string{"unadmit"}, NoReturn: true,
				Skip: ruleOf.Skip(lasts),
				Do:   ruleOf.Do((*ruleJob).takeBackRules)},
		},
		End: ruleOf.End(func(r *ruleJob, state store.WorkState) (store.WorkEnd, error) {
			in := r.In
			what := strings.Join(in.Ranges, ", ")
			switch {
			case state != store.Done && r.D.Stays != "":
				return store.WorkEnd{Outcome: door.OutcomeOf(r.Work.Trouble, r.D.Stays),
					Code: wire.WorkStaysAdmitted}, nil
			case state != store.Done:
				return store.WorkEnd{Trouble: "", Outcome: r.TookBack(state, door.AllTakenBack)}, nil
			case in.Seconds > 0:
				return store.WorkEnd{Outcome: what + " was admitted, and the rule withdrawn at its end"}, nil
			}
			e := store.WorkEnd{Outcome: door.OutcomeOf(what+" is admitted", r.D.Stays)}
			if r.D.Stays != "" {
				e.Code = wire.WorkStaysAdmitted
			}
			return e, nil
		}),
	}
}

func (w *Service) unadmitKind() *work.Kind {
	ruleOf := w.ruleSteps()
	return &work.Kind{
		Name: "unadmit", Action: "instance.unadmit",
		Steps: []work.Step{{Name: "rule", Title: "withdrawing the rule", Effects: []string{"unadmit"},
			Do: ruleOf.Do((*ruleJob).unadmit), Undo: ruleOf.Do((*ruleJob).readmit), UndoEffects: []string{"admit"}}},
		End: ruleOf.End(func(r *ruleJob, state store.WorkState) (store.WorkEnd, error) {
			if state != store.Done {
				return store.WorkEnd{Outcome: r.TookBack(state, door.AllTakenBack)}, nil
			}
			outcome := strings.Join(r.In.Ranges, ", ") + " is admitted no more"
			if r.In.CutOff > 0 {
				outcome += fmt.Sprintf("; cut off on purpose: people come in to %s no more",
					door.Plural(r.In.CutOff, "instance"))
			}
			return store.WorkEnd{Outcome: outcome}, nil
		}),
	}
}

// chooseGroup takes the instance's own group, made if there is none, or the one
// that it shares, if that was asked for.
func (r *ruleJob) chooseGroup() error {
	var d changedRules
	if r.In.Shared {
		groups, err := r.Groups(r.Instance.CloudID)
		if err != nil {
			return err
		}
		n := slices.IndexFunc(groups, func(g cloud.Group) bool { return !g.Own })
		if n < 0 {
			return door.Failf("it has no group of rules that it shares")
		}
		d.Group = groups[n].ID
		return r.SetData(d)
	}
	err := r.Effect("own-group", func(ctx context.Context) error {
		g, err := door.Asked(ctx, r.Run, func(ctx context.Context) (cloud.Group, error) {
			return r.Cloud.OwnGroup(ctx, r.ClientToken("own-group"), r.Instance.CloudID)
		})
		d.Group = g.ID
		return err
	})
	if err != nil {
		return err
	}
	return r.SetData(d)
}

func findRule(groups []cloud.Group, group, from string) (cloud.Rule, bool) {
	for _, g := range groups {
		for _, rule := range g.Rules {
			if g.ID == group && rule.Word() == from {
				return rule, true
			}
		}
	}
	return cloud.Rule{}, false
}

// until is the rule's end, by the database's clock.
func (r *ruleJob) until() *time.Time {
	in := r.In
	if in.Seconds == 0 {
		return nil
	}
	t := r.Work.CreatedAt.Add(time.Duration(in.Seconds) * time.Second)
	return &t
}

func (r *ruleJob) admit() error {
	in := r.In
	groups, err := r.Groups(r.Instance.CloudID)
	if err != nil {
		return err
	}
	if len(r.D.Rules) == 0 { // what is there before anything is done; asked once
		known, err := r.Store.Admissions(r.Ctx, []string{r.D.Group})
		if err != nil {
			return err
		}
		for _, from := range in.Ranges {
			have, there := findRule(groups, r.D.Group, from)
			k := kept{Group: r.D.Group, Rule: have.ID, Range: from, Before: there}
			if n := slices.IndexFunc(known, func(a store.Admission) bool { return there && a.Range == from }); n >= 0 {
				k.Was = &known[n]
			}
			if err := r.mayEnd(groups, k); err != nil {
				return err
			}
			r.D.Rules = append(r.D.Rules, k)
		}
		if err := r.Keep(); err != nil {
			return err
		}
	}
	for n := range r.D.Rules {
		k := &r.D.Rules[n]
		k.Asked = true
		if err := r.Keep(); err != nil {
			return err
		}
		if err := r.Effect("admit", func(ctx context.Context) error { return r.askRule(ctx, k) }); err != nil {
			return err
		}
		if err := r.Store.Admit(r.Ctx, store.Admission{InstanceID: r.Instance.ID, WorkID: r.Work.ID, GroupID: k.Group,
			RuleID: k.Rule, Range: k.Range,
			Me: in.Me, Operator: r.Work.Operator, Reason: in.Reason, Until: r.until()}); err != nil {
			return err
		}
	}
	return r.Keep()
}

// askRule asks the cloud for a rule: again under the same token it is the same
// rule, and whatever of it comes late does nothing.
func (r *ruleJob) askRule(ctx context.Context, k *kept) error {
	from, ports, err := inbound.ParseWord(k.Range)
	if err != nil {
		return door.Failf("%s is no range", plaintext.Line(k.Range))
	}
	rule, err := door.Asked(ctx, r.Run, func(ctx context.Context) (cloud.Rule, error) {
		return r.Cloud.Admit(ctx, r.TokenOf("rule", "admit-"+k.Range), k.Group, from, ports,
			"plumlatch: "+r.Work.Operator)
	})
	if err == nil {
		k.Rule = rule.ID
	}
	return err
}

// mayEnd refuses to give an end to a rule that stands without one, where nobody
// here asked for it, or where people have no other to come in by.
func (r *ruleJob) mayEnd(groups []cloud.Group, k kept) error {
	if !k.Before || r.In.Seconds == 0 || k.Was != nil && k.Was.Until != nil {
		return nil
	}
	if k.Was == nil {
		return door.Failf("%s is admitted already, without an end, by a rule that was not asked for here; nothing "+
			"was changed", k.Range)
	}
	cut, err := r.cutOff(groups, []kept{k})
	if err == nil && cut > 0 {
		err = door.Failf("%s is admitted already, and it is the only rule without an end that people come in by: "+
			"it gets none; nothing was changed", k.Range)
	}
	return err
}

// takeBackRules withdraws what this work added, unless another has taken it over.
func (r *ruleJob) takeBackRules() error {
	mine, err := r.Store.AdmissionsOf(r.Ctx, r.Work.ID)
	if err != nil {
		return err
	}
	standing, err := r.Store.Admissions(r.Ctx, []string{r.D.Group})
	if err != nil {
		return err
	}
	for _, k := range r.D.Rules {
		at := slices.IndexFunc(mine, func(a store.Admission) bool { return a.Range == k.Range })
		isMine := at >= 0
		if isMine { // it may have been withdrawn and put back since, under another name
			k.Rule = mine[at].RuleID
		}
		anothers := !isMine && slices.ContainsFunc(standing, func(a store.Admission) bool { return a.Range == k.Range })
		if anothers || k.Before && !isMine {
			continue
		}
		if k.Before && r.Work.Back { // it stood before this work: only what it says of itself goes back
			if k.Was != nil {
				err = r.Store.Admit(r.Ctx, *k.Was)
			} else {
				err = r.Store.EndAdmission(r.Ctx, k.Group, k.Rule, "taken back")
			}
			if err != nil {
				return err
			}
			continue
		}
		if !k.Asked {
			continue
		}
		if r.Work.Back && r.In.Seconds == 0 {
			// Going back is a change too: what people came in by before may be gone by now,
			// withdrawn by this very work or by others. Then both stay, and that is said.
			groups, err := r.Groups(r.Instance.CloudID)
			if err != nil {
				return err
			}
			cut, err := r.cutOff(groups, []kept{k})
			if err != nil {
				return err
			}
			if cut > 0 {
				r.D.Stays = fmt.Sprintf("%s stays admitted: no other rule without an end admits anybody but the service", k.Range)
				if err := errors.Join(r.Say("%s", r.D.Stays), r.Keep()); err != nil {
					return err
				}
				continue
			}
		}
		if err := r.withdrawRule(k, "the end of its time"); err != nil {
			return err
		}
	}
	return nil
}

func (r *ruleJob) withdrawRule(k kept, by string) error {
	err := r.Effect("unadmit", func(ctx context.Context) error {
		if k.Rule == "" { // the answer was lost: asked again, it is told which one it is
			if err := r.askRule(ctx, &k); err != nil {
				return err
			}
		}
		return r.takeOut(ctx, k)
	})
	if err != nil {
		return err
	}
	return r.Store.EndAdmission(r.Ctx, k.Group, k.Rule, by)
}

func (r *ruleJob) takeOut(ctx context.Context, k kept) error {
	_, err := door.Asked(ctx, r.Run, func(ctx context.Context) (struct{}, error) {
		return struct{}{}, r.Cloud.Unadmit(ctx, r.ClientToken("unadmit-"+k.Rule), k.Group, k.Rule)
	})
	if errors.Is(err, cloud.ErrNotFound) {
		return nil
	}
	return err
}

// replaceFormer withdraws what the same operator had admitted as "me" before.
// A rule that people come in by stays, though, until there is another.
func (r *ruleJob) replaceFormer() error {
	groups, err := r.Groups(r.Instance.CloudID)
	if err != nil {
		return err
	}
	var ids []string
	for _, g := range groups {
		ids = append(ids, g.ID)
	}
	standing, err := r.Store.Admissions(r.Ctx, ids)
	if err != nil {
		return err
	}
	for _, a := range standing {
		if !a.Me || a.Operator != r.Work.Operator || a.WorkID == r.Work.ID || slices.Contains(r.In.Ranges, a.Range) ||
			a.InstanceID != r.Instance.ID || !samePorts(a.Range, r.In.Ranges) {
			continue
		}
		k := kept{Group: a.GroupID, Rule: a.RuleID, Range: a.Range}
		cut, err := r.cutOff(groups, []kept{k})
		if err != nil {
			return err
		}
		if cut > 0 && a.Until == nil {
			r.D.Stays = fmt.Sprintf("%s stays admitted: it is the only rule without an end that people come in by",
				a.Range)
			if err := r.Say("%s", r.D.Stays); err != nil {
				return err
			}
			continue
		}
		if err := r.withdrawRule(k, r.Work.Operator+", who is elsewhere now"); err != nil {
			return err
		}
		r.D.Former = append(r.D.Former, k)
	}
	return r.Keep()
}

// samePorts tells whether a rule lets in to the same ports as the ranges do.
func samePorts(word string, ranges []string) bool {
	_, ports, err := inbound.ParseWord(word)
	if err != nil || len(ranges) == 0 {
		return false
	}
	_, of, err := inbound.ParseWord(ranges[0])
	return err == nil && of == ports
}

func (r *ruleJob) awaitEnd() error {
	mine, err := r.Store.AdmissionsOf(r.Ctx, r.Work.ID)
	if err != nil || len(mine) == 0 { // withdrawn by hand, or taken over by a later wish
		return err
	}
	over, err := r.WaitOver()
	if err != nil || over {
		return err
	}
	age, err := r.Store.WorkAge(r.Ctx, r.Work.ID)
	if err != nil {
		return err
	}
	left := time.Duration(r.In.Seconds)*time.Second - age
	if left <= 0 {
		return nil
	}
	return r.Wait(wire.WaitsEnd, "the rule's end; it is withdrawn then", left, left)
}

// unadmission is the input of work that withdraws rules.
type unadmission struct {
	Ranges []string `json:"ranges"`
	CutOff int      `json:"cut_off"` // how many instances may be left with no rule that people come in by
}

// unadmit looks, withdraws, and looks again: two who withdraw at the same time
// shall not leave nothing.
func (r *ruleJob) unadmit() error {
	groups, err := r.Groups(r.Instance.CloudID)
	if err != nil {
		return err
	}
	for _, g := range groups {
		for _, rule := range g.Rules {
			if slices.Contains(r.In.Ranges, rule.Word()) &&
				!slices.ContainsFunc(r.D.Rules, func(k kept) bool { return k.Rule == rule.ID }) {
				r.D.Rules = append(r.D.Rules,
					kept{Group: g.ID, Rule: rule.ID, Range: rule.Word(), Note: rule.Note})
			}
		}
	}
	if len(r.D.Rules) == 0 {
		return door.Failure{Code: wire.WorkNoRule, Reason: "no rule of it admits " + strings.Join(r.In.Ranges, ", ")}
	}
	if err := r.guard(groups, r.D.Rules, r.In.CutOff); err != nil {
		return err
	}
	if err := r.Keep(); err != nil {
		return err
	}
	for n, k := range r.D.Rules {
		r.D.Rules[n].Asked = true
		if err := r.Keep(); err != nil {
			return err
		}
		if err := r.withdrawRule(k, r.Work.Operator); err != nil {
			return err
		}
	}
	if groups, err = r.Groups(r.Instance.CloudID); err != nil {
		return err
	}
	return r.guard(groups, r.D.Rules, r.In.CutOff)
}

// guard refuses what would leave other than the named number of instances with
// no rule that people come in by.
func (r *ruleJob) guard(groups []cloud.Group, rules []kept, allowed int) error {
	cut, err := r.cutOff(groups, rules)
	if err != nil || cut == allowed {
		return err
	}
	if cut == 0 {
		return door.Failf("-cut-off %d was given, and nobody would be cut off; leave it out", allowed)
	}
	return door.Failf("people would come in to %s no more: no other rule without an end admits anybody but the service", door.Plural(cut, "instance"))
}

// manyMembers is how many instances of a shared group are looked at one by one.
const manyMembers = 500

// cutOff counts the instances that would have no rule that people come in by,
// without the given ones.
func (r *ruleJob) cutOff(groups []cloud.Group, without []kept) (int, error) {
	// Nobody logs in by a rule of other ports, and so nobody is cut off by its end.
	without = slices.DeleteFunc(slices.Clone(without), func(k kept) bool {
		_, ports, err := inbound.ParseWord(k.Range)
		return err == nil && !ports.SSH()
	})
	var ids []string
	for _, k := range without {
		ids = append(ids, k.Rule)
	}
	members := map[string]bool{}
	for _, g := range groups {
		if !slices.ContainsFunc(without, func(k kept) bool { return k.Group == g.ID }) {
			continue
		}
		rules, err := r.svc.inbound(r.Ctx, []cloud.Group{g})
		if err != nil {
			return 0, err
		}
		if inbound.PeopleComeIn(rules, ids...) { // whoever has the group keeps a way in
			continue
		}
		for _, m := range g.Members {
			members[m] = true
		}
	}
	if len(members) > manyMembers {
		return len(members), nil
	}
	cut := 0
	for m := range members {
		of := groups
		if m != r.Instance.CloudID {
			var err error
			if of, err = r.Groups(m); errors.Is(err, cloud.ErrNotFound) {
				continue
			} else if err != nil {
				return 0, err
			}
		}
		rules, err := r.svc.inbound(r.Ctx, of)
		if err != nil {
			return 0, err
		}
		if !inbound.PeopleComeIn(rules, ids...) {
			cut++
		}
	}
	return cut, nil
}

// inbound is what is known of groups' rules: with the end of those asked for here.
func (w *Service) inbound(ctx context.Context, groups []cloud.Group) ([]inbound.Rule, error) {
	var ids []string
	for _, g := range groups {
		ids = append(ids, g.ID)
	}
	known, err := w.Store.Admissions(ctx, ids)
	if err != nil {
		return nil, err
	}
	var out []inbound.Rule
	for _, g := range groups {
		for _, rule := range g.Rules {
			n := inbound.Rule{ID: rule.ID, From: rule.From, Ports: rule.Ports, Service: rule.From.IsSingleIP() &&
				rule.From.Addr() == w.Reach.Source}
			for _, a := range known {
				if a.GroupID == g.ID && a.Range == rule.Word() && a.Until != nil {
					n.Until = *a.Until
				}
			}
			out = append(out, n)
		}
	}
	return out, nil
}

// readmit puts back what was withdrawn.
func (r *ruleJob) readmit() error {
	for _, k := range r.D.Rules {
		if !k.Asked {
			continue
		}
		from, ports, err := inbound.ParseWord(k.Range)
		if err != nil {
			return err
		}
		var rule cloud.Rule
		if err := r.Effect("admit", func(ctx context.Context) error {
			// A withdrawal that has not happened yet would come late, and take out what stands there then.
			if err := r.takeOut(ctx, k); err != nil {
				return err
			}
			rule, err = door.Asked(ctx, r.Run, func(ctx context.Context) (cloud.Rule, error) {
				return r.Cloud.Admit(ctx, r.ClientToken("readmit-"+k.Rule), k.Group, from, ports, k.Note)
			})
			return err
		}); err != nil {
			return err
		}
		if err := r.Store.Readmitted(r.Ctx, k.Group, k.Rule, rule.ID); err != nil {
			return err
		}
	}
	return nil
}

// Rules returns whom the inbound rules of an instance let in.
func (w *Service) Rules(ctx context.Context, i store.Instance) (wire.Rules, error) {
	out := wire.Rules{Instance: i.Name, Desktop: i.Desktop, Groups: []wire.RuleGroup{}, CallerURL: w.CloudOf(i).Properties().CallerURL,
		IPv6: w.CloudOf(i).Properties().IPv6}
	if w.Reach.Source.IsValid() {
		out.ServiceAddress = w.Reach.Source.Unmap().String()
	}
	if err := door.CloudBehind(i); err != nil {
		return out, err
	}
	groups, err := w.CloudOf(i).Groups(ctx, i.CloudID)
	if err != nil {
		return out, err
	}
	var ids []string
	for _, g := range groups {
		ids = append(ids, g.ID)
	}
	known, err := w.Store.Admissions(ctx, ids)
	if err != nil {
		return out, err
	}
	for _, g := range groups {
		others, err := w.Store.InstancesOf(ctx, i.Cloud,
			slices.DeleteFunc(slices.Clone(g.Members), func(m string) bool { return m == i.CloudID }))
		if err != nil {
			return out, err
		}
		shown := wire.RuleGroup{ID: g.ID, Name: g.Name, Own: g.Own, Rules: []wire.Rule{}, SharedWith: []string{},
			Others: max(0, len(g.Members)-1)}
		for _, o := range others {
			shown.SharedWith = append(shown.SharedWith, o.Name)
		}
		for _, rule := range g.Rules {
			row := wire.Rule{ID: rule.ID, From: rule.From.String(), Ports: rule.Ports.String(), Note: rule.Note, World: inbound.World(rule.From),
				Service: rule.From.IsSingleIP() && rule.From.Addr() == w.Reach.Source}
			for _, a := range known {
				if a.GroupID == g.ID && a.Range == rule.Word() {
					at := a.AdmittedAt.UTC()
					row.By, row.At, row.Until, row.Me, row.Reason, row.Work = a.Operator, &at, a.Until, a.Me,
						a.Reason, a.WorkID
				}
			}
			shown.Rules = append(shown.Rules, row)
		}
		out.Groups = append(out.Groups, shown)
	}
	return out, nil
}

// The longest time that a rule with an end can stand.
const longestAdmission = 366 * 24 * time.Hour

// checkRanges reads ranges, and refuses what lets nobody in or, unless asked for, everybody. With ports
// they are for those, and "" is the SSH port.
func (w *Service) checkRanges(i store.Instance, ranges []string, world bool, ports string) ([]string, error) {
	var to inbound.Ports
	if ports != "" {
		var err error
		if to, err = inbound.ParsePorts(ports); err != nil {
			return nil, door.FieldError{Field: "ports", Problem: err.Error()}
		}
		if to.Has(i.Port) {
			what := map[bool]string{true: "its remote desktop's", false: "its SSH port"}[i.Desktop]
			return nil, door.FieldError{Field: "ports", Problem: fmt.Sprintf("port %d is %s: rules for that are "+
				"guarded, and are asked for without ports", i.Port, what)}
		}
	}
	if len(ranges) == 0 || len(ranges) > 10 {
		return nil, door.FieldError{Field: "from", Problem: "give one to ten address ranges"}
	}
	var out []string
	for _, text := range ranges {
		p, err := inbound.ParseRange(text)
		if err == nil && !p.Addr().Is4() && !w.CloudOf(i).Properties().IPv6 {
			err = inbound.CheckFamily(p, cmp.Or(i.Address, "0.0.0.0"))
		}
		if err == nil {
			err = inbound.CheckFamily(p, i.Address)
		}
		if err != nil {
			return nil, door.FieldError{Field: "from",
				Problem: fmt.Sprintf("%s: %v", plaintext.Line(plaintext.Cut(text, 60)), err)}
		}
		if inbound.World(p) && !world {
			return nil, door.FieldError{Field: "from", Code: wire.FieldWholeWorld,
				Problem: fmt.Sprintf("%s lets the whole world in; say so with -world if that is meant", p)}
		}
		out = append(out, inbound.Word(p, to))
	}
	return out, nil
}

// Admit begins to let address ranges in. FieldError, store.ErrReused.
func (w *Service) Admit(ctx context.Context, by store.Actor, once store.Once, i store.Instance,
	r wire.Admit) (store.Work, error) {
	if err := door.CloudBehind(i); err != nil {
		return store.Work{}, err
	}
	ranges, err := w.checkRanges(i, r.From, r.World, r.Ports)
	if err != nil {
		return store.Work{}, err
	}
	switch {
	case r.Seconds < 0 || time.Duration(r.Seconds) > longestAdmission/time.Second:
		return store.Work{}, door.FieldError{Field: "seconds", Problem: "a rule's end is at most a year away"}
	case plaintext.HasControl(r.Reason) || len(r.Reason) > 200:
		return store.Work{}, door.FieldError{Field: "reason", Problem: "a reason is at most 200 printable characters"}
	}
	what := strings.Join(ranges, ", ")
	intent := "let " + what + " in"
	if r.Seconds > 0 {
		intent += " for " + (time.Duration(r.Seconds) * time.Second).String()
	}
	if r.Reason != "" {
		intent += ": " + r.Reason
	}
	in := admission{Ranges: ranges, Me: r.Me, Shared: r.Shared, Seconds: r.Seconds, Reason: r.Reason}
	return w.BeginOf(ctx, by, once, i, w.Begun(w.Named("admit"), fmt.Sprintf("admit %s to %s", what, i.Name),
		door.Token(26), i, intent, in))
}

// Unadmit begins to withdraw rules. FieldError, store.ErrReused.
func (w *Service) Unadmit(ctx context.Context, by store.Actor, once store.Once, i store.Instance, ranges []string,
	ports string, cutOff int) (store.Work, error) {
	if err := door.CloudBehind(i); err != nil {
		return store.Work{}, err
	}
	ranges, err := w.checkRanges(store.Instance{}, ranges, true, ports)
	if err != nil {
		return store.Work{}, err
	}
	what := strings.Join(ranges, ", ")
	intent := "let " + what + " in no more"
	if cutOff > 0 {
		intent += fmt.Sprintf(", though people come in to %s no more then", door.Plural(cutOff, "instance"))
	}
	return w.BeginOf(ctx, by, once, i, w.Begun(w.Named("unadmit"), fmt.Sprintf("withdraw %s from %s", what, i.Name),
		door.Token(26), i, intent, unadmission{ranges, cutOff}))
}

// ruleJob is a change of rules.
type ruleJob struct {
	door.Job[ruleInput, changedRules]
	svc *Service
}

func (w *Service) ruleSteps() door.Family[*ruleJob] {
	return func() *ruleJob { return &ruleJob{svc: w} }
}

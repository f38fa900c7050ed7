package main

import (
	"bytes"
	"errors"
	"flag"
	"fmt"
	"net/url"
	"os"
	"strconv"
	"strings"
	"time"

	"plumlatch/client"
	"plumlatch/core/access"
	"plumlatch/core/keypair"
	"plumlatch/core/plaintext"
	"plumlatch/core/times"
	"plumlatch/core/wire"
)

// today lists what needs a hand, most urgent first.
func today(fs *flag.FlagSet) func(*cli) error {
	q := map[string]*string{}
	for name, about := range map[string]string{"instance": "`name` of an instance", "key": "`name` of a key",
		"region": "`region` of the instances", "what": "one `sort`, such as unrecorded-key",
		"urgency": "`how soon`: now, soon, later"} {
		q[name] = fs.String(name, "", about)
	}
	fresh := fs.Bool("unseen", false, "only what came, or came back, since the last \"today -unseen\"; ends with 3 if "+
		"there is any")
	off := fs.Bool("off", false, "what is put off")
	limit := fs.Int("limit", 50, "`number` of lines")
	putOff := fs.Int64("put-off", 0, "put the line of this `number` off, with -until and -reason")
	takeUp := fs.Int64("take-up", 0, "take the line of this `number` up again")
	until := fs.String("until", "", "with -put-off: the `time` until which it can wait, such as 2026-12-24; or after a while, such as 7d")
	because := fs.String("reason", "", "`text`: why it can wait")
	asJSON := fs.Bool("json", false, "print JSON")
	return func(c *cli) error {
		_, service, err := c.begin()
		if err != nil {
			return err
		}
		if *putOff != 0 || *takeUp != 0 {
			return c.putOff(service, *putOff, *takeUp, *until, *because, *asJSON)
		}
		if *until != "" || *because != "" {
			return usagef("-until and -reason go with -put-off")
		}
		if *limit < 1 || *limit > 100_000 {
			return usagef("-limit: give 1 to 100000")
		}
		query := url.Values{}
		for name, v := range q {
			if *v != "" {
				query.Set(map[string]string{"what": "reason"}[name]+strings.TrimPrefix(name, "what"), *v)
			}
		}
		if *off {
			query.Set("off", "true")
		}
		asked := time.Now()
		if *fresh {
			query.Set("new", "true")
		}
		t, err := service.Today(c.ctx, query, *limit)
		if err != nil {
			return err
		}
		if *asJSON {
			err = c.json(t)
		} else {
			c.printToday(t, len(query) > 1, *fresh, *off)
		}
		if err != nil || !*fresh {
			return err
		}
		if len(t.Items) > 0 {
			c.exit = exitNeedsHand
			asked = t.Items[0].Since
			for _, m := range t.Items {
				if m.Since.After(asked) {
					asked = m.Since
				}
			}
		}
		if t.NextCursor != "" { // what was not shown is still new
			return nil
		}
		return service.TodaySeen(c.ctx, asked)
	}
}

func (c *cli) printToday(t wire.Today, chosen, fresh, off bool) {
	now := time.Now()
	before := ""
	groups := grouped(t.Items, chosen || fresh || off)
	for _, m := range t.Items {
		if groups[m.ID].left {
			continue
		}
		if m.Urgency != before {
			if before != "" {
				fmt.Fprintln(c.out)
			}
			fmt.Fprintf(c.out, "%s\n", strings.ToUpper(m.Urgency))
			before = m.Urgency
		}
		fmt.Fprintf(c.out, "%6d  %s\n        %s, since %s; %s\n", m.ID, plaintext.Line(m.Sentence), m.Reason,
			strings.TrimSuffix(ago(m.Since, now), " ago"), plaintext.Line(m.Evidence))
		if m.OffUntil != nil {
			fmt.Fprintf(c.out, "        put off until %s by %s: %s\n", times.Show(m.OffUntil.Local()),
				m.OffBy, plaintext.Line(m.OffReason))
		} else {
			fmt.Fprintf(c.out, "        %s\n", plaintext.Line(m.Command))
			if m.Costs != "" {
				fmt.Fprintf(c.out, "        costs %s\n", plaintext.Line(m.Costs))
			}
		}
		if more := groups[m.ID].more; len(more) > 0 {
			what := "plumlatch today -what " + m.Reason
			if m.Key != "" {
				what += " -key " + m.Key
			}
			fmt.Fprintf(c.out, "        and %s like it: %s\n        %s\n", count(len(more), "more line"),
				plaintext.Line(some(more)), what)
		}
	}
	switch {
	case len(t.Items) == 0 && fresh:
		fmt.Fprintln(c.out, "Nothing new.")
	case len(t.Items) == 0 && off:
		fmt.Fprintln(c.out, "Nothing is put off.")
	case len(t.Items) == 0 && chosen:
		fmt.Fprintln(c.out, "Nothing of that needs a hand.")
	case len(t.Items) == 0:
		fmt.Fprintln(c.out, "Nothing needs a hand, as far as is known.")
	}
	total := 0
	for _, n := range t.Counts {
		total += n
	}
	if len(t.Items) > 0 {
		fmt.Fprintln(c.out)
	}
	if t.NextCursor != "" {
		fmt.Fprintf(c.out, "%d of %d are shown; -limit shows more.\n", len(t.Items), total)
	}
	if t.Off > 0 && !off {
		fmt.Fprintf(c.out, "%d put off: plumlatch today -off\n", t.Off)
	}
	if len(t.Items) > 0 && !off {
		fmt.Fprintf(c.out, "next: %s\n", plaintext.Line(t.Items[0].Command))
	}
}

// group is what becomes of one of many lines that say the same of several instances.
type group struct {
	left bool     // it is told with another line
	more []string // the instances of those that are told with it
}

// grouped puts lines together that have the same reason, and the same key, for more than three
// instances: by the ID of the first of them. Where somebody asked for lines of one sort, each stands alone.
func grouped(all []wire.Matter, apart bool) map[int64]group {
	out := map[int64]group{}
	if apart {
		return out
	}
	same := map[string][]wire.Matter{}
	for _, m := range all {
		if m.Instance != "" {
			id := m.Reason + " " + m.Key
			same[id] = append(same[id], m)
		}
	}
	for _, ms := range same {
		if len(ms) < 4 {
			continue
		}
		var more []string
		for _, m := range ms[1:] {
			more = append(more, m.Instance)
			out[m.ID] = group{left: true}
		}
		out[ms[0].ID] = group{more: more}
	}
	return out
}

func (c *cli) putOff(service *client.Client, id, back int64, until, because string, asJSON bool) error {
	r := wire.PutOff{Reason: because}
	if back != 0 {
		if id != 0 || until != "" || because != "" {
			return usagef("-take-up goes alone")
		}
		id = back
	} else {
		t, err := readUntil(until, time.Now())
		if err != nil {
			return err
		}
		if because == "" {
			return usagef("-reason is missing: whoever reads the list next will ask")
		}
		r.Until = &t
	}
	m, err := service.PutOff(c.ctx, id, r)
	if p, ok := errors.AsType[*client.Problem](err); ok && p.Of("not-found") {
		return failure{fmt.Errorf("there is no line %d, or it needs no hand any more", id), "plumlatch today"}
	}
	if err != nil {
		return err
	}
	switch {
	case asJSON:
		return c.json(m)
	case r.Until == nil:
		fmt.Fprintf(c.out, "Taken up again: %s\nnext: %s\n", plaintext.Line(m.Sentence), plaintext.Line(m.Command))
	default:
		fmt.Fprintf(c.out, "Put off until %s: %s\n", times.Show(r.Until.Local()),
			plaintext.Line(m.Sentence))
	}
	return nil
}

// readUntil reads a date, a time, or how long from now.
func readUntil(text string, now time.Time) (time.Time, error) {
	if text == "" {
		return time.Time{}, usagef("-until is missing: a date such as 2026-12-24, or a time such as 7d")
	}
	if d, err := times.Span(text); err == nil && d > 0 {
		return now.Add(d), nil
	}
	t, err := times.End(text, now)
	if err != nil {
		return time.Time{}, usagef("-until: %v; or a time from now such as 7d", err)
	}
	return t, nil
}

func policyShow(fs *flag.FlagSet) func(*cli) error {
	asJSON := fs.Bool("json", false, "print JSON")
	return func(c *cli) error {
		_, service, err := c.begin()
		if err != nil {
			return err
		}
		p, err := service.Policy(c.ctx)
		if err != nil {
			return err
		}
		if *asJSON {
			return c.json(p)
		}
		fmt.Fprint(c.out, p.Text)
		if p.At == nil {
			fmt.Fprintln(c.err, "This is the built-in policy; none was set.")
		} else {
			fmt.Fprintf(c.err, "Set by %s, %s.\n", p.By, ago(*p.At, time.Now()))
		}
		return nil
	}
}

// policyCommand makes policy check and policy set.
func policyCommand(set bool) func(*flag.FlagSet) func(*cli) error {
	return func(*flag.FlagSet) func(*cli) error {
		return func(c *cli) error {
			args, err := c.names("FILE")
			if err != nil {
				return err
			}
			data, err := os.ReadFile(args[0])
			if err != nil {
				return err
			}
			if keypair.LooksPrivate(data) { // no message may quote it, as that about a wrong line would
				return fmt.Errorf("%s holds a private key, and is no policy; nothing was sent", args[0])
			}
			if _, err := access.ReadPolicy(string(bytes.TrimPrefix(data, []byte("\xef\xbb\xbf")))); err != nil {
				return fmt.Errorf("%s: %w", args[0], err)
			}
			if !set {
				fmt.Fprintf(c.out, "%s is a policy.\nnext: plumlatch policy set %s\n", args[0], shellWord(args[0]))
				return nil
			}
			service, err := c.service()
			if err != nil {
				return err
			}
			if err := service.SetPolicy(c.ctx, string(bytes.TrimPrefix(data, []byte("\xef\xbb\xbf"))),
				false); err != nil {
				return err
			}
			fmt.Fprintln(c.out, "The policy is set; everything is judged by it anew.\nnext: plumlatch today")
			return nil
		}
	}
}

// badDay makes key lost, key exposed and key found.
func badDay(state string) func(*flag.FlagSet) func(*cli) error {
	return func(fs *flag.FlagSet) func(*cli) error {
		because := fs.String("reason", "", "`text` for the journal")
		plan := fs.Bool("plan", false, "only show what follows, and change nothing")
		yes := fs.Bool("yes", false, "do not ask")
		asJSON := fs.Bool("json", false, "print JSON")
		return func(c *cli) error {
			args, service, err := c.begin("NAME")
			if err != nil {
				return err
			}
			if err := c.keyNames(service, &args[0]); err != nil {
				return err
			}
			r := wire.KeyBadDay{State: state, Reason: *because, Plan: true}
			if !*plan && !*yes && state == access.Exposed { // it cannot be undone
				f, err := service.BadDay(c.ctx, args[0], r)
				if err != nil {
					return err
				}
				if f.Key.State != access.Exposed {
					c.printFollows(f, state)
					if err := c.confirm(fmt.Sprintf("\nRecord that somebody else may have %s? An exposed key never "+
						"counts as safe again.", f.Key.Name)); err != nil {
						return err
					}
				}
			}
			r.Plan = *plan
			f, err := service.BadDay(c.ctx, args[0], r)
			if err != nil {
				return err
			}
			if *asJSON {
				return c.json(f)
			}
			if state == access.InUse {
				if *plan {
					fmt.Fprintf(c.out, "%s is %s. Nothing was changed.\nnext: plumlatch key found %s\n", f.Key.Name,
						f.Key.State, f.Key.Name)
					return nil
				}
				fmt.Fprintf(c.out, "%s is found again, and in use.\nnext: plumlatch key prove %s -identity FILE\n",
					f.Key.Name, f.Key.Name)
				return nil
			}
			c.printFollows(f, state)
			fmt.Fprintf(c.out, "next: %s\n", plaintext.Line(f.Next))
			return nil
		}
	}
}

// printFollows tells what follows from a lost or exposed key.
func (c *cli) printFollows(f wire.Follows, state string) {
	word := map[string]string{access.Lost: "lost: nobody has its private half",
		access.Exposed: "exposed: somebody else may have its private half"}[state]
	if f.Key.State == state {
		fmt.Fprintf(c.out, "%s, %s. No launch takes it. Nothing on instances was changed.\n\n", f.Key.Name, word)
	} else {
		fmt.Fprintf(c.out, "What follows if %s is %s. Nothing was changed yet.\n\n", f.Key.Name, word)
	}
	rows := func(all []wire.FollowsDoor) (out [][]string) {
		for n, d := range all {
			how := evidence(wire.Access{Evidence: d.Evidence, Old: d.Old})
			if !d.Recorded {
				how += ", not recorded"
			}
			out = append(out, []string{strconv.Itoa(n + 1), d.Instance, d.LoginUser, how,
				strings.Join(d.Others, ", "), d.Why})
		}
		return out
	}
	head := []string{"", "instance", "user", "evidence", "other openers", "why here"}
	type part struct {
		title string
		doors []wire.FollowsDoor
	}
	parts := []part{{"Shut these to it, in this order; another key opens each", f.Shut},
		{"No other key of a person opens these: each needs a new key before this one is taken out", f.Locked}}
	if state == access.Lost {
		parts = []part{{"Nobody gets into these any more; access must be restored", f.Locked},
			{"Another key opens these", f.Shut}}
	}
	for _, p := range parts {
		if len(p.doors) > 0 {
			fmt.Fprintf(c.out, "%s:\n\n", p.title)
			c.table(head, rows(p.doors), "")
			fmt.Fprintln(c.out)
		}
	}
	if len(f.Shut)+len(f.Locked) == 0 {
		fmt.Fprintf(c.out, "It opens nothing, as far as is known.\n\n")
	}
}

// holderLeft records that a holder left.
func holderLeft(fs *flag.FlagSet) func(*cli) error {
	plan := fs.Bool("plan", false, "only show what follows, and change nothing")
	yes := fs.Bool("yes", false, "do not ask")
	withdraw := fs.Bool("withdraw", false, "then withdraw the holder's own keys everywhere, as one piece of work")
	cutOff := fs.Int("cut-off", 0, "with -withdraw: also where nobody gets in any more then; their `number`, "+
		"counted out")
	asJSON := fs.Bool("json", false, "print JSON")
	return func(c *cli) error {
		args, service, err := c.begin("NAME")
		if err != nil {
			return err
		}
		if *cutOff != 0 && !*withdraw || *withdraw && *asJSON {
			return usagef("-cut-off goes with -withdraw, and -withdraw without -json")
		}
		show := func(all []wire.Follows) {
			for _, f := range all {
				fmt.Fprintf(c.out, "%s %s.\n", args[0], f.Why)
				c.printFollows(f, access.Exposed)
			}
			if len(all) == 0 {
				fmt.Fprintf(c.out, "%s has no key on record.\n", args[0])
			}
		}
		all, err := service.HolderLeft(c.ctx, args[0], true)
		if err != nil {
			return err
		}
		if !*plan {
			if !*yes {
				show(all)
				var names []string
				for _, f := range all {
					names = append(names, f.Key.Name)
				}
				if err := c.confirm(fmt.Sprintf("Record that %s left, and that these count as exposed from now on: %s?", args[0], strings.Join(names, ", "))); err != nil {
					return err
				}
			}
			if all, err = service.HolderLeft(c.ctx, args[0], false); err != nil {
				return err
			}
		}
		if *asJSON {
			return c.json(wire.List[wire.Follows]{Items: all})
		}
		if *plan || *yes {
			show(all)
		}
		if *plan {
			fmt.Fprintln(c.out, "Nothing was changed.")
			return nil
		}
		fmt.Fprintf(c.out, "%s left; %s exposed.\nnext: plumlatch access remove -holder %s -plan; what teams "+
			"share: plumlatch today -what exposed-key-opens\n", args[0],
			map[bool]string{true: "one key counts as",
				false: fmt.Sprintf("%d keys count as", len(all))}[len(all) == 1], args[0])
		if !*withdraw {
			return nil
		}
		fmt.Fprintln(c.out)
		err = c.changeMany(wire.AccessMany{Do: wire.ManyRemove, Holder: args[0], Reason: args[0] + " left",
			CutOff: *cutOff}, manyOptions{back: length(7 * 24 * time.Hour), yes: *yes}, false, false)
		for _, f := range all {
			if strings.Contains(f.Why, " as one of ") {
				fmt.Fprintf(c.out, "%s is shared by a team, and stays until it is replaced.\nnext: plumlatch "+
					"rotate exposed %s -new KEY\n", f.Key.Name, f.Key.Name)
			}
		}
		return err
	}
}

// holderSet puts a holder into a team, or takes the holder out of one.
func holderSet(fs *flag.FlagSet) func(*cli) error {
	join := fs.String("join", "", "`team` that the holder is in: its keys are the holder's too")
	leave := fs.String("leave", "", "`team` that the holder is no more in; the holder still has what was copied")
	return func(c *cli) error {
		args, service, err := c.begin("NAME")
		if err != nil {
			return err
		}
		var change wire.HolderChange
		fs.Visit(func(f *flag.Flag) {
			switch f.Name {
			case "join":
				change.Join = join
			case "leave":
				change.Leave = leave
			}
		})
		if change == (wire.HolderChange{}) {
			return usagef("say what to set: -join TEAM or -leave TEAM")
		}
		if err := service.ChangeHolder(c.ctx, args[0], change); err != nil {
			return err
		}
		if change.Leave != nil {
			fmt.Fprintf(c.out, "%s is not in %s any more, and may still have a copy of its keys.\nnext: plumlatch "+
				"key list -holder %s\n", args[0], *leave, *leave)
			return nil
		}
		fmt.Fprintf(c.out, "%s is one of %s now, and has its keys.\nnext: plumlatch key list -holder %s\n",
			args[0], *join, *join)
		return nil
	}
}

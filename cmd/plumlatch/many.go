package main

import (
	"bufio"
	"cmp"
	"errors"
	"flag"
	"fmt"
	"io"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"time"

	"plumlatch/client"
	"plumlatch/core/plaintext"
	"plumlatch/core/wire"
)

// manyOptions are those of a change of access on many instances.
type manyOptions struct {
	waves
	tag       string
	back      length
	plan, yes bool
}

func (o *manyOptions) flags(fs *flag.FlagSet, which string) {
	fs.StringVar(&o.tag, "tag", "", which+"those with this tag, `NAME=VALUE`, or NAME")
	o.waves.flag(fs, "one, then all others")
	o.back = length(7 * 24 * time.Hour)
	fs.Var(&o.back, "wait-for-back", "of many: how `long` an instance that is out of reach is waited for")
	fs.BoolVar(&o.plan, "plan", false, "of many: show what would happen, and change nothing")
	fs.BoolVar(&o.yes, "yes", false, "do not ask")
}

// accessSecond gives a sole opener a second key beside it: of one instance, of a tag, or of all.
func accessSecond(fs *flag.FlagSet) func(*cli) error {
	var t terms
	t.flags(fs)
	var m manyOptions
	m.flags(fs, "")
	all := fs.Bool("all", false, "all instances, whatever their tags")
	detach := fs.Bool("detach", false, "print the work's ID and leave")
	asJSON := fs.Bool("json", false, "print JSON")
	return func(c *cli) error {
		if len(c.args) > 1 || (len(c.args) == 1) == (m.tag != "" || *all) || m.tag != "" && *all {
			return usagef("give INSTANCE, or -tag TAG, or -all")
		}
		service, err := c.service()
		if err != nil {
			return err
		}
		until, err := t.at(time.Now())
		if err != nil {
			return err
		}
		instance := ""
		if len(c.args) == 1 {
			instance = c.args[0]
		}
		if t.key == "" {
			if t.key, err = c.chooseSecond(service, instance); err != nil {
				return err
			}
		}
		if instance == "" {
			return c.changeMany(wire.AccessMany{Do: wire.ManySecond, Key: t.key, Until: until, From: t.networks(),
				Only: t.only, Reason: t.reason}, m, *detach, *asJSON)
		}
		if m.plan {
			return usagef("-plan goes with -tag or -all")
		}
		return c.addAccess(service, instance, t, "", *detach, *asJSON)
	}
}

// chooseSecond finds the key that becomes a second opener: of people, in use, shown to exist, and not
// there yet. On a terminal it is asked; elsewhere they are named.
func (c *cli) chooseSecond(service *client.Client, instance string) (string, error) {
	keys, err := service.Keys(c.ctx, url.Values{"state": {"in use"}})
	if err != nil {
		return "", err
	}
	there, theirs := map[string]bool{}, map[string]bool{}
	if instance != "" {
		o, err := service.Opening(c.ctx, instance)
		if err != nil {
			return "", err
		}
		for _, a := range o.Keys {
			there[a.Fingerprint], theirs[a.Holder] = true, true
		}
	}
	var fit []wire.Key
	for _, k := range keys {
		if !there[k.Fingerprint] && !k.Authority && !k.Retired && k.ShownAt != nil &&
			(k.HolderSort == "person" || k.HolderSort == "team") {
			fit = append(fit, k)
		}
	}
	if len(fit) == 0 {
		return "", failure{errors.New("there is no other key of a person or a team whose private half was shown to exist"),
			"plumlatch key create NAME; or plumlatch key prove KEY -identity FILE, and the same command with -key KEY"}
	}
	// Somebody else's first: two keys of one person are lost with one laptop. Then what was shown last.
	slices.SortStableFunc(fit, func(a, b wire.Key) int {
		if theirs[a.Holder] != theirs[b.Holder] {
			return map[bool]int{true: 1, false: -1}[theirs[a.Holder]]
		}
		return b.ShownAt.Compare(*a.ShownAt)
	})
	var rows [][]string
	for n, k := range fit[:min(9, len(fit))] {
		rows = append(rows, []string{fmt.Sprint(n + 1), k.Name, k.Holder, fmt.Sprint(k.Reach), ago(*k.ShownAt, time.Now())})
	}
	c.table([]string{"", "key", "holder", "opens", "private half"}, rows, "")
	if !c.tty {
		return "", failure{errors.New("which key is to open it besides? There is no terminal to ask on"),
			"the same command with -key " + fit[0].Name}
	}
	fmt.Fprint(c.err, "Which key is to open it besides (number or name)? ")
	line, err := bufio.NewReader(io.LimitReader(c.in, 200)).ReadString('\n')
	text := strings.TrimSpace(line)
	if err != nil || text == "" {
		return "", errors.New("no answer; nothing was changed")
	}
	if n, err := strconv.Atoi(text); err == nil && n >= 1 && n <= len(rows) {
		return fit[n-1].Name, nil
	}
	return c.recordedToChange(service, text)
}

// changeMany shows what a change of access on many instances would do, asks, and
// follows it.
func (c *cli) changeMany(r wire.AccessMany, o manyOptions, detach, asJSON bool) error {
	service, err := c.service()
	if err != nil {
		return err
	}
	if r.Key != "" {
		find := c.recordedToChange
		if r.Do == wire.ManyRemove { // also one that nobody recorded
			find = c.keyToChange
		}
		if r.Key, err = find(service, r.Key); err != nil {
			return err
		}
	}
	r.Tag, r.First, r.Grow, r.AtMost, r.BackSeconds = o.tag, o.first, o.grow, o.atMost, o.back.seconds()
	p, err := service.PlanMany(c.ctx, r)
	if err != nil {
		return err
	}
	if !asJSON {
		c.printManyPlan(p, r)
	}
	if o.plan {
		if asJSON {
			return c.json(p)
		}
		fmt.Fprintf(c.out, "Nothing was changed.\nnext: the same command without -plan\n")
		return nil
	}
	if len(p.Waves) == 0 {
		return failure{errors.New("there is no instance to do it on"), "plumlatch access list"}
	}
	if p.CutOff != r.CutOff {
		return failure{fmt.Errorf("nobody would get into %s any more: those are marked above; nothing was changed",
			count(p.CutOff, "instance")),
			fmt.Sprintf("first another key: plumlatch access second -all -key KEY; or, to cut them off on purpose: "+
				"the same command with -cut-off %d", p.CutOff)}
	}
	if !o.yes {
		n := 0
		for _, w := range p.Waves {
			n += w.All
		}
		verb := "Add it to"
		if r.Do == wire.ManyRemove {
			verb = "Withdraw from"
		}
		if err := c.confirm(fmt.Sprintf("%s %s?", verb, count(n, "instance"))); err != nil {
			return err
		}
	}
	w, err := service.ChangeMany(c.ctx, r)
	if err != nil {
		return err
	}
	if detach {
		if asJSON {
			return c.json(w)
		}
		fmt.Fprintf(c.out, "Work %d: %s.\nnext: plumlatch work follow %d\n", w.ID, plaintext.Line(w.Title), w.ID)
		return nil
	}
	m := manyWordsOf(w)
	if r.Do != wire.ManyRemove {
		m.shown = "opened by " + r.Key
	}
	err = c.followMany(service, w, m, asJSON)
	c.renewHosts(service)
	return err
}

// printManyPlan shows what will happen where.
func (c *cli) printManyPlan(p wire.FleetPlan, r wire.AccessMany) {
	var rows [][]string
	left := 0
	for _, m := range p.Members {
		wave, note := fmt.Sprint(m.Wave), m.Note
		switch {
		case m.State == "left out":
			wave, left = "-", left+1
			note = "left out: " + note
		case m.CutOff:
			note = "NOBODY GETS IN ANY MORE: no other key of a person is known to be taken"
		}
		key := m.New
		if r.Do == wire.ManyRemove {
			key = m.Old
		}
		if len(rows) < 60 {
			rows = append(rows, []string{wave, m.Instance, key, plaintext.Line(note)})
		}
	}
	word := "added"
	if r.Do == wire.ManyRemove {
		word = "withdrawn"
	}
	c.table([]string{"wave", "instance", word, ""}, rows, "There is no instance to do it on.")
	if n := len(p.Members) - len(rows); n > 0 {
		fmt.Fprintf(c.out, "and %d more (-json shows all)\n", n)
	}
	if left > 0 {
		fmt.Fprintf(c.out, "%s left out.\n", map[bool]string{true: "1 is", false: fmt.Sprintf("%d are", left)}[left == 1])
	}
	if said := sizesSaid(p.Waves, cmp.Or(r.AtMost, "100%")); said != "" && len(p.Waves) > 1 {
		fmt.Fprintln(c.out, said)
	}
	c.printWordNeeded(p.Word)
}

// printWordNeeded says beforehand what the policy asks for.
func (c *cli) printWordNeeded(word string) {
	if word != "" {
		fmt.Fprintf(c.out, "The policy asks for a word before this begins (word.by: %s): plumlatch work word ID\n",
			word)
	}
}

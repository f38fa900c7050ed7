package main

import (
	"errors"
	"flag"
	"fmt"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"time"

	"plumlatch/client"
	"plumlatch/core/comeback"
	"plumlatch/core/plaintext"
	"plumlatch/core/times"
	"plumlatch/core/wire"
	"plumlatch/reach"
)

// surveyOptions are what a survey is asked for.
type surveyOptions struct {
	inside, outside, all, agent, last, asJSON, detach bool
	tag, region, key, identity, passFile, by          string
}

func survey(fs *flag.FlagSet) func(*cli) error {
	var o surveyOptions
	fs.BoolVar(&o.inside, "inside", false, "read the files, by the steward (the default)")
	fs.BoolVar(&o.outside, "outside", false, "ask the server itself which keys it would take, without any private key")
	fs.BoolVar(&o.all, "all", false, "all instances that run")
	fs.StringVar(&o.tag, "tag", "", "`NAME=VALUE`, or NAME, of the instances")
	fs.StringVar(&o.region, "region", "", "`region` of the instances")
	fs.StringVar(&o.key, "key", "", "with -outside: ask about these recorded `keys`, K,K, instead of all that are "+
		"recorded for the instance")
	fs.StringVar(&o.identity, "identity", "",
		"look from inside with this private key `file`, by this machine: with sudo it sees more than the steward")
	fs.BoolVar(&o.agent, "ssh-agent", false, "the same with the keys in the running ssh-agent")
	fs.StringVar(&o.passFile, "passphrase-file", "", "`file` with the passphrase of -identity")
	fs.StringVar(&o.by, "by", "steward", "who looks from inside: the `steward`, or the agent there, which sees more")
	fs.BoolVar(&o.last, "last", false, "show what the last surveys saw, and survey nothing")
	fs.BoolVar(&o.detach, "detach", false, "of many: print the work's ID and leave")
	fs.BoolVar(&o.asJSON, "json", false, "print JSON")
	return func(c *cli) error {
		many := o.all || o.tag != "" || o.region != "" || len(c.args) > 1
		own := o.identity != "" || o.agent
		switch {
		case len(c.args) == 0 && !many:
			return usagef("INSTANCE is missing; or give -tag, -region or -all")
		case len(c.args) > 0 && (o.all || o.tag != "" || o.region != ""):
			return usagef("give instances, or -tag, -region or -all")
		case many && (own || o.key != "" || o.last):
			return usagef("-identity, -ssh-agent, -key and -last are for one instance")
		case own && (o.outside || o.identity != "" && o.agent):
			return usagef("-identity or -ssh-agent looks from inside; give one of them, and not -outside")
		case o.by != "steward" && o.by != "agent":
			return usagef("-by is steward or agent")
		case o.by == "agent" && (many || own || o.outside || o.last):
			return usagef("-by agent is for one instance, from inside")
		case o.key != "" && !o.outside:
			return usagef("-key goes with -outside")
		}
		service, err := c.service()
		if err != nil {
			return err
		}
		switch {
		case many:
			return c.surveyMany(service, o)
		case o.last:
			return c.lastSurveys(service, c.args[0], o.asJSON)
		case own:
			return c.surveyHere(service, c.args[0], o)
		case o.by == "agent":
			return c.surveyByAgent(service, c.args[0], o)
		}
		r := wire.SurveyRequest{Inside: o.inside || !o.outside, Outside: o.outside}
		if o.key != "" {
			r.Keys = strings.Split(o.key, ",")
		}
		s, err := service.Survey(c.ctx, c.args[0], r)
		if err != nil {
			return err
		}
		if o.asJSON {
			return c.json(s)
		}
		if s.InsideTrouble != "" {
			fmt.Fprintf(c.out, "%s: nothing was seen from inside: %s\n", s.Instance, s.InsideTrouble)
		} else if r.Inside {
			c.printInside(s)
		}
		if s.Outside != nil {
			c.printOutside(s.Instance, *s.Outside, r.Inside)
		}
		c.surveyNext(s)
		return nil
	}
}

// printInside shows what was seen from inside.
func (c *cli) printInside(s wire.Survey) {
	counts := map[string]int{}
	var rows [][]string
	several := slices.ContainsFunc(s.Keys, func(k wire.Surveyed) bool { return k.LoginUser != s.LoginUser })
	for _, k := range s.Keys {
		counts[k.Result]++
		name := k.Key
		switch {
		case k.Steward:
			name = "(steward)"
		case name == "" && k.Comment != "":
			name = "? " + k.Comment
		case name == "":
			name = "?"
		}
		where := ""
		if k.Line > 0 {
			where = fmt.Sprintf("%s:%d", k.File, k.Line)
		}
		if k.Lines > 1 {
			where += fmt.Sprintf(" and %d more", k.Lines-1)
		}
		limits := k.Options
		if k.Ends != nil {
			limits = strings.TrimSpace(limits + " (ends " + times.Show(k.Ends.Local()) + ")")
		}
		row := []string{k.Result, name, k.Bitting, k.Kind, where, limits}
		if several {
			row = slices.Insert(row, 1, k.LoginUser)
		}
		rows = append(rows, row)
	}
	expired := ""
	if counts["expired"] > 0 {
		expired = fmt.Sprintf(", %d expired", counts["expired"])
	}
	fmt.Fprintf(c.out, "%s, as %s: %d recorded, %d unrecorded, %d missing%s.\n\n", s.Instance, s.LoginUser,
		counts["recorded"], counts["unrecorded"], counts["missing"], expired)
	head := []string{"result", "key", "bitting", "kind", "where", "options"}
	if several {
		head = slices.Insert(head, 1, "user")
	}
	c.table(head, rows, "There is no key in its files.")
	fmt.Fprintln(c.out)
	c.said("passed over by sshd", s.Broken)
	c.said("passed over by sshd", s.Ignored)
	for _, d := range s.Doors {
		fmt.Fprintf(c.out, "another door: %s\n", plaintext.Line(d.Text))
	}
	for _, l := range s.Lying {
		name := l.Fingerprint
		if l.Key != "" {
			name = l.Key + ", " + l.Fingerprint
		}
		if name == "" {
			name = "its fingerprint cannot be told without the passphrase"
		}
		fmt.Fprintf(c.out, "a private key lies there: %s (%s)\n", l.File, name)
	}
	c.said("configuration", s.Config)
	c.said("not seen", s.NotSeen)
}

func (c *cli) said(what string, all []string) {
	for _, s := range all {
		fmt.Fprintf(c.out, "%s: %s\n", what, plaintext.Line(s))
	}
}

// printOutside shows what the server itself said.
func (c *cli) printOutside(instance string, o wire.OutsideSurvey, after bool) {
	if after {
		fmt.Fprintln(c.out)
	}
	if o.Trouble != "" {
		fmt.Fprintf(c.out, "%s: nothing was seen from outside: %s\n", instance, o.Trouble)
	} else {
		fmt.Fprintf(c.out, "%s, asked from %s without any private key:\n\n", instance, o.Vantage)
	}
	var rows [][]string
	for _, a := range o.Answers {
		name := a.Key
		if a.Steward {
			name = "(steward)"
		}
		note := ""
		if !a.Recorded && a.Answer == "accepted" {
			note = "not recorded for this instance"
		}
		rows = append(rows, []string{a.Answer, name, a.LoginUser, strings.TrimSpace(a.Detail + " " + note)})
	}
	c.table([]string{"answer", "key", "user", ""}, rows, "There is no key to ask about.")
	fmt.Fprintln(c.out)
	for _, m := range o.Methods {
		methods := strings.Join(m.Methods, ", ")
		switch {
		case m.Open:
			methods = "none at all: it let us in without anything"
		case methods == "":
			methods = "no method"
		}
		fmt.Fprintf(c.out, "%s is offered: %s\n", m.User, methods)
	}
	if len(o.Rules) > 0 {
		fmt.Fprintf(c.out, "inbound rules admit: %s\n", strings.Join(o.Rules, ", "))
	}
	c.said("not seen", o.NotSeen)
}

// surveyNext tells what to do about what was found.
func (c *cli) surveyNext(s wire.Survey) {
	for _, k := range s.Keys {
		if k.Result != "unrecorded" || k.Limits == "authority" {
			continue
		}
		user := ""
		if k.LoginUser != s.LoginUser {
			user = " -user " + k.LoginUser
		}
		if k.Key != "" {
			fmt.Fprintf(c.out, "next: plumlatch access record %s %s%s\n", s.Instance, k.Key, user)
		} else {
			fmt.Fprintf(c.out, "next: plumlatch access record %s %s%s -as NAME\n", s.Instance, k.Fingerprint, user)
		}
		return
	}
	if slices.ContainsFunc(s.Keys, func(k wire.Surveyed) bool { return k.Result == "missing" }) {
		fmt.Fprintf(c.out, "next: plumlatch today -instance %s\n", s.Instance)
	}
}

// surveyMany surveys many, as work that can be left and followed again.
func (c *cli) surveyMany(service *client.Client, o surveyOptions) error {
	w, err := service.SurveyMany(c.ctx, wire.SurveyMany{Instances: c.args, Tag: o.tag, Region: o.region, All: o.all,
		Inside: o.inside || !o.outside, Outside: o.outside})
	if err != nil {
		return err
	}
	if o.detach {
		if o.asJSON {
			return c.json(w)
		}
		fmt.Fprintf(c.out, "Work %d: %s.\nnext: plumlatch work follow %d\n", w.ID, plaintext.Line(w.Title), w.ID)
		return nil
	}
	if w, err = c.follow(service, w.ID, plaintext.Line(w.Title)); err != nil {
		return err
	}
	rows, err := service.Surveys(c.ctx, url.Values{"work": {strconv.FormatInt(w.ID, 10)}})
	if err != nil {
		return err
	}
	if o.asJSON {
		return c.json(struct {
			Work  wire.Work         `json:"work"`
			Items []wire.LastSurvey `json:"items"`
		}{w, rows})
	}
	var out [][]string
	now := time.Now()
	fine := 0
	for _, r := range rows {
		if r.Trouble == "" && r.Unrecorded+r.Missing+r.Expired == 0 {
			fine++
			continue
		}
		found := fmt.Sprintf("%d recorded, %d unrecorded, %d missing, %d expired", r.Recorded, r.Unrecorded,
			r.Missing, r.Expired)
		if r.Trouble != "" {
			found = r.Trouble
			if r.SeenAt != nil {
				found += "; last seen " + ago(*r.SeenAt, now)
			}
		} else if r.Sort == "outside" {
			continue
		}
		out = append(out, []string{r.Instance, r.Region, r.Sort, found})
	}
	if len(out) > 0 {
		c.table([]string{"instance", "region", "survey", "found"}, out, "")
		fmt.Fprintln(c.out)
	}
	if fine > 0 {
		fmt.Fprintf(c.out, "As recorded: %s.\n", count(fine, "survey"))
	}
	if w.State != "done" {
		return c.workFailed(service, w)
	}
	fmt.Fprintf(c.out, "%s.\nnext: plumlatch today\n", plaintext.Line(w.Outcome))
	return nil
}

// lastSurveys shows what the last surveys of an instance saw, and when.
func (c *cli) lastSurveys(service *client.Client, name string, asJSON bool) error {
	rows, err := service.LastSurveys(c.ctx, name)
	if err != nil {
		return err
	}
	if asJSON {
		return c.json(wire.List[wire.LastSurvey]{Items: rows})
	}
	var out [][]string
	now := time.Now()
	for _, r := range rows {
		seen, found := "never", r.Trouble
		if r.SeenAt != nil {
			seen = ago(*r.SeenAt, now)
			counts := fmt.Sprintf("%d recorded, %d unrecorded, %d missing, %d expired", r.Recorded, r.Unrecorded,
				r.Missing, r.Expired)
			if r.Sort == "outside" {
				counts = "asked"
			} else if r.Sort == "config" {
				counts = "read"
			}
			found = strings.TrimPrefix(found+"; before: "+counts, "; before: ")
		}
		out = append(out, []string{r.Sort, seen, r.Vantage, found})
	}
	c.table([]string{"survey", "seen", "by", "found"}, out, "It was never surveyed.")
	fmt.Fprintf(c.out, "next: plumlatch survey %s\n", name)
	return nil
}

// surveyHere looks from inside by this machine, with the engineer's own key, and
// tells the service what it saw. No private key is sent, and none is read on
// the instance: what lies in homes is told by its fingerprint, computed there.
func (c *cli) surveyHere(service *client.Client, name string, o surveyOptions) error {
	in, err := c.enterKnown(service, name, adoptOptions{identity: o.identity, agent: o.agent, passFile: o.passFile}, "")
	if err != nil {
		return err
	}
	i := in.of
	defer in.close()
	around, err := reach.LookAround(c.ctx, in.ssh, in.files, i.LoginUser, "")
	if errors.Is(err, reach.ErrKeysFiles) && len(i.KeysFiles) > 0 { // as recorded when it was adopted
		around, err = reach.LookAround(c.ctx, in.ssh, in.files, i.LoginUser, i.KeysFiles[0])
	}
	if err != nil {
		return err
	}
	r := around.Report()
	var notLogged string
	if r.Logins, notLogged = c.loggedAt(service, i.Name, in.ssh); notLogged != "" {
		r.NotSeen = append(r.NotSeen, notLogged)
	}
	s, err := service.ClientSurvey(c.ctx, i.Name, r)
	if err != nil {
		return err
	}
	if o.asJSON {
		return c.json(s)
	}
	fmt.Fprintf(c.out, "Seen by %s, with %s: %s.\n", i.LoginUser, around.Privilege, count(len(around.Users), "user"))
	c.printInside(s)
	c.printComesBack(around.Machine)
	if r.Logins != nil {
		n := 0
		for _, u := range r.Logins.Uses {
			n += u.Count
		}
		fmt.Fprintf(c.out, "%s of its log (%s) were read: plumlatch access used -instance %s\n", count(n, "login"), r.Logins.Source, i.Name)
	}
	c.surveyNext(s)
	return nil
}

// surveyByAgent has the agent there look.
func (c *cli) surveyByAgent(service *client.Client, name string, o surveyOptions) error {
	s, err := service.AgentLook(c.ctx, name)
	if err != nil {
		return err
	}
	if o.asJSON {
		return c.json(s)
	}
	fmt.Fprintf(c.out, "Seen by the agent there, as root.\n")
	c.printInside(s)
	c.surveyNext(s)
	return nil
}

// printComesBack says what would not come back after a stop.
func (c *cli) printComesBack(m comeback.Machine) {
	doubts, seen := comeback.Doubts(m)
	for _, d := range doubts {
		fmt.Fprintf(c.out, "would not come back after a stop: %s: %s\n", plaintext.Line(d.What), d.Why)
	}
	if !slices.Contains(seen, comeback.Service) {
		fmt.Fprintln(c.out, "not seen: whether what runs there starts at boot")
	}
	if !slices.Contains(seen, comeback.Mount) {
		fmt.Fprintln(c.out, "not seen: whether what is mounted there is written in fstab")
	}
}

// accessRecord writes down that a key that a survey found opens an instance.
// instanceProbing says whether the service may ask an instance from outside by itself.
func instanceProbing(*flag.FlagSet) func(*cli) error {
	return func(c *cli) error {
		args, service, err := c.begin("NAME", "yes or no")
		if err != nil {
			return err
		}
		if args[1] != "yes" && args[1] != "no" {
			return usagef("say yes or no")
		}
		i, err := service.Probing(c.ctx, args[0], args[1] == "yes")
		if err != nil {
			return err
		}
		if i.ProbeAllowed {
			fmt.Fprintf(c.out, "The service asks the server of %s from outside by itself from now on. Each time is "+
				"a line in the server's log.\n", i.Name)
		} else {
			fmt.Fprintf(c.out, "The service does not ask the server of %s from outside by itself any more; "+
				"\"survey -outside\" still does.\n", i.Name)
		}
		return nil
	}
}

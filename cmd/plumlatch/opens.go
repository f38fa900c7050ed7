package main

import (
	"cmp"
	"flag"
	"fmt"
	"slices"
	"strings"
	"time"

	"plumlatch/core/access"
	"plumlatch/core/plaintext"
	"plumlatch/core/times"
	"plumlatch/core/wire"
)

// who tells who can open an instance: by recorded keys, by keys that nobody recorded, by other doors.
func who(fs *flag.FlagSet) func(*cli) error {
	asJSON := fs.Bool("json", false, "print JSON")
	return func(c *cli) error {
		args, service, err := c.begin("INSTANCE")
		if err != nil {
			return err
		}
		o, err := service.Opening(c.ctx, args[0])
		if err != nil {
			return err
		}
		if *asJSON {
			return c.json(o)
		}
		if o.Desktop {
			c.printFirstPassword(o.Instance, o.FirstPassword)
			return nil
		}
		c.printOpening(o)
		return nil
	}
}

func (c *cli) printOpening(o wire.Opening) {
	rows := slices.DeleteFunc(slices.Clone(o.Keys), func(a wire.Access) bool { return a.Steward })
	slices.SortStableFunc(rows, func(a, b wire.Access) int {
		return cmp.Compare(a.Holder+"\x00"+a.Key, b.Holder+"\x00"+b.Key)
	})
	now := time.Now()
	var out [][]string
	var lost []string
	whiles := 0 // accesses with an end: nobody counts on those
	holders := map[string]bool{}
	for _, a := range rows {
		if a.KeyState == access.Lost { // nobody has it: it lets nobody in
			lost = append(lost, a.Key)
			continue
		}
		holder, sort := a.Holder, a.HolderSort
		if holder == "" {
			holder = "(not known)"
		} else if a.Until == nil {
			holders[holder] = true
		}
		if a.Until != nil {
			whiles++
		}
		shown := "never shown"
		if a.ShownAt != nil {
			shown = ago(*a.ShownAt, now)
		}
		out = append(out, []string{holder, sort, opener(a), a.Bitting, a.LoginUser, evidence(a), known(a, now),
			ago(a.Since, now), shown, lastUsed(a.Used, now)})
	}
	c.table([]string{"holder", "", "key", "bitting", "user", "evidence", "known", "on record", "private half", "last used"},
		out, "No key of a person is recorded for it.")
	c.foundRows(o.Unrecorded, false)
	if o.LogRead != nil {
		fmt.Fprintf(c.out, "%s\n", logWords(*o.LogRead, now))
	}
	if len(o.Doors) > 0 {
		fmt.Fprintln(c.out)
	}
	for _, d := range o.Doors {
		seen := ""
		if d.At != nil {
			seen = " (seen " + ago(*d.At, now) + " by " + d.From + ")"
		}
		fmt.Fprintf(c.out, "another door: %s%s\n", plaintext.Line(d.Text), plaintext.Line(seen))
	}
	fmt.Fprintln(c.out)
	switch {
	case o.Nobody:
		fmt.Fprintln(c.out, "Nothing is known that lets people in.")
	case o.Sole != "":
		fmt.Fprintf(c.out, "%s is the sole opener: without it there is no way in for people.\n", o.Sole)
	case o.People == 0:
		what := "nobody recorded"
		if whiles > 0 {
			what = "has an end, or nobody recorded,"
		}
		fmt.Fprintf(c.out, "Only what %s lets people in: %s.\n", what, plaintext.Line(o.Besides))
	default:
		fmt.Fprintf(c.out, "%s, of %s that are known", count(o.People, "key"), count(len(holders), "holder"))
		if o.Besides != "" {
			fmt.Fprintf(c.out, "; and besides: %s", plaintext.Line(o.Besides))
		}
		fmt.Fprintln(c.out, ".")
	}
	if whiles > 0 {
		fmt.Fprintf(c.out, "%s with an end: until then, and nothing to count on.\n", count(whiles, "access"))
	}
	if len(lost) > 0 {
		fmt.Fprintf(c.out, "Lost, and so no opener: %s.\n", strings.Join(lost, ", "))
	}
	if o.NotSeen != "" {
		fmt.Fprintf(c.out, "There may be more: %s.\n", plaintext.Line(o.NotSeen))
	}
	switch {
	case o.Nobody && (o.NotSeen == "" || !slices.ContainsFunc(o.Keys, stewardIn)): // nobody is there who could look
		fmt.Fprintf(c.out, "next: plumlatch restore %s\n", o.Instance)
	case len(o.Unrecorded) > 0:
		fmt.Fprintf(c.out, "next: plumlatch access record %s %s\n", o.Instance, cmp.Or(o.Unrecorded[0].Key,
			o.Unrecorded[0].Fingerprint))
	default:
		fmt.Fprintf(c.out, "next: plumlatch survey %s\n", o.Instance)
	}
}

// stewardIn tells whether an access is the steward's, and the server takes it.
func stewardIn(a wire.Access) bool {
	return a.Steward && (a.Evidence == access.Accepted.String() || a.Evidence == access.Proven.String())
}

// foundRows prints keys that surveys found in files, and that nobody recorded there.
func (c *cli) foundRows(all []wire.Sighted, instances bool) {
	if len(all) == 0 {
		return
	}
	now := time.Now()
	var out [][]string
	for _, x := range all {
		key := marked(x.Key, x.State)
		if x.Key == "" {
			key = "? " + cmp.Or(x.Comment, x.Fingerprint)
		}
		limits := map[string]string{access.Expired: "its end has come", access.Command: "one command only",
			access.From: "from some addresses only", access.Authority: "trusted as an authority"}[x.Limits]
		if x.Ends != nil && x.Limits != access.Expired {
			limits = strings.TrimPrefix(limits+", until "+times.Show(x.Ends.Local()), ", ")
		}
		if x.Before {
			limits = strings.TrimPrefix(limits+", came back", ", ")
		}
		if x.Gone != nil {
			limits = strings.TrimPrefix(limits+", gone "+ago(*x.Gone, now), ", ")
		}
		row := []string{key, x.Bitting, x.LoginUser, fmt.Sprintf("%s:%d", x.File, x.Line), ago(x.Seen, now) + " by " + x.From,
			ago(x.Since, now), limits}
		if instances {
			row = append([]string{x.Instance}, row...)
		}
		out = append(out, row)
	}
	head := []string{"not recorded", "bitting", "user", "stands in", "seen", "since", ""}
	if instances {
		head = append([]string{"instance"}, head...)
	}
	fmt.Fprintln(c.out)
	c.table(head, out, "")
}

// marked is the name of a key with what makes it more, or less, than a key in use.
func marked(name, state string) string {
	if state == "" || state == access.InUse {
		return name
	}
	return name + " (" + state + ")"
}

// opens tells what a key opens, by whatever names it.
func opens(fs *flag.FlagSet) func(*cli) error {
	asJSON := fs.Bool("json", false, "print JSON")
	return func(c *cli) error {
		if len(c.args) == 0 {
			return usagef("KEY, FILE, FINGERPRINT or a pasted line is missing")
		}
		service, err := c.service()
		if err != nil {
			return err
		}
		k, err := c.meaning(service, strings.Join(c.args, " "))
		if err != nil {
			return err
		}
		o, err := service.Opens(c.ctx, k.Fingerprint)
		if err != nil {
			return err
		}
		if *asJSON {
			return c.json(struct {
				Meant    string `json:"meant"` // what the word was taken for: key, file, fingerprint, line
				Recorded bool   `json:"recorded"`
				wire.Opens
			}{k.Meant, o.Key != nil, o})
		}
		if o.Key == nil {
			fmt.Fprintf(c.out, "%s, taken as a %s, is not recorded.\n", plaintext.Line(o.Fingerprint), k.Meant)
		} else {
			fmt.Fprintf(c.out, "%s  %s  (taken as a %s)\n%s\n", marked(o.Key.Name, o.Key.State), o.Key.Bitting, k.Meant,
				plaintext.Line(o.Key.Fingerprint))
		}
		c.printOpens(o)
		return nil
	}
}

// printOpens says what a key opens: on record, found, trusted, and where it stood before.
func (c *cli) printOpens(o wire.Opens) {
	if len(o.Access) > 0 {
		fmt.Fprintf(c.out, "\nOn record, it opens %s:\n\n", count(instancesOf(o.Access, func(a wire.Access) string { return a.Instance }), "instance"))
		c.accessRows(o.Access, true)
	}
	if len(o.Found) > 0 {
		fmt.Fprintf(c.out, "\nFound where nobody recorded it, on %s:\n", count(instancesOf(o.Found, func(x wire.Sighted) string { return x.Instance }), "instance"))
		c.foundRows(o.Found, true)
	}
	if len(o.Trusted) > 0 {
		fmt.Fprintf(c.out, "\nTrusted as a certificate authority: whoever it vouches for gets in.\n")
		c.foundRows(o.Trusted, true)
	}
	if len(o.Passwords) > 0 {
		fmt.Fprintf(c.out, "\nIt decrypts the first password of %s, which %s no SSH; nobody has recorded that it was changed.\n",
			strings.Join(o.Passwords, ", "), map[bool]string{true: "has", false: "have"}[len(o.Passwords) == 1])
	}
	if len(o.Access)+len(o.Found)+len(o.Trusted)+len(o.Passwords) == 0 {
		fmt.Fprintln(c.out, "\nIt opens nothing, as far as is known.")
	}
	if len(o.Gone) > 0 {
		fmt.Fprintf(c.out, "\nIt stood there once, and does no more:\n")
		c.foundRows(o.Gone, true)
	}
	if o.NeverLooked > 0 {
		fmt.Fprintf(c.out, "\nIt may open more: nobody has looked into the files of %s yet.\n", count(o.NeverLooked, "instance"))
	}
	switch {
	case len(o.Found) > 0 && o.Key == nil:
		fmt.Fprintf(c.out, "next: plumlatch access record %s %s\n", o.Found[0].Instance, plaintext.Line(o.Fingerprint))
	case len(o.Found) > 0:
		fmt.Fprintf(c.out, "next: plumlatch access record %s %s\n", o.Found[0].Instance, o.Key.Name)
	case o.NeverLooked > 0:
		fmt.Fprintln(c.out, "next: plumlatch survey -all -inside")
	case o.Key == nil && len(o.Access) == 0:
		fmt.Fprintln(c.out, "next: plumlatch survey INSTANCE, where it may stand")
	}
}

func instancesOf[T any](all []T, name func(T) string) int {
	seen := map[string]bool{}
	for _, x := range all {
		seen[name(x)] = true
	}
	return len(seen)
}

// opened are the instances that a key opens, on record or found there, each once.
func opened(o wire.Opens) (out []string) {
	for _, a := range o.Access {
		out = append(out, a.Instance)
	}
	for _, x := range o.Found {
		out = append(out, x.Instance)
	}
	slices.Sort(out)
	return slices.Compact(out)
}

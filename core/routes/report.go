package routes

import (
	"fmt"
	"strings"
	"time"

	"plumlatch/core/plaintext"
	"plumlatch/core/times"
	"plumlatch/core/wire"
)

// Markdown writes the report of a restore (CommonMark). What came from elsewhere
// is made safe, so that it can neither steer a terminal nor be taken for markup.
func Markdown(r wire.Report) string {
	var b strings.Builder
	line := func(format string, a ...any) { fmt.Fprintf(&b, format+"\n", a...) }
	at := func(t *time.Time) string {
		if t == nil {
			return "-"
		}
		return times.ShowLong(t.UTC())
	}
	line("# Access to %s, restored (work %d)", safe(r.Instance), r.Work)
	line("")
	line("| | |")
	line("|---|---|")
	row := func(name, value string) { line("| %s | %s |", name, value) }
	lost := "no key was recorded as lost"
	if len(r.Lost) > 0 {
		lost = safe(strings.Join(r.Lost, ", "))
	}
	row("lost", lost)
	row("new key", safe(r.New)+", for "+safe(r.LoginUser))
	row("route", safe(r.Route)+" ("+safe(r.Why)+")")
	row("by", safe(r.Operator))
	row("state", safe(r.State))
	row("outcome", safe(r.Outcome))
	row("begun", at(&r.BeganAt))
	row("the new key accepted", at(r.InAt))
	row("ended", at(r.EndedAt))
	row("down, measured from outside", fmt.Sprintf("%.1f s", r.Down))
	row("not looked at", fmt.Sprintf("%.1f s", r.NotSeen))
	line("")
	line("## Steps")
	line("")
	line("| step | what | state | began | took |")
	line("|---|---|---|---|---|")
	for _, s := range r.Steps {
		took := "-"
		if s.BeganAt != nil && s.EndedAt != nil {
			took = fmt.Sprintf("%.1f s", s.EndedAt.Sub(*s.BeganAt).Seconds())
		}
		line("| %s | %s | %s | %s | %s |", safe(s.Name), safe(s.Title), safe(s.State), at(s.BeganAt), took)
	}
	if len(r.Seen) > 0 {
		line("")
		line("## Seen from outside")
		line("")
		for _, s := range r.Seen {
			word := "down"
			if s.Up {
				word = "up"
			}
			line("- %s: %s to %s (%.1f s)", word, s.From.UTC().Format("15:04:05"), s.To.UTC().Format("15:04:05"),
				s.To.Sub(s.From).Seconds())
		}
	}
	list := func(title string, all []string, empty string) {
		line("")
		line("## %s", title)
		line("")
		for _, text := range all {
			line("- %s", safe(text))
		}
		if len(all) == 0 {
			line("%s", empty)
		}
	}
	list("Withdrawn", r.Withdrawn, "Nothing.")
	list("Changed", r.Changed, "Nothing but the keys.")
	if len(r.Checks) > 0 {
		line("")
		line("## Checks")
		line("")
		for _, c := range r.Checks {
			word := "works"
			if !c.Good {
				word = "does not work"
			}
			line("- %s: %s (%s)", safe(c.Check), word, safe(c.Said))
		}
	}
	list("Left to do or to check", r.Left, "Nothing.")
	var costs []string
	for _, c := range r.Charges {
		if c.Currency == "" {
			costs = append(costs, c.What+": not known, the cloud has no price list")
			continue
		}
		costs = append(costs, fmt.Sprintf("%s: %.4g %s", c.What, c.Amount, c.Currency))
	}
	list("What it cost", costs, "Nothing.")
	list("What goes on costing", r.GoesOn, "Nothing.")
	return b.String()
}

// safe makes foreign text one line that no Markdown reader takes for markup.
func safe(s string) string {
	return strings.NewReplacer(`\`, `\\`, "|", `\|`, "`", "\\`", "*", `\*`, "_", `\_`, "<", "&lt;", ">", "&gt;", "[",
		`\[`, "]", `\]`, "#", `\#`).Replace(plaintext.Line(s))
}

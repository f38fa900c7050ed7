package main

import (
	"errors"
	"flag"
	"fmt"
	"net/url"
	"strings"
	"time"

	"plumlatch/client"
	"plumlatch/core/access"
	"plumlatch/core/plaintext"
	"plumlatch/core/times"
	"plumlatch/core/wire"
	"plumlatch/reach"
)

const accessUsedHelp = `

  Servers log each login with the key's fingerprint. "survey INSTANCE -identity FILE"
  reads that log with sudo; here stands what was read. It is the instance's word:
  it counts nowhere as a way in. From the journal only what the system says that
  the server itself wrote is taken; in a text file anybody on the instance can write.`

func accessUsed(fs *flag.FlagSet) func(*cli) error {
	instance := fs.String("instance", "", "`name` of an instance: who came in there")
	key := fs.String("key", "", "`name` of a recorded key, or a fingerprint: where it came in")
	asJSON := fs.Bool("json", false, "print JSON")
	return func(c *cli) error {
		_, service, err := c.begin()
		if err != nil {
			return err
		}
		q := url.Values{"instance": {*instance}}
		if *key != "" {
			q.Set("fingerprint", *key)
			if !strings.HasPrefix(*key, "SHA256:") && !strings.Contains(*key, ":") {
				k, err := c.recordedKey(service, *key)
				if err != nil {
					return err
				}
				q.Set("fingerprint", k.Fingerprint)
			}
		}
		rows, err := service.Uses(c.ctx, q)
		if err != nil {
			return err
		}
		if *asJSON {
			return c.json(wire.List[wire.UsedRow]{Items: rows})
		}
		var out [][]string
		now := time.Now()
		for _, r := range rows {
			var who string
			switch {
			case r.Steward:
				who = "(steward)"
			case r.Key != "":
				who = marked(r.Key, r.KeyState)
			case r.Fingerprint != "":
				who = "? " + r.Fingerprint
			default:
				who = "no key: " + r.Method
			}
			if r.Authority != "" {
				who += fmt.Sprintf(", certified as %q by %s", plaintext.Cut(r.CertID, 40), r.Authority)
			}
			word := ""
			if !r.Trusted {
				word = "as a text file says"
			}
			out = append(out, []string{r.Instance, who, r.LoginUser, ago(r.Last, now), ago(r.First, now), fmt.Sprint(r.Count), strings.Join(r.Addresses, ", "),
				word})
		}
		c.table([]string{"instance", "key", "user", "last used", "first used", "times", "from", ""}, out,
			"No login stands in a log that was read. \"plumlatch survey INSTANCE -identity FILE\" reads one.")
		if *instance != "" {
			o, err := service.Opening(c.ctx, *instance)
			if err != nil {
				return err
			}
			if o.LogRead != nil {
				fmt.Fprintf(c.out, "%s\n", logWords(*o.LogRead, now))
			}
		}
		for _, r := range rows {
			if r.Key != "" && (r.KeyState == access.Lost || r.KeyState == access.Exposed) {
				fmt.Fprintf(c.out, "%s is %s, and came in on %s %s.\n", r.Key, r.KeyState, r.Instance, ago(r.Last, now))
			}
		}
		return nil
	}
}

// logWords says how far a log was read, and what no log shows.
func logWords(l wire.LogRead, now time.Time) string {
	text := fmt.Sprintf("Its log (%s) was read %s by %s", l.Source, ago(l.ReadAt, now), l.Vantage)
	if l.Since != nil {
		text += "; what was before " + times.Show(l.Since.Local()) + " is not seen"
	} else {
		text += "; since when it tells is not known"
	}
	if l.Skew != 0 {
		text += fmt.Sprintf("; its clock was %s %s, and times are mended by that", times.Length(time.Duration(max(l.Skew, -l.Skew)*float64(time.Second))),
			map[bool]string{true: "ahead", false: "behind"}[l.Skew > 0])
	}
	if l.LeftOut > 0 {
		text += fmt.Sprintf("; %s were not counted, as there are too many", count(l.LeftOut, "login"))
	}
	return plaintext.Line(text + ".")
}

// lastUsed is when a key was last used, as the instance's log says.
func lastUsed(u *wire.Used, now time.Time) string {
	switch {
	case u == nil:
		return "not seen"
	case !u.Trusted:
		return ago(u.Last, now) + ", as a text file says"
	}
	return ago(u.Last, now)
}

// lastUsedOf is when a key was last used anywhere.
func lastUsedOf(all []wire.Access, now time.Time) string {
	var last *wire.Access
	for n, a := range all {
		if a.Used != nil && (last == nil || a.Used.Last.After(last.Used.Last)) {
			last = &all[n]
		}
	}
	if last == nil {
		return ""
	}
	return lastUsed(last.Used, now) + ", on " + last.Instance
}

// loggedAt reads an instance's log of logins in a session of an engineer's, from the day on which it was read last; or says why not.
func (c *cli) loggedAt(service *client.Client, instance string, conn *reach.Client) (*wire.LoginLog, string) {
	o, err := service.Opening(c.ctx, instance)
	if err != nil {
		return nil, "the log of logins: " + err.Error()
	}
	var since time.Time
	if o.LogRead != nil {
		since = reach.LoginsSince(o.LogRead.ReadAt)
	}
	read, err := reach.ReadLogins(c.ctx, conn, since)
	if err != nil {
		if errors.Is(err, reach.ErrNoLog) {
			return nil, err.Error()
		}
		return nil, "the log of logins: " + err.Error()
	}
	out, notSeen := read.Report()
	return &out, notSeen
}

package main

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/netip"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"time"

	"plumlatch/client"
	"plumlatch/core/inbound"
	"plumlatch/core/plaintext"
	"plumlatch/core/wire"
)

// exitNeedsHand says that the command worked, and that its answer needs a hand.
const exitNeedsHand = 3

func instanceRules(fs *flag.FlagSet) func(*cli) error {
	asJSON := fs.Bool("json", false, "print JSON")
	return func(c *cli) error {
		args, service, err := c.begin("NAME")
		if err != nil {
			return err
		}
		r, err := service.Rules(c.ctx, args[0])
		if err != nil {
			return err
		}
		if *asJSON {
			return c.json(r)
		}
		now := time.Now()
		var rows [][]string
		for _, g := range r.Groups {
			of := "its own"
			if !g.Own {
				if of = "shared with " + count(g.Others, "other"); g.Others == 0 {
					of = "shared; nobody else yet"
				}
			}
			for _, rule := range g.Rules {
				from, what := rule.From, rule.Note
				switch {
				case rule.World:
					what = "THE WHOLE WORLD"
				case rule.Service:
					what = "the service itself"
				case rule.By != "" && rule.Me:
					what = rule.By + "'s own address"
				case rule.By != "":
					what = "by " + rule.By
				}
				if rule.Reason != "" {
					what += ": " + rule.Reason
				}
				at, until := "", ""
				if rule.At != nil {
					at = ago(*rule.At, now)
				}
				if rule.Until != nil {
					until = "ends " + ago(*rule.Until, now)
				}
				port := rule.Ports
				switch {
				case port == "" && r.Desktop:
					port = "remote desktop"
				case port == "":
					port = "SSH"
				}
				rows = append(rows, []string{from, port, what, at, until, g.Name, of})
			}
		}
		fmt.Fprintf(c.out, "%s lets in:\n\n", r.Instance)
		c.table([]string{"from", "to port", "who", "since", "end", "group", ""}, rows, "Nobody.")
		fmt.Fprintf(c.out, "\nnext: plumlatch instance admit %s -from me\n", r.Instance)
		return nil
	}
}

// ranges reads -from: ranges separated by commas; "me" stands for one's own address, and "service" for the service's.
func (c *cli) ranges(service *client.Client, r wire.Rules, from, address string, yes bool) (out []string,
	me bool, err error) {
	for _, f := range splitList(from) {
		switch f {
		case "me":
		case "service":
			a, err := netip.ParseAddr(r.ServiceAddress)
			if err != nil {
				return nil, false, failure{errors.New("the service was not told which address it connects from (plumlatchd -dial-from)"),
					"ask whoever runs it for that address: plumlatch instance admit " + r.Instance + " -from ADDRESS -for 1h"}
			}
			out = append(out, netip.PrefixFrom(a, a.BitLen()).String())
			continue
		default:
			out = append(out, f)
			continue
		}
		me = true
		mine, err := c.myAddresses(r, address)
		if err != nil {
			return nil, false, err
		}
		out = append(out, mine...)
	}
	if len(out) == 0 {
		return nil, false, usagef("-from is missing: a network such as 198.51.100.0/24, or me")
	}
	if me && address == "" && !yes {
		if err := c.confirm(fmt.Sprintf("The cloud sees you at %s. Use that? (-my-address A says otherwise.)",
			strings.Join(out, " and "))); err != nil {
			return nil, false, err
		}
	}
	return out, me, nil
}

// myAddresses are the addresses that the instance's cloud sees this machine
// under, of both families; of those its instances have none of, none.
func (c *cli) myAddresses(r wire.Rules, given string) ([]string, error) {
	if given != "" {
		p, err := inbound.ParseRange(given)
		if err != nil {
			return nil, usagef("-my-address: %v", err)
		}
		return []string{p.String()}, nil
	}
	seen := callerAddresses(c.ctx, r.CallerURL)
	var out []string
	for _, a := range seen {
		if a.Is4() || r.IPv6 {
			out = append(out, netip.PrefixFrom(a, a.BitLen()).String())
		} else {
			fmt.Fprintf(c.err, "the cloud sees you at %s too, and its instances have no such addresses: left out\n", a)
		}
	}
	if len(out) == 0 {
		return nil, failure{errors.New("the cloud does not tell under which address it sees you"),
			"the same command with -my-address ADDRESS"}
	}
	return out, nil
}

// callerAddresses asks a cloud, over IPv4 and over IPv6, under which address it
// sees whoever asks. The URL came from the service: nothing but a plain request
// goes there, no redirect is followed, and only an address is taken as answer.
func callerAddresses(ctx context.Context, from string) []netip.Addr {
	u, err := url.Parse(from)
	if err != nil || u.Scheme != "http" && u.Scheme != "https" || u.User != nil {
		return nil
	}
	var out []netip.Addr
	for _, network := range []string{"tcp4", "tcp6"} {
		hc := &http.Client{Timeout: 5 * time.Second,
			CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse },
			Transport: &http.Transport{DisableKeepAlives: true,
				DialContext: func(ctx context.Context, _, addr string) (net.Conn, error) {
					return dialWithin(ctx, network, addr)
				}}}
		req, err := http.NewRequestWithContext(ctx, http.MethodGet, u.String(), nil)
		if err != nil {
			return nil
		}
		resp, err := hc.Do(req)
		if err != nil {
			continue
		}
		text, err := io.ReadAll(io.LimitReader(resp.Body, 64))
		resp.Body.Close()
		if err != nil || resp.StatusCode != http.StatusOK {
			continue
		}
		if a, err := netip.ParseAddr(strings.TrimSpace(string(text))); err == nil && a.Zone() == "" &&
			!slices.Contains(out, a.Unmap()) {
			out = append(out, a.Unmap())
		}
	}
	return out
}

// settled waits until work is over, or waits for its end, which may be long in coming.
func (c *cli) settled(service *client.Client, w wire.Work) (wire.Work, error) {
	for {
		now, err := service.WorkByID(c.ctx, w.ID)
		if err != nil {
			return w, err
		}
		if now.Over() || now.State == "waiting" {
			return now, nil
		}
		select {
		case <-c.ctx.Done():
			return now, failure{errors.New("stopped following; the service goes on"),
				fmt.Sprintf("plumlatch work follow %d", w.ID)}
		case <-time.After(150 * time.Millisecond):
		}
	}
}

func instanceAdmit(fs *flag.FlagSet) func(*cli) error {
	from := fs.String("from", "", "`networks`, separated by commas, or me: your own address, as the cloud sees it; or service: the address that the service connects from")
	var e ends // when the rule is withdrawn by itself
	e.flags(fs)
	address := fs.String("my-address", "", "your own `address`, where the cloud's view of it is wrong")
	world := fs.Bool("world", false, "let everybody in, and mean it")
	shared := fs.Bool("shared", false, "into the group of rules that other instances have too (default: into one "+
		"of its own)")
	reason := fs.String("reason", "", "`text` for whoever reads the rules: why")
	ports := fs.String("port", "", "`port` or range such as 9000-9001 that they are let in to (default: the SSH port)")
	yes := fs.Bool("yes", false, "do not ask")
	asJSON := fs.Bool("json", false, "print JSON")
	return func(c *cli) error {
		args, service, err := c.begin("NAME")
		if err != nil {
			return err
		}
		var lasts time.Duration // 0 for ever
		if end, err := e.at(time.Now()); err != nil {
			return err
		} else if end != nil {
			lasts = max(time.Second, time.Until(*end).Round(time.Second))
		}
		r, err := service.Rules(c.ctx, args[0])
		if err != nil {
			return err
		}
		ranges, me, err := c.ranges(service, r, *from, *address, *yes)
		if err != nil {
			return err
		}
		if *shared {
			for _, g := range r.Groups {
				if g.Own || g.Others == 0 {
					continue
				}
				fmt.Fprintf(c.err, "The group %s is shared: this opens %s too: %s.\n", g.Name,
					count(g.Others, "other instance"), some(g.SharedWith))
				if !*yes {
					if err := c.confirm("Open them all?"); err != nil {
						return err
					}
				}
				break
			}
		}
		w, err := service.Admit(c.ctx, r.Instance,
			wire.Admit{From: ranges, Me: me, World: *world, Shared: *shared, Seconds: int64(lasts.Seconds()),
				Reason: *reason, Ports: *ports})
		if err != nil {
			return rangeProblem(err, r.Instance, *from)
		}
		if w, err = c.settled(service, w); err != nil {
			return err
		}
		if w.State != "done" && w.State != "waiting" {
			return c.workFailed(service, w)
		}
		if *asJSON {
			return c.json(w)
		}
		to := ""
		if *ports != "" {
			to = " to port " + *ports
		}
		fmt.Fprintf(c.out, "%s lets %s in%s.\n", r.Instance, strings.Join(ranges, ", "), to)
		if w.Code == wire.WorkStaysAdmitted {
			fmt.Fprintf(c.out, "%s.\n", plaintext.Line(w.Outcome))
		}
		if w.State == "waiting" && w.WaitEndsAt != nil {
			fmt.Fprintf(c.out, "The rule ends by itself %s (work %d).\nnext: plumlatch why %s; earlier end: "+
				"plumlatch work cancel %d\n", ago(*w.WaitEndsAt, time.Now()), w.ID, r.Instance, w.ID)
			return nil
		}
		fmt.Fprintf(c.out, "next: plumlatch instance rules %s\n", r.Instance)
		return nil
	}
}

// some names the first of many.
func some(names []string) string {
	const most = 6
	if len(names) <= most {
		return strings.Join(names, ", ")
	}
	return strings.Join(names[:most], ", ") + fmt.Sprintf(" and %d more", len(names)-most)
}

// rangeProblem adds the next thing to try to the refusal of a range.
func rangeProblem(err error, instance, from string) error {
	p, ok := errors.AsType[*client.Problem](err)
	network, bad := netip.ParsePrefix(from)
	switch {
	case !ok || p.Field != "from":
		return err
	case p.Code == wire.FieldWholeWorld:
		return failure{err, "a narrower network; -from me is your own address alone"}
	case bad == nil && network != network.Masked():
		return failure{err, fmt.Sprintf("plumlatch instance admit %s -from %s", instance, network.Masked())}
	}
	return failure{err, "plumlatch help instance admit"}
}

func instanceUnadmit(fs *flag.FlagSet) func(*cli) error {
	from := fs.String("from", "", "`networks`, separated by commas, or me: your own address, as the cloud sees it; or service: the address that the service connects from")
	address := fs.String("my-address", "", "your own `address`, where the cloud's view of it is wrong")
	cutOff := fs.Int("cut-off", 0, "the `number` of instances that people are cut off from by this, on purpose")
	ports := fs.String("port", "", "`port` or range that they were let in to (default: the SSH port)")
	yes := fs.Bool("yes", false, "do not ask")
	asJSON := fs.Bool("json", false, "print JSON")
	return func(c *cli) error {
		args, service, err := c.begin("NAME")
		if err != nil {
			return err
		}
		if *cutOff < 0 {
			return usagef("-cut-off: give how many instances")
		}
		r, err := service.Rules(c.ctx, args[0])
		if err != nil {
			return err
		}
		ranges, _, err := c.ranges(service, r, *from, *address, *yes)
		if err != nil {
			return err
		}
		for _, g := range r.Groups {
			for _, rule := range g.Rules {
				if rule.Ports != *ports || !slices.Contains(ranges, rule.From) &&
					!slices.Contains(ranges, strings.TrimSuffix(rule.From, "/32")) {
					continue
				}
				question := ""
				if rule.Service {
					question = "The service itself comes in by " + rule.From + ": it will see nothing of it any more."
				}
				if !g.Own && g.Others > 0 {
					question += fmt.Sprintf(" The group %s is shared: this shuts %s too: %s.", g.Name,
						count(g.Others, "other instance"), some(g.SharedWith))
				}
				if question != "" && !*yes {
					if err := c.confirm(strings.TrimSpace(question) + " Withdraw it?"); err != nil {
						return err
					}
				}
			}
		}
		w, err := service.Unadmit(c.ctx, r.Instance, wire.Unadmit{From: ranges, Ports: *ports, CutOff: *cutOff})
		if err != nil {
			return err
		}
		if w, err = c.settled(service, w); err != nil {
			return err
		}
		if *asJSON {
			if err := c.json(w); err != nil {
				return err
			}
		}
		if w.State != "done" {
			next := fmt.Sprintf("plumlatch instance rules %s; first let somebody in who is to stay: plumlatch "+
				"instance admit %s -from NETWORK", r.Instance, r.Instance)
			if w.Code == wire.WorkNoRule {
				next = "plumlatch instance rules " + r.Instance
			}
			return failure{errors.New(plaintext.Line(w.Trouble) + "; nothing was withdrawn"), next}
		}
		if !*asJSON {
			fmt.Fprintf(c.out, "%s: %s.\n", r.Instance, plaintext.Line(w.Outcome))
		}
		return nil
	}
}

func instanceHostKey(fs *flag.FlagSet) func(*cli) error {
	accept := fs.String("accept", "", "take the host key with this `fingerprint`, because you know that it is right")
	fromLog := fs.Bool("from-boot-log", false, "take the host key that answers, if the boot output has its fingerprint")
	yes := fs.Bool("yes", false, "do not ask")
	asJSON := fs.Bool("json", false, "print JSON")
	return func(c *cli) error {
		args, service, err := c.begin("NAME")
		if err != nil {
			return err
		}
		if *accept != "" && *fromLog {
			return usagef("give -accept or -from-boot-log, and not both")
		}
		s, err := service.HostKey(c.ctx, args[0])
		if err != nil {
			return err
		}
		show := func(s wire.HostKeyState) {
			for _, k := range s.Recorded {
				fmt.Fprintf(c.out, "  recorded  %s %s  %s, %s\n", k.Type, k.Fingerprint, k.Source,
					ago(k.RecordedAt, time.Now()))
			}
			if len(s.Recorded) == 0 {
				fmt.Fprintln(c.out, "  recorded  none")
			}
			switch {
			case s.Offered == nil:
				fmt.Fprintf(c.out, "  answers   not seen: %s\n", s.Problem)
			case s.Same:
				fmt.Fprintf(c.out, "  answers   %s %s  the recorded one\n", s.Offered.Type, s.Offered.Fingerprint)
			default:
				fmt.Fprintf(c.out, "  answers   %s %s  ANOTHER ONE\n", s.Offered.Type, s.Offered.Fingerprint)
			}
			for n, fp := range s.Printed {
				if n < 4 {
					fmt.Fprintf(c.out, "  boot log  %s\n", fp)
				}
			}
			if s.Doubt != "" {
				fmt.Fprintf(c.out, "  doubtful  %s: its private half may have been read\nnext: make a new one "+
					"there (ssh-keygen -A after removing the old files) and take it, or take the same again: "+
					"plumlatch instance host-key %s -accept FINGERPRINT\n", plaintext.Line(s.Doubt), s.Instance)
			}
			for _, k := range s.Former {
				fmt.Fprintf(c.out, "  before    %s %s  until %s, replaced by %s\n", k.Type, k.Fingerprint,
					ago(*k.ReplacedAt, time.Now()), k.ReplacedBy)
			}
		}
		if *accept == "" && !*fromLog {
			if s.Offered != nil && !s.Same {
				c.exit = exitNeedsHand
			}
			if *asJSON {
				return c.json(s)
			}
			fmt.Fprintf(c.out, "%s\n\n", s.Instance)
			show(s)
			if c.exit == exitNeedsHand {
				next := fmt.Sprintf("find out whether it was rebuilt; then: plumlatch instance host-key %s -accept %s", s.Instance, s.Offered.Fingerprint)
				if slices.Contains(s.Printed, s.Offered.Fingerprint) {
					next = fmt.Sprintf("its boot output has the new one; if it was rebuilt: plumlatch instance "+
						"host-key %s -from-boot-log", s.Instance)
				}
				fmt.Fprintf(c.out, "\nnext: %s\n", next)
			}
			return nil
		}
		switch {
		case s.Offered == nil:
			return failure{fmt.Errorf("no host key could be fetched: %s; nothing was changed", s.Problem),
				"plumlatch why " + s.Instance}
		case s.Same && s.Doubt == "":
			return failure{errors.New("what answers is recorded already; nothing was changed"), ""}
		case *fromLog && !slices.Contains(s.Printed, s.Offered.Fingerprint):
			return failure{fmt.Errorf("the boot output does not have %s, which answers; nothing was changed",
				s.Offered.Fingerprint), "plumlatch instance boot-log " + s.Instance}
		case *accept != "" && *accept != s.Offered.Fingerprint:
			return failure{fmt.Errorf("what answers is %s, and not %s; nothing was changed", s.Offered.Fingerprint,
				plaintext.Line(*accept)), "plumlatch instance host-key " + s.Instance}
		}
		if !*yes {
			fmt.Fprintf(c.err, "%s\n", s.Instance)
			recorded := "none"
			if len(s.Recorded) > 0 {
				recorded = s.Recorded[0].Fingerprint
			}
			fmt.Fprintf(c.err, "  recorded  %s\n  answers   %s\n", recorded, s.Offered.Fingerprint)
			if err := c.confirm("Whoever answers will be trusted as " + s.Instance +
				". Take the new one?"); err != nil {
				return err
			}
		}
		s, err = service.AcceptHostKey(c.ctx, s.Instance,
			wire.AcceptHostKey{Fingerprint: s.Offered.Fingerprint, FromBootLog: *fromLog})
		if err != nil {
			return err
		}
		if s.Offered != nil {
			c.renewHosts(service, s.Offered.Fingerprint)
		}
		if *asJSON {
			return c.json(s)
		}
		fmt.Fprintf(c.out, "%s has a new host key on record; the old one stays on record as replaced.\n\n", s.Instance)
		show(s)
		fmt.Fprintf(c.out, "\nnext: plumlatch open %s\n", s.Instance)
		return nil
	}
}

func instanceBootLog(fs *flag.FlagSet) func(*cli) error {
	lines := fs.Int("lines", 0, "only the last `lines`; 0 for all")
	asJSON := fs.Bool("json", false, "print JSON")
	return func(c *cli) error {
		args, service, err := c.begin("NAME")
		if err != nil {
			return err
		}
		b, err := service.BootLog(c.ctx, args[0])
		if err != nil {
			return err
		}
		if *asJSON {
			return c.json(b)
		}
		all := strings.Split(strings.TrimRight(strings.ReplaceAll(b.Text, "\r\n", "\n"), "\n"), "\n")
		if *lines > 0 && len(all) > *lines {
			all = all[len(all)-*lines:]
		}
		for _, l := range all {
			fmt.Fprintln(c.out, plaintext.Line(l))
		}
		return nil
	}
}

func instanceRefresh(fs *flag.FlagSet) func(*cli) error {
	address := fs.String("address", "", "`HOST[:PORT]` of an adopted instance: the address that it has now, and its port "+
		"if that is another one; its recorded host key must answer there")
	asJSON := fs.Bool("json", false, "print JSON")
	return func(c *cli) error {
		args, service, err := c.begin("NAME")
		if err != nil {
			return err
		}
		var at wire.Refresh
		if *address != "" {
			if at.Address, at.Port, err = hostPort(*address, 0); err != nil {
				return err
			}
		}
		r, err := service.Refresh(c.ctx, args[0], at)
		if err != nil {
			return err
		}
		c.renewHosts(service)
		if *asJSON {
			return c.json(r)
		}
		name := r.Instance.Name
		if !r.Changed {
			fmt.Fprintf(c.out, "%s: the ledger and the cloud agree: %s.\n", name, plaintext.Line(r.Now))
			return nil
		}
		fmt.Fprintf(c.out, "%s\n  before  %s\n  now     %s\n", name, plaintext.Line(r.Before), plaintext.Line(r.Now))
		if r.Instance.Trouble != "" {
			fmt.Fprintf(c.out, "trouble: %s\n", plaintext.Line(r.Instance.Trouble))
		}
		fmt.Fprintf(c.out, "next: plumlatch why %s\n", name)
		return nil
	}
}

func staticList(fs *flag.FlagSet) func(*cli) error {
	region := fs.String("region", "", "only those of a `region`")
	asJSON := fs.Bool("json", false, "print JSON")
	return func(c *cli) error {
		_, service, err := c.begin()
		if err != nil {
			return err
		}
		all, err := service.StaticAddresses(c.ctx, *region)
		if err != nil {
			return err
		}
		if *asJSON {
			return c.json(wire.List[wire.StaticAddress]{Items: all})
		}
		var rows [][]string
		for _, a := range all {
			who := a.Instance
			if who == "" && a.CloudID != "" {
				who = a.CloudID + " (not recorded)"
			} else if who == "" {
				who = "nobody"
			}
			hour, month := priceCells(a.Price)
			rows = append(rows, []string{a.Name, a.Address, a.Region, who, hour, month})
		}
		c.table([]string{"name", "address", "region", "instance", "an hour", "a month"}, rows,
			nothing(fs, "No static address.\nnext: plumlatch static-address reserve NAME -region REGION"))
		return nil
	}
}

// workDone ends a command that began work: it follows it, and tells the outcome.
func (c *cli) workDone(service *client.Client, w wire.Work, asJSON bool, next string) error {
	w, err := c.followDone(service, w, asJSON)
	if err == nil && !asJSON {
		fmt.Fprintf(c.out, "%s.\nnext: %s\n", plaintext.Line(w.Outcome), next)
	}
	return err
}

func staticReserve(fs *flag.FlagSet) func(*cli) error {
	region := fs.String("region", "", "`region` of the address (needed)")
	asJSON := fs.Bool("json", false, "print JSON")
	return func(c *cli) error {
		args, service, err := c.begin("NAME")
		if err != nil {
			return err
		}
		if *region == "" {
			return usagef("-region is missing; region list shows which there are")
		}
		w, err := service.Reserve(c.ctx, wire.NewStaticAddress{Name: args[0], Region: *region})
		if err != nil {
			return err
		}
		return c.workDone(service, w, *asJSON, fmt.Sprintf("plumlatch static-address move %s -to INSTANCE", args[0]))
	}
}

func staticMove(fs *flag.FlagSet) func(*cli) error {
	to := fs.String("to", "", "`instance` that gets it (default: nobody; whoever has it loses it)")
	yes := fs.Bool("yes", false, "do not ask")
	asJSON := fs.Bool("json", false, "print JSON")
	return func(c *cli) error {
		args, service, err := c.begin("NAME")
		if err != nil {
			return err
		}
		all, err := service.StaticAddresses(c.ctx, "")
		if err != nil {
			return err
		}
		n := slices.IndexFunc(all, func(a wire.StaticAddress) bool { return a.Name == args[0] || a.Address == args[0] })
		if n >= 0 && !*yes {
			a := all[n]
			if who := a.Instance; a.CloudID != "" && who != *to {
				if who == "" {
					who = a.CloudID
				}
				if err := c.confirm(fmt.Sprintf("%s (%s) is %s's: it gets another address then, and its "+
					"connections end. Move it?", a.Name, a.Address, who)); err != nil {
					return err
				}
			} else if *to != "" && who == "" {
				if err := c.confirm(fmt.Sprintf("%s leaves the address that it has for %s, and its connections "+
					"end. Move it?", *to, a.Address)); err != nil {
					return err
				}
			}
		}
		w, err := service.MoveAddress(c.ctx, args[0], *to)
		if err != nil {
			return err
		}
		next := "plumlatch static-address list"
		if *to != "" {
			next = "plumlatch open " + *to
		}
		return c.workDone(service, w, *asJSON, next)
	}
}

func staticRelease(fs *flag.FlagSet) func(*cli) error {
	yes := fs.Bool("yes", false, "do not ask")
	asJSON := fs.Bool("json", false, "print JSON")
	return func(c *cli) error {
		args, service, err := c.begin("NAME")
		if err != nil {
			return err
		}
		if !*yes {
			if err := c.confirm(fmt.Sprintf("Give the static address %s back? Somebody else may get it, and there "+
				"is no way to have it again.", args[0])); err != nil {
				return err
			}
		}
		w, err := service.Release(c.ctx, args[0])
		if err != nil {
			return err
		}
		return c.workDone(service, w, *asJSON, "plumlatch static-address list")
	}
}

// dialWithin dials an address that the service has named by URL: never one where
// metadata services live.
func dialWithin(ctx context.Context, network, addr string) (net.Conn, error) {
	host, port, err := net.SplitHostPort(addr)
	if err != nil {
		return nil, err
	}
	n, err := strconv.Atoi(port)
	if err != nil {
		return nil, err
	}
	ctx, cancel := context.WithTimeout(ctx, 3*time.Second)
	defer cancel()
	all, err := net.DefaultResolver.LookupNetIP(ctx, strings.Replace(network, "tcp", "ip", 1), host)
	if err != nil {
		return nil, err
	}
	err = errors.New("the name has no address")
	for _, a := range all {
		var conn net.Conn
		if conn, err = here.DialAny(ctx, a.Unmap().String(), n); err == nil {
			return conn, nil
		}
	}
	return nil, err
}

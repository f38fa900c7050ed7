package main

import (
	"bufio"
	"bytes"
	"encoding/csv"
	"errors"
	"flag"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"

	"github.com/jedib0t/go-pretty/v6/progress"

	"plumlatch/client"
	"plumlatch/core/names"
	"plumlatch/core/plaintext"
)

const (
	adoptAtOnce = 8
	maxBatch    = 20_000
)

// instanceAdoptMany adopts what a file names.
func instanceAdoptMany(fs *flag.FlagSet) func(*cli) error {
	var o adoptOptions
	o.flags(fs)
	asJSON := fs.Bool("json", false, "print JSON")
	return func(c *cli) error {
		if err := o.recording(); err != nil {
			return err
		}
		switch {
		case o.record != "" && o.record != none:
			return usagef("the keys that come in are named by their comments: give -record none, or leave it out")
		case o.holder == "" && o.record != none:
			return usagef("-holder NAME is missing, who holds the keys that come in; or -record none")
		}
		args, err := c.names("FILE")
		if err != nil {
			return err
		}
		return c.adoptBatch(args[0], o, *asJSON)
	}
}

// adoptBatch adopts many, and tells of each what came of it. What is adopted
// already is passed over, so that a second run picks up what failed.
func (c *cli) adoptBatch(file string, o adoptOptions, asJSON bool) error {
	service, err := c.service()
	if err != nil {
		return err
	}
	all, err := readBatch(file)
	if err != nil {
		return err
	}
	there := map[string]string{} // phase by name
	instances, err := service.Instances(c.ctx, nil)
	if err != nil {
		return err
	}
	for _, i := range instances {
		there[names.Fold(i.Name)] = i.Phase
	}
	rows := make([]batchRow, len(all))
	var todo []int
	for n, a := range all {
		rows[n].Name = a.name
		if a.user == "" {
			all[n].user = o.user
		}
		if all[n].user == "" {
			all[n].user = localUser()
		}
		// What ssh tries by itself gives way to what the command names.
		if a.identity == "" || o.identity != "" && strings.HasPrefix(filepath.Base(a.identity), "id_") {
			all[n].identity = o.identity
		}
		all[n].tags = o.tags
		switch phase := there[names.Fold(a.name)]; {
		case phase == "ready":
			rows[n].Result = "adopted already"
		case all[n].identity == "" && !o.agent:
			rows[n].Result, rows[n].Detail = "failed", "no private key is named for it; give -identity or -ssh-agent"
		default:
			todo = append(todo, n)
		}
	}
	if len(todo) > 0 {
		if err := c.adoptAll(service, all, rows, todo, o); err != nil {
			return err
		}
		c.renewHosts(service)
	}
	return c.batchReport(rows, asJSON)
}

// batchRow is what came of one of many.
type batchRow struct {
	Name   string `json:"name"`
	Result string `json:"result"` // adopted, adopted already, failed
	Detail string `json:"detail,omitempty"`
	Work   int64  `json:"work,omitempty"`
}

func (c *cli) adoptAll(service *client.Client, all []adoptee, rows []batchRow, todo []int, o adoptOptions) error {
	parent, err := service.AdoptMany(c.ctx, len(todo))
	if err != nil {
		return err
	}
	o.parent, o.unattended = parent.ID, true
	step, done := c.counter(fmt.Sprintf("adopt %d instances (work %d)", len(todo), parent.ID), len(todo))
	queue := make(chan int)
	var wg sync.WaitGroup
	for range min(adoptAtOnce, len(todo)) {
		wg.Go(func() {
			for n := range queue {
				quiet := *c
				quiet.err, quiet.out, quiet.tty = io.Discard, io.Discard, false
				r, err := quiet.adopt(service, all[n], o)
				rows[n].Work = r.Work.ID
				if err != nil {
					rows[n].Result, rows[n].Detail = "failed", strings.ReplaceAll(err.Error(), "\n", "; ")
				} else {
					rows[n].Result, rows[n].Detail = "adopted", r.Work.Outcome
				}
				step(rows[n])
			}
		})
	}
	for _, n := range todo {
		if c.ctx.Err() != nil {
			rows[n].Result, rows[n].Detail = "failed", "stopped before its turn"
			continue
		}
		queue <- n
	}
	close(queue)
	wg.Wait()
	done()
	return service.CloseParts(c.ctx, parent.ID)
}

// counter shows how far many are along: a bar on a terminal, a line each elsewhere.
func (c *cli) counter(title string, total int) (step func(batchRow), done func()) {
	var mu sync.Mutex
	if !c.tty {
		n := 0
		return func(r batchRow) {
			mu.Lock()
			defer mu.Unlock()
			n++
			fmt.Fprintf(c.err, "%d of %d: %s %s\n", n, total, plaintext.Line(r.Name), r.Result)
		}, func() {}
	}
	tracker := &progress.Tracker{Message: title, Total: int64(total)}
	_, stop := bar(tracker)
	return func(batchRow) { tracker.Increment(1) }, func() {
		tracker.MarkAsDone()
		stop()
	}
}

func (c *cli) batchReport(rows []batchRow, asJSON bool) error {
	counts := map[string]int{}
	var out [][]string
	for _, r := range rows {
		counts[r.Result]++
		out = append(out, []string{r.Name, r.Result, plaintext.Cut(r.Detail, 120)})
	}
	if asJSON {
		if err := c.json(map[string]any{"items": rows}); err != nil {
			return err
		}
	} else {
		c.table([]string{"instance", "result", ""}, out, "The file names no instance.")
		fmt.Fprintf(c.out, "\n%d adopted, %d adopted already, %d failed.\n", counts["adopted"],
			counts["adopted already"], counts["failed"])
	}
	if counts["failed"] > 0 {
		return failure{fmt.Errorf("%d of %d were not adopted", counts["failed"], len(rows)),
			"mend what is said of each, and run the same command again: it passes over what is adopted"}
	}
	return nil
}

// readBatch reads a CSV file or an OpenSSH client configuration.
func readBatch(file string) ([]adoptee, error) {
	data, err := readLimited(file)
	if err != nil {
		return nil, err
	}
	first, _, _ := strings.Cut(string(bytes.TrimPrefix(data, []byte("\xef\xbb\xbf"))), "\n")
	var all []adoptee
	if head := strings.Split(strings.ToLower(strings.TrimSpace(first)), ","); slices.Contains(head, "name") &&
		slices.Contains(head, "address") {
		all, err = readCSV(data, head)
	} else {
		all, err = readSSHConfig(file)
	}
	if err != nil {
		return nil, fmt.Errorf("%s: %w", file, err)
	}
	if len(all) == 0 {
		return nil, fmt.Errorf("%s: it names no instance; give an OpenSSH client configuration, or CSV that begins "+
			"with name,address", file)
	}
	seen := map[string]bool{}
	for _, a := range all {
		if err := names.Check(a.name); err != nil {
			return nil, fmt.Errorf("%s: %s: %w", file, plaintext.Line(plaintext.Cut(a.name, 60)), err)
		}
		if seen[names.Fold(a.name)] {
			return nil, fmt.Errorf("%s: %s stands there twice", file, a.name)
		}
		seen[names.Fold(a.name)] = true
	}
	return all, nil
}

var csvColumns = []string{"name", "address", "port", "user", "identity", "jump", "host_key"}

func readCSV(data []byte, head []string) ([]adoptee, error) {
	for _, h := range head {
		if !slices.Contains(csvColumns, strings.TrimSpace(h)) {
			return nil, fmt.Errorf("unknown column %q; there are %s", plaintext.Line(h), strings.Join(csvColumns, ", "))
		}
	}
	r := csv.NewReader(bytes.NewReader(bytes.TrimPrefix(data, []byte("\xef\xbb\xbf"))))
	r.TrimLeadingSpace = true
	if _, err := r.Read(); err != nil {
		return nil, err
	}
	var out []adoptee
	for {
		row, err := r.Read()
		if err == io.EOF {
			return out, nil
		}
		if err != nil {
			return nil, err
		}
		line, _ := r.FieldPos(0)
		a := adoptee{port: 22}
		jump := ""
		for n, h := range head {
			v := strings.TrimSpace(row[n])
			switch strings.TrimSpace(h) {
			case "name":
				a.name = v
			case "address":
				a.host = v
			case "port":
				if v != "" {
					if a.port, err = strconv.Atoi(v); err != nil || a.port < 1 || a.port > 65535 {
						return nil, fmt.Errorf("line %d: %q is no port", line, plaintext.Line(v))
					}
				}
			case "user":
				a.user = v
			case "identity":
				a.identity = home(v)
			case "jump":
				jump = v
			case "host_key":
				a.hostKey = v
			}
		}
		if a.host == "" {
			return nil, fmt.Errorf("line %d: the address is missing", line)
		}
		if jump != "" {
			if a.jump, err = parseJump(jump, a.user); err != nil {
				return nil, fmt.Errorf("line %d: %w", line, err)
			}
		}
		if out = append(out, a); len(out) > maxBatch {
			return nil, fmt.Errorf("more than %d instances", maxBatch)
		}
	}
}

func home(p string) string {
	if rest, ok := strings.CutPrefix(p, "~/"); ok {
		if h, err := os.UserHomeDir(); err == nil {
			return filepath.Join(h, rest)
		}
	}
	return p
}

// readSSHConfig takes the hosts that a client configuration names without a
// pattern, and asks this machine's own ssh what holds for each (ssh(1), -G):
// patterns, Include, Match and tokens mean there what they mean to ssh.
func readSSHConfig(file string) ([]adoptee, error) {
	if _, err := exec.LookPath("ssh"); err != nil {
		return nil, errors.New("there is no ssh on this machine to read it with")
	}
	hosts, err := hostsOf(file, 0)
	if err != nil {
		return nil, err
	}
	abs, err := filepath.Abs(file)
	if err != nil {
		return nil, err
	}
	var out []adoptee
	for _, h := range hosts {
		if slices.ContainsFunc(out, func(a adoptee) bool { return a.name == h }) {
			continue
		}
		a, err := effective(abs, h)
		if err != nil {
			return nil, fmt.Errorf("host %s: %w", plaintext.Line(h), err)
		}
		out = append(out, a)
	}
	return out, nil
}

// effective asks ssh what holds for one host.
func effective(file, host string) (adoptee, error) {
	text, err := exec.Command("ssh", "-G", "-F", file, "--", host).Output()
	if err != nil {
		reason := ""
		if exit, ok := errors.AsType[*exec.ExitError](err); ok {
			reason = ": " + plaintext.Line(plaintext.Cut(string(exit.Stderr), 200))
		}
		return adoptee{}, fmt.Errorf("ssh cannot read it%s", reason)
	}
	a := adoptee{name: host, port: 22}
	jump := ""
	for line := range strings.Lines(string(text)) {
		word, value, _ := strings.Cut(strings.TrimSpace(line), " ")
		switch word {
		case "hostname":
			a.host = value
		case "user":
			a.user = value
		case "port":
			if a.port, err = strconv.Atoi(value); err != nil {
				return a, errors.New("its port is no number")
			}
		case "identityfile":
			if f := home(value); a.identity == "" {
				if _, err := os.Stat(f); err == nil {
					a.identity = f
				}
			}
		case "proxyjump":
			if value != "none" {
				jump = value
			}
		}
	}
	if jump == "" {
		return a, nil
	}
	// The jump host may itself be named in the file.
	if a.jump, err = parseJump(jump, a.user); err != nil {
		return a, err
	}
	if !strings.ContainsAny(jump, "@:") {
		hop, err := effective(file, jump)
		if err != nil {
			return a, err
		}
		if hop.jump != nil {
			return a, errors.New("one jump host only: its jump host has one too")
		}
		a.jump = &jumpHost{host: hop.host, port: hop.port, user: hop.user}
	}
	return a, nil
}

const maxInclude = 16 // as ssh has it

// hostsOf lists the hosts that a configuration names without a pattern, those
// of included files too.
func hostsOf(file string, depth int) ([]string, error) {
	if depth > maxInclude {
		return nil, errors.New("too many files include one another")
	}
	data, err := readLimited(file)
	if err != nil {
		return nil, err
	}
	var out []string
	lines := bufio.NewScanner(bytes.NewReader(data))
	for n := 1; lines.Scan(); n++ {
		line := strings.TrimSpace(lines.Text())
		word, rest, _ := strings.Cut(strings.Replace(line, "=", " ", 1), " ")
		fields := strings.Fields(rest)
		switch strings.ToLower(word) {
		case "host":
			for _, h := range fields {
				if h = strings.Trim(h, `"`); !strings.ContainsAny(h, "*?!") {
					out = append(out, h)
				}
			}
		case "match":
			if slices.ContainsFunc(fields,
				func(f string) bool { return strings.EqualFold(strings.Trim(f, `"`), "exec") }) {
				return nil, fmt.Errorf("line %d: \"Match exec\" would run a command; take it out of a copy of the file", n)
			}
		case "include":
			for _, pattern := range fields {
				pattern = home(strings.Trim(pattern, `"`))
				if !filepath.IsAbs(pattern) { // as ssh does for a user's file
					dir, err := sshDir()
					if err != nil {
						return nil, err
					}
					pattern = filepath.Join(dir, pattern)
				}
				files, err := filepath.Glob(pattern)
				if err != nil {
					return nil, fmt.Errorf("line %d: %w", n, err)
				}
				for _, f := range files {
					more, err := hostsOf(f, depth+1)
					if err != nil {
						return nil, err
					}
					out = append(out, more...)
				}
			}
		}
	}
	return out, lines.Err()
}

package main

import (
	"cmp"
	"encoding/csv"
	"errors"
	"flag"
	"fmt"
	"io/fs"
	"net/url"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"plumlatch/client"
	"plumlatch/core/access"
	"plumlatch/core/keypair"
	"plumlatch/core/names"
	"plumlatch/core/plaintext"
	"plumlatch/core/wire"
)

func accessList(fs *flag.FlagSet) func(*cli) error {
	instance := fs.String("instance", "", "`name` of an instance: what opens it")
	key := fs.String("key", "", "`name` of a key: what it opens")
	holder := fs.String("holder", "", "`name` of who holds the keys")
	region := fs.String("region", "", "`region` of the instances")
	tag := fs.String("tag", "", "`NAME=VALUE`, or NAME, of the instances")
	user := fs.String("user", "", "login `user`")
	kind := fs.String("evidence", "", "`kind` of what is shown and not old: none, placed, seen, accepted, proven; or old")
	older := fs.Int("evidence-older", 0, "only where the evidence is this many `days` old, or older, or there is none")
	asJSON := fs.Bool("json", false, "print JSON")
	asCSV := fs.Bool("csv", false, "print CSV")
	return func(c *cli) error {
		_, service, err := c.begin()
		if err != nil {
			return err
		}
		if *asJSON && *asCSV {
			return usagef("give -json or -csv, and not both")
		}
		rows, err := service.AccessWhere(c.ctx,
			url.Values{"instance": {*instance}, "key": {*key}, "holder": {*holder}, "region": {*region},
				"tag": {*tag}, "user": {*user}, "evidence": {*kind}, "evidence_older_than_days": days(*older)})
		if err != nil {
			return err
		}
		var found []wire.Sighted // what nobody recorded, unless only recorded accesses can match
		if *kind == "" || *kind == "seen" {
			if found, err = service.Sightings(c.ctx, url.Values{"instance": {*instance}, "key": {*key},
				"holder": {*holder}, "region": {*region}, "tag": {*tag}, "user": {*user}, "there": {"true"},
				"recorded": {"false"}}); err != nil {
				return err
			}
			found = slices.DeleteFunc(found, func(x wire.Sighted) bool {
				return x.Limits == access.Authority || time.Since(x.Seen) < time.Duration(*older)*24*time.Hour
			})
		}
		switch {
		case *asJSON:
			return c.json(accessAll{wire.List[wire.Access]{Items: rows}, append([]wire.Sighted{}, found...)})
		case *asCSV:
			return c.accessCSV(rows, found)
		case len(rows)+len(found) == 0 && *key != "":
			fmt.Fprintln(c.out, "It opens nothing, as far as is known.")
			return nil
		}
		if len(rows) > 0 || len(found) == 0 {
			c.accessRows(rows, *instance == "")
		}
		c.foundRows(found, *instance == "")
		return nil
	}
}

// accessAll is what "access list -json" prints: what is on record, and what surveys found besides.
type accessAll struct {
	wire.List[wire.Access]
	Unrecorded []wire.Sighted `json:"unrecorded"`
}

// days is a number of days in a query; 0 asks for nothing.
func days(n int) []string {
	if n == 0 {
		return nil
	}
	return []string{strconv.Itoa(n)}
}

// accessCSV writes accesses as CSV (RFC 4180), every cell made safe for a spreadsheet.
func (c *cli) accessCSV(rows []wire.Access, found []wire.Sighted) error {
	w := csv.NewWriter(c.raw)
	out := [][]string{{"instance", "region", "user", "key", "steward", "holder", "holder_sort", "kind", "fingerprint",
		"evidence", "old", "at", "from", "since", "until", "key_state", "recorded", "file"}}
	for _, a := range rows {
		at, until := "", ""
		if a.At != nil {
			at = a.At.UTC().Format(time.RFC3339)
		}
		if a.Until != nil {
			until = a.Until.UTC().Format(time.RFC3339)
		}
		out = append(out, []string{a.Instance, a.Region, a.LoginUser, a.Key, strconv.FormatBool(a.Steward), a.Holder,
			a.HolderSort, a.Kind, a.Fingerprint, a.Evidence, strconv.FormatBool(a.Old), at, a.From,
			a.Since.UTC().Format(time.RFC3339), until, a.KeyState, "true", ""})
	}
	for _, x := range found {
		until := ""
		if x.Ends != nil {
			until = x.Ends.UTC().Format(time.RFC3339)
		}
		out = append(out, []string{x.Instance, x.Region, x.LoginUser, x.Key, "false", x.Holder, "", x.Kind,
			x.Fingerprint, "seen", "false", x.Seen.UTC().Format(time.RFC3339), x.From, x.Since.UTC().Format(time.RFC3339),
			until, x.State, "false", fmt.Sprintf("%s:%d", x.File, x.Line)})
	}
	for _, r := range out {
		for n := range r {
			r[n] = plaintext.Cell(r[n])
		}
	}
	return w.WriteAll(out)
}

// asked is what a word was taken for.
type askedKey struct {
	Meant       string `json:"meant"` // key, file, fingerprint, line
	Name        string `json:"name,omitempty"`
	Fingerprint string `json:"fingerprint,omitempty"`
	recorded    *wire.Key
}

var (
	bareMD5  = regexp.MustCompile(`^([0-9a-fA-F]{2}:){15}[0-9a-fA-F]{2}$`)
	bareSHA2 = regexp.MustCompile(`^[A-Za-z0-9+/]{43}=?$`)
)

// meaning takes a word for what it is, in this order: a pasted public line, a
// fingerprint (SHA256 or MD5, with or without its prefix), a file, the name of a
// recorded key. A word that is a file and a name at once, of two keys, is refused.
func (c *cli) meaning(service *client.Client, word string) (askedKey, error) {
	if p, err := keypair.ReadPublic([]byte(word)); err == nil && strings.Contains(word, " ") {
		return c.recordedAs(service, askedKey{Meant: "line", Fingerprint: p.Fingerprint()})
	}
	switch {
	case keypair.LooksPrivate([]byte(word)):
		return askedKey{}, failure{errors.New("that is a private key; it was neither sent nor kept"),
			"give its file, or the one line of its .pub"}
	case strings.HasPrefix(word, "SHA256:"), strings.HasPrefix(word, "MD5:"):
		return c.recordedAs(service, askedKey{Meant: "fingerprint", Fingerprint: strings.TrimRight(word, "=")})
	case bareMD5.MatchString(word):
		return c.recordedAs(service, askedKey{Meant: "fingerprint", Fingerprint: "MD5:" + strings.ToLower(word)})
	}
	var named *askedKey
	if names.Check(word) == nil {
		k, err := service.Key(c.ctx, word)
		if p, ok := errors.AsType[*client.Problem](err); err != nil && (!ok || p.Status != 404) {
			return askedKey{}, err
		}
		if err == nil {
			named = &askedKey{Meant: "key", Name: k.Name, Fingerprint: k.Fingerprint, recorded: &k}
		}
	}
	data, err := readLimited(word)
	if errors.Is(err, fs.ErrNotExist) || err != nil && named != nil {
		switch {
		case named != nil:
			return *named, nil
		case bareSHA2.MatchString(word):
			return c.recordedAs(service,
				askedKey{Meant: "fingerprint", Fingerprint: "SHA256:" + strings.TrimRight(word, "=")})
		}
		return askedKey{}, failure{fmt.Errorf("%s is no file, no fingerprint, no public line and no recorded key",
			plaintext.Line(plaintext.Cut(word, 60))), "plumlatch key list -match PART"}
	}
	if err != nil {
		return askedKey{}, err
	}
	defer clear(data)
	f, err := keypair.Read(data, nil)
	if err != nil && named == nil {
		return askedKey{}, fmt.Errorf("%s: %w", word, err)
	}
	public := f.Public
	if err == nil && len(public.Blob) == 0 {
		if public, err = publicBeside(word); err != nil && named == nil {
			return askedKey{}, failure{fmt.Errorf("%s is locked, hides its public half, and has no .pub beside it",
				word), "plumlatch key public " + shellWord(word)}
		}
	}
	if err != nil {
		return *named, nil // a file of that name that holds no key
	}
	if named != nil && named.Fingerprint != public.Fingerprint() {
		return askedKey{}, failure{fmt.Errorf("%s has two meanings: the recorded key of that name is %s, and the "+
			"file holds %s", word, named.Fingerprint, public.Fingerprint()),
			"plumlatch opens ./" + word + ", for the file; plumlatch access list -key " + word + ", for the key"}
	}
	return c.recordedAs(service, askedKey{Meant: "file", Fingerprint: public.Fingerprint()})
}

// keyToChange takes a word for a key that something is to be changed of: its name, or the SHA256
// fingerprint of one that nobody recorded. An MD5 fingerprint finds keys, and changes none.
func (c *cli) keyToChange(service *client.Client, word string) (string, error) {
	k, err := c.meaning(service, word)
	if err != nil {
		return "", err
	}
	if k.Meant == "fingerprint" && (strings.HasPrefix(word, "MD5:") || bareMD5.MatchString(word)) {
		if k.recorded == nil {
			return "", fmt.Errorf("no recorded key has %s; give its SHA256 fingerprint", plaintext.Line(word))
		}
		return "", failure{fmt.Errorf("an MD5 fingerprint can be made to fit another key: nothing is changed by it. It is "+
			"%s, %s", k.Name, k.Fingerprint), "give " + k.Fingerprint}
	}
	return cmp.Or(k.Name, k.Fingerprint), nil
}

func (c *cli) recordedAs(service *client.Client, k askedKey) (askedKey, error) {
	all, err := service.Keys(c.ctx, url.Values{"fingerprint": {k.Fingerprint}})
	if err == nil && len(all) > 0 {
		k.recorded, k.Name, k.Fingerprint = &all[0], all[0].Name, all[0].Fingerprint
	}
	return k, err
}

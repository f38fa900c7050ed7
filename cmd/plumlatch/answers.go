package main

import (
	"cmp"
	"encoding/csv"
	"errors"
	"flag"
	"fmt"
	"io/fs"
	"net/url"
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

// askedKey is what a word was taken for.
type askedKey struct {
	Meant       string        // key, file, fingerprint, line
	Name        string        // of the recorded key; "" for none
	Fingerprint string        // SHA256, where that is known
	Print       keypair.Print // what was given, where it was a fingerprint
	recorded    *wire.Key
}

// meaning takes a word for what it is, in this order: a pasted public line, a fingerprint of whatever
// form, the name of a recorded key, a file, a fingerprint without prefix and colons. A word that is two of
// these at once, of two keys, is refused.
func (c *cli) meaning(service *client.Client, word string) (askedKey, error) {
	if p, err := keypair.ReadPublic([]byte(word)); err == nil && strings.Contains(word, " ") {
		return c.recordedAs(service, askedKey{Meant: "line", Fingerprint: p.Fingerprint()})
	}
	if keypair.LooksPrivate([]byte(word)) {
		return askedKey{}, failure{errors.New("that is a private key; it was neither sent nor kept"),
			"give its file, or the one line of its .pub"}
	}
	print, isPrint, err := keypair.ParsePrint(word)
	if err != nil {
		return askedKey{}, failure{fmt.Errorf("%s: %w", plaintext.Line(plaintext.Cut(word, 80)), err),
			"plumlatch key list -match PART"}
	}
	if isPrint && !print.Bare {
		return c.printed(service, print)
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
	if isPrint {
		return c.bareOrNamed(service, word, print, named)
	}
	data, err := readLimited(word)
	if errors.Is(err, fs.ErrNotExist) || err != nil && named != nil {
		if named != nil {
			return *named, nil
		}
		return askedKey{}, c.noKey(service, word)
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
			"give ./" + word + " for the file, " + named.Fingerprint + " for the key"}
	}
	return c.recordedAs(service, askedKey{Meant: "file", Fingerprint: public.Fingerprint()})
}

// bareOrNamed settles what a word means that is a fingerprint without prefix and colons, and may be the
// name of a key as well.
func (c *cli) bareOrNamed(service *client.Client, word string, print keypair.Print, named *askedKey) (askedKey, error) {
	k, err := c.printed(service, print)
	if err != nil {
		return k, err
	}
	switch {
	case named == nil:
		return k, nil
	case k.Fingerprint != named.Fingerprint && k.Fingerprint != print.Text: // it is known, and of another key
		return k, failure{fmt.Errorf("%s has two meanings: it is the name of the key %s, and a fingerprint of %s", word,
			named.Fingerprint, k.Fingerprint), "give one of the two SHA256"}
	}
	return *named, nil
}

// printed finds the key that a fingerprint is of, recorded or not.
func (c *cli) printed(service *client.Client, p keypair.Print) (askedKey, error) {
	o, err := service.Opens(c.ctx, p.Text)
	k := askedKey{Meant: "fingerprint", Fingerprint: o.Fingerprint, Print: p, recorded: o.Key}
	if o.Key != nil {
		k.Name = o.Key.Name
	}
	return k, err
}

// noKey says that a word is no key, with the names that are near it.
func (c *cli) noKey(service *client.Client, word string) error {
	shown := plaintext.Line(plaintext.Cut(word, 60))
	next, nearest := "plumlatch key list -match PART", ""
	if keys, err := service.Keys(c.ctx, url.Values{}); err == nil {
		var all []string
		for _, k := range keys {
			all = append(all, k.Name)
		}
		if near := names.Near(word, all, 3); len(near) > 0 {
			next, nearest = "plumlatch key show "+near[0], "; did you mean "+strings.Join(near, " or ")+"?"
		}
	}
	return failure{fmt.Errorf("%s is no file, no fingerprint, no public line and no recorded key%s", shown, nearest), next}
}

// recordedKey takes a word for a key that is recorded.
func (c *cli) recordedKey(service *client.Client, word string) (wire.Key, error) {
	k, err := c.meaning(service, word)
	if err != nil {
		return wire.Key{}, err
	}
	if k.recorded == nil {
		return wire.Key{}, failure{fmt.Errorf("%s is not recorded", plaintext.Line(k.Fingerprint)),
			"plumlatch opens " + k.Fingerprint + "; plumlatch key import NAME FILE"}
	}
	return *k.recorded, nil
}

// keyToChange takes a word for a key that something is to be changed of: the name of a recorded one, or
// the SHA256 fingerprint of one that nobody recorded. Other forms of fingerprints find keys, and change
// nothing.
func (c *cli) keyToChange(service *client.Client, word string) (string, error) {
	k, err := c.meaning(service, word)
	if err != nil {
		return "", err
	}
	if k.Meant == "fingerprint" && !k.Print.Changes() {
		if k.Fingerprint == k.Print.Text {
			return "", fmt.Errorf("no key that is known here has %s; give its name, its file or its SHA256 fingerprint",
				k.Print.Text)
		}
		why := "another key can be made to fit an MD5"
		if k.Print.Form == keypair.PrintSHA1 {
			why = "what is said of a private half proves nothing"
		}
		return "", failure{fmt.Errorf("%s finds a key, and changes nothing: %s. It is %s", k.Print.Text, why,
			strings.TrimSpace(k.Name+" "+k.Fingerprint)), "give " + k.Fingerprint}
	}
	return cmp.Or(k.Name, k.Fingerprint), nil
}

// recordedToChange is keyToChange for a key that has to be recorded: its name.
func (c *cli) recordedToChange(service *client.Client, word string) (string, error) {
	name, err := c.keyToChange(service, word)
	if err == nil && strings.HasPrefix(name, "SHA256:") {
		return "", failure{fmt.Errorf("%s is not recorded", name), "plumlatch key import NAME FILE"}
	}
	return name, err
}

// keyNames takes each word that is not empty for a recorded key that something is to be done with, and
// puts the key's name in its place.
func (c *cli) keyNames(service *client.Client, words ...*string) error {
	for _, w := range words {
		if *w == "" {
			continue
		}
		name, err := c.recordedToChange(service, *w)
		if err != nil {
			return err
		}
		*w = name
	}
	return nil
}

func (c *cli) recordedAs(service *client.Client, k askedKey) (askedKey, error) {
	all, err := service.Keys(c.ctx, url.Values{"fingerprint": {k.Fingerprint}})
	if err == nil && len(all) > 0 {
		k.recorded, k.Name, k.Fingerprint = &all[0], all[0].Name, all[0].Fingerprint
	}
	return k, err
}

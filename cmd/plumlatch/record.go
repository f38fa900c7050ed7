package main

import (
	"cmp"
	"flag"
	"fmt"
	"net/url"
	"slices"
	"time"

	"plumlatch/client"
	"plumlatch/core/access"
	"plumlatch/core/names"
	"plumlatch/core/plaintext"
	"plumlatch/core/wire"
)

// accessRecord writes down keys that surveys found and that nobody recorded: one on one instance, one
// wherever it stands, or all of an instance, of a tag, of everything.
func accessRecord(fs *flag.FlagSet) func(*cli) error {
	as := fs.String("as", "", "record the key under this `name`, if it is not recorded yet (default, of many: from its comment)")
	user := fs.String("user", "", "login `user` in whose files it stands, if it stands in several")
	holder := fs.String("holder", "", "`name` of who holds the keys")
	everywhere := fs.Bool("everywhere", false, "the key wherever it stands: give KEY alone")
	all := fs.Bool("all", false, "every key that nobody recorded: on INSTANCE, or everywhere")
	tag := fs.String("tag", "", "every key that nobody recorded, on the instances with this tag (`NAME=VALUE`, or NAME)")
	yes := fs.Bool("yes", false, "do not ask")
	asJSON := fs.Bool("json", false, "print JSON")
	return func(c *cli) error {
		q := url.Values{"there": {"true"}, "recorded": {"false"}, "user": {*user}}
		var service *client.Client
		var args []string
		var err error
		switch {
		case *all && *everywhere || *tag != "" && (*all || *everywhere):
			return usagef("give one of -all, -tag and -everywhere")
		case *all || *tag != "":
			if len(c.args) > 0 {
				args, service, err = c.begin("INSTANCE")
				q.Set("instance", args[0])
			} else {
				service, err = c.service()
			}
			if *tag != "" {
				if len(c.args) > 0 {
					return usagef("give INSTANCE or -tag")
				}
				q.Set("tag", *tag)
			}
		case *everywhere:
			args, service, err = c.begin("KEY, FILE or FINGERPRINT")
		default:
			args, service, err = c.begin("INSTANCE", "KEY, FILE or FINGERPRINT")
		}
		if err != nil {
			return err
		}
		one := !*all && *tag == ""
		if one {
			k, err := c.meaning(service, args[len(args)-1])
			if err != nil {
				return err
			}
			q.Set("fingerprint", k.Fingerprint)
			if !*everywhere {
				return c.recordOne(service, args[0], k, *user, *as, *holder, *asJSON)
			}
		} else if *as != "" {
			return usagef("-as names one key")
		}
		found, err := service.Sightings(c.ctx, q)
		if err != nil {
			return err
		}
		found = slices.DeleteFunc(found, func(x wire.Sighted) bool { return x.Limits == access.Authority })
		return c.recordMany(service, found, *as, *holder, *yes, *asJSON)
	}
}

// recordOne records what a survey found on one instance.
func (c *cli) recordOne(service *client.Client, instance string, k askedKey, user, as, holder string,
	asJSON bool) error {
	if k.Fingerprint == "" || k.Meant == "fingerprint" && !k.Print.Changes() {
		if _, err := c.keyToChange(service, k.Print.Text); err != nil {
			return err
		}
	}
	recorded, err := service.RecordAccess(c.ctx, instance, k.Fingerprint, user, as)
	if p, ok := err.(*client.Problem); ok && p.Field == "name" && as == "" { // it is not recorded yet: its comment names it
		found, e := service.Sightings(c.ctx, url.Values{"instance": {instance}, "fingerprint": {k.Fingerprint}})
		if e == nil && len(found) > 0 && names.Suggest(found[0].Comment) != "" {
			as = names.Suggest(found[0].Comment)
			recorded, err = service.RecordAccess(c.ctx, instance, k.Fingerprint, user, as)
		}
		if err != nil {
			return failure{err, fmt.Sprintf("plumlatch access record %s %s -as NAME", instance, k.Fingerprint)}
		}
	}
	if err != nil {
		return err
	}
	if holder != "" {
		if recorded, err = service.ChangeKey(c.ctx, recorded.Name, wire.KeyChange{Holder: &holder}); err != nil {
			return launchError(err, holder)
		}
	}
	if asJSON {
		return c.json(recorded)
	}
	words, next := "nobody is written down as its holder", "plumlatch key set "+recorded.Name+" -holder NAME"
	if recorded.Holder != "" {
		words, next = "held by "+recorded.Holder, "plumlatch who "+instance
	}
	fmt.Fprintf(c.out, "It is on record that %s opens %s; %s.\nnext: %s\n", recorded.Name, instance, words, next)
	return nil
}

// toRecord is a key that is to be recorded on an instance, and what came of it.
type toRecord struct {
	Instance    string `json:"instance"`
	LoginUser   string `json:"login_user"`
	Fingerprint string `json:"fingerprint"`
	Key         string `json:"key"` // its name, also one that it gets
	New         bool   `json:"new"` // the key is not recorded at all yet
	Result      string `json:"result,omitempty"`
}

// recordMany records what surveys found on many instances, once it was shown.
func (c *cli) recordMany(service *client.Client, found []wire.Sighted, as, holder string, yes, asJSON bool) error {
	keys, err := service.Keys(c.ctx, nil)
	if err != nil {
		return err
	}
	taken, called := map[string]bool{}, map[string]string{}
	for _, k := range keys {
		taken[names.Fold(k.Name)], called[k.Fingerprint] = true, k.Name
	}
	all := []toRecord{}
	var rows [][]string
	now := time.Now()
	fresh := map[string]bool{}
	for _, x := range found {
		if called[x.Fingerprint] == "" {
			called[x.Fingerprint], fresh[x.Fingerprint] = freeName(cmp.Or(as, names.Suggest(x.Comment), "key"), taken), true
			taken[names.Fold(called[x.Fingerprint])] = true
		}
		r := toRecord{Instance: x.Instance, LoginUser: x.LoginUser, Fingerprint: x.Fingerprint,
			Key: called[x.Fingerprint], New: fresh[x.Fingerprint]}
		all = append(all, r)
		what := "recorded already"
		if r.New {
			what = "new in the ledger"
		}
		rows = append(rows, []string{r.Instance, r.LoginUser, marked(r.Key, x.State), what, x.Bitting,
			ago(x.Since, now), plaintext.Cut(x.Comment, 40)})
	}
	if len(all) == 0 {
		if asJSON {
			return c.json(wire.List[toRecord]{Items: all})
		}
		fmt.Fprintln(c.out, "No survey found a key there that nobody recorded.\nnext: plumlatch survey -all -inside")
		return nil
	}
	if !asJSON {
		c.table([]string{"instance", "user", "key", "", "bitting", "seen since", "comment"}, rows, "")
	}
	if !yes {
		if err := c.confirm(fmt.Sprintf("\nRecord %s on %s? Whoever holds %s is let in as before.",
			count(len(distinct(all, func(r toRecord) string { return r.Fingerprint })), "key"),
			count(len(distinct(all, func(r toRecord) string { return r.Instance })), "instance"),
			map[bool]string{true: "it", false: "them"}[len(all) == 1])); err != nil {
			return err
		}
	}
	bad := 0
	for n := range all {
		r := &all[n]
		name := ""
		if r.New {
			name = r.Key
		}
		k, err := service.RecordAccess(c.ctx, r.Instance, r.Fingerprint, r.LoginUser, name)
		if err != nil && r.New { // the first of several has recorded the key by now
			k, err = service.RecordAccess(c.ctx, r.Instance, r.Fingerprint, r.LoginUser, "")
		}
		if err == nil && holder != "" && k.Holder == "" {
			_, err = service.ChangeKey(c.ctx, k.Name, wire.KeyChange{Holder: &holder})
		}
		r.Result = "recorded"
		if err != nil {
			if !client.Definite(err) {
				return err
			}
			r.Result = err.Error()
			bad++
			fmt.Fprintf(c.err, "%s on %s: %s\n", plaintext.Line(r.Key), plaintext.Line(r.Instance), plaintext.Line(r.Result))
		}
	}
	if asJSON {
		if err := c.json(wire.List[toRecord]{Items: all}); err != nil {
			return err
		}
	} else {
		fmt.Fprintf(c.out, "%d of %d recorded.\n", len(all)-bad, len(all))
	}
	if bad > 0 {
		return failure{fmt.Errorf("%d could not be recorded", bad), "plumlatch survey INSTANCE, and once more"}
	}
	if !asJSON {
		if holder == "" && len(fresh) > 0 {
			fmt.Fprintf(c.out, "Nobody is written down as the holder of what is new.\nnext: plumlatch key set %s -holder NAME\n",
				all[slices.IndexFunc(all, func(r toRecord) bool { return r.New })].Key)
			return nil
		}
		fmt.Fprintln(c.out, "next: plumlatch access list")
	}
	return nil
}

// freeName is a name that is not taken: the base, or with a number behind it.
func freeName(base string, taken map[string]bool) string {
	base = base[:min(len(base), names.MaxLength-4)]
	name := base
	for i := 2; taken[names.Fold(name)]; i++ {
		name = fmt.Sprintf("%s-%d", base, i)
	}
	return name
}

func distinct[T any](all []T, of func(T) string) (out []string) {
	for _, x := range all {
		out = append(out, of(x))
	}
	slices.Sort(out)
	return slices.Compact(out)
}

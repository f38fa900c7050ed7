package main

import (
	"flag"
	"fmt"
)

func survey(fs *flag.FlagSet) func(*cli) error {
	asJSON := fs.Bool("json", false, "print JSON")
	return func(c *cli) error {
		args, service, err := c.begin("INSTANCE")
		if err != nil {
			return err
		}
		s, err := service.Survey(c.ctx, args[0])
		if err != nil {
			return err
		}
		if *asJSON {
			return c.json(s)
		}
		counts := map[string]int{}
		var rows [][]string
		next := ""
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
			if k.Result == "unrecorded" && k.Key == "" && next == "" {
				next = fmt.Sprintf("echo '%s' | plumlatch key import NAME -", k.PublicKey)
			}
			rows = append(rows, []string{k.Result, name, k.Bitting, k.Kind, where, k.Options})
		}
		fmt.Fprintf(c.out, "%s, as %s: %d recorded, %d unrecorded, %d missing.\n\n", s.Instance, s.LoginUser, counts["recorded"], counts["unrecorded"], counts["missing"])
		c.table([]string{"result", "key", "bitting", "kind", "where", "options"}, rows, "There is no key in its files.")
		for _, b := range s.Broken {
			fmt.Fprintf(c.out, "passed over by sshd: %s\n", b)
		}
		fmt.Fprintln(c.out)
		for _, n := range s.NotSeen {
			fmt.Fprintf(c.out, "not seen: %s\n", n)
		}
		if next != "" {
			fmt.Fprintf(c.out, "next: %s\n", next)
		}
		return nil
	}
}

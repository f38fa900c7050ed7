package main

import (
	"context"
	"flag"
	"fmt"
	"strconv"
	"time"

	"plumlatch/client"
	"plumlatch/core/keypair"
	"plumlatch/core/times"
	"plumlatch/core/wire"
)

// catalogueList makes a command that lists everything of one sort.
func catalogueList[T any](fs *flag.FlagSet, get func(*client.Client, context.Context) ([]T, error), header []string,
	row func(T) []string) func(*cli) error {
	asJSON := fs.Bool("json", false, "print JSON")
	return func(c *cli) error {
		_, service, err := c.begin()
		if err != nil {
			return err
		}
		items, err := get(service, c.ctx)
		if err != nil {
			return err
		}
		if *asJSON {
			return c.json(wire.List[T]{Items: items})
		}
		var rows [][]string
		for _, i := range items {
			rows = append(rows, row(i))
		}
		c.table(header, rows, "There is none.")
		return nil
	}
}

func operatorList(fs *flag.FlagSet) func(*cli) error {
	return catalogueList(fs, (*client.Client).Operators, []string{"operator", "role", "", "added"},
		func(o wire.Operator) []string {
			state := ""
			if o.Disabled {
				state = "disabled"
			}
			return []string{o.Name, o.Role, state, ago(o.CreatedAt, time.Now())}
		})
}

func operatorAdd(fs *flag.FlagSet) func(*cli) error {
	role := fs.String("role", "viewer", "`role`: viewer, operator, admin")
	public := fs.String("public", "", "`file` with the public key by which it signs in: it has no password then")
	asJSON := fs.Bool("json", false, "print JSON")
	return func(c *cli) error {
		args, service, err := c.begin("NAME")
		if err != nil {
			return err
		}
		n := wire.Operator{Name: args[0], Role: *role}
		if *public != "" {
			data, err := readLimited(*public)
			if err != nil {
				return err
			}
			p, err := keypair.ReadPublic(data) // a private key is never sent
			if err != nil {
				return fmt.Errorf("%s: %w", *public, err)
			}
			n.PublicKey = p.Line()
		}
		o, err := service.AddOperator(c.ctx, n)
		if err != nil {
			return err
		}
		if *asJSON {
			return c.json(o)
		}
		if o.Key != nil {
			fmt.Fprintf(c.out, "Added %s as %s, without a password: it signs in by %s, %s.\n", o.Name, o.Role, o.Key.Key,
				o.Key.Fingerprint)
			c.warnSigner(*o.Key)
			fmt.Fprintf(c.out, "next, for %s: plumlatch sign-in %s -operator %s -identity FILE\n", o.Name, service.URL(), o.Name)
			return nil
		}
		fmt.Fprintf(c.out, "Added %s as %s. Password, shown this once:\n\n  %s\n\nnext: hand it over; %s signs in "+
			"on the console at %s, or by plumlatch sign-in %s -operator %s\n", o.Name, o.Role, o.Password, o.Name,
			service.URL(), service.URL(), o.Name)
		return nil
	}
}

func operatorRole(fs *flag.FlagSet) func(*cli) error {
	return func(c *cli) error {
		args, service, err := c.begin("NAME", "ROLE")
		if err != nil {
			return err
		}
		if err := service.ChangeOperator(c.ctx, args[0], wire.OperatorChange{Role: &args[1]}); err != nil {
			return err
		}
		fmt.Fprintf(c.out, "%s is %s now.\n", args[0], args[1])
		return nil
	}
}

func operatorAble(disable bool) func(*flag.FlagSet) func(*cli) error {
	return func(*flag.FlagSet) func(*cli) error {
		return func(c *cli) error {
			args, service, err := c.begin("NAME")
			if err != nil {
				return err
			}
			if err := service.ChangeOperator(c.ctx, args[0], wire.OperatorChange{Disabled: &disable}); err != nil {
				return err
			}
			word := "enabled"
			if disable {
				word = "disabled: its sessions ended, and its tokens are refused"
			}
			fmt.Fprintf(c.out, "%s is %s.\n", args[0], word)
			return nil
		}
	}
}

func tokenList(fs *flag.FlagSet) func(*cli) error {
	return catalogueList(fs, (*client.Client).Tokens,
		[]string{"id", "operator", "name", "role", "ends", "last used", ""}, func(t wire.Token) []string {
			now := time.Now()
			used, state := "never", ""
			if t.LastUsedAt != nil {
				used = ago(*t.LastUsedAt, now) + " from " + t.LastUsedFrom
			}
			if t.RevokedAt != nil {
				state = "revoked"
			} else if t.ExpiresAt.Before(now) {
				state = "expired"
			}
			return []string{fmt.Sprint(t.ID), t.Operator, t.Name, t.Role, ago(t.ExpiresAt, now), used, state}
		})
}

func tokenCreate(fs *flag.FlagSet) func(*cli) error {
	role := fs.String("role", "", "`role`: viewer, operator, admin (default: your own)")
	var e ends
	e.flags(fs)
	asJSON := fs.Bool("json", false, "print JSON")
	return func(c *cli) error {
		args, err := c.names("NAME")
		if err != nil {
			return err
		}
		life := 30 * 24 * time.Hour
		if end, err := e.at(time.Now()); err != nil {
			return err
		} else if end != nil {
			life = time.Until(*end).Round(time.Second)
		}
		service, err := c.service()
		if err != nil {
			return err
		}
		t, err := service.CreateToken(c.ctx, wire.NewToken{Name: args[0], Role: *role, Seconds: int64(life.Seconds())})
		if err != nil {
			return err
		}
		if *asJSON {
			return c.json(t)
		}
		fmt.Fprintf(c.out, "Token %d (%s, %s) ends %s. Shown this once:\n\n  %s\n\nnext: put it into a file that "+
			"you alone can read, as PLUMLATCH_TOKEN\n", t.ID, t.Name, t.Role, times.Show(t.ExpiresAt.Local()), t.Token)
		return nil
	}
}

func tokenRevoke(fs *flag.FlagSet) func(*cli) error {
	return func(c *cli) error {
		args, err := c.names("ID")
		if err != nil {
			return err
		}
		id, err := strconv.ParseInt(args[0], 10, 64)
		if err != nil {
			return usagef("ID is a number; plumlatch token list shows it")
		}
		service, err := c.service()
		if err != nil {
			return err
		}
		if err := service.RevokeToken(c.ctx, id); err != nil {
			return err
		}
		fmt.Fprintf(c.out, "Token %d is revoked.\n", id)
		return nil
	}
}

func whoami(fs *flag.FlagSet) func(*cli) error {
	asJSON := fs.Bool("json", false, "print JSON")
	return func(c *cli) error {
		_, service, err := c.begin()
		if err != nil {
			return err
		}
		o, err := service.WhoAmI(c.ctx)
		if err != nil {
			return err
		}
		if *asJSON {
			return c.json(o)
		}
		fmt.Fprintf(c.out, "%s, with the role %s, at %s\n", o.Name, o.Role, service.URL())
		return nil
	}
}

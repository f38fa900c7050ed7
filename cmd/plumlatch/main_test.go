package main

import (
	"flag"
	"strings"
	"testing"
)

type tagList []string

func (t *tagList) String() string     { return strings.Join(*t, ",") }
func (t *tagList) Set(s string) error { *t = append(*t, s); return nil }

// TestTwice: an option that is given twice with different values is refused, and not taken by its last value in silence.
func TestTwice(t *testing.T) {
	t.Parallel()
	for args, refused := range map[string]bool{
		"-key a -key b":             true,
		"-key a --key=b":            true,
		"-key=a board -key b":       true,
		"-count 1 -count 2":         true,
		"-key a -key a":             false,
		"-key a -region b":          false,
		"-yes -yes=false":           false,
		"-key -key board":           false, // the first one's value
		"-tag a=b -tag c=d":         false,
		"-keyy a -keyy b":           false, // there is none: the package flag says so
		"-key a -- ssh -key b":      false,
		"-region a,b board -key -k": false,
	} {
		fs := flag.NewFlagSet("launch", flag.ContinueOnError)
		fs.SetOutput(new(strings.Builder))
		fs.String("key", "", "")
		fs.String("region", "", "")
		fs.Int("count", 0, "")
		fs.Bool("yes", false, "")
		fs.Var(new(tagList), "tag", "")
		err := new(cli).parse(fs, strings.Fields(args))
		if said := err != nil && strings.Contains(err.Error(), "is given twice"); said != refused {
			t.Errorf("%s: %v", args, err)
		}
	}
}

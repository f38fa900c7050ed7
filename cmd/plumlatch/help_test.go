package main

import (
	"flag"
	"strings"
	"testing"
)

// Every command stands on exactly one screen of the help, and each screen is one.
func TestStages(t *testing.T) {
	on := map[string]int{}
	for _, s := range stages {
		var b strings.Builder
		s.print(&b)
		lines := strings.Split(b.String(), "\n")
		if len(lines) > 40 {
			t.Errorf("the screen of %s has %d lines", s.name, len(lines))
		}
		for _, l := range lines {
			if len(l) > 80 {
				t.Errorf("%s: a line of %d characters: %s", s.name, len(l), l)
			}
		}
		for _, name := range s.commands {
			on[name]++
			if !strings.Contains(b.String(), "\n  "+name+" ") {
				t.Errorf("%s does not show %s", s.name, name)
			}
		}
	}
	for _, name := range program {
		on[name]++
	}
	for _, c := range commands {
		if on[c.name] != 1 {
			t.Errorf("%s stands on %d screens", c.name, on[c.name])
		}
		delete(on, c.name)
	}
	for name := range on {
		t.Errorf("the help names %s, and there is no such command", name)
	}
	var b strings.Builder
	if overview(&b); strings.Count(b.String(), "\n") > 24 {
		t.Errorf("the overview has %d lines", strings.Count(b.String(), "\n"))
	}
}

// No command has more options than a person can hold in mind, and an option of two commands
// takes the same sort of value.
func TestFewOptions(t *testing.T) {
	takes := map[string]map[string][]string{}
	for _, c := range commands {
		all := flagsOf(c)
		if len(all) > 14 {
			t.Errorf("%s has %d options", c.name, len(all))
		}
		for _, f := range all {
			value, _ := flag.UnquoteUsage(f)
			if takes[f.Name] == nil {
				takes[f.Name] = map[string][]string{}
			}
			takes[f.Name][value] = append(takes[f.Name][value], c.name)
		}
	}
	for option, values := range takes {
		switch option {
		case "agent": // the word for the resident program alone
			if _, resident := values["verbs"]; len(values) > 1 || !resident {
				t.Errorf("-agent of %v: it is -ssh-agent", values)
			}
		case "first", "grow", "at-most", "new-passphrase-file", "random-passphrase", "continue":
			t.Errorf("-%s of %v: it has another form", option, values)
		}
		if len(values) > 1 {
			t.Logf("-%s: %v", option, values)
		}
	}
}

// The sizes of waves are read in every form that the help shows, and refused in others.
func TestWavesOption(t *testing.T) {
	for _, tc := range []struct {
		text string
		want waves
		bad  bool
	}{
		{text: "1,x3,10%", want: waves{1, 3, "10%"}},
		{text: "2", want: waves{first: 2}},
		{text: "50%", want: waves{atMost: "50%"}},
		{text: "2,50%", want: waves{first: 2, atMost: "50%"}},
		{text: "1,5", want: waves{first: 1, atMost: "5"}},
		{text: "x2,7", want: waves{grow: 2, atMost: "7"}},
		{text: "1, x3, 10%", want: waves{1, 3, "10%"}},
		{text: "", bad: true},
		{text: "0", bad: true},
		{text: "x0", bad: true},
		{text: "1,x3,x4", bad: true},
		{text: "10%,1", bad: true},
		{text: "1,x3,10%,5", bad: true},
		{text: "1,x3,0%", bad: true},
		{text: "101%", bad: true},
		{text: "-1", bad: true},
	} {
		var w waves
		err := w.Set(tc.text)
		if (err != nil) != tc.bad || err == nil && w != tc.want {
			t.Errorf("%q: %+v, %v", tc.text, w, err)
		}
		if err != nil && w != (waves{}) {
			t.Errorf("%q changed it to %+v", tc.text, w)
		}
	}
}

// An address may bear its port; an IPv6 address then stands in brackets.
func TestHostPort(t *testing.T) {
	for _, tc := range []struct {
		text, host string
		port       int
	}{
		{"192.0.2.7", "192.0.2.7", 22},
		{"192.0.2.7:2222", "192.0.2.7", 2222},
		{"2001:db8::7", "2001:db8::7", 22},
		{"[2001:db8::7]", "2001:db8::7", 22},
		{"[2001:db8::7]:2222", "2001:db8::7", 2222},
		{"board.example:2222", "board.example", 2222},
		{"board.example:ssh", "", 0},
		{"board.example:0", "", 0},
		{"board.example:65536", "", 0},
		{"board.example:-1", "", 0},
	} {
		host, port, err := hostPort(tc.text, 22)
		if host != tc.host || port != tc.port || (err != nil) != (tc.host == "") {
			t.Errorf("%q: %q, %d, %v", tc.text, host, port, err)
		}
	}
}

package main

import (
	"fmt"
	"io"
	"strings"
)

// stage is a part of an engineer's work, with the commands for it: one screen of help.
type stage struct {
	name     string // the word behind "plumlatch help"
	about    string
	commands []string
}

// stages are the parts of the work, in the order in which one meets them. Every command stands in
// exactly one of them, or in program.
var stages = []stage{
	{"keys", "key pairs and who holds them", []string{"key create", "key import", "key list", "key show", "key note",
		"key set", "key rename", "key prove", "key retire", "key use-again", "key forget", "key check", "key convert",
		"key public", "key export", "holder list", "holder add", "holder set"}},
	{"launching", "instances, and what the cloud has for them", []string{"instance launch", "instance list",
		"instance show", "instance tag", "instance stop", "instance start", "instance remove", "instance forget", "instance refresh", "image list",
		"size list", "region list", "static-address list", "static-address reserve", "static-address move",
		"static-address release", "cloud-key list", "cloud-key upload", "cloud-key place", "cloud-key remove"}},
	{"getting-in", "logging in, and why one cannot", []string{"open", "stream", "streams list", "streams end", "why", "hosts write", "hosts print",
		"instance password", "instance logins", "instance user", "instance agent", "instance rules", "instance admit", "instance unadmit", "instance host-key", "instance boot-log"}},
	{"tracking", "which key opens which instance", []string{"today", "who", "opens", "access list", "access used", "survey",
		"access record", "instance adopt", "instance adopt-many", "discover", "discover adopt", "instance link",
		"instance probing"}},
	{"sharing", "letting others in, for a while or for good", []string{"access add", "access second", "access extend",
		"access remove"}},
	{"text", "keys, people and access as a text under version control", []string{"keybook check", "keybook compare", "keybook settle",
		"keybook sign", "keybook write", "keybook history", "keybook schema"}},
	{"rotating", "new keys in the place of old ones, and the work at hand", []string{"rotate", "rotate many",
		"rotate exposed", "key exposed", "holder left", "instance steward-key", "work list", "work show", "work follow",
		"work here", "work pause", "work go-on", "work cancel", "work retry", "work word"}},
	{"getting-back", "access to instances whose private keys are lost", []string{"key lost", "key found", "restore",
		"restore copy", "restore unlock", "restore rehearse", "restore many", "restore fetch", "restore ready", "restore grant", "instance rescue", "instance check",
		"work report"}},
	{"running", "the service: signing in, operators, policy, journal", []string{"sign-in", "sign-out", "console",
		"whoami", "operator list", "operator add", "operator role", "operator key", "operator disable",
		"operator enable", "token list", "token create", "token revoke", "policy show", "policy check", "policy set",
		"journal list", "journal verify", "journal export"}},
}

// program are the commands about the program itself.
var program = []string{"version", "completion", "manual"}

func stageOf(name string) *stage {
	for i := range stages {
		if stages[i].name == name {
			return &stages[i]
		}
	}
	return nil
}

// overview is the first screen: the stages, and with which commands each begins.
func overview(w io.Writer) {
	fmt.Fprint(w, "plumlatch: which key opens which instance, how that is known, and the way in.\n\n")
	for _, s := range stages {
		first := s.commands[:min(4, len(s.commands))]
		more := ""
		if n := len(s.commands) - len(first); n > 0 {
			more = fmt.Sprintf(", and %d more", n)
		}
		fmt.Fprintf(w, "  help %-13s %s\n  %18s %s%s\n", s.name, s.about, "", strings.Join(first, ", "), more)
	}
	fmt.Fprintf(w, `
"plumlatch help COMMAND" shows its options and an example; of this program: %s.
PLUMLATCH_URL and PLUMLATCH_TOKEN name the service, or sign-in does. Exit status:
0 done, 1 failed, 2 used wrongly, 3 it worked and the answer needs a hand.
`, strings.Join(program, ", "))
}

// print shows the stage: its commands, each with one sentence.
func (s *stage) print(w io.Writer) {
	fmt.Fprintf(w, "plumlatch, %s: %s.\n\n", s.name, s.about)
	for _, name := range s.commands {
		for _, c := range commands {
			if c.name == name {
				about, _, _ := strings.Cut(c.about, "\n")
				for n, line := range wrapped(about, 55) {
					if n > 0 {
						name = ""
					}
					fmt.Fprintf(w, "  %-22s %s\n", name, line)
				}
			}
		}
	}
	fmt.Fprint(w, "\n\"plumlatch help COMMAND\" shows its options and an example.\n")
}

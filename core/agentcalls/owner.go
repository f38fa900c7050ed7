package agentcalls

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
)

// Text is the file as it is written: where the service is, what the agent may do, whom it never touches, and who may sign. The error names the word
// that is wrong.
func (f OwnerFile) Text() (string, error) {
	owner, err := f.Read()
	if err != nil {
		return "", err
	}
	var out strings.Builder
	fmt.Fprintf(&out, "# What the agent of Plum Latch may do on this machine (docs/agent.md). No verb of the agent changes this file.\nservice: %s\n", f.Service)
	fmt.Fprintf(&out, "verbs: [%s]\n", strings.Join(f.Verbs, ", "))
	if len(f.Never) > 0 {
		fmt.Fprintf(&out, "never: [%s]\n", strings.Join(f.Never, ", "))
	}
	fmt.Fprintf(&out, "trust: %s\n", cmp.Or(f.Trust, string(ByOperators)))
	if slices.ContainsFunc(owner.Verbs, Verb.Changes) && owner.Trust == ByOperators {
		out.WriteString("operators:\n")
		for _, l := range f.Operators {
			fmt.Fprintf(&out, "  - %q\n", l)
		}
	}
	if f.Release != "" {
		fmt.Fprintf(&out, "release: %q # whose programs it takes; \"upgrades: off\" has it take none\n", f.Release)
	}
	if f.Upgrades != "" {
		fmt.Fprintf(&out, "upgrades: %q\n", f.Upgrades)
	}
	return out.String(), nil
}

package main

import (
	"testing"

	"plumlatch/core/wire"
)

// TestCharged: what a cloud without a price list asks is not known, and is no 0.
func TestCharged(t *testing.T) {
	for want, all := range map[string][]wire.Charge{
		"nothing":                       nil,
		"not known":                     {{What: "a rescue instance"}, {What: "a volume", Amount: 1, Currency: "harbour pence"}},
		"2 harbour pence + 1.5 h pence": {{Amount: 2, Currency: "harbour pence"}, {Amount: 1.5, Currency: "h pence"}},
	} {
		if got := charged(all); got != want {
			t.Errorf("%v is %q, want %q", all, got, want)
		}
	}
}

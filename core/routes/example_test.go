package routes_test

import (
	"fmt"
	"time"

	"plumlatch/core/routes"
)

// The only person's key is lost. Every way back says whether it is open, and what it lacks.
func ExampleCompare() {
	now := time.Now()
	offers := routes.Compare(routes.Facts{
		Instance: "ticket-gate-1", LoginUser: "debian", State: "running", InCloud: true, Now: now, Measured: true,
		Keys:    []routes.Key{{Name: "purser", Person: true, State: "lost", Accepted: true, At: now}},
		Steward: &routes.Key{Accepted: true, At: now},
		Volumes: true, RootVolume: "vol-1", RescueImage: "rescue",
	})
	for _, o := range offers {
		fmt.Println(o.Route, o.Open, o.Down > 0, len(o.Lacking))
	}
	// Output:
	// steward true false 0
	// disk true true 0
	// already-open false false 1
	// second-key false false 1
	// cloud-agent false false 1
	// lent-key false false 1
	// agent false false 1
	// boot-text false true 1
	// copy false false 1
}

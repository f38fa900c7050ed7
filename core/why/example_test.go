package why_test

import (
	"fmt"

	"plumlatch/core/why"
)

// The instance is stopped: that stands in the way before anything else does.
func ExampleJudge() {
	r := why.Judge(why.Facts{Instance: "ticket-gate-1", User: "debian", Recorded: "debian",
		State: "stopped", CloudAsked: true, CloudState: "stopped"})
	fmt.Println(r.First.Code)
	fmt.Println(r.First.Sentence)
	fmt.Println(r.First.Next)
	// Output:
	// instance_stopped
	// The instance is stopped.
	// plumlatch instance start ticket-gate-1
}

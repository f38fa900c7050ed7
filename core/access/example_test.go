package access_test

import (
	"fmt"
	"time"

	"plumlatch/core/access"
)

// A policy says how old an access may become, and the like. What it leaves out keeps its default.
func ExampleReadPolicy() {
	p, err := access.ReadPolicy("rotation:\n  age: 180d\n")
	fmt.Println(time.Duration(p.Rotation.Age), err)
	_, err = access.ReadPolicy("rotation:\n  aeg: 180d\n")
	fmt.Println(err)
	// Output:
	// 4320h0m0s <nil>
	// line 2: a policy has no word "aeg" there
}

// A key was exposed. Where somebody else gets in, its door can be shut at once; where nobody
// does, another way in comes first.
func ExampleFollows() {
	exposed := access.DoorKey{Key: "purser", Fingerprint: "SHA256:a", Recorded: true, HolderSort: "person",
		Standing: access.Accepted}
	other := access.DoorKey{Key: "mate", Fingerprint: "SHA256:b", Recorded: true, HolderSort: "person",
		Standing: access.Accepted}
	doors := []access.Door{
		{Name: "ticket-gate-1", Running: true, Keys: []access.DoorKey{exposed, other}},
		{Name: "ticket-gate-2", Running: true, Keys: []access.DoorKey{exposed}},
	}
	others, none := access.Follows(doors, "SHA256:a")
	fmt.Println(len(others), others[0].Door.Name)
	fmt.Println(len(none), none[0].Door.Name)
	// Output:
	// 1 ticket-gate-1
	// 1 ticket-gate-2
}

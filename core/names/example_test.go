package names_test

import (
	"errors"
	"fmt"

	"plumlatch/core/names"
)

func ExampleCheck() {
	fmt.Println(names.Check("harbour-ops"))
	err := names.Check("Harbour ops!")
	fmt.Println(errors.Is(err, names.ErrInvalid), names.Suggest("Harbour ops!"))
	// Output:
	// <nil>
	// true Harbour-ops
}

func ExampleNear() {
	fmt.Println(names.Near("tiket-gate-1", []string{"berth-board-1", "ticket-gate-1", "ticket-gate-2"}, 2))
	// Output:
	// [ticket-gate-1 ticket-gate-2]
}

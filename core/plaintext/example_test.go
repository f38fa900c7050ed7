package plaintext_test

import (
	"fmt"

	"plumlatch/core/plaintext"
)

// What an instance sends is shown, and moves no cursor.
func ExampleLine() {
	fmt.Println(plaintext.Line("welcome\x1b[2J\naboard"))
	// Output:
	// welcome\x1b[2J\x0aaboard
}

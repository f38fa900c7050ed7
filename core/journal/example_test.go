package journal_test

import (
	"encoding/hex"
	"fmt"

	"plumlatch/core/journal"
)

// Each link is a sum over the one before it and over an entry's exact bytes: whoever changes an
// entry changes every link after it.
func ExampleLink() {
	first := journal.Link(nil, 1, 10, []byte(`{"action":"key.import"}`))
	second := journal.Link(first, 2, 11, []byte(`{"action":"instance.launch"}`))
	forged := journal.Link(journal.Link(nil, 1, 10, []byte(`{"action":"key.rename"}`)), 2, 11,
		[]byte(`{"action":"instance.launch"}`))
	fmt.Println(hex.EncodeToString(second[:4]), hex.EncodeToString(forged[:4]))
	// Output:
	// 1aadbc85 8ec1627d
}

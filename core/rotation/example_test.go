package rotation_test

import (
	"errors"
	"fmt"
	"time"

	"plumlatch/core/authkeys"
	"plumlatch/core/rotation"
)

// Whether a key may be taken out depends on what is left: another key of a person, taken by the
// server since the last write, whose private half was shown.
func ExampleJudge() {
	const (
		purserLine = "ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIAABAgMEBQYHCAkKCwwNDg8QERITFBUWFxgZGhscHR4f purser"
		mateLine   = "ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAICAhIiMkJSYnKCkqKywtLi8wMTIzNDU2Nzg5Ojs8PT4/ mate"
	)
	key := func(line string, id int64, name string) rotation.Opener {
		return rotation.Opener{ID: id, Key: name, Blob: authkeys.Parse([]byte(line), time.UTC)[0].Blob,
			Mark: rotation.Mark{Holder: "person"}, There: true, Accepted: true}
	}
	purser, mate := key(purserLine, 1, "purser"), key(mateLine, 2, "mate")
	now := time.Now()
	q := rotation.Question{
		Instance: 7, LoginUser: "debian", Session: rotation.Session{Proven: true},
		Taken:   []rotation.Taking{{ID: purser.ID, Blob: purser.Blob, Was: purser.Mark}},
		Openers: []rotation.Opener{purser, mate},
		Files:   map[string][]byte{".ssh/authorized_keys": []byte(purserLine + "\n" + mateLine + "\n")},
		Until:   now.Add(30 * time.Second), ShownSince: now.Add(-24 * time.Hour),
		Confirm: func(rotation.Context) error { return nil },
	}
	_, err := rotation.Judge(q)
	fmt.Println(errors.Is(err, rotation.ErrLockOut)) // nobody has shown mate's private half

	q.Openers[1].Shown = now
	_, err = rotation.Judge(q)
	fmt.Println(err)
	// Output:
	// true
	// <nil>
}

func ExampleWaves() {
	waves, err := rotation.Waves(200, rotation.Pace{First: 1, Grow: 3, AtMost: rotation.Share{Percent: 25}})
	fmt.Println(waves, err)
	// Output:
	// [1 3 9 27 50 50 50 10] <nil>
}

package fleet

import (
	"time"

	"plumlatch/core/wire"
)

// What a piece of work was asked for is kept in its row for as long as it is at hand, over
// upgrades of the service. So these are types of our own: a document of the API may change,
// and the conversion to it then fails to compile until somebody says what becomes of rows
// that were kept before.

// askedFleet is what a rotation of many was asked for: wire.Fleet.
type askedFleet struct {
	Key          string            `json:"key,omitempty"`
	Tag          string            `json:"tag,omitempty"`
	Due          bool              `json:"due,omitempty"`
	New          string            `json:"new,omitempty"`
	Pairs        map[string]string `json:"pairs,omitempty"`
	GraceSeconds *int64            `json:"grace_seconds,omitempty"`
	First        int               `json:"first,omitempty"`
	Grow         int               `json:"grow,omitempty"`
	AtMost       string            `json:"at_most,omitempty"`
	StopAfter    int               `json:"stop_after,omitempty"`
	BackSeconds  int64             `json:"back_seconds,omitempty"`
	Exposed      bool              `json:"exposed,omitempty"`
	Contain      []string          `json:"contain,omitempty"`
}

// askedMany is what a change of access on many instances was asked for: wire.AccessMany.
type askedMany struct {
	Do          string     `json:"do"`
	Key         string     `json:"key,omitempty"`
	Holder      string     `json:"holder,omitempty"`
	Tag         string     `json:"tag,omitempty"`
	Until       *time.Time `json:"until,omitempty"`
	From        []string   `json:"from,omitempty"`
	Only        string     `json:"only,omitempty"`
	Reason      string     `json:"reason,omitempty"`
	CutOff      int        `json:"cut_off,omitempty"`
	First       int        `json:"first,omitempty"`
	Grow        int        `json:"grow,omitempty"`
	AtMost      string     `json:"at_most,omitempty"`
	StopAfter   int        `json:"stop_after,omitempty"`
	BackSeconds int64      `json:"back_seconds,omitempty"`
}

// askedRestores is what a restore of many was asked for: wire.RestoreMany.
type askedRestores struct {
	Key         string `json:"key"`
	New         string `json:"new"`
	Tag         string `json:"tag,omitempty"`
	First       int    `json:"first,omitempty"`
	Grow        int    `json:"grow,omitempty"`
	AtMost      string `json:"at_most,omitempty"`
	StopAfter   int    `json:"stop_after,omitempty"`
	BackSeconds int64  `json:"back_seconds,omitempty"`
}

func keptMany(r wire.AccessMany) *askedMany {
	a := askedMany(r)
	return &a
}

func keptRestores(r wire.RestoreMany) *askedRestores {
	a := askedRestores(r)
	return &a
}

package rotation

import (
	"errors"
	"fmt"
	"math"
	"strconv"
	"strings"
)

// Pace is how waves grow.
type Pace struct {
	First  int   // size of the first wave; 1 if 0
	Grow   int   // how many times as large the next one is; 3 if 0
	AtMost Share // of all, in one wave; a tenth if zero
}

// Share is a number, or a part of the whole: "25" or "10%".
type Share struct {
	N       int
	Percent float64
}

// ErrShare says that a text is neither a number nor a part.
var ErrShare = errors.New("give a number from 1, or a part such as 10%")

// ParseShare reads "25" or "10%".
func ParseShare(text string) (Share, error) {
	if part, ok := strings.CutSuffix(text, "%"); ok {
		p, err := strconv.ParseFloat(part, 64)
		if err != nil || !(p > 0 && p <= 100) {
			return Share{}, ErrShare
		}
		return Share{Percent: p}, nil
	}
	n, err := strconv.Atoi(text)
	if err != nil || n < 1 {
		return Share{}, ErrShare
	}
	return Share{N: n}, nil
}

// Of is the share of n things: at least 1.
func (s Share) Of(n int) int {
	switch {
	case s.N > 0:
		return s.N
	case s.Percent > 0:
		return max(1, int(math.Floor(float64(n)*s.Percent/100)))
	}
	return max(1, n/10)
}

// String writes the share as ParseShare reads it.
func (s Share) String() string {
	if s.N > 0 {
		return strconv.Itoa(s.N)
	}
	if s.Percent > 0 {
		return strconv.FormatFloat(s.Percent, 'f', -1, 64) + "%"
	}
	return "10%"
}

// Waves returns the sizes of the waves in which n instances follow one another:
// they add up to n, and none is larger than the share allows.
func Waves(n int, p Pace) ([]int, error) {
	if p.First == 0 {
		p.First = 1
	}
	if p.Grow == 0 {
		p.Grow = 3
	}
	if p.First < 1 || p.Grow < 1 {
		return nil, fmt.Errorf("a first wave of %d that grows %d times is none: both are at least 1", p.First, p.Grow)
	}
	most := p.AtMost.Of(n)
	var out []int
	for size := p.First; n > 0; {
		now := min(size, most, n)
		out, n = append(out, now), n-now
		if size < most {
			size = min(size*p.Grow, most)
		}
	}
	return out, nil
}

package names

import (
	"slices"
	"strings"
)

// Near returns at most n of the names that are near a wrong one, the nearest
// first: those that hold it or begin alike, and those a few letters away.
func Near(wrong string, all []string, n int) []string {
	type scored struct {
		name string
		far  int
	}
	wrong = Fold(wrong)
	if wrong == "" || len(wrong) > 100 {
		return nil
	}
	var found []scored
	for _, name := range all {
		fold := Fold(name)
		far := distance(wrong, fold)
		if strings.Contains(fold, wrong) || strings.HasPrefix(wrong, fold) {
			far = min(far, 1)
		}
		if far <= max(1, len(wrong)/4) {
			found = append(found, scored{name, far})
		}
	}
	slices.SortStableFunc(found, func(a, b scored) int { return a.far - b.far })
	var out []string
	for _, f := range found[:min(n, len(found))] {
		out = append(out, f.name)
	}
	return out
}

// distance is how many letters must be put in, taken out or changed.
func distance(a, b string) int {
	row := make([]int, len(b)+1)
	for j := range row {
		row[j] = j
	}
	for i := range len(a) {
		last := row[0]
		row[0] = i + 1
		for j := range len(b) {
			cost := last
			if a[i] != b[j] {
				cost++
			}
			last = row[j+1]
			row[j+1] = min(cost, last+1, row[j]+1)
		}
	}
	return row[len(b)]
}

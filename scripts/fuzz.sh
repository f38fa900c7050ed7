#!/bin/sh
# Runs every fuzz target for a while (fuzz.sh 60s), and keeps in testdata/fuzz
# the inputs that it found to reach new code, at most 40 of each target, so that
# the tests run them from then on.
set -eu
cache=$(go env GOCACHE)/fuzz/$(go list -m)
grep -rlE --include='*_test.go' 'func Fuzz[A-Za-z]+' core service standin | while read -r file; do
	dir=$(dirname "$file")
	for target in $(grep -oE 'func Fuzz[A-Za-z]+' "$file" | sed 's/func //'); do
		echo "$dir $target"
		go test -run '^$' -fuzz "^$target\$" -fuzztime "$1" "./$dir"
		mkdir -p "$dir/testdata/fuzz/$target"
		[ -d "$cache/$dir/$target" ] || continue
		# The smallest ones: they say the most by the byte.
		ls -S -r "$cache/$dir/$target" | head -40 | while read -r input; do
			cp -n "$cache/$dir/$target/$input" "$dir/testdata/fuzz/$target/"
		done
	done
done

#!/usr/bin/env bash
# Runs every test, and tells how much of the code they go through: in the tests' own processes
# and in the programs that they start. What no test reaches is listed at the end. A program that
# a test kills writes nothing down, so the figures are a little low.
set -euo pipefail
cd "$(dirname "$0")/.."
out=$PWD/bin/cover
rm -rf "$out"
mkdir -p "$out/units" "$out/whole" "$out/programs"
units=$(go list ./... | grep -v '/e2e$')
# shellcheck disable=SC2086
go test -count=1 -parallel 4 -timeout 18m -cover -coverpkg=./... $units -args -test.gocoverdir="$out/units" | grep -v 'no test files' | sed 's/coverage:.*//'
PLUMLATCH_COVER="$out/programs" go test -count=1 -parallel 4 -timeout 40m -cover -coverpkg=./... ./e2e -args -test.gocoverdir="$out/whole" "$@" | sed 's/coverage:.*//'
go tool covdata textfmt -i="$out/units,$out/whole,$out/programs" -o="$out/all.txt"
grep -v -e '/e2e/' -e '/tools/' -e '/cmd/plumlatch-wasm/' "$out/all.txt" > "$out/ours.txt"
go tool cover -func="$out/ours.txt" > "$out/functions.txt"
echo
echo "Statements that the tests go through, by package:"
go tool covdata percent -i="$out/units,$out/whole,$out/programs" | grep -v -e '/e2e' -e '/tools/' -e 'plumlatch-wasm' | sed 's/ of statements//' | awk '{printf "  %-42s %s\n", $1, $3}'
echo
echo "Functions that no test reaches:"
awk '$NF == "0.0%" {print "  " $1 " " $2}' "$out/functions.txt"
echo
tail -1 "$out/functions.txt"
echo "Line by line: go tool cover -html=bin/cover/ours.txt"

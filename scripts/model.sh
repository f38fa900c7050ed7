#!/bin/sh
# Checks the model of the rotation (docs/model/rotation.pml) with spin: no write
# of ours takes the last way in, and the work always ends. Then it takes guards
# out of the model, one by one, and fails unless spin finds what that breaks.
set -eu
model=$PWD/docs/model/rotation.pml
dir=$(mktemp -d)
trap 'rm -rf "$dir"' EXIT
cd "$dir"

# check FILE FLAGS RUN-FLAGS: prints how many errors and states
check() {
	spin -a "$1" >spin.out 2>&1 || { cat spin.out; exit 1; }
	cc -O2 $2 -o pan pan.c
	./pan $3 -m1000000 -w24 >pan.out 2>&1
	if grep -q 'max search depth too small\|out of memory\|not completed' pan.out && ! grep -q 'errors: [1-9]' pan.out; then
		cat pan.out
		exit 1
	fi
	sed -n 's/.*errors: \([0-9]*\)$/\1/p' pan.out
}

for property in 'safety:-DSAFETY -DNOCLAIM:' 'always ends:-DNFAIR=3:-a -f'; do
	name=${property%%:*} rest=${property#*:}
	errors=$(check "$model" "${rest%%:*}" "${rest#*:}")
	states=$(sed -n 's/^ *\([0-9.e+]*\) states, stored.*/\1/p' pan.out)
	echo "$name: $errors errors, $states states"
	[ "$errors" = 0 ] || { cat pan.out; exit 1; }
done

broken() {
	sed "$2" "$model" >broken.pml
	if cmp -s "$model" broken.pml; then
		echo "no such guard: $1"
		exit 1
	fi
	errors=$(check broken.pml '-DSAFETY -DNOCLAIM' '')
	echo "without $1: $errors errors"
	[ "$errors" != 0 ]
}
broken "a private half that was shown" 's/&& fresh && shown && old == FREE/\&\& fresh \&\& old == FREE/; s/:: shown -> MOVE(NARROW)/:: true -> MOVE(NARROW)/'
broken "a look at the new line before the old one is narrowed" 's/&& fresh && shown && old == FREE/\&\& old == FREE/'
broken "a look at the new line before the old one goes" 's/&& fresh && shown && old != GONE/\&\& shown \&\& old != GONE/'
broken "a look at the old line before the new one is taken back" 's/claim == _pid && old == FREE -> fresh = false/claim == _pid -> fresh = false/'
broken "the old line's return before the new one goes" 's/:: touched && old != FREE -> WRITE(old = FREE)/:: touched \&\& old != FREE -> skip/; s/claim == _pid \&\& old == FREE -> fresh = false/claim == _pid -> fresh = false/'

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
# Each is one guard; the sed takes it out.
broken "a private half that was shown, and not a word" 's/#define SHOWN  .*/#define SHOWN (new_shown || word)/'
broken "the guard before the old key is narrowed or taken" 's/#define TAKE_OLD  .*/#define TAKE_OLD true/'
broken "what the old key was when the work began" 's/#define GUARDED_OLD .*/#define GUARDED_OLD (false)/'
broken "the identity of the old key: by its name alone" 's/#define GUARDED_OLD .*/#define GUARDED_OLD (old_named \&\& (old_counts || old_was))/'
broken "the guard before the new line is taken back" 's/#define TAKE_NEW .*/#define TAKE_NEW (old == FREE)/'
broken "whether the old key counts, on the way back" 's/#define OTHER_OLD .*/#define OTHER_OLD (old == FREE \&\& old_shown)/'
broken "whether the old key was shown, on the way back" 's/#define OTHER_OLD .*/#define OTHER_OLD (old == FREE \&\& old_counts)/'
broken "whether the new key counts" 's/#define OTHER_NEW .*/#define OTHER_NEW (fresh \&\& SHOWN)/'
broken "whether the third key counts" 's/#define OTHER_THIRD .*/#define OTHER_THIRD (third)/'
broken "the guard of the second change" 's/#define TAKE_THIRD .*/#define TAKE_THIRD true/'
broken "marks that wait for a permit" 's/#define MARKS_WAIT .*/#define MARKS_WAIT (true)/'
broken "the file as it was judged, right before it is replaced" 's/#define SAME_FILE .*/#define SAME_FILE (true)/; s/claim == _pid \&\& fresh \&\& old == FREE, old = ENDED/claim == _pid, old = ENDED/; s/claim == _pid \&\& fresh \&\& old != GONE, old = GONE/claim == _pid, old = GONE/'
broken "one change at a time on an instance" 's/:: holding == 0 \&\& third ->/:: third ->/; s/if :: holding == 0 -> holding = 2 :: else -> goto done fi/holding = 2/; s/&& (holding == 1 || holding == 0)//; s/permit == 0 \&\& (may)/(may)/; s/CONFIRM(who) (permit == who)/CONFIRM(who) (true)/'

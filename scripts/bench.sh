#!/bin/sh
# Runs every benchmark, and writes the figures of a run that passed whole into
# docs/performance.md, with the date and the machine.
set -eu
out=$(mktemp)
trap 'rm -f "$out" "$out.rc"' EXIT
began=$(date -u '+%Y-%m-%d %H:%M')
{
	go test -run '^$' -bench . -benchtime 3x -timeout 60m ./... && echo 0 >"$out.rc" || echo 1 >"$out.rc"
} | grep -v 'no test files' | tee "$out"
[ "$(cat "$out.rc")" = 0 ] || exit 1
cpu=$(sed -n 's/^model name[^:]*: //p' /proc/cpuinfo | head -1)
memory=$(awk '/^MemTotal/ { printf "%d GiB", $2 / 1048576 + 0.5 }' /proc/meminfo)
system=$(. /etc/os-release && echo "$PRETTY_NAME")
{
	cat <<END
# Performance

Written by \`make bench\`, from a run that passed whole. Ratios compare two things
that were measured in turn in this run; they mean the same on another machine. Times
do not.

- begun: $began UTC
- machine: $(nproc) cores, ${cpu:-$(uname -m)}, $memory
- with: $system, $(go env GOVERSION), PostgreSQL $(ls /usr/lib/postgresql | sort -n | tail -1)

| benchmark | figures |
|---|---|
END
	# Benchmark<name>-<cores> <times> {<figure> <unit>}...
	awk '/^Benchmark/ && NF >= 4 {
		name = $1
		sub(/-[0-9]+$/, "", name)
		text = ""
		for (n = 3; n < NF; n += 2)
			if ($(n + 1) != "ns/op" || $n != 0)
				text = text (text == "" ? "" : ", ") $n " " $(n + 1)
		print "| " name " | " text " |"
	}' "$out"
} >docs/performance.md

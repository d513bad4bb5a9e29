#!/usr/bin/env bash
# Runs every fuzz test for so many executions, by default a million, and keeps
# what it finds of use beside the tests: scripts/fuzz.sh [EXECUTIONS] [NAME…]
set -euo pipefail
cd "$(dirname "$0")/.."
count=${1:-1000000}
shift || true
most=24 # inputs kept of each test, the smallest first
grep -rl --include='*_test.go' '^func Fuzz' internal | sort | while read -r file; do
	dir=$(dirname "$file")
	sed -n 's/^func \(Fuzz[A-Za-z0-9]*\)(.*/\1/p' "$file" | while read -r name; do
		if [ $# -gt 0 ] && ! printf '%s\n' "$@" | grep -qx "$name"; then continue; fi
		echo "$dir $name"
		${GO:-go} test -run '^$' -fuzz "^$name\$" -fuzzminimizetime 10x -fuzztime "${count}x" "./$dir" | tail -n 2
		cache=$(${GO:-go} env GOCACHE)/fuzz/nexlin/$dir/$name
		[ -d "$cache" ] || continue
		mkdir -p "$dir/testdata/fuzz/$name"
		ls -Sr "$cache" | head -n $most | while read -r f; do cp -n "$cache/$f" "$dir/testdata/fuzz/$name/"; done
	done
done

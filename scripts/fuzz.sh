#!/bin/sh
# Run every fuzz target for a while: scripts/fuzz.sh 20s
set -eu
grep -rl '^func Fuzz' --include='*_test.go' . | while read -r f; do
	for target in $(sed -n 's/^func \(Fuzz[A-Za-z]*\).*/\1/p' "$f"); do
		echo "$(dirname "$f") $target"
		go test -run '^$' -fuzz "^$target\$" -fuzztime "$1" -fuzzminimizetime 2s "$(dirname "$f")"
	done
done

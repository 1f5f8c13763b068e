#!/bin/sh
# Draw N of the texts that the program prints, at random with a fixed seed, for reading by the rules
# of its language: literals.sh [N] [SEED].
set -eu
git ls-files 'internal/*.go' | grep -v _test.go | xargs grep -hoE '"([^"\\]|\\.){24,}"' |
	grep ' ' | grep -vE 'json:"|openbastion/|\\d|\[\^|\(\?|%[a-z]+ %[a-z]+"$' | sort -u |
	shuf -n "${1:-120}" --random-source="$(printf '%s' "${2:-1}" >/tmp/seed.$$; yes "${2:-1}" | head -c 1000000 >/tmp/seed.$$; echo /tmp/seed.$$)"
rm -f /tmp/seed.$$

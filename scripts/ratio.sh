#!/bin/sh
# How much of the code is tests.
set -eu
code=$(git ls-files -z '*.go' ':!*_test.go' | xargs -0 cat | wc -l)
test=$(git ls-files -z '*_test.go' '*.txtar' | xargs -0 cat | wc -l)
echo "code $code lines, tests $test lines: $((100 * test / (code + test))) % tests"

#!/bin/sh
# Look the dependencies up in the database of known vulnerabilities; say so when
# it cannot be reached. A vulnerability that the program calls fails.
set -u
out=$(${GO:-go} tool govulncheck ./... 2>&1)
status=$?
case $out in
*"fetching vulnerabilities"*)
	echo "skipped: the database of known vulnerabilities cannot be reached"
	exit 0 ;;
esac
[ $status = 0 ] || echo "$out"
exit $status

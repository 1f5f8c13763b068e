#!/bin/sh
# What large labs take, in seconds of processor time and MiB of memory, and how both grow from a lab of
# a tenth of the size: bench/growth.sh [PROGRAM]. PROGRAM is another build to put beside this one, in the
# same run. Each command ends after two minutes.
set -eu
work=$(mktemp -d)
trap 'rm -rf "$work"' EXIT
CGO_ENABLED=0 go build -trimpath -ldflags '-s -w' -o "$work/bastion" ./cmd/bastion
other=${1:-}

# wide GUESTS SEGMENTS writes a lab of many guests.
wide() {
	awk -v n="$1" -v k="$2" 'BEGIN {
		print "bastion: 1\nlab: wide\nspace: 10.0.0.0/8\nsegments:"
		print "  road: {reach: upstream, subnet: 172.20.0.0/16, gateway: 172.20.0.1}"
		for (s = 0; s < k; s++) printf "  s%d: {reach: isolated, hosts: %d}\n", s, n / k + 20
		print "appliances:\n  gate:\n    ports:\n      - {role: wan, segment: road}"
		for (s = 0; s < k; s++) printf "      - {role: lan, name: p%d, segment: s%d}\n", s, s
		print "guests:"
		for (i = 0; i < n; i++) printf "  g%d: s%d\n", i, i % k
	}' >"$work/wide-$1-$2.yaml"
}

# ruled RULES writes a lab of four segments with many rules, of which some are of whole segments.
ruled() {
	awk -v n="$1" 'BEGIN {
		srand(1)
		print "bastion: 1\nlab: ruled\nspace: 10.0.0.0/8\nsegments:"
		print "  road: {reach: upstream, subnet: 172.20.0.0/16, gateway: 172.20.0.1}"
		for (s = 0; s < 4; s++) printf "  s%d: {reach: isolated, subnet: 10.%d.0.0/16}\n", s, s
		print "appliances:\n  gate:\n    ports:\n      - {role: wan, segment: road}"
		for (s = 0; s < 4; s++) printf "      - {role: lan, name: p%d, segment: s%d}\n", s, s
		print "    rules:"
		for (i = 0; i < n; i++) {
			a = int(rand() * 4); b = (a + 1 + int(rand() * 3)) % 4
			from = rand() < 0.1 ? "s" a : "10." a "." int(rand() * 256) "." int(rand() * 254) + 1
			to = rand() < 0.1 ? "s" b : "10." b "." int(rand() * 256) "." int(rand() * 254) + 1
			printf "      - %s tcp/%d from %s to %s\n", rand() < 0.7 ? "allow" : "deny", rand() * 65000 + 1, from, to
		}
		print "guests:"
		for (s = 0; s < 4; s++) printf "  g%d: s%d\n", s, s
	}' >"$work/ruled-$1.yaml"
}

# took PROGRAM ARGUMENTS prints seconds and KiB.
took() {
	rm -rf "$work/out"
	status=0
	/usr/bin/time -f '%U %S %M' -o "$work/time" timeout 120 "$@" >/dev/null 2>"$work/said" || status=$?
	if [ $status -ge 124 ]; then
		echo '- -'
	else
		tail -1 "$work/time" | awk '{ printf "%.2f %d\n", $1 + $2, $3 / 1024 }'
	fi
}

# row WHAT SMALL LARGE COMMAND, in which @ stands for the lab.
row() {
	what=$1 small=$2 large=$3
	shift 3
	measure() { took "$1" $(echo "$3" | sed "s#@#$work/$2.yaml#; s#OUT#$work/out#; s#KEY#$work/key#"); }
	few=$(measure "$work/bastion" "$small" "$*")
	many=$(measure "$work/bastion" "$large" "$*")
	before='- -'
	[ -z "$other" ] || before=$(measure "$other" "$large" "$*")
	echo "$few $many $before" | awk -v what="$what" '{
		grown = $1 > 0.005 && $3 != "-" ? sprintf("%.0f times", $3 / $1) : "-"
		less = $5 != "-" && $3 != "-" && $3 > 0 ? sprintf("%.1f times", $5 / $3) : "-"
		printf "%-52s %8s %8s %6s %10s %8s %10s\n", what, $1, $3, $4, grown, $5, less
	}' | sed 's/  *$//'
}

wide 1000 1; wide 10000 1; wide 1000 200; wide 10000 200; wide 100 100; wide 1000 1000; wide 100 20; wide 1000 20
wide 50 50; wide 500 500; wide 100 1
ruled 1000; ruled 10000; ruled 100000
printf '%-52s %8s %8s %6s %10s %8s %10s\n' '' 'a tenth' 's' 'MiB' 'grown' 'other s' 'other/this'
row 'rehearse, 10,000 guests on one segment' wide-1000-1 wide-10000-1 rehearse -q @
row 'rehearse, 10,000 guests in 200 segments' wide-1000-200 wide-10000-200 rehearse -q @
row 'rehearse, 1,000 guests in 1,000 segments' wide-100-100 wide-1000-1000 rehearse -q @
row 'check, 10,000 rules' ruled-1000 ruled-10000 check -q @
row 'prove, 10,000 rules' ruled-1000 ruled-10000 prove -q @
row 'check, 100,000 rules' ruled-10000 ruled-100000 check -q @
row 'prove, 100,000 rules' ruled-10000 ruled-100000 prove -q @
row 'prove --any-one-fault, 1,000 guests in 20 segments' wide-100-20 wide-1000-20 prove --any-one-fault @
row 'diagnose, 1,000 guests on one segment' wide-100-1 wide-1000-1 diagnose @ --seen g5.dhcp=none
row 'diagnose --table, 1,000 guests in 20 segments' wide-100-20 wide-1000-20 diagnose --table @
row 'prove --matrix, 500 benches' wide-50-50 wide-500-500 prove --matrix @
row 'drill for a class of 500' wide-50-50 wide-50-50 drill --for-class 500 --key KEY --to OUT @
row 'export seed, 10,000 guests' wide-1000-1 wide-10000-1 export --kind seed --to OUT @

#!/bin/sh
# How long it takes to try every mistake at every place of a lab of 20 and of 100 guests,
# against one rehearsal of that lab with all its claims, in turn and in one run: medians and
# their ratio. Nothing is kept from one run to the next.
set -eu
runs=${1:-10}
work=$(mktemp -d)
trap 'rm -rf "$work"' EXIT
sh scripts/build.sh "$work/bastion" bench
CGO_ENABLED=0 go build -o "$work/pairs" ./bench/pairs
for guests in 20 100; do
	lab=$work/lab$guests.yaml
	{
		printf 'bastion: 1\nlab: crowd\nsegments:\n  road: {reach: upstream}\n'
		for s in reedbed boathouse tidepool jetty; do echo "  $s: {reach: isolated}"; done
		printf 'appliances:\n  sluice:\n    ports:\n      - {role: wan, segment: road}\n'
		for s in reedbed boathouse tidepool jetty; do echo "      - {role: lan, name: $s, segment: $s}"; done
		echo 'guests:'
		i=0
		while [ $i -lt $guests ]; do
			set -- reedbed boathouse tidepool jetty
			shift $((i % 4))
			echo "  g$i: $1"
			i=$((i + 1))
		done
	} > "$lab"
	printf '%3s guests, every mistake against one rehearsal: ' $guests
	"$work/pairs" "$runs" "env -u HOME -u XDG_CACHE_HOME $work/bastion diagnose $lab --table" "$work/bastion rehearse $lab" | tr '\n' ' '
	echo
done

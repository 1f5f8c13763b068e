#!/bin/sh
# How long `bastion version` takes to start, against an empty program with the
# same command library, in turn and in one run. Prints medians and their ratio.
set -eu
runs=${1:-200}
work=$(mktemp -d)
trap 'rm -rf "$work"' EXIT
CGO_ENABLED=0 go build -trimpath -ldflags '-s -w' -o "$work/empty" ./bench/empty
CGO_ENABLED=0 go build -trimpath -ldflags '-s -w' -o "$work/bastion" ./cmd/bastion
CGO_ENABLED=0 go build -o "$work/pairs" ./bench/pairs
"$work/pairs" "$runs" "$work/bastion version" "$work/empty version"

#!/bin/sh
# Build the program: build.sh OUT VERSION. It is carried into guests on discs and put on every
# host of a class, so that it stays below 25 MiB for every system.
set -eu
out=$1 version=$2
CGO_ENABLED=0 ${GO:-go} build -trimpath -tags nethttpomithttp2 \
	-ldflags "-s -w -X openbastion/internal/cli.Version=$version" -o "$out" ./cmd/bastion
size=$(wc -c < "$out")
[ "$size" -lt 26214400 ] || { echo "$out has $size bytes, which is more than 25 MiB" >&2; exit 1; }

#!/bin/sh
# Build the program: build.sh OUT VERSION. It is carried into guests on discs, so that it stays
# below 20 MiB for every system: what is not asked to be fast is not inlined, and the live page
# and the witness speak HTTP/1.1 only.
set -eu
out=$1 version=$2
cold='net/http/... crypto/... html/... encoding/... github.com/spf13/... go.yaml.in/... github.com/signintech/... github.com/phpdave11/...
	github.com/insomniacslk/... github.com/vishvananda/... github.com/google/... github.com/owenrumney/... maragu.dev/... git.sr.ht/...
	golang.org/x/text/... golang.org/x/image/... openbastion/cli openbastion/runbook openbastion/report openbastion/draw openbastion/export/...
	openbastion/image openbastion/format/... openbastion/core/check openbastion/core/listing openbastion/core/identify openbastion/core/adopt
	openbastion/core/lab openbastion/core/draft openbastion/engine/kernel/... openbastion/engine/machine/... openbastion/engine/field
	openbastion/engine/supervise openbastion/engine/remote openbastion/engine/host openbastion/live openbastion/survey'
for p in $cold; do
	set -- "$@" "-gcflags=$p=-l"
done
shift 2
CGO_ENABLED=0 ${GO:-go} build -trimpath -tags nethttpomithttp2 "$@" -ldflags "-s -w -X openbastion/cli.Version=$version" -o "$out" ./cmd/bastion
size=$(wc -c < "$out")
[ "$size" -lt 20971520 ] || { echo "$out has $size bytes, which is more than 20 MiB" >&2; exit 1; }

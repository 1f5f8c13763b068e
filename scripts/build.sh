#!/bin/sh
# Build the program: build.sh OUT VERSION. It is carried into guests on discs, so that it stays
# below 20 MiB for every system: only what must be fast is inlined, and the live page and the
# witness speak HTTP/1.1 only.
set -eu
out=$1 version=$2
hot='runtime/... internal/... sync/... unicode/utf8 strings bytes slices cmp maps iter io math/bits container/... net/netip unique
	encoding/binary hash/... compress/... github.com/klauspost/... github.com/mikelolasagasti/... github.com/pierrec/...
	github.com/gaissmai/... openbastion/core/rehearse openbastion/core/node openbastion/core/packet openbastion/core/packetset
	openbastion/core/header openbastion/core/wire openbastion/core/appliance openbastion/core/lease openbastion/core/names
	openbastion/core/mac openbastion/core/subnet openbastion/core/vxlan openbastion/core/ppp openbastion/engine/drive
	gvisor.dev/gvisor/pkg/buffer gvisor.dev/gvisor/pkg/tcpip/checksum gvisor.dev/gvisor/pkg/tcpip/header'
shift 2
set -- -gcflags=all=-l
for p in $hot; do
	set -- "$@" "-gcflags=$p="
done
CGO_ENABLED=0 ${GO:-go} build -trimpath -tags nethttpomithttp2 "$@" -ldflags "-s -w -X openbastion/cli.Version=$version" -o "$out" ./cmd/bastion
size=$(wc -c < "$out")
[ "$size" -lt 20971520 ] || { echo "$out has $size bytes, which is more than 20 MiB" >&2; exit 1; }

#!/bin/sh
# How fast images are hashed and unpacked, against the system's tools on one
# core, in turn and in one run: medians and their ratio (under 1 is faster).
# Takes an image to work on, else makes one of this machine's own programs.
set -eu
runs=${2:-5}
work=$(mktemp -d)
trap 'rm -rf "$work"' EXIT
CGO_ENABLED=0 go build -trimpath -ldflags '-s -w' -o "$work/bastion" ./cmd/bastion
CGO_ENABLED=0 go build -o "$work/pairs" ./bench/pairs
image=${1:-}
if [ -z "$image" ]; then
	image=$work/disk.img
	find /usr/bin /usr/lib /usr/share/doc -xdev -type f -size -20M -print0 | sort -z | xargs -0 cat 2>/dev/null | head -c 150000000 > "$image" || true
	head -c 50000000 /dev/zero >> "$image"
fi
gzip -c "$image" > "$work/i.gz"
bzip2 -c "$image" > "$work/i.bz2"
xz -2 -T1 -c "$image" > "$work/i.xz"
xz -2 -T2 -c "$image" > "$work/blocks.xz"
zstd -q "$image" -o "$work/i.zst"
sha256sum "$image" | sed "s,[^ ]*/,," > "$work/sums"

pair() {
	printf '%-34s ' "$1"
	"$work/pairs" "$runs" "$2" "$3" | tr '\n' ' '
	echo
}
# Both write the file and take it away again.
cat > "$work/ours" <<END
$work/bastion -q image unpack $work/\$1 --to $work/out --format json && rm $work/out
END
cat > "$work/theirs" <<END
f=\$1; shift; "\$@" $work/\$f > $work/out && rm $work/out
END
pair sha256 "$work/bastion -q image verify $image --sums $work/sums" "sha256sum $image"
pair gzip "sh $work/ours i.gz" "sh $work/theirs i.gz gzip -dc"
pair bzip2 "sh $work/ours i.bz2" "sh $work/theirs i.bz2 bzip2 -dc"
pair 'xz in one block' "sh $work/ours i.xz" "sh $work/theirs i.xz xz -T1 -dc"
pair 'xz in blocks, against one core' "sh $work/ours blocks.xz" "sh $work/theirs blocks.xz xz -T1 -dc"
pair 'xz in blocks, against two cores' "sh $work/ours blocks.xz" "sh $work/theirs blocks.xz xz -T2 -dc"
pair zstd "sh $work/ours i.zst" "sh $work/theirs i.zst zstd -dc"

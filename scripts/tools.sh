#!/bin/sh
# Install what the tests need beside Go. Without root, say what will be skipped.
set -eu
want=""
PATH=$PATH:/usr/sbin:/sbin
for pair in tshark:tshark ip:iproute2 gcc:gcc genisoimage:genisoimage xorriso:xorriso qemu-img:qemu-utils \
	zstd:zstd xz:xz-utils bzip2:bzip2 zip:zip mcopy:mtools mkfs.vfat:dosfstools sfdisk:fdisk \
	rsvg-convert:librsvg2-bin tidy:tidy pdftotext:poppler-utils \
	/usr/lib/grub-rescue/grub-rescue-cdrom.iso:grub-rescue-pc /usr/lib/ipxe/ipxe.iso:ipxe /usr/lib/memtest86+/memtest86+x64.iso:memtest86+ \
	/usr/lib/ISOLINUX/isolinux.bin:isolinux syslinux:syslinux /usr/lib/syslinux/mbr/mbr.bin:syslinux-common sgdisk:gdisk lz4:lz4 lzip:lzip \
	7z:p7zip-full cpio:cpio mksquashfs:squashfs-tools mkfs.btrfs:btrfs-progs mkfs.xfs:xfsprogs mkfs.ntfs:ntfs-3g openssl:openssl \
	dhclient:isc-dhcp-client dhcpcd:dhcpcd-base dnsmasq:dnsmasq-base nmap:nmap dnsperf:dnsperf iperf3:iperf3 \
	udhcpc:udhcpc ping:iputils-ping dig:bind9-dnsutils curl:curl nft:nftables xmllint:libxml2-utils dot:graphviz netplan:netplan.io named-checkzone:bind9-utils \
	qemu-system-x86_64:qemu-system-x86 depmod:kmod ssh:openssh-client python3:python3-minimal shellcheck:shellcheck /usr/share/libvirt/schemas/domain.rng:libvirt0 libvirtd:libvirt-daemon virsh:libvirt-clients \
	"/usr/lib/$(uname -m)-linux-gnu/libvirt/connection-driver/libvirt_driver_qemu.so:libvirt-daemon-driver-qemu"; do
	command -v "${pair%%:*}" >/dev/null 2>&1 || [ -e "${pair%%:*}" ] || want="$want ${pair##*:}"
done
# The kernel of reference machines, and parts of a router: packages that are looked into, and
# not installed.
kernel() {
	folder=${XDG_CACHE_HOME:-$HOME/.cache}/openbastion
	command -v apt-get >/dev/null 2>&1 || return 0
	mkdir -p "$folder"
	kernel=$(apt-cache depends linux-image-cloud-amd64 2>/dev/null | sed -n 's/.*Depends: //p' | head -n 1)
	for name in "${kernel:-linux-image-cloud-amd64}" busybox-static isc-dhcp-server; do
		ls "$folder/$name"_*.deb >/dev/null 2>&1 || (cd "$folder" && apt-get download -q "$name" >/dev/null 2>&1) ||
			echo "the package $name could not be fetched; tests of virtual machines that need it are skipped"
	done
}
[ -n "$want" ] || { kernel; exit 0; }
if [ "$(id -u)" = 0 ] && command -v apt-get >/dev/null 2>&1; then
	echo "installing:$want"
	export DEBIAN_FRONTEND=noninteractive
	{ apt-get -o DPkg::Lock::Timeout=600 update -q && apt-get -o DPkg::Lock::Timeout=600 install -q -y --no-install-recommends $want; } >/dev/null
else
	echo "not here, and no root to install it:$want; tests that need it are skipped"
fi
kernel

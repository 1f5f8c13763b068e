#!/bin/sh
# Make a medium that starts as a router of Debian's own parts, set up by what "bastion
# export" writes: router.sh TO.iso KERNEL.deb EXPORTS CHANGE. EXPORTS holds nftables.conf, the
# kernel settings and dhcpd.conf; CHANGE is a shell line that the router runs at its end.
set -eu
to=$1 kernel=$2 exports=$3 change=${4:-:}
cache=${XDG_CACHE_HOME:-$HOME/.cache}/openbastion
work=$(mktemp -d)
trap 'rm -rf "$work"' EXIT
root=$work/root
mkdir -p "$root/bin" "$root/dev" "$root/proc" "$root/sys" "$root/run" "$root/tmp" "$root/etc" "$root/var/lib/dhcp" "$root/usr/share" "$work/iso"
dpkg-deb -x "$cache"/busybox-static_*.deb "$work/busybox"
dpkg-deb -x "$cache"/isc-dhcp-server_*.deb "$work/dhcpd"
dpkg-deb -x "$kernel" "$work/kernel"
cp "$work/busybox/bin/busybox" "$root/bin/"
cp "$work/dhcpd/usr/sbin/dhcpd" "$(command -v nft)" "$(command -v dnsmasq)" "$root/bin/"
for f in "$root"/bin/*; do
	{ ldd "$f" 2>/dev/null || true; } | awk '$3 ~ /^\// { print $3 } $1 ~ /^\/lib.*ld-/ { print $1 }'
done | sort -u | while read -r lib; do
	mkdir -p "$root$(dirname "$lib")"
	cp -L "$lib" "$root$lib"
done
mkdir -p "$root/lib/modules"
cp -r "$work"/kernel/lib/modules/* "$root/lib/modules/"
release=$(ls "$root/lib/modules")
modules=$root/lib/modules/$release/kernel
find "$modules" -name '*.ko' | grep -Ev '/(virtio[^/]*|failover|net_failover|mrp|llc|stp|garp|8021q|nf_[^/]*|nft_[^/]*|nfnetlink|libcrc32c|x_tables|button|evdev)\.ko$' | xargs rm -f
find "$modules" -type d -empty -delete
/sbin/depmod -b "$root" "$release"
cp "$exports"/* "$root/etc/"
echo root:x:0:0:root:/:/bin/sh > "$root/etc/passwd"
echo root:x:0: > "$root/etc/group"
cat > "$root/lease" <<'END'
#!/bin/busybox sh
[ "$1" = bound ] || [ "$1" = renew ] || exit 0
ip addr flush dev "$interface"
ip addr add "$ip/$mask" dev "$interface"
ip route replace default via "$router"
: > /etc/resolv.conf
for d in $dns; do echo "nameserver $d" >> /etc/resolv.conf; done
END
cat > "$root/init" <<END
#!/bin/busybox sh
/bin/busybox --install -s /bin
export PATH=/bin
mount -t proc proc /proc; mount -t sysfs sysfs /sys; mount -t devtmpfs dev /dev
for m in virtio_pci virtio_net button evdev 8021q nf_tables nft_chain_nat nft_masq nft_nat nft_redir nft_ct nft_fib_inet nft_reject_inet nft_log nft_limit nft_numgen; do modprobe \$m; done
sleep 1
ip link set lo up
for d in eth0 eth1 eth2; do ip link set \$d up; done
ip link add link eth1 name eth1.48 type vlan id 48
ip link set eth1.48 up
for f in /etc/*.conf; do case \$f in */90-*) sysctl -q -p \$f;; esac; done
nft -f /etc/nftables.conf
ip addr add 10.83.16.1/24 dev eth1
ip addr add 10.83.32.1/24 dev eth2
ip addr add 10.83.48.1/24 dev eth1.48
: > /var/lib/dhcp/dhcpd.leases
dhcpd -q -cf /etc/dhcpd.conf -lf /var/lib/dhcp/dhcpd.leases eth1 eth2 eth1.48
udhcpc -i eth0 -s /lease -t 20 -T 1 -b >/dev/null
dnsmasq --conf-file=/dev/null --user=root --pid-file=/run/names --resolv-file=/etc/resolv.conf --listen-address=10.83.16.1,10.83.32.1,10.83.48.1 --bind-interfaces
while true; do sleep 1; done &
$change
echo the router is up
exec sh -c 'while true; do sleep 1000; done'
END
chmod +x "$root/init" "$root/lease"
(cd "$root" && find . | cpio -o -H newc --quiet | gzip -1) > "$work/iso/initial"
cp "$work"/kernel/boot/vmlinuz-* "$work/iso/kernel"
cp /usr/lib/ISOLINUX/isolinux.bin /usr/lib/syslinux/modules/bios/ldlinux.c32 "$work/iso/"
cat > "$work/iso/isolinux.cfg" <<'END'
default router
label router
  kernel kernel
  append initrd=initial rdinit=/init net.ifnames=0 console=tty0 console=ttyS0 panic=-1
END
genisoimage -quiet -o "$to" -b isolinux.bin -c boot.cat -no-emul-boot -boot-load-size 4 -boot-info-table -J -R "$work/iso"

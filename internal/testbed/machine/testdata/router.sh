#!/bin/sh
# Make a medium that starts as a router of Debian's own parts, set up by what "bastion
# export" writes: router.sh TO.iso KERNEL.deb EXPORTS CHANGE. EXPORTS holds nftables.conf, the
# kernel settings and dhcpd.conf; CHANGE is a shell line that the router runs at its end. With
# "ask" as EXPORTS it is set up by nothing: it asks for all on its screen, and has no serial line;
# with "ask-by-link" its screen tells interfaces by their links alone.
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
case $exports in ask*) ;; *) cp "$exports"/* "$root/etc/" ;; esac
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
case $exports in ask*)
	console='console=tty0 quiet loglevel=3'
	cat > "$root/init" <<'END'
#!/bin/busybox sh
/bin/busybox --install -s /bin
export PATH=/bin
mount -t proc proc /proc; mount -t sysfs sysfs /sys; mount -t devtmpfs dev /dev
for m in virtio_pci virtio_net button evdev nf_tables nft_chain_nat nft_masq nft_nat nft_ct nft_reject_inet; do modprobe $m; done
sleep 1
exec setsid sh -c 'exec /ask < /dev/tty1 > /dev/tty1 2>&1'
END
	cat > "$root/ask" <<'END'
#!/bin/busybox sh
# What a router must be told. A wrong answer is asked for again.
ask() { while true; do printf '%s ' "$1"; read -r got; echo "$got" | grep -Eq "$2" && return; echo "That is no answer to it."; done; }
address='^[0-9]+[.][0-9]+[.][0-9]+[.][0-9]+$'
clear
echo 'Setting up this router. It has these interfaces:'
which() {
	if [ ! -e /by-link ]; then ask "Which interface is $1?" '^eth[0-9]$'; return; fi
	while true; do
		clear
		for d in /sys/class/net/eth*; do [ "$(cat "$d/carrier")" = 1 ] && echo "  ${d##*/}  link up" || echo "  ${d##*/}  no link"; done
		ask "Which interface is $1? Enter alone looks again:" '^(eth[0-9])?$'
		[ -z "$got" ] || return
	done
}
[ -e /by-link ] || for d in /sys/class/net/eth*; do echo "  ${d##*/}  $(cat "$d/address")"; done
[ ! -e /by-link ] || for d in /sys/class/net/eth*; do ip link set "${d##*/}" up; done
ask 'Name of this machine?' '^[a-z][a-z0-9-]*$'; name=$got
which wan; wan=$got
ask 'Does wan get its address by a lease (y/n)?' '^[yn]$'; [ "$got" = y ] || echo 'It will have none.'
which lan; lan=$got
ask 'Address of lan?' "$address"; ip=$got
ask 'Prefix length of lan, in bits?' '^[0-9]+$'; bits=$got
ask 'Does lan hand out leases (y/n)?' '^[yn]$'
ask 'First address of the pool of lan?' "$address"; from=$got
ask 'Last address of the pool of lan?' "$address"; to=$got
ask 'Is this right (y/n)?' '^y$'
echo 'Copying the system.'
hostname "$name"
ip link set lo up; ip link set "$wan" up; ip link set "$lan" up
ip addr add "$ip/$bits" dev "$lan"
for s in ip_forward=1 conf.all.rp_filter=1 conf.all.arp_ignore=1 conf.all.send_redirects=0 conf.default.send_redirects=0; do echo "${s#*=}" > "/proc/sys/net/ipv4/$(echo "${s%=*}" | tr . /)"; done
for d in "$wan" "$lan"; do echo 0 > /proc/sys/net/ipv4/conf/"$d"/send_redirects; done
nft -f - <<RULES
table inet router {
	chain forward { type filter hook forward priority 0; policy drop; ct state established,related accept; iifname "$lan" oifname "$wan" accept; }
	chain input { type filter hook input priority 0; policy drop; ct state established,related accept; iifname lo accept; iifname "$lan" udp dport { 53, 67 } accept; iifname "$lan" tcp dport 53 accept; iifname "$lan" icmp type echo-request accept; }
	chain translate { type nat hook postrouting priority 100; oifname "$wan" masquerade; }
}
RULES
eval "$(busybox ipcalc -n -m "$ip/$bits")"
cat > /etc/dhcpd.conf <<LEASES
authoritative;
subnet $NETWORK netmask $NETMASK { range $from $to; option routers $ip; option domain-name-servers $ip; default-lease-time 28800; max-lease-time 28800; }
LEASES
: > /var/lib/dhcp/dhcpd.leases
udhcpc -i "$wan" -s /lease -t 20 -T 1 -b >/dev/null 2>&1
ask 'Remove the medium, then press Enter.' '^$'
dhcpd -q -cf /etc/dhcpd.conf -lf /var/lib/dhcp/dhcpd.leases "$lan" >/dev/null 2>&1
dnsmasq --conf-file=/dev/null --user=root --pid-file=/run/names --resolv-file=/etc/resolv.conf --listen-address="$ip" --bind-interfaces
clear
echo "The router $name runs."
while true; do sleep 1000; done
END
	chmod +x "$root/ask"
	[ "$exports" = ask ] || touch "$root/by-link" ;;
esac
chmod +x "$root/init" "$root/lease"
(cd "$root" && find . | cpio -o -H newc --quiet | gzip -1) > "$work/iso/initial"
cp "$work"/kernel/boot/vmlinuz-* "$work/iso/kernel"
cp /usr/lib/ISOLINUX/isolinux.bin /usr/lib/syslinux/modules/bios/ldlinux.c32 "$work/iso/"
cat > "$work/iso/isolinux.cfg" <<END
default router
label router
  kernel kernel
  append initrd=initial rdinit=/init net.ifnames=0 ${console:-console=tty0 console=ttyS0} panic=-1
END
genisoimage -quiet -o "$to" -b isolinux.bin -c boot.cat -no-emul-boot -boot-load-size 4 -boot-info-table -J -R "$work/iso"

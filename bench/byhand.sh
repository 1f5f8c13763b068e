#!/bin/sh
# The same lab built by hand, with network namespaces, a packet filter, an
# open-source lease and name server, and checked guest by guest with a lease
# client, ping, dig, curl and nc, one guest after another and all at once; and the lab on the kernel, in one run.
# The servers are up before the first guest is asked. The rehearsal's time is printed too: it sends no real packet, so
# that it is no rival.
# Needs root and iproute2, nftables, dnsmasq-base, udhcpc, busybox, bind9-dnsutils, curl, tcpdump.
# bench/byhand.sh 1 10 50
set -eu
for need in ip nft dnsmasq udhcpc busybox dig curl ping tcpdump; do
	command -v $need >/dev/null 2>&1 || { echo "$need is not here"; exit 3; }
done
[ "$(id -u)" = 0 ] || { echo "namespaces need root"; exit 3; }
work=$(mktemp -d)
mark=bh$$
export XDG_STATE_HOME="$work/state"
CGO_ENABLED=0 go build -trimpath -ldflags '-s -w' -o "$work/bastion" ./cmd/bastion
clean() {
	for pid in "$work"/*.pid; do [ -e "$pid" ] && kill "$(cat "$pid")" 2>/dev/null || true; done
	for ns in $(ip netns list | awk '{print $1}' | grep "^$mark" || true); do ip netns del "$ns"; done
	rm -f "$work"/*.pid
}
trap '"$work/bastion" stop --all -q 2>/dev/null; clean; rm -rf "$work"' EXIT

on() { ns=$1; shift; ip netns exec "$mark$ns" "$@"; }

# listens waits until something in a namespace listens on a port.
listens() {
	for _ in $(seq 200); do
		on "$1" ss -Hln "$2" "sport = :$3" | grep -q . && return
		sleep 0.01
	done
	echo "by hand: nothing listens on port $3 of $1" >&2
}

# forwards waits until a socket of the bridge takes frames.
forwards() {
	for _ in $(seq 200); do
		[ "$(on lan cat /sys/class/net/$1/brport/state)" = 3 ] && return
		sleep 0.01
	done
	echo "by hand: $1 does not forward" >&2
}

# asked asks one guest for everything that the rehearsal asks of it.
asked() {
	i=$1
	RESOLV="$work/resolv$i" on g$i udhcpc -i e0 -n -q -f -s "$work/lease" >/dev/null 2>&1 || echo lease
	on g$i ping -c1 -W1 10.83.16.1 >/dev/null || echo gateway
	on g$i ping -c1 -W1 203.0.113.80 >/dev/null || echo outside
	on g$i ping -c1 -W1 -t1 203.0.113.80 | grep -q 'From 10.83.16.1' || echo path
	[ "$(on g$i ip neigh show 10.83.16.1 | awk '{print $5}')" = "$(on gate cat /sys/class/net/l0/address)" ] || echo next hop
	on g$i curl -s -m2 --resolve buoy.example:80:203.0.113.80 http://buoy.example/ >/dev/null || echo page
	on g$i dig +short +time=2 +tries=1 @10.83.16.1 buoy.example | grep -qx 203.0.113.80 || echo name
}

# cut tries to reach outside from one guest with the WAN down: by ping, TCP and UDP, and
# with two of its neighbors as next hop.
cut() {
	on g$1 ping -c1 -W0.2 203.0.113.80 >/dev/null 2>&1 && echo escape
	on g$1 curl -s -m0.2 http://203.0.113.80/ >/dev/null 2>&1 && echo escape
	echo x | on g$1 timeout 0.2 busybox nc -u 203.0.113.80 7 2>/dev/null | grep -q . && echo escape
	for hop in $(on g$1 ip -4 neigh show dev e0 | awk '$1 != "10.83.16.1" { print $1 }' | head -n 2); do
		on g$1 ip route replace 203.0.113.80 via $hop
		on g$1 ping -c1 -W0.2 203.0.113.80 >/dev/null 2>&1 && echo escape
		on g$1 ip route del 203.0.113.80
	done
	return 0
}

# alone listens who hands out leases, for as long as the slowest server takes.
alone() {
	on g1 timeout 4 tcpdump -i e0 -n -l 'udp dst port 68' >"$work/offers" 2>/dev/null &
	sleep 0.2
	on g1 udhcpc -i e0 -n -q -f -t1 -T3 -s /bin/true >/dev/null 2>&1 || true
	wait $! || true
	[ "$(grep -c '10.83.16.1.67' "$work/offers")" -gt 0 ] || echo alone
}

# each runs something for every guest: in turn, or together.
each() {
	waiting=""
	for i in $(seq "$2"); do
		if [ "$3" = together ]; then
			"$1" "$i" >>"$work/wrong" 2>/dev/null &
			waiting="$waiting $!"
		else
			"$1" "$i" >>"$work/wrong" 2>/dev/null
		fi
	done
	[ -z "$waiting" ] || wait $waiting
}

byhand() {
	n=$1 how=$2
	: >"$work/wrong"
	for ns in up gate lan; do ip netns add $mark$ns; on $ns ip link set lo up; done
	ip link add u0 netns ${mark}up type veth peer name wan netns ${mark}gate
	on up ip addr add 172.29.64.1/24 dev u0; on up ip addr add 203.0.113.80/32 dev lo; on up ip link set u0 up
	on gate ip addr add 172.29.64.7/24 dev wan; on gate ip link set wan up; on gate ip route add default via 172.29.64.1
	on lan ip link add br0 type bridge; on lan ip link set br0 up
	ip link add l0 netns ${mark}gate type veth peer name gate netns ${mark}lan
	on gate ip addr add 10.83.16.1/24 dev l0; on gate ip link set l0 up
	on lan ip link set gate master br0 up
	on gate sh -c 'echo 1 >/proc/sys/net/ipv4/ip_forward'
	on gate nft -f - <<-END
		table ip f {
			chain forward { type filter hook forward priority 0; policy drop; ct state established,related accept; iifname l0 oifname wan accept; }
			chain nat { type nat hook postrouting priority 100; oifname wan masquerade; }
		}
	END
	on up dnsmasq --no-resolv --no-hosts --address=/buoy.example/203.0.113.80 --listen-address=172.29.64.1 --bind-interfaces --pid-file="$work/up.pid" --user=root
	on gate dnsmasq --no-resolv --no-hosts --server=172.29.64.1 --interface=l0 --bind-interfaces --dhcp-range=10.83.16.50,10.83.16.199,1h --no-ping --dhcp-leasefile="$work/leases" --pid-file="$work/gate.pid" --user=root
	mkdir -p "$work/www"; echo hello >"$work/www/index.html"
	on up busybox httpd -f -p 203.0.113.80:80 -h "$work/www" >/dev/null 2>&1 &
	echo $! >"$work/www.pid"
	cat >"$work/lease" <<-'END'
		#!/bin/sh
		[ "$1" = bound ] || exit 0
		ip addr add $ip/$mask dev $interface; ip route add default via $router
		mkdir -p /etc/netns; echo "nameserver $dns" >"$RESOLV"
	END
	chmod +x "$work/lease"
	for i in $(seq "$n"); do
		ip netns add "$mark"g$i
		ip link add e0 netns "$mark"g$i type veth peer name p$i netns ${mark}lan
		on lan ip link set p$i master br0 up; on g$i ip link set e0 up
	done
	for socket in gate $(seq -f p%g "$n"); do forwards $socket; done
	listens gate -u 67; listens gate -u 53; listens up -u 53; listens up -t 80
	each asked "$n" "$how"
	alone >>"$work/wrong" 2>/dev/null
	on gate ip link set wan down
	each cut "$n" "$how"
	[ ! -s "$work/wrong" ] || echo "by hand: $(sort "$work/wrong" | uniq -c | tr '\n' ' ')" >&2
}

now() { date +%s.%N; }
for n in "$@"; do
	{
		printf 'bastion: 1\nlab: byhand\nsegments:\n  causeway: {reach: upstream, subnet: 172.29.64.0/24}\n  reedbed: {reach: isolated, subnet: 10.83.16.0/24}\n'
		printf 'appliances:\n  gate:\n    ports: [{role: wan, segment: causeway}, {role: lan, segment: reedbed}]\nguests:\n'
		for i in $(seq "$n"); do echo "  g$i: reedbed"; done
	} >"$work/lab.yaml"
	a=$(now); byhand "$n" turn; b=$(now); clean
	e=$(now); byhand "$n" together; f=$(now); clean
	c=$(now); "$work/bastion" rehearse "$work/lab.yaml" -q >/dev/null; d=$(now)
	g=$(now); "$work/bastion" start "$work/lab.yaml" -q >/dev/null; h=$(now)
	"$work/bastion" verify "$work/lab.yaml" --format json >"$work/verdict.json"; i=$(now)
	"$work/bastion" stop "$work/lab.yaml" -q; j=$(now)
	claims=$(grep -c '"id"' "$work/verdict.json")
	awk -v n="$n" -v a="$a" -v b="$b" -v c="$c" -v d="$d" -v e="$e" -v f="$f" -v g="$g" -v h="$h" -v i="$i" -v j="$j" -v claims="$claims" 'BEGIN {
		printf "%3d guests: by hand in turn %.2f s, together %.2f s; rehearsed %.3f s\n", n, b-a, f-e, d-c
		printf "            on the kernel: started %.2f s, %d claims verified %.2f s, stopped %.2f s; by hand takes %.1f and %.1f times that in all\n",
			h-g, claims, i-h, j-i, (b-a)/(j-g), (f-e)/(j-g) }'
done

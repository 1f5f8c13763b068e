#!/bin/sh
# Picture each main command's output on the sample lab: a terminal in a window
# of a hundred columns under Xvfb. Needs Xvfb, xterm and ImageMagick's import.
set -eu
for need in Xvfb xterm import qemu-img; do
	command -v $need >/dev/null 2>&1 || { echo "$need is not here: apt-get install xvfb xterm imagemagick qemu-utils"; exit 3; }
done
root=$PWD
out=$PWD/docs/screenshots
bastion=$PWD/bastion
mkdir -p "$out"
work=$(mktemp -d)
export XDG_CACHE_HOME="$work/cache"
display=:97
Xvfb $display -screen 0 1280x1360x24 >/dev/null 2>&1 &
server=$!
trap 'kill $server 2>/dev/null; rm -rf "$work"' EXIT
sleep 1
"$bastion" demo --dir "$work" >/dev/null
cp internal/format/ovf/testdata/sluice.ovf "$work"
cd "$work"
qemu-img create -q -f qcow2 sluice-disk1.qcow2 16G
sha256sum --tag sluice.ovf sluice-disk1.qcow2 | sed 's/ (/(/;s/) =/)=/' >sluice.mf
tar cf sluice.ova sluice.ovf sluice.mf sluice-disk1.qcow2
ln -s "$bastion" bastion

ground='#12181c'
shot() { # NAME COMMAND…: the command is shown as typed, then its output; cropped to what is there
	name=$1
	shift
	printf '#!/bin/sh\nPATH="$PWD:$PATH"\nCOLUMNS=100\nexport COLUMNS\nprintf "\\033[?25l\\033[2m$ %%s\\033[0m\\n" "%s"\n%s\ntouch %s.done\nsleep 30\n' "$*" "$*" "$name" >run.sh
	DISPLAY=$display xterm -geometry 100x78+0+0 -fa 'DejaVu Sans Mono' -fs 10 -bg $ground -fg '#d8dee2' -b 8 +sb -uc -e sh run.sh &
	terminal=$!
	for _ in $(seq 50); do [ -e "$name.done" ] && break; sleep 0.1; done
	sleep 0.6
	DISPLAY=$display import -window root -depth 8 "$out/$name.png"
	mogrify -bordercolor black -border 1 -trim +repage -bordercolor $ground -border 1 -trim +repage -border 12 "$out/$name.png"
	kill $terminal 2>/dev/null || true
	wait $terminal 2>/dev/null || true
}

shot plan bastion plan saltmarsh.yaml --part adapters
shot check bastion check saltmarsh-leaky.yaml
printf 'vtnet0 c2:01\nvtnet1 C2-03\nvtnet2 c202\n' >console.txt
printf ' WAN (wan) => vtnet1 => IPv4 172.29.64.130/24 by DHCP\n LAN (lan) => vtnet0 => IPv4 10.83.16.1/24\n DMZ (dmz) => vtnet2 => IPv4 10.83.32.1/24\n' >console.txt
printf 'vtnet0 08:3c:11:22:33:44\nvtnet1 08:3c:11:22:33:45\nvtnet2 08:3c:11:22:33:46\n' >>console.txt
shot map bastion map saltmarsh.yaml --listing console.txt
printf 'Ethernet adapter Ethernet:\n   IPv4 Address. . . : 10.83.16.60\n   Subnet Mask . . . : 255.255.255.0\n   Default Gateway . : 10.83.16.254\n' >guest.txt
shot compare bastion compare saltmarsh.yaml guest.txt
shot rehearse bastion rehearse saltmarsh.yaml
shot rehearse-leaky bastion rehearse saltmarsh-leaky.yaml
shot prove bastion prove saltmarsh-leaky.yaml --replay
shot image bastion image inspect sluice.ova
shot trace bastion trace saltmarsh.yaml heron outside tcp/443
shot diagnose bastion diagnose saltmarsh.yaml --seen heron.dhcp=none --seen otter.dhcp=none --seen ferry.gateway=holds
shot help bastion --help
if [ "$(id -u)" = 0 ]; then # a lab that runs, with something going on in it
	export XDG_STATE_HOME="$work/state" XDG_DATA_HOME="$work/data"
	printf 'bastion-class: 1\nlab: saltmarsh.yaml\nstudents: [ada, ben, cleo, dan, eve, fay, gus, hal]\n' >class.yaml
	"$bastion" class start class.yaml --quiet >/dev/null
	"$bastion" stop saltmarsh-4 --quiet
	shot class bastion class status class.yaml
	"$bastion" class stop class.yaml --quiet
	(cd "$root" && go test -c -o "$work/live.test" ./internal/render/live)
	"$bastion" start saltmarsh-leaky.yaml --quiet >/dev/null
	for from in ferry newt 'otter -I eth1'; do
		set -- $from
		guest=$1
		shift
		("$bastion" shell saltmarsh-leaky.yaml "$guest" -- sh -c "for i in \$(seq 20); do ping -c 2 -i 0.4 -W 1 $* 203.0.113.80; done" >/dev/null 2>&1 &)
	done
	("$bastion" status saltmarsh-leaky.yaml --page >page.url 2>/dev/null &)
	sleep 2
	shot status bastion status saltmarsh-leaky.yaml
	if command -v chromium >/dev/null 2>&1; then
		LIVE_PAGE=$(cat page.url) PICTURE="$out/live.png" ./live.test -test.run TestPicture >/dev/null
	fi
	"$bastion" stop saltmarsh-leaky.yaml --quiet
	"$bastion" plan saltmarsh.yaml --for heron --to heron.plan --quiet
	"$bastion" start saltmarsh.yaml --quiet >/dev/null
	printf '#!/bin/sh\nexec bastion shell saltmarsh.yaml heron -- bastion "$@"\n' >heron
	chmod +x heron
	shot probe './heron probe --plan heron.plan'
	"$bastion" shell saltmarsh.yaml ferry -- ip route del default
	"$bastion" shell saltmarsh.yaml heron -- ip route add 198.51.100.0/24 via 10.83.16.77
	"$bastion" shell saltmarsh.yaml sluice -- nft flush chain inet bastion forward
	cp saltmarsh.yaml kept.yaml
	sed -i -e 's/^  newt: tidepool$/&\n  egret: reedbed/' -e 's#^    rules: .*$#&\n      - deny tcp/587 from reedbed to outside#' saltmarsh.yaml
	shot change 'bastion start saltmarsh.yaml --dry-run; bastion repair saltmarsh.yaml --yes'
	cp kept.yaml saltmarsh.yaml
	"$bastion" stop saltmarsh.yaml --quiet
fi
"$bastion" rehearse saltmarsh-leaky.yaml --format json >leaky.json || true
"$bastion" draw saltmarsh-leaky.yaml --with leaky.json --to "$out/draw.png" --replace --quiet
"$bastion" rehearse saltmarsh-leaky.yaml --report leaky.html --quiet >/dev/null || true
"$bastion" runbook saltmarsh.yaml --to runbook.html --quiet
for page in leaky:report runbook:runbook; do
	command -v chromium >/dev/null 2>&1 || { echo "chromium is not here: the pages are not pictured"; break; }
	chromium --headless --no-sandbox --disable-gpu --hide-scrollbars --window-size=1280,1000 --screenshot="$out/${page#*:}.png" "file://$work/${page%%:*}.html" >/dev/null 2>&1
done

// Package explain holds what the program can explain: the trade's terms in
// plain words, and the claims of a rehearsal.
package explain

import (
	"slices"
	"strings"
)

// Word is a term with its explanation.
type Word struct {
	Name string   `json:"name"`
	Also []string `json:"also,omitempty"` // other writings
	Text string   `json:"text"`           // two or three plain sentences
	Real string   `json:"real,omitempty"` // what differs in a real installation
}

// Find returns the word of a name or another writing of it, in any letter case.
func Find(name string) (Word, bool) {
	name = strings.ToLower(strings.TrimSpace(name))
	for _, w := range Words {
		if w.Name == name || slices.Contains(w.Also, name) {
			return w, true
		}
	}
	return Word{}, false
}

// Words is the glossary, by name.
var Words = []Word{
	{"!", []string{"warning"}, "A finding that will bite later, or depends on luck.", ""},
	{"*", []string{"star", "chosen"}, "The plan chose this value, because the lab file does not give it. It stays the same until the file changes around it; bastion plan --write puts it into the file for good.", ""},
	{"?", []string{"unknown"}, "Nothing was observed that shows whether it holds. Unknown is not good news: what was not asked or seen never counts as held.", ""},
	{"adapter", []string{"nic", "network adapter", "card"},
		"A machine's network card. A virtual machine's adapters are numbered from 1 in the order in which they were added; its system gives them names of its own, often in another order. The hardware address is the only sure way to tell which is which.", "A real machine's cards keep their place; there, label the sockets."},
	{"admin page", []string{"admin", "web page"}, "The page in which an appliance is set up with a browser. It should answer inside only. Its certificate is made by the appliance itself, so a browser warns at the first visit; that is expected in a lab.", "In a real installation the page has a certificate that browsers trust, or answers on a management segment only."},
	{"adopt", nil, "bastion adopt writes the lab file of what is built already, from exports of machines and pastes of what they show. What nobody showed says later.", ""},
	{"allow", nil, "A rule that lets packets pass. Answers to what it let pass come back without a rule of their own.", ""},
	{"alone", nil, "The claim that exactly the planned lease server answers on a segment. A second one gives some guests a wrong gateway, now and then, which is hard to find later.", ""},
	{"apart", nil, "The claim that the sides of an appliance are wires of their own: a frame of one is never seen on another. It breaks when two ports share a segment, an uplink or an untagged wire, and when an inside segment is a tag on a wire that leads upstream.", "In a real installation each side has a switch of its own, or a tag that ends at the appliance."},
	{"appliance", []string{"firewall", "router"}, "The firewall or router machine between the segments. Guests reach outside only through it.", "A real one is a box with labelled sockets; a virtual one has only adapter numbers."},
	{"behind", nil, "The claim that a guest stands behind an appliance: no way leads outside past it. Where a machine is meant to stand outside, an attacker's box or an admin desk, the lab file says outside: true.", ""},
	{"between", nil, "The claim that from one segment to another exactly that passes which the rules allow.", ""},
	{"beyond", nil, "The invented network on which the witness stands, behind the site's router. It is one of the networks kept for documentation that the lab does not use itself.", ""},
	{"boot order", []string{"start order"}, "From what a machine starts first. The disk before the medium is right from the first day: an empty disk is passed over, so the medium installs; afterwards the disk starts, and nothing need be taken out.", ""},
	{"bridged", []string{"bridge"}, "A machine attached as bridged stands on the host's own network like any other machine there, with an address from that network. Most wireless access points refuse bridged machines.", ""},
	{"broadcast", []string{"broadcast address"}, "The last address of a subnet, which means everybody on it. No machine may have it.", ""},
	{"buoy", nil, "What the invented witness is called in every rehearsal: the outside machine that reports who reached it. Its name is buoy.example.", "In a real lab a machine of yours takes its place."},
	{"capture", []string{"pcapng"}, "A file with every frame, which a packet analyser reads. The frame numbers that an output names are those in it.", ""},
	{"certificate", []string{"self-signed"}, "What a page shows to prove whose it is. An appliance makes its own at first, and a browser warns of it once: compare its fingerprint with the one on the console, and accept it for this lab alone.", "A real installation gets one from an authority that its users' browsers know."},
	{"claim", []string{"claims"}, "One thing that must hold in a lab, such as heron.outside: heron reaches outside through the appliance. It holds, is broken, or is unknown. The kinds are lease, alone, gateway, names, outside, path, cut, held, inbound, published, between and expect.", ""},
	{"copied or moved", []string{"moved or copied", "copy"}, "A hypervisor that finds a machine in a new place asks whether it was moved or copied. Moved keeps the hardware addresses; copied makes new ones. Two machines with the same addresses on one network lose their connections, in turns.", ""},
	{"cut", nil, "The claim that with the appliance's WAN unplugged nothing leads outside: the guest tries every adapter, protocol, source address, tag, tunnel and neighbor. If something gets out, there is a second way, past the appliance. What no plain switch prevents is no escape and is not counted: a guest that answers for its neighbor's next hop, and so reads what the neighbors send, stays on its own segment.", ""},
	{"dashed line", []string{"dashed", "dashed frame"},
		"In the diagram a dashed line is a port that rides tagged on another's adapter, and a dashed frame a segment that the host has a leg on.", ""},
	{"deny", nil, "A rule that drops packets without a word. The sender waits until it gives up; refuse tells it at once.", ""},
	{"device", []string{"likely device", "interface name"},
		"What a machine's system calls an adapter, such as eth0. The plan gives the likely name; only the hardware address is sure.", ""},
	{"dmz", nil, "A segment for servers that the outside may reach. It may not reach the LAN, so that a server that falls does not take the desks with it.", ""},
	{"dns", []string{"names", "resolver", "name server"},
		"Names are looked up at a resolver, which the lease names or somebody typed in. When an address answers and a name does not, the resolver is what to look at.", "A site's own resolver often knows names that the outside does not."},
	{"door", []string{"second door"}, "A way out of a segment. A segment behind an appliance should have one: the appliance. A guest with an adapter on another segment, or a host that forwards, is a second.", ""},
	{"drill", []string{"course", "exercise"}, "A lab with a mistake planted in it, to be found by looking: bastion drill. The course leads through eight exercises before that.", ""},
	{"escape", nil, "A way out that avoids the appliance. It always comes with one concrete packet and the machines it passes.", ""},
	{"evaluation", []string{"trial", "evaluation period"}, "A period in which an appliance may be used to try it. Note the first day and the length; take a restore point some days before the end, as some appliances pass nothing any more afterwards. check says how many days are left.", ""},
	{"evidence", nil, "What shows that a claim holds or is broken: numbers of frames, and what they say.", ""},
	{"expect", []string{"expectation", "sentence"},
		"The claim that a sentence under expect: in the lab file is true: WHO reaches WHOM, or never reaches WHOM. A sentence that names a protocol or a port speaks of that alone.", ""},
	{"explain", nil, "bastion explain WORD says what a word, a finding or a claim means; without a word it lists them all.", ""},
	{"finding", []string{"findings"}, "Something well written but unwise or wrong in a layout, found before anything is built. Each has a code, a place in the file, what you would see, and a remedy.", ""},
	{"follows", []string{"from this follow"}, "A broken claim that another broken claim explains: a guest without its lease has no next hop and no names either. The cause is told, and what follows from it is listed below.", ""},
	{"foreign addresses", []string{"foreign-macs", "promiscuous"}, "Frames from hardware addresses that the switch did not hand out. Bridges and machines within machines need them to pass; elsewhere a switch that refuses them keeps guests from sending in others' names. Never open it on a switch that carries the host's own management without need.", ""},
	{"frame", []string{"frames"}, "What crosses a wire: one packet with the hardware addresses of who sends and who receives.", ""},
	{"gateway", []string{"router address", "next hop", "default gateway"},
		"The address to which a machine sends what is not for its own segment. On a segment behind an appliance it is the appliance's address there. Both must be in the same subnet.", ""},
	{"guest", nil, "A machine on a segment. It counts as hostile: it may use any source address, any next hop and any tag.", ""},
	{"guest agent", []string{"agent"}, "A small program in a guest by which the hypervisor learns its addresses and shuts it down cleanly. It must be installed in the guest and switched on at the machine; it counts after a full stop and start, not after a restart.", ""},
	{"hardware address", []string{"mac", "mac address"},
		"The 48-bit number by which machines on a segment know each other. The plan makes its own: they start with 02, and the last two bytes tell machine and adapter, so that they can be compared at a glance.", "Real cards have one from their maker."},
	{"held", nil, "The claim that a guest which may not go outside cannot, whatever it tries, while the appliance runs.", ""},
	{"host", nil, "The machine that carries the lab. Where it has a leg on a segment it can be reached from there; where it forwards it is a way out.", "A real lab has no host between the machines; cables take its place."},
	{"host-only", nil, "A network between the host and its guests. The host has a leg on it, and often a lease service that one must switch off when the appliance should hand out leases.", ""},
	{"icmp", []string{"ping"}, "The protocol by which machines ask whether another answers (ping), and tell each other what went wrong.", ""},
	{"inbound", nil, "The claim that from outside nothing answers at the WAN but what is published, and not the admin page.", ""},
	{"isolated", []string{"isolated network", "internal", "internal network"},
		"A network that neither the host nor an adapter of the host is on: nobody is there but those attached, and nothing leads out. This is what a segment behind an appliance should be. Some hypervisors call a network internal and put the host on it all the same: look whether the host has an address there.", "In a real installation it is a switch of its own, or a tag."},
	{"join", []string{"joins"}, "How a segment upstream is attached: bridged, on the host's own network, or nat, translated by the host. A port that joins another is bridged with it on purpose.", ""},
	{"known-as", nil, "What the hypervisor calls a segment, letter by letter, where that is not its name in the lab file. To a hypervisor another spelling is another network.", ""},
	{"lan", nil, "An inside segment, where guests are.", ""},
	{"later", []string{"undecided", "open question"}, "What the lab file says of what is not decided yet. check lists it, the runbook leaves it out, and a verdict that it can change is unknown.", ""},
	{"lease", []string{"dhcp", "leases"}, "An address that a lease server lends to a machine for some hours, with the mask, the gateway and the resolvers. A segment should have exactly one lease server.", ""},
	{"leg", []string{"host leg", "host address"}, "The host's own address on a segment. Guests there reach the host, and it reaches them; it is a way out only where the host also forwards.", ""},
	{"licence", []string{"license", "licence tier"}, "What an appliance is allowed: rate, processors, memory, adapters, tunnels. A machine that is larger than its licence is not faster. image: allows: in the lab file says it, and check compares.", ""},
	{"lighthouse", []string{"site's router"}, "What the invented router of the site is called in every rehearsal: the next hop on the WAN segment, which hands out leases there and knows the names outside.", "In a real lab the house's or the site's own router takes its place."},
	{"listing", []string{"paste"}, "What a console or a command shows of a machine's interfaces, copied as it is. bastion map and bastion compare read it.", ""},
	{"look", []string{"looks", "symptom", "sign"}, "One thing to try or to read at a lab: an address, a ping, a name, a page. What it shows is held against what every mistake would show; bastion diagnose --seen ? lists them.", ""},
	{"manage", []string{"management"}, "The role of a port that is for the administrator alone. It carries no traffic of guests, and belongs on a segment of its own.", ""},
	{"masquerade", []string{"nat", "translation"}, "Inside addresses become the appliance's WAN address on their way out, and answers find back. Without it, upstream does not know the way to the inside.", "A site with public addresses, or routes of its own, may do without."},
	{"mask", []string{"netmask", "prefix", "prefix length"},
		"Which part of an address names the network: /24 and 255.255.255.0 are the same. Machines of one segment must have the same mask, or some of them look for each other at the gateway.", ""},
	{"mistake", []string{"mistakes", "cause"}, "One small thing that was built otherwise than planned: a cable on the wrong switch, a mask, a rule in the wrong place. Bastion diagnose tries each at every place of a lab and says which would look so.", ""},
	{"native vlan", []string{"native", "untagged"}, "On a cable that carries tags, the one network whose frames travel without. Each end must mean the same by it. A segment with the native number as its tag does not work: the switch gives its frames back untagged.", ""},
	{"network address", nil, "The first address of a subnet, which names the subnet. No machine may have it.", ""},
	{"one-armed", nil, "An appliance with one adapter beside the router. Guests are pointed at it as their gateway; one that names the router avoids it. It cannot isolate.", ""},
	{"outer lease", []string{"wan lease"}, "The address that the WAN gets from whoever is upstream: the site's router, the host where it translates, or the line itself. It can change at each renewal. Where it must stay, have the router reserve it for the WAN's hardware address; one typed in from the router's pool will be given to somebody else one day.", ""},
	{"outside", nil, "Everything beyond the lab's inside segments. As a claim: the guest reaches the witness out there, and the witness sees the appliance's WAN address. When it does not, look at the nearest first: is the guest's adapter plugged in, on the right segment; has it an address; does its next hop answer; do the rules let it out; is it translated; has the WAN an address and a gateway; does the resolver answer; does anybody answer upstream.", ""},
	{"pass-through", []string{"passthrough", "pci passthrough"}, "A real adapter handed to one machine whole. It is fast, and no frame passes the host's switch: the host cannot look in, cannot share it, cannot move the machine, and its order among the adapters is the slot's. A bridge costs a little speed and keeps all of that; for a lab it is nearly always right.", ""},
	{"path", nil, "The claim that the first hop on the way outside is the appliance.", ""},
	{"poisoning", []string{"arp poisoning", "spoofing", "gratuitous arp"},
		"A guest tells the others of its segment that it has somebody else's address, by ARP or neighbor discovery, and gets their packets. On a plain switch nothing prevents that among neighbors. It is no way out: what it then sends itself still meets the appliance. Guests that must not do it to each other belong on segments of their own.", "A managed switch can be told which address belongs to which socket."},
	{"pool", nil, "The run of addresses that a lease server hands out. It must lie in the subnet and hold no address that some machine has fixed.", ""},
	{"port", nil, "An appliance's interface, with a role; its number is its adapter's number. With tcp or udp before it, a port is a service's number.", ""},
	{"pppoe", nil, "A WAN that dials in with a name and a password over the wire, as many house lines do. Packets can be a little smaller on it.", "The provider gives the name and the password."},
	{"profile", []string{"profiles"}, "What differs from one kind of appliance to the next, as a file: how its system names interfaces, which side it lists first, what its console asks. bastion profile start writes one to fill in.", ""},
	{"proof", []string{"prove", "for all packets"}, "What bastion works out for every packet there can be, not for those that came to mind: sets of packets are followed from each guest through segments, hosts and appliances. The rehearsal then sends one of each set that gets out. It takes for granted that the appliance does what its rules say and that switches keep tags apart; names that a resolver looks up, and neighbors that may go outside and do so for others, are not looked at.", "It speaks of the plan; whether the real thing is as planned, bastion compare and map tell."},
	{"publish", []string{"port forward", "published"},
		"A port outside that leads to a guest inside. The guest needs a fixed address. Where another translation stands above the WAN, the same must be done there.", ""},
	{"queue", []string{"queues", "multi-queue"}, "An adapter can hand packets to several processors. As many queues as the machine has processors is right; more do nothing.", ""},
	{"quarantine", nil, "A segment that never reaches outside, for what must not get out.", ""},
	{"reach", nil, "How far a segment extends: upstream (beyond the host), host (the host has a leg on it) or isolated (nobody but those attached).", ""},
	{"refuse", nil, "A rule that answers: the sender is told at once that it may not. Deny says nothing, and the sender waits.", ""},
	{"rehearsal", []string{"rehearse"}, "The lab run in memory, packet by packet, before anything is built. Each answer names the frames that show it.", "It takes the same time on every machine, and no cable is loose in it."},
	{"remedy", nil, "What to do about a finding or a broken claim, the nearest first.", ""},
	{"report", nil, "A verdict written into a file: a page, Markdown, or test results for a build server.", ""},
	{"reservation", nil, "A lease that is always the same address, kept for one hardware address.", ""},
	{"resolver override", []string{"dns override", "override by lease"}, "Whether the resolvers that the WAN's lease names take the place of those typed in. When addresses answer and names do not, look at it first.", ""},
	{"restore point", []string{"snapshot", "checkpoint"}, "The state of a machine to come back to. Take one before the installation, when it is set up, before an update and before a trial ends; shut down it is whole, running it may not be. It is no backup: it lies on the same disk.", ""},
	{"role", nil, "What a port is for: wan (outside), lan and dmz (inside), manage (for the administrator).", ""},
	{"route back", []string{"static route", "routes"}, "A way to the lab's inside networks that the upstream router knows. With one, nothing need be translated; without, only the WAN's own address is answered.", ""},
	{"rule", []string{"rules"}, "A sentence that says what passes the appliance, such as allow tcp/443 from desks to outside. The first that matches decides; everything else is denied.", ""},
	{"runbook", nil, "The whole job step by step, with this lab's values to type, what you should see, and what is often wrong there.", ""},
	{"running", []string{"switched off"}, "A machine that the lab file says running: false of is there and off, such as an old firewall while its successor is built. Nothing of it counts, and check says what it would fight over.", ""},
	{"second line", []string{"failover", "backup line", "two lines"}, "A second WAN that takes over when the first is out. The first WAN in the file is the primary and feeds the lab; the other waits. Unplug the first to see the change, and look that both do not hang on one cable or router.", ""},
	{"segment", nil, "One broadcast domain: the machines on it reach each other without a router. Its name must be written the same on every adapter that is on it.", "A real segment is a switch, or a tag on one."},
	{"shape", []string{"shapes"}, "A layout to start a lab file from, such as one-lan or dmz: bastion new --shape.", ""},
	{"site", nil, "The machine that carries the lab, and the network it stands on.", ""},
	{"sole", nil, "The claim that each planned address of a segment answers at one hardware address only, and each hardware address is there once. Two machines with one address lose packets in turns.", ""},
	{"stage", nil, "Where a lab runs when claims are asked of it. The rehearsal is one.", ""},
	{"static", nil, "An address that somebody types into a machine. It must be outside every pool.", ""},
	{"subnet", []string{"network"}, "The addresses of a segment. Two segments of a lab must not overlap, nor a segment and a network that the host is on: the appliance could not tell which way a packet goes.", ""},
	{"tag", []string{"vlan"}, "A number in a frame by which one wire carries several segments (IEEE 802.1Q). The tag must be known at both ends and on everything between.", "A real switch must have its socket set up as a trunk for it."},
	{"tail", []string{"last bytes"}, "The last two bytes of a hardware address, written …c2:01. The plan makes them tell machine and adapter, so that a glance is enough.", ""},
	{"thin disk", []string{"thin", "thick", "provisioning"}, "A disk that takes room on the host as it fills, up to its size. A thick one takes all at once. Either will do for an appliance; it has no bearing on memory. Only watch that the host's own disk does not fill up while machines run.", ""},
	{"translated", nil, "A machine attached as translated is hidden behind its host's address. It works everywhere, wireless too, and nothing outside can start a conversation with it.", ""},
	{"transparent", nil, "An appliance that bridges two segments and filters what passes. It has no address there; the segments are one network.", ""},
	{"trunk", nil, "A wire, or an adapter, that carries tagged segments.", ""},
	{"unused", []string{"unused port"}, "An adapter that exists and is not used. It stays unplugged, so that nobody stands on the appliance whom no one planned.", ""},
	{"uplink", []string{"uplinks"}, "The host's adapter by which it leads outside, such as enp1. A bridged segment stands on the network of that adapter.", ""},
	{"upstream", nil, "What is beyond the host: the house or site network, and all behind it.", ""},
	{"verdict", nil, "What the claims come to: it holds when every claim does, is broken when one is, and unknown otherwise.", ""},
	{"wan", nil, "The outside port of an appliance, and the segment it is on. A WAN on private addresses must not drop packets from private sources.", "A real WAN is the line of a provider."},
	{"wire", nil, "What carries one segment or more: a virtual switch, or a real one.", ""},
	{"witness", nil, "The outside machine that reports what reached it, and from which address.", ""},
	{"wording", []string{"wordings"}, "What a kind of hypervisor calls things, as a file: a runbook puts these words in. bastion schema --of wording describes it.", ""},
	{"you would see", []string{"see"}, "What one would notice in a guest or on the console if the lab were built with that mistake.", ""},
	{"·", []string{"note"}, "A remark: nothing to act on at once.", ""},
	{"✓", []string{"holds"}, "It holds, and the frames or readings that show it are named.", ""},
	{"✗", []string{"broken"}, "It is broken: something was seen that must not be, or not seen that must. The frames that show it are named, and what to do about it is the remedy.", ""},
}

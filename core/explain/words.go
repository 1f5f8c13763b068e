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

// Find gives the word of a name or another writing of it, in any letter case.
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
	{"adapter", []string{"nic", "network adapter", "card"}, "A machine's network card. A virtual machine's adapters are numbered from 1 in the order in which they were added; its system gives them names of its own, often in another order. The hardware address is the only sure way to tell which is which.", "A real machine's cards keep their place; there, label the sockets."},
	{"admin page", []string{"admin", "web page"}, "The page in which an appliance is set up with a browser. It should answer inside only. Its certificate is made by the appliance itself, so a browser warns at the first visit; that is expected in a lab.", "In a real installation the page has a certificate that browsers trust, or answers on a management segment only."},
	{"alone", nil, "The claim that exactly the planned lease server answers on a segment. A second one gives some guests a wrong gateway, now and then, which is hard to find later.", ""},
	{"appliance", []string{"firewall", "router"}, "The firewall or router machine between the segments. Guests reach outside only through it.", "A real one is a box with labelled sockets; a virtual one has only adapter numbers."},
	{"bridged", []string{"bridge"}, "A machine attached as bridged stands on the host's own network like any other machine there, with an address from that network. Most wireless access points refuse bridged machines.", ""},
	{"broadcast", []string{"broadcast address"}, "The last address of a subnet, which means everybody on it. No machine may have it.", ""},
	{"cut", nil, "The claim that with the appliance's WAN unplugged nothing leads outside: the guest tries every adapter, protocol, source address, tag, tunnel and neighbor. If something gets out, there is a second way, past the appliance. What no plain switch prevents is no escape and is not counted: a guest that answers for its neighbor's next hop, and so reads what the neighbors send, stays on its own segment.", ""},
	{"dmz", nil, "A segment for servers that the outside may reach. It may not reach the LAN, so that a server that falls does not take the desks with it.", ""},
	{"dns", []string{"names", "resolver", "name server"}, "Names are looked up at a resolver, which the lease names or somebody typed in. When an address answers and a name does not, the resolver is what to look at.", "A site's own resolver often knows names that the outside does not."},
	{"door", []string{"second door"}, "A way out of a segment. A segment behind an appliance should have one: the appliance. A guest with an adapter on another segment, or a host that forwards, is a second.", ""},
	{"escape", nil, "A way out that avoids the appliance. It always comes with one concrete packet and the machines it passes.", ""},
	{"gateway", []string{"router address", "next hop", "default gateway"}, "The address to which a machine sends what is not for its own segment. On a segment behind an appliance it is the appliance's address there. Both must be in the same subnet.", ""},
	{"guest", nil, "A machine on a segment. It counts as hostile: it may use any source address, any next hop and any tag.", ""},
	{"hardware address", []string{"mac", "mac address"}, "The 48-bit number by which machines on a segment know each other. The plan makes its own: they start with 02, and the last two bytes tell machine and adapter, so that they can be compared at a glance.", "Real cards have one from their maker."},
	{"held", nil, "The claim that a guest which may not go outside cannot, whatever it tries, while the appliance runs.", ""},
	{"host", nil, "The machine that carries the lab. Where it has a leg on a segment it can be reached from there; where it forwards it is a way out.", "A real lab has no host between the machines; cables take its place."},
	{"host-only", nil, "A network between the host and its guests. The host has a leg on it, and often a lease service that one must switch off when the appliance should hand out leases.", ""},
	{"inbound", nil, "The claim that from outside nothing answers at the WAN but what is published, and not the admin page.", ""},
	{"internal", []string{"isolated", "internal network"}, "A network between guests only: the host is not on it, and nothing leads out. This is what a segment behind an appliance should be.", "In a real installation it is a switch of its own, or a tag."},
	{"lan", nil, "An inside segment, where guests are.", ""},
	{"lease", []string{"dhcp", "leases"}, "An address that a lease server lends to a machine for some hours, with the mask, the gateway and the resolvers. A segment should have exactly one lease server.", ""},
	{"masquerade", []string{"nat", "translation"}, "Inside addresses become the appliance's WAN address on their way out, and answers find back. Without it, upstream does not know the way to the inside.", "A site with public addresses, or routes of its own, may do without."},
	{"mask", []string{"netmask", "prefix", "prefix length"}, "Which part of an address names the network: /24 and 255.255.255.0 are the same. Machines of one segment must have the same mask, or some of them look for each other at the gateway.", ""},
	{"network address", nil, "The first address of a subnet, which names the subnet. No machine may have it.", ""},
	{"one-armed", nil, "An appliance with one adapter beside the router. Guests are pointed at it as their gateway; one that names the router avoids it. It cannot isolate.", ""},
	{"outside", nil, "Everything beyond the lab's inside segments. As a claim: the guest reaches a witness out there, and the witness sees the appliance's WAN address.", ""},
	{"path", nil, "The claim that the first hop on the way outside is the appliance.", ""},
	{"poisoning", []string{"arp poisoning", "spoofing", "gratuitous arp"}, "A guest tells the others of its segment that it has somebody else's address, by ARP or neighbor discovery, and gets their packets. On a plain switch nothing prevents that among neighbors. It is no way out: what it then sends itself still meets the appliance. Guests that must not do it to each other belong on segments of their own.", "A managed switch can be told which address belongs to which socket."},
	{"pool", nil, "The run of addresses that a lease server hands out. It must lie in the subnet and hold no address that some machine has fixed.", ""},
	{"port", nil, "An appliance's interface, with a role; its number is its adapter's number. With tcp or udp before it, a port is a service's number.", ""},
	{"pppoe", nil, "A WAN that dials in with a name and a password over the wire, as many house lines do. Packets can be a little smaller on it.", "The provider gives the name and the password."},
	{"publish", []string{"port forward", "published"}, "A port outside that leads to a guest inside. The guest needs a fixed address. Where another translation stands above the WAN, the same must be done there.", ""},
	{"queue", []string{"queues", "multi-queue"}, "An adapter can hand packets to several processors. As many queues as the machine has processors is right; more do nothing.", ""},
	{"quarantine", nil, "A segment that never reaches outside, for what must not get out.", ""},
	{"refuse", nil, "A rule that answers: the sender is told at once that it may not. Deny says nothing, and the sender waits.", ""},
	{"rehearsal", []string{"rehearse"}, "The lab run in memory, packet by packet, before anything is built. Each answer names the frames that show it.", "It takes the same time on every machine, and no cable is loose in it."},
	{"reservation", nil, "A lease that is always the same address, kept for one hardware address.", ""},
	{"role", nil, "What a port is for: wan (outside), lan and dmz (inside), manage (for the administrator).", ""},
	{"segment", nil, "One broadcast domain: the machines on it reach each other without a router. Its name must be written the same on every adapter that is on it.", "A real segment is a switch, or a tag on one."},
	{"static", nil, "An address that somebody types into a machine. It must be outside every pool.", ""},
	{"subnet", []string{"network"}, "The addresses of a segment. Two segments of a lab must not overlap, nor a segment and a network that the host is on: the appliance could not tell which way a packet goes.", ""},
	{"tag", []string{"vlan"}, "A number in a frame by which one wire carries several segments (IEEE 802.1Q). The tag must be known at both ends and on everything between.", "A real switch must have its socket set up as a trunk for it."},
	{"translated", nil, "A machine attached as translated is hidden behind its host's address. It works everywhere, wireless too, and nothing outside can start a conversation with it.", ""},
	{"transparent", nil, "An appliance that bridges two segments and filters what passes. It has no address there; the segments are one network.", ""},
	{"trunk", nil, "A wire, or an adapter, that carries tagged segments.", ""},
	{"upstream", nil, "What is beyond the host: the house or site network, and all behind it.", ""},
	{"wan", nil, "The outside port of an appliance, and the segment it is on. A WAN on private addresses must not drop packets from private sources.", "A real WAN is the line of a provider."},
	{"wire", nil, "What carries one segment or more: a virtual switch, or a real one.", ""},
	{"witness", nil, "The outside machine that reports what reached it, and from which address.", ""},
}

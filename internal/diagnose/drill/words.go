package drill

import (
	"cmp"
	"slices"
	"strings"
	"sync"

	"openbastion/internal/diagnose/mistakes"
)

// meanings are the things that answers speak of, each with the beginnings of the words that people use for it. A phrase of
// several words is looked for before single ones, and its words count for nothing else.
var meanings = []struct{ name, words string }{
	{"no-link", "not plugged, unplugged, not connected, disconnect, no link, link down, link is down, no cable, cable is out, cable out, cable pulled, detached, no carrier, pulled out, not attached, loose cable"},
	{"own-network", "network of its own, own network, alone on, isolated from, misspelt, typo in the network name"},
	{"swapped", "swapped, exchanged, crossed, reversed, mixed up, interchanged, wrong way round, other way round, switched around"},
	{"joined", "are one network, same switch, bridged together, joined, connected together, one broadcast domain, shorted"},
	{"second-adapter", "second adapter, second nic, second interface, two adapters, two nics, extra adapter, extra nic, additional adapter, additional interface, dual-homed, dual homed, multihomed, second network card, additional nic, extra network card, another nic, another adapter, two network cards, two interfaces"},
	{"conflict", "conflict, duplicate, already taken, in use twice, used twice, same address as, same ip as, has the address of, another machine on"},
	{"mac", "mac address, mac, hardware address, ethernet address, cloned, clone, copy of"},
	{"rogue", "rogue, foreign, unplanned, unauthorised, unauthorized, stranger, unknown dhcp, second dhcp, another dhcp, other dhcp, two dhcp, competing"},
	{"host", "host, hypervisor"},
	{"dhcp", "dhcp, lease, leases, dynamic address, automatic address, hands out, pool, scope"},
	{"pool", "pool, scope, range"},
	{"full", "used up, exhausted, full, too small, no free, ran out, runs out"},
	{"reservation", "reservation, reserved, static lease, static mapping"},
	{"gateway", "gateway, default route, next hop, router, gw, way out"},
	{"dns", "dns, resolver, name server, nameserver, names, name resolution, lookups"},
	{"upstream-dns", "upstream dns, upstream server, forwarder, forwards to, forward to, asks nobody, recursion"},
	{"mask", "netmask, subnet mask, mask, prefix length, prefix, cidr"},
	{"long", "too long, narrow, too small a network, longer"},
	{"short", "too short, wide, too large a network, shorter"},
	{"static", "static, typed, manual, fixed, hand-set, hard-coded, hardcoded, by hand"},
	{"address", "address, ip, addr"},
	{"other-network", "of another network, other network, another subnet, wrong subnet, wrong network, wrong segment, other segment, off-subnet, different subnet, different network, instead of"},
	{"missing", "missing, without, lacks, has no, is not set, not set, no, absent, forgot, forgotten, empty, none"},
	{"wrong", "wrong, incorrect, does not exist, non-existent, nonexistent, bad, mistyped, false, invalid, misconfigured, different, another, other"},
	{"off", "switched off, turned off, is off, off, disabled, not running, does not run, stopped, is down, crashed, hangs, dead, not started, not serve, does not, doesnt, isnt, not being"},
	{"late", "late, after its guests, started after, boot order, start order, too early"},
	{"rule", "rule, rules, policy, filter, acl, access list"},
	{"order", "order, too late, comes after, below, before all, shadowed, never reached, position"},
	{"any", "allow all, allows all, allows everything, any any, any-any, all open, wide open, permits everything, permit any"},
	{"tcp-only", "tcp only, only tcp, tcp alone, udp missing, no udp"},
	{"no-icmp", "no icmp, icmp missing, without icmp, no ping, pings blocked"},
	{"source", "source, wrong source, other segment"},
	{"pending", "pending, not applied, not saved, not committed, apply changes, changes not, uncommitted"},
	{"factory", "factory, default settings, defaults"},
	{"nat", "nat, translate, translation, translated, translat, masquerade, masquerading, snat, pat, overload"},
	{"publish", "port forward, port forwarding, publish, published, publishes, dnat, port mapping, destination nat, inbound nat"},
	{"port-number", "port number, wrong port, target port, other port, different port"},
	{"service", "service, listens, nothing listens, web server, daemon, closed port"},
	{"admin", "admin, management, web gui, gui, web interface, admin page, webui, console page"},
	{"forwarding", "ip forwarding, forwarding, does not forward, not routing, routing disabled, routing off, routing is off"},
	{"relays", "forwards packets for others, routes for others, passes on, relays, acts as a router"},
	{"mtu", "mtu, large packets, large frames, fragment, fragmentation, jumbo, mss, drops packets larger, black hole"},
	{"tag", "vlan, tag, tagged, untagged, trunk, dot1q"},
	{"macs-refused", "mac addresses that it did not assign, promiscuous, forged transmits, foreign mac, mac filter, mac spoofing, port security"},
	{"ipv6", "ipv6, router advertisement, advertises, slaac, rogue ra"},
	{"old", "stale, old lease, former, outdated, cached, not refreshed, older, has not renewed, not renewed"},
	{"old-appliance", "old appliance, old firewall, old router, predecessor, still running"},
	{"expired", "evaluation, trial, licence, license, expired"},
	{"outside", "wan, outside, upstream, internet, uplink, isp, site"},
	{"private", "private, rfc1918, rfc 1918, bogon"},
	{"double-nat", "uses nat for, nat instead of bridg, behind the host, not bridged, host nat"},
	{"slow", "slow, first of, times out first, timeout"},
}

// meaning is one of them, ready to be looked for.
type meaning struct {
	name    string
	phrases []string // of several words, longest first
	words   []string
}

var lexicon = sync.OnceValue(func() (list []meaning) {
	for _, m := range meanings {
		x := meaning{name: m.name}
		for p := range strings.SplitSeq(m.words, ", ") {
			if strings.Contains(p, " ") {
				x.phrases = append(x.phrases, p)
			} else {
				x.words = append(x.words, p)
			}
		}
		list = append(list, x)
	}
	return list
})

// wordsOf returns the words of a text: letters, digits, dots and hyphens.
func wordsOf(text string) []string {
	return strings.FieldsFunc(strings.ToLower(strings.ReplaceAll(text, "'", "")), func(r rune) bool {
		return r != '.' && r != '-' && (r < '0' || r > '9') && (r < 'a' || r > 'z')
	})
}

// meant returns what a text speaks of.
func meant(text string) map[string]bool {
	words := " " + strings.Join(wordsOf(text), " ") + " "
	out := map[string]bool{}
	list := lexicon()
	for _, m := range list {
		for _, p := range m.phrases {
			if strings.Contains(words, " "+p) {
				out[m.name] = true
			}
		}
	}
	for _, m := range list {
		for _, p := range m.phrases {
			words = strings.ReplaceAll(words, " "+p+" ", " ")
		}
	}
	for w := range strings.FieldsSeq(words) {
		w = strings.Trim(w, ".-/")
		for _, m := range list {
			if slices.ContainsFunc(m.words, func(s string) bool { return w == s || len(s) > 4 && strings.HasPrefix(w, s) || w == s+"s" }) {
				out[m.name] = true
			}
		}
	}
	return out
}

// nearly is how much less an answer may fit a mistake than the one that it fits best, for both to be offered.
const nearly = 0.12

// fit is a mistake with how well what was said fits it.
type fit struct {
	mistakes.Mistake
	good float64
}

// mean returns the mistakes that what was said speaks of, with the names in it, the likeliest first.
func (d *Drill) mean(said map[string]bool, named []string) (fits []fit) {
	vague := 0
	for _, c := range []string{"off", "missing", "wrong"} {
		if said[c] {
			vague++
		}
	}
	if len(said) == 0 || len(said) == vague && len(named) == 0 {
		return nil
	}
	best := 0.0
	for _, m := range d.Study.Mistakes {
		sentence := strings.ToLower(m.String() + " " + m.ID())
		if slices.ContainsFunc(named, func(n string) bool { return !strings.Contains(sentence, n) }) {
			continue
		}
		if good := fitting(said, m); good > 0 {
			fits = append(fits, fit{m, good})
			best = max(best, good)
		}
	}
	fits = slices.DeleteFunc(fits, func(f fit) bool { return f.good < best-nearly })
	slices.SortStableFunc(fits, func(a, b fit) int { return cmp.Compare(b.good, a.good) })
	return fits
}

// fitting returns how well what was said fits a mistake: how much of it the mistake has, and how much of the mistake was said;
// 0: hardly.
func fitting(said map[string]bool, m mistakes.Mistake) float64 {
	has, hits := meant(m.String()), 0.0
	for c := range said {
		switch {
		case has[c]:
			hits++
		case c == "missing" && has["off"] || c == "off" && has["missing"]: // what is off is not there
			hits += 0.8
		}
	}
	if 2*hits < float64(len(said)) {
		return 0
	}
	return hits/float64(len(said)) + hits/float64(2*max(len(has), 1))
}

// named returns the names of the lab's machines, ports and segments in a text.
func (d *Drill) named(text string) (out []string) {
	words := wordsOf(text)
	for _, a := range d.Study.Plan.Adapters {
		if port := a.Machine.Name + "." + a.Name; a.Port != nil && slices.Contains(words, port) {
			out = append(out, port)
		}
	}
	is := func(name string) {
		if slices.ContainsFunc(words, func(w string) bool {
			head, _, _ := strings.Cut(strings.Trim(w, "./-"), ".")
			return head == name
		}) {
			out = append(out, name)
		}
	}
	for _, m := range d.Study.Plan.Machines {
		is(m.Name)
	}
	for _, s := range d.Study.Plan.Segments {
		is(s.Name)
	}
	return out
}

// Package course is a guided path through eight exercises, from the first guest online
// to a second door that is found and closed. Each begins with a lab file and is judged by
// claims: what must hold at its end, and what must still be there.
package course

import (
	"embed"
	"fmt"
	"net/netip"
	"slices"

	"openbastion/internal/model/plan"
	"openbastion/internal/verify/claims"
	"openbastion/internal/verify/verdict"
)

//go:embed labs/*.yaml
var labs embed.FS

// Exercise is one of the path.
type Exercise struct {
	Number int
	Title  string
	Task   string   // what is wanted
	Look   []string // commands that show what is the matter; LAB is the file
	Hints  []string // from a nudge to the remedy
	Learnt string   // what one knows afterwards

	goals []goal
	whole bool // all that the lab claims must hold, too
}

// goal is something that must be so at the end.
type goal struct {
	text string
	met  func(p *plan.Plan, doc verdict.Document) bool
}

// Start returns the lab file that the exercise begins with.
func (e Exercise) Start() []byte {
	data, err := labs.ReadFile(fmt.Sprintf("labs/%d.yaml", e.Number))
	if err != nil {
		panic(err) // it is compiled in
	}
	return data
}

// Goal is a goal with whether it is met.
type Goal struct {
	Text string `json:"text"`
	Met  bool   `json:"met"`
}

// Judge tells of each goal whether a lab meets it, and whether all is done.
func (e Exercise) Judge(p *plan.Plan, doc verdict.Document) (goals []Goal, done bool) {
	done = true
	for _, g := range e.goals {
		met := g.met(p, doc)
		goals, done = append(goals, Goal{g.text, met}), done && met
	}
	if e.whole {
		met := doc.Verdict == claims.Holds
		goals, done = append(goals, Goal{"every check of the lab is ok", met}), done && met
	}
	return goals, done
}

// holds is a goal that claims hold, which must be there.
func holds(text string, ids ...string) goal {
	return goal{text, func(_ *plan.Plan, doc verdict.Document) bool {
		for _, id := range ids {
			if !slices.ContainsFunc(
				doc.Claims,
				func(r claims.Result) bool { return r.ID == id && r.Verdict == claims.Holds },
			) {
				return false
			}
		}
		return true
	}}
}

// has is a goal that a guest has an address on a segment, got in a way.
func has(text, guest, segment string, how plan.How, address string) goal {
	return goal{text, func(p *plan.Plan, _ verdict.Document) bool {
		m := p.Machine(guest)
		if m == nil {
			return false
		}
		return slices.ContainsFunc(m.Adapters, func(a *plan.Adapter) bool {
			return a.Segment.Name == segment && a.How == how &&
				(address == "" || a.Address.IsValid() && a.Address == netip.MustParsePrefix(address))
		})
	}}
}

// Exercises are all, in order.
var Exercises = []Exercise{
	{Number: 1, Title: "The first guest online",
		Task: "heron sits on reedbed and gets no address: no port of sluice is there. Give sluice a port inside on reedbed, with 10.83.16.1/24, " +
			"so that heron gets its address from it by DHCP and reaches outside through it.",
		Look: []string{"bastion check LAB", "bastion rehearse LAB", "bastion explain no-gateway"},
		Hints: []string{"An appliance has a port for each segment that it serves; ports: lists them in adapter order.",
			"A port inside has the role lan, and names its segment and its address.",
			"Write - {role: lan, segment: reedbed, address: 10.83.16.1/24} below the WAN."},
		Learnt: "An appliance connects two sides; a segment without one of its ports has no gateway.",
		goals: []goal{
			holds("heron has an address from sluice", "heron.dhcp"),
			holds("its next hop is sluice", "heron.gateway"),
			holds("names resolve", "heron.dns"),
			holds("it reaches outside", "heron.outside", "heron.first-hop"),
			holds("and by no other path: nothing gets out with the WAN unplugged", "heron.no-bypass"),
		}, whole: true},
	{Number: 2, Title: "Always the same address",
		Task: "otter must always get 10.83.16.20 by DHCP, so that rules and other machines can use it.",
		Look: []string{"bastion plan LAB --part addresses", "bastion plan LAB --part dhcp"},
		Hints: []string{
			"A reservation: nothing is configured on the guest.",
			"A guest with keys is written {segment: …, …}.",
			"Write otter: {segment: reedbed, reserve: 10.83.16.20}.",
		},
		Learnt: "A reservation binds an IP address to a MAC address on the server; it is outside the pool.",
		goals: []goal{
			has("otter's address is 10.83.16.20, reserved", "otter", "reedbed", plan.Reservation, "10.83.16.20/24"),
			holds("it gets it", "otter.dhcp"),
			holds("heron still uses DHCP", "heron.dhcp"),
		}, whole: true},
	{Number: 3, Title: "Typed too fast",
		Task: "ferry is on boathouse with static settings, but neither reaches outside nor resolves names. Find the mistakes and correct them: ferry must have 10.83.32.10/24.",
		Look: []string{
			"bastion diagnose LAB --seen ferry.gateway=none",
			"bastion trace LAB ferry outside icmp",
			"bastion explain narrow-mask",
		},
		Hints: []string{
			"There are three slips in one line.",
			"Compare the prefix length with the segment's; check ferry's DNS server.",
			"Write static: 10.83.32.10/24, gateway: 10.83.32.1, dns: [10.83.32.1].",
		},
		Learnt: "With a wrong mask a machine does not find its next hop; with a wrong DNS server only names fail.",
		goals: []goal{
			has("ferry has the static address 10.83.32.10/24", "ferry", "boathouse", plan.Static, "10.83.32.10/24"),
			holds("its next hop is sluice", "ferry.gateway"),
			holds("names resolve", "ferry.dns"),
			holds("it reaches outside", "ferry.outside"),
		}, whole: true},
	{Number: 4, Title: "One port forward, nothing else",
		Task: "From outside, ferry must be reachable at tcp/8443, forwarded to its tcp/443; and nothing else of the lab, " +
			"above all not the admin page, which answers outside now.",
		Look: []string{
			"bastion rehearse LAB",
			"bastion explain admin-outside",
			"bastion trace LAB outside ferry tcp/8443",
		},
		Hints: []string{
			"Port forwards are under nat: of the appliance.",
			"The web page answers on ports with admin: true; use an inside port.",
			"nat: {publish: [{port: tcp/8443, to: ferry, at: tcp/443}]}, and admin: true at the port of reedbed alone.",
		},
		Learnt: "A published port is an opening on purpose; an admin page outside is one by mistake.",
		goals: []goal{
			holds("from outside tcp/8443 reaches ferry", "ferry-tcp-8443.published"),
			holds("and nothing else answers",
				"sluice.inbound"),
			holds("heron still gets out", "heron.outside"),
		}, whole: true},
	{Number: 5, Title: "Quarantine",
		Task: "newt, on tidepool, must never reach outside or reedbed. The rule for that exists but decides nothing. heron must reach outside as before.",
		Look: []string{"bastion check LAB", "bastion prove LAB", "bastion trace LAB newt outside tcp/443"},
		Hints: []string{
			"The first rule that matches decides.",
			"The rule that denies tidepool comes after one that allows it.",
			"Remove the rule that allows tidepool, or move the one that denies it to the top.",
		},
		Learnt: "The first matching rule decides: put deny before allow.",
		goals: []goal{
			holds("newt is held", "newt.blocked"),
			holds("nothing gets out with the WAN unplugged", "newt.no-bypass"),
			holds("the sentence holds", "expect-1.expect"),
			holds("heron gets out", "heron.outside"),
		}, whole: true},
	{Number: 6, Title: "Who serves DHCP?",
		Task: "Guests of reedbed sometimes get an address without a path outside. Find the second DHCP server, and make sluice the only one.",
		Look: []string{"bastion diagnose LAB --table", "bastion rehearse LAB", "bastion explain two-dhcp-servers"},
		Hints: []string{
			"Count the DHCP servers on reedbed.",
			"The host is on reedbed, and serves there.",
			"Write reedbed: {reach: isolated, subnet: 10.83.16.0/24}, without dhcp: host.",
		},
		Learnt: "With two DHCP servers a guest takes whichever offer arrives first: it works only sometimes.",
		goals: []goal{
			holds("sluice alone serves DHCP on reedbed", "reedbed.one-dhcp"),
			holds(
				"heron's address comes from sluice",
				"heron.dhcp",
			),
			holds("otter has its reservation", "otter.dhcp"),
			holds("both get out", "heron.outside", "otter.outside"),
		},
		whole: true},
	{Number: 7, Title: "Numbers answer, names do not",
		Task: "heron and ferry reach IP addresses but resolve no names. There are two causes: fix both, without a rule that allows more than DNS for ferry.",
		Look: []string{
			"bastion diagnose LAB --seen heron.number=ok --seen heron.name=none",
			"bastion trace LAB ferry outside udp/53",
			"bastion explain DNS server",
		},
		Hints: []string{"Query each guest's own DNS server: DHCP provides one, and ferry has a static one.",
			"10.83.16.2 does not exist; and udp/53 from boathouse is denied, so ferry cannot query outside.",
			"Write dns: [self] under dhcp: of reedbed, and dns: [10.83.32.1] for ferry."},
		Learnt: "Names need a DNS server that answers and that the rules allow.",
		goals: []goal{
			holds("names resolve on heron", "heron.dns"),
			holds("and on ferry", "ferry.dns"),
			holds("both get out",
				"heron.outside", "ferry.outside"),
		}, whole: true},
	{Number: 8, Title: "The second door",
		Task: "Everything works. But with sluice's WAN unplugged, a guest still reaches outside. Find the bypass and close it; leave the rest unchanged.",
		Look: []string{
			"bastion prove LAB",
			"bastion diagnose LAB --seen heron.no-bypass=open",
			"bastion draw LAB --form text",
		},
		Hints: []string{
			"That a guest reaches outside does not show through which path.",
			"otter has two adapters, and one is on causeway.",
			"Write otter: {segment: reedbed, reserve: 10.83.16.20}.",
		},
		Learnt: "A lab is closed when nothing gets out with the appliance cut off: try that, always.",
		goals: []goal{
			holds("with the WAN unplugged nothing of heron gets out", "heron.no-bypass"),
			holds("nor of otter", "otter.no-bypass"),
			holds(
				"otter is still there, and gets out through sluice",
				"otter.outside",
				"otter.first-hop",
			),
			holds("ferry is still published",
				"ferry-tcp-8443.published"),
			holds("newt is still held", "newt.blocked"),
		}, whole: true},
}

package diagnose

import (
	"sync"

	"openbastion/internal/model/plan"
)

// signs say what a look shows that is not as planned, without whose it is.
var signs = sync.OnceValue(func() map[Kind]map[Value]string {
	return map[Kind]map[Value]string{
		Cable: {None: "no link"}, Mask: {Narrow: "a mask too long", Wide: "a mask too short"},
		Router: {
			None:   "no default route is set",
			Other:  "another default route is set",
			Astray: "its default gateway is not in its network",
		},
		Resolver: {None: "no DNS server is set", Other: "another DNS server is set"},
		Gateway: {
			None:     "its next hop does not answer",
			Other:    "another machine answers for its next hop",
			Stranger: "a machine that is not in the plan answers for its next hop",
			NoRoute:  "it has no next hop",
			Astray:   "its next hop answers only ARP",
		},
		Number: {Open: "it reaches outside by ping", Refused: "pings to outside are refused",
			Unreached: "the appliance reports that it cannot reach outside"},
		Page: {Open: "it reaches outside over HTTP"}, Datagram: {Open: "it reaches outside over UDP"},
		Name: {
			Failed:  "the DNS server resolves no names",
			None:    "DNS times out",
			Refused: "its DNS server does not listen",
			NoRoute: "it reaches no DNS server",
			Late:    "the first name fails, the second is found",
			Other:   "names resolve to other addresses",
		},
		Large: {None: "large pings are lost"}, Path: {Other: "another first hop", None: "no first hop"},
		Source: {Other: "seen outside under another address"},
		Cut:    {Open: "it reaches outside with the WAN unplugged"},
		Servers: {
			None:  "nothing serves DHCP to it",
			Two:   "two serve DHCP to it",
			Other: "another machine serves DHCP to it",
		},
		Admin:    {None: "the admin page does not open", Refused: "the admin page is refused"},
		IPv6:     {Other: "an IPv6 router"},
		Adapters: {Other: "an extra adapter"},
		Hardware: {Other: "another MAC address"},
		How:      {Other: "its address is not obtained as planned"},
		Twin:     {Other: "another machine has its address"},
		Attached: {Other: "it is attached to another network", None: "it is attached to nothing"},
		Log:      {Refused: "the log shows that a rule drops it", None: "the log does not show it"},
		Console: {
			None: "the console is dark",
		}, Inbound: {Open: "the admin page opens from outside"}, Host: {Open: "the host is on its segment"},
	}
})

// sign returns what a look shows.
func (l *Look) sign(p *plan.Plan, v Value) string {
	if text, ok := signs()[l.Kind][v]; ok {
		return text
	}
	switch l.Kind {
	case Lease, Address, Renew:
		anew := ""
		if l.Kind == Renew {
			anew = ", also on a second try"
		}
		switch {
		case v == None:
			return "no address" + anew
		case v == Late:
			return "its address comes late"
		case v == Other:
			return "another address of its network" + anew
		case v == Foreign:
			return "an address of a network that is not in the lab" + anew
		}
		return "an address of " + v.Word(p) + anew
	case Attached:
		return "it is attached to " + v.Word(p)
	case Path:
		return "its first hop is on " + v.Word(p)
	case Servers:
		return "it gets DHCP leases of " + v.Word(p)
	case Number:
		return "no IP address outside answers"
	case Page:
		return "no page outside opens"
	case Datagram:
		return "no datagram comes back from outside"
	case Neighbor, Across:
		if v == Open {
			return l.To.Machine.Name + " answers it, and must not"
		}
		return l.To.Machine.Name + " does not answer it" + manner(v)
	case Stopped:
		return "it reaches outside by " + l.service.String()
	case Published:
		return "from outside " + l.service.String() + " does not answer" + manner(v)
	case Inside:
		return "from " + l.Machine.Name + " " + l.service.String() + " does not answer" + manner(v)
	}
	return symptomWords()[l.Kind] + ": " + v.Word(p)
}

// manner returns how it is that nobody answers, where that is more than silence.
func manner(v Value) string {
	switch v {
	case Refused:
		return ": refused"
	case Unreached:
		return ": unreachable, reported by a router"
	case NoRoute:
		return ": no route"
	case Other:
		return ": another machine does"
	}
	return ""
}

package diagnose

import "sync"

import "openbastion/internal/model/plan"

// signs say what a look shows that is not as planned, without whose it is.
var signs = sync.OnceValue(func() map[Kind]map[Value]string {
	return map[Kind]map[Value]string{
		Cable: {None: "no link"}, Mask: {Narrow: "a mask too long", Wide: "a mask too short"},
		Router:   {None: "no path outside is set", Other: "another path outside is set", Astray: "its path outside is not in its network"},
		Resolver: {None: "no DNS server is set", Other: "another DNS server is set"},
		Gateway: {None: "its next hop does not answer", Other: "another machine answers as its next hop", NoRoute: "it has no next hop",
			Astray: "its next hop answers by ARP alone"},
		Number: {Open: "it gets outside by ping", Refused: "pings outside are refused",
			Unreached: "the appliance says that it cannot get outside"},
		Page: {Open: "it gets outside by pages"}, Datagram: {Open: "it gets outside by datagrams"},
		Name: {Failed: "the DNS server cannot find names", None: "names run out of time", Refused: "no DNS server listens where it asks",
			NoRoute: "it reaches no DNS server", Late: "the first name fails, the second is found", Other: "names lead elsewhere"},
		Large: {None: "large pings are lost"}, Path: {Other: "another first hop on the path outside", None: "no first hop on the path outside"},
		Source:   {Other: "seen outside under another address"},
		Cut:      {Open: "it gets outside with the WAN unplugged"},
		Servers:  {None: "nothing serves DHCP to it", Two: "two serve DHCP to it", Other: "another machine serves DHCP to it"},
		Admin:    {None: "the admin page does not open", Refused: "the admin page is refused"},
		IPv6:     {Other: "a router over IPv6"},
		Adapters: {Other: "an adapter too many"},
		Hardware: {Other: "another MAC address"},
		How:      {Other: "its address is not got as planned"},
		Log:      {Refused: "the log says that a rule stops it", None: "the log says nothing of it"},
		Console:  {None: "the console is dark"}, Inbound: {Open: "the admin page opens from outside"}, Host: {Open: "the host is on it"},
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
			anew = ", also when it asks again"
		}
		switch {
		case v == None:
			return "no address" + anew
		case v == Late:
			return "its address comes late"
		case v == Other:
			return "another address of its network" + anew
		case v == Foreign:
			return "an address of no network of the lab" + anew
		}
		return "an address of " + v.Word(p) + anew
	case Servers:
		return "leases of " + v.Word(p) + " are given out to it"
	case Number:
		return "no number outside answers"
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
		return "it gets outside by " + l.service.String()
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
		return ": unreachable, says a router"
	case NoRoute:
		return ": no way there"
	case Other:
		return ": another machine does"
	}
	return ""
}

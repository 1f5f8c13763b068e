package diagnose

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"sync"

	"openbastion/internal/diagnose/mistakes"
	"openbastion/internal/model/plan"
	"openbastion/internal/model/subnet"
	"openbastion/internal/observe/listing"
)

// commandsOf returns the commands of a guest's system.
func commandsOf(g *plan.Machine) listing.Commands {
	if g == nil || g.Guest == nil {
		return listing.CommandsOf("")
	}
	return listing.CommandsOf(listing.System(g.Guest.System))
}

// nameOutside stands for all names outside (RFC 2606).
const nameOutside = "example.com"

// ask returns the question for a look, and what to do for it.
func (l *Look) ask(p *plan.Plan) (text, do string) {
	who := "outside"
	if l.Machine != nil {
		who = l.Machine.Name
	}
	c := commandsOf(l.Machine)
	on := "on " + who + ": "
	if l.Machine != nil && l.Machine.Appliance != nil {
		return l.askConsole(who)
	}
	switch l.Kind {
	case Cable:
		return "Has the adapter of " + who + " a link?", on + c.Addresses
	case Lease, Address:
		return "Which address does " + who + " have?", on + c.Addresses
	case Mask:
		return fmt.Sprintf("Is the mask of %s that of %s?", who, l.At.Segment.Subnet), on + c.Addresses
	case Router:
		return "Is the default route on " + who + " as planned" + asPlanned(l.single) + "?", on + c.Routes
	case Resolver:
		return "Is the DNS server of " + who + " as planned" + asPlanned(l.single) + "?", on + c.Resolvers
	case Adapters:
		return "Does " + who + " have as many adapters as planned, " + number(
			len(l.Machine.Adapters),
		) + "?", on + c.Addresses
	case Hardware:
		return fmt.Sprintf("Is the MAC address of %s %s?", who, l.At.MAC), on + c.Addresses
	case Attached:
		return fmt.Sprintf("Is the adapter of %s attached to %s?", who, l.At.Segment.Called()), "in its settings in the hypervisor"
	case Twin:
		return "Does " + who + " report its address as a duplicate?", on + c.Addresses
	case How:
		return "Is the address of " + who + " obtained as planned: " + gotBy(
			l.At,
		) + "?", "in the network settings of " + who
	case Gateway:
		return "Does the next hop of " + who + " answer, and is it the appliance?", on + c.Ping(
			gatewayOf(l.At),
		) + ", then the neighbor table"
	case Number:
		return "Does " + who + " reach an IP address outside by ping?", on + c.Ping("NUMBER")
	case Page:
		return fmt.Sprintf("Does %s open a page outside by IP address, %s?", who, l.service), on + c.Fetch("NUMBER")
	case Datagram:
		return fmt.Sprintf(
			"Does %s get a reply from outside over %s?",
			who,
			l.service,
		), on + "query a time or DNS server outside by address"
	case Name:
		return "Does a name outside resolve on " + who + "?", on + c.Name(nameOutside)
	case Large:
		return "Does a ping that fills a packet come back to " + who + "?", on + c.Large("NUMBER")
	case Path:
		return "Is the appliance the first hop on the path outside of " + who + "?", on + c.Hop("NUMBER")
	case Source:
		return "Does the outside see " + who + " under the appliance's WAN address?", "on an outside page that shows the sender's address, or on the test server"
	case Log:
		return "What does the appliance's log show for packets that " + who + " sends outside?",
			"on the appliance, read the log while " + who + " pings outside"
	case Cut:
		return "With the appliance's WAN unplugged, does " + who + " still reach anything outside?", "unplug the WAN, then " + on +
			c.Ping(
				"NUMBER",
			)
	case Servers:
		return "Which machine answers when " + who + " sees which DHCP servers?", on + "`bastion probe`, or check which server the lease is from"
	case Neighbor:
		return fmt.Sprintf("Does %s reach %s, on its own segment?", who, l.To.Machine.Name), on + c.Ping(targetOf(l.To))
	case Across:
		return fmt.Sprintf("Does %s reach %s, on %s, over %s?", who, l.To.Machine.Name, l.To.Segment.Name, l.service),
			on + c.Ping(targetOf(l.To))
	case Admin:
		return "Does the admin page open from " + who + "?", fmt.Sprintf(
			"on %s: open https://%s:%d/",
			who,
			l.To.Address.Addr(),
			l.service.From,
		)
	case IPv6:
		return "Has " + who + " an IPv6 router?", on + c.Routes
	case Renew:
		return "Which address has " + who + " after a renewal?", on + c.Renew
	case Stopped:
		return fmt.Sprintf(
			"Does %s reach outside over %s, which a rule denies?",
			who,
			l.service,
		), on + "try it with any client"
	case Inside:
		return fmt.Sprintf(
				"From inside, on %s: does %s of %s answer?",
				who,
				l.service,
				l.To.Machine.Name,
			), on + "open it at " + targetOf(
				l.To,
			)
	case Published:
		return fmt.Sprintf(
			"From outside: does %s at the WAN address reach %s?",
			l.service,
			l.To.Machine.Name,
		), "from a machine outside, open it"
	case Inbound:
		return fmt.Sprintf(
			"From outside: does the admin page (%s) open at the WAN address?",
			l.service,
		), "from a machine outside, open it"
	}
	return fmt.Sprintf(
		"Does the host have an address on %s?",
		l.Segment.Name,
	), "on the host: ip -br address, or its own list"
}

// askConsole is ask for what one looks at on an appliance.
func (l *Look) askConsole(who string) (text, do string) {
	at := "on the console of " + who
	switch l.Kind {
	case Console:
		return "Does the console of " + who + " answer?", "look at the console of " + who
	case Attached:
		return fmt.Sprintf("Is adapter %d of %s attached to %s?", l.At.Number, who, l.At.Segment.Called()),
			"in its settings in the hypervisor"
	case Cable:
		return fmt.Sprintf("Does port %s of %s have a link?", l.At.Name, who), at + ", list the interfaces"
	case Address:
		return fmt.Sprintf("Which address does port %s of %s have?", l.At.Name, who), at + ", list the interfaces"
	case How:
		return fmt.Sprintf(
			"Does port %s of %s get its address as planned: %s?",
			l.At.Name,
			who,
			gotBy(l.At),
		), at + ", read its settings"
	case Gateway:
		return "Does the router upstream answer the console of " + who + "?", at + ", ping its gateway"
	case Number:
		return "Does an IP address outside answer the console of " + who + "?", at + ", ping an IP address outside"
	}
	return "Does a name resolve on the console of " + who + "?", at + ", resolve a name"
}

// brief names a look in a list to choose from.
func (l *Look) brief() string {
	text := l.subject() + ": " + symptomWords()[l.Kind]
	if l.At != nil && l.At.Port != nil && l.Machine != nil {
		text = l.At.Machine.Name + "." + l.At.Name + ": " + symptomWords()[l.Kind]
	}
	switch l.Kind {
	case Hardware:
		text += ", planned " + l.At.MAC.String()
	case Adapters:
		text += ", planned " + number(len(l.Machine.Adapters))
	case How:
		text += ", planned " + gotBy(l.At)
	case Address:
		text += ", planned " + gotBy(l.At)
	case Across, Neighbor:
		text = l.subject() + " to " + l.To.Machine.Name
	case Stopped:
		text = l.subject() + ": outside by " + l.service.String()
	case Admin, Inbound:
		text += " (" + l.service.String() + ")"
	}
	return text
}

// asPlanned names the planned address, where the plan says one.
func asPlanned(a netip.Addr) string {
	if !a.IsValid() {
		return ""
	}
	return ", " + a.String()
}

// gotBy returns how an address is to be got.
func gotBy(a *plan.Adapter) string {
	if a.How == plan.Static {
		return "static"
	}
	return "DHCP"
}

func number(n int) string { return [...]string{"none", "one", "two", "three", "four"}[min(n, 4)] }

// gatewayOf returns an adapter's planned next hop.
func gatewayOf(a *plan.Adapter) string {
	if gate := a.Gate(); gate != nil && gate.Address.IsValid() {
		return gate.Address.Addr().String()
	}
	if a.Segment.Gateway.IsValid() {
		return a.Segment.Gateway.String()
	}
	return "its next hop"
}

// targetOf returns where one tries to reach a guest.
func targetOf(a *plan.Adapter) string {
	if a.Address.IsValid() {
		return a.Address.Addr().String()
	}
	return a.Machine.Name
}

// told are a value in words, for most looks.
var told = sync.OnceValue(func() map[Value]string {
	return map[Value]string{Holds: "yes", None: "no, nothing answers", Refused: "no, it is refused",
		Unreached: "no, a router reports it unreachable",
		NoRoute:   "no, the machine has no route", Failed: "no, the DNS server returns SERVFAIL",
		Other: "different from the plan",
		Late:  "yes, after a while", Open: "yes", Narrow: "a longer mask", Wide: "a shorter mask", Two: "more than one",
		Foreign: "one of another network",
		Astray:  "one outside its own network"}
})

// tells returns a value as an answer to the look's question.
func (l *Look) tells(p *plan.Plan, v Value) string {
	if v >= networks {
		return "one of " + v.Word(p)
	}
	switch l.Kind {
	case Lease, Address, Renew:
		switch v {
		case Holds:
			return "the planned one"
		case None:
			return "none, or a link-local one"
		case Late:
			return "the planned one, after a while"
		case Other:
			return "another one of " + l.home.Subnet.String()
		}
	case Servers:
		switch v {
		case Holds:
			return "the planned server, no other"
		case None:
			return "nobody"
		case Other:
			return "another machine"
		}
	case Log:
		return map[Value]string{Holds: "a rule lets them pass", Refused: "a rule stops them", None: "nothing: they do not arrive there"}[v]
	case Gateway, Name, Path:
		if v == Astray {
			return "it answers ARP, but not ping"
		}
		if v == Stranger {
			return "it answers from a MAC address that is not in the plan"
		}
		if v == Other {
			return map[Kind]string{Gateway: "it answers from another MAC address", Name: "yes, to another address",
				Path: "no, another machine is"}[l.Kind]
		}
	case Cable, Adapters, Hardware, How, Source, Console, Attached, Twin:
		if v == None || v == Other {
			return "no"
		}
	case Cut, Inbound, Host, Stopped:
		if v == Holds {
			return "no"
		}
	case Number, Page, Datagram, Across:
		if !l.allowed {
			return map[Value]string{Holds: "no, as planned", Open: "yes"}[v]
		}
		if v == Other {
			return "yes, but another machine answers"
		}
	case IPv6:
		return map[Value]string{Holds: "no", Other: "yes"}[v]
	}
	return told()[v]
}

// maskSeen returns what an address with its length says of the mask.
func (s *Study) maskSeen(g *plan.Machine, text string) []Seen {
	prefix, err := subnet.ParsePrefix(text)
	if err != nil {
		return nil
	}
	return s.maskOf(g, prefix)
}

func (s *Study) maskOf(g *plan.Machine, prefix netip.Prefix) []Seen {
	var out []Seen
	for _, i := range s.of(g, Mask) {
		v := maskValue(s.Looks[i].At.Segment, prefix)
		out = append(out, Seen{Text: s.Looks[i].ID + "=" + v.Word(s.Plan), Looks: []int{i}, Value: v})
	}
	return out
}

// Confirm returns the cheapest look at a mistake itself, with the command for it where
// it is made on a guest.
func Confirm(m mistakes.Mistake) string {
	text := m.Fill(m.Look)
	g := m.Guest()
	if g == nil || m.Family == mistakes.Wiring {
		return text
	}
	c := commandsOf(g)
	switch {
	case strings.Contains(m.Look, "routes"):
		text += " (" + c.Routes + ")"
	case strings.Contains(m.Look, "resolvers"):
		text += " (" + c.Resolvers + ")"
	case strings.Contains(m.Look, "renew its lease"):
		text += " (" + c.Renew + ")"
	case strings.Contains(m.Look, "on {machine}"):
		text += " (" + c.Addresses + ")"
	}
	return text
}

// Tells returns the cheapest look at which a cause shows something else than the likeliest
// other one does; empty when there is none.
func (s *Study) Tells(c Cause, causes []Cause) string {
	for _, o := range causes {
		if slices.Equal(o.Vector, c.Vector) {
			continue
		}
		best := -1
		for i, l := range s.Looks {
			if l.Kind.pasted() || c.Vector[i] == o.Vector[i] || c.Vector[i] == Unseen || o.Vector[i] == Unseen {
				continue
			}
			if best < 0 || l.Cost < s.Looks[best].Cost {
				best = i
			}
		}
		if best < 0 {
			return ""
		}
		text, do := s.Looks[best].ask(s.Plan)
		return fmt.Sprintf("%s Here: %s. (%s)", text, s.Looks[best].tells(s.Plan, c.Vector[best]), do)
	}
	return ""
}

// complained are the looks by what people come with first.
var complained = []Kind{
	Page,
	Name,
	Published,
	Inside,
	Across,
	Admin,
	Neighbor,
	Number,
	Datagram,
	Large,
	Inbound,
	Stopped,
	Host,
	Cut,
	Lease,
	Address,
	IPv6,
	Servers,
	Source,
	Path,
	Adapters,
	Hardware,
	How,
	Mask,
	Router,
	Resolver,
	Renew,
	Gateway,
	Cable,
	Log,
	Console,
}

// Complaints returns what people would come with who sit before a lab that shows a vector:
// at most so many things, those first that one meets without looking for them.
func (s *Study) Complaints(v Vector, most int) []string {
	var out []string
	for _, k := range complained {
		if k == Source && len(out) > 0 {
			break // from here on they are looks that one takes on purpose, and tell too much
		}
		for i, l := range s.Looks {
			if l.Kind == k && v[i] != Holds && v[i] != Unseen && len(out) < most {
				if text := l.complaint(s.Plan, v[i]); !slices.Contains(out, text) {
					out = append(out, text)
				}
			}
		}
	}
	return out
}

// complaint says in a person's words that a look is not as it should be.
func (l *Look) complaint(p *plan.Plan, v Value) string {
	who := l.subject()
	if text, ok := complaints()[l.Kind]; ok {
		return strings.ReplaceAll(text, "{}", who)
	}
	switch l.Kind {
	case Lease, Address, Renew:
		switch v {
		case None:
			return who + " has no address"
		case Late:
			return who + " has its address after a long while"
		}
		return who + " has an unexpected address"
	case Name:
		if v == Late {
			return "on " + who + " the first page fails and the second opens"
		}
		return "on " + who + " no name is found"
	case Number, Page, Datagram:
		if v == Open {
			return who + " reaches outside, and must not"
		}
		return map[Kind]string{Number: who + " reaches no IP address outside", Page: "on " + who + " no page opens",
			Datagram: "time and the like fail on " + who}[l.Kind]
	case Neighbor, Across:
		if v == Open {
			return who + " reaches " + l.To.Machine.Name + ", and must not"
		}
		return who + " does not reach " + l.To.Machine.Name
	case Published, Inside:
		where := "from outside"
		if l.Kind == Inside {
			where = "from " + l.Machine.Name
		}
		if v == Other {
			return where + " another machine than " + l.To.Machine.Name + " answers"
		}
		return where + " " + l.To.Machine.Name + " does not answer at " + l.service.String()
	case Stopped:
		return who + " reaches outside by " + l.service.String() + ", which a rule should deny"
	case Host:
		return "the host answers on " + who
	}
	return who + ": " + l.sign(p, v)
}

// complaints are those that say the same whatever a look shows; {} is who it is.
var complaints = sync.OnceValue(func() map[Kind]string {
	return map[Kind]string{
		Cable:    "{} has no link",
		Gateway:  "the next hop of {} does not answer, or another machine does",
		Large:    "large pages hang on {}",
		Admin:    "the admin page does not open on {}",
		Inbound:  "the admin page of {} opens from outside",
		Cut:      "{} still reaches outside when the appliance's WAN is unplugged",
		Servers:  "more than one DHCP server on the segment of {}, or another one than planned",
		IPv6:     "{} has an IPv6 router",
		Console:  "the console of {} is dark",
		Adapters: "{} has an extra adapter",
	}
})

package firewall

import (
	"net/netip"
	"slices"
	"time"

	"openbastion/internal/netsim/header"

	"openbastion/internal/model/lab"
	"openbastion/internal/model/plan"
	"openbastion/internal/model/subnet"
	"openbastion/internal/netsim/dhcp"
	"openbastion/internal/netsim/dns"
	"openbastion/internal/netsim/host"
	"openbastion/internal/netsim/packet"
)

// Filter is the appliance's packet filter and translation: first match
// decides, answers to what was allowed pass, the rest is denied. It keeps
// track of conversations and implements [node.Hook].
//
// Packets must come from where their source lives (strict reverse path,
// RFC 3704, section 2.2), and fragments are not passed, as they hide ports.
type Filter struct {
	Hits map[*plan.Rule]int // conversations decided by each rule; nil counts what no rule matched

	machine *plan.Machine
	node    *host.Node
	ports   map[*host.Port]*plan.Adapter
	wans    []*host.Port
	masq    []netip.Prefix
	table   table
	cur     current
}

// current is what the filter knows of the packet that is passing through.
type current struct {
	in        *host.Port
	flow      *flow
	back      bool
	related   bool
	published bool
	first     tuple // as the packet came, for one that starts a conversation
}

// leaseTalk reports whether it is a request for a lease to everybody, outward, or an answer to
// one, inward (RFC 2131, section 2: the magic cookie stands behind 236 bytes).
func leaseTalk(p *packet.Packet, k tuple, outward bool) bool {
	if p.Proto != packet.UDP || len(p.Data) < header.UDPSize+240 {
		return false
	}
	m := p.Data[header.UDPSize:]
	if string(m[236:240]) != "\x63\x82\x53\x63" {
		return false
	}
	if outward {
		return m[0] == 1 && k.from == dhcp.ClientPort && k.to == dhcp.ServerPort &&
			p.Destination == netip.AddrFrom4([4]byte{255, 255, 255,
				255})
	}
	return m[0] == 2 && k.from == dhcp.ServerPort && k.to == dhcp.ClientPort
}

// Forget empties the table of conversations, as a restart does.
func (f *Filter) Forget() { f.table = table{} }

func key(p *packet.Packet) (k tuple, ok bool) {
	if p.Fragment {
		return k, false
	}
	k = tuple{proto: p.Proto, source: p.Source, destination: p.Destination}
	k.from, k.to, ok = p.Ports()
	k.reply = ok && p.Ping(true)
	if !ok && p.Proto != packet.TCP && p.Proto != packet.UDP && p.Proto != packet.ICMP && p.Proto != packet.ICMP6 {
		return k, true
	}
	return k, ok
}

func proto(p uint8) lab.Proto {
	switch p {
	case packet.ICMP, packet.ICMP6:
		return lab.ICMP
	case packet.TCP:
		return lab.TCP
	case packet.UDP:
		return lab.UDP
	}
	return lab.Any
}

// Arriving finds the packet's conversation and undoes translation.
func (f *Filter) Arriving(now time.Duration, in *host.Port, p *packet.Packet) host.Verdict {
	f.cur = current{in: in}
	if !p.TransportValid() { // its ports and flags may be anything, and translating it would sign it
		f.node.Say(host.Lost, 0, "dropped: its checksum is wrong")
		return host.Discard
	}
	if f.node.Local(p.Source) {
		f.node.Say(host.Lost, 0, "dropped: %s is an address of the appliance itself", p.Source)
		return host.Discard
	}
	if back, _ := f.node.Route(p.Source); back != in && !(p.IPv6 && p.Source.IsLinkLocalUnicast()) &&
		!f.otherWay(back, in, p.Source) {
		f.node.Say(host.Lost, 0, "dropped: %s does not live at port %s, where it came in", p.Source, in.Name)
		return host.Discard
	}
	if a := f.ports[in]; a.Port != nil && a.Port.DropPrivate && subnet.Private(p.Source) {
		f.node.Say(
			host.Lost,
			a.Port.At("drop-private").Line,
			"dropped: the private source %s at port %s",
			p.Source,
			in.Name,
		)
		return host.Discard
	}
	if p.IsError() {
		return f.relate(now, p)
	}
	k, ok := key(p)
	if !ok {
		f.node.Say(host.Lost, 0, "dropped: a fragment hides its ports")
		return host.Discard
	}
	f.cur.first = k
	if f.cur.flow, f.cur.back = f.table.find(now, k); f.cur.flow != nil {
		c := f.cur.flow
		c.touch(now, p, f.cur.back)
		if f.node.Noted != nil {
			defer f.sayKnown(k, p)
		}
		if f.cur.back {
			if c.forth.source != k.destination || c.forth.from != k.to {
				p.SetDestination(c.forth.source, c.forth.from)
			}
			if c.forth.destination != k.source || c.forth.to != k.from {
				p.SetSource(c.forth.destination, c.forth.to)
			}
		} else if c.back.source != k.destination || c.back.from != k.to {
			p.SetDestination(c.back.source, c.back.from)
		}
		return host.Pass
	}
	if out := f.ownWAN(p.Destination); out != nil {
		for i := range f.machine.Publishes {
			v := &f.machine.Publishes[i]
			if v.Proto == proto(p.Proto) && v.Port == k.to {
				to := f.addressOf(now, v.To)
				if !to.IsValid() {
					break
				}
				f.cur.published = true
				line := 0
				if v.Lab != nil {
					line = v.Lab.Pos.Line
				}
				f.node.Say(
					host.Translated,
					line,
					"published: destination %s becomes %s",
					netip.AddrPortFrom(p.Destination, k.to),
					netip.AddrPortFrom(to, v.Target),
				)
				p.SetDestination(to, v.Target)
				return host.Pass
			}
		}
		for _, v := range f.machine.OneToOne {
			if v.Outside == p.Destination && v.To.Address.IsValid() {
				f.cur.published = in.Address.Contains(v.To.Address.Addr()) // neighbors need no rule
				p.SetDestination(v.To.Address.Addr(), k.to)
			}
		}
	}
	return host.Pass
}

// sayKnown tells that a packet belongs to a conversation, and what of it was
// changed back.
func (f *Filter) sayKnown(was tuple, p *packet.Packet) {
	is, _ := key(p)
	if is == was {
		f.node.Say(host.Known, 0, "belongs to a conversation that was let through")
		return
	}
	f.node.Say(
		host.Translated,
		0,
		"belongs to a conversation: %s > %s becomes %s > %s",
		netip.AddrPortFrom(was.source, was.from),
		netip.AddrPortFrom(
			was.destination,
			was.to,
		),
		netip.AddrPortFrom(is.source, is.from),
		netip.AddrPortFrom(is.destination, is.to),
	)
}

// sayRule returns what the rules say of a packet.
func (f *Filter) sayRule(r *plan.Rule, action lab.Action, published bool) {
	switch {
	case f.node.Noted == nil:
	case r == nil && published:
		f.node.Say(host.Ruled, 0, "let through: it is published")
	case r == nil:
		f.node.Tell(
			host.Note{Kind: host.Lost, Why: host.ByRules},
			"dropped: no rule matches, and what no rule matches is denied",
		)
	default:
		line, kind := 0, host.Ruled
		if r.Lab != nil {
			line = r.Lab.Pos.Line
		}
		if action != lab.Allow {
			kind = host.Lost
		}
		text := "the rule `%s` decides"
		if r.Log {
			text += ", and it is logged"
		}
		f.node.Tell(host.Note{Kind: kind, Line: line, Why: host.ByRules}, text, r.Text)
	}
}

// otherWay reports whether a packet may come by one WAN though the way to its
// source leads by another.
func (f *Filter) otherWay(back, in *host.Port, source netip.Addr) bool {
	return back != nil && f.ports[back].Role == lab.WAN && f.ports[in].Role == lab.WAN &&
		!back.Address.Contains(source) &&
		!in.Address.Contains(source)
}

// addressOf returns the address of a guest that something outside leads to: its own,
// or what it leases here now.
func (f *Filter) addressOf(now time.Duration, to *plan.Adapter) netip.Addr {
	if to.Address.IsValid() {
		return to.Address.Addr()
	}
	for port, a := range f.ports {
		if a.Segment == to.Segment && port.Server != nil {
			return port.Server.Held(now, to.MAC)
		}
	}
	return netip.Addr{}
}

// ownWAN returns the WAN port that answers for an address, or nil.
func (f *Filter) ownWAN(to netip.Addr) *host.Port {
	for _, p := range f.wans {
		if p.Owns(to) {
			return p
		}
	}
	return nil
}

// Leading sends answers back by the WAN that the conversation came in by.
func (f *Filter) Leading(*packet.Packet) *host.Port {
	if c := f.cur.flow; c != nil && f.cur.back && c.entry != nil && c.entry.Up() && f.ports[c.entry].Role == lab.WAN {
		return c.entry
	}
	return nil
}

// relate lets an ICMP error through that speaks of a known conversation, and
// translates it (RFC 5508, section 4.2).
func (f *Filter) relate(now time.Duration, p *packet.Packet) host.Verdict {
	c, back := f.quoted(now, p)
	if c == nil {
		return host.Discard
	}
	f.cur.related = true
	if back { // about a packet that went forth, as it left
		if c.back.destination != c.forth.source || c.back.to != c.forth.from {
			if p.Destination == c.back.destination {
				p.SetDestination(c.forth.source, 0)
			}
			p.RewriteQuoted(c.forth.source, c.forth.from, true)
		}
	} else if c.back.source != c.forth.destination || c.back.from != c.forth.to { // about an answer of a published guest
		p.RewriteQuoted(c.back.source, c.back.from, true)
	}
	return host.Pass
}

// quoted finds the conversation that an ICMP error speaks of, and whether it
// speaks of a packet that went forth; nil when there is none.
func (f *Filter) quoted(now time.Duration, p *packet.Packet) (c *flow, forth bool) {
	source, destination, q, data, ok := packet.Quoted(p.Data)
	if !ok {
		return nil, false
	}
	from, to, _ := packet.Ports(
		q,
		append(append([]byte(nil), data...), make([]byte, max(0, header.TCPSize-len(data)))...),
	)
	k := tuple{proto: q, source: source, destination: destination, from: from, to: to}
	k.reply = len(data) > 0 &&
		(q == packet.ICMP && data[0] == header.EchoReply || q == packet.ICMP6 && data[0] == packet.EchoReply6)
	return f.table.find(now, k.reversed())
}

// Forwarding applies the rules to the first packet of a conversation.
func (f *Filter) Forwarding(now time.Duration, in, out *host.Port, p *packet.Packet) host.Verdict {
	if f.cur.related || f.cur.flow != nil {
		return host.Pass
	}
	if !opens(p) {
		return host.Discard
	}
	k, _ := key(p)
	rule, action := f.machine.Decide(
		plan.Flow{Source: p.Source, Destination: p.Destination, Proto: proto(p.Proto), Port: k.to},
	)
	f.count(rule)
	f.sayRule(rule, action, f.cur.published)
	switch {
	case action == lab.Allow, rule == nil && f.cur.published:
		return host.Pass
	case action == lab.Refuse:
		return host.Refuse
	}
	return host.Discard
}

func (f *Filter) count(r *plan.Rule) {
	if f.Hits == nil {
		f.Hits = map[*plan.Rule]int{}
	}
	f.Hits[r]++
}

// opens reports whether it is a packet that may start a conversation.
func opens(p *packet.Packet) bool {
	switch p.Proto {
	case packet.TCP:
		if len(p.Data) < header.TCPSize {
			return false
		}
		flags := header.TCP(p.Data).Flags()
		return flags&header.SYN != 0 && flags&(header.ACK|header.RST|header.FIN) == 0
	case packet.ICMP, packet.ICMP6:
		return p.Ping(false)
	}
	return true
}

// Delivering decides what may reach the appliance itself: what a rule says that
// names it, or anybody; else ping, names and the admin page from inside, nothing
// from outside.
func (f *Filter) Delivering(now time.Duration, in *host.Port, p *packet.Packet) host.Verdict {
	if f.cur.related || f.cur.flow != nil {
		return host.Pass
	}
	if !opens(p) {
		return host.Discard
	}
	k, _ := key(p)
	port := f.ports[in]
	verdict := host.Discard
	inside := port.Role != lab.WAN
	admin := p.Proto == packet.TCP && f.admin(p.Destination, k.to)
	rule, action := f.machine.Decide(
		plan.Flow{Source: p.Source, Destination: p.Destination, Proto: proto(p.Proto), Port: k.to, Own: true,
			FromWAN: !inside},
	)
	switch {
	case rule != nil:
		f.count(rule)
		switch action {
		case lab.Allow:
			verdict = host.Pass
		case lab.Refuse:
			verdict = host.Refuse
		}
	case admin && (inside || port.Admin != nil):
		verdict = host.Pass
	case inside && (proto(p.Proto) == lab.ICMP || p.Proto != packet.ICMP && k.to == dns.Port):
		verdict = host.Pass
	}
	switch {
	case verdict == host.Pass:
	case rule != nil:
		f.sayRule(rule, action, false)
	default:
		f.node.Say(
			host.Lost,
			0,
			"dropped: port %s of %s does not answer %s there",
			port.Name,
			f.machine.Name,
			proto(p.Proto),
		)
	}
	if verdict == host.Pass && f.table.room(now) {
		f.table.add(now, &flow{forth: k, back: k.reversed()}, p)
	}
	return verdict
}

// Same reports whether another filter decides and translates as this one does: it may take its place.
func (f *Filter) Same(other host.Hook) bool {
	g, ok := other.(*Filter)
	if !ok || !slices.Equal(f.masq, g.masq) || f.machine.Name != g.machine.Name {
		return false
	}
	a, b := f.machine, g.machine
	return slices.EqualFunc(a.Rules, b.Rules, func(r, s plan.Rule) bool {
		return r.Text == s.Text && r.Action == s.Action && sameMatches(r.From, s.From) && sameMatches(r.To, s.To)
	}) && slices.EqualFunc(a.Publishes, b.Publishes, func(v, w plan.Publish) bool {
		return v.Proto == w.Proto && v.Port == w.Port && v.Target == w.Target && v.To.Address == w.To.Address
	})
}

func sameMatches(a, b []plan.Match) bool {
	return slices.EqualFunc(a, b, func(m, n plan.Match) bool {
		return m.Any == n.Any && slices.Equal(m.Prefixes, n.Prefixes)
	})
}

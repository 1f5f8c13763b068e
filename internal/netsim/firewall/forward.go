package firewall

import (
	"net/netip"
	"time"

	"openbastion/internal/model/lab"
	"openbastion/internal/model/plan"
	"openbastion/internal/netsim/host"
	"openbastion/internal/netsim/packet"
)

// admin reports whether the appliance is managed at a TCP port of one of its own
// addresses.
func (f *Filter) admin(own netip.Addr, to uint16) bool {
	for port, a := range f.ports {
		if port.Owns(own) {
			return a.Manages(to)
		}
	}
	return false
}

// Leaving starts conversations and translates the source on the way out.
func (f *Filter) Leaving(now time.Duration, out *host.Port, p *packet.Packet, own bool) host.Verdict {
	if own {
		k, ok := key(p)
		if !ok || p.IsError() {
			return host.Pass
		}
		if !f.node.Local(p.Source) { // a reset in another's name, for what a rule refuses: no conversation
			return host.Pass
		}
		if c, back := f.table.find(now, k); c != nil {
			c.touch(now, p, back)
		} else if f.table.room(now) {
			f.table.add(now, &flow{forth: k, back: k.reversed()}, p)
		}
		return host.Pass
	}
	if f.cur.related {
		return host.Pass
	}
	if c := f.cur.flow; c != nil {
		if !f.cur.back && f.ports[out].Role == lab.WAN && c.exit != nil && c.exit != out {
			f.table.remove(c) // its way out is gone, and with it the address it had outside
			return host.Discard
		}
		if !f.cur.back && (c.back.destination != p.Source || c.back.to != c.forth.from) {
			p.SetSource(c.back.destination, c.back.to)
		}
		return host.Pass
	}
	if !f.table.room(now) {
		return host.Discard
	}
	k, _ := key(p)
	back := k.reversed()
	var exit *host.Port
	if to := f.translated(out, p); to.IsValid() {
		exit, back.destination = out, to
		var ok bool
		if back, ok = f.table.translate(back); !ok {
			return host.Discard
		}
		if p.Proto == packet.ICMP {
			back.from = back.to
		}
		if f.node.Noted != nil {
			f.node.Say(host.Translated, 0, "source %s becomes %s", netip.AddrPortFrom(p.Source, k.from),
				netip.AddrPortFrom(back.destination, back.to))
		}
		p.SetSource(back.destination, back.to)
	}
	f.table.add(now, &flow{forth: f.cur.first, back: back, entry: f.cur.in, exit: exit}, p)
	return host.Pass
}

// translated returns the address that a packet's source becomes on its way out
// by a port; none when it stays.
func (f *Filter) translated(out *host.Port, p *packet.Packet) netip.Addr {
	if !out.Address.IsValid() || p.IPv6 {
		return netip.Addr{}
	}
	if f.ports[out].Role == lab.WAN {
		for _, v := range f.machine.OneToOne {
			if v.To.Address.IsValid() && v.To.Address.Addr() == p.Source {
				return v.Outside
			}
		}
	}
	switch {
	case out == f.cur.in: // back to where it came from: the answer must come here as well
		return out.Address.Addr()
	case f.ports[out].Role == lab.WAN && contains(f.masq, p.Source):
		return out.Address.Addr()
	}
	return netip.Addr{}
}

// Bridging applies the rules to what passes a transparent appliance: which
// side it came from decides what is outside. Requests for leases pass outward,
// and answers to them inward.
func (f *Filter) Bridging(now time.Duration, in, out *host.Port, p *packet.Packet) host.Verdict {
	outward := f.ports[out].Role == lab.WAN
	if p.IsError() {
		if c, _ := f.quoted(now, p); c == nil {
			return host.Discard
		}
		return host.Pass
	}
	k, ok := key(p)
	if !ok {
		return host.Discard
	}
	if leaseTalk(p, k, outward) {
		return host.Pass
	}
	if c, back := f.table.find(now, k); c != nil {
		if back == (in == c.entry) { // it comes from the side where its source is not
			return host.Discard
		}
		c.touch(now, p, back)
		return host.Pass
	}
	if !opens(p) || !f.table.room(now) {
		return host.Discard
	}
	rule, action := f.machine.Decide(
		plan.Flow{Source: p.Source, Destination: p.Destination, Proto: proto(p.Proto), Port: k.to, In: f.ports[in], Out: f.ports[out]},
	)
	f.count(rule)
	f.sayRule(rule, action, false)
	if action != lab.Allow {
		return host.Discard
	}
	f.table.add(now, &flow{forth: k, back: k.reversed(), entry: in}, p)
	return host.Pass
}

func contains(list []netip.Prefix, a netip.Addr) bool {
	for _, p := range list {
		if p.Contains(a) {
			return true
		}
	}
	return false
}

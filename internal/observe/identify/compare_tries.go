package identify

import (
	"net/netip"

	"openbastion/internal/model/lab"
	"openbastion/internal/model/plan"
	"openbastion/internal/netsim/outcome"
	"openbastion/internal/observe/listing"
)

// tries judges what came of pings, lookups and pages: what the plan allows must answer, and what it
// denies must not.
func (c *comparison) tries() {
	seen := map[string]bool{}
	for _, t := range c.l.Tries {
		key := t.What + t.To + string(t.Code)
		if t.Large {
			key += " large"
		}
		if seen[key] {
			continue
		}
		seen[key] = true
		c.tried(t)
	}
}

func (c *comparison) tried(t listing.Try) {
	what := t.What + " " + t.To
	if t.Large {
		what += " with 1500 bytes"
	}
	if t.What == listing.Hop {
		c.firstHop(t)
		return
	}
	may, known := c.mayReach(t)
	answered := t.Code == outcome.OK
	text := outcome.Of(t.Code).String()
	if t.Code == outcome.Failed {
		text = "the name does not resolve"
	}
	switch {
	case answered && known && !may:
		c.wrong(
			"",
			"find the rule that allows it, or the path around the appliance",
			"%s answers, but the plan denies it",
			what,
		)
	case answered:
		c.planned("%s answers", what)
	case !known:
		c.unseen("check again once the rest is as planned", "%s: %s", what, text)
	case may:
		c.wrong(
			"",
			"find the cause: bastion diagnose LAB --listing "+c.m.Name+"=FILE",
			"%s: %s (planned: it answers)",
			what,
			text,
		)
	default:
		c.planned("%s does not answer, as the rules say", what)
	}
}

// firstHop judges the first router on a traced path.
func (c *comparison) firstHop(t listing.Try) {
	home := c.home()
	if home == nil || home.Gate() == nil || !home.Gate().Address.IsValid() {
		return
	}
	to, numbered := t.Address()
	if numbered && home.Segment.Subnet.Contains(to) {
		return // a neighbor
	}
	switch planned := home.Gate().Address.Addr(); {
	case !t.By.IsValid():
		c.unseen("", "%s %s: no router reports itself", t.What, t.To)
	case t.By == planned:
		c.planned("%s %s is %s", t.What, t.To, t.By)
	default:
		c.wrong("first-hop", "remove the path that does not lead through "+home.Gate().Machine.Name,
			"%s %s is %s (planned: %s)", t.What, t.To, t.By, planned)
	}
}

// mayReach reports whether the rules let the machine reach what was tried; known is false where the plan
// does not tell.
func (c *comparison) mayReach(t listing.Try) (may, known bool) {
	home := c.home()
	if home == nil {
		return true, c.m.Appliance != nil // an appliance may reach everything
	}
	gate := home.Gate()
	to, numbered := t.Address()
	switch {
	case gate == nil:
		return false, false
	case !numbered:
		return c.allowed(gate, home, outsideOf(), lab.Service{Proto: lab.TCP, From: 80, To: 80}) ||
			c.allowed(gate, home, outsideOf(), lab.Service{Proto: lab.UDP, From: 53, To: 53}), true
	case home.Segment.Subnet.Contains(to):
		at := c.p.Home(to)
		return true, at == nil || c.has(to) // of a neighbor that the plan does not know nothing is known
	}
	service := lab.Service{Proto: lab.ICMP}
	if t.What == listing.Page {
		service = lab.Service{Proto: lab.TCP, From: 80, To: 80}
	}
	may = c.allowed(gate, home, to, service)
	return may, !may || c.p.Home(to) == nil || c.has(to) // who has an address of a pool is not known
}

// home returns the adapter by which a guest is behind an appliance, or nil.
func (c *comparison) home() *plan.Adapter {
	for _, a := range c.m.Adapters {
		if a.Guest != nil && a.Gate() != nil {
			return a
		}
	}
	return nil
}

// has reports whether a machine of the plan has an address.
func (c *comparison) has(a netip.Addr) bool {
	for _, x := range c.p.Adapters {
		if x.Address.IsValid() && x.Address.Addr() == a {
			return true
		}
	}
	return false
}

// outsideOf returns an address outside of every lab (RFC 5737).
func outsideOf() netip.Addr { return netip.AddrFrom4([4]byte{203, 0, 113, 80}) }

func (c *comparison) allowed(gate, home *plan.Adapter, to netip.Addr, s lab.Service) bool {
	from := home.Segment.Subnet.Addr().Next()
	switch _, v := home.Segment.LeaseService(); {
	case home.Address.IsValid():
		from = home.Address.Addr()
	case v != nil && v.Pool.From.IsValid():
		from = v.Pool.From
	}
	own := gate.Address.IsValid() && gate.Address.Addr() == to
	rule, action := gate.Machine.Decide(
		plan.Flow{Source: from, Destination: to, Proto: s.Proto, Port: s.From, Own: own},
	)
	if own && rule == nil {
		return s.Proto == lab.ICMP || gate.Admin != nil
	}
	return action == lab.Allow
}

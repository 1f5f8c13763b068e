package identify

import (
	"fmt"
	"net/netip"
	"slices"

	"openbastion/internal/model/plan"
	"openbastion/internal/model/subnet"
	"openbastion/internal/observe/listing"
)

// address judges the addresses of an adapter's interface.
func (c *comparison) address(a *plan.Adapter, row Row) {
	i := row.listed
	if len(i.Addresses) == 0 {
		c.noAddress(a, row)
		return
	}
	right := false
	for _, n := range i.Addresses {
		right = c.oneAddress(a, row, n) || right
	}
	if !right {
		return
	}
	switch {
	case i.Lease == listing.IsLease && (a.How == plan.Static):
		c.wrong(
			"",
			"set it as planned: a lease can change",
			"%s uses DHCP (planned: static)",
			row.Device,
		)
	case i.Lease == listing.NoLease && (a.How == plan.Lease || a.How == plan.Reservation || a.How == plan.FromAbove):
		c.wrong("", "set it to DHCP", "%s is static (planned: DHCP)", row.Device)
	}
	c.server(a, row)
}

// noAddress judges an interface that shows no address.
func (c *comparison) noAddress(a *plan.Adapter, row Row) {
	switch {
	case row.listed.Unanswered:
		c.wrong("no-dhcp-server", c.show.renew(row.Device)+", once the appliance serves DHCP on "+a.Segment.Name,
			"%s sent DHCP requests and got no answer", row.Device)
	case a.How == plan.NoAddress:
		c.planned("%s has no address, as planned", row.Device)
	case row.listed.Lease == listing.IsLease && a.How == plan.Static:
		c.wrong("", "type it in: "+a.Shown(), "%s uses DHCP (planned: %s)", row.Device, a.Shown())
	case a.How == plan.Lease || a.How == plan.Reservation || a.How == plan.FromAbove:
		c.unseen(c.show.renew(row.Device), "%s shows no address yet (planned: %s)", row.Device, a.Shown())
	default:
		c.unseen(c.show.addresses, "%s shows no address (planned: %s)", row.Device, a.Shown())
	}
}

// oneAddress judges one address of an interface; it tells whether it is the planned.
func (c *comparison) oneAddress(a *plan.Adapter, row Row, n listing.Address) bool {
	if row.listed.Duplicate && !selfGiven.Contains(n.Addr()) {
		c.wrong("duplicate-address", "find the other machine with "+n.Addr().String()+" by its MAC address",
			"%s has %s, which another machine has too (duplicate)", row.Device, n.Addr())
		return true
	}
	at, device := n.Addr(), row.Device
	s := a.Segment
	switch {
	case selfGiven.Contains(at):
		c.wrong("no-dhcp-server", c.show.renew(device)+", once the appliance serves DHCP on "+s.Name,
			"%s has %s, a link-local address, as no DHCP server answered", device, at)
		return false
	case !s.Subnet.Contains(at):
		c.elsewhere(a, row, at)
		return false
	case a.How == plan.NoAddress:
		c.wrong("", "remove it", "%s has %s (planned: no address)", device, at)
		return false
	case a.Address.IsValid() && at != a.Address.Addr():
		c.notPlanned(a, row, at)
		return false
	}
	_, service := s.LeaseService()
	if a.How == plan.Lease && service != nil && !service.Pool.Contains(at) {
		if slices.ContainsFunc(
			s.Adapters,
			func(o *plan.Adapter) bool { return o != a && o.Address.IsValid() && o.Address.Addr() == at },
		) {
			c.wrong("duplicate-address", "use DHCP instead", "%s has %s, which is another machine's", device, at)
		} else {
			c.wrong("two-dhcp-servers", "find the rogue DHCP server on "+s.Name,
				"%s has %s, outside the pool %s", device, at, service.Pool)
		}
		return false
	}
	switch {
	case !n.Masked:
		c.unseen(
			c.show.addresses,
			"%s has %s, and its mask is not shown; /%d (%s) is planned",
			device,
			at,
			s.Subnet.Bits(),
			subnet.Mask(s.Subnet.Bits()),
		)
	case n.Bits() != s.Subnet.Bits():
		what := "it takes others of " + s.Name + " for strangers"
		if n.Bits() < s.Subnet.Bits() {
			what = "it takes strangers for neighbors"
		}
		c.wrong(
			"narrow-mask",
			fmt.Sprintf("write the mask %s (/%d)", subnet.Mask(s.Subnet.Bits()), s.Subnet.Bits()),
			"%s has the mask /%d (%s), and %s has /%d: %s",
			device,
			n.Bits(),
			subnet.Mask(n.Bits()),
			s.Name,
			s.Subnet.Bits(),
			what,
		)
	default:
		c.on(n.Line, "%s has %s/%d", device, at, n.Bits())
	}
	return true
}

// notPlanned judges an address that is on the right segment and another than planned.
func (c *comparison) notPlanned(a *plan.Adapter, row Row, at netip.Addr) {
	for _, o := range a.Segment.Adapters {
		if o != a && o.Address.IsValid() && o.Address.Addr() == at {
			c.wrong(
				"duplicate-address",
				"write "+a.Address.Addr().String(),
				"%s has %s, which is %s's (planned: %s)",
				row.Device,
				at,
				o.Machine.Name,
				a.Address.Addr(),
			)
			return
		}
	}
	if len(row.listed.Addresses) > 1 && hasPlanned(row.listed, a) {
		c.remark("remove it unless you need it", "%s has %s in addition to the planned address", row.Device, at)
		return
	}
	fix := "write " + a.Shown()
	if a.How == plan.Reservation {
		fix = c.show.renew(row.Device) + "; if that is right, the reservation is for another MAC address"
	}
	c.wrong("", fix, "%s has %s (planned: %s)", row.Device, at, a.Address.Addr())
}

// elsewhere judges an address that is not on the adapter's segment.
func (c *comparison) elsewhere(a *plan.Adapter, row Row, at netip.Addr) {
	if f := c.m.Facts; f != nil && f.Factory.LAN.IsValid() && f.Factory.LAN.Addr() == at {
		c.wrong("", "set "+a.Shown(), "%s is still at the address that it came with, %s", row.Device, at)
		return
	}
	for _, m := range c.p.Appliances() {
		if f := m.Facts.Factory.LAN; c.m.Guest != nil && f.IsValid() && f.Masked().Contains(at) {
			c.wrong("default-clash", c.show.renew(row.Device)+", once "+m.Name+" has its planned settings",
				"%s has %s, a lease from the factory settings of %s (planned: %s)", row.Device, at, m.Name, a.Shown())
			return
		}
	}
	if s := c.p.Home(at); s != nil {
		c.wrong("dual-homed-guest", fmt.Sprintf("move adapter %d to %s", a.Number, a.Segment.Name),
			"%s has %s: it is really on %s (planned: %s)",
			row.Device, at, s.Name, a.Segment.Name)
		return
	}
	if a.How == plan.FromAbove && a.Segment.Assumed {
		c.planned("%s has %s by DHCP from upstream", row.Device, at)
		return
	}
	c.wrong("off-subnet", "look which network the adapter is attached to",
		"%s has %s, which is on no segment of the lab (planned: %s)", row.Device, at,
		a.Shown())
}

// server judges who gave a lease.
func (c *comparison) server(a *plan.Adapter, row Row) {
	by := row.listed.LeaseServer
	port, service := a.Segment.LeaseService()
	if !by.IsValid() || service == nil || a.How == plan.FromAbove || port == a {
		return
	}
	if port.Address.IsValid() && by != port.Address.Addr() {
		c.wrong("two-dhcp-servers", fmt.Sprintf("switch off the DHCP server at %s", by),
			"%s has its lease from %s (planned: %s)", row.Device, by,
			port.Address.Addr())
		return
	}
	c.planned("its lease is from %s", by)
}

// strangers judges interfaces that are no adapter of the plan.
func (c *comparison) strangers(x *pairing) {
	for _, row := range x.rows {
		if row.adapter != nil || x.aside(row) {
			continue
		}
		what := row.Device
		if what == "" {
			what = "an interface"
		}
		if row.Conflict != "" && c.own(row) {
			c.remark("", "%s is an interface of %s's own, on no segment of the lab", what, c.m.Name)
			continue
		}
		if row.Conflict != "" {
			c.wrong("", "look which adapter it is", "%s: %s", what, row.Conflict)
			continue
		}
		for _, n := range row.listed.Addresses {
			s := c.p.Home(n.Addr())
			switch {
			case selfGiven.Contains(n.Addr()):
				c.wrong(
					"no-dhcp-server",
					c.show.renew(what),
					"%s has %s, a link-local address, as no DHCP server answered",
					what,
					n.Addr(),
				)
			case s != nil:
				c.wrong(
					"dual-homed-guest",
					"remove that adapter, or write it into the lab file",
					"%s has %s: an adapter on %s that is in no plan",
					what,
					n.Addr(),
					s.Name,
				)
			case len(c.m.Adapters) == 1 && x.taken[c.m.Adapters[0]] == 0 && len(x.taken) == 0:
				c.wrong(
					"off-subnet",
					"look which network the adapter is attached to",
					"%s has %s, which is on no segment of the lab",
					what,
					n.Addr(),
				)
			default:
				c.remark(
					"if it is connected to upstream, it bypasses the appliance",
					"%s has %s, which is on no segment of the lab",
					what,
					n.Addr(),
				)
			}
		}
	}
}

// own reports whether an interface that no adapter of the plan is leads nowhere in the lab: it has no
// link or no address, and none of a segment. A system makes such bridges for itself.
func (c *comparison) own(row Row) bool {
	for _, n := range row.listed.Addresses {
		if c.p.Home(n.Addr()) != nil {
			return false
		}
	}
	return row.listed.Link == listing.LinkDown ||
		len(row.listed.Addresses) == 0 && row.listed.Device != "" && row.listed.Network == ""
}

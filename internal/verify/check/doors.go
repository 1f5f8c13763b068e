package check

import (
	"fmt"
	"slices"
	"strings"

	"openbastion/internal/model/lab"
	"openbastion/internal/model/mac"
	"openbastion/internal/model/plan"
	"openbastion/internal/verify/reachability"
)

// doors are the findings about ways out and wires.
func doors() []Entry {
	return []Entry{
		{
			Code: "no-wan", Severity: Error, Title: "An appliance without a WAN port",
			See:    "Guests get an address, but nothing beyond the appliance answers.",
			Why:    "Without a WAN port the appliance has no network to pass packets to.",
			Remedy: "Add a port with role: wan.",
			Old:    "      - {role: wan, segment: road, mac: '02:00:00:00:01:01'}\n",
			find:   (*checker).noWAN,
		},
		{
			Code: "no-lan", Severity: Error, Title: "An appliance without an inside port",
			See:    "Guests get no address, and no default gateway answers.",
			Why:    "Without a port with role lan, dmz or manage no guest is behind the appliance.",
			Remedy: "Add a port with role: lan.",
			Old: "      - {role: lan, segment: desks, address: 10.83.16.1/24, mac: '02:00:00:00:01:02'}\n" +
				"      - {role: lan, name: sealed, segment: pool, mac: '02:00:00:00:01:03'}\n",
			find: (*checker).noLAN,
		},
		{
			Code: "sides-joined", Severity: Error, Title: "Outside and inside are one broadcast domain",
			See:    "Guests get addresses from upstream, or the appliance shows one network on two ports.",
			Why:    "Ports of different roles on one wire are not separated: traffic goes past the appliance.",
			Remedy: "Put each role on its own segment.",
			Old:    "{role: lan, name: sealed, segment: pool,",
			Bad:    "{role: dmz, name: sealed, segment: desks, address: 10.83.16.2/24,",
			find:   (*checker).sameWire,
		},
		{
			Code: "dual-homed-guest", Severity: Error, Title: "A guest is dual-homed",
			See:    "The guest reaches outside with the appliance off; traceroute does not show the appliance.",
			Why:    "A guest with one adapter inside and another one upstream can bypass the appliance, for itself and for its neighbors.",
			Remedy: "Remove the other adapter, or move it to an inside segment.",
			Old:    "  heron: desks",
			Bad:    "  heron: {adapters: [{segment: desks}, {segment: road}]}",
			find:   (*checker).secondDoor,
		},
		{
			Code: "guest-on-wan", Severity: Error, Title: "A guest on the WAN segment",
			See:    "The guest reaches outside with the appliance off, and outside reaches it.",
			Why:    "Its segment is upstream: no appliance is in between.",
			Remedy: "Move it to a segment behind an appliance, or write outside: true if it is meant to be there.",
			Old:    "  newt: {segment: pool, autostart: true}",
			Bad:    "  newt: {segment: road, autostart: true}",
			find:   (*checker).beside,
		},
		{
			Code: "host-forwards", Severity: Error, Title: "The host is a path outside",
			See:    "Guests get an address from the host and reach outside with the appliance off.",
			Why:    "A segment that is upstream, or on which the host forwards, has a path outside that does not lead through the appliance.",
			Remedy: "Make the segment isolated.",
			Old:    "  desks: {reach: isolated,",
			Bad:    "  desks: {reach: host, host-forwards: true,",
			find:   (*checker).hostDoor,
		},
		{
			Code: "no-gateway", Severity: Error, Title: "No appliance serves these guests",
			See:    "Guests have a self-assigned address (169.254…) and reach nothing beyond their segment.",
			Why:    "A segment without a port of an appliance has no gateway.",
			Remedy: "Give an appliance a port there.",
			Old:    "      - {role: lan, name: attic, segment: attic, mac: '02:00:00:00:01:04'}\n",
			find:   (*checker).deadSegment,
		},
		{
			Code: "unattached-port", Severity: Warning, Title: "Not connected",
			See:    "An interface shows no link.",
			Why:    "A segment that nothing uses, or an adapter that is unplugged, is often an oversight.",
			Remedy: "Connect it, or remove it from the file.",
			Old:    "{role: lan, segment: desks, address: 10.83.16.1/24,",
			Bad:    "{role: lan, segment: desks, plugged: false, address: 10.83.16.1/24,",
			find:   (*checker).looseEnd,
		},
		{
			Code: "duplicate-mac", Severity: Error, Title: "One MAC address twice",
			See:    "Both machines lose packets alternately, and the switch learns the address on changing ports.",
			Why:    "A switch sends frames to where it last saw an address. A multicast address belongs to no machine.",
			Remedy: "Let the plan choose one of them.",
			Old:    "  heron: desks",
			Bad:    "  heron: {segment: desks, mac: '02:00:00:00:01:02'}",
			find:   (*checker).twinMAC,
		},
		{
			Code: "unpinned-order", Severity: Warning, Title: "Nothing fixes the order of the adapters",
			See:    "After a restart or a move the console lists the interfaces in another order, and WAN and LAN are swapped.",
			Why:    "Systems number adapters by slot or MAC address. With three or more and no fixed addresses, the next start may renumber them.",
			Remedy: "Fix the MAC addresses: bastion plan --write.",
			Old:    ", mac: '02:00:00:00:01:01'}\n      - {role: lan, segment: desks, address: 10.83.16.1/24, mac: '02:00:00:00:01:02'}\n      - {role: lan, name: sealed, segment: pool, mac: '02:00:00:00:01:03'}",
			Bad:    "}\n      - {role: lan, segment: desks, address: 10.83.16.1/24}\n      - {role: lan, name: sealed, segment: pool}",
			find:   (*checker).unpinnedOrder,
		},
		{
			Code: "no-nic-driver", Severity: Error, Title: "No driver for the adapter model",
			See:    "The installer finds no network interfaces.",
			Why:    "The image has drivers for some models only.",
			Remedy: "Choose a model that the image supports.",
			Old:    "nic: virtio,",
			Bad:    "nic: e1000,",
			find:   (*checker).oddNIC,
		},
		{
			Code: "no-disk-driver", Severity: Error, Title: "No driver for the disk bus",
			See:    "The installer finds no disk.",
			Why:    "The image has drivers for some buses only.",
			Remedy: "Choose a bus that the image supports.",
			Old:    "disk-bus: virtio,",
			Bad:    "disk-bus: scsi,",
			find:   (*checker).oddDisk,
		},
	}
}

func (c *checker) noWAN() {
	c.lacking(
		func(r lab.Role) bool { return r == lab.WAN },
		"add a port with role: wan",
		"%s has no WAN port: nothing reaches outside through it",
	)
}

func (c *checker) noLAN() {
	c.lacking(lab.Role.Inside, "add a port with role: lan", "%s has no inside port: no guest is behind it")
}

// lacking finds appliances without a port of some role; one whose role is open may be that.
func (c *checker) lacking(is func(lab.Role) bool, remedy, text string) {
	for _, m := range c.p.Running() {
		if m.Appliance.Kind == "one-armed" || c.p.Lab.Closed && is(lab.WAN) {
			continue
		}
		if !slices.ContainsFunc(m.Adapters, func(a *plan.Adapter) bool { return a.Role == "" || is(a.Role) }) {
			c.find(m.Name, m.Appliance.Pos, remedy, text, m.Name)
		}
	}
}

// wireOf returns what a segment's frames travel on: its wire, or, for bridged
// upstream segments, the host's adapter. Tagged segments are apart.
func wireOf(s *plan.Segment) string {
	if u := s.Wire.Uplink(); s.Tag == 0 && u != "" {
		return "the uplink " + u
	}
	return fmt.Sprintf("the segment %s", s.Name)
}

func (c *checker) sameWire() {
	for _, m := range c.p.Running() {
		first := map[string]*plan.Adapter{}
		for _, a := range m.Adapters {
			w := wireOf(a.Segment)
			old := first[w]
			if old == nil {
				first[w] = a
				continue
			}
			if old.Role != a.Role && old.Role != lab.Manage && a.Role != lab.Manage &&
				!m.Transparent() {
				c.find(
					portName(a),
					a.Pos,
					"put it on a segment of its own",
					"ports %s (%s) and %s (%s) of %s both end on %s",
					old.Name,
					old.Role,
					a.Name,
					a.Role,
					m.Name,
					w,
				)
			}
		}
	}
}

// leadsOut returns why an adapter's segment is a way out past the guest's
// appliance home; empty when it is none.
func leadsOut(s *plan.Segment) string {
	switch {
	case s.Reach == lab.Upstream:
		return s.Name + ", which is upstream"
	case s.Reach == lab.Host && s.Lab.HostForwards:
		return s.Name + ", where the host forwards"
	}
	for _, a := range s.Adapters {
		if a.Role == lab.WAN {
			return s.Name + ", the WAN side of " + a.Machine.Name
		}
	}
	return ""
}

// beside finds guests that no appliance stands before, and whom the file does not
// want there. One with an adapter inside as well is a second door.
func (c *checker) beside() {
	model := c.model()
	for _, g := range c.guests() {
		if g.Guest.Outside ||
			slices.ContainsFunc(g.Adapters, func(a *plan.Adapter) bool { return a.Plugged && a.Segment.Inside() }) {
			continue
		}
		if stands, way := model.Standing(g); stands == reachability.Exposed {
			c.find(g.Name, g.Guest.Pos, "put it on a segment behind an appliance, or write outside: true",
				"%s gets outside without any appliance: %s",
				g.Name, strings.Join(way.Path, " → "))
		}
	}
}

func (c *checker) secondDoor() {
	for _, g := range c.guests() {
		if len(g.Adapters) < 2 {
			continue
		}
		var home *plan.Adapter
		for _, a := range g.Adapters {
			if a.Plugged && (a.Segment.Inside() || managed(a.Segment)) && home == nil {
				home = a
			}
		}
		if home == nil {
			continue
		}
		for _, a := range g.Adapters {
			if a == home || !a.Plugged || a.Segment == home.Segment {
				continue
			}
			out := leadsOut(a.Segment)
			if out == "" && a.Segment.Inside() && home.Segment.Port != nil && a.Segment.Port != nil &&
				a.Segment.Port.Machine != home.Segment.Port.Machine {
				out = a.Segment.Name + ", behind another appliance"
			}
			if out == "" && a.Segment.Reach == lab.Host && !a.Segment.Inside() && !managed(a.Segment) {
				c.find(g.Name, a.Pos, fmt.Sprintf("remove adapter %d of %s, or keep forwarding off on the host", a.Number, g.Name),
					"%s is on %s and, with adapter %d, on %s, where the host is", g.Name, home.Segment.Name, a.Number,
					a.Segment.Name).
					as(Warning).
					see("The guest reaches the host, and outside as soon as the host forwards.")
				continue
			}
			if out != "" {
				c.find(
					g.Name,
					a.Pos,
					fmt.Sprintf("remove adapter %d of %s", a.Number, g.Name),
					"%s is on %s and, with adapter %d, on %s",
					g.Name,
					home.Segment.Name,
					a.Number,
					out,
				)
			}
		}
	}
}

// managed reports whether an appliance's management port is on the segment.
func managed(s *plan.Segment) bool {
	return slices.ContainsFunc(s.Adapters, func(a *plan.Adapter) bool { return a.Role == lab.Manage })
}

func (c *checker) hostDoor() {
	for _, s := range c.p.Segments {
		if root := s.Wire.Root(); s.Reach == lab.Isolated && root != s && root.Reach == lab.Upstream &&
			root.Wire.LeavesHost() {
			c.find(s.Name, s.Lab.At("within"), "give it its own network, or keep tag "+fmt.Sprint(s.Tag)+" off the cable outside",
				"%s is tag %d on the network of %s, which leaves the host: it is not isolated from machines on that cable",
				s.Name, s.Tag, root.Name).
				see("A machine on the same cable with that tag gets an address from the appliance.")
		}
		if !s.Inside() || s.Bridged != nil || s.Port != nil && s.Port.Machine.Appliance.Kind == "one-armed" {
			continue
		}
		switch {
		case s.Reach == lab.Upstream:
			c.find(s.Name, s.Lab.At("reach"), "write reach: isolated", "%s is behind %s and also upstream", s.Name,
				s.Port.Machine.Name).set(s.Lab, "reach", "isolated")
		case s.Lab.HostForwards:
			c.find(s.Name, s.Lab.At("host-forwards"), "write reach: isolated, or host-forwards: false", "the host forwards for %s, past %s",
				s.Name, s.Port.Machine.Name).
				set(s.Lab, "host-forwards", "false")
		case s.Reach == lab.Host && s.Lab.Leases != "host":
			c.find(
				s.Name,
				s.Lab.At("reach"),
				"write reach: isolated, unless guests must reach the host",
				"the host has %s on %s: guests reach it, and it reaches them",
				s.HostLeg.Addr(),
				s.Name,
			).as(Warning).see("Guests reach the host, and it reaches them; with the appliance off nothing beyond it answers.")
		}
	}
}

func (c *checker) deadSegment() {
	for _, s := range c.p.Segments {
		if s.Reach == lab.Upstream || s.Tag != 0 {
			continue
		}
		guests, ports := 0, 0
		var first *plan.Adapter
		for _, a := range s.Adapters {
			if a.Guest != nil && a.Machine.Guest.Forwards {
				ports++ // it routes for the others
				continue
			}
			if a.Guest == nil {
				ports++
			} else if guests++; first == nil {
				first = a
			}
		}
		if guests > 0 && ports == 0 && !c.portPending() {
			f := c.find(s.Name, s.Lab.Pos, "give an appliance a port on "+s.Name, "%s on %s, and no appliance is",
				crowd(first.Machine.Name, guests), s.Name)
			if !slices.ContainsFunc(s.Adapters, asks) {
				f.as(Warning).see("Guests there reach only each other.")
			}
		}
	}
}

// portPending reports whether an inside port has no segment yet: any may be its.
func (c *checker) portPending() bool {
	return slices.ContainsFunc(c.p.Adapters, func(a *plan.Adapter) bool {
		return (a.Segment.Nowhere() && a.Role.Inside() || a.Port != nil && a.Role == "") && !a.Machine.Off
	})
}

// asks reports whether it is a guest's adapter that expects a lease or a gateway: one on a back-end
// network asks for neither.
func asks(a *plan.Adapter) bool {
	return a.Guest != nil && a.Plugged && (a.How != plan.Static || a.Gateway.IsValid())
}

// crowd names the first of n guests and counts the others, with their verb.
func crowd(first string, n int) string {
	switch n {
	case 1:
		return first + " is"
	case 2:
		return first + " and 1 more guest are"
	}
	return fmt.Sprintf("%s and %d more guests are", first, n-1)
}

func (c *checker) looseEnd() {
	for _, s := range c.p.Segments {
		used := len(s.Adapters) > 0
		for _, other := range s.Wire.Segments {
			used = used || other != s && s.Tag == 0 && len(other.Adapters) > 0
		}
		if !used {
			c.find(s.Name, s.Lab.Pos, "take it out of the file, or attach something", "nothing is on %s", s.Name)
		}
	}
	for _, a := range c.adapters() {
		if a.Plugged {
			continue
		}
		if a.Port != nil {
			c.find(portName(a), a.Port.At("plugged"), "write plugged: true", "port %s of %s is unplugged", a.Name, a.Machine.Name).
				set(a.Port,
					"plugged", "true")
		} else {
			c.find(a.Machine.Name, a.Guest.At("plugged"), "write plugged: true, or take the adapter out", "adapter %d of %s is unplugged",
				a.Number, a.Machine.Name)
		}
	}
}

func (c *checker) twinMAC() {
	for _, w := range c.p.Wires {
		first := map[mac.Address]*plan.Adapter{}
		for _, s := range w.Segments {
			for _, a := range s.Adapters {
				if a.Over != nil {
					continue
				}
				switch old := first[a.MAC]; {
				case a.MAC.IsZero(), a.MAC.IsGroup():
					c.find(
						a.Machine.Name,
						a.Pos,
						"leave mac out: the plan chooses one",
						"adapter %d of %s has %s, which belongs to no single machine",
						a.Number,
						a.Machine.Name,
						a.MAC,
					)
				case old != nil:
					c.find(
						a.Machine.Name,
						a.Pos,
						"leave mac out: the plan chooses one",
						"%s has the MAC address %s of %s, on one wire with it",
						a.Machine.Name,
						a.MAC,
						old.Machine.Name,
					)
				default:
					first[a.MAC] = a
				}
			}
		}
	}
}

func (c *checker) unpinnedOrder() {
	for _, m := range c.p.Running() {
		n, given := 0, 0
		for _, a := range m.Adapters {
			if a.Over == nil {
				n++
				if a.MACGiven {
					given++
				}
			}
		}
		if n < 3 || given == n {
			continue
		}
		f := c.find(m.Name, m.Appliance.Pos, "fix the MAC addresses: bastion plan --write",
			"%s has %d adapters and nothing in the file fixes their order", m.Name, n)
		for _, a := range m.Adapters {
			if a.Over == nil && !a.MACGiven {
				f.set(a.Port, "mac", "'"+a.MAC.String()+"'")
			}
		}
	}
}

// listed reports whether the list has it; an empty list has everything.
func listed(list []string, what string) bool { return len(list) == 0 || slices.Contains(list, what) }

// drivers returns what an appliance has drivers for, and whose word that is: its
// image's, else that of its kind.
func drivers(image, kind []string) (list []string, whose string) {
	if len(image) > 0 {
		return image, "its image"
	}
	return kind, "its kind"
}

func (c *checker) oddNIC() {
	for _, m := range c.p.Running() {
		src := m.Appliance
		if list, whose := drivers(src.Needs.NICs, m.Facts.NICs); !listed(list, m.Spec.NIC) {
			c.find(m.Name, src.Machine.At("nic"), "write nic: "+list[0], "%s has %s adapters, and %s has drivers for %s", m.Name,
				m.Spec.NIC, whose, strings.Join(list, ", ")).
				set(&src.Machine, "nic", list[0])
		}
	}
}

func (c *checker) oddDisk() {
	for _, m := range c.p.Running() {
		src := m.Appliance
		if list, whose := drivers(src.Needs.DiskBuses, m.Facts.DiskBuses); !listed(list, m.Spec.DiskBus) {
			c.find(m.Name, src.Machine.At("disk-bus"), "write disk-bus: "+list[0],
				"%s has its disk on %s, and %s has drivers for %s", m.Name, m.Spec.DiskBus, whose,
				strings.Join(list, ", ")).set(&src.Machine, "disk-bus", list[0])
		}
	}
}

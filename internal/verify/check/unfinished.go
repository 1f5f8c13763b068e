package check

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"openbastion/internal/model/lab"
	"openbastion/internal/model/plan"
)

// undecidedCode is the code of open questions.
const undecidedCode = "open-question"

// unfinished are the findings about what is not decided, switched on or cabled yet.
func unfinished() []Entry {
	return []Entry{
		{
			Code: undecidedCode, Severity: Note, Title: "Not decided yet",
			See:    "Nothing is wrong; what depends on it can be neither built nor judged.",
			Why:    "The file has later, or omits what a plan cannot choose. Verdicts that depend on it are unknown.",
			Remedy: "Write it once it is decided.",
			Old:    "  heron: desks",
			Bad:    "  heron: later",
			find:   (*checker).undecided,
		},
		{
			Code: "switched-off", Severity: Note, Title: "A machine that is switched off",
			See:    "If it runs together with its successor, both lose connections alternately.",
			Why:    "A replaced machine still has its addresses and its DHCP server. While it is off they do no harm.",
			Remedy: "Switch the successor off before starting it; remove it from the file when it is no longer needed.",
			Old:    "guests:",
			Bad:    "  spare: {running: false, ports: [{role: wan, segment: road}, {role: lan, segment: desks, address: 10.83.16.1/24}]}\nguests:",
			find:   (*checker).switchedOff,
		},
		{
			Code: "no-dhcp-yet", Severity: Warning, Title: "The server is not running yet",
			See:    "Until it runs, guests have a self-assigned address (169.254…), or names do not resolve.",
			Why:    "DHCP or DNS of a segment is served by a machine that is switched off.",
			Remedy: "Use static addresses until it runs, or let the appliance serve meanwhile.",
			Old:    "  ferry: {segment: desks,",
			Bad:    "  ferry: {running: false, segment: desks,",
			find:   (*checker).leaseGap,
		},
		{
			Code: "no-cable", Severity: Error, Title: "A physical computer without a cable",
			See:    "The computer's adapter shows no link, or it is on another network than planned.",
			Why:    "A segment inside the host reaches a physical computer only through one of the host's adapters.",
			Remedy: "Give the segment a host adapter: uplink.",
			Old:    "  heron: desks",
			Bad:    "  heron: {segment: desks, physical: true}",
			find:   (*checker).noCable,
		},
		{
			Code: "unknown-uplink", Severity: Warning, Title: "An uplink that the host does not have",
			See:    "The adapter cannot be chosen, or another one is used instead.",
			Why:    "The file lists the host's adapters, and this one is not among them.",
			Remedy: "Name an existing one; bastion survey lists them.",
			Old:    "uplink: enp1,",
			Bad:    "uplink: enp7,",
			find:   (*checker).strangeUplink,
		},
	}
}

func (c *checker) undecided() {
	for _, o := range c.p.Lab.Open {
		c.find(o.Subject, o.Pos, "write it when it is decided", "%s: %s?", o.Subject, o.Question).see(meanwhile(o))
	}
}

// meanwhile returns what works while a question is open, and what cannot.
func meanwhile(o lab.Open) string {
	switch of := o.Of.(type) {
	case *lab.Port:
		switch {
		case o.Key == "role":
			return "Until then: it is taken for unplugged; what other ports serve works."
		case of.Role == lab.WAN && o.Key != "gateway":
			return "Until then: guests get addresses and the admin page opens from inside; nothing outside answers, and must not."
		case of.Role == lab.WAN:
			return "Until then: the WAN's neighbors answer, and nothing beyond them."
		case o.Key == "segment":
			return "Until then: nothing is behind this port; the other ports work."
		}
		return "Until then the plan uses its own choice."
	case *lab.Segment:
		if o.Key == "reach" {
			return "Until then: it is planned as isolated; guests there reach each other and the appliance."
		}
		return "Until then the plan uses its own choice."
	}
	if o.Key == "rules" {
		return "Until then: it is judged as if each LAN may go outside, and nothing else."
	}
	if o.Key == "segment" {
		return "Until then: it has no address and reaches nothing; the others work without it."
	}
	return "Until then: it gets an address by DHCP."
}

// Conflicts returns what a machine that is switched off would fight over with those
// that run, were it switched on.
func Conflicts(p *plan.Plan, m *plan.Machine) []string {
	var out []string
	for _, a := range m.Adapters {
		if a.Role == lab.Unused || a.Segment.Nowhere() {
			continue
		}
		for _, b := range a.Segment.Adapters {
			if a.Address.IsValid() && b.Address.IsValid() && a.Address.Addr() == b.Address.Addr() {
				out = append(out, fmt.Sprintf("%s has its address %s", who(b), a.Address.Addr()))
			}
			if a.MAC == b.MAC {
				out = append(out, fmt.Sprintf("%s has its MAC address %s", who(b), a.MAC))
			}
		}
		server, _ := a.Segment.LeaseService()
		if server != nil && a.Role.Inside() && !a.Port.Leases.Off {
			out = append(out, fmt.Sprintf("%s also serves DHCP on %s", server.Machine.Name, a.Segment.Name))
		}
	}
	return out
}

func (c *checker) switchedOff() {
	for _, m := range c.p.Machines {
		if !m.Off {
			continue
		}
		at := lab.Pos{}
		if m.Appliance != nil {
			at = m.Appliance.At("running")
		} else {
			at = m.Guest.At("running")
		}
		text := fmt.Sprintf("%s is switched off", m.Name)
		remedy := "write running: true once it runs"
		if clash := Conflicts(c.p, m); len(clash) > 0 {
			text += ", and must stay off while " + strings.Join(clash, ", and ")
			remedy = "switch its successor off first, should it come back"
		}
		c.find(m.Name, at, remedy, "%s", text)
	}
}

func (c *checker) leaseGap() {
	off := map[netip.Addr]string{}
	for _, m := range c.p.Machines {
		for _, a := range m.Adapters {
			if m.Off && a.Address.IsValid() {
				off[a.Address.Addr()] = m.Name
			}
		}
	}
	for _, a := range c.adapters() {
		if a.Address.IsValid() {
			delete(off, a.Address.Addr()) // its successor has it
		}
	}
	for _, s := range c.p.Segments {
		if m := c.p.Machine(s.Lab.Leases); m != nil && m.Off {
			c.find(
				s.Name,
				s.Lab.At("dhcp"),
				"set static addresses there until it runs, or let the appliance serve DHCP until then",
				"DHCP on %s is from %s, which is switched off",
				s.Name,
				m.Name,
			)
		}
	}
	for _, a := range c.adapters() {
		list := a.DNS
		if a.Leases != nil {
			list = append(slices.Clone(list), a.Leases.DNS...)
		}
		for _, d := range list {
			if name := off[d]; name != "" {
				c.find(
					who(a),
					a.Pos,
					"name a second DNS server until it runs",
					"%s names the DNS server %s, and %s is switched off",
					who(a),
					d,
					name,
				)
				break
			}
		}
	}
}

func (c *checker) noCable() {
	for _, g := range c.guests() {
		for _, a := range g.Adapters {
			root := a.Segment.Wire.Root()
			if !g.Physical || a.Segment.Nowhere() || root.Reach == lab.Upstream && root.Lab.Join != "nat" ||
				a.Segment.Wire.Uplink() != "" {
				continue
			}
			c.find(g.Name, a.Pos, "write uplink: and the host's adapter at "+root.Name,
				"%s is a real computer, and no adapter of the host is on %s", g.Name, a.Segment.Name)
		}
	}
}

func (c *checker) strangeUplink() {
	known := c.p.Lab.Site.Uplinks
	for _, s := range c.p.Segments {
		if u := s.Lab.Uplink; u != "" && len(known) > 0 && known[u] == "" {
			c.find(s.Name, s.Lab.At("uplink"), "name an adapter of the site"+nearUplink(u, known),
				"%s is on %s, which is not among the site's uplinks",
				s.Name, u)
		}
	}
}

func nearUplink(name string, known map[string]string) string {
	var names []string
	for n := range known {
		names = append(names, n)
	}
	slices.Sort(names)
	if near := lab.Nearest(name, names); near != "" {
		return "; perhaps " + near
	}
	return ""
}

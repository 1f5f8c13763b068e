package cli

import (
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"openbastion/core/lab"
	"openbastion/core/plan"
)

// parts of a plan, in the order in which they are shown.
var planParts = []struct {
	name string
	show func(*screen, *plan.Plan)
}{
	{"wires", showWires},
	{"adapters", showAdapters},
	{"addresses", showAddresses},
	{"leases", showLeases},
	{"nat", showNAT},
	{"rules", showRules},
}

func (a *app) plan() *cobra.Command {
	var part string
	c := &cobra.Command{
		Use: "plan [LAB]", Short: "Show the whole plan of a lab",
		Long: `Shows everything the lab consists of: what the lab file gives, and what the plan
chose where the file is silent. Chosen values are marked with *.`,
		Args: cobra.MaximumNArgs(1),
		RunE: func(_ *cobra.Command, args []string) error {
			if err := a.wantFormat("text", "json"); err != nil {
				return err
			}
			names := []string{"all"}
			for _, p := range planParts {
				names = append(names, p.name)
			}
			if !oneOf(part, names...) {
				return usage("--part is %s, not %q", strings.Join(names, ", "), part)
			}
			p, err := a.load(labArg(args))
			if err != nil {
				return err
			}
			if a.format == "json" {
				return a.json(p.Document())
			}
			s := a.screen()
			showTitle(s, p, "")
			for _, x := range planParts {
				if part == "all" || part == x.name {
					x.show(s, p)
				}
			}
			return nil
		},
	}
	c.Flags().StringVar(&part, "part", "all", "only this part: wires, adapters, addresses, leases, nat, rules")
	return c
}

func showTitle(s *screen, p *plan.Plan, what string) {
	title := p.Lab.Title
	if what != "" {
		title = what
	}
	s.line(s.paint(strong, p.Name), "  ", s.paint(faint, title))
}

// segmentStyle colours a segment by which side of the appliance it is on.
func segmentStyle(seg *plan.Segment) style {
	if seg.Reach == lab.Upstream {
		return outside
	}
	return inside
}

func starred(text string, planned bool) string {
	if planned {
		return text + "*"
	}
	return text
}

func showWires(s *screen, p *plan.Plan) {
	s.heading("Wires and segments")
	t := table{head: []string{"segment", "wire", "subnet", "gateway", "free", "reach"}}
	for _, seg := range p.Segments {
		on := seg.Wire.Name
		if seg.Tag != 0 {
			on += fmt.Sprintf(", tag %d", seg.Tag)
		}
		gateway := ""
		if seg.Gateway.IsValid() {
			planned := seg.Port != nil && seg.Port.Planned || seg.Reach == lab.Upstream && !seg.Lab.Gateway.IsValid()
			gateway = starred(seg.Gateway.String(), planned)
		}
		t.add(cell{seg.Name, segmentStyle(seg)}, on, starred(seg.Subnet.String(), seg.Planned || seg.Assumed), gateway, grouped(seg.Free()), cell{reachWords(seg), faint})
	}
	s.table(t)
}

// reachWords says in plain words how far a segment extends.
func reachWords(seg *plan.Segment) string {
	switch seg.Reach {
	case lab.Upstream:
		text := "leads outside"
		if seg.Lab.Join == "bridged" || seg.Lab.Join == "" {
			text += ", bridged"
			if seg.Lab.Uplink != "" {
				text += " to " + seg.Lab.Uplink
			}
		} else {
			text += ", translated by the host"
		}
		return text
	case lab.Host:
		text := "the host has " + seg.HostLeg.Addr().String()
		if seg.Lab.HostForwards {
			text += " and forwards"
		}
		return text
	}
	return "nobody but those attached"
}

func showAdapters(s *screen, p *plan.Plan) {
	s.heading("Adapters")
	t := table{head: []string{"machine", "no.", "port", "hardware address", "segment", "model", ""}}
	for _, ad := range p.Adapters {
		note := ""
		if ad.Over != nil {
			note = fmt.Sprintf("tag %d over %s", ad.Segment.Tag, ad.Over.Name)
		}
		if !ad.Plugged {
			note = "unplugged"
		}
		port := ad.Name
		if ad.Guest != nil {
			port = ""
		}
		t.add(ad.Machine.Name, fmt.Sprint(ad.Number), cell{port, roleStyle(ad.Role)}, starred(ad.MAC.String(), !ad.MACGiven), cell{ad.Segment.Name, segmentStyle(ad.Segment)}, ad.NIC, note)
	}
	s.table(t)
}

func roleStyle(r lab.Role) style {
	switch {
	case r == lab.WAN:
		return outside
	case r != "":
		return inside
	}
	return plain
}

func showAddresses(s *screen, p *plan.Plan) {
	s.heading("Addresses")
	t := table{head: []string{"name", "segment", "address", "how", "gateway"}}
	for _, ad := range p.Adapters {
		address := ad.Shown()
		if ad.Address.IsValid() {
			address = starred(address, ad.Planned)
		}
		gateway := ""
		if ad.Gateway.IsValid() {
			gateway = ad.Gateway.String()
		}
		t.add(ad.Machine.Name, cell{ad.Segment.Name, segmentStyle(ad.Segment)}, address, string(ad.How), gateway)
	}
	for _, seg := range p.Segments {
		if seg.HostLeg.IsValid() {
			t.add("host", cell{seg.Name, segmentStyle(seg)}, starred(seg.HostLeg.String(), !seg.Lab.HostAddress.IsValid()), string(plan.Static), "")
		}
	}
	s.table(t)
}

func showLeases(s *screen, p *plan.Plan) {
	s.heading("Leases")
	t := table{head: []string{"segment", "server", "pool", "router", "resolver", "domain", "time"}}
	for _, ad := range p.Adapters {
		v := ad.Leases
		if v == nil {
			continue
		}
		var dns []string
		for _, d := range v.DNS {
			dns = append(dns, d.String())
		}
		t.add(cell{ad.Segment.Name, inside}, ad.Machine.Name, starred(v.Pool.String(), v.Planned), v.Router.String(), strings.Join(dns, " "), v.Domain, strings.TrimSuffix(strings.TrimSuffix(v.Time.String(), "0s"), "0m"))
	}
	for _, seg := range p.Segments {
		if seg.HostPool != nil {
			t.add(cell{seg.Name, inside}, "host", starred(seg.HostPool.String(), true), "", "", "", "1h")
		}
	}
	s.table(t)
}

func showNAT(s *screen, p *plan.Plan) {
	s.heading("Translation")
	t := table{head: []string{"appliance", "what", "from", "to"}}
	for _, d := range p.Document().NAT {
		t.add(d.Appliance, d.Kind, d.From, d.To)
	}
	s.table(t)
}

func showRules(s *screen, p *plan.Plan) {
	for _, m := range p.Appliances() {
		s.heading("Rules of " + m.Name + ", the first that matches decides")
		t := table{head: []string{"no.", "rule", "what for"}}
		for i, r := range m.Rules {
			st := plain
			if r.Action != lab.Allow {
				st = broken
			}
			t.add(fmt.Sprint(i+1), cell{r.Text, st}, cell{r.Why, faint})
		}
		t.add("", cell{"deny any from any to any", broken}, cell{"always the last; answers to what was allowed pass", faint})
		s.table(t)
	}
}

package machine

import (
	"cmp"
	"fmt"
	"strings"

	"openbastion/internal/model/lab"
	"openbastion/internal/model/plan"
	"openbastion/internal/testbed/kernel"
)

// Changes returns what Up makes of a plan, a line for each thing, and what it changes of this machine itself.
func Changes(p *plan.Plan, o Options) (made, here []string) {
	kept := false
	for _, m := range p.Machines {
		switch _, why := kernel.Carries(m); {
		case m.Off:
			made = append(made, m.Name+" is switched off")
		case m.Physical:
			made = append(made, m.Name+" is a physical computer")
		case !o.virtual(m):
			made = append(made, cmp.Or(why, m.Name+" is simulated by the program"))
		default:
			made = append(made, o.change(m)...)
			kept = kept || !o.references(m)
		}
	}
	made = append(made, "the program's switch, with the outside: a router and the test server, which are simulated")
	if kept {
		here = append(here, "the disks that machines write, which are kept when the lab ends: "+o.Disks)
	}
	if !o.Join {
		return made, here
	}
	for _, s := range p.Segments {
		switch {
		case s.Reach != lab.Upstream:
		case o.Taps[s.Name] != "":
			here = append(here, fmt.Sprintf("frames on the device %s, for %s", o.Taps[s.Name], s.Name))
		case s.Lab.Join == "bridged" && s.Lab.Uplink != "":
			here = append(
				here,
				fmt.Sprintf("a socket on adapter %s that receives and sends frames there for %s, where "+
					"that is allowed; the adapter is unchanged", s.Lab.Uplink, s.Name),
			)
		default:
			here = append(
				here,
				fmt.Sprintf(
					"ordinary sockets of this machine, by which %s is let out; nothing of it is changed",
					s.Name,
				),
			)
		}
	}
	return made, here
}

// change returns what is made for one virtual machine.
func (o Options) change(m *plan.Machine) []string {
	what, from := "guest ", ""
	if m.Appliance != nil {
		what = "appliance "
	}
	switch {
	case o.references(m):
		from = "a reference machine: a Linux kernel with this program"
	case m.Appliance != nil && m.Appliance.Image.File != "":
		from = "from " + m.Appliance.Image.File + ", which is not written"
	default:
		from = "from " + m.Spec.Media
	}
	processors := "1 processor"
	if m.Spec.CPUs > 1 {
		processors = fmt.Sprintf("%d processors", m.Spec.CPUs)
	}
	out := []string{fmt.Sprintf("a virtual machine for %s: %s, %s; %s", what+m.Name, processors, m.Spec.Memory, from)}
	for _, a := range m.Own() {
		where := "nowhere yet"
		if !a.Segment.Nowhere() {
			where = "segment " + a.Segment.Name
		}
		out = append(out, fmt.Sprintf("a socket from its adapter %d (%s, %s) to the program's switch: %s", a.Number,
			strings.ToLower(cmp.Or(a.NIC, "virtio")), a.MAC, where))
	}
	return out
}

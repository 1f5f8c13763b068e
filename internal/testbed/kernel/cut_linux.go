package kernel

import (
	"net/netip"
	"slices"

	"github.com/vishvananda/netlink"
	"golang.org/x/sys/unix"

	"openbastion/internal/model/lab"
	"openbastion/internal/model/plan"
	"openbastion/internal/testbed/stage"
)

// cut ends the conversations through an appliance that the plan from before let pass, and the one of now does not,
// or translates differently: a packet filter asks its rules about the first packet alone.
func (x *machine) cut(was *plan.Machine) error {
	o := outdated{was, x.plan, !slices.EqualFunc(was.Publishes, x.plan.Publishes, samePublish) ||
		!slices.EqualFunc(was.OneToOne, x.plan.OneToOne, func(a, b plan.OneToOne) bool {
			return a.Outside == b.Outside && a.To.Address == b.To.Address
		})}
	for _, family := range []netlink.InetFamily{unix.AF_INET, unix.AF_INET6} {
		if _, err := x.tracker.ConntrackDeleteFilters(netlink.ConntrackTable, family, o); err != nil {
			return err
		}
	}
	return nil
}

func samePublish(a, b plan.Publish) bool {
	return a.Proto == b.Proto && a.Port == b.Port && a.Target == b.Target && a.To.Address == b.To.Address
}

// outdated finds conversations that the plan of now would not have.
type outdated struct {
	was, now *plan.Machine
	inward   bool // what is translated inward differs
}

// MatchConntrackFlow reports whether a conversation is to be ended.
func (o outdated) MatchConntrackFlow(f *netlink.ConntrackFlow) bool {
	source, _ := netip.AddrFromSlice(f.Forward.SrcIP)
	asked, _ := netip.AddrFromSlice(f.Forward.DstIP)
	answers, _ := netip.AddrFromSlice(f.Reverse.SrcIP) // behind what is translated inward
	seen, _ := netip.AddrFromSlice(f.Reverse.DstIP)    // the source behind what is translated outward
	source, asked, answers, seen = source.Unmap(), asked.Unmap(), answers.Unmap(), seen.Unmap()
	if asked != answers && o.inward {
		return true
	}
	if translated := seen != source; translated != translates(o.now, source) && translated == translates(o.was, source) {
		return true
	}
	flow := plan.Flow{Source: source, Destination: answers, Proto: lab.Proto(stage.Protocol(f.Forward.Protocol)),
		Port: f.Reverse.SrcPort}
	return passes(o.was, flow) && !passes(o.now, flow)
}

// translates reports whether an appliance hides a source behind its WAN address.
func translates(m *plan.Machine, source netip.Addr) bool {
	return slices.ContainsFunc(m.Masq, func(s *plan.Segment) bool { return s.Subnet.Contains(source) })
}

func passes(m *plan.Machine, f plan.Flow) bool {
	f.Own = slices.ContainsFunc(m.Adapters, func(a *plan.Adapter) bool { return a.Address.Addr() == f.Destination })
	rule, action := m.Decide(f)
	return action == lab.Allow || rule == nil && f.Own
}

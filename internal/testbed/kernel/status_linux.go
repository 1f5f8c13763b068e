package kernel

import (
	"cmp"
	"net"
	"net/netip"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/google/nftables"
	"github.com/google/nftables/expr"
	"github.com/google/nftables/userdata"
	"github.com/vishvananda/netlink"
	"golang.org/x/sys/unix"

	"openbastion/internal/model/lab"
	"openbastion/internal/model/plan"
	"openbastion/internal/model/status"
	"openbastion/internal/testbed/stage"
)

// maxFlows bounds the conversations that a status tells of each appliance: those that
// carried most.
const maxFlows = 500

// Status returns how the lab is. What cannot be read now is left out.
func (l *Lab) Status() status.Lab {
	s := l.stacks.Status()
	s.Machines = nil
	l.switches.Do(l.ctx, func(time.Duration) {
		for _, m := range l.plan.Machines {
			s.Machines = append(s.Machines, stage.Simulated(m, l.live))
		}
		s.Leases = append(s.Leases, stage.SimulatedLeases(l.plan, l.live)...)
	})
	for i, m := range l.plan.Machines {
		if l.stacks.Has(m) && i < len(s.Machines) {
			s.Machines[i] = l.stacks.machineStatus(m)
		}
	}
	s.Segments, s.Escapes = l.watch.Seen()
	return s
}

// Remarks returns what runs otherwise than on the kernel, and why.
func (l *Lab) Remarks() []string { return append(slices.Clone(l.Notes), l.captures.Notes()...) }

// Status returns how the machines are.
func (l *Stacks) Status() (s status.Lab) {
	for _, m := range l.plan.Machines {
		x := l.machines[m]
		if x == nil {
			continue
		}
		s.Machines = append(s.Machines, l.machineStatus(m))
		if m.Appliance != nil {
			s.Rules = append(s.Rules, x.hits()...)
			s.Flows = append(s.Flows, x.flows()...)
		}
	}
	s.Leases = l.Handed()
	s.Log = l.log.list()
	return s
}

func (l *Stacks) machineStatus(m *plan.Machine) status.Machine {
	x, out := l.machines[m], stage.Planned(m)
	out.How = "kernel"
	for i, a := range m.Adapters {
		if x.foreign() {
			l.observe(x, a)
		}
		now, s := x.now(a), &out.Adapters[i]
		s.Device, s.Address, s.Gateway = x.device(a), now.Address, now.Gateway
		s.IPv6 = append(s.IPv6, l.six(a)...)
		s.Received, s.Sent = x.traffic(a)
	}
	return out
}

// traffic returns what an adapter has received and sent.
func (x *machine) traffic(a *plan.Adapter) (received, sent status.Traffic) {
	link, err := x.link(a)
	if err != nil || link.Attrs().Statistics == nil {
		return received, sent
	}
	s := link.Attrs().Statistics
	return status.Traffic{
			Packets: s.RxPackets,
			Bytes:   s.RxBytes,
		}, status.Traffic{
			Packets: s.TxPackets,
			Bytes:   s.TxBytes,
		}
}

// hits reads how often an appliance's rules were met.
func (x *machine) hits() []status.Rule {
	if x.foreign() {
		return nil // its rules are not those of the plan
	}
	out := make([]status.Rule, 0, len(x.plan.Rules)+1)
	for i, r := range x.plan.Rules {
		out = append(
			out,
			status.Rule{Appliance: x.plan.Name, Number: i + 1, Text: r.Text, Blocks: r.Action != lab.Allow},
		)
	}
	out = append(out, status.Rule{Appliance: x.plan.Name, Text: "what no rule names", Blocks: true})
	c, err := nftables.New(nftables.WithNetNSFd(x.space.fd))
	if err != nil {
		return out
	}
	table := &nftables.Table{Family: nftables.TableFamilyINet, Name: "bastion"}
	for _, name := range []string{"rules", "forward"} {
		list, err := c.GetRules(table, &nftables.Chain{Name: name, Table: table})
		if err != nil {
			return out
		}
		for i, r := range list {
			at := len(out) - 1
			if name == "rules" {
				number, _, _ := strings.Cut(comment(r), ":")
				n, err := strconv.Atoi(number)
				if err != nil || n < 1 || n >= len(out) {
					continue
				}
				at = n - 1
			} else if i != len(list)-1 {
				continue // the last of the chain counts what nothing took
			}
			for _, e := range r.Exprs {
				if k, ok := e.(*expr.Counter); ok {
					out[at].Hits.Packets += k.Packets
					out[at].Hits.Bytes += k.Bytes
				}
			}
		}
	}
	return out
}

func comment(r *nftables.Rule) string {
	text, _ := userdata.GetString(r.UserData, userdata.TypeComment)
	return text
}

// flows reads the conversations that an appliance's kernel tracks.
func (x *machine) flows() (out []status.Flow) {
	for _, family := range []netlink.InetFamily{unix.AF_INET, unix.AF_INET6} {
		list, err := x.tracker.ConntrackTableList(netlink.ConntrackTable, family)
		if err != nil {
			continue
		}
		for _, f := range list {
			out = append(out, status.Flow{Appliance: x.plan.Name, Protocol: stage.Protocol(f.Forward.Protocol),
				From: end(f.Forward.SrcIP, f.Forward.SrcPort), To: end(f.Forward.DstIP, f.Forward.DstPort),
				AnswerFrom: end(f.Reverse.SrcIP, f.Reverse.SrcPort), AnswerTo: end(f.Reverse.DstIP, f.Reverse.DstPort),
				Packets: f.Forward.Packets + f.Reverse.Packets, Bytes: f.Forward.Bytes + f.Reverse.Bytes})
		}
	}
	slices.SortStableFunc(out, func(a, b status.Flow) int {
		return cmp.Or(
			cmp.Compare(b.Bytes, a.Bytes),
			a.From.Compare(b.From),
			a.To.Compare(b.To),
			strings.Compare(a.Protocol, b.Protocol),
		)
	})
	return out[:min(len(out), maxFlows)]
}

func end(ip net.IP, port uint16) netip.AddrPort {
	at, _ := netip.AddrFromSlice(ip)
	return netip.AddrPortFrom(at.Unmap(), port)
}

package kernel

import (
	"crypto/sha256"
	"encoding/binary"
	"encoding/hex"
	"errors"
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"github.com/google/nftables"
	"github.com/google/nftables/binaryutil"
	"github.com/google/nftables/expr"
	"github.com/vishvananda/netlink"
	"golang.org/x/sys/unix"

	"openbastion/internal/model/lab"
	"openbastion/internal/model/plan"
	"openbastion/internal/model/subnet"
	"openbastion/internal/testbed/drive"
	"openbastion/internal/testbed/hostnet"
)

// linkPool is where networks between a lab and this machine come from: kept for tests of
// devices, and used nowhere (RFC 2544, appendix C.2.2).
var linkPool = netip.MustParsePrefix("198.18.0.0/15")

// Names of the gate's two devices: to the lab's outside, and to this machine.
const (
	gateInner = "lab"
	gateOuter = "up"
)

// HostLink returns what the device on this machine is called by which a lab leaves.
func HostLink(name string) string {
	sum := sha256.Sum256([]byte(name))
	return hostnet.LinkPrefix + hex.EncodeToString(sum[:4])
}

// hostTable is the table of the packet filter that lets it through.
func hostTable(name string) string { return hostnet.TablePrefix + strings.ReplaceAll(name, "-", "_") }

// join joins the lab's upstream segments to this machine's own network, each as its file
// says: on an adapter of this machine, or by translation.
func (l *Lab) join() error {
	translated := false
	for _, s := range l.plan.Segments {
		switch {
		case s.Reach != lab.Upstream:
		case bridges(s):
			if err := l.onAdapter(s); err != nil {
				return err
			}
		default:
			translated = true
		}
	}
	if !translated {
		return nil
	}
	return l.throughGate()
}

// bridges reports whether it is an upstream segment that is to be on an adapter of this machine.
func bridges(s *plan.Segment) bool { return s.Lab.Join == "bridged" && s.Lab.Uplink != "" }

// onAdapter puts a segment on an adapter of this machine, by a socket that takes and gives
// whole frames there: nothing of the adapter is changed, and this machine itself is not
// reached by it. Beyond it is what is there: the invented router is off the segment.
func (l *Lab) onAdapter(s *plan.Segment) error {
	number := l.live.JoinSegment(s)
	end, err := drive.Open(s.Lab.Uplink, number)
	if err != nil {
		return fmt.Errorf("segment %s is joined to adapter %s of this machine: %w", s.Name, s.Lab.Uplink, err)
	}
	l.ends = append(l.ends, end)
	l.Away = s.Lab.Uplink
	l.Notes = append(
		l.Notes,
		fmt.Sprintf("%s is on adapter %s of this machine; nothing is observed there, so that is unknown", s.Name,
			s.Lab.Uplink),
	)
	return nil
}

// throughGate joins the lab's outside to this machine's own network by a gate between the
// invented outside and a device of this machine, which translates, as this machine does
// once more. The witness stays what it is.
func (l *Lab) throughGate() error {
	gate, err := NewSpace()
	if err != nil {
		return err
	}
	l.gate = gate
	ours, theirs, err := linkNetwork(l.plan.Name)
	if err != nil {
		return err
	}
	inner := l.live.JoinOutside(resolvers())
	number := len(l.ends) + 1
	far := fmt.Sprintf("v%d", number)
	veth := &netlink.Veth{
		LinkAttrs:     netlink.LinkAttrs{Name: far},
		PeerName:      gateInner,
		PeerNamespace: netlink.NsFd(gate.fd),
	}
	if err := l.wires.links.LinkAdd(veth); err != nil {
		return fmt.Errorf("the lab's gate: %w", err)
	}
	if err := l.wires.up(far); err != nil {
		return err
	}
	name := HostLink(l.plan.Name)
	if err := l.changing(hostnet.Change{Kind: hostnet.Link, Name: name}); err != nil {
		return err
	}
	outer := &netlink.Veth{
		LinkAttrs:     netlink.LinkAttrs{Name: name},
		PeerName:      gateOuter,
		PeerNamespace: netlink.NsFd(gate.fd),
	}
	if err := netlink.LinkAdd(outer); err != nil {
		return fmt.Errorf("device %s on this machine: %w", name, err)
	}
	if err := l.gateWay(inner, ours, theirs); err != nil {
		return fmt.Errorf("the lab's gate: %w", err)
	}
	if err := letThrough(l.plan.Name, name, l.changing); err != nil {
		return err
	}
	var end *drive.Adapter
	if err := l.wires.Do(func() (err error) { end, err = drive.Open(far, number); return err }); err != nil {
		return err
	}
	l.ends = append(l.ends, end)
	l.Host = append(hostnet.Addresses(), ours.Addr())
	l.Notes = append(l.Notes, fmt.Sprintf("the lab is joined to this machine's network, by %s", name))
	return nil
}

// changing notes a change of this machine before it is made.
func (l *Lab) changing(c hostnet.Change) error {
	if l.options.Changing != nil {
		if err := l.options.Changing(c); err != nil {
			return err
		}
	}
	l.changes = append(l.changes, c)
	return nil
}

// gateWay sets the gate up: its addresses and ways, and that it translates.
func (l *Lab) gateWay(inner netip.Prefix, ours, theirs netip.Prefix) error {
	if err := l.gate.Do(func() error { return set("net.ipv4.ip_forward", "1") }); err != nil {
		return err
	}
	for name, address := range map[string]netip.Prefix{gateInner: inner, gateOuter: theirs} {
		link, err := l.gate.links.LinkByName(name)
		if err == nil {
			err = l.gate.links.AddrReplace(link, &netlink.Addr{IPNet: ipnet(address)})
		}
		if err == nil {
			err = l.gate.links.LinkSetUp(link)
		}
		if err != nil {
			return err
		}
	}
	link, err := netlink.LinkByName(HostLink(l.plan.Name))
	if err == nil {
		err = netlink.AddrReplace(link, &netlink.Addr{IPNet: ipnet(ours)})
	}
	if err == nil {
		err = netlink.LinkSetUp(link)
	}
	if err == nil {
		err = l.gate.links.RouteReplace(
			&netlink.Route{Dst: ipnet(netip.PrefixFrom(netip.IPv4Unspecified(), 0)), Gw: ours.Addr().AsSlice()},
		)
	}
	if err != nil {
		return err
	}
	for network, by := range l.live.BehindRouters() {
		if err := l.gate.links.RouteReplace(&netlink.Route{Dst: ipnet(network), Gw: by.AsSlice()}); err != nil {
			return fmt.Errorf("way to %s: %w", network, err)
		}
	}
	c, err := nftables.New(nftables.WithNetNSFd(l.gate.fd))
	if err != nil {
		return err
	}
	masquerade(
		c,
		c.AddTable(&nftables.Table{Family: nftables.TableFamilyINet, Name: "bastion"}),
		expr.MetaKeyOIFNAME,
		expr.CmpOpEq,
		gateOuter,
	)
	return c.Flush()
}

// letThrough has this machine pass on and translate what comes from the lab's gate.
func letThrough(name, device string, note func(hostnet.Change) error) error {
	// The setting is taken back last of all, and by the last lab that is joined.
	if err := hostnet.Forward(note); err != nil {
		return fmt.Errorf("pass packets on: %w", err)
	}
	table := &nftables.Table{Family: nftables.TableFamilyINet, Name: hostTable(name)}
	if err := note(hostnet.Change{Kind: hostnet.Table, Name: table.Name}); err != nil {
		return err
	}
	c, err := nftables.New()
	if err != nil {
		return err
	}
	c.AddTable(table)
	masquerade(c, table, expr.MetaKeyIIFNAME, expr.CmpOpEq, device)
	// Nobody gets into the lab by this machine who was not asked from there.
	chain := c.AddChain(
		&nftables.Chain{Name: "into", Table: table, Type: nftables.ChainTypeFilter, Hooknum: nftables.ChainHookForward,
			Priority: nftables.ChainPriorityFilter},
	)
	c.AddRule(
		&nftables.Rule{Table: table, Chain: chain, Exprs: append(
			onDevice(expr.MetaKeyOIFNAME, expr.CmpOpEq, device),
			&expr.Ct{Key: expr.CtKeySTATE, Register: 1},
			&expr.Bitwise{SourceRegister: 1, DestRegister: 1, Len: 4, Xor: binaryutil.NativeEndian.PutUint32(0),
				Mask: binaryutil.NativeEndian.PutUint32(expr.CtStateBitESTABLISHED | expr.CtStateBitRELATED)},
			&expr.Cmp{
				Op:       expr.CmpOpEq,
				Register: 1,
				Data:     binaryutil.NativeEndian.PutUint32(0),
			},
			&expr.Verdict{Kind: expr.VerdictDrop},
		)},
	)
	c.AddRule(&nftables.Rule{Table: table, Chain: hostChain(c, table, device), Exprs: append(
		onDevice(expr.MetaKeyIIFNAME, expr.CmpOpEq, device), &expr.Verdict{Kind: expr.VerdictDrop})})
	if err := c.Flush(); err != nil {
		return fmt.Errorf("table %s of this machine's packet filter: %w", table.Name, err)
	}
	return nil
}

// hostChain adds the chain in which this machine itself takes in what comes from a lab: the answers to what it asked, and
// questions to those of its addresses that it gives to the lab as DNS servers.
func hostChain(c *nftables.Conn, table *nftables.Table, device string) *nftables.Chain {
	chain := c.AddChain(
		&nftables.Chain{Name: "host", Table: table, Type: nftables.ChainTypeFilter, Hooknum: nftables.ChainHookInput,
			Priority: nftables.ChainPriorityFilter},
	)
	from := func() []expr.Any { return onDevice(expr.MetaKeyIIFNAME, expr.CmpOpEq, device) }
	add := func(more ...expr.Any) {
		c.AddRule(&nftables.Rule{Table: table, Chain: chain,
			Exprs: append(append(from(), more...), &expr.Verdict{Kind: expr.VerdictAccept})})
	}
	zero := binaryutil.NativeEndian.PutUint32(0)
	add(&expr.Ct{Key: expr.CtKeySTATE, Register: 1},
		&expr.Bitwise{SourceRegister: 1, DestRegister: 1, Len: 4, Xor: zero,
			Mask: binaryutil.NativeEndian.PutUint32(expr.CtStateBitESTABLISHED | expr.CtStateBitRELATED)},
		&expr.Cmp{Op: expr.CmpOpNeq, Register: 1, Data: zero})
	for _, at := range resolvers() {
		for _, proto := range []byte{unix.IPPROTO_UDP, unix.IPPROTO_TCP} {
			add(&expr.Meta{Key: expr.MetaKeyNFPROTO, Register: 1}, &expr.Cmp{Op: expr.CmpOpEq, Register: 1, Data: []byte{unix.NFPROTO_IPV4}},
				&expr.Payload{DestRegister: 1, Base: expr.PayloadBaseNetworkHeader, Offset: 16, Len: 4},
				&expr.Cmp{Op: expr.CmpOpEq, Register: 1, Data: at.AsSlice()},
				&expr.Meta{Key: expr.MetaKeyL4PROTO, Register: 1}, &expr.Cmp{Op: expr.CmpOpEq, Register: 1, Data: []byte{proto}},
				&expr.Payload{DestRegister: 1, Base: expr.PayloadBaseTransportHeader, Offset: 2, Len: 2},
				&expr.Cmp{Op: expr.CmpOpEq, Register: 1, Data: binaryutil.BigEndian.PutUint16(53)})
		}
	}
	return chain
}

// onDevice matches a device's name.
func onDevice(key expr.MetaKey, op expr.CmpOp, device string) []expr.Any {
	name := make([]byte, unix.IFNAMSIZ)
	copy(name, device)
	return []expr.Any{&expr.Meta{Key: key, Register: 1}, &expr.Cmp{Op: op, Register: 1, Data: name}}
}

// masquerade adds a chain that translates what a device matches.
func masquerade(c *nftables.Conn, table *nftables.Table, key expr.MetaKey, op expr.CmpOp, device string) {
	chain := c.AddChain(
		&nftables.Chain{Name: "out", Table: table, Type: nftables.ChainTypeNAT, Hooknum: nftables.ChainHookPostrouting,
			Priority: nftables.ChainPriorityNATSource},
	)
	c.AddRule(&nftables.Rule{Table: table, Chain: chain, Exprs: append(onDevice(key, op, device), &expr.Masq{})})
}

// linkNetwork returns the two ends of a network between this machine and a lab, which no
// network of this machine overlaps.
func linkNetwork(name string) (ours, theirs netip.Prefix, err error) {
	taken, err := netlink.RouteList(nil, netlink.FAMILY_V4)
	if err != nil {
		return ours, theirs, err
	}
	sum := sha256.Sum256([]byte(name))
	const size, tries = 4, 64
	at := int(binary.BigEndian.Uint16(sum[:2])) % (subnet.Size(linkPool) / size)
	for i := range tries {
		base := subnet.Add(linkPool.Addr(), (at+i)*size%subnet.Size(linkPool))
		net := netip.PrefixFrom(base, 30)
		free := !slices.ContainsFunc(taken, func(r netlink.Route) bool {
			if r.Dst == nil {
				return false
			}
			a, _ := netip.AddrFromSlice(r.Dst.IP.To4())
			ones, _ := r.Dst.Mask.Size()
			return ones > 0 && a.IsValid() && netip.PrefixFrom(a, ones).Overlaps(net)
		})
		if free {
			return netip.PrefixFrom(base.Next(), 30), netip.PrefixFrom(base.Next().Next(), 30), nil
		}
	}
	return ours, theirs, errors.New("no network is free between the lab and this machine")
}

// resolvers returns this machine's resolvers that others can ask too.
func resolvers() []netip.Addr {
	return slices.DeleteFunc(hostnet.Resolvers(), func(a netip.Addr) bool { return !a.Is4() || a.IsLoopback() })
}

package nfnetlink

import (
	"encoding/binary"
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"github.com/google/nftables"
	"github.com/google/nftables/binaryutil"
	"github.com/google/nftables/expr"
	"golang.org/x/sys/unix"

	"openbastion/internal/filter/ruleset"
	"openbastion/internal/model/lab"
)

// LogGroup is the group of nfnetlink_log to which rules that log do so: the kernel's own log is
// closed to namespaces.
const LogGroup = 7

// expressions is one rule on its way to what the kernel runs. Everything is loaded into register 1
// and compared there.
type expressions struct {
	loader
	list    []expr.Any
	carried byte // the transport protocol that is sure by now
}

func (e *expressions) add(list ...expr.Any) { e.list = append(e.list, list...) }

// compare goes on where register 1 holds the data, or with not, anything else.
func (e *expressions) compare(not bool, data []byte) {
	op := expr.CmpOpEq
	if not {
		op = expr.CmpOpNeq
	}
	e.add(&expr.Cmp{Op: op, Register: 1, Data: data})
}

func native(n uint32) []byte { return binaryutil.NativeEndian.PutUint32(n) }

func port(n uint16) []byte { return binary.BigEndian.AppendUint16(nil, n) }

// load puts bytes of a header into register 1.
func (e *expressions) load(base expr.PayloadBase, offset, length uint32) {
	e.add(&expr.Payload{DestRegister: 1, Base: base, Offset: offset, Len: length})
}

// mask keeps the bits of register 1 that are set in data.
func (e *expressions) mask(data []byte) {
	e.add(
		&expr.Bitwise{
			SourceRegister: 1,
			DestRegister:   1,
			Len:            uint32(len(data)),
			Mask:           data,
			Xor:            make([]byte, len(data)),
		},
	)
}

func (e *expressions) match(m ruleset.Match) error {
	switch m := m.(type) {
	case ruleset.In:
		return e.device(expr.MetaKeyIIFNAME, m)
	case ruleset.Out:
		return e.device(expr.MetaKeyOIFNAME, m)
	case ruleset.Loopback:
		e.add(&expr.Meta{Key: expr.MetaKeyIIF, Register: 1})
		e.compare(false, native(1)) // the loopback is the first of every namespace
	case ruleset.Address:
		return e.address(m)
	case ruleset.IPv6:
		e.version(unix.NFPROTO_IPV6)
	case ruleset.Proto:
		return e.protocols(m)
	case ruleset.Ports:
		return e.ports(m)
	case ruleset.Message:
		return e.message(m)
	case ruleset.HopLimit:
		e.version(unix.NFPROTO_IPV6)
		e.load(expr.PayloadBaseNetworkHeader, 7, 1)
		e.compare(false, []byte{byte(m)})
	case ruleset.State:
		return e.state(m)
	case ruleset.NotOpening:
		e.carries(unix.IPPROTO_TCP)
		e.load(expr.PayloadBaseTransportHeader, 13, 1)
		e.mask([]byte{0x17}) // ACK, RST, SYN, FIN
		e.compare(true, []byte{2})
	case ruleset.Fragment:
		e.version(unix.NFPROTO_IPV4)
		e.load(expr.PayloadBaseNetworkHeader, 6, 2)
		e.mask([]byte{0x3f, 0xff}) // more fragments, and the offset
		e.compare(true, []byte{0, 0})
	case ruleset.Fragment6:
		e.add(&expr.Exthdr{DestRegister: 1, Type: unix.IPPROTO_FRAGMENT, Len: 1, Flags: unix.NFT_EXTHDR_F_PRESENT, Op: expr.ExthdrOpIpv6})
		e.compare(false, []byte{1})
	case ruleset.Stray:
		e.add(&expr.Fib{Register: 1, FlagSADDR: true, FlagIIF: true, ResultOIF: true, FlagPRESENT: true})
		e.compare(false, native(0))
	case ruleset.RouteBack:
		e.add(&expr.Fib{Register: 1, FlagSADDR: true, ResultOIFNAME: true})
		return e.named(m)
	case ruleset.ToSelf:
		e.add(&expr.Fib{Register: 1, FlagDADDR: true, ResultADDRTYPE: true})
		e.compare(false, native(unix.RTN_LOCAL))
	case ruleset.Mark:
		e.add(&expr.Meta{Key: expr.MetaKeyMARK, Register: 1})
		e.mask(native(uint32(m)))
		e.compare(false, native(uint32(m)))
	default:
		return fmt.Errorf("the match %T is not loaded by this program", m)
	}
	return nil
}

func (e *expressions) action(a ruleset.Action) error {
	switch a := a.(type) {
	case ruleset.Counter:
		e.add(&expr.Counter{})
	case ruleset.Log:
		e.add(&expr.Log{Key: 1<<unix.NFTA_LOG_PREFIX | 1<<unix.NFTA_LOG_GROUP, Group: LogGroup, Data: []byte(a)})
	case ruleset.Accept:
		e.add(&expr.Verdict{Kind: expr.VerdictAccept})
	case ruleset.Drop:
		e.add(&expr.Verdict{Kind: expr.VerdictDrop})
	case ruleset.Jump:
		e.add(&expr.Verdict{Kind: expr.VerdictJump, Chain: string(a)})
	case ruleset.Goto:
		e.add(&expr.Verdict{Kind: expr.VerdictGoto, Chain: string(a)})
	case ruleset.Reset:
		e.add(&expr.Reject{Type: unix.NFT_REJECT_TCP_RST})
	case ruleset.Prohibited:
		e.add(&expr.Reject{Type: unix.NFT_REJECT_ICMPX_UNREACH, Code: unix.NFT_REJECT_ICMPX_ADMIN_PROHIBITED})
	case ruleset.SetMark:
		e.mark(0, uint32(a))
	case ruleset.AddMark:
		e.mark(^uint32(a), uint32(a))
	case ruleset.Masquerade:
		e.add(&expr.Masq{})
	case ruleset.SNAT:
		e.translate(expr.NATTypeSourceNAT, netip.AddrPortFrom(netip.Addr(a), 0))
	case ruleset.DNAT:
		e.translate(expr.NATTypeDestNAT, netip.AddrPort(a))
	default:
		return fmt.Errorf("the action %T is not loaded by this program", a)
	}
	return nil
}

// mark sets the packet's mark to what of it is in keep, with the bits of add.
func (e *expressions) mark(keep, add uint32) {
	if keep == 0 {
		e.add(&expr.Immediate{Register: 1, Data: native(add)})
	} else {
		e.add(&expr.Meta{Key: expr.MetaKeyMARK, Register: 1},
			&expr.Bitwise{SourceRegister: 1, DestRegister: 1, Len: 4, Mask: native(keep), Xor: native(add)})
	}
	e.add(&expr.Meta{Key: expr.MetaKeyMARK, SourceRegister: true, Register: 1})
}

func (e *expressions) translate(kind expr.NATType, to netip.AddrPort) {
	n := &expr.NAT{Type: kind, Family: unix.NFPROTO_IPV4, RegAddrMin: 1}
	e.add(&expr.Immediate{Register: 1, Data: to.Addr().AsSlice()})
	if to.Port() != 0 {
		e.add(&expr.Immediate{Register: 2, Data: port(to.Port())})
		n.RegProtoMin, n.Specified = 2, true
	}
	e.add(n)
}

// device compares with the name of a port's device.
func (e *expressions) device(key expr.MetaKey, ports []string) error {
	e.add(&expr.Meta{Key: key, Register: 1})
	return e.named(ports)
}

func (e *expressions) named(ports []string) error {
	if len(ports) != 1 {
		return fmt.Errorf("a rule for %d ports, where one is needed", len(ports))
	}
	name, ok := e.devices[ports[0]]
	if !ok || len(name) == 0 || len(name) >= unix.IFNAMSIZ || strings.ContainsAny(name, "/ ") {
		return fmt.Errorf("port %q: %q is not a valid device name", ports[0], name)
	}
	b := make([]byte, unix.IFNAMSIZ)
	copy(b, name)
	e.compare(false, b)
	return nil
}

// version has only packets of an IP version go on.
func (e *expressions) version(n byte) {
	e.add(&expr.Meta{Key: expr.MetaKeyNFPROTO, Register: 1})
	e.compare(false, []byte{n})
}

// carries has only packets of a transport protocol go on.
func (e *expressions) carries(protocol byte) {
	if e.carried == protocol {
		return
	}
	e.carried = protocol
	e.add(&expr.Meta{Key: expr.MetaKeyL4PROTO, Register: 1})
	e.compare(false, []byte{protocol})
}

// numbers returns the protocol numbers of a protocol (IANA).
func numbers(p lab.Proto) ([]byte, error) {
	switch p {
	case lab.ICMP:
		return []byte{unix.IPPROTO_ICMP, unix.IPPROTO_ICMPV6}, nil
	case lab.TCP:
		return []byte{unix.IPPROTO_TCP}, nil
	case lab.UDP:
		return []byte{unix.IPPROTO_UDP}, nil
	}
	return nil, fmt.Errorf("the protocol %q has no number", p)
}

func (e *expressions) protocols(list ruleset.Proto) error {
	var keys [][]byte
	for _, p := range list {
		n, err := numbers(p)
		if err != nil {
			return err
		}
		for _, b := range n {
			keys = append(keys, []byte{b})
		}
	}
	e.add(&expr.Meta{Key: expr.MetaKeyL4PROTO, Register: 1})
	if len(keys) == 1 {
		e.carried = keys[0][0]
	}
	return e.among(keys, nftables.TypeInetProto, false)
}

func (e *expressions) ports(m ruleset.Ports) error {
	if m.Proto != lab.Any {
		n, err := numbers(m.Proto)
		if err != nil || len(n) != 1 {
			return fmt.Errorf("the protocol %q has no ports", m.Proto)
		}
		e.carries(n[0])
	}
	offset := uint32(0)
	if m.Of == ruleset.Destination {
		offset = 2
	}
	e.load(expr.PayloadBaseTransportHeader, offset, 2)
	if m.From == m.To {
		e.compare(false, port(m.From))
	} else {
		e.add(&expr.Range{Op: expr.CmpOpEq, Register: 1, FromData: port(m.From), ToData: port(m.To)})
	}
	return nil
}

// messages are ICMP types by name, of IPv4 and of IPv6 (RFC 792; RFC 4443, RFC 4861).
var messages = map[bool]map[string]byte{
	false: {"echo-request": 8},
	true: {"echo-request": 128, "nd-router-solicit": 133, "nd-router-advert": 134, "nd-neighbor-solicit": 135,
		"nd-neighbor-advert": 136},
}

func (e *expressions) message(m ruleset.Message) error {
	protocol := byte(unix.IPPROTO_ICMP)
	if m.IPv6 {
		protocol = unix.IPPROTO_ICMPV6
	}
	e.carries(protocol)
	e.load(expr.PayloadBaseTransportHeader, 0, 1)
	var keys [][]byte
	for _, t := range m.Types {
		n, ok := messages[m.IPv6][t]
		if !ok {
			return fmt.Errorf("the ICMP type %q has no number", t)
		}
		keys = append(keys, []byte{n})
	}
	return e.among(keys, nftables.TypeICMP6Type, m.Not)
}

// states are the states of connection tracking, as bits.
var states = map[string]uint32{"invalid": 1, "established": 2, "related": 4, "new": 8}

func (e *expressions) state(list []string) error {
	bits := uint32(0)
	for _, s := range list {
		n, ok := states[s]
		if !ok {
			return fmt.Errorf("no connection state %q", s)
		}
		bits |= n
	}
	e.add(&expr.Ct{Key: expr.CtKeySTATE, Register: 1})
	e.mask(native(bits))
	e.compare(true, native(0))
	return nil
}

// among compares register 1 with values: any of them, or with not, none.
func (e *expressions) among(keys [][]byte, kind nftables.SetDatatype, not bool) error {
	if len(keys) == 1 {
		e.compare(not, keys[0])
		return nil
	}
	elements := make([]nftables.SetElement, len(keys))
	for i, k := range keys {
		elements[i].Key = k
	}
	return e.lookup(&nftables.Set{KeyType: kind}, elements, not)
}

// lookup goes on where register 1 is in an anonymous set.
func (e *expressions) lookup(set *nftables.Set, elements []nftables.SetElement, not bool) error {
	set.Table, set.Anonymous, set.Constant = e.table, true, true
	if err := e.conn.AddSet(set, elements); err != nil {
		return err
	}
	e.add(&expr.Lookup{SourceRegister: 1, SetName: set.Name, SetID: set.ID, Invert: not})
	return nil
}

// address compares an address of the packet with prefixes.
//
//	IPv4 (RFC 791, 3.1)   source at 12, destination at 16, 4 bytes each
//	IPv6 (RFC 8200, 3)    source at  8, destination at 24, 16 bytes each
func (e *expressions) address(m ruleset.Address) error {
	if len(m.Prefixes) == 0 {
		return fmt.Errorf("an address is compared with no prefix")
	}
	size := uint32(m.Prefixes[0].Addr().BitLen() / 8)
	offset, version := uint32(12), byte(unix.NFPROTO_IPV4)
	if size == 16 {
		offset, version = 8, unix.NFPROTO_IPV6
	}
	if m.Of == ruleset.Destination {
		offset += size
	}
	var list []netip.Prefix
	for _, p := range m.Prefixes {
		if uint32(p.Addr().BitLen()) != size*8 {
			return fmt.Errorf("%s is not of the IP version of its neighbors", p)
		}
		list = append(list, p.Masked())
	}
	e.version(version)
	e.load(expr.PayloadBaseNetworkHeader, offset, size)
	if len(list) > 1 {
		return e.intervals(list, size, m.Not)
	}
	if p := list[0]; !p.IsSingleIP() {
		e.mask(netmask(p.Bits(), size))
	}
	e.compare(m.Not, list[0].Addr().AsSlice())
	return nil
}

func netmask(bits int, size uint32) []byte {
	out := make([]byte, size)
	for i := range bits {
		out[i/8] |= 0x80 >> (i % 8)
	}
	return out
}

// intervals looks register 1 up in a set of networks. Its elements must not overlap, so that those
// within others are left out, and neighbors are joined.
func (e *expressions) intervals(list []netip.Prefix, size uint32, not bool) error {
	slices.SortFunc(list, func(a, b netip.Prefix) int {
		if c := a.Addr().Compare(b.Addr()); c != 0 {
			return c
		}
		return a.Bits() - b.Bits()
	})
	kind := nftables.TypeIPAddr
	if size == 16 {
		kind = nftables.TypeIP6Addr
	}
	var elements []nftables.SetElement
	var last netip.Prefix
	for _, p := range list {
		if last.IsValid() && last.Overlaps(p) {
			continue
		}
		last = p
		end := lastOf(p).Next()
		if n := len(elements); n > 0 && elements[n-1].IntervalEnd &&
			string(elements[n-1].Key) == string(p.Addr().AsSlice()) {
			elements = elements[:n-1] // the two are one run
		} else {
			elements = append(elements, nftables.SetElement{Key: p.Addr().AsSlice()})
		}
		if end.IsValid() {
			elements = append(elements, nftables.SetElement{Key: end.AsSlice(), IntervalEnd: true})
		}
	}
	return e.lookup(&nftables.Set{Interval: true, KeyType: kind}, elements, not)
}

// lastOf returns the last address of a network.
func lastOf(p netip.Prefix) netip.Addr {
	b := p.Masked().Addr().AsSlice()
	for i, bit := range netmask(p.Bits(), uint32(len(b))) {
		b[i] |= ^bit
	}
	a, _ := netip.AddrFromSlice(b)
	return a
}

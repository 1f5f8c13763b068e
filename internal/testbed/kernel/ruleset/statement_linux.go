package ruleset

import (
	"encoding/binary"
	"fmt"
	"net/netip"
	"slices"
	"strconv"
	"strings"

	"github.com/google/nftables"
	"github.com/google/nftables/binaryutil"
	"github.com/google/nftables/expr"
	"golang.org/x/sys/unix"
)

// statement is one rule on its way from words to what the kernel runs.
type statement struct {
	words  []string
	exprs  []expr.Any
	defs   map[string]string
	chains map[string]bool
	conn   *nftables.Conn
	table  *nftables.Table

	carried string // the protocol that is sure by now
}

func (s *statement) peek() string {
	if len(s.words) == 0 {
		return ""
	}
	return s.words[0]
}

func (s *statement) next() string {
	w := s.peek()
	if len(s.words) > 0 {
		s.words = s.words[1:]
	}
	if to, ok := s.defs[w]; ok {
		return to
	}
	return w
}

// take reads words that must come now.
func (s *statement) take(want ...string) error {
	for _, w := range want {
		if got := s.next(); got != w {
			return fmt.Errorf("%q where %q is known", got, w)
		}
	}
	return nil
}

func (s *statement) add(e ...expr.Any) { s.exprs = append(s.exprs, e...) }

func (s *statement) equal(data []byte) { s.compare(expr.CmpOpEq, data) }

func (s *statement) compare(op expr.CmpOp, data []byte) {
	s.add(&expr.Cmp{Op: op, Register: 1, Data: data})
}

// all reads the whole rule.
func (s *statement) all() error {
	for len(s.words) > 0 {
		if err := s.one(); err != nil {
			return err
		}
	}
	return nil
}

func (s *statement) one() error {
	switch w := s.next(); w {
	case "ip", "ip6":
		return s.network(w)
	case "tcp", "udp":
		return s.transport(w)
	case "th":
		return s.port(s.next())
	case "icmp", "icmpv6":
		return s.message(w)
	case "meta":
		return s.meta()
	case "iifname", "oifname":
		return s.device(w)
	case "iif":
		s.add(&expr.Meta{Key: expr.MetaKeyIIF, Register: 1})
		s.equal(binaryutil.NativeEndian.PutUint32(1)) // the loopback is the first of every namespace
		return s.take("lo")
	case "ct":
		return s.state()
	case "fib":
		return s.route()
	case "exthdr":
		s.add(&expr.Exthdr{DestRegister: 1, Type: unix.IPPROTO_FRAGMENT, Len: 1, Flags: unix.NFT_EXTHDR_F_PRESENT, Op: expr.ExthdrOpIpv6})
		s.equal([]byte{1})
		return s.take("frag", "exists")
	case "counter":
		s.add(&expr.Counter{})
		return nil
	case "log":
		err := s.take("prefix")
		s.add(&expr.Log{Key: 1<<unix.NFTA_LOG_PREFIX | 1<<unix.NFTA_LOG_GROUP, Group: LogGroup, Data: []byte(s.next())})
		return err
	default:
		return s.verdict(w)
	}
}

// LogGroup is the group of nfnetlink_log to which rules that log do so: the
// kernel's own log is closed to namespaces.
const LogGroup = 7

func (s *statement) verdict(w string) error {
	switch w {
	case "accept":
		s.add(&expr.Verdict{Kind: expr.VerdictAccept})
	case "drop":
		s.add(&expr.Verdict{Kind: expr.VerdictDrop})
	case "jump", "goto":
		to := s.next()
		if !s.chains[to] {
			return fmt.Errorf("there is no chain %q", to)
		}
		kind := expr.VerdictJump
		if w == "goto" {
			kind = expr.VerdictGoto
		}
		s.add(&expr.Verdict{Kind: kind, Chain: to})
	case "reject":
		if err := s.take("with"); err != nil {
			return err
		}
		switch how := s.next(); how {
		case "tcp":
			s.add(&expr.Reject{Type: unix.NFT_REJECT_TCP_RST})
			return s.take("reset")
		case "icmpx":
			s.add(&expr.Reject{Type: unix.NFT_REJECT_ICMPX_UNREACH, Code: unix.NFT_REJECT_ICMPX_ADMIN_PROHIBITED})
			return s.take("admin-prohibited")
		default:
			return fmt.Errorf("nothing is known to be rejected with %q", how)
		}
	case "masquerade":
		s.add(&expr.Masq{})
	case "dnat", "snat":
		return s.translation(w)
	default:
		return fmt.Errorf("the word %q is not known", w)
	}
	return nil
}

// translation reads "ip to 10.0.0.1:80" or "ip to 10.0.0.1".
func (s *statement) translation(kind string) error {
	if err := s.take("ip", "to"); err != nil {
		return err
	}
	to := s.next()
	n := &expr.NAT{Type: expr.NATTypeDestNAT, Family: unix.NFPROTO_IPV4, RegAddrMin: 1}
	if kind == "snat" {
		n.Type = expr.NATTypeSourceNAT
	}
	if at, err := netip.ParseAddrPort(to); err == nil && at.Addr().Is4() {
		s.add(&expr.Immediate{Register: 1, Data: at.Addr().AsSlice()},
			&expr.Immediate{Register: 2, Data: binary.BigEndian.AppendUint16(nil, at.Port())})
		n.RegProtoMin, n.Specified = 2, true
	} else if a, err := netip.ParseAddr(to); err == nil && a.Is4() {
		s.add(&expr.Immediate{Register: 1, Data: a.AsSlice()})
	} else {
		return fmt.Errorf("%q is no address to translate to", to)
	}
	s.add(n)
	return nil
}

// values reads one value, or several in braces, after an optional "!=".
func (s *statement) values() (list []string, not bool, err error) {
	if s.peek() == "!=" {
		s.next()
		not = true
	}
	if s.peek() != "{" {
		v := s.next()
		if v == "" {
			err = fmt.Errorf("a value is missing")
		}
		return []string{v}, not, err
	}
	for s.next(); len(s.words) > 0; {
		if v := s.next(); v == "}" {
			return list, not, nil
		} else {
			list = append(list, v)
		}
	}
	return nil, not, fmt.Errorf("a list without an end")
}

// among compares what is in the register with values: any of them, or none.
func (s *statement) among(keys [][]byte, kind nftables.SetDatatype, not bool) error {
	switch {
	case len(keys) == 1 && !not:
		s.equal(keys[0])
		return nil
	case len(keys) == 1:
		s.compare(expr.CmpOpNeq, keys[0])
		return nil
	}
	set := &nftables.Set{Table: s.table, Anonymous: true, Constant: true, KeyType: kind}
	var elements []nftables.SetElement
	for _, k := range keys {
		elements = append(elements, nftables.SetElement{Key: k})
	}
	if err := s.conn.AddSet(set, elements); err != nil {
		return err
	}
	s.add(&expr.Lookup{SourceRegister: 1, SetName: set.Name, SetID: set.ID, Invert: not})
	return nil
}

// family has only packets of an IP version go on.
func (s *statement) family(n byte) {
	s.add(&expr.Meta{Key: expr.MetaKeyNFPROTO, Register: 1})
	s.equal([]byte{n})
}

// network reads what is compared of the IP header.
func (s *statement) network(version string) error {
	field := s.next()
	source, target, size, family := uint32(12), uint32(16), uint32(4), byte(unix.NFPROTO_IPV4)
	if version == "ip6" {
		source, target, size, family = 8, 24, 16, unix.NFPROTO_IPV6
	}
	load := func(offset, length uint32) {
		s.family(family)
		s.add(&expr.Payload{DestRegister: 1, Base: expr.PayloadBaseNetworkHeader, Offset: offset, Len: length})
	}
	switch {
	case field == "saddr" || field == "daddr":
		offset := source
		if field == "daddr" {
			offset = target
		}
		return s.prefixes(size, func() { load(offset, size) })
	case field == "frag-off" && version == "ip":
		load(6, 2)
		s.add(&expr.Bitwise{SourceRegister: 1, DestRegister: 1, Len: 2, Mask: []byte{0x3f, 0xff}, Xor: []byte{0, 0}})
		s.compare(expr.CmpOpNeq, []byte{0, 0})
		return s.take("&", "0x3fff", "!=", "0")
	case field == "hoplimit" && version == "ip6":
		load(7, 1)
		n, err := strconv.ParseUint(s.next(), 10, 8)
		s.equal([]byte{byte(n)})
		return err
	}
	return fmt.Errorf("%s %q is not known", version, field)
}

// prefixes reads the networks that an address is compared with.
func (s *statement) prefixes(size uint32, load func()) error {
	texts, not, err := s.values()
	if err != nil {
		return err
	}
	var list []netip.Prefix
	for _, text := range texts {
		p, err := netip.ParsePrefix(text)
		if a, e := netip.ParseAddr(text); e == nil {
			p, err = netip.PrefixFrom(a, a.BitLen()), nil
		}
		if err != nil || uint32(p.Addr().BitLen()) != size*8 {
			return fmt.Errorf("%q is no network of its family", text)
		}
		list = append(list, p.Masked())
	}
	if load(); len(list) > 1 {
		return s.intervals(list, size, not)
	}
	p, op := list[0], expr.CmpOpEq
	if not {
		op = expr.CmpOpNeq
	}
	if !p.IsSingleIP() {
		s.add(&expr.Bitwise{SourceRegister: 1, DestRegister: 1, Len: size, Mask: mask(p.Bits(), size), Xor: make([]byte, size)})
	}
	s.compare(op, p.Addr().AsSlice())
	return nil
}

func mask(bits int, size uint32) []byte {
	out := make([]byte, size)
	for i := range bits {
		out[i/8] |= 0x80 >> (i % 8)
	}
	return out
}

// intervals looks the register up in a set of networks, which must not overlap:
// those within others are left out.
func (s *statement) intervals(list []netip.Prefix, size uint32, not bool) error {
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
	set := &nftables.Set{Table: s.table, Anonymous: true, Constant: true, Interval: true, KeyType: kind}
	var elements []nftables.SetElement
	var last netip.Prefix
	for _, p := range list {
		if last.IsValid() && last.Overlaps(p) {
			continue
		}
		last = p
		end := lastOf(p).Next()
		if n := len(elements); n > 0 && elements[n-1].IntervalEnd && string(elements[n-1].Key) == string(p.Addr().AsSlice()) {
			elements = elements[:n-1] // the two are one run
		} else {
			elements = append(elements, nftables.SetElement{Key: p.Addr().AsSlice()})
		}
		if end.IsValid() {
			elements = append(elements, nftables.SetElement{Key: end.AsSlice(), IntervalEnd: true})
		}
	}
	if err := s.conn.AddSet(set, elements); err != nil {
		return err
	}
	s.add(&expr.Lookup{SourceRegister: 1, SetName: set.Name, SetID: set.ID, Invert: not})
	return nil
}

// lastOf gives the last address of a network.
func lastOf(p netip.Prefix) netip.Addr {
	b := p.Masked().Addr().AsSlice()
	for i := p.Bits(); i < len(b)*8; i++ {
		b[i/8] |= 0x80 >> (i % 8)
	}
	a, _ := netip.AddrFromSlice(b)
	return a
}

var protocols = map[string]byte{"icmp": unix.IPPROTO_ICMP, "icmpv6": unix.IPPROTO_ICMPV6, "tcp": unix.IPPROTO_TCP, "udp": unix.IPPROTO_UDP}

// carries has only packets of a protocol go on.
func (s *statement) carries(protocol string) {
	if s.carried == protocol {
		return
	}
	s.carried = protocol
	s.add(&expr.Meta{Key: expr.MetaKeyL4PROTO, Register: 1})
	s.equal([]byte{protocols[protocol]})
}

func (s *statement) transport(protocol string) error {
	s.carries(protocol)
	if field := s.next(); field != "flags" {
		return s.port(field)
	}
	if protocol != "tcp" {
		return fmt.Errorf("%s has no flags", protocol)
	}
	s.add(&expr.Payload{DestRegister: 1, Base: expr.PayloadBaseTransportHeader, Offset: 13, Len: 1},
		&expr.Bitwise{SourceRegister: 1, DestRegister: 1, Len: 1, Mask: []byte{0x17}, Xor: []byte{0}})
	s.compare(expr.CmpOpNeq, []byte{2})
	return s.take("&", "(fin", "|", "syn", "|", "rst", "|", "ack)", "!=", "syn")
}

// port reads a port, several, or a run of them.
func (s *statement) port(field string) error {
	offset := uint32(2)
	switch field {
	case "sport":
		offset = 0
	case "dport":
	default:
		return fmt.Errorf("the field %q is not known", field)
	}
	s.add(&expr.Payload{DestRegister: 1, Base: expr.PayloadBaseTransportHeader, Offset: offset, Len: 2})
	list, not, err := s.values()
	if err != nil {
		return err
	}
	var keys [][]byte
	for _, v := range list {
		from, to, run := strings.Cut(v, "-")
		a, err := strconv.ParseUint(from, 10, 16)
		if err != nil {
			return fmt.Errorf("%q is no port", v)
		}
		if run {
			b, err := strconv.ParseUint(to, 10, 16)
			if err != nil || len(list) > 1 || not {
				return fmt.Errorf("%q is no run of ports", v)
			}
			s.add(&expr.Range{Op: expr.CmpOpEq, Register: 1, FromData: binary.BigEndian.AppendUint16(nil, uint16(a)),
				ToData: binary.BigEndian.AppendUint16(nil, uint16(b))})
			return nil
		}
		keys = append(keys, binary.BigEndian.AppendUint16(nil, uint16(a)))
	}
	return s.among(keys, nftables.TypeInetService, not)
}

var messages = map[string]byte{"nd-router-solicit": 133, "nd-router-advert": 134, "nd-neighbor-solicit": 135, "nd-neighbor-advert": 136}

// message reads a type of ICMP.
func (s *statement) message(protocol string) error {
	if err := s.take("type"); err != nil {
		return err
	}
	s.carries(protocol)
	s.add(&expr.Payload{DestRegister: 1, Base: expr.PayloadBaseTransportHeader, Len: 1})
	list, not, err := s.values()
	if err != nil {
		return err
	}
	var keys [][]byte
	for _, v := range list {
		n, ok := messages[v]
		switch {
		case v == "echo-request" && protocol == "icmp":
			n = 8
		case v == "echo-request":
			n = 128
		case !ok:
			return fmt.Errorf("the type %q is not known", v)
		}
		keys = append(keys, []byte{n})
	}
	return s.among(keys, nftables.TypeICMP6Type, not)
}

func (s *statement) meta() error {
	switch field := s.next(); field {
	case "l4proto":
		s.add(&expr.Meta{Key: expr.MetaKeyL4PROTO, Register: 1})
		list, not, err := s.values()
		var keys [][]byte
		for _, v := range list {
			n, ok := protocols[v]
			if !ok {
				return fmt.Errorf("the protocol %q is not known", v)
			}
			keys = append(keys, []byte{n})
		}
		if err != nil {
			return err
		}
		if len(list) == 1 && !not {
			s.carried = list[0]
		}
		return s.among(keys, nftables.TypeInetProto, not)
	case "nfproto":
		s.family(unix.NFPROTO_IPV6)
		return s.take("ipv6")
	case "mark":
		return s.mark()
	default:
		return fmt.Errorf("meta %q is not known", field)
	}
}

// mark reads "& 2 == 2", "set 2" or "set meta mark | 1".
func (s *statement) mark() error {
	number := func() uint32 {
		n, err := strconv.ParseUint(s.next(), 10, 32)
		if err != nil {
			return 0
		}
		return uint32(n)
	}
	native := binaryutil.NativeEndian.PutUint32
	switch w := s.next(); {
	case w == "&":
		bits := number()
		s.add(&expr.Meta{Key: expr.MetaKeyMARK, Register: 1},
			&expr.Bitwise{SourceRegister: 1, DestRegister: 1, Len: 4, Mask: native(bits), Xor: native(0)})
		s.equal(native(bits))
		return s.take("==", strconv.Itoa(int(bits)))
	case w == "set" && s.peek() == "meta":
		if err := s.take("meta", "mark", "|"); err != nil {
			return err
		}
		bits := number()
		s.add(&expr.Meta{Key: expr.MetaKeyMARK, Register: 1},
			&expr.Bitwise{SourceRegister: 1, DestRegister: 1, Len: 4, Mask: native(^bits), Xor: native(bits)},
			&expr.Meta{Key: expr.MetaKeyMARK, SourceRegister: true, Register: 1})
		return nil
	case w == "set":
		s.add(&expr.Immediate{Register: 1, Data: native(number())}, &expr.Meta{Key: expr.MetaKeyMARK, SourceRegister: true, Register: 1})
		return nil
	default:
		return fmt.Errorf("meta mark %q is not known", w)
	}
}

func (s *statement) device(word string) error {
	key := expr.MetaKeyIIFNAME
	if word == "oifname" {
		key = expr.MetaKeyOIFNAME
	}
	s.add(&expr.Meta{Key: key, Register: 1})
	return s.named()
}

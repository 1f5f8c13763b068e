// Package subnet does the arithmetic of IPv4 and IPv6 prefixes that people get
// wrong by hand: masks in three writings, first and last usable address,
// broadcast, sizes, and carving a space into parts.
package subnet

import (
	"encoding/binary"
	"fmt"
	"math/bits"
	"net/netip"
	"slices"
	"strconv"
	"strings"
)

// ParsePrefix reads ADDRESS/LENGTH, ADDRESS/MASK with a dotted mask, and
// ADDRESS/WILDCARD with an inverted mask (0.0.0.255). The host bits of the
// address are kept; see [netip.Prefix.Masked]. The error says what to write
// instead where that can be told.
func ParsePrefix(text string) (netip.Prefix, error) {
	if words := strings.Fields(text); len(words) == 2 && !strings.Contains(text, "/") { // a mask behind a space
		if p, err := ParsePrefix(words[0] + "/" + words[1]); err == nil {
			return netip.Prefix{}, fmt.Errorf("%q has its mask behind a space; write %s", text, p)
		}
	}
	head, tail, ok := strings.Cut(strings.TrimSpace(text), "/")
	head, tail = strings.TrimSpace(head), strings.TrimSpace(tail)
	addr, err := ParseAddr(head)
	if err != nil {
		return netip.Prefix{}, err
	}
	if !ok || tail == "" {
		return netip.Prefix{}, fmt.Errorf("%q has no prefix length; write %s/%d", text, addr, usualLength(addr))
	}
	length, err := parseLength(tail, addr)
	if err != nil {
		return netip.Prefix{}, err
	}
	return netip.PrefixFrom(addr, length), nil
}

// ParseAddr reads one address. A faulty one is named part by part.
func ParseAddr(text string) (netip.Addr, error) {
	addr, err := netip.ParseAddr(text)
	if err == nil && addr.Zone() == "" {
		return addr.Unmap(), nil
	}
	if strings.Contains(text, ":") {
		return netip.Addr{}, fmt.Errorf("%q is not an IPv6 address", text)
	}
	parts := strings.Split(text, ".")
	if len(parts) != 4 {
		return netip.Addr{}, fmt.Errorf(
			"%q has %s, but an address has 4%s",
			text,
			count(len(parts), "part"),
			meant(text),
		)
	}
	for _, p := range parts {
		n, err := strconv.Atoi(p)
		switch {
		case err != nil || p == "":
			return netip.Addr{}, fmt.Errorf("%q: the part %q is not a number%s", text, p, meant(text))
		case n < 0 || n > 255:
			return netip.Addr{}, fmt.Errorf("%q: the part %s is over 255%s", text, p, meant(text))
		case len(p) > 1 && p[0] == '0':
			return netip.Addr{}, fmt.Errorf(
				"%q: the part %s starts with a zero, which some systems read as octal; write %d",
				text,
				p,
				n,
			)
		}
	}
	return netip.Addr{}, fmt.Errorf("%q is not an address", text)
}

func addressable(parts []string) bool {
	_, err := netip.ParseAddr(strings.Join(parts, "."))
	return err == nil
}

func count(n int, thing string) string {
	if n == 1 {
		return "1 " + thing
	}
	return strconv.Itoa(n) + " " + thing + "s"
}

func usualLength(a netip.Addr) int {
	if a.Is4() {
		return 24
	}
	return 64
}

func parseLength(text string, addr netip.Addr) (int, error) {
	if !strings.Contains(text, ".") {
		n, err := strconv.Atoi(text)
		if err != nil || n < 0 || n > addr.BitLen() {
			return 0, fmt.Errorf("/%s is not a prefix length; write a number from 0 to %d", text, addr.BitLen())
		}
		return n, nil
	}
	parts := strings.Split(text, ".")
	if len(parts) != 4 || !addressable(parts) {
		want := ""
		if m, ok := LikelyMask(text); ok {
			want = "; did you mean " + m.String() + "?"
		}
		if len(parts) != 4 {
			return 0, fmt.Errorf("the mask %q has %s, but a mask has 4%s", text, count(len(parts), "part"), want)
		}
		return 0, fmt.Errorf("the mask %q has a part that is not a number from 0 to 255", text)
	}
	if !addr.Is4() {
		return 0, fmt.Errorf("the dotted mask %q belongs to an IPv4 address", text)
	}
	m4 := netip.MustParseAddr(text).As4()
	m := binary.BigEndian.Uint32(m4[:])
	if m != 0 && m>>31 == 0 { // a wildcard mask: ones where the host part is
		m = ^m
	}
	n := bits.LeadingZeros32(^m)
	if m != mask32(n) {
		return 0, fmt.Errorf(
			"the mask %q has a gap; the nearest valid mask is %s, which is /%d",
			text,
			Mask(n),
			n,
		)
	}
	return n, nil
}

func mask32(length int) uint32 {
	if length <= 0 {
		return 0
	}
	return ^uint32(0) << (32 - min(length, 32))
}

// Mask returns the dotted mask of an IPv4 prefix length (0 to 32).
func Mask(length int) string { return fromUint32(mask32(length)).String() }

// Wildcard returns the inverted dotted mask of an IPv4 prefix length (0 to 32).
func Wildcard(length int) string { return fromUint32(^mask32(length)).String() }

func fromUint32(v uint32) netip.Addr {
	var b [4]byte
	binary.BigEndian.PutUint32(b[:], v)
	return netip.AddrFrom4(b)
}

func toUint32(a netip.Addr) uint32 {
	b := a.As4()
	return binary.BigEndian.Uint32(b[:])
}

// Add returns the address n places after a (before it when n is negative), or
// the zero Addr when that leaves the IPv4 space. IPv6 moves in the low 64 bits.
func Add(a netip.Addr, n int) netip.Addr {
	if !a.Is4() {
		b := a.As16()
		binary.BigEndian.PutUint64(b[8:], binary.BigEndian.Uint64(b[8:])+uint64(n))
		return netip.AddrFrom16(b)
	}
	v := int64(toUint32(a)) + int64(n)
	if v < 0 || v > 1<<32-1 {
		return netip.Addr{}
	}
	return fromUint32(uint32(v))
}

// Distance returns b minus a as a count of IPv4 addresses; both must be IPv4.
func Distance(a, b netip.Addr) int { return int(toUint32(b)) - int(toUint32(a)) }

// Size returns how many addresses an IPv4 prefix spans (1 to 1<<32).
func Size(p netip.Prefix) int { return 1 << (32 - p.Bits()) }

// Usable returns how many of them machines may take: all but network and
// broadcast, except that a /31 has two (RFC 3021) and a /32 one.
func Usable(p netip.Prefix) int {
	if p.Bits() >= 31 {
		return Size(p)
	}
	return Size(p) - 2
}

// First returns the first usable address of an IPv4 prefix; for IPv6 the address
// after the subnet-router anycast address (RFC 4291, section 2.6.1).
func First(p netip.Prefix) netip.Addr {
	if p.Addr().Is4() && p.Bits() >= 31 {
		return p.Masked().Addr()
	}
	return Add(p.Masked().Addr(), 1)
}

// Last returns the last usable address of an IPv4 prefix.
func Last(p netip.Prefix) netip.Addr {
	if p.Bits() >= 31 {
		return Broadcast(p)
	}
	return Add(Broadcast(p), -1)
}

// Broadcast returns the last address of an IPv4 prefix, which for lengths up to
// 30 is its directed broadcast address (RFC 919).
func Broadcast(p netip.Prefix) netip.Addr {
	return fromUint32(toUint32(p.Masked().Addr()) | ^mask32(p.Bits()))
}

// Reserved reports whether a is the network or broadcast address of p.
func Reserved(p netip.Prefix, a netip.Addr) bool {
	if !p.Addr().Is4() || p.Bits() >= 31 {
		return false
	}
	return a == p.Masked().Addr() || a == Broadcast(p)
}

// PrivateSpace is the networks of private use (RFC 1918, RFC 4193) and shared space
// (RFC 6598).
var PrivateSpace = []netip.Prefix{netip.MustParsePrefix("10.0.0.0/8"), netip.MustParsePrefix("172.16.0.0/12"),
	netip.MustParsePrefix("192.168.0.0/16"), netip.MustParsePrefix("fc00::/7"), netip.MustParsePrefix("100.64.0.0/10")}

// Private tells addresses that are in PrivateSpace.
func Private(a netip.Addr) bool {
	return slices.ContainsFunc(PrivateSpace, func(p netip.Prefix) bool { return p.Contains(a) })
}

// LengthFor returns the longest IPv4 prefix length (at most 30) whose usable
// addresses number at least n.
func LengthFor(n int) int {
	for length := 30; length > 0; length-- {
		if 1<<(32-length)-2 >= n {
			return length
		}
	}
	return 0
}

// Overlap returns the first prefix of list that overlaps p.
func Overlap(p netip.Prefix, list []netip.Prefix) (netip.Prefix, bool) {
	for _, q := range list {
		if p.Overlaps(q) {
			return q, true
		}
	}
	return netip.Prefix{}, false
}

// Named returns addresses as a person says them: "no resolver" for none of them,
// else "resolver 10.83.16.1" or "resolvers 10.83.16.1, 10.83.16.2".
func Named(one string, list []netip.Addr) string {
	switch len(list) {
	case 0:
		return "no " + one
	case 1:
		return one + " " + list[0].String()
	}
	return one + "s " + strings.Join(Texts(list), ", ")
}

// Texts returns addresses as text.
func Texts(list []netip.Addr) []string {
	out := make([]string, len(list))
	for i, a := range list {
		out[i] = a.String()
	}
	return out
}

// Package mac holds hardware addresses: IEEE 802 48-bit identifiers (EUI-48),
// read in every common writing and printed in one.
package mac

import (
	"errors"
	"fmt"
	"net/netip"
	"strings"
)

// Address is one 48-bit hardware address. The zero value is the all-zero
// address, which no adapter may own.
type Address [6]byte

// Broadcast is the address of every station on a segment.
var Broadcast = Address{0xff, 0xff, 0xff, 0xff, 0xff, 0xff}

// ErrLength says that a text held something other than twelve hexadecimal digits.
var ErrLength = errors.New("a MAC address has twelve hexadecimal digits")

// Parse reads an address with colons, hyphens, dots, spaces or nothing between
// its digits, in either letter case. Separators must stand between whole
// groups of equal length (the last dots-of-four and pairs alike).
func Parse(text string) (Address, error) {
	var a Address
	digits := 0
	for i := 0; i < len(text); i++ {
		c := text[i]
		v := byte(0)
		switch {
		case c >= '0' && c <= '9':
			v = c - '0'
		case c >= 'a' && c <= 'f':
			v = c - 'a' + 10
		case c >= 'A' && c <= 'F':
			v = c - 'A' + 10
		case c == ':' || c == '-' || c == '.' || c == ' ':
			if digits%2 != 0 {
				return Address{}, fmt.Errorf("mac: %q: %q is inside a pair of digits", text, string(c))
			}
			continue
		default:
			return Address{}, fmt.Errorf("mac: %q: %q is not a hexadecimal digit", text, string(c))
		}
		if digits >= 12 {
			return Address{}, fmt.Errorf("mac: %q: %w", text, ErrLength)
		}
		a[digits/2] = a[digits/2]<<4 | v
		digits++
	}
	if digits != 12 {
		return Address{}, fmt.Errorf("mac: %q has %d digits: %w", text, digits, ErrLength)
	}
	return a, nil
}

// String returns six pairs with colons, lower case.
func (a Address) String() string {
	const hex = "0123456789abcdef"
	var b [17]byte
	for i, v := range a {
		if i > 0 {
			b[i*3-1] = ':'
		}
		b[i*3], b[i*3+1] = hex[v>>4], hex[v&15]
	}
	return string(b[:])
}

// Pairs writes hexadecimal digits, all of an address's or its last, as pairs with
// colons.
func Pairs(digits string) string {
	var out []string
	for len(digits) > 2 {
		out = append(out, digits[:2])
		digits = digits[2:]
	}
	return strings.Join(append(out, digits), ":")
}

// Tail returns the last n bytes (1 to 6) with colons: what people compare by eye.
func (a Address) Tail(n int) string {
	n = min(max(n, 1), 6)
	return a.String()[(6-n)*3:]
}

// IsZero reports whether it is the all-zero address.
func (a Address) IsZero() bool { return a == Address{} }

// IsGroup reports whether it is a multicast or broadcast address (IEEE 802, I/G bit).
func (a Address) IsGroup() bool { return a[0]&1 != 0 }

// IsLocal reports whether it is a locally administered address (IEEE 802, U/L bit).
func (a Address) IsLocal() bool { return a[0]&2 != 0 }

// Uint64 returns the address as a number, for use as a map key.
func (a Address) Uint64() uint64 {
	return uint64(a[0])<<40 | uint64(a[1])<<32 | uint64(a[2])<<24 | uint64(a[3])<<16 | uint64(a[4])<<8 | uint64(a[5])
}

// MarshalText returns String, for JSON.
func (a Address) MarshalText() ([]byte, error) { return []byte(a.String()), nil }

// UnmarshalText reads what Parse reads.
func (a *Address) UnmarshalText(text []byte) error {
	v, err := Parse(strings.TrimSpace(string(text)))
	if err != nil {
		return err
	}
	*a = v
	return nil
}

// LinkLocal returns the IPv6 link-local address of the hardware address (RFC
// 4291, appendix A).
func (a Address) LinkLocal() netip.Addr {
	return a.In(netip.PrefixFrom(netip.AddrFrom16([16]byte{0xfe, 0x80}), 64))
}

// In returns the IPv6 address that the hardware address makes in a prefix of 64
// bits (likewise).
func (a Address) In(p netip.Prefix) netip.Addr {
	b := p.Masked().Addr().As16()
	copy(b[8:], []byte{a[0] ^ 2, a[1], a[2], 0xff, 0xfe, a[3], a[4], a[5]})
	return netip.AddrFrom16(b)
}

package subnet

import (
	"math/bits"
	"net/netip"
	"slices"
	"strconv"
	"strings"
)

// readAs is what people and recognition write for a digit or a dot.
var readAs = strings.NewReplacer(
	"O",
	"0",
	"o",
	"0",
	"l",
	"1",
	"I",
	"1",
	"|",
	"1",
	"S",
	"5",
	"B",
	"8",
	",",
	".",
	";",
	".",
	"_",
	".",
	"..",
	".",
)

// LikelyAddr returns the IPv4 address that was most likely meant by a text that is
// none: letters for digits, commas for dots, a part that stands twice, zeros in
// front, two parts run together. It gives nothing where two answers are as likely.
func LikelyAddr(text string) (netip.Addr, bool) {
	for _, t := range candidates(text) {
		if a, err := netip.ParseAddr(t); err == nil && a.Is4() {
			return a, true
		}
	}
	return netip.Addr{}, false
}

// LikelyMask returns the dotted mask that was most likely meant by a text that is none.
func LikelyMask(text string) (netip.Addr, bool) {
	for _, t := range candidates(text) {
		if a, err := netip.ParseAddr(t); err == nil && a.Is4() && IsMask(a) {
			return a, true
		}
	}
	return netip.Addr{}, false
}

// IsMask reports whether it is an IPv4 address that is ones and then zeros, and not all zeros.
func IsMask(a netip.Addr) bool {
	if !a.Is4() || toUint32(a) == 0 {
		return false
	}
	v := ^toUint32(a)
	return v&(v+1) == 0
}

// MaskLength returns the prefix length of a mask.
func MaskLength(mask netip.Addr) int { return bits.LeadingZeros32(^toUint32(mask)) }

// candidates returns readings of a text with four parts, the likeliest first; none
// where several are as likely.
func candidates(text string) []string {
	text = strings.Trim(readAs.Replace(strings.TrimSpace(text)), ".")
	if text == "" || strings.Trim(text, "0123456789.") != "" {
		return nil
	}
	parts := strings.Split(text, ".")
	for i, p := range parts {
		if n, err := strconv.Atoi(p); err == nil {
			parts[i] = strconv.Itoa(n) // zeros in front
		}
	}
	var out [][]string
	switch len(parts) {
	case 4:
		out = append(out, parts)
		for i, p := range parts { // a digit that was typed twice
			if n, _ := strconv.Atoi(p); n > 255 && len(p) == 4 {
				for k := 1; k < len(p); k++ {
					if p[k] == p[k-1] {
						out = append(out, slices.Concat(parts[:i], []string{p[:k] + p[k+1:]}, parts[i+1:]))
						break
					}
				}
			}
		}
	case 5: // a part that stands twice
		for i := 4; i > 0; i-- { // the last: what is written first was looked at
			if parts[i] == parts[i-1] {
				out = append(out, slices.Delete(slices.Clone(parts), i, i+1))
			}
		}
	case 3: // two parts run together
		out = split(parts)
	}
	var texts []string
	for _, p := range out {
		if t := strings.Join(p, "."); !slices.Contains(texts, t) {
			texts = append(texts, t)
		}
	}
	if len(parts) == 3 && len(texts) > 1 {
		return nil
	}
	return texts
}

// split returns the ways to make four parts of three, one of which is too large.
func split(parts []string) [][]string {
	var out [][]string
	for i, p := range parts {
		if n, _ := strconv.Atoi(p); n <= 255 {
			continue
		}
		for k := 1; k < len(p); k++ {
			a, _ := strconv.Atoi(p[:k])
			b, _ := strconv.Atoi(p[k:])
			if a <= 255 && b <= 255 && p[k] != '0' {
				out = append(out, slices.Concat(parts[:i], []string{p[:k], p[k:]}, parts[i+1:]))
			}
		}
	}
	return out
}

// meant asks back what was likely meant by a text that is no address.
func meant(text string) string {
	if a, ok := LikelyAddr(text); ok {
		return "; did you mean " + a.String() + "?"
	}
	if parts := strings.Split(text, "."); len(parts) == 5 && addressable(parts[:4]) {
		if n, err := strconv.Atoi(parts[4]); err == nil && n <= 32 {
			return "; did you mean " + strings.Join(parts[:4], ".") + "/" + parts[4] + "?"
		}
	}
	return ""
}

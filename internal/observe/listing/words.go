package listing

import (
	"fmt"
	"net/netip"
	"strconv"
	"strings"
	"sync"

	"openbastion/internal/model/mac"
	"openbastion/internal/model/subnet"
)

// kind is what a word of a listing can be by its form.
type kind uint8

const (
	plainWord kind = iota
	addressWord
	prefixWord
	maskWord
	macWord
	otherAddress // IPv6, everybody's addresses: understood, and nothing to read
	arrow
)

// word is one word of a line.
type word struct {
	text    string
	kind    kind
	address netip.Addr
	bits    int
	digits  string // of a hardware address
	slip    string // what it says as it stands, when it was repaired
	label   bool   // a colon or an equals sign stood behind it
	bracket bool   // it stood in brackets
	comma   bool   // a comma or semicolon stood behind it
	at      int    // the column that it begins in
}

// wordOf returns a text that is one word.
func wordOf(text string) word {
	w := word{text: text}
	w.classify()
	return w
}

// split takes a line apart. What stands together by its form stays so: an address,
// a hardware address in any writing.
func split(line string) []word {
	var out []word
	depth := 0
	for i := 0; i < len(line); {
		c := line[i]
		switch {
		case c == ' ' || c == '\t' || c == '"' || c == '\'' || c == '`':
			i++
			continue
		case strings.HasPrefix(line[i:], "->"), strings.HasPrefix(line[i:], "=>"):
			out = append(out, word{text: "->", kind: arrow, at: i})
			i += 2
			continue
		case c == '(' || c == '[' || c == '{' || c == '<':
			depth++
			i++
			continue
		case c == ')' || c == ']' || c == '}' || c == '>':
			depth = max(depth-1, 0)
			i++
			continue
		case c == '=' || c == ',' || c == ';' || c == '|':
			if n := len(out); n > 0 {
				out[n-1].label = out[n-1].label || c == '='
				out[n-1].comma = out[n-1].comma || c != '='
			}
			i++
			continue
		}
		end := i
		for end < len(line) && !strings.ContainsRune(" \t\"'`()[]{}<>=|", rune(line[end])) && !strings.HasPrefix(line[end:], "->") {
			end++
		}
		if chunk := line[i:end]; strings.Trim(chunk, ":,;.!?") != "" {
			out = append(out, pieces(chunk, i, depth > 0)...)
		} else if n := len(out); n > 0 {
			out[n-1].label = out[n-1].label || strings.Contains(chunk, ":")
			out[n-1].comma = out[n-1].comma || strings.ContainsAny(chunk, ",;")
		}
		i = end
	}
	return joinSpaced(out)
}

// pieces makes words of what stands between spaces: one when it is something by its
// form, else what its commas and colons separate.
func pieces(chunk string, at int, bracket bool) []word {
	text := strings.TrimRight(chunk, ":,;.!?")
	w := word{text: text, at: at, bracket: bracket}
	tail := chunk[len(text):]
	w.label, w.comma = strings.Contains(tail, ":"), strings.ContainsAny(tail, ",;")
	if text == "" {
		return nil
	}
	if m := gluedWord.FindStringSubmatch(text); m != nil {
		return append(pieces(m[1], at, bracket), pieces(m[2]+tail, at+len(m[1]), bracket)...)
	}
	if w.classify(); w.kind != plainWord {
		return []word{w}
	}
	for _, sep := range []string{",", ";"} {
		if head, rest, ok := strings.Cut(text, sep); ok && head != "" {
			first := pieces(head, at, bracket)
			if n := len(first); n > 0 {
				first[n-1].comma = true
			}
			return append(first, pieces(rest+tail, at+len(head)+1, bracket)...)
		}
	}
	if i := strings.IndexByte(text, ':'); i > 0 && i < len(text)-1 && tailDigits(text) == "" { // label:value
		v := word{text: text[i+1:], at: at + i + 1, bracket: bracket, label: w.label, comma: w.comma}
		if v.classify(); v.kind != plainWord ||
			strings.Trim(text[:i], "abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ.-_") == "" {
			return []word{{text: text[:i], label: true, at: at, bracket: bracket}, v}
		}
	}
	return []word{w}
}

// joinSpaced puts six pairs of digits that spaces separate together.
func joinSpaced(words []word) []word {
	for i := 0; i+6 <= len(words); i++ {
		digits := ""
		for k, w := range words[i : i+6] {
			if k < 5 && (w.comma || w.label) || len(w.text) != 2 || !isHex(w.text) || w.kind != plainWord {
				digits = ""
				break
			}
			digits += strings.ToLower(w.text)
		}
		if len(digits) == 12 && !everybodys(digits) {
			w := words[i]
			w.kind, w.digits, w.label, w.comma = macWord, digits, false, words[i+5].comma
			words = append(words[:i:i], append([]word{w}, words[i+6:]...)...)
		}
	}
	return words
}

func isHex(text string) bool { return text != "" && strings.Trim(text, "0123456789abcdefABCDEF") == "" }

// everybodys tells hardware addresses of nobody or of several (IEEE 802, I/G bit).
func everybodys(digits string) bool {
	first, err := strconv.ParseUint(digits[:2], 16, 8)
	return err != nil || first&1 != 0 || strings.Trim(digits, "0") == ""
}

var (
	dotted    = form(`^[0-9OoIl|SB]{1,4}([.,;_]{1,2}[0-9OoIl|SB]{1,6}){2,4}$`)
	grouped   = form(`^[0-9a-fA-FOoIlSg|]{1,2}([:;.\-][0-9a-fA-FOoIlSg|]{1,2}){4,6}$`)
	gluedMAC  = form(`^(?i:ether|mac|hwaddr|addr|address)[:\-]?([0-9a-fA-F]{2}([:\-][0-9a-fA-F]{2}){5})$`)
	gluedNet  = form(`^(?i:inet|addr|address|ip)-?(\d{1,3}(\.\d{1,3}){3}(/\d{1,2})?)$`)
	gluedWord = form(`^(\d{1,3}(?:\.\d{1,3}){3}/\d{1,2})([A-Za-z]+)$`)
	counter   = form(`^([1-9]\d{0,3})[:).]$`)
)

// classify finds what a word is by its form, and repairs the slips of people and of
// recognition where one answer is likely.
func (w *word) classify() {
	text, _, _ := strings.Cut(w.text, "%")
	text = strings.Trim(text, ".…*~")
	if m := gluedMAC.FindStringSubmatch(text); m != nil {
		text = m[1]
	} else if m := gluedNet.FindStringSubmatch(text); m != nil {
		text = m[1]
	}
	switch {
	case w.asMAC(text), w.asAddress(text):
		return
	}
	if head, _, _ := strings.Cut(text, "/"); strings.Count(head, ":") > 1 {
		if a, err := netip.ParseAddr(head); err == nil && a.Is6() && !a.Is4In6() {
			w.kind = otherAddress
			return
		}
	}
	w.asSlip(text)
}

// asMAC reads a hardware address as systems write it: six groups of two, of which
// some leave a zero in front out, three of four, or twelve digits.
func (w *word) asMAC(text string) bool {
	groups := strings.FieldsFunc(text, func(c rune) bool { return c == ':' || c == '-' || c == '.' })
	if len(text)-len(strings.Join(groups, "")) != len(groups)-1 {
		return false
	}
	if at := strings.IndexAny(text, ":-."); at >= 0 &&
		strings.Count(text, text[at:at+1]) != len(groups)-1 { // of more than one kind
		return false
	}
	digits := ""
	for _, g := range groups {
		if !isHex(g) {
			return false
		}
		if len(groups) == 6 && len(g) == 1 && strings.Contains(text, ":") {
			g = "0" + g
		}
		digits += strings.ToLower(g)
	}
	even := len(groups) == 6 || len(groups) == 3 && len(text) == 14 ||
		len(groups) == 1 && strings.ContainsAny(digits, "abcdef")
	if len(digits) != 12 || !even {
		return false
	}
	for _, g := range groups {
		if len(groups) == 6 && len(g) > 2 || len(groups) == 3 && len(g) != 4 {
			return false
		}
	}
	if w.kind, w.digits = macWord, digits; everybodys(digits) {
		w.kind = otherAddress
		return true
	}
	short, padded := false, false
	for _, g := range groups {
		short, padded = short || len(g) == 1, padded || len(g) == 2 && g[0] == '0'
	}
	if short && padded { // who leaves zeros out leaves them all out
		w.slip = text + "; a digit is missing: read it again"
	}
	return true
}

// asAddress reads an address, with or without its prefix length, or a mask.
func (w *word) asAddress(text string) bool {
	if hex, ok := strings.CutPrefix(text, "0x"); ok && len(hex) == 8 {
		v, err := strconv.ParseUint(hex, 16, 32)
		mask := netip.AddrFrom4([4]byte{byte(v >> 24), byte(v >> 16), byte(v >> 8), byte(v)})
		if err != nil || !subnet.IsMask(mask) {
			return false
		}
		w.kind, w.bits = maskWord, subnet.MaskLength(mask)
		return true
	}
	head, tail, whole := strings.Cut(text, "/")
	a, err := netip.ParseAddr(head)
	if err != nil || !a.Is4() {
		return false
	}
	switch n, err := strconv.Atoi(tail); {
	case !whole:
		if w.kind, w.address = addressWord, a; head[:4] == "255." && subnet.IsMask(a) {
			w.kind, w.bits = maskWord, subnet.MaskLength(a)
		}
	case err == nil && n >= 0 && n <= 32:
		w.kind, w.address, w.bits = prefixWord, a, n
	default:
		p, err := subnet.ParsePrefix(text)
		if err != nil {
			return false
		}
		w.kind, w.address, w.bits = prefixWord, a, p.Bits()
	}
	return true
}

// asSlip repairs what is almost an address, a mask or a hardware address.
func (w *word) asSlip(text string) {
	head, tail, whole := strings.Cut(text, "/")
	switch {
	case dotted.MatchString(head) && strings.ContainsAny(head, "0123456789") && (strings.Count(head, ".")+strings.Count(head, ",")+
		strings.Count(head, ";")+strings.Count(head, "_") >= 3 || whole):
		a, ok := subnet.LikelyAddr(head)
		if mask, isMask := subnet.LikelyMask(head); strings.HasPrefix(head, "255") && isMask {
			w.kind, w.bits, w.slip = maskWord, subnet.MaskLength(mask), fmt.Sprintf("%s; is that %s?", text, mask)
			return
		}
		if w.slip = text + "; that is not an address: check it"; ok {
			w.slip = fmt.Sprintf("%s; is that %s?", text, a)
			w.kind, w.address = addressWord, a
			if n, err := strconv.Atoi(readDigits().Replace(tail)); whole && err == nil && n <= 32 {
				w.kind, w.bits = prefixWord, n
			}
		}
	case whole && len(tail) > 0:
		if a, err := netip.ParseAddr(head); err == nil && a.Is4() {
			w.kind, w.address, w.slip = addressWord, a, text+"; what follows the / is not a mask: check it"
		}
	case grouped.MatchString(text):
		digits := strings.ToLower(
			readDigits().Replace(strings.NewReplacer(":", "", ";", "", ".", "", "-", "").Replace(text)),
		)
		digits = strings.ReplaceAll(digits, "g", "9")
		if len(digits) == 12 && isHex(digits) && !everybodys(digits) && strings.Count(text, ".") < 4 {
			w.kind, w.digits = macWord, digits
			w.slip = fmt.Sprintf("%s; is that %s?", text, mac.Pairs(digits))
		} else if n := len(strings.FieldsFunc(text, func(c rune) bool { return strings.ContainsRune(":;-", c) })); n == 5 || n == 7 {
			w.slip = fmt.Sprintf("%s; a MAC address has six pairs: check it", text)
		}
	}
}

// readDigits is what recognition writes for digits of a hardware address.
var readDigits = sync.OnceValue(func() *strings.Replacer {
	return strings.NewReplacer("O", "0", "o", "0", "l", "1", "I", "1", "|", "1", "S", "5")
})

// is tells words of one meaning, in any letter case.
func (w word) is(list ...string) bool {
	for _, x := range list {
		if strings.EqualFold(w.text, x) {
			return true
		}
	}
	return false
}

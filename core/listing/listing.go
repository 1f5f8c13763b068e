// Package listing reads what people copy from a console: the interfaces of a
// machine as the usual system commands, installers and people themselves write
// them, with noise around. It never guesses an address: what it cannot read it
// leaves out.
package listing

import (
	"encoding/binary"
	"net/netip"
	"slices"
	"strconv"
	"strings"
)

// Link is what a listing says of an interface's link.
type Link uint8

// The links.
const (
	LinkUnknown Link = iota
	LinkUp
	LinkDown
)

// Interface is one interface of a listing.
type Interface struct {
	Device    string
	Tail      string // hexadecimal digits of the hardware address, lower case: 12, or the last 4 to 11
	Addresses []netip.Prefix
	Link      Link
	Line      int // where it starts in the listing, from 1
}

// MaxSize bounds what is read of a listing.
const MaxSize = 1 << 20

// maxInterfaces bounds the interfaces of a listing.
const maxInterfaces = 4096

// Read finds the interfaces of a listing, in its order, loopback left out.
func Read(text string) []Interface {
	text = text[:min(len(text), MaxSize)]
	if list := readJSON(text); list != nil {
		return list
	}
	r := reader{whole: hasWhole(text)}
	for n, line := range strings.Split(text, "\n") {
		r.line(n+1, strings.TrimRight(stripColor(line), "\r \t"))
	}
	r.flush()
	if r.whole { // what has neither address, where others have, is no adapter
		r.out = slices.DeleteFunc(r.out, func(i Interface) bool { return i.Tail == "" && len(i.Addresses) == 0 })
	}
	return r.out
}

type reader struct {
	out   []Interface
	now   *Interface
	whole bool // some line holds a whole hardware address: shorter ones are noise
}

func (r *reader) flush() {
	if r.now != nil && r.now.Device != "lo" && !strings.HasPrefix(r.now.Device,
		"lo0") && (r.now.Tail != "" || len(r.now.Addresses) > 0 || r.now.Link != LinkUnknown) && len(r.out) < maxInterfaces {
		r.out = append(r.out, *r.now)
	}
	r.now = nil
}

func (r *reader) start(n int, device string) {
	r.flush()
	device, _, _ = strings.Cut(device, "@") // a tagged one is written with its parent
	r.now = &Interface{Device: device, Line: n}
}

// line takes one line: perhaps the start of an interface, perhaps more of the
// one at hand.
func (r *reader) line(n int, line string) {
	words := strings.Fields(line)
	if len(words) == 0 {
		return
	}
	indented := line[0] == ' ' || line[0] == '\t'
	if !indented && isIP(words[0]) { // a route: what follows is no interface's
		r.flush()
		return
	}
	counted := len(words) > 1 && isCount(words[0]) // 2: eth0: … or 1) eth0 …
	if counted {
		words = words[1:]
		indented = false
	}
	head := strings.TrimRight(words[0], ":-=,")
	_, tailAt := r.address(words[1:])
	switch {
	case !indented && isDevice(head) && r.keyword(head) == "" && (strings.HasSuffix(words[0],
		":") || tailAt >= 0 || hasState(words) || counted && len(words) > 1 && strings.HasPrefix(words[1],
		"inet") || len(words) > 1 && strings.HasPrefix(words[1], "flags=") || len(words) > 2 && words[1] == "Link"):
		r.start(n, head)
		words = words[1:]
	case tailAt >= 0 && isDevice(head) && r.keyword(head) == "":
		r.start(n, head)
		words = words[1:]
	}
	if _, at := r.address(words); at == 0 && !indented && len(words) > 1 && isDevice(words[1]) && r.keyword(words[1]) == "" {
		r.start(n, words[1]) // the address first
	} else if at > 0 && (!isDevice(head) || r.keyword(head) != "" && !indented) { // noise, a device, its address
		for i := at - 1; i >= 0; i-- {
			if w := strings.Trim(words[i], ":-=,~"); isDevice(w) && r.keyword(w) == "" && strings.ContainsAny(w, "0123456789") {
				r.start(n, w)
				words = words[i+1:]
				break
			}
		}
	}
	if r.now == nil {
		return
	}
	if tail, at := r.address(words); at >= 0 && r.now.Tail == "" {
		r.now.Tail = tail
	}
	r.addresses(words)
	r.link(line)
}

// keyword tells words that start a line about an interface and name none.
func (r *reader) keyword(w string) string {
	switch strings.ToLower(w) {
	case "ether", "link/ether", "inet", "inet6", "hwaddr", "status", "media", "mac", "address", "lladdr", "options", "groups", "nd6", "rx",
		"tx", "up", "link", "hardware", "physical", "interface", "adapter", "device", "nic", "card", "brd", "lladdr:", "address:", "ethernet":
		return w
	}
	return ""
}

// isCount tells 2: and 1) and 3.
func isCount(w string) bool {
	t := strings.TrimRight(w, ":).")
	_, err := strconv.Atoi(t)
	return err == nil && t != w
}

// isDevice tells a word that can name an interface: letters, then letters,
// digits, dots, and a few signs; not one that is all hexadecimal digits.
func isDevice(w string) bool {
	if len(w) < 2 || len(w) > 32 || w[0] < 'A' || w[0] > 'z' || w[0] > 'Z' && w[0] < 'a' {
		return false
	}
	for _, c := range w {
		if (c < 'a' || c > 'z') && (c < 'A' || c > 'Z') && (c < '0' || c > '9') && !strings.ContainsRune("._-@", c) {
			return false
		}
	}
	return digits(w) == "" || len(digits(w)) < 4
}

// hasState tells the brief form: a device, then UP or DOWN.
func hasState(words []string) bool {
	return len(words) > 1 && slices.Contains([]string{"UP", "DOWN", "UNKNOWN", "(up)", "(down)"}, words[1])
}

// digits gives the hexadecimal digits of a word whose groups are separated by
// colons, hyphens or dots; empty when the word is anything else.
func digits(w string) string {
	w = strings.ToLower(strings.Trim(w, "(),;[]<>\"'….*"))
	groups := strings.FieldsFunc(w, func(c rune) bool { return c == ':' || c == '-' || c == '.' })
	if len(groups) == 0 || len(groups) > 6 || len(w)-len(strings.Join(groups, "")) != len(groups)-1 {
		return ""
	}
	var b strings.Builder
	for _, g := range groups {
		if strings.Trim(g, "0123456789abcdef") != "" {
			return ""
		}
		if len(g)%2 != 0 && len(groups) > 1 { // some systems leave a leading zero out
			if len(g) > 1 || strings.Contains(w, ".") {
				return ""
			}
			b.WriteByte('0')
		}
		b.WriteString(g)
	}
	return b.String()
}

func hasWhole(text string) bool {
	for _, w := range strings.Fields(text) {
		if d := digits(w); len(d) == 12 && !isIP(w) && d != "ffffffffffff" && d != "000000000000" {
			return true
		}
	}
	return false
}

func isIP(w string) bool {
	w, _, _ = strings.Cut(strings.Trim(w, "(),;"), "/")
	_, err := netip.ParseAddr(w)
	return err == nil
}

// address finds the hardware address in a line's words, or its tail, and its
// place; the place is -1 when there is none. What follows brd or broadcast is
// everybody's.
func (r *reader) address(words []string) (string, int) {
	for i, w := range words {
		d := digits(w)
		if len(d) < 4 || len(d) > 12 || isIP(w) || i > 0 &&
			(words[i-1] == "brd" || words[i-1] == "broadcast" || words[i-1] == "mtu" || words[i-1] == "qlen" || words[i-1] == "netmask") {
			continue
		}
		if len(d) == 12 && d != "ffffffffffff" && d != "000000000000" {
			return d, i
		}
		// A tail counts where nothing whole is listed, and when it cannot be a
		// plain number or word: it has a separator, or a digit.
		if !r.whole && len(d) < 12 && len(d)%2 == 0 && (strings.ContainsAny(strings.Trim(w, "(),"), ":-.") || strings.ContainsAny(d,
			"0123456789")) {
			return d, i
		}
	}
	return "", -1
}

// addresses takes the IPv4 addresses of a line, with their masks.
func (r *reader) addresses(words []string) {
	for i, w := range words {
		w = strings.TrimPrefix(strings.Trim(w, ",;()"), "addr:")
		if p, err := netip.ParsePrefix(w); err == nil && p.Addr().Is4() {
			r.now.Addresses = append(r.now.Addresses, p)
			continue
		}
		a, err := netip.ParseAddr(w)
		if err != nil || !a.Is4() || i == 0 || words[i-1] != "inet" && !strings.HasPrefix(words[i], "addr:") && words[i-1] != "addr:" {
			continue
		}
		bits := 32
		for j := i + 1; j < len(words); j++ {
			if m, ok := strings.CutPrefix(words[j], "Mask:"); ok {
				bits = maskBits(m)
			} else if words[j] == "netmask" && j+1 < len(words) {
				bits = maskBits(words[j+1])
			}
		}
		r.now.Addresses = append(r.now.Addresses, netip.PrefixFrom(a, bits))
	}
}

// maskBits reads a mask, dotted or as 0xffffff00.
func maskBits(text string) int {
	v, err := strconv.ParseUint(strings.TrimPrefix(text, "0x"), 16, 32)
	if a, e := netip.ParseAddr(text); e == nil && a.Is4() {
		b := a.As4()
		v, err = uint64(binary.BigEndian.Uint32(b[:])), nil
	}
	if err != nil {
		return 32
	}
	n := 0
	for n < 32 && v&(1<<(31-n)) != 0 {
		n++
	}
	return n
}

func (r *reader) link(line string) {
	switch l := strings.ToLower(line); {
	case strings.Contains(l, "no-carrier"), strings.Contains(l, "no carrier"), strings.Contains(l, "state down"),
		strings.Contains(l, "(down)"), strings.Contains(l, " down "), strings.Contains(l, "no link"):
		r.now.Link = LinkDown
	case r.now.Link == LinkUnknown && (strings.Contains(l, "lower_up") || strings.Contains(l, "status: active") || strings.Contains(l,
		"(up)") || strings.Contains(l, " up ") || strings.Contains(l, "running")):
		r.now.Link = LinkUp
	}
}

// stripColor takes terminal colours out of a line.
func stripColor(line string) string {
	if !strings.Contains(line, "\x1b[") {
		return line
	}
	var b strings.Builder
	for {
		before, after, ok := strings.Cut(line, "\x1b[")
		b.WriteString(before)
		if !ok {
			return b.String()
		}
		end := strings.IndexFunc(after, func(c rune) bool { return c >= '@' && c <= '~' })
		if end < 0 {
			return b.String()
		}
		line = after[end+1:]
	}
}

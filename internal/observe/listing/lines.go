package listing

import (
	"slices"
	"strings"
	"sync"
)

var (
	prompt   = form(`^[\[(]?[\w.-]+@([\w.-]+)[\])]?[ :][^ ]*.*?[#$%>](?: |$)`)
	shell    = form(`^(PS )?[A-Za-z]:\\[^>]*>|^[$#%>] \w`)
	numbered = form(`(?i)^\s*(nic|vnic|net|ethernet|interface)(\d{1,3})\b`)
	question = form(`(?i)^\W*(?:please )?(?:do you want|enter|type|which|choose|select|specify|input|give|what)\s+\w`)
	// The heads of a desktop's adapters: the kind before the word for it, or behind.
	desktop = []pattern{
		form(`(?i)^\S.*[ -]adapter (.+?) ?:$`),
		form(
			`(?i)^(?:carte|adaptador|adaptateur|scheda|placa)(?: de| d')? (?:ethernet|lan inal[aá]mbrica|r[eé]seau sans fil|rede sem fio|` +
				`lan wireless|lan|wireless|t[uú]nnel|t[uú]nel|ppp|inconnue?|desconocido|desconhecido) (.+?) ?:$`,
		),
	}
	// What begins an interface whatever its name is: flags, a state in capitals.
	strong = form(
		`^(?:\d+: ([^\s:]+): <|([\w.-]+): flags=|([\w.-]+)\s+Link encap|([\w.@-]+)\s+(?:UP|DOWN|UNKNOWN|LOWERLAYERDOWN)(?:\s|$))`,
	)
	// An adapter that is told by its number alone.
	adapterName = form(
		`(?i)^((?:virtual |network |netzwerk)?(?:adapter|nic|vnic|adaptateur|adaptador|scheda)(?: r[eé]seau| de red| de rede)?) ?#?(\d{1,3})\b`,
	)
	clock      = form(`^([01]?\d|2[0-3]|\d{4})[:-][0-5]\d([:-][0-5]\d)?$`)
	apartSlash = form(`(\d+\.\d+\.\d+\.\d+) ?/ ?(\d{1,2})\b`)
	ordinal    = form(
		`(?i)^\s*(?:the )?(first|second|third|fourth|1st|2nd|3rd|4th) (?:network )?(?:adapter|nic|card|interface)\b[ :,]*`,
	)
	bullet       = form(`^(\s*)[-*+] `)
	quoted       = form(`(?i)\b(?:interface|schnittstelle|interfaz|interfaccia) "([^"]{1,40})"$`)
	keyOfAdapter = form(`(?i)^(?:nic|vnic|net|ethernet)\d{1,3}\.[a-z]`)
	suffixed     = form(`^\s*([A-Za-z_]*[A-Za-z_])(\d{1,2})\s*=\s*(.+)$`)
)

// line takes one line of a listing.
func (r *reader) line(n int, line string) {
	r.n, r.used, r.unplaced = n, false, false
	line = bullet.ReplaceAllString(line, "$1  ")
	line = strings.Replace(line, "IPv4-adres", "IPv4 adres", 1)
	marked := strings.Contains(line, "(") || strings.Contains(line, "dad")
	if r.now != nil && marked && !strings.Contains(line, "inet6") &&
		tools().duplicate.MatchString(line) {
		r.now.Duplicate = true
	}
	line = apartSlash.ReplaceAllString(line, "$1/$2")
	words := split(line)
	if len(words) == 0 && (r.table == nil || strings.TrimSpace(line) == "") {
		r.table, r.last, r.apart = nil, noField, r.apart || strings.TrimSpace(line) == ""
		return
	}
	defer func() { r.apart = false }()
	if len(words) == 0 {
		r.row(line, words)
		return
	}
	if m := prompt.FindStringSubmatch(line); m != nil {
		r.named(m[1])
		r.now, r.table = nil, nil
		return
	}
	if name := strings.Trim(line, " \t:#=*-[]"); slices.ContainsFunc(
		r.machines,
		func(m string) bool { return strings.EqualFold(m, name) },
	) {
		r.named(name)
		r.used = true
		return
	}
	if r.asked != nil && r.answered(line) {
		return
	}
	if shell.MatchString(line) || strings.HasPrefix(line, "#") && len(cells.FindAllString(line, 4)) < 3 ||
		strings.HasPrefix(line, "//") {
		r.now, r.table = nil, nil
		return
	}
	if r.answered(line) {
		return
	}
	if r.table != nil {
		if r.row(line, words) {
			r.note(line, words)
			return
		}
		r.table = nil
	}
	if r.heading(line, words) {
		return
	}
	r.body(line, words)
	r.note(line, words)
}

// note names a line with an address of which nothing was understood, and repairs that
// nothing took.
func (r *reader) note(line string, words []word) {
	for _, w := range words {
		if w.slip != "" && !slices.ContainsFunc(r.out.Slips, func(s Remark) bool { return s.Line == r.n }) &&
			len(r.out.Slips) < maxKept {
			r.keep(&r.out.Slips, w.slip)
			r.used = true
		}
	}
	if r.used && !r.unplaced {
		return
	}
	for _, w := range words {
		if w.kind != plainWord && w.kind != arrow && w.kind != otherAddress && !w.address.IsLoopback() {
			r.keep(&r.out.Unread, strings.TrimSpace(line))
			return
		}
	}
}

// body takes a line that belongs to no table.
func (r *reader) body(line string, words []word) {
	indent := len(line) - len(strings.TrimLeft(line, " \t"))
	if indent <= r.underIndent {
		r.under, r.underIndent = noField, -1
	}
	if m := strong.FindStringSubmatch(line); m != nil && !words[0].is("link") {
		r.start(m[1]+m[2]+m[3]+m[4], "", 0)
		r.used = true
		words = words[1:]
		if m[1] != "" {
			words = words[1:]
		}
		r.linkState(words)
		if m[4] != "" && len(words) > 1 && words[1].kind == plainWord && len(tailDigits(words[1].text)) >= 4 &&
			r.now != nil {
			r.now.Tail = tailDigits(words[1].text)
		}
		r.values(r.tail(words))
		return
	}
	if m := suffixed.FindStringSubmatch(line); m != nil && r.keyed(m) {
		return
	}
	if m := tools().renamed.FindStringSubmatch(line); m != nil {
		if r.start(m[1], "", 0); r.now != nil {
			r.now.Tail, r.used = strings.ToLower(strings.ReplaceAll(m[2], ":", "")), true
		}
		return
	}
	if r.way(words) || r.leaseTalk(line, words) || r.around(words) {
		return
	}
	if len(words) > 1 && isCount(words[0].text) && counter.MatchString(strings.Fields(line)[0]) {
		words, indent = words[1:], 0
	}
	if r.onlyValues(words) || r.alone(words) {
		return
	}
	if r.apart && indent == 0 && words[0].kind == plainWord && !isDevice(words[0].text) &&
		fieldOf(labelOf(words)) != noField {
		r.now = nil // a record of its own
	}
	if n := len(words); n <= 3 && words[n-1].label {
		if f := fieldOf(joined(words)); f == resolver {
			r.under, r.underIndent = f, indent
			r.last = f
			return
		}
	}
	words = r.head(line, words, indent)
	r.values(words)
}

// labelOf returns the words of a line up to its first label.
func labelOf(words []word) string {
	for i, w := range words {
		if w.label {
			return joined(words[:i+1])
		}
	}
	return ""
}

// keyed takes a key that bears the number of its adapter at its end.
func (r *reader) keyed(m []string) bool {
	f := fieldOf(m[1])
	low := strings.ToLower(m[1])
	switch {
	case f == leased, f == ignored, isRole(strings.Trim(m[3], `"' `)), tailDigits(m[3]) != "":
		return false
	case f == noField && strings.HasSuffix(low, "net") && !strings.Contains(m[3], ":"),
		strings.HasSuffix(low, "network"), strings.HasPrefix(low, "hostonly"):
		f = network
	case f == noField:
		return false
	}
	r.start("", "", max(tagOf(m[2]), 1))
	r.used = true
	for _, w := range split(m[3]) {
		if w.kind != plainWord {
			r.apply(f, w)
			return true
		}
	}
	value := strings.Trim(m[3], `"' `)
	if f != deviceField {
		r.value(f, value)
	} else if kind := attachmentOf(value); r.now != nil && kind != UnsaidAttachment && len(value) < 16 {
		r.now.Attached = kind
	}
	return true
}

// onlyValues takes a line that goes on with the values of the one before.
func (r *reader) onlyValues(words []word) bool {
	if r.last != resolver && r.last != gateway {
		return false
	}
	for _, w := range words {
		if w.kind != addressWord && w.kind != otherAddress {
			return false
		}
	}
	for _, w := range words {
		r.apply(r.last, w)
	}
	return true
}

var ordinals = sync.OnceValue(func() map[string]int {
	return map[string]int{"first": 1, "second": 2, "third": 3, "fourth": 4, "1st": 1, "2nd": 2, "3rd": 3, "4th": 4}
})

// alone takes a label that is all of its line, whose value is on the next.
func (r *reader) alone(words []word) bool {
	f := r.waiting
	if r.waiting = noField; f != noField && len(words) == 1 {
		if w := words[0]; w.kind != plainWord {
			r.apply(f, w)
			return true
		} else if isCount(w.text) || nothing(w.text) || f == deviceField {
			r.value(f, w.text)
			r.used = true
			return true
		}
	}
	for i, w := range words {
		if i > 3 || w.kind != plainWord || isDevice(w.text) || tailDigits(w.text) != "" || w.label && i < len(words)-1 {
			return false
		}
	}
	switch f := fieldOf(joined(words)); f {
	case ownAddress, mask, gateway, resolver, hardware, leaseServer:
		r.waiting = f
		return !words[len(words)-1].label
	}
	return false
}

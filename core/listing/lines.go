package listing

import (
	"regexp"
	"slices"
	"strconv"
	"strings"
)

var (
	prompt   = regexp.MustCompile(`^[\[(]?[\w.-]+@([\w.-]+)[\])]?[ :][^ ]*.*?[#$%>](?: |$)`)
	shell    = regexp.MustCompile(`^(PS )?[A-Za-z]:\\[^>]*>|^[$#%>] \w`)
	numbered = regexp.MustCompile(`(?i)^\s*(nic|vnic|net|ethernet|interface)(\d{1,3})\b`)
	question = regexp.MustCompile(`(?i)^\W*(?:please )?(?:do you want|enter|type|which|choose|select|specify|input|give|what)\s+\w`)
	// The heads of a desktop's adapters: the kind before the word for it, or behind.
	desktop = []*regexp.Regexp{
		regexp.MustCompile(`(?i)^\S.*[ -]adapter (.+?) ?:$`),
		regexp.MustCompile(`(?i)^(?:carte|adaptador|adaptateur|scheda|placa)(?: de| d')? (?:ethernet|lan inal[aá]mbrica|r[eé]seau sans fil|rede sem fio|` +
			`lan wireless|lan|wireless|t[uú]nnel|t[uú]nel|ppp|inconnue?|desconocido|desconhecido) (.+?) ?:$`),
	}
	// What begins an interface whatever its name is: flags, a state in capitals.
	strong = regexp.MustCompile(`^(?:\d+: ([^\s:]+): <|([\w.-]+): flags=|([\w.-]+)\s+Link encap|([\w.@-]+)\s+(?:UP|DOWN|UNKNOWN|LOWERLAYERDOWN)(?:\s|$))`)
	// An adapter that is told by its number alone.
	adapterName  = regexp.MustCompile(`(?i)^((?:virtual |network |netzwerk)?(?:adapter|nic|vnic|adaptateur|adaptador|scheda)(?: r[eé]seau| de red| de rede)?) ?#?(\d{1,3})\b`)
	clock        = regexp.MustCompile(`^([01]?\d|2[0-3]|\d{4})[:-][0-5]\d([:-][0-5]\d)?$`)
	apartSlash   = regexp.MustCompile(`(\d+\.\d+\.\d+\.\d+) ?/ ?(\d{1,2})\b`)
	quoted       = regexp.MustCompile(`(?i)\b(?:interface|schnittstelle|interfaz|interfaccia) "([^"]{1,40})"$`)
	keyOfAdapter = regexp.MustCompile(`(?i)^(?:nic|vnic|net|ethernet)\d{1,3}\.[a-z]`)
	suffixed     = regexp.MustCompile(`^\s*([A-Za-z_]*[A-Za-z_])(\d{1,2})\s*=\s*(.+)$`)
)

// line takes one line of a listing.
func (r *reader) line(n int, line string) {
	r.n, r.used, r.unplaced = n, false, false
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
	if r.asked != nil && r.answered(line) {
		return
	}
	if shell.MatchString(line) || strings.HasPrefix(line, "#") && len(cells.FindAllString(line, 4)) < 3 || strings.HasPrefix(line, "//") {
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
		if w.slip != "" && !slices.ContainsFunc(r.out.Slips, func(s Remark) bool { return s.Line == r.n }) && len(r.out.Slips) < maxKept {
			r.out.Slips = append(r.out.Slips, Remark{r.n, w.slip})
			r.used = true
		}
	}
	if r.used && !r.unplaced || len(r.out.Unread) >= maxKept {
		return
	}
	for _, w := range words {
		if w.kind != plainWord && w.kind != arrow && w.kind != otherAddress && !w.address.IsLoopback() {
			r.out.Unread = append(r.out.Unread, Remark{r.n, strings.TrimSpace(line)})
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
		if m[4] != "" && len(words) > 1 && words[1].kind == plainWord && len(tailDigits(words[1].text)) >= 4 && r.now != nil {
			r.now.Tail = tailDigits(words[1].text)
		}
		r.values(r.tail(words))
		return
	}
	if m := suffixed.FindStringSubmatch(line); m != nil && r.keyed(m) {
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
	if r.apart && indent == 0 && words[0].kind == plainWord && !isDevice(words[0].text) && fieldOf(labelOf(words)) != noField {
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

// labelOf gives the words of a line up to its first label.
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
	case f == noField && strings.HasSuffix(low, "net") && !strings.Contains(m[3], ":"), strings.HasSuffix(low, "network"):
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
	if f != deviceField {
		r.value(f, strings.Trim(m[3], `"' `))
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

// head finds the interface that a line begins, and gives the words that are left.
func (r *reader) head(line string, words []word, indent int) []word {
	if m := adapterName.FindStringSubmatch(strings.TrimSpace(line)); m != nil {
		return r.numberedHead(strings.TrimSpace(line), m, words)
	}
	for _, form := range desktop {
		if m := form.FindStringSubmatch(line); m != nil && indent == 0 {
			r.start(strings.Trim(m[1], `"' `), "", 0)
			r.used = true
			return nil
		}
	}
	if m := quoted.FindStringSubmatch(strings.TrimRight(line, " :;{")); m != nil {
		r.start(m[1], "", 0)
		r.used = true
		return nil
	}
	if m := numbered.FindStringSubmatch(line); m != nil && !isDeviceAlone(words) {
		return r.numberedHead(line, m, words)
	}
	if words[0].is("link") && len(words) > 2 && words[2].bracket && isCount(words[1].text) { // Link 2 (eth0)
		r.start(words[2].text, "", 0)
		return words[3:]
	}
	value := slices.IndexFunc(words, func(w word) bool { return w.kind != plainWord && w.kind != arrow })
	role := slices.IndexFunc(words, func(w word) bool { return w.kind == plainWord && isRole(w.text) })
	device := slices.IndexFunc(words, func(w word) bool { return w.kind == plainWord && isDevice(w.text) })
	switch {
	case role > 0 && device >= 0 && (value < 0 || role < value && device < value) && beside(words, role, device):
		r.start(words[device].text, words[role].text, 0)
		r.used = true
		return r.tail(words[max(role, device)+1:])
	case role == 0:
		return r.roleHead(words, device, value)
	case device == 0 && (indent == 0 || value > 0 || words[0].label):
		label := ""
		if role > 0 && (value < 0 || role < value || words[role].bracket) && role <= 3 {
			label = words[role].text
		}
		if value < 0 && !words[0].label && !hasState(words) && role < 0 && len(words) > 1 && !tailLike(words[1:]) && !isNothing(words[1].text) &&
			fieldOf(words[1].text) == noField {
			return words
		}
		r.start(words[0].text, label, 0)
		r.used = true
		rest := words[1:]
		if label != "" {
			rest = slices.DeleteFunc(slices.Clone(rest), func(w word) bool { return w.text == label })
		}
		return r.tail(rest)
	case device > 0 && device < 5 && words[device-1].kind == arrow && words[0].kind == plainWord && indent < 8: // a name, and its device
		r.start(words[device].text, words[0].text, 0)
		r.used = true
		return words[device+1:]
	case device == 1 && words[1].bracket && value > 1 && words[0].kind == plainWord &&
		fieldOf(words[0].text) == noField: // a name, its device in brackets
		r.start(words[1].text, words[0].text, 0)
		r.used = true
		return words[2:]
	case value == 0 && words[0].kind == macWord && device == 1: // the address first
		label := ""
		if role > 0 {
			label = words[role].text
		}
		r.start(words[1].text, label, 0)
		return slices.Delete(slices.Clone(words), 1, 2)
	case device == 2 && indent == 0 && fieldOf(words[1].text) == deviceField && words[0].kind == plainWord && !words[0].label:
		r.start(words[2].text, "", 0)
		return words[3:]
	case device == 1 && words[0].label && fieldOf(words[0].text) == deviceField:
		return words
	case device == 1 && (fieldOf(words[0].text) == deviceField || words[0].is("interface", "on", "dev")) && words[0].kind == plainWord:
		label := ""
		if role > 1 {
			label = words[role].text
		}
		r.start(words[1].text, label, 0)
		return words[2:]
	case value > 0 && words[value].kind == macWord:
		return r.beforeAddress(words, value, device, indent)
	}
	return words
}

// beside tells whether a role and a device stand together, with nothing but signs and
// joining words between.
func beside(words []word, role, device int) bool {
	from, to := min(role, device), max(role, device)
	for _, w := range words[from+1 : to] {
		if w.kind != arrow && !w.is("is", "on", "as", "for", "at", "the", "=", "by", "to") && fieldOf(w.text) != deviceField && !(w.bracket && isRole(w.text)) {
			return false
		}
	}
	return to-from <= 4
}

// beforeAddress finds what a hardware address belongs to: the device before it in a
// line with noise, or a name that stands alone with it.
func (r *reader) beforeAddress(words []word, value, device, indent int) []word {
	if device > 0 && device < value && fieldOf(words[device-1].text) == noField {
		r.start(words[device].text, "", 0)
		return words[value:]
	}
	if value == 1 && indent == 0 && fieldOf(words[0].text) == noField && !words[0].bracket && len(words) <= 3 {
		r.start(words[0].text, "", 0)
		return words[1:]
	}
	return words
}

// numberedHead begins an adapter that is told by its number; the names of keys that
// bear a number count from 0.
func (r *reader) numberedHead(line string, m []string, words []word) []word {
	n := tagOf(m[2])
	stem := strings.ToLower(strings.ReplaceAll(m[1], " ", ""))
	rest := line[len(m[0]):]
	config := strings.HasPrefix(rest, ".") || strings.HasPrefix(strings.TrimLeft(rest, " "), ":") && strings.Contains(rest, "=") ||
		strings.HasPrefix(strings.TrimLeft(rest, " "), "=")
	if config && stem != "adapter" && stem != "networkadapter" {
		if r.numbers == nil {
			r.numbers = map[string]int{}
		}
		if low, ok := r.numbers[stem]; !ok || n < low {
			r.numbers[stem] = n
		}
		r.start("", "#"+stem, n+1)
	} else {
		r.start("", "", max(n, 1))
	}
	r.used = true
	if !config && r.now != nil && !strings.HasPrefix(strings.TrimLeft(rest, " "), ":") { // columns: what it is on, then states
		for _, cell := range cells.FindAllString(rest, -1) {
			list := split(cell)
			if len(list) > 0 && list[0].kind == plainWord && !upWords.MatchString(cell) && !downWords.MatchString(cell) && r.now.Network == "" {
				r.now.Network = cell
			}
		}
	}
	return split(strings.TrimLeft(rest, " .:"))
}

// roleHead begins an interface that is told by its role, with its device where one
// stands beside it.
func (r *reader) roleHead(words []word, device, value int) []word {
	label := words[0].text
	rest := words[1:]
	if len(rest) > 0 && rest[0].bracket && isRole(rest[0].text) {
		rest = rest[1:]
	}
	if device > 0 && (value < 0 || device < value) {
		before := words[device-1]
		if before.kind == arrow || words[device].bracket || before.label || device == 1 || before.is("on", "is", "interface",
			"port", "device", "=") ||
			fieldOf(before.text) == deviceField {
			r.start(words[device].text, label, 0)
			r.used = true
			return r.tail(slices.DeleteFunc(slices.Clone(words), func(w word) bool {
				return w.text == words[device].text ||
					w.text == label && !w.label
			}))
		}
	}
	if value < 0 && !words[0].label && len(rest) == 0 && len(words) > 1 {
		return words
	}
	if value > 0 || words[0].label || len(rest) == 0 || tailLike(rest) || isRole(words[0].text) && len(rest) > 0 &&
		fieldOf(rest[0].text) != noField {
		r.start("", label, 0)
		r.used = r.used || value > 0
		return r.tail(rest)
	}
	return words
}

// tail takes the last digits of a hardware address that stand beside a device.
func (r *reader) tail(words []word) []word {
	if r.now == nil || r.now.Tail != "" {
		return words
	}
	if !tailLike(words) {
		for _, w := range words { // beside other words only what is no count and no time of day
			if d := tailDigits(w.text); w.kind == plainWord && len(d) >= 4 && strings.ContainsAny(w.text, ":-") && !clock.MatchString(w.text) {
				r.now.Tail, r.used = d, true
				break
			}
		}
		return words
	}
	for _, w := range words {
		if d := tailDigits(w.text); d != "" {
			r.now.Tail, r.used = d, true
			return nil
		}
	}
	return words
}

// tailLike tells words that are nothing but the end of a hardware address and words
// that say so.
func tailLike(words []word) bool {
	found := 0
	for _, w := range words {
		switch {
		case w.kind == arrow:
		case w.kind != plainWord:
			return false
		case tailDigits(w.text) != "":
			found++
		case !w.is("ends", "ending", "end", "in", "with", "mac", "tail", "is", "last", "address", "hw", "up", "down", "..", "..."):
			return false
		}
	}
	return found == 1
}

// tailDigits gives the digits of the end of a hardware address.
func tailDigits(text string) string {
	text = strings.ToLower(strings.Trim(text, ".…*~:-"))
	groups := strings.FieldsFunc(text, func(c rune) bool { return c == ':' || c == '-' || c == '.' })
	d := strings.Join(groups, "")
	if len(d)%2 != 0 || len(d) < 2 || len(d) > 10 || !isHex(d) {
		return ""
	}
	for _, g := range groups {
		if len(groups) > 1 && len(g) != 2 && len(g) != 4 {
			return ""
		}
	}
	if !strings.ContainsAny(d, "0123456789") && len(groups) == 1 { // a word
		return ""
	}
	return d
}

// isDeviceAlone tells a line of a device that bears a number, not of an adapter's
// number.
func isDeviceAlone(words []word) bool {
	w := words[0].text
	if !isDevice(w) || keyOfAdapter.MatchString(w) {
		return false
	}
	stem := strings.ToLower(strings.TrimRight(w, "0123456789"))
	switch stem {
	case "net", "ethernet", "nic", "vnic", "adapter":
		return !words[0].label && (len(words) < 2 || !strings.Contains(words[0].text, "."))
	}
	return true
}

// isRole tells words that name what an interface is for.
func isRole(text string) bool {
	t := strings.ToLower(strings.Trim(text, ":"))
	switch strings.TrimRight(t, "0123456789") {
	case "wan", "lan", "dmz", "opt", "mgmt", "management", "manage", "admin", "outside", "inside", "internal", "external":
		return true
	}
	return false
}

var (
	deviceForm = regexp.MustCompile(`^[A-Za-z][A-Za-z_-]*\d[\w./@-]*$`)
	keyInside  = regexp.MustCompile(`(?i)(addr|adress|gateway|mask|dns|server|method|route|origin|prefix|connected|present|network|adapter|driver|cable|router)`)
	noDevices  = regexp.MustCompile(`(?i)^(ipv?|v|inet|dhcpv?|dhcp|dns|route|ip|tcp|udp|icmp|http|https|ssh|sha|md|x|utf|rfc|ntp|nd|link#|step|version|line|port#|option|opt|wan|lan|dmz|` +
		`mgmt|answer|vlan|tag|mtu|qlen|metric|uptime|build|release|page|day|week|section|note|tab|fig|table|item|id|no|num|nr|win|bit|cpu|disk|mem|ram|slot|pci)\d[\d.]*$`)
)

// isDevice tells a word that has the form of an interface's name: letters, then
// digits, and not a key word with a number.
func isDevice(w string) bool {
	if w == "lo" || isRiding(w) {
		return true
	}
	if len(w) < 2 || len(w) > 32 || !deviceForm.MatchString(w) || noDevices.MatchString(w) || keyInside.MatchString(w) {
		return false
	}
	low := strings.ToLower(w)
	return (!isHex(w) || len(w) < 4) && !strings.HasPrefix(low, "lft") && !strings.HasSuffix(low, "ms") && tailDigits(w) == ""
}

// isRiding tells vlan48 and the like beside a parent's name.
func isRiding(w string) bool {
	_, err := strconv.Atoi(strings.TrimPrefix(strings.ToLower(w), "vlan"))
	return err == nil && strings.HasPrefix(strings.ToLower(w), "vlan")
}

func hasState(words []word) bool {
	for _, w := range words[1:] {
		if w.is("up", "down", "unknown", "lowerlayerdown", "dormant", "active", "connected", "disconnected", "unavailable", "no-carrier") ||
			strings.HasPrefix(w.text, "flags") || w.is("encap") || strings.HasPrefix(w.text, "mtu") {
			return true
		}
	}
	return false
}

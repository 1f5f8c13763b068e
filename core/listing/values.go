package listing

import (
	"regexp"
	"slices"
	"strings"
)

// values takes the words of a line after its head: key words and what they say.
func (r *reader) values(words []word) {
	if len(words) == 0 {
		return
	}
	r.linkState(words)
	f := noField
	var before []string // plain words since the last value
	for i := 0; i < len(words); i++ {
		w := words[i]
		if w.kind == plainWord || w.kind == arrow {
			if w.kind == arrow {
				before = nil
				continue
			}
			if r.ended(before, w) {
				before = nil
				continue
			}
			before = append(before, w.text)
			if !w.label {
				continue
			}
			f = keyOf(before)
			before = nil
			i = r.labelled(f, words, i)
			continue
		}
		if len(before) > 0 {
			r.modes(before)
			if found := keyOf(before); found != noField {
				f = found
			} else if f != resolver && f != gateway || len(before) > 1 {
				f = noField
			}
			before = nil
		}
		r.placed(f, w)
		if f != resolver {
			f = noField
		}
	}
	r.ending(before)
}

// ended takes the last digits of a hardware address behind a word for it.
func (r *reader) ended(before []string, w word) bool {
	if r.now == nil || r.now.Tail != "" || len(before) == 0 || fieldOf(before[len(before)-1]) != hardware && !strings.EqualFold(before[len(before)-1],
		"link/ether") {
		return false
	}
	d := tailDigits(w.text)
	if len(d) < 4 {
		return false
	}
	r.now.Tail, r.used = d, true
	return true
}

// placed takes a value where a line says what it is, or where its form does.
func (r *reader) placed(f field, w word) {
	if f == noField && w.kind == addressWord && r.now == nil {
		return // nobody says what it is
	}
	if r.last = f; f == noField || f == ignored {
		r.last = noField
	}
	r.apply(f, w)
}

// keyOf finds the field that the last of some words name; the longest name counts.
func keyOf(before []string) field {
	switch f := fieldOf(before[len(before)-1]); f { // words of another clause may stand before it
	case gateway, resolver, mask, leaseServer, hardware, vlan:
		return f
	}
	for n := min(len(before), 5); n > 0; n-- {
		if f := fieldOf(strings.Join(before[len(before)-n:], " ")); f != noField {
			return f
		}
	}
	return noField
}

// ending takes key words behind which nothing stands, or a word that says nothing.
func (r *reader) ending(before []string) {
	r.modes(before)
	for i, w := range before {
		rest := strings.Join(before[i+1:], " ")
		if f := fieldOf(w); (f == gateway || f == resolver) && rest != "" && nothing(rest) {
			r.none(f)
			r.used = true
		}
	}
}

// modes takes words that say how an interface comes by its address.
func (r *reader) modes(before []string) {
	if r.now == nil || r.now.Lease != LeaseUnsaid {
		return
	}
	for _, w := range before {
		switch low := strings.ToLower(w); {
		case low == "static" || low == "manual":
			r.now.Lease = NoLease
		case strings.HasPrefix(low, "dhcp"), low == "dynamic", strings.HasSuffix(low, "/dhcp4"):
			r.now.Lease = IsLease
		}
	}
}

// labelled takes the value of a label, and gives the place of its last word.
func (r *reader) labelled(f field, words []word, at int) int {
	end := at + 1
	for end < len(words) && !words[end].label && (end == at+1 || !words[end-1].comma) {
		end++
	}
	if f == network && !slices.ContainsFunc(words[end:], func(w word) bool { return w.label }) { // its kind, then its name
		end = len(words)
	}
	value := words[at+1 : end]
	if end < len(words) && words[end].label && len(value) > 0 { // the next label may be of several words
		for k := len(value) - 1; k > 0; k-- {
			if value[k].kind != plainWord {
				break
			}
			if keyOf([]string{value[k].text, words[end].text}) != noField && value[k-1].kind != plainWord {
				value, end = value[:k], at+1+k
			}
		}
	}
	var texts []string
	plain := true
	for _, w := range value {
		texts = append(texts, w.text)
		plain = plain && w.kind == plainWord
	}
	text := strings.Join(texts, " ")
	if f == link && strings.Contains(strings.ToLower(words[at].text), "down") { // link_down=1
		if plain, text = true, "up"; saysYes(strings.Join(texts, " ")) {
			text = "down"
		}
	}
	if r.last = f; len(value) == 0 || plain {
		if r.value(f, text); len(value) > 0 {
			return end - 1
		}
		return at
	}
	if f == ignored || f == destination {
		r.used = true
		return end - 1
	}
	for i, w := range value {
		if w.kind == plainWord {
			r.modes([]string{w.text})
			if found := fieldOf(w.text); found != noField && i > 0 {
				f = found
			}
			continue
		}
		r.apply(f, w)
		if f != resolver && f != gateway {
			f = noField
		}
	}
	return end - 1
}

// value takes a label's value that is no address.
func (r *reader) value(f field, text string) {
	switch f {
	case deviceField:
		if isDevice(text) || text != "" && len(text) < 40 && !nothing(text) && !isCount(text) {
			if r.now != nil && r.now.Device == "" && (r.now.Line == r.n || r.now.Label == "" && r.now.Number == 0) {
				r.now.Device = text
			} else {
				r.start(strings.Trim(text, `"'`), "", 0)
			}
			r.used = true
		}
		return
	case machine:
		if text != "" && !nothing(text) {
			r.named(first(text))
			r.used = true
		}
		return
	case nameField:
		if isDevice(text) {
			r.start(text, "", 0)
		}
		return
	case gateway, resolver:
		if nothing(text) {
			r.none(f)
		}
		return
	}
	if r.now == nil {
		return
	}
	switch f {
	case leased:
		if saysYes(text) {
			r.now.Lease = IsLease
		} else if saysNo(text) {
			r.now.Lease = NoLease
		}
	case link:
		r.setLink(text)
	case network:
		if text = strings.Trim(text, `"' `); text != "" && !nothing(text) {
			r.now.Network = lastName(text)
		}
	case vlan:
		if n := tagOf(first(text)); n > 0 {
			r.now.Tag = n
		}
	case roleField:
		if r.now.Label == "" {
			r.now.Label = text
		}
	case mask:
		if n := tagOf(strings.TrimPrefix(text, "/")); n > 0 && n <= 32 {
			r.mask(word{kind: plainWord, bits: n})
		}
	}
}

var attachment = regexp.MustCompile(`(?i)^(?:(?:bridged?|internal|isolated|private|virtual|host[- ]?only|nat|standard|distributed|lan)[ ,]+)*(?:(?:adapter|interface|network|net|switch|segment|port group)[ ,]+)?`)

// lastName takes the kind of an attachment off the name of what it leads to.
func lastName(text string) string {
	if name := strings.TrimSpace(attachment.ReplaceAllString(text+" ", "")); name != "" {
		return name
	}
	return text
}

var (
	downWords = regexp.MustCompile(`(?i)\bno[- ]carrier\b|\bstate down\b|\(down\)|\bdown\b|disconnected|getrennt|d[eé]connect[eé]|desconectad|desligad|no link|not connected|unplugged|disabled|link_down 1|lowerlayerdown|no network|scollegat|verbroken`)
	upWords   = regexp.MustCompile(`(?i)lower_up|\bactive\b|\(up\)|\bup\b|\brunning\b|\bconnected\b|\bverbunden\b`)
)

// linkState takes what a line says of a link.
func (r *reader) linkState(words []word) {
	if r.now == nil {
		return
	}
	var texts []string
	for _, w := range words {
		if w.kind == plainWord {
			t := w.text
			if w.bracket {
				t = "(" + t + ")"
			}
			texts = append(texts, t)
		}
	}
	line := strings.Join(texts, " ")
	state := slices.ContainsFunc(words, func(w word) bool {
		return w.is("state", "status", "link", "carrier", "flags") || fieldOf(w.text) == link
	})
	switch {
	case strings.Contains(strings.ToLower(line), "state down"), downWords.MatchString(line) && (state || len(texts) <= 6 || strings.Contains(line,
		"NO-CARRIER") || strings.Contains(line, "(down)")):
		r.now.Link = LinkDown
	case r.now.Link == LinkUnknown && upWords.MatchString(line):
		r.now.Link = LinkUp
	}
}

func (r *reader) setLink(text string) {
	switch {
	case downWords.MatchString(text) || saysNo(text):
		r.now.Link = LinkDown
	case upWords.MatchString(text) || saysYes(text):
		r.now.Link = LinkUp
	}
}

// way takes a line about a route.
func (r *reader) way(words []word) bool {
	at := 0
	for at < len(words) && at < 3 && words[at].kind == plainWord && !words[at].label && (len(words[at].text) <= 3 ||
		words[at].is("route", "route4", "static")) { // flags or a command before it
		at++
	}
	if at == len(words) {
		at = 0
	}
	w := words[at]
	everywhere := w.is("default") && !w.label && (at+1 == len(words) || !words[at+1].label && fieldOf("default "+words[at+1].text) != gateway ||
		words[at+1].is("via")) ||
		w.kind == prefixWord && w.address.IsUnspecified() || w.kind == addressWord && w.address.IsUnspecified()
	last := slices.IndexFunc(words, func(w word) bool { return w.is("resort") })
	if last > 0 && !everywhere {
		for _, x := range words[last:] {
			if x.kind == addressWord {
				r.wayBy(x, "")
				return true
			}
		}
		if strings.Contains(strings.ToLower(joined(words[last:])), "not set") {
			r.out.RoutesHere, r.used = true, true
			return true
		}
	}
	if everywhere {
		device := ""
		for i, x := range words[at+1:] {
			if x.is("dev") && at+i+2 < len(words) {
				device = words[at+i+2].text
			}
		}
		if device == "" {
			device = lastDevice(words[at:])
		}
		r.out.RoutesHere, r.used = true, true
		for _, x := range words[at+1:] {
			if x.kind == addressWord && !x.address.IsUnspecified() {
				r.wayBy(x, device)
				break
			}
		}
		return true
	}
	if w.kind != prefixWord && w.kind != addressWord {
		return false
	}
	several := 0
	for _, x := range words[at:] {
		if x.kind == addressWord || x.kind == maskWord || x.kind == prefixWord {
			several++
		}
		if x.is("via", "dev", "directly", "scope", "proto", "UG", "UGS", "U", "UH", "UHS", "on-link") || strings.HasPrefix(x.text, "link#") {
			r.out.RoutesHere, r.used = true, true
			return true
		}
	}
	r.used = r.used || several > 2
	return several > 2
}

func joined(words []word) string {
	var out []string
	for _, w := range words {
		out = append(out, w.text)
	}
	return strings.Join(out, " ")
}

func (r *reader) wayBy(w word, device string) {
	was := r.now
	if r.now = nil; device != "" {
		r.start(device, "", 0)
	}
	r.apply(gateway, w)
	r.now = was
}

// around takes a line about a neighbor: an address and the hardware address that
// answers for it.
func (r *reader) around(words []word) bool {
	ip := slices.IndexFunc(words, func(w word) bool { return w.kind == addressWord })
	hw := slices.IndexFunc(words, func(w word) bool { return w.kind == macWord })
	if words[0].kind == otherAddress && hw > 0 {
		r.used = true
		return true
	}
	if r.pending.Address.IsValid() && hw >= 0 && ip < 0 && words[0].is("hardware") {
		r.pending.Tail, r.used = words[hw].digits, true
		r.neighbor(r.pending)
		r.pending = Neighbor{}
		return true
	}
	if ip >= 0 && hw < 0 && slices.ContainsFunc(words, func(w word) bool { return w.is("incomplete", "failed", "no-entry") }) {
		r.used = true
		return true
	}
	if words[0].is("lease") && ip == 1 {
		r.pending, r.used = Neighbor{Address: words[1].address, Line: r.n}, true
		return true
	}
	said := slices.ContainsFunc(words, func(w word) bool {
		return w.is("at", "lladdr", "dynamic", "dynamisch", "dynamique", "static", "statisch", "statique", "reachable",
			"stale", "delay", "permanent") ||
			strings.HasPrefix(foldLabel(w.text), "dinamic") || strings.HasPrefix(foldLabel(w.text), "estatic")
	})
	epoch := hw == 1 && ip == 2 && isCount(words[0].text)
	if ip < 0 || hw < 0 || !(ip <= 1 && ip < hw && said || ip == 0 && hw <= 2 && words[hw-1].is("ether") || epoch) {
		return false
	}
	if ip == 1 && isDevice(words[0].text) {
		return false
	}
	r.used = true
	r.neighbor(Neighbor{words[ip].address, words[hw].digits, r.n})
	return true
}

var (
	granted = regexp.MustCompile(`(?i)\bdhcpack\b|\bbound to\b|\bleased\b|\bacquired\b|\bobtained\b|\bnew lease\b|\blease of\b|\bgot lease\b`)
	talk    = regexp.MustCompile(`(?i)\bdhcp(discover|request|offer|nak|inform|release|decline)\b|\bbroadcasting\b|\bsending (discover|select|request)\b|\brequesting\b|\bsoliciting\b`)
)

// leaseTalk takes a line of a lease client's or server's log.
func (r *reader) leaseTalk(line string, words []word) bool {
	device := ""
	for i, w := range words {
		if w.is("on", "via") && i+1 < len(words) && isDevice(words[i+1].text) {
			device = words[i+1].text
		}
		if w.label && isDevice(w.text) && i < 7 {
			device = w.text
		}
	}
	if talk.MatchString(line) {
		if r.used = true; device != "" {
			r.start(device, "", 0)
		}
		return true
	}
	if !granted.MatchString(line) || !slices.ContainsFunc(words, func(w word) bool { return w.kind == addressWord || w.kind == prefixWord }) {
		return false
	}
	if hw := slices.IndexFunc(words, func(w word) bool { return w.kind == macWord }); hw > 0 { // a server's: whom it gave what
		for _, w := range words[:hw] {
			if w.kind == addressWord {
				r.neighbor(Neighbor{w.address, words[hw].digits, r.n})
				r.used = true
				return true
			}
		}
	}
	if device != "" {
		r.start(device, "", 0)
	} else if r.now == nil {
		r.start("", "", 0)
	}
	before := ""
	for _, w := range words {
		switch {
		case w.kind == plainWord:
			before = strings.ToLower(w.text)
			continue
		case w.kind != addressWord && w.kind != prefixWord:
			continue
		}
		switch before {
		case "from", "server", "by":
			r.apply(leaseServer, w)
		case "gateway", "router", "via":
			r.apply(gateway, w)
		default:
			r.apply(leased, w)
		}
	}
	return true
}

// answered takes questions of a console and what somebody typed there.
func (r *reader) answered(line string) bool {
	text := strings.TrimSpace(line)
	if r.asked != nil {
		value, prompted := strings.CutPrefix(text, ">")
		if value = strings.TrimSpace(value); prompted || len(strings.Fields(value)) == 1 && value != "" && !strings.HasSuffix(value, ":") {
			if value != "" && len(r.out.Answers) < maxKept {
				r.asked.Text, r.asked.Line = value, r.n
				r.out.Answers = append(r.out.Answers, *r.asked)
			}
			r.asked = nil
			return true
		}
		r.asked = nil
	}
	at := strings.LastIndexAny(text, ":?>")
	if at < 0 || !question.MatchString(text[:at]) || len(strings.Fields(text[at+1:])) > 1 || strings.HasPrefix(text, "http") {
		return false
	}
	if i := strings.Index(text, ": "); i > 0 && i < at && question.MatchString(text[:i]) {
		at = i
	}
	a := Answer{Question: strings.TrimSpace(text[:at]), Text: strings.TrimSpace(text[at+1:]), Line: r.n}
	if a.Text == "" {
		r.asked = &a
		return true
	}
	if len(r.out.Answers) < maxKept {
		r.out.Answers = append(r.out.Answers, a)
	}
	return true
}

package listing

import (
	"fmt"
	"slices"
	"strings"
	"sync"
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
			} else if f != resolver && f != gateway && f != pool || len(before) > 1 {
				f = noField
			}
			before = nil
		}
		if f == noField && w.kind == addressWord && i+1 < len(words) && words[i+1].kind == maskWord {
			f = ownAddress
		}
		if f == noField && r.stranger(words[:i], w) {
			r.unplaced = true
			continue
		}
		r.placed(f, w)
		if f != resolver && f != pool {
			f = noField
		}
	}
	r.ending(before)
}

// stranger reports whether an address is of something that no field is for, such as a log host: a word
// that says nothing of an interface stands before it, on a line that does not begin one, and the
// interface at hand has its address already.
func (r *reader) stranger(before []word, w word) bool {
	if r.now == nil || r.now.Line == r.n || len(r.now.Addresses) == 0 || len(before) == 0 ||
		w.kind != addressWord && w.kind != prefixWord {
		return false
	}
	if r.now.Addresses[len(r.now.Addresses)-1].Line == r.n {
		return false
	}
	last := before[len(before)-1]
	return last.kind == plainWord && !last.label && len(last.text) > 2 && fieldOf(last.text) == noField && !isDevice(last.text) &&
		!isRole(last.text) && !last.is("secondary", "alias", "also", "and", "virtual", "primary", "additional", "has", "is", "static")
}

// ended takes the last digits of a hardware address behind a word for it.
func (r *reader) ended(before []string, w word) bool {
	if r.now == nil || r.now.Tail != "" || len(before) == 0 ||
		fieldOf(before[len(before)-1]) != hardware && !strings.EqualFold(before[len(before)-1],
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
		r.unplaced = r.unplaced || !w.address.IsLoopback() // nobody says what it is
		return
	}
	if i := r.now; f == noField && i != nil && i.Device+i.Label+i.Tail == "" && i.Number == 0 && len(i.Addresses) > 0 &&
		i.Addresses[len(i.Addresses)-1].Line != r.n {
		r.now = nil // nobody says that it is the same
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
	if f == network &&
		!slices.ContainsFunc(words[end:], func(w word) bool { return w.label }) { // its kind, then its name
		end = len(words)
	}
	for f == trunk && end < len(words) && isCount(words[end].text) {
		end++
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
	if plain && strings.ContainsAny(text, "0123456789") && r.unreadable(f, text) {
		return end - 1
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
		if f != resolver && f != gateway && f != pool {
			f = noField
		}
	}
	return end - 1
}

// unreadable takes what should be an address and cannot be read as one.
func (r *reader) unreadable(f field, text string) bool {
	switch f {
	case ownAddress, gateway, resolver, leaseServer, mask, hardware:
	default:
		return false
	}
	if isCount(text) || strings.Count(text, ".") < 2 && strings.Count(text, ":") < 3 ||
		strings.ContainsAny(text, "ghijkmnpqrtuvwxyz") {
		return false
	}
	w := word{text: strings.ReplaceAll(text, " ", "")}
	if w.classify(); w.kind == plainWord {
		w.slip = text + "; that is not an address: check it"
	} else if w.slip == "" {
		w.slip = fmt.Sprintf("%s; is that %s?", text, w.text)
	}
	r.last = f
	r.apply(f, w)
	return true
}

// value takes a label's value that is no address.
func (r *reader) value(f field, text string) {
	switch f {
	case deviceField:
		text = strings.Trim(text, `"'`)
		i := r.now
		switch {
		case isRole(text):
			r.start("", text, 0)
		case !isDevice(text) && (text == "" || len(text) >= 40 || nothing(text) || isCount(text)):
			return
		case i != nil && i.Device == "" && (i.Line == r.n || i.Label+i.Tail == "" && i.Number == 0 || len(i.Addresses) == 0 && i.Tail == ""):
			i.Device = text
		default:
			r.start(text, "", 0)
		}
		r.used = true
		return
	case machine:
		if text != "" && !nothing(text) {
			r.named(first(text))
			r.used = true
		}
		return
	case nameField:
		if m := first(strings.Trim(text, `"' `)); slices.Contains(r.machines, m) {
			r.named(m)
			r.now, r.used = nil, true
			return
		}
		if i := r.now; i != nil && i.Number > 0 && i.Network == "" && i.Attached.named() && text != "" && !nothing(text) {
			i.Network, r.used = strings.Trim(text, `"' `), true // of what it is attached to
			return
		}
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
			kind := attachmentOf(text)
			if kind != UnsaidAttachment {
				r.now.Attached = kind
			}
			if name := lastName(text); kind == UnsaidAttachment || !sameKind(name, text) {
				r.now.Network = name
			}
		}
	case attachedAs:
		if kind := attachmentOf(text); kind != UnsaidAttachment {
			r.now.Attached = kind
		}
	case trunk:
		for _, w := range strings.FieldsFunc(text, func(c rune) bool { return c == ';' || c == ',' || c == ' ' }) {
			if n := tagOf(w); n > 0 && len(r.now.Trunk) < maxKept {
				r.now.Trunk = append(r.now.Trunk, n)
			}
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

// Attachment is how an adapter is attached, as a hypervisor says it.
type Attachment string

// The attachments.
const (
	UnsaidAttachment Attachment = ""
	ByNAT            Attachment = "NAT"
	Bridged          Attachment = "bridged"
	Internal         Attachment = "isolated network"
	HostOnly         Attachment = "host-only network"
	Detached         Attachment = "not attached"
)

// named reports whether what an adapter is attached to so has a name.
func (a Attachment) named() bool { return a == Bridged || a == Internal || a == HostOnly }

// attachments are the words for each, in the languages that hypervisors speak.
var attachments = sync.OnceValue(func() []struct {
	words pattern
	is    Attachment
} {
	return []struct {
		words pattern
		is    Attachment
	}{
		{form(`(?i)not attached|nicht angeschlossen|non attach|no conectado|^(?:none|null)$|^aucun`), Detached},
		{form(`(?i)host[- _]?only|nur[- ]host|hôte uniquement|privé avec l|solo[- ]anfitri|solo host`), HostOnly},
		{form(`(?i)\bnat\b|^natnetwork|translat|^user(?: mode)?$|^-$`), ByNAT},
		{form(`(?i)\bbridged?\b|brücke|accès par pont|puente|adapter ponte|^direct$|macvtap|verbrugde|mostkow`), Bridged},
		{form(`(?i)\binternal|^intnet|\bintern\b|internes? netz|réseau interne|red interna|rete interna|\bisolated\b|\bprivate\b`), Internal},
	}
})

// attachmentOf returns the attachment that a text names.
func attachmentOf(text string) Attachment {
	for _, a := range attachments() {
		if a.words.MatchString(strings.TrimSpace(text)) {
			return a.is
		}
	}
	return UnsaidAttachment
}

// sameKind reports whether what is left of an attachment is no name: only its kind was said.
func sameKind(name, text string) bool {
	return name == text && !strings.ContainsAny(text, "\"'") && len(strings.Fields(text)) < 4
}

var attachment = form(
	`(?i)^(?:(?:bridged?|internal|isolated|private|virtual|host[- ]?only|nat|standard|distributed)[ ,]+)*` +
		`(?:(?:adapter|interface|network|net|switch|lan segment|segment|port group)[ ,]+)?`,
)

// lastName takes the kind of an attachment off the name of what it leads to.
func lastName(text string) string {
	if name := strings.Trim(strings.TrimSpace(attachment.ReplaceAllString(text+" ", "")), `"'`); name != "" {
		return name
	}
	return text
}

var (
	downWords = form(
		`(?i)\bno\W{1,3}carrier\b|\bstate down\b|\(down\)|\bdown\b|disconnected|getrennt|d[eé]connect[eé]|desconectad|desligad|\bno\W{1,3}link\b|not connected|unplugged|disabled|link_down 1|lowerlayerdown|no network|unavailable|scollegat|verbroken`,
	)
	upWords = form(`(?i)lower_up|\bactive\b|\(up\)|\bup\b|\brunning\b|\bconnected\b|\bverbunden\b`)
)

// switchedOff reports whether a line shows an interface that its system has switched off: flags without UP, or by words.
func switchedOff(line string) bool {
	flags := strings.FieldsFunc(line, func(r rune) bool { return strings.ContainsRune(" ,<>()", r) })
	return slices.Contains(flags, "BROADCAST") && !slices.Contains(flags, "UP") ||
		strings.Contains(strings.ToLower(line), "administratively down")
}

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
	case strings.Contains(strings.ToLower(line), "state down"),
		downWords.MatchString(line) && (state || len(texts) <= 6 || strings.Contains(line,
			"NO-CARRIER") || strings.Contains(line, "(down)")):
		r.now.Link = LinkDown
		r.now.Disabled = switchedOff(line)
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

package listing

import (
	"slices"
	"strings"
)

// head finds the interface that a line begins, and gives the words that are left.
func (r *reader) head(line string, words []word, indent int) []word {
	if m := ordinal.FindStringSubmatch(line); m != nil {
		r.start("", "", ordinals()[strings.ToLower(m[1])])
		r.used = true
		rest := split(line[len(m[0]):])
		if len(rest) > 1 && rest[0].kind == plainWord && rest[0].comma && !rest[0].label && r.now != nil {
			r.now.Network = rest[0].text
		}
		return rest
	}
	if m := adapterName.FindStringSubmatch(strings.TrimSpace(line)); m != nil {
		return r.numberedHead(strings.TrimSpace(line), m)
	}
	for _, head := range desktop {
		if m := head.FindStringSubmatch(line); m != nil && indent == 0 {
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
		return r.numberedHead(line, m)
	}
	if words[0].is("link") && len(words) > 2 && words[2].bracket && isCount(words[1].text) { // Link 2 (eth0)
		r.start(words[2].text, "", 0)
		return words[3:]
	}
	return r.headByWords(words, indent)
}

// headByWords finds the interface by where its role, its device and its first value
// stand among a line's words.
func (r *reader) headByWords(words []word, indent int) []word {
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
	case device == 0 && (indent == 0 || value > 0 || words[0].label || hasState(words) && (r.now == nil || r.headIndent == indent)):
		label := ""
		if role > 0 && (value < 0 || role < value || words[role].bracket) && role <= 3 {
			label = words[role].text
		}
		if value < 0 && !words[0].label && !hasState(words) && role < 0 && len(words) > 1 && !tailLike(words[1:]) &&
			!isNothing(words[1].text) &&
			fieldOf(words[1].text) == noField {
			return words
		}
		r.start(words[0].text, label, 0)
		r.used, r.headIndent = true, indent
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
	case value == 0 && words[0].kind == macWord && role > 0 && device < 0:
		r.start("", words[role].text, 0)
		return slices.Delete(slices.Clone(words), role, role+1)
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

// beside reports whether a role and a device stand together, with nothing but signs and
// joining words between.
func beside(words []word, role, device int) bool {
	from, to := min(role, device), max(role, device)
	for _, w := range words[from+1 : to] {
		if w.kind != arrow && !w.is("is", "on", "as", "for", "at", "the", "=", "by", "to") &&
			fieldOf(w.text) != deviceField &&
			!(w.bracket && isRole(w.text)) {
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
func (r *reader) numberedHead(line string, m []string) []word {
	n := tagOf(m[2])
	stem := strings.ToLower(strings.ReplaceAll(m[1], " ", ""))
	rest := line[len(m[0]):]
	config := strings.HasPrefix(rest, ".") ||
		strings.HasPrefix(strings.TrimLeft(rest, " "), ":") && strings.Contains(rest, "=") ||
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
	if !config && r.now != nil &&
		!strings.HasPrefix(strings.TrimLeft(rest, " "), ":") { // columns: what it is on, then states
		for _, cell := range cells.FindAllString(rest, -1) {
			list := split(cell)
			if len(list) > 0 && list[0].kind == plainWord && !upWords.MatchString(cell) &&
				!downWords.MatchString(cell) &&
				r.now.Network == "" {
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
		if before.kind == arrow || words[device].bracket || before.label || device == 1 ||
			before.is("on", "is", "interface",
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
			if d := tailDigits(w.text); w.kind == plainWord && len(d) >= 4 && strings.ContainsAny(w.text, ":-") &&
				!clock.MatchString(w.text) {
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

// tailDigits returns the digits of the end of a hardware address.
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

package listing

import (
	"slices"
	"strings"
)

// flags is what routing tables write before a way.
var flags = form(`^(?:[A-Z][A-Za-z]?\d?[*>]*|[*>+]+)$`)

// way takes a line about a route.
func (r *reader) way(words []word) bool {
	at := 0
	for at < len(words) && at < 3 && words[at].kind == plainWord && !words[at].label && (flags.MatchString(words[at].text) &&
		fieldOf(words[at].text) == noField ||
		words[at].is("route", "route4", "static") || words[at].is("ip") && at+1 < len(words) && words[at+1].is("route")) {
		at++
	}
	if at == len(words) {
		at = 0
	}
	w := words[at]
	everywhere := w.is("default") && !w.label && (at+1 == len(words) || !words[at+1].label && fieldOf("default "+words[at+1].text) != gateway ||
		words[at+1].is("via")) ||
		w.kind == prefixWord && w.address.IsUnspecified() ||
		w.kind == addressWord && w.address.IsUnspecified()
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
	if w.kind != prefixWord && w.kind != addressWord || slices.ContainsFunc(words, func(x word) bool {
		return x.is("lladdr",
			"failed", "incomplete")
	}) {
		return false
	}
	r.fromRoute(words[at:])
	several := 0
	for _, x := range words[at:] {
		if x.kind == addressWord || x.kind == maskWord || x.kind == prefixWord {
			several++
		}
		if x.is("via", "dev", "directly", "scope", "proto", "UG", "UGS", "U", "UH", "UHS", "on-link") ||
			strings.HasPrefix(x.text, "link#") {
			r.out.RoutesHere, r.used = true, true
			return true
		}
	}
	r.used = r.used || several > 2
	return several > 2
}

// fromRoute takes what a way says of the interface that it goes out by: its address,
// with the mask of its network, and who is the next hop to somebody far.
func (r *reader) fromRoute(words []word) {
	device, source, via := "", word{}, word{}
	for i, w := range words[:len(words)-1] {
		switch {
		case w.is("dev"):
			device = words[i+1].text
		case w.is("src") && words[i+1].kind == addressWord:
			source = words[i+1]
		case w.is("via") && words[i+1].kind == addressWord:
			via = words[i+1]
		}
	}
	if device == "" || !source.address.IsValid() {
		return
	}
	was := r.now
	r.start(device, "", 0)
	if to := words[0]; to.kind == prefixWord && !via.address.IsValid() {
		source.kind, source.bits = prefixWord, to.bits
	} else if to.kind == addressWord && via.address.IsValid() {
		r.apply(gateway, via)
	}
	r.own(source)
	r.now = was
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
	if ip >= 0 && hw < 0 &&
		slices.ContainsFunc(words, func(w word) bool { return w.is("incomplete", "failed", "no-entry") }) {
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

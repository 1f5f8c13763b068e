package listing

import (
	"slices"
	"strings"
)

var (
	granted = form(
		`(?i)\bdhcpack\b|\bbound to\b|\bleased\b|\bacquired\b|\bobtained\b|\bnew lease\b|\blease of\b|\bgot lease\b`,
	)
	unanswered = form(
		`(?i)\bno (?:lease|dhcpoffers?|offers?|working leases|dhcp servers?)\b|\blease failed\b|\bfailed to (?:get|obtain) .*lease\b|` +
			`\bunable to contact (?:your|the) dhcp server|impossible de contacter (?:votre|le) serveur dhcp|dhcp-server (?:konnte nicht|ist nicht)|` +
			`(?:keine verbindung|kein kontakt) .*dhcp-?server|contact(?:o|ar)? con el servidor dhcp|contattare il server dhcp|` +
			`contat[ao]r? o (?:seu )?servidor dhcp|verbinding maken met (?:uw|de) dhcp-server|skontaktowa. si. z serwerem dhcp|` +
			`renew(?:ing)? .*(?:timed out|no response)`,
	)
	talk = form(
		`(?i)\bdhcp(discover|request|offer|nak|inform|release|decline)\b|\boffered\b|\bbroadcasting\b|\bsending (discover|select|request)\b|\brequesting\b|\bsoliciting\b`,
	)
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
	if unanswered.MatchString(line) {
		r.about(device)
		if r.used = true; r.now != nil {
			r.now.Unanswered = true
		}
		return true
	}
	if talk.MatchString(line) {
		if r.used = true; device != "" {
			r.start(device, "", 0)
		}
		return true
	}
	if !granted.MatchString(line) ||
		!slices.ContainsFunc(words, func(w word) bool { return w.kind == addressWord || w.kind == prefixWord }) {
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
	r.about(device)
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

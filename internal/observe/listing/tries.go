package listing

import (
	"net/netip"
	"regexp"
	"strconv"
	"strings"
	"sync"

	"openbastion/internal/model/subnet"
	"openbastion/internal/netsim/outcome"
)

// What was tried.
const (
	Ping = "ping"
	Name = "name" // a name was looked up
	Page = "page"
)

// Try is something that was tried on a machine, and what came of it.
type Try struct {
	What    string
	To      string // an address, or a name
	Large   bool   // a ping that fills a packet
	Code    outcome.Code
	By      netip.Addr // who reported it: a router, or the machine itself
	Line    int        // where it begins
	told    bool
	refused bool // an error message came back, whatever a summary counts
}

// Address returns the address that was tried; false for a name.
func (t Try) Address() (netip.Addr, bool) {
	a, err := netip.ParseAddr(t.To)
	return a, err == nil
}

// readTries reads what came of pings, lookups and pages: each with its command or its heading, or as the
// message of a browser.
func readTries(lines []string) []Try {
	var out []Try
	var t Try
	end := func() {
		if t.What != "" && t.told && len(out) < maxKept {
			out = append(out, t)
		}
	}
	for n, line := range lines {
		if len(line) > maxLine {
			continue
		}
		if next := t; next.begins(line) {
			end()
			t, t.Line = next, n+1
		}
		t.reads(line)
	}
	end()
	return out
}

// triedLines returns which lines are the output of a try, and say nothing of the machine itself: from its
// command to the next prompt or, where nothing is a prompt, what only such tools print.
func triedLines(lines []string) map[int]bool {
	out := map[int]bool{}
	prompts := 0
	for _, line := range lines {
		if isPrompt(line) {
			prompts++
		}
	}
	inside := false
	var t Try
	for n, line := range lines {
		if len(line) > maxLine {
			continue
		}
		began := t.begins(line)
		switch {
		case isPrompt(line):
			inside = began
		case prompts > 0 && inside, prompts == 0 && tools().printed.MatchString(line):
			out[n] = true
		}
	}
	return out
}

// isPrompt reports whether a line begins with a shell's prompt and holds a command.
func isPrompt(line string) bool {
	return strings.ContainsAny(line, "$#%>") && (prompt.MatchString(line) || shell.MatchString(line))
}

// toolPatterns are what tools print: their commands with what these go to, and what came.
type toolPatterns struct {
	duplicate, printed, ping, name, page, received, lost, url, reply, host, renamed *regexp.Regexp
	hop                                                                             hopPatterns
}

var tools = sync.OnceValue(func() toolPatterns {
	return toolPatterns{
		hop:       newHopPatterns(),
		duplicate: regexp.MustCompile(`(?i)\((?:duplicate|doppelt|duplikat|en double|duplicad[oa]|duplicato|dubbel|zduplikowany)\)|\bdadfailed\b`),
		printed: regexp.MustCompile(`(?i)^PING |bytes from |icmp_seq=|packets transmitted|ping statistics|` +
			`^rtt |^round-trip|\bttl=\d|^;;|^; <<>>|^\s*\d+[.:|]?.*\d ?ms\b`),
		ping: regexp.MustCompile(`(?i)(?:^|[\s$#>])ping6?\s+(.*)$`),
		name: regexp.MustCompile(`(?i)(?:^\s*|[$#>%]\s*|\bsudo\s+)(?:dig|host|nslookup|getent\s+(?:a?hosts\w*)|resolvectl\s+query)\s+(.*)$`),
		page: regexp.MustCompile(`(?i)(?:^|[\s$#>])(?:curl|wget|fetch)\s+(.*)$`),
		received: regexp.MustCompile(`(?i)(\d+)\s+(?:packets\s+)?received|` +
			`(?:received|re[cç]us?|ontvangen|empfangen|ontvangen|odebrane|recibidos|ricevuti|recebidos|mottagna)\s*=\s*(\d+)`),
		lost:  regexp.MustCompile(`\b100(?:[.,]0)?\s?%`),
		url:   regexp.MustCompile(`(?:https?://)?\[?([0-9A-Za-z.-]+)\]?(?::\d+)?(?:/\S*)?$`),
		reply: regexp.MustCompile(`(?i)\bttl=\d|bytes from `),
		// What the kernel says when it gives an interface its name, with the hardware address behind.
		renamed: regexp.MustCompile(`(\S+): renamed from \S+?,? +((?:[0-9a-fA-F]{2}:){5}[0-9a-fA-F]{2})`),
		host:    regexp.MustCompile(`\b((?:[0-9]{1,3}\.){3}[0-9]{1,3}|[a-z0-9-]+(?:\.[a-z0-9-]+)+)\b`),
	}
})

// begins reports whether a line begins a new try, and takes what it says of it.
func (t *Try) begins(line string) bool {
	if t.What != "" && !t.told && strings.HasPrefix(line, "PING ") {
		return false // the heading of the ping whose command stands above
	}
	if !mayBegin(line) {
		return false
	}
	p, line := tools(), strings.TrimRight(line, "\r\n")
	if t.traces(line) {
		return true
	}
	if m := p.ping.FindStringSubmatch(line); m != nil && !strings.Contains(line, "statistics") && !strings.HasPrefix(line, "---") &&
		target(m[1]) != "" {
		*t = Try{What: Ping, To: target(m[1]), Large: largePing(m[1])}
		return true
	}
	if m := p.name.FindStringSubmatch(line); m != nil && !strings.Contains(line, "DiG") && target(m[1]) != "" {
		*t = Try{What: Name, To: target(m[1])}
		return true
	}
	if m := p.page.FindStringSubmatch(line); m != nil {
		to := ""
		for _, w := range strings.Fields(m[1]) {
			if u := p.url.FindStringSubmatch(w); u != nil && !strings.HasPrefix(w, "-") && strings.ContainsAny(w, "./") {
				to = u[1]
			}
		}
		if to != "" {
			*t = Try{What: Page, To: to}
			return true
		}
	}
	return t.browser(line)
}

// mayBegin reports whether a line can begin a try: listings have many lines, and few of these.
func mayBegin(line string) bool {
	for _, w := range starters {
		if containsFold(line, w) {
			return true
		}
	}
	return mayTrace(line)
}

// starters are in each command and in each message of a browser.
var starters = []string{"ping", "dig", "host", "nslookup", "getent", "resolvectl", "curl", "wget", "fetch",
	"err_", "dns_probe", "could not be found",
	"trouble finding", "connect", "respond", "timed out"}

// containsFold reports whether a text holds a word of small letters, in any case.
func containsFold(text, word string) bool {
	for i := 0; i+len(word) <= len(text); i++ {
		if c := text[i] | 0x20; c == word[0] && strings.EqualFold(text[i:i+len(word)], word) {
			return true
		}
	}
	return false
}

// largePing reports whether a ping fills a packet of 1,500 bytes, or nearly.
func largePing(words string) bool {
	for _, w := range strings.Fields(words) {
		if n, err := strconv.Atoi(strings.TrimLeft(w, "-slD")); err == nil && n >= 1380 && n <= 1500 {
			return true
		}
	}
	return false
}

// browser reads the message of a browser, which stands by itself.
func (t *Try) browser(line string) bool {
	low := strings.ToLower(line)
	for _, v := range browserWords {
		if !strings.Contains(low, v.words) {
			continue
		}
		if t.What == Page && t.told {
			return false // more of the same message
		}
		to := ""
		if m := tools().host.FindString(low); m != "" && !strings.HasPrefix(m, "err_") {
			to = m
		}
		*t = Try{What: Page, To: to, Code: v.code, told: true}
		return true
	}
	return false
}

// outcomeWords are what a line says of a try, in small letters; the first that fits.
type outcomeWords struct {
	what, words string // what is empty for all
	code        outcome.Code
}

var browserWords = []outcomeWords{
	{Page, "server ip address could not be found", outcome.Failed}, {Page, "err_name_not_resolved", outcome.Failed},
	{Page, "dns_probe_", outcome.Failed}, {Page, "having trouble finding that site", outcome.Failed},
	{Page, "can’t connect to the server at", outcome.NoAnswer}, {Page, "took too long to respond", outcome.NoAnswer},
	{Page, "err_connection_timed_out", outcome.NoAnswer}, {Page, "the connection has timed out", outcome.NoAnswer},
	{Page, "refused to connect", outcome.Refused}, {Page, "err_connection_refused", outcome.Refused},
	{Page, "err_address_unreachable", outcome.Unreachable}, {Page, "err_internet_disconnected", outcome.NoRoute},
}

var words = []outcomeWords{
	// A name that cannot be looked up, whatever was tried with it.
	{"", "temporary failure in name resolution", outcome.Failed}, {"", "fehler bei der namensauflösung", outcome.Failed},
	{"", "chec temporaire dans la résolution", outcome.Failed}, {"", "could not resolve", outcome.Failed},
	{"", "could not find host", outcome.Failed}, {"", "n’a pas pu trouver l’hôte", outcome.Failed},
	{"", "n'a pas pu trouver l'hôte", outcome.Failed}, {"", "konnte host", outcome.Failed}, {"", "kon host", outcome.Failed},
	{"", "nie można znaleźć hosta", outcome.Failed}, {"", "no pudo encontrar el host", outcome.Failed},
	{"", "resolve call failed", outcome.Failed}, {"", "unknown host", outcome.Failed}, {"", "bad address", outcome.Failed},
	{"", "name or service not known", outcome.Failed}, {"", "nicht auflösen", outcome.Failed}, {"", "unable to resolve", outcome.Failed},
	{"", "der dienst ist nicht bekannt", outcome.Failed}, {"", "nom ou service inconnu", outcome.Failed},
	{Name, "servfail", outcome.Failed}, {Name, "server failure", outcome.Failed}, {Name, "server failed", outcome.Failed},
	{Name, "nxdomain", outcome.Failed}, {Name, "non-existent domain", outcome.Failed},
	{Name, "no servers could be reached", outcome.NoAnswer}, {Name, "timed out", outcome.NoAnswer},
	{Name, "no response from server", outcome.NoAnswer}, {Name, "timeout", outcome.NoAnswer},
	{Name, "connection refused", outcome.Refused}, {Name, "refused", outcome.Refused},
	{Name, "network unreachable", outcome.NoRoute}, {Name, "network is unreachable", outcome.NoRoute},
	{Ping, "network is unreachable", outcome.NoRoute}, {Ping, "no route to host", outcome.NoRoute},
	{Ping, "transmit failed", outcome.NoRoute}, {Ping, "general failure", outcome.NoRoute},
	{Ping, "allgemeiner fehler", outcome.NoRoute}, {Ping, "défaillance générale", outcome.NoRoute},
	{Ping, "packet filtered", outcome.Refused}, {Ping, "communication administratively", outcome.Refused},
	{Ping, "communication prohibited", outcome.Refused}, {Ping, "destination net unreachable", outcome.Unreachable},
	{Ping, "message too long", outcome.NoAnswer}, {Ping, "frag needed", outcome.NoAnswer},
	{Ping, "needs to be fragmented", outcome.NoAnswer},
	{Page, "connection refused", outcome.Refused}, {Page, "verbindungsaufbau abgelehnt", outcome.Refused},
	{Page, "no route to host", outcome.Unreachable}, {Page, "network is unreachable", outcome.NoRoute},
	{Page, "timed out", outcome.NoAnswer}, {Page, "timeout", outcome.NoAnswer}, {Page, "zeitüberschreitung", outcome.NoAnswer},
	{Page, "connection reset", outcome.Refused}, {Page, "couldn't connect", outcome.NoAnswer},
}

// unreachableWords are how systems say that a next hop did not answer.
var unreachableWords = []string{
	"destination host unreachable", "zielhost nicht erreichbar", "hôte de destination injoignable", "impossible de joindre l",
	"doelhost is onbereikbaar", "host docelowy jest nieosiągalny", "host de destino inaccesible", "host di destinazione non raggiungibile",
}

// reads takes what a line says of the try.
func (t *Try) reads(line string) {
	if t.What == "" {
		return
	}
	if t.What == Hop {
		t.hop(line)
		return
	}
	low := strings.ToLower(line)
	p := tools()
	if t.What == Ping && p.reply.MatchString(line) {
		t.Code, t.told = outcome.OK, true
		return
	}
	for _, v := range words {
		if (v.what == "" || v.what == t.What) && strings.Contains(low, v.words) {
			if t.told && t.Code == outcome.OK {
				return // it answered once
			}
			t.Code, t.told, t.refused = v.code, true, true
			if v.what == "" {
				t.What = Name
			}
			return
		}
	}
	switch {
	case t.What == Ping && containsAny(low, unreachableWords):
		if !t.told {
			t.Code, t.told, t.refused = outcome.NoNeighbor, true, true
			if by, err := netip.ParseAddr(p.host.FindString(low)); err == nil {
				t.Code, t.By = outcome.Unreachable, by
			}
		}
	case t.What == Ping:
		t.summary(line)
	case t.What == Name && !t.told && answersName(low, t.To):
		t.Code, t.told = outcome.OK, true
	case t.What == Page && (strings.HasPrefix(low, "http/") || strings.Contains(low, "200 ok") || strings.Contains(low, "http_code=200")):
		t.Code, t.told = outcome.OK, true
	}
}

// summary reads a ping's last lines.
func (t *Try) summary(line string) {
	p := tools()
	if m := p.received.FindStringSubmatch(line); m != nil {
		count := m[1]
		if count == "" {
			count = m[2]
		}
		if n, _ := strconv.Atoi(count); n > 0 && !t.refused {
			t.Code, t.told = outcome.OK, true
		} else if !t.told {
			t.Code, t.told = outcome.NoAnswer, true
		}
	} else if p.lost.MatchString(line) && !t.told {
		t.Code, t.told = outcome.NoAnswer, true
	}
}

func containsAny(text string, list []string) bool {
	for _, w := range list {
		if strings.Contains(text, w) {
			return true
		}
	}
	return false
}

// target returns what a command goes to: its last word that is no option, or the one that
// an address stands in.
func target(words string) string {
	last := ""
	for _, w := range strings.Fields(strings.ReplaceAll(words, "(", " ")) {
		w = strings.Trim(w, "):,")
		if _, err := netip.ParseAddr(w); err == nil {
			return w
		}
		if _, err := strconv.Atoi(w); err != nil && !strings.HasPrefix(w, "-") && strings.Contains(w, ".") {
			last = w
		}
	}
	return last
}

// answersName reports whether it is a line that gives a name's address.
func answersName(line, name string) bool {
	if strings.Contains(line, "has address") {
		return true
	}
	name = strings.ToLower(strings.TrimSuffix(name, "."))
	if name == "" || strings.HasPrefix(line, ";") || !strings.Contains(line, name) {
		return false
	}
	for _, w := range strings.Fields(line) {
		if a, err := subnet.ParseAddr(w); err == nil && !a.IsLoopback() {
			return true
		}
	}
	return false
}

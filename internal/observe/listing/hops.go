package listing

import (
	"net/netip"
	"regexp"
	"strings"

	"openbastion/internal/netsim/outcome"
)

// Hop is a path that was traced: the first router that reported itself is By.
const Hop = "first hop to"

// hopPatterns are how tools that trace a path begin, and their line of the first hop.
type hopPatterns struct{ command, heading, first *regexp.Regexp }

func newHopPatterns() hopPatterns {
	return hopPatterns{
		command: regexp.MustCompile(`(?i)(?:^|[\s$#>])(?:traceroute6?|tracert|tracepath6?|mtr)\s+(.*)$`),
		heading: regexp.MustCompile(`(?i)(?:traceroute6? to|tracing route to|routenverfolgung zu|itinéraire vers|traza a|` +
			`instradamento verso|route naar|śledzenie trasy do|rota para)\s+(.*)$`),
		first: regexp.MustCompile(`^\s*1(?:\s|:|\.\|--)`),
	}
}

// mayTrace reports whether a line can begin a trace.
func mayTrace(line string) bool {
	for _, w := range [...]string{"trac", "mtr ", "routenverfolgung", "raire vers", "traza a", "instradamento", "route naar", "trasy do",
		"rota para"} {
		if containsFold(line, w) {
			return true
		}
	}
	return false
}

// traces reports whether a line begins a trace, and takes where it goes.
func (t *Try) traces(line string) bool {
	p := tools().hop
	m := p.heading.FindStringSubmatch(line)
	if m == nil {
		if m = p.command.FindStringSubmatch(line); m == nil || strings.HasPrefix(line, "traceroute: ") {
			return false
		}
	}
	to := tools().host.FindString(m[1])
	if to == "" {
		return false
	}
	if at, ok := strings.CutPrefix(strings.TrimSpace(m[1]), to); ok { // a name, and its address in brackets
		if a := tools().host.FindString(at); a != "" {
			if _, err := netip.ParseAddr(a); err == nil {
				to = a
			}
		}
	}
	*t = Try{What: Hop, To: to}
	return true
}

// hop reads the line of the first hop.
func (t *Try) hop(line string) {
	if t.told || !tools().hop.first.MatchString(line) || strings.Contains(line, "LOCALHOST") {
		return
	}
	for _, w := range strings.FieldsFunc(line, func(r rune) bool { return strings.ContainsRune(" \t()[]", r) }) {
		if a, err := netip.ParseAddr(w); err == nil {
			t.By, t.Code, t.told = a, outcome.OK, true
			return
		}
	}
	if strings.Contains(line, "*") || strings.Contains(line, "no reply") {
		t.Code, t.told = outcome.NoAnswer, true
	}
}

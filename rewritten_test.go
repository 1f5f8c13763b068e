package openbastion

import (
	"fmt"
	"math/rand/v2"
	"os"
	"regexp"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"openbastion/internal/model/lab"
	"openbastion/internal/model/plan"
	"openbastion/internal/simulator"
	"openbastion/internal/verify/claims"
)

// named are the names that drawn and made labs give to segments and machines.
const named = `(moor|mere|fen|quay|pond|back|deep|veiled|tern|wren|rail|crake|newt|weir|veil|dyke|s[1-5]|[ag][1-4])\b`

// otherwise turns the order of names round: what came first comes last.
func otherwise(text string) string {
	return regexp.MustCompile(`\b`+named).ReplaceAllStringFunc(text, func(name string) string {
		return fmt.Sprintf("%c%d%s", 'a'+('z'-name[0]), 9-name[1]%10, name)
	})
}

// back undoes otherwise in the identity of a claim.
func back(id string) string {
	return regexp.MustCompile(`\b[a-z][0-9]`+named).ReplaceAllString(id, "$1")
}

// section returns the lines below a heading, as a part of all lines.
func section(lines []string, heading string) []string {
	from := slices.Index(lines, heading) + 1
	to := from
	for to < len(lines) && strings.HasPrefix(lines[to], " ") {
		to++
	}
	return lines[from:to]
}

// A rewriting of a lab file, and whether what it says stays the same; else it lets
// less pass.
type rewriting struct {
	name string
	same bool
	of   func(text string, d dice) string
}

var rewritings = []rewriting{
	{"other names", true, func(text string, _ dice) string { return otherwise(text) }},
	{"other order", true, func(text string, d dice) string {
		lines := strings.Split(text, "\n")
		for _, heading := range []string{"guests:", "segments:"} {
			part := section(lines, heading)
			d.Shuffle(len(part), func(i, j int) { part[i], part[j] = part[j], part[i] })
		}
		return strings.Join(lines, "\n")
	}},
	{"rules in halves", true, func(text string, _ dice) string {
		return strings.NewReplacer("tcp/1000-2000", "tcp/1000-1499,tcp/1500-2000", " from 10.83.17.0/25", " from 10.83.17.64/26,10.83.17.0/26",
			" to 10.83.17.0/25", " to 10.83.17.0/26,10.83.17.64/26", " any from ", " icmp,udp,tcp,any from ").
			Replace(text)
	}},
	{"each rule twice", true, func(text string, _ dice) string {
		return regexp.MustCompile(`(?m)^(      - (?:allow|deny|refuse) .*\n)`).ReplaceAllString(text, "$1$1")
	}},
	{"a segment with no machine on it", true, func(text string, _ dice) string {
		return strings.Replace(
			text,
			"appliances:\n",
			"  void: {reach: isolated, subnet: 10.83.200.0/24}\nappliances:\n",
			1,
		)
	}},
	{"nothing is allowed", false, func(text string, _ dice) string {
		return strings.ReplaceAll(text, "    rules:\n", "    rules:\n      - deny any from any to any\n")
	}},
	{"one permission less", false, func(text string, d dice) string {
		lines := strings.Split(text, "\n")
		var at []int
		for i, l := range lines {
			if strings.HasPrefix(l, "      - allow") {
				at = append(at, i)
			}
		}
		if len(at) > 0 {
			i := at[d.IntN(len(at))]
			lines[i] = strings.Replace(lines[i], "allow", "deny", 1)
		}
		return strings.Join(lines, "\n")
	}},
	{"nothing is published", false, func(text string, _ dice) string {
		return regexp.MustCompile(`(?m)^    nat: \{.*\n`).ReplaceAllString(text, "")
	}},
	{"a guest is unplugged", false, func(text string, _ dice) string {
		return regexp.MustCompile(`(?m)^  (tern|newt): (\w+)$`).
			ReplaceAllString(text, "  $1: {segment: $2, plugged: false}")
	}},
}

// never are kinds of claims that say that nothing passes.
var never = []claims.Kind{"cut", "held", "inbound", "apart"}

func judged(text string) map[string]claims.Result {
	p := planned(text)
	if p == nil || ambiguous(p) {
		return nil
	}
	out := map[string]claims.Result{}
	stage := simulator.New(p)
	stage.World().Budget = 200_000
	for _, c := range stage.Outcome().Claims {
		out[c.ID] = c
	}
	return out
}

// made returns a lab file in which every key may come.
func made(d dice) string {
	m := &labMaker{bytes: make([]byte, 600)}
	for i := range m.bytes {
		m.bytes[i] = byte(d.Uint32())
	}
	return string(m.lab())
}

// ambiguous reports whether it is a lab in which two upstream segments have the same addresses: the way
// back from outside is then that of either.
func ambiguous(p *plan.Plan) bool {
	for i, s := range p.Segments {
		for _, x := range p.Segments[:i] {
			if s.Reach == lab.Upstream && x.Reach == lab.Upstream &&
				(s.Subnet.Overlaps(x.Subnet) || s.Gateway == x.Gateway) {
				return true
			}
		}
	}
	return false
}

// short tells that leases do not suffice for all: then who gets one hangs on the order.
func short(results map[string]claims.Result) bool {
	for _, r := range results {
		if r.Verdict == claims.Broken && (r.Kind == claims.DHCP || strings.Contains(r.Observed, "has no address")) {
			return true
		}
	}
	return false
}

// What says the same is judged the same, and what lets less pass lets nobody out who
// was held: no truth has to be known for that.
func TestRewrittenLabs(t *testing.T) {
	for _, r := range rewritings {
		tried, bad := 0, 0
		for _, seed := range drawn(t, 160) {
			d := dice{rand.New(rand.NewPCG(uint64(seed), 12))}
			text := d.lab()
			if seed%3 == 2 || os.Getenv("MADE") != "" {
				text = made(d)
			}
			changed := r.of(text, d)
			was, is := judged(text), judged(changed)
			if was == nil || is == nil || changed == text || short(was) || short(is) {
				continue
			}
			tried++
			var differ []string
			for id, now := range is {
				before, known := was[back(id)]
				switch {
				case !known:
				case r.same && before.Verdict != now.Verdict,
					!r.same && slices.Contains(never, now.Kind) && before.Verdict == claims.Holds && now.Verdict == claims.Broken:
					differ = append(
						differ,
						fmt.Sprintf(
							"%s: %s %q; rewritten %s %q",
							id,
							before.Verdict,
							before.Observed,
							now.Verdict,
							now.Observed,
						),
					)
				}
			}
			if len(differ) > 0 {
				if bad++; bad < 4 {
					assert.Empty(t, differ, "%s, seed %d\n%s\n%s", r.name, seed, text, changed)
				}
			}
		}
		t.Logf("%s: %d labs, %d judged otherwise", r.name, tried, bad)
		require.NotZero(t, tried, r.name)
	}
}

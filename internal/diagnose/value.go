package diagnose

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"sync"

	"openbastion/internal/model/plan"
	"openbastion/internal/model/subnet"
	"openbastion/internal/verify/claims"
)

// Value is what a look shows, held against the plan. The zero Value is that nobody
// looked.
type Value uint8

// The values. What else stands for the network of a segment, see [InNetwork].
const (
	Unseen    Value = iota
	Holds           // as planned
	None            // there is nothing, or nobody answers
	Refused         // somebody says no
	Unreached       // a router says that it cannot get there
	NoRoute         // the machine itself says that it knows no way
	Failed          // somebody answers that it could not find out
	Other           // something else than planned
	Late            // as planned, after a while
	Open            // it works, and must not
	Narrow          // a mask longer than planned
	Wide            // a mask shorter than planned
	Two             // more than one
	Foreign         // of no network of the lab
	Astray          // a next hop that its own network does not have: some systems take it, some do not
	Stranger        // a machine of no plan has the planned address
	Broken          // not as planned, and nobody says how
	networks        // the first that is a segment's
)

var valueWords = [...]string{
	"unseen",
	"holds",
	"none",
	"refused",
	"unreachable",
	"no-route",
	"failed",
	"other",
	"late",
	"open",
	"narrow",
	"wide",
	"two",
	"foreign",
	"astray",
	"stranger",
	"broken",
}

// InNetwork is the value of an address that is of the i-th segment's network.
func InNetwork(i int) Value { return networks + Value(min(i, 255-int(networks))) }

// Word returns what the value is called; a network by its segment.
func (v Value) Word(p *plan.Plan) string {
	if v < networks {
		return valueWords[v]
	}
	if i := int(v - networks); i < len(p.Segments) {
		return p.Segments[i].Name
	}
	return valueWords[Foreign]
}

// addressValue holds an address against what is planned on a segment.
func addressValue(p *plan.Plan, home *plan.Segment, planned func(netip.Addr) bool, a netip.Prefix) Value {
	switch at := a.Addr(); {
	case !a.IsValid() || at.IsLinkLocalUnicast():
		return None
	case planned(at):
		return Holds
	case home.Subnet.Contains(at):
		return Other
	default:
		for i, s := range p.Segments {
			if s.Subnet.Contains(at) {
				return InNetwork(i)
			}
		}
		return Foreign
	}
}

// maskValue holds a prefix length against the planned one.
func maskValue(home *plan.Segment, a netip.Prefix) Value {
	switch {
	case !a.IsValid() || a.Addr().IsLinkLocalUnicast():
		return None
	case a.Bits() == home.Subnet.Bits():
		return Holds
	case a.Bits() > home.Subnet.Bits():
		return Narrow
	}
	return Wide
}

// routerValue holds the way to everywhere against the planned one.
func routerValue(own netip.Prefix, is, planned netip.Addr) Value {
	if is.IsValid() && own.IsValid() && !own.Contains(is) {
		return Astray
	}
	return oneValue(is, planned)
}

// oneValue holds an address against the planned one.
func oneValue(is, planned netip.Addr) Value {
	switch {
	case is == planned:
		return Holds
	case !is.IsValid():
		return None
	}
	return Other
}

// listValue is oneValue for lists: the first one counts, as that is asked.
func listValue(is, planned []netip.Addr) Value {
	first := func(list []netip.Addr) (a netip.Addr) {
		if len(list) > 0 {
			a = list[0]
		}
		return a
	}
	return oneValue(first(is), first(planned))
}

// hopValue returns what the first hop is, held against the planned one: of which network, where it is another.
func hopValue(p *plan.Plan, gate *plan.Adapter, hop netip.Addr) Value {
	if hop == gate.Address.Addr() {
		return Holds
	}
	if s := p.Home(hop); s != nil && s != gate.Segment {
		return InNetwork(slices.Index(p.Segments, s))
	}
	return Other
}

// neighborValue reports whether a next hop answers, and is the planned one. at is its address; the zero Addr where
// that is not known.
func (s *Study) neighborValue(home *plan.Adapter, got claims.GotNeighbor, at netip.Addr) Value {
	if len(got.Hardware) == 0 {
		return None
	}
	gate := home.Gate()
	if gate == nil || claims.Transparent(gate) {
		return Holds
	}
	for _, h := range got.Hardware {
		ours := slices.ContainsFunc(s.Plan.Adapters, func(a *plan.Adapter) bool { return a.MAC == h })
		switch {
		case h == gate.MAC:
		case !ours && gate.Address.IsValid() && at == gate.Address.Addr():
			return Stranger
		default:
			return Other
		}
	}
	return Holds
}

// readValue reads what a person says that a look showed: a word of the look, or an
// address where that is what one sees.
func (l *Look) readValue(p *plan.Plan, text string) (Value, error) {
	word := strings.ToLower(strings.TrimSpace(text))
	if same, ok := synonyms()[word]; ok {
		word = same
	}
	for _, v := range l.Values(p) {
		if v.Word(p) == word {
			return v, nil
		}
	}
	if word == "broken" {
		return Broken, nil
	}
	if l.planned != nil {
		prefix, err := subnet.ParsePrefix(text)
		if err != nil {
			a, bad := netip.ParseAddr(strings.TrimSpace(text))
			if bad != nil {
				return Unseen, fmt.Errorf("%s takes %s or an address, not %q", l.ID, l.Words(p), text)
			}
			prefix = netip.PrefixFrom(a, l.home.Subnet.Bits())
		}
		return addressValue(p, l.home, l.planned, prefix), nil
	}
	if a, err := netip.ParseAddr(strings.TrimSpace(text)); err == nil && l.single.IsValid() {
		return oneValue(a, l.single), nil
	}
	return Unseen, fmt.Errorf("%s takes %s, not %q", l.ID, l.Words(p), text)
}

// synonyms are other words that people say.
var synonyms = sync.OnceValue(func() map[string]string {
	return map[string]string{
		"yes": "holds", "ok": "holds", "works": "holds", "up": "holds", "✓": "holds", "planned": "holds",
		"no": "none", "nothing": "none", "down": "none", "silent": "none", "timeout": "none", "time-out": "none",
		"reset": "refused", "servfail": "failed", "different": "other", "wrong": "other", "fails": "broken",
		"✗": "broken", "slow": "late", "short": "wide", "long": "narrow", "leaks": "open",
	}
})

// Words returns the values that the look takes, as people write them.
func (l *Look) Words(p *plan.Plan) string {
	var words []string
	for _, v := range l.Values(p) {
		word := v.Word(p)
		if v == Holds {
			word = "ok"
		}
		words = append(words, word)
	}
	return strings.Join(append(words, "broken"), ", ")
}

package diagnose

import (
	"fmt"
	"slices"
	"strings"
	"sync"

	"openbastion/internal/model/lab"
	"openbastion/internal/verify/claims"
	"openbastion/internal/verify/verdict"
)

// Seen is what somebody saw: that looks show a value, all of them; or, with Broken,
// that one of them at least is not as planned.
type Seen struct {
	Text  string // as it was said
	Looks []int
	Value Value
}

// fits returns how badly what a mistake shows misses what was seen: 0 not at all, 1 it is
// something else. In between lies what people do not always tell apart.
func (s Seen) fits(v Vector) float64 {
	if s.Value == Broken {
		for _, i := range s.Looks {
			if v[i] != Holds && v[i] != Unseen {
				return 0
			}
		}
		return 1
	}
	worst := 0.0
	for _, i := range s.Looks {
		worst = max(worst, miss(s.Value, v[i]))
	}
	return worst
}

// near is how much a value counts as another that people take it for.
const near = 0.3

// miss returns how far a value is from the one that was seen.
func miss(seen, shown Value) float64 {
	switch {
	case seen == shown || shown == Unseen, seen == Other && shown == Stranger:
		return 0
	case seen.fails() && shown.fails(), seen.late(shown), seen.taken(shown), shown.taken(seen):
		return near
	}
	return 1
}

// fails tells values that all look like nothing to who does not read what stands there.
func (v Value) fails() bool {
	return v == None || v == Refused || v == Unreached || v == NoRoute || v == Failed
}

// late tells two values that differ by when one looks.
func (v Value) late(o Value) bool { return v == Late && o == Holds || v == Holds && o == Late }

// taken tells what somebody may see of a next hop that is astray: that it is set, or none.
func (v Value) taken(o Value) bool { return v == Astray && (o == Holds || o == None || o == Other) }

// strange reports whether it is an address of another network, whichever.
func (v Value) strange() bool { return v == Foreign || v >= networks }

// claimLooks are the looks that a claim of a guest speaks of.
var claimLooks = sync.OnceValue(func() map[string][]Kind {
	return map[string][]Kind{
		string(claims.Outside): {
			Number,
			Page,
			Datagram,
			Source,
		}, string(claims.DNS): {Name}, string(claims.Blocked): {Number, Page, Datagram},
	}
})

// ParseSeen reads WHAT=HOW, as heron.dhcp=none: a look or a claim, and what it shows.
func (s *Study) ParseSeen(text string) (Seen, error) {
	what, how, ok := strings.Cut(text, "=")
	what, how = strings.TrimSpace(what), strings.TrimSpace(how)
	if !ok || how == "" {
		return Seen{}, fmt.Errorf("%q is not WHAT=HOW, such as heron.dhcp=none", text)
	}
	seen := Seen{Text: what + "=" + how}
	if i, ok := s.find(what); ok {
		if l := s.Looks[i]; l.Kind == Page && (how == "late" || synonyms()[how] == "late") { // it waits for the name
			if at, ok := s.index[l.subject()+"."+string(Name)]; ok {
				i = at
			}
		}
		v, err := s.Looks[i].readValue(s.Plan, how)
		if err != nil {
			return seen, err
		}
		seen.Looks, seen.Value = []int{i}, v
		return seen, nil
	}
	looks, err := s.ofClaim(what)
	if err != nil {
		return seen, err
	}
	seen.Looks = looks
	switch word := strings.ToLower(how); {
	case word == "holds" || synonyms()[word] == "holds":
		seen.Value = Holds
	default:
		seen.Value = Broken
		if _, err := s.Looks[looks[0]].readValue(s.Plan, how); err != nil {
			return seen, fmt.Errorf("%s takes ok or broken, not %q", what, how)
		}
	}
	return seen, nil
}

// find returns a look by what people call it.
func (s *Study) find(what string) (int, bool) {
	if i, ok := s.index[what]; ok {
		return i, true
	}
	subject, kind, _ := cutLast(what)
	for _, other := range [][2]string{{"address", "dhcp"}, {"dhcp", "address"}, {"lease", "dhcp"}, {"names", "name"},
		{"dns", "name"}, {"ping", "number"}, {"hop", "gateway"},
		{"tcp", "page"}, {"udp", "datagram"}, {"resolvers", "resolver"}, {"link", "cable"}, {"mtu", "large"}} {
		if kind == other[0] {
			if i, ok := s.index[subject+"."+other[1]]; ok {
				return i, true
			}
		}
	}
	return 0, false
}

// ofClaim returns the looks that a claim is made of.
func (s *Study) ofClaim(id string) ([]int, error) {
	subject, kind, ok := cutLast(id)
	var out []int
	add := func(name string) {
		if i, ok := s.index[name]; ok {
			out = append(out, i)
		}
	}
	for _, k := range claimLooks()[kind] {
		add(subject + "." + string(k))
	}
	switch claims.Kind(kind) {
	case claims.OneDHCP:
		for _, l := range s.Looks {
			if (l.Kind == Servers || l.Kind == IPv6) && l.At.Segment.Name == subject {
				add(l.ID)
			}
		}
	case claims.Segments:
		for _, seg := range s.Plan.Segments {
			from, to := s.Plan.Segment(strings.TrimSuffix(subject, "-"+seg.Name)), seg
			if from == nil || from == to {
				continue
			}
			if first := firstGuest(from); first != nil {
				add(first.Machine.Name + "." + to.Name)
			}
		}
	}
	if len(out) > 0 {
		return out, nil
	}
	if m := s.Plan.Machine(subject); m != nil && len(s.kindsOf(subject)) == 0 {
		return nil, fmt.Errorf("%s is behind no appliance, or is off: no checks there", subject)
	}
	names := make([]string, len(s.Looks))
	for i, l := range s.Looks {
		names[i] = l.ID
	}
	why := fmt.Sprintf("%q is not a known symptom", id)
	if !ok {
		why = fmt.Sprintf("%q names no machine, as in heron.dhcp", id)
	}
	if like := lab.Nearest(id, names); like != "" {
		return nil, fmt.Errorf("%s; the nearest is %s", why, like)
	}
	if s.Plan.Machine(subject) == nil {
		return nil, fmt.Errorf("%s; the lab has %s", why, strings.Join(s.Plan.Names(), ", "))
	}
	return nil, fmt.Errorf("%s; of %s there are %s", why, subject, strings.Join(s.kindsOf(subject), ", "))
}

// kindsOf lists what can be looked at of a machine.
func (s *Study) kindsOf(subject string) []string {
	var out []string
	for _, l := range s.Looks {
		if rest, ok := strings.CutPrefix(l.ID, subject+"."); ok {
			out = append(out, rest)
		}
	}
	return out
}

func cutLast(id string) (subject, kind string, ok bool) {
	if i := strings.LastIndexByte(id, '.'); i >= 0 {
		return id[:i], id[i+1:], true
	}
	return id, "", false
}

// leaseLooks are the parts of a claim on a lease.
var leaseLooks = []Kind{Lease, Mask, Router, Resolver}

// FromVerdict reads what a verdict says of what holds and what does not.
func (s *Study) FromVerdict(doc verdict.Document) []Seen {
	var out []Seen
	for _, r := range doc.Claims {
		if r.Verdict != claims.Holds && r.Verdict != claims.Broken {
			continue
		}
		var looks []int
		if r.Kind == claims.DHCP {
			for _, k := range leaseLooks {
				if i, ok := s.index[r.Guest+"."+string(k)]; ok {
					looks = append(looks, i)
				}
			}
		} else if i, ok := s.find(r.ID); ok {
			looks = []int{i}
		} else {
			looks, _ = s.ofClaim(r.ID) // a claim of which nobody looks at anything tells nothing here
		}
		if len(looks) == 0 {
			continue
		}
		seen := Seen{Text: r.ID + "=" + string(r.Verdict), Looks: looks, Value: Holds}
		if r.Verdict == claims.Broken {
			seen.Value = Broken
			if r.Kind == claims.NoBypass {
				seen.Value = Open
			}
		}
		out = append(out, seen)
	}
	return out
}

// Abnormal reports whether somebody saw anything that is not as planned.
func Abnormal(seen []Seen) bool {
	return slices.ContainsFunc(seen, func(x Seen) bool { return x.Value != Holds })
}

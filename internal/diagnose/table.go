package diagnose

import (
	"fmt"
	"slices"
	"strings"
	"sync"

	"openbastion/internal/diagnose/mistakes"
)

// Row is what one mistake, or several that look alike, would look like in a lab.
type Row struct {
	Mistakes []mistakes.Mistake
	Like     []string // guests at which the same mistake looks the same, each at itself
	See      []string // what one would see; none: nothing tells of it
}

// Table returns a row for every mistake, by what the job is about. Guests that are alike
// have one row together.
func (s *Study) Table() []Row {
	var rows []Row
	at := map[string]int{}
	for i, m := range s.Mistakes {
		v := s.Vectors[i]
		g := m.Guest()
		if v == nil || g != nil && s.first(g) != g {
			continue
		}
		key := string(bytesOf(v))
		n, ok := at[key]
		if !ok {
			n = len(rows)
			at[key] = n
			rows = append(rows, Row{See: s.Symptoms(v, nil)})
		}
		rows[n].Mistakes = append(rows[n].Mistakes, m)
		if g != nil && len(rows[n].Like) == 0 {
			for _, x := range s.alike[g].all[1:] {
				rows[n].Like = append(rows[n].Like, x.Name)
			}
		}
	}
	return rows
}

// symptomWords say what a look is at, in a table.
var symptomWords = sync.OnceValue(func() map[Kind]string {
	return map[Kind]string{Cable: "link", Lease: "address", Address: "address", Mask: "mask", Router: "path outside",
		Resolver: "resolver",
		Gateway:  "next hop", Number: "number outside", Page: "page outside", Datagram: "datagram outside", Name: "name outside",
		Large: "large ping",
		Path:  "first hop", Source: "source seen outside", Cut: "outside, with the WAN unplugged", Servers: "DHCP servers",
		Neighbor: "neighbor",
		Admin:    "admin page", IPv6: "router over IPv6", Renew: "address after a renewal", Across: "guest of another segment",
		Adapters: "number of adapters",
		Hardware: "MAC address", How: "method of addressing", Attached: "network in the hypervisor",
		Twin: "duplicate address", Log: "the appliance's log", Stopped: "denied traffic", Console: "console",
		Published: "published, from outside", Inside: "published service, inside", Inbound: "admin page, from outside",
		Host: "the host on its segment"}
})

// follows are looks that say no more once another one at the same machine fails.
var follows = sync.OnceValue(func() map[Kind][]Kind {
	return map[Kind][]Kind{
		Cable: {
			Lease,
			Address,
			Mask,
			Router,
			Resolver,
			Gateway,
			Number,
			Page,
			Datagram,
			Name,
			Large,
			Path,
			Source,
			Log,
			Neighbor,
			Admin,
			Across,
			Renew,
			Servers,
			Inside,
		},
		Lease: {
			Mask,
			Router,
			Resolver,
			Gateway,
			Number,
			Page,
			Datagram,
			Name,
			Large,
			Path,
			Source,
			Log,
			Neighbor,
			Admin,
			Across,
			Renew,
			Servers,
			Inside,
		},
		Address: {
			Mask,
			Router,
			Resolver,
			Number,
			Page,
			Datagram,
			Name,
			Large,
			Path,
			Source,
			Log,
			Neighbor,
			Admin,
			Across,
			Inside,
		},
		Gateway: {Number, Page, Datagram, Name, Large, Path, Source, Log, Admin, Across, Inside},
		Number:  {Page, Datagram, Large, Path, Source},
		Page:    {Datagram, Large, Path, Source},
		Across:  {Inside},
		Console: {Cable, Address, How, Gateway, Number, Name},
	}
})

// roots returns the looks at which a vector is not as planned, but for what cannot but
// follow from one of them.
func (s *Study) roots(v Vector) []int {
	var out []int
	failed := map[string][]Kind{}
	for i, l := range s.Looks {
		if v[i] == Holds || v[i] == Unseen || l.Kind.pasted() { // nobody sees that without looking for it
			continue
		}
		at := l.subject()
		if l.Kind == Inside { // it is tried from somebody else
			at = l.Machine.Name
		}
		silent := slices.ContainsFunc(failed[at], func(k Kind) bool { return slices.Contains(follows()[k], l.Kind) })
		if v[i].fails() || v[i].strange() {
			failed[at] = append(failed[at], l.Kind)
		}
		if !silent {
			out = append(out, i)
		}
	}
	return out
}

// subject returns the machine, segment or service that a look is at.
func (l *Look) subject() string {
	subject, _, _ := strings.Cut(l.ID, ".")
	return subject
}

// Symptoms returns what a vector shows that is not as planned, the nearest first: what
// cannot but follow is left out, and so are the looks that without says.
func (s *Study) Symptoms(v Vector, without map[int]bool) []string {
	type group struct {
		text string
		who  []string
	}
	var groups []group
	for _, i := range s.roots(v) {
		if without[i] {
			continue
		}
		l := s.Looks[i]
		text, who := l.sign(s.Plan, v[i]), l.subject()
		if l.At != nil && l.At.Port != nil && l.Machine != nil {
			who = l.At.Machine.Name + "." + l.At.Name
		}
		if l.Kind == Published || l.Kind == Inside {
			who = l.To.Machine.Name
		}
		if n := slices.IndexFunc(groups, func(g group) bool { return g.text == text }); n >= 0 {
			groups[n].who = append(groups[n].who, who)
		} else {
			groups = append(groups, group{text, []string{who}})
		}
	}
	var out []string
	for _, g := range groups {
		g.who = slices.Compact(g.who)
		if len(g.who) > 4 {
			g.who = append(g.who[:3], fmt.Sprintf("%d more", len(g.who)-3))
		}
		out = append(out, strings.Join(g.who, ", ")+": "+g.text)
	}
	return out
}

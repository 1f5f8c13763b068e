package diagnose

import (
	"net/netip"
	"slices"

	"openbastion/internal/diagnose/mistakes"
	"openbastion/internal/model/plan"
	"openbastion/internal/simulator"
)

// Study is what every mistake in a lab looks like. Make one with [NewStudy], and do
// its jobs before it is asked.
type Study struct {
	Plan     *plan.Plan
	Looks    []*Look
	Mistakes []mistakes.Mistake
	Base     Vector   // of the lab as it is planned
	Vectors  []Vector // by mistake; nil where the mistake cannot be made

	witness netip.Addr
	sources map[string]netip.Addr // which source the outside sees of each look, as planned
	index   map[string]int        // of looks, by name
	alike   map[*plan.Machine]*likeness
	done    []int // mistakes that are rehearsed, one a job
	held    map[string]simulator.Held
	note    func(l *Look, source netip.Addr) // takes the sources, while the lab as planned is looked at
}

// likeness is a group of guests that nothing but their names tells apart: what happens to
// one happens to each.
type likeness struct {
	all []*plan.Machine
}

// tried is how many guests of a segment others try it by: they are like nobody else.
const tried = 2

// NewStudy begins a study of a plan: it looks at the lab as it is planned.
func NewStudy(p *plan.Plan) *Study {
	s := &Study{Plan: p, Mistakes: mistakes.All(p), index: map[string]int{}, alike: map[*plan.Machine]*likeness{}}
	l := simulator.New(p)
	s.witness = l.Facts().Witness.Address
	s.Looks = looksOf(p, l.Model(), s.witness)
	for i, look := range s.Looks {
		s.index[look.ID] = i
	}
	s.group()
	s.expect(l)
	base := mistakes.Built{Plan: p}
	first := map[string]netip.Addr{}
	s.note = func(l *Look, source netip.Addr) { first[l.ID] = source }
	s.Base = s.observe(base, nil, nil)
	s.sources, s.note = first, nil
	s.Vectors = make([]Vector, len(s.Mistakes))
	for i, m := range s.Mistakes {
		if g := m.Guest(); g == nil || s.first(g) == g {
			s.done = append(s.done, i)
		}
	}
	return s
}

// group finds the guests that are alike: on one segment, with addresses got in one way,
// named by nothing, and not among the first two, by whom others try their segment.
func (s *Study) group() {
	named := s.named()
	place := map[*plan.Segment]int{}
	groups := map[string]*likeness{}
	for _, g := range s.Plan.Guests() {
		home := Home(g)
		key := g.Name
		if home != nil {
			place[home.Segment]++
			if !named[g.Name] && place[home.Segment] > tried && len(g.Adapters) == 1 && home.How == plan.Lease {
				key = "DHCP on " + home.Segment.Name // a name has no blanks
			}
		}
		if groups[key] == nil {
			groups[key] = &likeness{}
		}
		groups[key].all = append(groups[key].all, g)
		s.alike[g] = groups[key]
	}
}

// named returns the guests that something in the lab names.
func (s *Study) named() map[string]bool {
	named := map[string]bool{}
	for _, m := range s.Plan.Appliances() {
		for _, v := range m.Publishes {
			named[v.To.Machine.Name] = true
		}
		for _, o := range m.OneToOne {
			named[o.To.Machine.Name] = true
		}
		for _, r := range m.Appliance.Rules {
			for _, w := range slices.Concat(r.From, r.To) {
				named[w.Name] = true
			}
		}
	}
	for _, seg := range s.Plan.Segments {
		named[seg.Lab.Leases] = true
	}
	for _, e := range s.Plan.Lab.Expect {
		named[e.From.Name], named[e.To.Name] = true, true
	}
	return named
}

// first returns the first of those that are like a guest.
func (s *Study) first(g *plan.Machine) *plan.Machine { return s.alike[g].all[0] }

// kept returns which guests are in a lab that is rehearsed: of those that are alike the
// one that a mistake is made at, and one that it is not made at.
func (s *Study) kept(m mistakes.Mistake) func(string) bool {
	return func(name string) bool {
		g := s.Plan.Machine(name)
		if g == nil || g.Guest == nil || m.At.Other != nil && m.At.Other.Machine == g {
			return true
		}
		group := s.alike[g].all
		return g == group[0] || len(group) > 1 && g == group[1] && group[0] == m.Guest()
	}
}

// spread returns those guests that were not in the lab what one of those like them shows,
// at whom no mistake was made.
func (s *Study) spread(v Vector, m mistakes.Mistake) Vector {
	kept := s.kept(m)
	for i, l := range s.Looks {
		if l.Machine == nil || l.Machine.Guest == nil || kept(l.Machine.Name) {
			continue
		}
		like := s.alike[l.Machine].all[0]
		if like == m.Guest() {
			like = s.alike[l.Machine].all[1]
		}
		v[i] = v[s.index[like.Name+l.ID[len(l.Machine.Name):]]]
	}
	return v
}

// Jobs returns how many labs must be rehearsed.
func (s *Study) Jobs() int { return len(s.done) }

// Do rehearses one of them. Jobs may be done in any order, and at once.
func (s *Study) Do(job int) {
	i := s.done[job]
	m := s.Mistakes[i]
	kept := s.kept(m)
	b, err := mistakes.PlantFew(s.Plan, kept, m)
	if err != nil {
		return // such a lab cannot even be built
	}
	s.Vectors[i] = s.spread(s.observe(b, kept, nil), m)
}

// Finish returns each guest that is like another the mistakes of that one. It is called
// once all jobs are done.
func (s *Study) Finish() {
	first := map[string]int{}
	for i, m := range s.Mistakes {
		if s.Vectors[i] != nil {
			first[m.ID()] = i
		}
	}
	for i, m := range s.Mistakes {
		g := m.Guest()
		if s.Vectors[i] != nil || g == nil || s.first(g) == g {
			continue
		}
		like := m
		like.At.Adapter = Home(s.first(g))
		if other := like.At.Other; other != nil && other.Machine == s.first(g) {
			like.At.Other = m.At.Adapter
		}
		if of, ok := first[like.ID()]; ok {
			s.Vectors[i] = s.swapped(s.Vectors[of], s.first(g), g)
		}
	}
}

// swapped returns a vector in which two guests have changed places.
func (s *Study) swapped(v Vector, a, b *plan.Machine) Vector {
	out := slices.Clone(v)
	for i, l := range s.Looks {
		if l.Machine == a {
			j := s.index[b.Name+l.ID[len(a.Name):]]
			out[i], out[j] = v[j], v[i]
		}
	}
	return out
}

// Run does all jobs, one after another, and finishes.
func (s *Study) Run() {
	for i := range s.Jobs() {
		s.Do(i)
	}
	s.Finish()
}

// expect notes what adapters show that get their settings from above, which no plan
// says.
func (s *Study) expect(l *simulator.Lab) {
	s.held = map[string]simulator.Held{}
	for _, look := range s.Looks {
		if (look.Kind == Router || look.Kind == Resolver) && look.At.How == plan.FromAbove {
			s.held[look.Machine.Name] = l.Held(look.At)
		}
	}
}

func (s *Study) routerOf(l *Look) netip.Addr {
	if h, ok := s.held[l.Machine.Name]; ok && l.At.How == plan.FromAbove {
		return h.Gateway
	}
	return l.single
}

func (s *Study) resolversOf(l *Look) []netip.Addr {
	if h, ok := s.held[l.Machine.Name]; ok && l.At.How == plan.FromAbove {
		return h.DNS
	}
	return l.list
}

// Observe looks at a lab that was built, in every way there is.
func (s *Study) Observe(b mistakes.Built) Vector { return s.observe(b, nil, nil) }

// Showing returns the mistakes that show in something, where want says so of how many
// symptoms each has.
func (s *Study) Showing(want func(m mistakes.Mistake, symptoms int) bool) []mistakes.Mistake {
	var out []mistakes.Mistake
	for i, m := range s.Mistakes {
		if v := s.Vectors[i]; v != nil && !slices.Equal(v, s.Base) && len(s.Symptoms(v, nil)) > 0 && want(m, len(s.Symptoms(v, nil))) {
			out = append(out, m)
		}
	}
	return out
}

// Alike tells two mistakes that no look tells apart.
func (s *Study) Alike(a, b mistakes.Mistake) bool {
	var of [2]Vector
	for i, m := range s.Mistakes {
		switch m.ID() {
		case a.ID():
			of[0] = s.Vectors[i]
		case b.ID():
			of[1] = s.Vectors[i]
		}
	}
	return of[0] != nil && of[1] != nil && slices.Equal(of[0], of[1])
}

// Shown returns a look as a question, what a vector answers to it, and what to do to see that.
func (s *Study) Shown(look int, v Vector) (question, answer, do string) {
	l := s.Looks[look]
	question, do = l.ask(s.Plan)
	return question, l.tells(s.Plan, v[look]), do
}

// Fewest returns the fewest looks after which no other mistake is left that shows the same as a vector does, by their places
// among the study's. Up to two are searched for; beyond, one after another that leaves least is taken.
func (s *Study) Fewest(v Vector) []int {
	var others []Vector
	for _, o := range s.Vectors {
		if o != nil && !slices.Equal(o, v) {
			others = append(others, o)
		}
	}
	apart := func(looks ...int) bool {
		for _, o := range others {
			if !slices.ContainsFunc(looks, func(i int) bool { return o[i] != v[i] && o[i] != Unseen }) {
				return false
			}
		}
		return true
	}
	for i := range s.Looks {
		if apart(i) {
			return []int{i}
		}
	}
	for i := range s.Looks {
		for j := range i {
			if apart(i, j) {
				return []int{j, i}
			}
		}
	}
	left, taken := others, []int(nil)
	for len(left) > 0 {
		best, most := -1, 0
		for i := range s.Looks {
			n := 0
			for _, o := range left {
				if o[i] != v[i] && o[i] != Unseen {
					n++
				}
			}
			if n > most {
				best, most = i, n
			}
		}
		if best < 0 {
			break
		}
		left = slices.DeleteFunc(
			slices.Clone(left),
			func(o Vector) bool { return o[best] != v[best] && o[best] != Unseen },
		)
		taken = append(taken, best)
	}
	return taken
}

package diagnose

import (
	"fmt"
	"math"
	"strings"
	"sync"

	"openbastion/internal/model/lab"
	"openbastion/internal/model/plan"
)

// Question is one that a person answers after one look.
type Question struct {
	ID      string
	Text    string
	Do      string        // what to type or to look at for it
	Options []Option      // what it may come to, but for one that is read, see Reads
	Reads   bool          // it is answered with what stands there: address, router, resolver
	Whole   bool          // it is answered with names of guests
	Machine *plan.Machine // where one looks; nil: at more than one

	looks   []int
	cost    float64
	outcome func(v Vector) int // the same number, the same answer
}

// Option is one answer to a question, with what it says.
type Option struct {
	Text string
	Seen []Seen
	when int // the outcome
}

// Questions returns every question about a lab.
func (s *Study) Questions() []*Question {
	out := []*Question{s.whoQuestion()}
	for _, g := range s.Plan.Guests() {
		if home := Home(g); home != nil {
			out = append(out, s.ladder(home), s.settingsQuestion(home))
		}
	}
	out = append(append(out, s.whichQuestions()...), s.LookQuestions()...)
	return out
}

// LookQuestions returns a question for each look that stands alone.
func (s *Study) LookQuestions() []*Question {
	var out []*Question
	for i, l := range s.Looks {
		if l.Kind.pasted() {
			continue // what a hypervisor shows is pasted
		}
		if _, grouped := partOf()[l.Kind]; grouped && l.Machine != nil && l.Machine.Guest != nil {
			continue
		}
		out = append(out, s.lookQuestion(i, l))
	}
	return out
}

// mostChoices bounds what a question offers to choose from.
const mostChoices = 16

// whichQuestions ask which of several things is not as it should be: what opens, what
// does not answer, what a console shows.
func (s *Study) whichQuestions() []*Question {
	opens := &Question{
		ID:   "which.opens",
		Text: "Does one of these answer that must not? The first that does",
		Do:   "try them in this order",
		cost: 2.5,
	}
	answers := &Question{ID: "which.answers", Text: "Does one of these not answer? The first that does not",
		Do: "try them in this order", cost: 2}
	shows := &Question{
		ID:   "which.shows",
		Text: "Is one of these on a console not as planned? The first that is not",
		Do:   "check the consoles of the appliances",
		cost: 1.5,
	}
	odd := &Question{
		ID:   "which.odd",
		Text: "Is one of these on a guest not as planned? The first that is not",
		Do:   "check the guests' settings and adapters",
		cost: 1.5,
	}
	for i, l := range s.Looks {
		switch l.Kind {
		case Inbound, Host, Stopped, Cut:
			opens.looks = append(opens.looks, i)
		case Neighbor, Admin, Published, Inside, Large:
			answers.looks = append(answers.looks, i)
		case Across:
			if l.allowed {
				answers.looks = append(answers.looks, i)
			} else {
				opens.looks = append(opens.looks, i)
			}
		case Adapters, Hardware, How, Servers:
			if l.Machine.Guest != nil {
				odd.looks = append(odd.looks, i)
			}
		}
		if l.Machine != nil && l.Machine.Appliance != nil && !l.Kind.pasted() {
			shows.looks = append(shows.looks, i)
		}
	}
	var out []*Question
	for _, q := range []*Question{opens, answers, shows, odd} {
		if len(q.looks) > 1 && len(q.looks) <= mostChoices {
			s.choose(q)
			out = append(out, q)
		}
	}
	return out
}

// choose has a question offer each of its looks, and none of them.
func (s *Study) choose(q *Question) {
	for n, i := range q.looks {
		o := Option{
			Text: s.Looks[i].brief(),
			when: n,
			Seen: []Seen{{Text: s.Looks[i].ID + "=broken", Looks: []int{i}, Value: Broken}},
		}
		if n > 0 {
			o.Seen = append(o.Seen, Seen{Text: "what stands before", Looks: q.looks[:n], Value: Holds})
		}
		q.Options = append(q.Options, o)
	}
	q.Options = append(q.Options, Option{Text: "none of these", when: len(q.looks),
		Seen: []Seen{{Text: "nothing of " + q.ID, Looks: q.looks, Value: Holds}}})
	q.outcome = func(v Vector) int {
		for n, i := range q.looks {
			if v[i] != Holds && v[i] != Unseen {
				return n
			}
		}
		return len(q.looks)
	}
}

// partOf are the looks of a guest that one question is about.
var partOf = sync.OnceValue(func() map[Kind]bool {
	return map[Kind]bool{Lease: true, Address: true, Mask: true, Router: true, Resolver: true}
})

// core are the looks that tell whether a guest works.
var core = []Kind{Cable, Lease, Address, Router, Gateway, Number, Page, Datagram, Name}

// of returns the looks of some kinds at a guest.
func (s *Study) of(g *plan.Machine, kinds ...Kind) []int {
	var out []int
	for _, k := range kinds {
		if i, ok := s.index[g.Name+"."+string(k)]; ok {
			out = append(out, i)
		}
	}
	return out
}

// whoQuestion asks which guests are met.
func (s *Study) whoQuestion() *Question {
	q := &Question{ID: "who", Text: "Which guests have a problem? Names, all, or none", Whole: true, cost: 1,
		Do: "on each guest, check its address and open a page"}
	var sets [][]int
	for _, g := range s.Plan.Guests() {
		if Home(g) != nil {
			sets = append(sets, s.of(g, core...))
		}
	}
	q.outcome = func(v Vector) int {
		h := 0
		for n, set := range sets {
			if s.anyOff(v, set) {
				h = h*31 + n + 1
			}
		}
		return h
	}
	return q
}

// anyOff reports whether some look is neither as planned nor only late.
func (s *Study) anyOff(v Vector, looks []int) bool {
	for _, i := range looks {
		if v[i] != Holds && v[i] != Unseen {
			return true
		}
	}
	return false
}

// Who makes of names what they say: these guests do not get what they should, and the
// others do. The error names who is not there.
func (s *Study) Who(text string) ([]Seen, error) {
	named := map[string]bool{}
	for _, name := range strings.FieldsFunc(strings.ToLower(text), func(r rune) bool { return r == ',' || r == ' ' || r == '\t' }) {
		switch m := s.Plan.Machine(name); {
		case name == "all" || name == "none" || name == "and":
			named[name] = true
		case m == nil || m.Guest == nil || Home(m) == nil:
			return nil, fmt.Errorf("no guest %q behind an appliance", name)
		default:
			named[name] = true
		}
	}
	if len(named) == 0 {
		return nil, fmt.Errorf("use names of guests, all or none")
	}
	return s.whoFails(func(g *plan.Machine, _ []int) bool { return named["all"] || named[g.Name] }), nil
}

// whoFails says of each guest whether it gets what it should, by its looks.
func (s *Study) whoFails(fails func(g *plan.Machine, looks []int) bool) []Seen {
	var out []Seen
	for _, g := range s.Plan.Guests() {
		if Home(g) == nil {
			continue
		}
		x := Seen{Text: g.Name + " works", Looks: s.of(g, core...), Value: Holds}
		if fails(g, x.Looks) {
			x.Text, x.Value = g.Name+" does not work", Broken
		}
		out = append(out, x)
	}
	return out
}

// ladder asks how far a guest gets.
func (s *Study) ladder(home *plan.Adapter) *Question {
	g, name := home.Machine, home.Machine.Name
	c := commandsOf(g)
	q := &Question{ID: name + ".far", Machine: g, cost: 1.5, Text: "How far does " + name + " get?",
		Do: fmt.Sprintf(
			"on %s, in this order: %s, then ping its next hop, an IP address outside, a name outside",
			name,
			c.Addresses,
		)}
	rung := func(text string, holds []Kind, is Value, kinds ...Kind) {
		looks := s.of(g, kinds...)
		if len(looks) == 0 {
			return
		}
		o := Option{Text: text, when: len(q.Options)}
		if before := s.of(g, holds...); len(before) > 0 {
			o.Seen = append(o.Seen, Seen{Text: name + ": fails after that", Looks: before, Value: Holds})
		}
		o.Seen = append(o.Seen, Seen{Text: name + ": " + text, Looks: looks, Value: is})
		q.Options = append(q.Options, o)
	}
	address, link := []Kind{Lease, Address}, []Kind{Cable}
	rung("it has no link", nil, None, Cable)
	rung("it has no address, or a link-local one", link, None, address...)
	rung("it has an address, but not the planned one", link, Broken, address...)
	held := append([]Kind{Cable}, address...)
	rung("it has its address, but its next hop does not answer", held, Broken, Gateway)
	held = append(held, Gateway)
	out := s.reaches(g)
	if len(out) > 0 {
		rung("its next hop answers, but no IP address outside does", held, Broken, out...)
		held = append(held, out...)
		rung("IP addresses outside answer, but names do not", held, Broken, Name)
		held = append(held, Name)
	}
	q.Options = append(q.Options, Option{Text: "everything works", when: len(q.Options),
		Seen: []Seen{{Text: name + " gets everywhere", Looks: s.of(g, held...), Value: Holds}}})
	q.outcome = func(v Vector) int { return firstThatFits(q.Options, v) }
	return q
}

// reaches returns the looks by which a guest may go outside.
func (s *Study) reaches(g *plan.Machine) []Kind {
	var out []Kind
	for _, k := range []Kind{Number, Page, Datagram} {
		for _, i := range s.of(g, k) {
			if s.Looks[i].allowed {
				out = append(out, k)
			}
		}
	}
	return out
}

// wayOut returns the first service by which a guest may go outside.
func (s *Study) wayOut(g *plan.Machine) (service lab.Service, ok bool) {
	if ways := s.of(g, s.reaches(g)...); len(ways) > 0 {
		return s.Looks[ways[0]].service, true
	}
	return service, false
}

func firstThatFits(options []Option, v Vector) int {
	for _, o := range options {
		fits := true
		for _, x := range o.Seen {
			fits = fits && x.fits(v) < 1
		}
		if fits {
			return o.when
		}
	}
	return len(options)
}

// settingsQuestion asks what a guest shows of its settings.
func (s *Study) settingsQuestion(home *plan.Adapter) *Question {
	g := home.Machine
	c := commandsOf(g)
	q := &Question{ID: g.Name + ".settings", Machine: g, Reads: true, cost: 1.2,
		Text:  "What does " + g.Name + " show? ADDRESS/LENGTH ROUTER DNS, with none for a missing one",
		Do:    fmt.Sprintf("on %s: %s; %s; %s", g.Name, c.Addresses, c.Routes, c.Resolvers),
		looks: s.of(g, Lease, Address, Mask, Router, Resolver)}
	q.outcome = func(v Vector) int {
		h := 0
		for _, i := range q.looks {
			h = h*256 + int(v[i])
		}
		return h
	}
	return q
}

// Settings makes what a person reads off a guest's settings into what was seen: address
// with length, router, resolver, in that order; none where there is none, a dash where it
// was not looked at.
func (s *Study) Settings(q *Question, text string) ([]Seen, error) {
	words := strings.Fields(strings.ReplaceAll(text, ",", " "))
	if len(words) == 0 {
		return nil, fmt.Errorf("write ADDRESS/LENGTH ROUTER DNS, such as 10.83.16.57/24 10.83.16.1 10.83.16.1")
	}
	kinds := [][]Kind{{Lease, Address}, {Router}, {Resolver}}
	var out []Seen
	for n, word := range words[:min(len(words), len(kinds))] {
		looks := s.of(q.Machine, kinds[n]...)
		if word == "-" || len(looks) == 0 {
			continue
		}
		l := s.Looks[looks[0]]
		v, err := l.readValue(s.Plan, word)
		if err != nil {
			return nil, err
		}
		out = append(out, Seen{Text: l.ID + "=" + word, Looks: looks, Value: v})
		if n == 0 && strings.Contains(word, "/") {
			out = append(out, s.maskSeen(q.Machine, word)...)
		}
	}
	return out, nil
}

// lookQuestion asks what one look shows.
func (s *Study) lookQuestion(i int, l *Look) *Question {
	q := &Question{ID: l.ID, looks: []int{i}, cost: float64(l.Cost), Machine: l.Machine}
	q.Text, q.Do = l.ask(s.Plan)
	for _, v := range l.Values(s.Plan) {
		q.Options = append(q.Options, Option{Text: l.tells(s.Plan, v), when: int(v),
			Seen: []Seen{{Text: l.ID + "=" + v.Word(s.Plan), Looks: []int{i}, Value: v}}})
	}
	q.outcome = func(v Vector) int { return int(v[i]) }
	return q
}

// Next returns the question whose answer splits best what is left, for what it costs;
// nil when no question does. asked tells those that were put.
func (s *Study) Next(causes []Cause, questions []*Question, asked map[string]bool) *Question {
	weights, sum := posterior(causes)
	if sum == 0 {
		return nil
	}
	var best *Question
	most := 1e-6
	for _, q := range questions {
		if asked[q.ID] {
			continue
		}
		parts := map[int]float64{}
		for i, w := range weights {
			if w > 1e-9 {
				parts[q.outcome(causes[i].Vector)] += w
			}
		}
		if len(parts) < 2 {
			continue
		}
		gain := 0.0
		for _, w := range parts {
			gain -= w / sum * math.Log2(w/sum)
		}
		if value := gain / math.Pow(q.cost, costMatters); value > most {
			best, most = q, value
		}
	}
	return best
}

// costMatters is how much the cost of a look counts against what it tells.
const costMatters = 0.3

// posterior returns how likely each cause is, against the others, and the sum.
func posterior(causes []Cause) (weights []float64, sum float64) {
	weights = make([]float64, len(causes))
	best := math.Inf(-1)
	for _, c := range causes {
		best = max(best, c.score)
	}
	for i, c := range causes {
		weights[i] = math.Exp(c.score - best)
		sum += weights[i]
	}
	return weights, sum
}

// Sure returns how likely the first cause is.
func Sure(causes []Cause) float64 {
	weights, sum := posterior(causes)
	if sum == 0 {
		return 0
	}
	return weights[0] / sum
}

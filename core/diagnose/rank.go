package diagnose

import (
	"cmp"
	"math"
	"slices"

	"openbastion/core/mistakes"
)

// Cause is what may be the matter: mistakes that no look tells apart, likeliest first.
type Cause struct {
	Mistakes []mistakes.Mistake // none: nothing but what the lab file says
	Pair     bool               // it takes both of them
	Vector   Vector             // what it shows
	Misses   []Seen             // what was seen and is not explained
	Beside   []int              // looks that would not be as planned either, at which nobody looked

	score float64
}

// Explains tells whether a cause explains all that was seen.
func (c Cause) Explains() bool { return len(c.Misses) == 0 }

// How much the parts of a score weigh: a value that is missed, something that one would
// see as well, and more of it at a machine that was looked at.
const (
	missWeight   = 7.0
	surpriseNear = 0.3
	surpriseFar  = 0.15
	mostSurprise = 3
	planWeight   = 2.0 // of the lab file itself being the cause
)

// Causes gives what may be the matter, likeliest first.
func (s *Study) Causes(seen []Seen) []Cause {
	var out []Cause
	classes := map[string]int{}
	add := func(v Vector, m *mistakes.Mistake, weight float64) {
		if at, ok := classes[string(bytesOf(v))]; ok {
			if m != nil {
				c := &out[at]
				c.Mistakes = append(c.Mistakes, *m)
				c.score += math.Log1p(weight / total(c.Mistakes[:len(c.Mistakes)-1]))
			}
			return
		}
		c := s.judge(v, seen)
		c.score += math.Log(weight)
		if m != nil {
			c.Mistakes = []mistakes.Mistake{*m}
		}
		classes[string(bytesOf(v))] = len(out)
		out = append(out, c)
	}
	base := bytesOf(s.Base)
	if s.planned(seen) {
		add(s.Base, nil, planWeight)
	}
	for i := range s.Mistakes {
		if v := s.Vectors[i]; v != nil && string(bytesOf(v)) != string(base) {
			add(v, &s.Mistakes[i], s.Mistakes[i].Weight)
		}
	}
	for i := range out {
		slices.SortStableFunc(out[i].Mistakes, func(a, b mistakes.Mistake) int { return cmp.Compare(b.Weight, a.Weight) })
	}
	if Abnormal(seen) {
		out = slices.DeleteFunc(out, func(c Cause) bool { return len(c.Mistakes) > 0 && !c.Explains() && !s.helps(c, seen) })
	}
	slices.SortStableFunc(out, func(a, b Cause) int {
		return cmp.Or(-cmp.Compare(one(a.Explains()), one(b.Explains())), cmp.Compare(b.score, a.score))
	})
	return out
}

// planned tells whether the lab as the file has it shows something that is not as planned,
// and is a cause by itself.
func (s *Study) planned(seen []Seen) bool {
	if !Abnormal(seen) {
		return true
	}
	return slices.ContainsFunc(s.Base, func(v Value) bool { return v != Holds && v != Unseen })
}

func one(is bool) int {
	if is {
		return 1
	}
	return 0
}

func total(list []mistakes.Mistake) float64 {
	sum := planWeight
	if len(list) > 0 {
		sum = 0
	}
	for _, m := range list {
		sum += m.Weight
	}
	return sum
}

func bytesOf(v Vector) []byte {
	b := make([]byte, len(v))
	for i, x := range v {
		b[i] = byte(x)
	}
	return b
}

// judge holds a vector against what was seen.
func (s *Study) judge(v Vector, seen []Seen) Cause {
	c := Cause{Vector: v}
	looked, subjects := map[int]bool{}, map[string]bool{}
	for _, x := range seen {
		m := x.fits(v)
		if m >= 1 {
			c.Misses = append(c.Misses, x)
		}
		if c.score -= m * missWeight; x.Value != Holds {
			c.score -= m * missWeight // who explains nothing of what is wrong explains nothing
		}
		for _, i := range x.Looks {
			looked[i], subjects[s.Looks[i].subject()] = true, true
		}
	}
	surprise := 0.0
	for _, i := range s.roots(v) {
		if looked[i] {
			continue
		}
		if surprise += surpriseFar; subjects[s.Looks[i].subject()] {
			surprise += surpriseNear
		}
	}
	for i, is := range v {
		if !looked[i] && is != Unseen && is != Holds {
			c.Beside = append(c.Beside, i)
		}
	}
	c.score -= min(surprise, mostSurprise)
	return c
}

// bestSingles is of how many mistakes pairs are made, and bestOfOne how many are added
// for each thing that was seen.
const (
	bestSingles = 12
	bestOfOne   = 3
)

// Pairs gives pairs of mistakes that together explain what no single one does,
// each tried in a lab with both.
func (s *Study) Pairs(seen []Seen, causes []Cause) []Cause {
	some := s.partners(seen, causes)
	wanted := map[int]bool{}
	for _, x := range seen {
		for _, i := range x.Looks {
			wanted[i] = true
		}
	}
	var out []Cause
	for i, a := range some {
		for _, b := range some[i+1:] {
			if !complement(a, b) {
				continue
			}
			built, err := mistakes.Plant(s.Plan, a.Mistakes[0], b.Mistakes[0])
			if err != nil {
				continue
			}
			v := s.observe(built, nil, func(i int) bool { return wanted[i] || s.Looks[i].Kind == Gateway })
			c := s.judge(v, seen)
			c.Beside = nil
			if c.Pair = true; len(c.Misses) > 0 {
				continue
			}
			c.Mistakes = []mistakes.Mistake{a.Mistakes[0], b.Mistakes[0]}
			c.score += math.Log(a.Mistakes[0].Weight) + math.Log(b.Mistakes[0].Weight)
			out = append(out, c)
		}
	}
	slices.SortStableFunc(out, func(a, b Cause) int { return cmp.Compare(b.score, a.score) })
	return out
}

// partners gives the causes of which pairs are made: the best of all, and the best for
// each thing that was seen and is not as planned.
func (s *Study) partners(seen []Seen, causes []Cause) []Cause {
	var some []Cause
	taken := map[int]bool{}
	take := func(most int, fits func(Cause) bool) {
		for i, c := range causes {
			if most > 0 && len(c.Mistakes) > 0 && fits(c) {
				if most--; !taken[i] {
					taken[i], some = true, append(some, c)
				}
			}
		}
	}
	take(bestSingles, func(c Cause) bool { return s.helps(c, seen) })
	for _, x := range seen {
		if x.Value != Holds && len(some) < 2*bestSingles {
			take(bestOfOne, func(c Cause) bool { return x.fits(c.Vector) < 1 })
		}
	}
	return some
}

// helps tells whether a cause explains something that is not as planned.
func (s *Study) helps(c Cause, seen []Seen) bool {
	for _, x := range seen {
		if x.Value != Holds && x.fits(c.Vector) < 1 && x.fits(s.Base) >= 1 {
			return true
		}
	}
	return false
}

// complement tells two causes neither of which misses all that the other does.
func complement(a, b Cause) bool {
	for _, x := range a.Misses {
		if x.Value != Holds && !slices.ContainsFunc(b.Misses, func(y Seen) bool { return y.Text == x.Text }) {
			return true
		}
	}
	return false
}

// Unexplained gives what of what was seen no cause of a list explains.
func Unexplained(seen []Seen, causes []Cause) []Seen {
	var out []Seen
	for _, x := range seen {
		if !slices.ContainsFunc(causes, func(c Cause) bool {
			return !slices.ContainsFunc(c.Misses, func(y Seen) bool { return y.Text == x.Text })
		}) {
			out = append(out, x)
		}
	}
	return out
}

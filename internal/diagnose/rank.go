package diagnose

import (
	"cmp"
	"math"
	"math/bits"
	"slices"

	"openbastion/internal/diagnose/mistakes"
)

// Cause is what may be the matter: mistakes that no look tells apart, likeliest first.
type Cause struct {
	Mistakes []mistakes.Mistake // none: nothing but what the lab file says
	Pair     bool               // it takes both of them
	Vector   Vector             // what it shows
	Misses   []Seen             // what was seen and is not explained
	Beside   []int              // looks that would not be as planned either, at which nobody looked

	score    float64
	surprise float64 // how much one would see as well and did not mention
}

// Explains reports whether a cause explains all that was seen.
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

// Causes returns what may be the matter, likeliest first.
func (s *Study) Causes(seen []Seen) []Cause {
	var out []Cause
	classes := map[string]int{}
	shown := s.shown(seen)
	add := func(v Vector, m *mistakes.Mistake, weight float64) {
		key := string(bytesOf(shown(v)))
		if at, ok := classes[key]; ok {
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
		classes[key] = len(out)
		out = append(out, c)
	}
	if s.planned(seen) {
		add(s.Base, nil, planWeight)
	}
	for i := range s.Mistakes {
		if v := s.Vectors[i]; v != nil && !slices.Equal(shown(v), shown(s.Base)) {
			add(v, &s.Mistakes[i], s.Mistakes[i].Weight)
		}
	}
	for i := range out {
		slices.SortStableFunc(
			out[i].Mistakes,
			func(a, b mistakes.Mistake) int { return cmp.Compare(b.Weight, a.Weight) },
		)
	}
	if Abnormal(seen) {
		out = slices.DeleteFunc(
			out,
			func(c Cause) bool { return len(c.Mistakes) > 0 && !c.Explains() && !s.helps(c, seen) },
		)
	}
	slices.SortStableFunc(out, func(a, b Cause) int {
		return cmp.Or(-cmp.Compare(one(a.Explains()), one(b.Explains())), cmp.Compare(b.score, a.score))
	})
	return out
}

// shown returns what tells causes apart: what they show, without the attachments that nobody saw.
func (s *Study) shown(seen []Seen) func(v Vector) Vector {
	looked := map[int]bool{}
	for _, x := range seen {
		for _, i := range x.Looks {
			looked[i] = true
		}
	}
	return func(v Vector) Vector {
		out := slices.Clone(v)
		for i, l := range s.Looks {
			if l.Kind.pasted() && !looked[i] {
				out[i] = Unseen
			}
		}
		return out
	}
}

// planned reports whether the lab as the file has it shows something that is not as planned,
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
		if !looked[i] && is != Unseen && is != Holds && !s.Looks[i].Kind.pasted() {
			c.Beside = append(c.Beside, i)
		}
	}
	c.surprise = min(surprise, mostSurprise)
	c.score -= c.surprise
	return c
}

// pairsTried is how many pairs are tried in a lab with both, and pairsTold how many are
// told of those that explain all.
const (
	pairsTried = 48
	pairsTold  = 5
)

// promise is a pair that may explain all that was seen: by what each of the two shows
// alone, it misses so much.
type promise struct {
	a, b   int // causes
	misses int
	score  float64
}

// Pairs returns pairs of mistakes that together explain what no single one does,
// each tried in a lab with both.
func (s *Study) Pairs(seen []Seen, causes []Cause) []Cause {
	wanted := map[int]bool{}
	for _, x := range seen {
		for _, i := range x.Looks {
			wanted[i] = true
		}
	}
	var out []Cause
	for n, p := range s.promising(seen, causes) {
		if n == pairsTried {
			break
		}
		pair := []mistakes.Mistake{causes[p.a].Mistakes[0], causes[p.b].Mistakes[0]}
		built, err := mistakes.Plant(s.Plan, pair...)
		if err != nil {
			continue
		}
		v := s.observe(built, nil, func(i int) bool { return wanted[i] || s.Looks[i].Kind == Gateway })
		c := s.judge(v, seen)
		if c.Beside, c.Pair = nil, true; len(c.Misses) > 0 {
			continue
		}
		c.Mistakes, c.score = pair, c.score+p.score
		out = append(out, c)
	}
	slices.SortStableFunc(out, func(a, b Cause) int { return cmp.Compare(b.score, a.score) })
	return out[:min(len(out), pairsTold)]
}

// promising orders the pairs of which each explains something that the other does not.
func (s *Study) promising(seen []Seen, causes []Cause) []promise {
	sets := make([]explained, len(causes))
	for i, c := range causes {
		sets[i] = explainedBy(seen, c)
	}
	const keep = 4 * pairsTried
	var out []promise
	for i, a := range causes {
		for k := i + 1; k < len(causes); k++ {
			if b := causes[k]; len(a.Mistakes) > 0 && len(b.Mistakes) > 0 && sets[i].adds(sets[k]) &&
				sets[k].adds(sets[i]) {
				weight := math.Log(a.Mistakes[0].Weight*b.Mistakes[0].Weight) - a.surprise - b.surprise
				out = append(out, promise{i, k, sets[i].missesWith(sets[k]), weight})
			}
		}
		if len(out) > 64*keep {
			out = bestPromises(out, keep)
		}
	}
	return bestPromises(out, keep)
}

func bestPromises(list []promise, keep int) []promise {
	slices.SortStableFunc(list, func(a, b promise) int {
		return cmp.Or(cmp.Compare(a.misses, b.misses), cmp.Compare(b.score, a.score))
	})
	return list[:min(len(list), keep)]
}

// explained is which of what was seen a cause explains, a bit for each: of what is not as
// planned, and of what is.
type explained struct{ odd, plain, isOdd []uint64 }

func explainedBy(seen []Seen, c Cause) explained {
	words := (len(seen) + 63) / 64
	e := explained{make([]uint64, words), make([]uint64, words), make([]uint64, words)}
	for n, x := range seen {
		bit := uint64(1) << (n % 64)
		fits := x.fits(c.Vector) < 1
		switch {
		case x.Value != Holds:
			if e.isOdd[n/64] |= bit; fits {
				e.odd[n/64] |= bit
			}
		case fits:
			e.plain[n/64] |= bit
		}
	}
	return e
}

// adds reports whether one explains something odd that another does not.
func (e explained) adds(o explained) bool {
	for i := range e.odd {
		if e.odd[i]&^o.odd[i] != 0 {
			return true
		}
	}
	return false
}

// missesWith counts what two together do not explain: what is odd one of them must, what
// is as planned both.
func (e explained) missesWith(o explained) (n int) {
	for i := range e.odd {
		n += bits.OnesCount64(e.isOdd[i] &^ (e.odd[i] | o.odd[i]))
		n -= bits.OnesCount64(e.plain[i] & o.plain[i])
	}
	return n
}

// helps reports whether a cause explains something that is not as planned.
func (s *Study) helps(c Cause, seen []Seen) bool {
	for _, x := range seen {
		if x.Value != Holds && x.fits(c.Vector) < 1 && x.fits(s.Base) >= 1 {
			return true
		}
	}
	return false
}

// Unexplained returns what of what was seen no cause of a list explains.
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

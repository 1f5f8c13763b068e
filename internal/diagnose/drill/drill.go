package drill

import (
	"crypto/hmac"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"

	"openbastion/internal/diagnose"
	"openbastion/internal/diagnose/mistakes"
	"openbastion/internal/simulator"
)

// Levels are how hard drills are: 1 a mistake that is often made and shows in much, 2 any
// mistake that shows, 3 two mistakes at once.
const Levels = 3

// Drill is a lab with something wrong in it. Make one with [New].
type Drill struct {
	Study    *diagnose.Study
	Level    int
	Seed     uint64
	Mistakes []mistakes.Mistake // that were planted: one, or two
	Built    mistakes.Built
	Vector   diagnose.Vector // what it shows
}

// New plants what a seed says into a lab whose study is done. fits tells which mistakes
// may be planted, nil: any. The error says that there is nothing to plant.
func New(s *diagnose.Study, level int, seed uint64, fits func(mistakes.Mistake) bool) (*Drill, error) {
	d, err := draw(s, level, rand.New(rand.NewPCG(seed, uint64(level))), fits)
	if err == nil {
		d.Seed = seed
	}
	return d, err
}

// NewSealed plants what the salt of a sealed drill says. No seed of [New] plants the same on purpose.
func NewSealed(s *diagnose.Study, level int, salt []byte, fits func(mistakes.Mistake) bool) (*Drill, error) {
	return draw(s, level, sealedBy(level, salt), fits)
}

// Sealed returns what [NewSealed] plants, without trying how it looks.
func Sealed(s *diagnose.Study, level int, salt []byte) ([]mistakes.Mistake, error) {
	d, err := pick(s, level, sealedBy(level, salt), nil)
	if err != nil {
		return nil, err
	}
	return d.Mistakes, nil
}

func sealedBy(level int, salt []byte) *rand.Rand {
	key := sha256.Sum256(append([]byte{'s', 'e', 'a', 'l', 'e', 'd', byte(level)}, salt...))
	return rand.New(rand.NewChaCha8(key))
}

func draw(s *diagnose.Study, level int, random *rand.Rand, fits func(mistakes.Mistake) bool) (*Drill, error) {
	d, err := pick(s, level, random, fits)
	if err != nil {
		return nil, err
	}
	d.Vector = s.Observe(d.Built)
	return d, nil
}

// pick draws mistakes that can be planted.
func pick(s *diagnose.Study, level int, random *rand.Rand, fits func(mistakes.Mistake) bool) (*Drill, error) {
	if level < 1 || level > Levels {
		return nil, fmt.Errorf("a level is from 1 to %d, not %d", Levels, level)
	}
	d := &Drill{Study: s, Level: level}
	choice := s.Showing(func(m mistakes.Mistake, symptoms int) bool {
		return (fits == nil || fits(m)) && (level > 1 || symptoms >= 2 && m.Weight >= 4)
	})
	if len(choice) == 0 {
		return nil, fmt.Errorf("there is nothing to plant in %s at level %d", s.Plan.Name, level)
	}
	for try := 0; ; try++ {
		d.Mistakes = []mistakes.Mistake{choice[random.IntN(len(choice))]}
		if level == Levels {
			d.Mistakes = append(d.Mistakes, choice[random.IntN(len(choice))])
			if d.Mistakes[0].Machine() == d.Mistakes[1].Machine() && try < 100 {
				continue // two in one place hide each other
			}
		}
		var err error
		if d.Built, err = mistakes.Plant(s.Plan, d.Mistakes...); err == nil {
			return d, nil
		}
		if try == 200 {
			return nil, err
		}
	}
}

// Plain reports whether it is a mistake that is made of settings and wiring alone, so that every stage
// can be built with it.
func Plain(m mistakes.Mistake) bool {
	b, err := mistakes.Plant(m.Plan, m)
	return err == nil && b.Trouble.None()
}

// Complaint returns what people at the bench came with: one or two things that do not work,
// those that tell least.
func (d *Drill) Complaint() []string { return d.Study.Complaints(d.Vector, 3-min(d.Level, 2)) }

// Right reports whether a mistake is what was planted, or looks exactly like it. With two
// planted it tells of each.
func (d *Drill) Right(m mistakes.Mistake) bool {
	for _, planted := range d.Mistakes {
		if m.ID() == planted.ID() || d.Study.Alike(m, planted) {
			return true
		}
	}
	return false
}

// Fewest returns the least number of looks after which only the planted mistake is left,
// of those that one may think of.
func (d *Drill) Fewest() int { return max(len(d.Study.Fewest(d.Vector)), len(d.Mistakes)) }

// Enough returns those looks, each with what it shows and what to do for it.
func (d *Drill) Enough() (out []string) {
	for _, i := range d.Study.Fewest(d.Vector) {
		question, answer, do := d.Study.Shown(i, d.Vector)
		out = append(out, fmt.Sprintf("%s It shows: %s. (%s)", question, answer, do))
	}
	return out
}

// Points returns what a person gets, of a hundred: all for as few looks as possible.
func (d *Drill) Points(looks, wrong int) int {
	few := d.Fewest()
	points := 100
	if over := looks - few; over > 0 {
		points -= 100 * over / (over + 3*few + 3)
	}
	return max(points-15*wrong, 0)
}

// Find returns the mistakes that words speak of: an ID, or all those words in the
// sentence or the name of the mistake, or what they mean, where that fits better.
func (d *Drill) Find(text string) []mistakes.Mistake {
	words := strings.Fields(strings.ToLower(text))
	var out []mistakes.Mistake
	for _, m := range d.Study.Mistakes {
		id := m.ID()
		if id == strings.TrimSpace(text) {
			return []mistakes.Mistake{m}
		}
		says := strings.ToLower(m.String() + " " + id)
		if len(words) > 0 && !slices.ContainsFunc(words, func(w string) bool { return !strings.Contains(says, w) }) {
			out = append(out, m)
		}
	}
	said, best := meant(text), 0.0
	for _, m := range out {
		best = max(best, fitting(said, m))
	}
	for _, f := range d.mean(said, d.named(text)) {
		if f.good > best+nearly { // so it is none of those
			out = append(out, f.Mistake)
		}
	}
	return out
}

// Bench brings the lab to life, for a person to look at.
func (d *Drill) Bench() *Bench {
	return &Bench{drill: d, lab: simulator.NewTroubled(d.Built.Plan, d.Built.Trouble)}
}

// Proof returns what shows that somebody named what was planted in a drill with a code: without the
// answer nobody makes it.
func Proof(code string, ids []string) string {
	mac := hmac.New(sha256.New, []byte("openbastion drill result "+code))
	for _, id := range slices.Sorted(slices.Values(ids)) {
		fmt.Fprintln(mac, id)
	}
	return hex.EncodeToString(mac.Sum(nil)[:8])
}

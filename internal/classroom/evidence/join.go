package evidence

import (
	"cmp"
	"fmt"
	"slices"
	"sync"
	"time"

	"openbastion/internal/model/plan"
	"openbastion/internal/model/sanitize"
	"openbastion/internal/verify/claims"
	"openbastion/internal/verify/verdict"
)

// File is a file of evidence that was read.
type File struct {
	Name string
	Evidence
}

// Remark is what joining found in one file, or between two.
type Remark struct {
	File    string `json:"file"`
	Subject string `json:"subject"` // a guest
	Text    string `json:"text"`
	Refused bool   `json:"refused"` // the file counts for nothing
}

// Joined is the evidence of several guests of one bench, put together.
type Joined struct {
	Bench   string
	Facts   claims.Facts
	Answers []claims.Answer
	Remarks []Remark
	Guests  []string             // that told something
	Made    time.Time            // the newest
	MadeBy  map[string]time.Time // by guest
}

// Outside is who stands in front of a lab's appliances.
const Outside = "outside"

// Of reports whether a question is one that a machine, or somebody outside, answers itself.
func Of(self string, what claims.Asking) bool {
	switch q := what.(type) {
	case claims.AskScan:
		return self == Outside
	case claims.AskReach:
		if q.From == (claims.Ref{}) {
			return self == Outside
		}
	case claims.AskAttack:
		return q.By == self
	}
	ref, ok := claims.Subject(what)
	return ok && ref.Machine == self
}

// Joiner puts evidence of a plan's benches together. It is for several goroutines at once.
type Joiner struct {
	plan *plan.Plan
	asks string // the digest of its questions

	mu    sync.Mutex
	asked map[stageFacts]map[string]claims.Asking // what is asked, by its name
}

// stageFacts are the facts that questions depend on.
type stageFacts struct {
	name    string
	witness claims.Witness
}

// For returns what joins evidence about a plan.
func For(p *plan.Plan) *Joiner {
	return &Joiner{plan: p, asks: claims.Digest(p), asked: map[stageFacts]map[string]claims.Asking{}}
}

// questions returns what the plan's claims ask where a witness is.
func (x *Joiner) questions(facts claims.Facts) map[string]claims.Asking {
	x.mu.Lock()
	defer x.mu.Unlock()
	by := stageFacts{facts.Name, facts.Witness}
	if x.asked[by] == nil {
		x.asked[by] = map[string]claims.Asking{}
		for _, q := range claims.Questions(x.plan, facts) {
			x.asked[by][q.ID] = q.Ask
		}
	}
	return x.asked[by]
}

// Join puts evidence of one bench together. What is of another plan, or answers other questions, is refused; of
// two files of one guest the newer counts; where two guests saw different things of the same,
// that is said. The first file says whose bench it is. What is silence only counts where the
// witness was reached by somebody.
func (x *Joiner) Join(files []File) (j Joined) {
	p, print := x.plan, x.plan.Fingerprint()
	j.MadeBy = map[string]time.Time{}
	if len(files) > 0 {
		j.Bench = files[0].Bench
	}
	files = slices.Clone(files)
	slices.SortStableFunc(files, func(a, b File) int { return b.Made.Compare(a.Made) }) // the newest first
	seen := map[string]string{}
	spoke := false
	var counted []File
	for _, f := range files {
		switch {
		case f.Lab != p.Name && f.Lab != "":
			j.refuse(f, fmt.Sprintf("it is for the lab %s", f.Lab))
		case f.Print != print:
			j.refuse(f, "it is for another plan: the lab file has changed since, or is a different one")
		case f.Asks != x.asks:
			j.refuse(
				f,
				fmt.Sprintf(
					"bastion %s asked other questions than this version: run the probe again with this version",
					f.Program,
				),
			)
		case p.Machine(f.Guest) == nil && f.Guest != Outside:
			j.refuse(f, fmt.Sprintf("the lab has no machine %q", f.Guest))
		case seen[f.Guest] != "":
			j.refuse(f, fmt.Sprintf("%s has newer evidence in %s", f.Guest, seen[f.Guest]))
		case f.Bench != j.Bench:
			j.refuse(f, fmt.Sprintf("it is from %s, but the first is from %s", benchText(f.Bench), benchText(j.Bench)))
		case differ(j.Facts.Witness, f.Facts.Witness):
			j.refuse(
				f,
				fmt.Sprintf(
					"it asked test server %s, but %s asked %s",
					witnessText(f.Facts.Witness),
					counted[0].Name,
					witnessText(j.Facts.Witness),
				),
			)
		default:
			seen[f.Guest] = f.Name
			j.Facts.Name = f.Facts.Name
			j.Facts.Witness.Address = cmp.Or(j.Facts.Witness.Address, f.Facts.Witness.Address)
			j.Facts.Witness.Name = cmp.Or(j.Facts.Witness.Name, f.Facts.Witness.Name)
			spoke = spoke || len(f.Reports) > 0
			counted = append(counted, f)
		}
	}
	for _, f := range counted {
		if f.Made.After(j.Made) {
			j.Made = f.Made
		}
		j.Guests = append(j.Guests, f.Guest)
		j.MadeBy[f.Guest] = f.Made
		j.Facts.Observed = append(j.Facts.Observed, own(f)...)
	}
	j.answers(x.questions(j.Facts), counted, spoke)
	j.contradictions(p, counted)
	return j
}

// mostUnplanned bounds what a machine may tell of what it has besides the plan.
const mostUnplanned = 64

// own returns what a machine observed of itself, made fit to show; of others it says nothing.
func own(f File) (out []claims.Observed) {
	for _, o := range f.Facts.Observed {
		if o.Machine != f.Guest {
			continue
		}
		o.Unplanned = slices.Clone(o.Unplanned[:min(len(o.Unplanned), mostUnplanned)])
		for i := range o.Unplanned {
			u := &o.Unplanned[i]
			u.Kind, u.Name, u.Why = short(u.Kind), short(u.Name), short(u.Why)
			u.Addresses = u.Addresses[:min(len(u.Addresses), 8)]
		}
		return []claims.Observed{o}
	}
	return nil
}

// short returns a text of one line and 100 characters at most.
func short(text string) string {
	r := []rune(sanitize.Line(text))
	return string(r[:min(len(r), 100)])
}

// differ tells two witnesses: what one does not say does not count.
func differ(a, b claims.Witness) bool {
	return a.Address.IsValid() && b.Address.IsValid() && a.Address != b.Address ||
		a.Name != "" && b.Name != "" && a.Name != b.Name
}

func witnessText(w claims.Witness) string {
	if w.Name == "" {
		return w.Address.String()
	}
	return w.Name + " (" + w.Address.String() + ")"
}

func benchText(bench string) string {
	if bench == "" {
		return "no bench"
	}
	return "the bench " + bench
}

func (j *Joined) refuse(f File, text string) {
	j.Remarks = append(j.Remarks, Remark{f.Name, f.Guest, text, true})
}

// answers takes each guest's answers to its own questions, and addresses that it was told of
// others where those do not tell them. What is silence only counts where somebody reached the
// witness.
func (j *Joined) answers(asked map[string]claims.Asking, files []File, spoke bool) {
	said := map[string]bool{}
	for _, own := range []bool{true, false} {
		for _, f := range files {
			for _, a := range f.Answers {
				what := asked[a.ID]
				_, address := what.(claims.AskAddress)
				if what == nil || Of(f.Guest, what) != own || !own && (!address || a.Missing != "" || said[a.ID]) {
					continue
				}
				if g, is := a.Got.(claims.GotAttack); is && len(g.Ways) == 0 && !spoke {
					a = claims.Answer{
						ID:      a.ID,
						Missing: "nothing has reached the test server, so it may be down: silence proves nothing",
					}
				}
				said[a.ID] = said[a.ID] || a.Missing == ""
				j.Answers = append(j.Answers, a)
			}
		}
	}
}

// contradictions tells guests of one segment that saw different lease servers.
func (j *Joined) contradictions(p *plan.Plan, files []File) {
	type saw struct{ guest, servers string }
	by := map[*plan.Segment][]saw{}
	for _, f := range files {
		for _, a := range f.Answers {
			g, is := a.Got.(claims.GotLease)
			if !is || g.Lease == nil || !g.Lease.Server.IsValid() {
				continue
			}
			m := p.Machine(f.Guest)
			if m == nil {
				continue
			}
			for _, ad := range m.Adapters {
				if ad.Segment.Subnet.IsValid() && ad.Segment.Subnet.Contains(g.Lease.Address.Addr()) ||
					len(m.Own()) == 1 {
					by[ad.Segment] = append(
						by[ad.Segment],
						saw{f.Guest, g.Lease.Server.String() + " (" + g.Lease.ServerMAC.String() + ")"},
					)
					break
				}
			}
		}
	}
	for _, s := range p.Segments {
		list := by[s]
		for _, x := range list[min(1, len(list)):] {
			if x.servers != list[0].servers {
				j.Remarks = append(
					j.Remarks,
					Remark{"", x.guest, fmt.Sprintf("on %s, %s has its lease from %s, and %s from %s", s.Name,
						list[0].guest, list[0].servers, x.guest, x.servers), false},
				)
			}
		}
	}
}

// outcome judges what all of them answered.
func (j Joined) outcome(p *plan.Plan) claims.Outcome {
	out := claims.Judge(p, j.Facts, j.Answers)
	out.Stage = claims.FieldStage
	return out
}

// Judge returns the one verdict.
func (j Joined) Judge(p *plan.Plan) verdict.Document { return verdict.Finish(p, j.outcome(p)) }

// Missing names guests that have told nothing.
func (j Joined) Missing(p *plan.Plan) (out []string) {
	for _, m := range p.Guests() {
		if !m.Off && !slices.Contains(j.Guests, m.Name) {
			out = append(out, m.Name)
		}
	}
	return out
}

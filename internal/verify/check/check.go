// Package check reads a plan as an experienced lab builder would and says what
// will go wrong. Each code of the catalogue is one entry: its severity, its
// function over the plan, its page for explain, and a lab that has it with the
// same lab mended.
package check

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"time"

	"openbastion/internal/model/lab"
	"openbastion/internal/model/plan"
	"openbastion/internal/verify/reachability"
)

// Severity says how bad a finding is.
type Severity string

// The severities.
const (
	Error   Severity = "error"   // isolation or reachability is broken
	Warning Severity = "warning" // will bite later, or depends on luck
	Note    Severity = "note"
)

func (s Severity) rank() int { return slices.Index([]Severity{Error, Warning, Note}, s) }

// AtLeast reports whether s is as bad as t or worse.
func (s Severity) AtLeast(t Severity) bool { return s.rank() <= t.rank() }

// Finding is one thing that is unwise or wrong in a layout.
type Finding struct {
	Code     string   `json:"code"`
	Severity Severity `json:"severity"`
	Subject  string   `json:"subject"`
	Message  string   `json:"message"`
	See      string   `json:"symptom"`            // what one would see if it were built so
	Remedy   string   `json:"remedy"`             // what to do about it
	Lines    []string `json:"lines"`              // what to write, where that is mechanical
	Accepted string   `json:"accepted,omitempty"` // why it is right here
	At       Place    `json:"place"`

	mends []mend
}

// Place is where in a file a finding stands.
type Place struct {
	File   string `json:"file"`
	Line   int    `json:"line"`
	Column int    `json:"column"`
}

// mend is a mechanical change to the lab file.
type mend struct {
	object     lab.Object
	key, value string
}

// Entry is a code of the catalogue.
type Entry struct {
	Code     string
	Severity Severity // the worst it can have
	Title    string
	See      string // what one would see in a guest or on the console
	Why      string
	Remedy   string
	Old, Bad string // in the example lab: a part, and what it is when the finding is there
	On       string // the day of the example, when it depends on one
	find     func(*checker)
}

// day returns the day of the entry's example; zero when it depends on none.
func (e Entry) day() time.Time {
	d, _ := time.Parse(time.DateOnly, e.On)
	return d
}

// Catalogue is every code, by family.
func Catalogue() []Entry {
	return slices.Concat(
		doors(),
		wires(),
		addresses(),
		leases(),
		rules(),
		exposure(),
		machines(),
		sizing(),
		lines(),
		unfinished(),
	)
}

// Lookup returns a code's entry.
func Lookup(code string) (Entry, bool) {
	for _, e := range Catalogue() {
		if e.Code == code {
			return e, true
		}
	}
	return Entry{}, false
}

type checker struct {
	p   *plan.Plan
	on  time.Time // the day to judge trials by; zero: not given
	out []Finding
	now *Entry

	proof *reachability.Model
}

// Run returns the findings of a plan, worst first, then by place. on is the day
// for what depends on one; zero leaves that out. What the lab file accepts
// comes last, marked so.
func Run(p *plan.Plan, on time.Time) []Finding {
	c := &checker{p: p, on: on}
	for _, e := range Catalogue() {
		c.now = &e
		e.find(c)
	}
	c.leaveOpen()
	c.accept()
	slices.SortStableFunc(c.out, func(a, b Finding) int {
		return cmp.Or(
			cmp.Compare(len(a.Accepted), 0)-cmp.Compare(len(b.Accepted), 0),
			a.Severity.rank()-b.Severity.rank(),
			a.At.Line-b.At.Line,
			a.At.Column-b.At.Column,
		)
	})
	return c.out
}

// adapters returns those of machines that are switched on and that are on a segment.
func (c *checker) adapters() []*plan.Adapter {
	return slices.DeleteFunc(slices.Clone(c.p.Adapters), func(a *plan.Adapter) bool {
		return a.Machine.Off || a.Role == lab.Unused || a.Port != nil && a.Role == "" || a.Segment.Nowhere()
	})
}

// guests returns those that are switched on.
func (c *checker) guests() []*plan.Machine {
	return slices.DeleteFunc(slices.Clone(c.p.Guests()), func(m *plan.Machine) bool { return m.Off })
}

// leaveOpen takes findings out that speak of what the file says is decided later.
func (c *checker) leaveOpen() {
	open := map[Place]bool{}
	for _, o := range c.p.Lab.Open {
		open[Place{c.p.Lab.File, o.Pos.Line, o.Pos.Column}] = true
	}
	c.out = slices.DeleteFunc(c.out, func(f Finding) bool { return open[f.At] && f.Code != undecidedCode })
}

// find notes a finding of the code at hand.
func (c *checker) find(subject string, at lab.Pos, remedy, message string, args ...any) *Finding {
	c.out = append(c.out, Finding{
		Code: c.now.Code, Severity: c.now.Severity, Subject: subject, Message: fmt.Sprintf(message, args...), See: c.now.See, Remedy: remedy,
		Lines: []string{}, At: Place{c.p.Lab.File, at.Line, at.Column},
	})
	return &c.out[len(c.out)-1]
}

// Undecided reports whether it is an open question: nothing is wrong, and something is missing.
func (f Finding) Undecided() bool { return f.Code == undecidedCode }

// see returns what one would see where that differs from what the code's entry
// says.
func (f *Finding) see(text string) *Finding { f.See = text; return f }

// set adds what to write: a key of an object of the lab file. It can be written mechanically unless
// it reverses a choice of the user: the file has the key with another word, such as plugged: false.
func (f *Finding) set(o lab.Object, key, value string) *Finding {
	if !lab.Written(o, key) || !isWord(value) {
		f.mends = append(f.mends, mend{o, key, value})
	}
	line := key + ": " + value
	switch o := o.(type) { // whose line it is
	case *lab.Port:
		line += "   # port " + o.Name
	case *lab.PortLeases:
		line += "   # under dhcp"
	case *lab.Machine:
		line += "   # under machine"
	case *lab.Segment:
		line += "   # segment " + o.Name
	case *lab.Guest:
		line += "   # guest " + o.Name
	case *lab.Appliance:
		line += "   # appliance " + o.Name
	}
	f.Lines = append(f.Lines, line)
	return f
}

// Mechanical reports whether the program can write what remedies it.
func (f Finding) Mechanical() bool { return len(f.mends) > 0 }

// isWord reports whether a value is a word or a list of words, not a quantity or an address.
func isWord(value string) bool {
	return strings.Trim(value, "abcdefghijklmnopqrstuvwxyz-[], ") == ""
}

func (f *Finding) as(s Severity) *Finding {
	f.Severity = s
	return f
}

// accept marks what the lab file takes on purpose, and notes what it accepts
// in vain.
func (c *checker) accept() {
	for i := range c.p.Lab.Accept {
		a := &c.p.Lab.Accept[i]
		used := false
		for j := range c.out {
			if f := &c.out[j]; f.Code == a.Code && (a.Subject == "" || a.Subject == f.Subject) {
				f.Accepted, used = a.Because, true
			}
		}
		if !used {
			c.now = &Entry{Code: "accepted-in-vain", Severity: Note}
			c.find(a.Code, a.Pos, "take the entry out of accept", "the file accepts %s, which is not a finding", a.Code)
		}
	}
}

// portName names a port as people say it.
func portName(a *plan.Adapter) string { return a.Machine.Name + "." + a.Name }

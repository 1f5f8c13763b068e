package runbook

import (
	"fmt"
	"strings"

	"openbastion/internal/model/plan"
	"openbastion/internal/verify/claims"
)

// Stage is how far a lab is built when a promise holds.
type Stage string

// The stages.
const (
	Absent Stage = "absent" // no appliance runs yet
	Inner  Stage = "inner"  // the appliances run, and no WAN is connected
	Whole  Stage = "whole"  // everything is on
)

// Promise is what must work at a stage, or must not.
type Promise struct {
	Text    string // %s is who tries
	Stage   Stage
	Guest   string // who tries
	To      Aim
	Answers bool
}

// Aim is what a promise is about.
type Aim string

// The aims.
const (
	Outward Aim = "outside"
	NextHop Aim = "gateway"
	Page    Aim = "admin"
)

// inner returns, for each inside segment of an appliance, a guest that leases or has an
// address there.
func inner(m *plan.Machine) []*plan.Adapter {
	var out []*plan.Adapter
	for _, a := range m.Adapters {
		if !a.Role.Inside() || a.Segment.Port != a {
			continue
		}
		for _, g := range a.Segment.Adapters {
			if g.Guest != nil && claims.InsideAdapter(g.Machine) == g {
				out = append(out, g)
				break
			}
		}
	}
	return out
}

// notYet returns what must not work before an appliance is built.
func (b *writer) notYet(m *plan.Machine) []Promise {
	if len(b.replaced(m)) > 0 || m.Appliance.Kind != "routed" {
		return nil // what it replaces serves until then, or the router beside it
	}
	var out []Promise
	for _, g := range inner(m) {
		if g.How == plan.FromAbove {
			continue
		}
		out = append(
			out,
			Promise{Text: "nothing outside answers %s; an answer now is a bypass of " + m.Name, Stage: Absent,
				Guest: g.Machine.Name, To: Outward},
		)
	}
	return out
}

// setUp returns what works once an appliance is set up.
func (b *writer) setUp(m *plan.Machine) []Promise {
	var out []Promise
	if m.Appliance.Kind != "routed" || len(b.replaced(m)) > 0 { // then guests are behind another so long
		return nil
	}
	outward := len(b.later(m)) > 0 || len(m.WAN()) > 0 && !connected(m.WAN())
	for _, g := range inner(m) {
		port := g.Segment.Port
		if len(port.Admin) > 0 && port.Address.IsValid() && decidesPage(m, g, port) {
			out = append(
				out,
				Promise{Text: "the page of " + m.Name + " opens in %s", Stage: Inner, Guest: g.Machine.Name,
					To: Page, Answers: true},
			)
		}
		if outward {
			out = append(out, Promise{Text: "nothing outside answers %s yet: no WAN is connected", Stage: Inner,
				Guest: g.Machine.Name, To: Outward})
		}
	}
	return out
}

// decidesPage reports whether the appliance answers a guest at its page.
func decidesPage(m *plan.Machine, g, port *plan.Adapter) bool {
	return answers(m, sourceAddress(g), port.Address.Addr(), "tcp", port.Admin[0].Port)
}

// connected reports whether all ports are.
func connected(list []*plan.Adapter) bool {
	for _, a := range list {
		if !a.Plugged {
			return false
		}
	}
	return true
}

// online returns what works once the guests are where they belong.
func (b *writer) online() []Promise {
	var out []Promise
	for _, m := range b.p.Running() {
		for _, g := range inner(m) {
			if m.Appliance.Kind != "routed" || !connected(m.WAN()) || !outward(m, len(b.p.Machines)) {
				continue
			}
			allowed := len(claims.AllowedServices(m, g.Segment, sourceAddress(g), witness)) > 0
			text := "outside answers %s"
			if !allowed {
				text = "nothing outside answers %s: the rules keep it in"
			}
			out = append(out, Promise{Text: text, Stage: Whole, Guest: g.Machine.Name, To: Outward, Answers: allowed})
		}
	}
	return out
}

// told writes promises as one sentence, what is alike once.
func told(list []Promise) string {
	var texts []string
	who := map[string][]string{}
	for _, p := range list {
		if who[p.Text] == nil {
			texts = append(texts, p.Text)
		}
		who[p.Text] = append(who[p.Text], p.Guest)
	}
	for i, t := range texts {
		texts[i] = fmt.Sprintf(t, strings.Join(who[t], ", "))
	}
	return strings.Join(texts, "; ")
}

// open lists what is not decided yet.
func (b *writer) open() Step {
	if len(b.p.Lab.Open) == 0 {
		return Step{}
	}
	s := Step{ID: "open", Title: "Decide what is still open",
		Why: "What depends on it is left out of this runbook, or planned so that it does no harm.",
		Table: &Table{
			Head: []string{"of", "question", "line"},
			Tick: true,
		}, See: "`bastion check` lists no open question."}
	for _, o := range b.p.Lab.Open {
		s.Table.Rows = append(s.Table.Rows, []string{o.Subject, o.Question + "?", fmt.Sprint(o.Pos.Line)})
	}
	s.Do = []string{
		"Write each into the lab file once it is decided; `bastion runbook LAB --since OLD.yaml` then shows what is new.",
	}
	s.Mistakes = []Mistake{{"something is built meanwhile as it happens to be", "the lab is another than the file"}}
	return s
}

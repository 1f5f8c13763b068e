package cli

import (
	"fmt"
	"maps"
	"net/netip"
	"slices"
	"strings"
	"time"

	"openbastion/internal/api"
	"openbastion/internal/diagnose"
	"openbastion/internal/diagnose/mistakes"
	"openbastion/internal/model/plan"
	"openbastion/internal/simulator"
	"openbastion/internal/verify/check"
	"openbastion/internal/verify/claims"
	"openbastion/internal/verify/reachability"
)

// maxRehearsed is how many misplacements are rehearsed to tell who would notice.
const maxRehearsed = 300

// felt are the checks whose failure somebody notices without testing: no address, no way, no name, no
// page, no published service.
var felt = []claims.Kind{claims.DHCP, claims.Gateway, claims.DNS, claims.Outside, claims.Published}

func (a *app) anyOneFault(p *plan.Plan) error {
	whole := p
	p, left := diagnose.Few(p, func(string) bool { return false })
	before := escapesOf(reachability.New(p, netip.Addr{}).Prove())
	was := check.Run(p, time.Time{})
	holds := holding(simulator.New(p).Outcome())
	list := mistakes.Misplaced(p)
	faults := []api.FaultRow{}
	show := a.progress("misplaced adapters")
	for i, m := range list {
		show(i, len(list))
		if a.ctx.Err() != nil {
			return a.ctx.Err()
		}
		changed, err := planOf(p, m.Lab(p))
		if err != nil {
			continue
		}
		f := api.FaultRow{Machine: m.Adapter.Machine.Name, Adapter: m.Adapter.Name, Segment: m.Segment,
			Escape: []string{}, Noticed: []string{}, Breaks: []string{}, Tried: len(list) <= maxRehearsed}
		for _, e := range reachability.New(changed, netip.Addr{}).Prove().Escapes {
			if !before[escapeKey(e)] {
				f.Escape = e.Path
				break
			}
		}
		if f.Tried {
			f.Noticed, f.Breaks = noticed(holds, simulator.New(changed).Outcome())
		}
		f.Found = check.New(was, changed)
		faults = append(faults, f)
	}
	show(0, 0)
	if a.format == "json" {
		return a.json(api.Faults{Schema: api.FaultsSchema, Lab: p.Name, Alike: left, Faults: faults})
	}
	a.tellFaults(whole, faults, left)
	return nil
}

// escapesOf returns the paths outside that a proof finds.
func escapesOf(d reachability.Document) map[string]bool {
	out := map[string]bool{}
	for _, e := range d.Escapes {
		out[escapeKey(e)] = true
	}
	return out
}

func escapeKey(e reachability.EscapeOf) string { return e.From + " " + strings.Join(e.Path, " ") }

// holding returns the claims that hold, by identifier.
func holding(out claims.Outcome) map[string]claims.Kind {
	holds := map[string]claims.Kind{}
	for _, r := range out.Claims {
		if r.Verdict == claims.Holds {
			holds[r.ID] = r.Kind
		}
	}
	return holds
}

// noticed returns which claims that held do not any more: those that somebody notices, also where the
// changed lab does not even make the claim, and the others.
func noticed(holds map[string]claims.Kind, changed claims.Outcome) (feel, others []string) {
	feel, others = []string{}, []string{}
	made := map[string]bool{}
	for _, r := range changed.Claims {
		made[r.ID] = true
		if kind, held := holds[r.ID]; !held || r.Verdict != claims.Broken || r.Follows != "" {
			continue
		} else if slices.Contains(felt, kind) {
			feel = append(feel, r.ID)
		} else {
			others = append(others, r.ID)
		}
	}
	for _, id := range slices.Sorted(maps.Keys(holds)) {
		if !made[id] && slices.Contains(felt, holds[id]) {
			feel = append(feel, id)
		}
	}
	return feel, others
}

func (a *app) tellFaults(p *plan.Plan, faults []api.FaultRow, left int) {
	s := a.screen()
	showTitle(s, p, "each adapter on each wrong segment")
	t := table{head: []string{"", "adapter", "on", "escape", "noticed by", "findings"}}
	opened, unnoticed, tried := 0, 0, true
	for _, f := range faults {
		c, way := cell{signNote, faint}, ""
		if len(f.Escape) > 0 {
			opened++
			c, way = cell{signBroken, broken}, strings.Join(f.Escape, " → ")
		}
		who := some(f.Noticed)
		switch tried = tried && f.Tried; {
		case !f.Tried:
			who = "not tried"
		case who == "" && len(f.Escape) > 0:
			unnoticed++
			who = "nobody"
		case who == "" && len(f.Breaks) > 0:
			who = "a check: " + some(f.Breaks)
		}
		t.add(c, cell{f.Machine + " " + f.Adapter, strong}, f.Segment, way, who, strings.Join(f.Found, ", "))
	}
	s.line()
	s.table(t)
	s.line()
	text := count(len(faults), "misplacement", "misplacements") + fmt.Sprintf(": %d open a bypass", opened)
	if tried {
		text += fmt.Sprintf(", %d of them without any symptom", unnoticed)
	} else {
		text += "; symptoms were not tried"
	}
	s.line(signNote, " ", text, ".")
	if left > 0 {
		s.para(
			2,
			2,
			faint,
			count(left, "guest", "guests")+" that differ from others by name alone are left out.",
		)
	}
}

// some names the first few of a list, and how many more there are.
func some(list []string) string {
	const few = 3
	text := strings.Join(list[:min(len(list), few)], ", ")
	if len(list) > few {
		text += fmt.Sprintf(" +%d", len(list)-few)
	}
	return text
}

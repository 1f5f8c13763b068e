package cli

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"time"

	"openbastion/internal/api"
	"openbastion/internal/diagnose/mistakes"
	"openbastion/internal/model/plan"
	"openbastion/internal/simulator"
	"openbastion/internal/verify/check"
	"openbastion/internal/verify/claims"
	"openbastion/internal/verify/reachability"
)

// maxRehearsed is how many misplacements are rehearsed to tell who would notice.
const maxRehearsed = 300

func (a *app) anyOneFault(p *plan.Plan) error {
	before := reachability.New(p, netip.Addr{}).Prove()
	was := check.Run(p, time.Time{})
	list := mistakes.Misplaced(p)
	faults := []api.FaultRow{}
	show := a.progress("misplaced adapters")
	for i, m := range list {
		show(i, len(list))
		if a.ctx.Err() != nil {
			return a.ctx.Err()
		}
		changed, err := planOf(p, m.Lab)
		if err != nil {
			continue
		}
		f := api.FaultRow{
			Machine: m.Adapter.Machine.Name,
			Adapter: m.Adapter.Name,
			Segment: m.Segment,
			Escape:  []string{},
			Noticed: []string{},
			Found:   []string{},
		}
		if doc := reachability.New(changed, netip.Addr{}).Prove(); len(doc.Escapes) > len(before.Escapes) {
			f.Escape = doc.Escapes[0].Path
		}
		if len(list) <= maxRehearsed {
			for _, r := range simulator.New(changed).Outcome().Claims {
				if r.Verdict == claims.Broken &&
					slices.Contains([]claims.Kind{claims.DHCP, claims.Gateway, claims.DNS, claims.Outside}, r.Kind) &&
					r.Follows == "" {
					f.Noticed = append(f.Noticed, r.ID)
				}
			}
		}
		f.Found = check.New(was, changed)
		faults = append(faults, f)
	}
	show(0, 0)
	if a.format == "json" {
		return a.json(api.Faults{Schema: api.FaultsSchema, Lab: p.Name, Faults: faults})
	}
	a.tellFaults(p, faults)
	return nil
}

func (a *app) tellFaults(p *plan.Plan, faults []api.FaultRow) {
	s := a.screen()
	showTitle(s, p, "each adapter on each wrong segment")
	t := table{head: []string{"", "adapter", "on", "escape", "noticed by", "findings"}}
	opened, unnoticed := 0, 0
	for _, f := range faults {
		c, way := cell{signNote, faint}, ""
		if len(f.Escape) > 0 {
			opened++
			c, way = cell{signBroken, broken}, strings.Join(f.Escape, " → ")
		}
		who := strings.Join(f.Noticed[:min(len(f.Noticed), 3)], ", ")
		if len(f.Noticed) > 3 {
			who += fmt.Sprintf(" +%d", len(f.Noticed)-3)
		}
		if who == "" && len(f.Escape) > 0 {
			unnoticed++
			who = "nobody"
		}
		t.add(c, cell{f.Machine + " " + f.Adapter, strong}, f.Segment, way, who, strings.Join(f.Found, ", "))
	}
	s.line()
	s.table(t)
	s.line()
	s.line(signNote, " ", count(len(faults), "misplacement", "misplacements"),
		fmt.Sprintf(": %d open a bypass, %d of them without any symptom.",
			opened, unnoticed))
}

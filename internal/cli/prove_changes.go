package cli

import (
	"errors"

	"openbastion/internal/api"
	"openbastion/internal/model/plan"
	"openbastion/internal/verify/claims"
	"openbastion/internal/verify/reachability"
)

// opened returns how many changes open a new path outside, and how many of these avoid every
// appliance.
func opened(p *plan.Plan, changes []reachability.Change) (paths, bypasses int) {
	for _, c := range changes {
		if len(c.Added) == 0 || c.To != "outside" || c.From == "outside" {
			continue
		}
		if paths++; len(through(p, c.Path)) == 0 {
			bypasses++
		}
	}
	return paths, bypasses
}

// changeSentence says what changed between two labs, what it opens first.
func changeSentence(changes []reachability.Change, paths, bypasses int) string {
	if len(changes) == 0 {
		return "Reachability is unchanged."
	}
	text := "Reachability changed for " + count(len(changes), "pair", "pairs")
	switch {
	case bypasses > 0:
		text += ": " + count(bypasses, "new bypass", "new bypasses")
		if paths > bypasses {
			text += ", " + count(paths-bypasses, "new path outside", "new paths outside")
		}
	case paths > 0:
		text += ": " + count(paths, "new path outside", "new paths outside")
	default:
		text += "; no new path outside"
	}
	return text + "."
}

// showChanges shows what passes differently. A new path outside is an error.
func (a *app) showChanges(p *plan.Plan, title string, changes []reachability.Change) error {
	paths, bypasses := opened(p, changes)
	var err error
	c, is := cell{signHolds, plain}, claims.Holds
	if paths > 0 {
		c, is, err = cell{signBroken, broken}, claims.Broken, failure{status: exitBroken}
	}
	if a.format == "json" {
		return errors.Join(
			a.json(api.Passes{Schema: api.PassesSchema, Lab: p.Name, Verdict: is, Changes: changes}),
			err,
		)
	}
	s := a.screen()
	a.title(s, p, title)
	s.line(s.paint(c.st, c.text), " ", changeSentence(changes, paths, bypasses))
	if a.quiet {
		return err
	}
	for i, c := range changes {
		if i == maxShown {
			s.line("  … and ", count(len(changes)-i, "pair more", "pairs more"), "; --format json has all")
			break
		}
		s.line()
		s.line("  ", s.paint(strong, c.From+" to "+c.To))
		for _, x := range c.Added[:min(len(c.Added), 4)] {
			s.para(4, 4, plain, s.paint(outside, "+")+" "+x)
		}
		for _, x := range c.Removed[:min(len(c.Removed), 4)] {
			s.para(4, 4, plain, s.paint(faint, "-")+" "+x)
		}
		if !c.Whole {
			s.para(4, 2, strong, "? compared in part only: the rules are too many. There may be more.")
		}
		if len(c.Path) > 0 {
			s.line("    ", pathLine(s, c.Path))
			s.para(4, 2, faint, "for example "+c.Packet.String())
		}
	}
	return err
}

package diagram

import (
	"fmt"
	"strings"
	"unicode/utf8"

	"openbastion/internal/model/lab"
	"openbastion/internal/model/plan"
	"openbastion/internal/model/sanitize"
	"openbastion/internal/verify/claims"
)

// Text draws the plan's tree in characters, at most width columns wide (from
// 40), as lines to print in a terminal or to keep in a README.
func Text(p *plan.Plan, o Options, width int) []string {
	d := &typed{t: grow(p, o), width: max(width, 40), judged: judge(o.Verdict)}
	head := p.Name
	if p.Lab.Title != "" {
		head += " · " + p.Lab.Title
	}
	d.line("", head)
	d.line("", "")
	d.line("", "outside")
	done := map[*gate]bool{}
	for _, r := range d.t.roots {
		lead := ""
		if r.seg.Reach == lab.Upstream {
			d.line("", "║ "+joined(r.seg))
		} else {
			d.line("", "")
		}
		d.bar(lead, r, '═')
		d.entries(lead+"  ", r)
		for _, g := range d.t.gates {
			if !done[g] && d.t.blocks[g.tops[len(g.tops)-1].Segment] == r {
				done[g] = true
				d.gate(lead+"  ", g)
			}
		}
	}
	for _, g := range d.t.gates {
		if !done[g] {
			d.gate("  ", g)
		}
	}
	for i, text := range asides(p) {
		if i == 0 {
			d.line("", "")
		}
		d.line("", text)
	}
	d.ways()
	return d.out
}

type typed struct {
	t      *tree
	width  int
	out    []string
	judged judged
}

func (d *typed) line(lead, text string) {
	line := []rune(strings.TrimRight(sanitize.Line(lead+text), " "))
	if len(line) > d.width {
		line = append(line[:d.width-1], '…')
	}
	d.out = append(d.out, string(line))
}

// bar writes a segment as a rule across the page with its name in it.
func (d *typed) bar(lead string, b *block, rule rune) {
	text := strings.Repeat(string(rule), 2) + " " + sign(d.judged.by[b.seg.Name]) + b.seg.Name + " "
	if why := d.judged.why[b.seg.Name]; why != nil {
		text += "(" + strings.Join(why, ", ") + ") "
	}
	for _, s := range about(b.seg) {
		if utf8.RuneCountInString(lead+text+s) > d.width-3 {
			break
		}
		text += "· " + s + " "
	}
	if n := d.width - utf8.RuneCountInString(lead+text); n > 0 {
		text += strings.Repeat(string(rule), n)
	}
	d.line(lead, text)
}

func (d *typed) entries(lead string, b *block) {
	name, address := 0, 0
	for _, e := range b.entries {
		name = max(name, utf8.RuneCountInString(e.name()))
		address = max(address, utf8.RuneCountInString(e.lines[0]))
	}
	for _, e := range b.entries {
		d.line(
			lead,
			fmt.Sprintf("· %s%-*s  %-*s  %s", sign(d.judged.worst(e)), name, e.name(), address, e.lines[0], e.tail),
		)
		for _, s := range e.lines[1:] {
			d.line(lead+strings.Repeat(" ", name+4), s)
		}
	}
}

func (d *typed) gate(lead string, g *gate) {
	for _, a := range g.tops {
		d.line(lead, d.port("│", a, len(g.tops) > 1))
	}
	d.line(lead, "█ "+sign(d.judged.by[g.m.Name])+g.m.Name+" █ "+g.details[0])
	for _, s := range g.details[1:] {
		d.line(lead, "█ "+s)
	}
	for _, a := range g.also {
		d.line(lead, d.port("├─", a, true))
	}
	for i, b := range g.below {
		stem, rest := "├─", "│ "
		if i == len(g.below)-1 {
			stem, rest = "└─", "  "
		}
		d.line(lead, "│")
		d.line(lead, d.port(stem, b.port, false))
		inner := lead + rest + " "
		d.bar(inner, b, '─')
		d.entries(inner+"  ", b)
		for _, below := range b.gates {
			d.gate(inner+"  ", below)
		}
	}
}

func (d *typed) port(stem string, a *plan.Adapter, on bool) string {
	text := stem + " " + strings.Join(port(a), " · ")
	if on {
		text += " on " + a.Segment.Name
	}
	return text
}

// sign returns a verdict as a sign and a space; empty for none.
func sign(v claims.Verdict) string {
	switch v {
	case claims.Holds:
		return "✓ "
	case claims.Broken:
		return "✗ "
	case claims.Unknown:
		return "? "
	}
	return ""
}

// ways lists the escapes.
func (d *typed) ways() {
	if len(d.judged.ways) == 0 {
		return
	}
	d.line("", "")
	for _, w := range d.judged.ways {
		d.line("", "✗ "+strings.Join(w.Path, " → "))
		d.line("    ", w.Tried)
	}
}

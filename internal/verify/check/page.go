package check

import (
	"fmt"
	"strings"

	"openbastion/internal/model/lab"
	"openbastion/internal/model/plan"
)

// Picture draws a plan in a few lines of text: outside at the top, the
// appliances, their inside segments with who is on them. marked names get a
// cross.
func Picture(p *plan.Plan, marked map[string]bool) []string {
	name := func(text string) string {
		if marked[text] {
			return "✗" + text
		}
		return text
	}
	onSegment := func(s *plan.Segment) string {
		var list []string
		if s.HostLeg.IsValid() {
			list = append(list, "the host")
		}
		for _, a := range s.Adapters {
			if a.Guest != nil && len(list) < 6 {
				list = append(list, name(a.Machine.Name))
			}
		}
		tag := ""
		if s.Tag != 0 {
			tag = fmt.Sprintf(", tag %d", s.Tag)
		}
		return strings.TrimSpace(fmt.Sprintf("%s %s%s  %s", name(s.Name), s.Subnet, tag, strings.Join(list, " ")))
	}
	lines := []string{"outside"}
	drawn := map[*plan.Segment]bool{}
	for _, s := range p.Segments {
		if s.Reach == lab.Upstream {
			lines = append(lines, "  │", "  "+onSegment(s))
			drawn[s] = true
		}
	}
	for _, m := range p.Appliances() {
		lines = append(lines, "  │", " ["+name(m.Name)+"]")
		var inner []*plan.Segment
		for _, a := range m.Adapters {
			if a.Role != lab.WAN && !drawn[a.Segment] {
				drawn[a.Segment] = true
				inner = append(inner, a.Segment)
			}
		}
		for i, s := range inner {
			branch := "  ├─ "
			if i == len(inner)-1 {
				branch = "  └─ "
			}
			lines = append(lines, branch+onSegment(s))
		}
	}
	for _, s := range p.Segments {
		if !drawn[s] {
			lines = append(lines, "", "  "+onSegment(s)+"  (no path)")
		}
	}
	return lines
}

// Page is what explain shows of a code.
type Page struct {
	Entry
	Picture []string // of the example lab, what is wrong marked
	Before  []string // the lines of the lab that has the finding
	After   []string // the same lines mended
	Message string   // what check says of it
	Remedy  string
}

// PageOf makes the page of an entry from its example.
func PageOf(e Entry) (Page, error) {
	bad, good := e.Labs()
	page := Page{Entry: e, Before: without(bad, good), After: without(good, bad)}
	l, err := lab.Read("example", []byte(bad))
	if err != nil {
		return page, err
	}
	l.Profiles = map[string]*lab.Profile{"reference": {
		Factory: lab.Factory{
			LAN:       factory,
			Scheme:    "https",
			AdminPort: 443,
		}, Roles: []lab.Role{lab.WAN, lab.LAN, lab.LAN},
	}}
	p, err := plan.Build(l)
	if err != nil {
		return page, err
	}
	marked := map[string]bool{}
	for _, f := range Run(p, e.day()) {
		if f.Code == e.Code {
			subject, _, _ := strings.Cut(f.Subject, ".")
			subject, _, _ = strings.Cut(subject, " ")
			marked[subject] = true
			if page.Message == "" {
				page.Message, page.Remedy = f.Message, f.Remedy
			}
		}
	}
	page.Picture = Picture(p, marked)
	return page, nil
}

// Part is some lines of the example under a title.
type Part struct {
	Title string
	Lines []string
	Bad   bool
}

// Parts returns the lines before and after the mend. Where one side has none,
// the title says so.
func (p Page) Parts() []Part {
	switch {
	case len(p.Before) == 0:
		return []Part{{"Missing before, there after", p.After, false}}
	case len(p.After) == 0:
		return []Part{{"There before, gone after", p.Before, true}}
	}
	return []Part{{"Before", p.Before, true}, {"After", p.After, false}}
}

// without returns the lines of a that b does not have.
func without(a, b string) []string {
	there := map[string]bool{}
	for line := range strings.Lines(b) {
		there[line] = true
	}
	out := []string{}
	for line := range strings.Lines(a) {
		if !there[line] {
			out = append(out, strings.TrimRight(line, "\n"))
		}
	}
	return out
}

// Markdown writes the whole catalogue as a document.
func Markdown() (string, error) {
	var b strings.Builder
	b.WriteString(
		"# Findings\n\nWhat `bastion check` finds, and what to do about it. This page is made by\n`bastion explain --form markdown`.\n",
	)
	for _, e := range Catalogue() {
		page, err := PageOf(e)
		if err != nil {
			return "", fmt.Errorf("check: page of %s: %w", e.Code, err)
		}
		fmt.Fprintf(&b, "\n## %s\n\n**%s** (%s). %s\n\n", e.Code, e.Title, e.Severity, e.Why)
		fmt.Fprintf(&b, "```text\n%s\n```\n\n", strings.Join(page.Picture, "\n"))
		fmt.Fprintf(&b, "- Symptom: %s\n- Message: %s.\n- Remedy: %s\n\n", e.See, page.Message, e.Remedy)
		for _, part := range page.Parts() {
			fmt.Fprintf(&b, "%s:\n\n```yaml\n%s\n```\n\n", part.Title, strings.Join(part.Lines, "\n"))
		}
	}
	return b.String(), nil
}

package runbook

import (
	"bytes"
	_ "embed"
	"fmt"
	"reflect"
	"slices"
	"strings"
	"unicode/utf8"

	g "maragu.dev/gomponents"
	h "maragu.dev/gomponents/html"

	"openbastion/internal/model/sanitize"
	"openbastion/internal/render/page"
)

// Steps returns all steps in order.
func (b Book) Steps() []Step {
	var out []Step
	for _, p := range b.Parts {
		out = append(out, p.Steps...)
	}
	return out
}

// PartOf returns the part that a step stands in, and whether it is the part's first or
// last step.
func (b Book) PartOf(step string) (part Part, first, last bool) {
	for _, p := range b.Parts {
		for i, s := range p.Steps {
			if s.ID == step {
				return p, i == 0, i == len(p.Steps)-1
			}
		}
	}
	return Part{}, false, false
}

// Since returns the steps of a book that are new or differ from those of an
// older one, and the titles of those that are gone. The tests of what is kept
// are left out: each changed step says what to see.
func Since(old, now Book) (changed Book, gone []string) {
	was := map[string]Step{}
	for _, s := range old.Steps() {
		was[s.ID] = s
	}
	changed = Book{Lab: now.Lab, Lead: now.Lead}
	for _, p := range now.Parts {
		part := Part{Title: p.Title, NotYet: p.NotYet, Now: p.Now, Unproved: p.Unproved}
		for _, s := range p.Steps {
			before, ok := was[s.ID]
			delete(was, s.ID)
			if ok && reflect.DeepEqual(before, s) {
				continue
			}
			if ok && s.Table != nil && before.Table != nil {
				s.Table = s.Table.since(*before.Table)
			}
			part.Steps = append(part.Steps, s)
		}
		if part.Steps != nil {
			changed.Parts = append(changed.Parts, part)
		}
	}
	for _, s := range old.Steps() {
		if _, left := was[s.ID]; left {
			gone = append(gone, s.Title)
		}
	}
	return changed, gone
}

// since returns a table with the rows marked that an older one had not, and
// after them those that are gone.
func (t Table) since(old Table) *Table {
	had := map[string]bool{}
	for _, r := range old.Rows {
		had[strings.Join(r, "\x00")] = true
	}
	out := Table{Head: append([]string{"change"}, t.Head...), Tick: t.Tick}
	for _, r := range t.Rows {
		mark := "new"
		if key := strings.Join(r, "\x00"); had[key] {
			mark = ""
			delete(had, key)
		}
		out.Rows = append(out.Rows, append([]string{mark}, r...))
	}
	for _, r := range old.Rows {
		if had[strings.Join(r, "\x00")] {
			out.Rows = append(out.Rows, append([]string{"remove"}, r...))
		}
	}
	return &out
}

// number returns a step's number, part and step.
func number(part, step int) string { return fmt.Sprintf("%d.%d", part+1, step+1) }

// Markdown writes the book with a box to tick at every step.
func (b Book) Markdown() []byte {
	var w bytes.Buffer
	escape := strings.NewReplacer("|", `\|`, "<", "&lt;").Replace
	plain := func(text string) string { return escape(sanitize.Line(strings.ReplaceAll(text, "\n", " "))) }
	if b.Warning != "" {
		fmt.Fprintf(&w, "> **✗ %s**\n\n", plain(b.Warning))
	}
	fmt.Fprintf(&w, "# Build %s\n", b.Lab)
	if b.Lead != "" {
		fmt.Fprintf(&w, "\n%s\n", plain(b.Lead))
	}
	for i, p := range b.Parts {
		fmt.Fprintf(&w, "\n## %d. %s\n", i+1, plain(p.Title))
		if len(p.NotYet) > 0 {
			fmt.Fprintf(&w, "\n**%s** %s.\n", notYetLead, plain(told(p.NotYet)))
		}
		for j, s := range p.Steps {
			fmt.Fprintf(&w, "\n### ☐ %s %s\n", number(i, j), plain(s.Title))
			if s.Why != "" {
				fmt.Fprintf(&w, "\n%s\n", plain(s.Why))
			}
			if len(s.Do) > 0 {
				w.WriteString("\n")
			}
			for _, d := range s.Do {
				fmt.Fprintf(&w, "- %s\n", plain(d))
			}
			if t := s.Table; t != nil {
				box, rule := "", ""
				if t.Tick {
					box, rule = "| ", "| --- "
				}
				fmt.Fprintf(
					&w,
					"\n%s| %s |\n%s|%s\n",
					box,
					strings.Join(t.Head, " | "),
					rule,
					strings.Repeat(" --- |", len(t.Head)),
				)
				for _, r := range t.Rows {
					if t.Tick {
						w.WriteString("| ☐ ")
					}
					cells := make([]string, len(r))
					for k, c := range r {
						cells[k] = plain(c)
					}
					fmt.Fprintf(&w, "| %s |\n", strings.Join(cells, " | "))
				}
			}
			fmt.Fprintf(&w, "\n**You should see:** %s\n", plain(s.See))
			for _, m := range s.Mistakes {
				fmt.Fprintf(&w, "\n*Often wrong:* %s. *You would see:* %s.\n", plain(m.What), plain(m.See))
			}
			if s.Keep != "" {
				fmt.Fprintf(&w, "\n**Keep:** %s\n", plain(s.Keep))
			}
		}
		for _, e := range p.end() {
			fmt.Fprintf(&w, "\n**%s** %s.\n", e[0], plain(e[1]))
		}
	}
	return w.Bytes()
}

// Text writes the book for a terminal or a printer, in lines of a width.
func (b Book) Text(width int) []byte {
	var w bytes.Buffer
	if b.Warning != "" {
		fmt.Fprintf(&w, "✗ %s\n\n", b.Warning)
	}
	fmt.Fprintf(&w, "Build %s\n", b.Lab)
	if b.Lead != "" {
		fmt.Fprintf(&w, "%s\n", b.Lead)
	}
	for i, p := range b.Parts {
		if b.Warning != "" && i > 0 {
			fmt.Fprintf(&w, "\n✗ %s\n", b.Warning)
		}
		fmt.Fprintf(&w, "\n%d. %s\n%s\n", i+1, p.Title, strings.Repeat("═", utf8.RuneCountInString(p.Title)+3))
		w.Write(p.Before(width))
		for j, s := range p.Steps {
			fmt.Fprintf(&w, "\n[ ] %s  %s\n", number(i, j), s.Title)
			w.Write(s.Text(width))
		}
		w.Write(p.After(width))
	}
	return w.Bytes()
}

// What promises of a part are told with.
const (
	notYetLead   = "Before this:"
	nowLead      = "Now:"
	unprovedLead = "Still unseen, should you stop here:"
)

// end returns what is told behind a part, each with its lead.
func (p Part) end() [][2]string {
	var out [][2]string
	if len(p.Now) > 0 {
		out = append(out, [2]string{nowLead, told(p.Now)})
	}
	if p.Unproved != "" {
		out = append(out, [2]string{unprovedLead, p.Unproved})
	}
	return out
}

// Before writes what must not work before a part; nothing where nothing is said of it.
func (p Part) Before(width int) []byte {
	if len(p.NotYet) == 0 {
		return nil
	}
	return []byte(strings.Join(fold(notYetLead+" "+told(p.NotYet)+".", width), "\n") + "\n")
}

// After writes what works behind a part, and what nobody has seen yet.
func (p Part) After(width int) []byte {
	var w bytes.Buffer
	for _, e := range p.end() {
		fmt.Fprintf(&w, "\n%s\n", strings.Join(fold(e[0]+" "+e[1]+".", width), "\n"))
	}
	return w.Bytes()
}

// Text writes what a step says under its title.
func (s Step) Text(width int) []byte {
	var w bytes.Buffer
	para := func(lead, text string) {
		indent := strings.Repeat(" ", utf8.RuneCountInString(lead))
		for i, line := range fold(text, width-len(indent)) {
			if i > 0 {
				lead = indent
			}
			w.WriteString(lead + line + "\n")
		}
	}
	if s.Why != "" {
		para("    ", s.Why)
	}
	for _, d := range s.Do {
		para("    - ", d)
	}
	if t := s.Table; t != nil && s.brief {
		t.columns(&w, width)
	} else if t != nil {
		for _, r := range t.Rows {
			box := "    · "
			if t.Tick {
				box = "    [ ] "
			}
			para(box, r[0])
			for k := 1; k < len(r); k++ {
				if r[k] != "" {
					para("        "+t.Head[k]+": ", r[k])
				}
			}
		}
	}
	see := "    You should see: "
	if s.brief {
		see = "    see: "
	}
	para(see, s.See)
	for _, m := range s.Mistakes {
		para("    Often wrong: ", m.What+". You would see: "+m.See+".")
	}
	if s.Keep != "" {
		para("    Keep: ", s.Keep)
	}
	return w.Bytes()
}

// fold breaks a text between words into lines of a width.
func fold(text string, width int) []string {
	var out []string
	line, n := "", 0
	for _, word := range strings.Fields(text) {
		size := utf8.RuneCountInString(word)
		if n > 0 && n+1+size > width {
			out = append(out, line)
			line, n = "", 0
		}
		if n > 0 {
			line += " "
			n++
		}
		line += word
		n += size
	}
	return append(out, line)
}

//go:embed runbook.css
var pageStyle string

//go:embed runbook.js
var pageScript string

// HTML writes the book as one page that needs nothing beside it, with a
// diagram. Ticks survive a reload: the browser keeps them.
func (b Book) HTML(diagram []byte) ([]byte, error) {
	body := g.Group{
		g.If(b.Warning != "", h.P(h.Class("warning"), g.Text("✗ "+b.Warning))), h.H1(g.Text("Build " + b.Lab)),
		h.P(h.Class("lead"), g.Text(b.Lead)), h.P(h.ID("progress")),
	}
	var nav, parts g.Group
	for i, p := range b.Parts {
		title := fmt.Sprintf("%d. %s", i+1, p.Title)
		nav = append(nav, h.A(h.Href(fmt.Sprintf("#part-%d", i+1)), g.Text(title)), g.Text(" "))
		parts = append(parts, h.H2(h.ID(fmt.Sprintf("part-%d", i+1)), g.Text(title)))
		if len(p.NotYet) > 0 {
			parts = append(parts, h.P(h.Class("stage"), h.Strong(g.Text(notYetLead)), g.Text(" "+told(p.NotYet)+".")))
		}
		for j, s := range p.Steps {
			parts = append(parts, s.html(number(i, j)))
		}
		for _, e := range p.end() {
			parts = append(parts, h.P(h.Class("stage"), h.Strong(g.Text(e[0])), g.Text(" "), page.Code(e[1]+".")))
		}
	}
	body = append(body, h.Nav(nav))
	if diagram != nil {
		body = append(body, page.Diagram(diagram))
	}
	return page.Write("Build "+b.Lab, pageStyle, pageScript, append(body, parts)...)
}

func tick(id string) g.Node { return h.Input(h.Type("checkbox"), h.Data("tick", id)) }

// html writes a step: what one follows, and folded away below it what the full book says besides.
func (s Step) html(number string) g.Node {
	short := s.Brief()
	out := g.Group{h.H3(h.Label(tick(s.ID), g.Text(number+" "+s.Title)))}
	if short.Do != nil {
		out = append(out, bullets(short.Do))
	}
	if t := short.Table; t != nil {
		out = append(out, t.html(s.ID))
	}
	out = append(out, h.P(h.Class("see"), g.Text("You should see: "), page.Code(s.See)))
	if s.Keep != "" {
		out = append(out, h.P(h.Class("keep"), page.Code("Keep: "+s.Keep)))
	}
	if more := s.more(short); len(more) > 0 {
		out = append(out, h.Details(h.Summary(g.Text("why, and what is often wrong")), more))
	}
	return h.Div(h.Class("step"), h.ID(s.ID), out)
}

// more is what the full book says of a step besides.
func (s Step) more(short Step) g.Group {
	var out g.Group
	if s.Why != "" {
		out = append(out, h.P(h.Class("faint"), page.Code(s.Why)))
	}
	rest := slices.DeleteFunc(slices.Clone(s.Do), func(d string) bool { return slices.Contains(short.Do, d) })
	if len(rest) > 0 {
		out = append(out, bullets(rest))
	}
	if s.Table != nil && len(s.Table.Head) != len(short.Table.Head) {
		full := *s.Table
		full.Tick = false
		out = append(out, full.html(""))
	}
	for _, m := range s.Mistakes {
		out = append(out, h.P(h.Class("wrong"), page.Code("Often wrong: "+m.What+". You would see: "+m.See+".")))
	}
	return out
}

func bullets(list []string) g.Node {
	return h.Ul(g.Map(list, func(d string) g.Node { return h.Li(page.Code(d)) }))
}

// html writes a table, with boxes of a step where its rows are ticked.
func (t Table) html(step string) g.Node {
	head, rows := t.Head, [][]g.Node{}
	if t.Tick {
		head = append([]string{""}, head...)
	}
	for k, r := range t.Rows {
		var cells []g.Node
		if t.Tick {
			cells = append(cells, g.Group{tick(fmt.Sprintf("%s/%d", step, k))})
		}
		for _, c := range r {
			cells = append(cells, g.Text(c))
		}
		rows = append(rows, cells)
	}
	return page.Table(head, rows)
}

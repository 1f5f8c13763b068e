package cli

import (
	"fmt"
	"strings"

	g "maragu.dev/gomponents"
	h "maragu.dev/gomponents/html"

	"openbastion/internal/api"
	"openbastion/internal/diagnose"
	"openbastion/internal/diagnose/mistakes"
	"openbastion/internal/model/plan"
	"openbastion/internal/render/page"
)

// symptomTable writes, for each mistake, what one would see.
func (a *app) symptomTable(p *plan.Plan, form, to string, replace bool) error {
	p, left := diagnose.Few(p, func(string) bool { return false })
	if left > 0 {
		a.note(
			fmt.Sprintf(
				"%s that differ from others by name alone are left out.",
				count(left, "guest", "guests"),
			),
		)
	}
	s, err := a.study(p)
	if err != nil {
		return err
	}
	rows := s.Table()
	if a.format == "json" {
		return a.json(symptomDocument(p, rows))
	}
	var data []byte
	switch form {
	case "markdown":
		data = symptomMarkdown(p, rows)
	case "html":
		if data, err = symptomPage(p, rows); err != nil {
			return err
		}
	default:
		if to == "" {
			a.showSymptoms(p, rows)
			return nil
		}
		return usage("a text table is printed; --to needs --form markdown or html")
	}
	if to == "" {
		_, err := a.out.Write(data)
		return err
	}
	return a.writeNew(to, data, replace)
}

// symptomRow is a row in words.
func symptomRow(r diagnose.Row) (what, see, family string) {
	var says []string
	for _, m := range r.Mistakes {
		says = append(says, m.String())
	}
	what = strings.Join(says, "; or ")
	if len(r.Like) > 0 {
		what += fmt.Sprintf(" (and so each of %s)", strings.Join(r.Like, ", "))
	}
	if see = strings.Join(r.See, "; "); see == "" {
		see = "nothing: no check shows it"
	}
	return what, see, string(r.Mistakes[0].Family)
}

// families returns the families of mistakes that rows have, in order.
func families(rows []diagnose.Row) []mistakes.Family {
	var out []mistakes.Family
	for _, f := range []mistakes.Family{mistakes.Wiring, mistakes.Addressing, mistakes.Leasing, mistakes.Naming, mistakes.Filtering,
		mistakes.Translating, mistakes.Operating} {
		for _, r := range rows {
			if r.Mistakes[0].Family == f {
				out = append(out, f)
				break
			}
		}
	}
	return out
}

func (a *app) showSymptoms(p *plan.Plan, rows []diagnose.Row) {
	s := a.screen()
	showTitle(s, p, fmt.Sprintf("the symptoms of %s", count(mistakesIn(rows), "mistake", "mistakes")))
	for _, f := range families(rows) {
		s.heading(string(f))
		t := table{head: []string{"when", "you see"}}
		for _, r := range rows {
			if what, see, family := symptomRow(r); family == string(f) {
				t.add(what, see)
			}
		}
		s.table(t)
	}
}

func mistakesIn(rows []diagnose.Row) (n int) {
	for _, r := range rows {
		n += len(r.Mistakes) * (1 + len(r.Like))
	}
	return n
}

func symptomMarkdown(p *plan.Plan, rows []diagnose.Row) []byte {
	var b strings.Builder
	fmt.Fprintf(&b, "# %s: from the sign to the mistake\n", p.Name)
	cellText := func(text string) string { return strings.ReplaceAll(text, "|", "\\|") }
	for _, f := range families(rows) {
		fmt.Fprintf(&b, "\n## %s\n\n| when | you see |\n| --- | --- |\n", f)
		for _, r := range rows {
			if what, see, family := symptomRow(r); family == string(f) {
				fmt.Fprintf(&b, "| %s | %s |\n", cellText(what), cellText(see))
			}
		}
	}
	return []byte(b.String())
}

func symptomPage(p *plan.Plan, rows []diagnose.Row) ([]byte, error) {
	var body []g.Node
	body = append(
		body,
		h.H1(g.Text(p.Name+": from the sign to the mistake")),
		h.P(
			g.Text(
				fmt.Sprintf(
					"What %d mistakes would look like in this lab, each rehearsed at its place.",
					mistakesIn(rows),
				),
			),
		),
	)
	for _, f := range families(rows) {
		var cells [][]g.Node
		for _, r := range rows {
			if what, see, family := symptomRow(r); family == string(f) {
				cells = append(cells, []g.Node{g.Text(what), g.Text(see)})
			}
		}
		body = append(body, h.H2(g.Text(string(f))), page.Table([]string{"when", "you see"}, cells))
	}
	return page.Write(p.Name+": symptoms", "", "", body...)
}

// symptomDocument is the table as JSON.
func symptomDocument(p *plan.Plan, rows []diagnose.Row) any {
	list := []api.Symptom{}
	for _, r := range rows {
		x := api.Symptom{
			Mistakes: []diagnose.Named{},
			Like:     append([]string{}, r.Like...),
			See:      append([]string{}, r.See...),
		}
		for _, m := range r.Mistakes {
			x.Mistakes = append(x.Mistakes, diagnose.Describe(m))
		}
		list = append(list, x)
	}
	return api.Symptoms{Schema: api.SymptomsSchema, Lab: p.Name, Rows: list}
}

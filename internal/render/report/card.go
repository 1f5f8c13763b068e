package report

import (
	"cmp"
	"fmt"
	"strings"

	g "maragu.dev/gomponents"
	h "maragu.dev/gomponents/html"

	"openbastion/internal/classroom/grade"
	"openbastion/internal/render/page"
	"openbastion/internal/verify/claims"
)

// Card writes what a bench gets for its work as one page: the points, what is missing, and why.
func Card(lab, title string, c grade.Card) ([]byte, error) {
	bench := cmp.Or(c.Bench, lab)
	banner, verdict := fmt.Sprintf("%s of %d points", Points(c.Points), c.Of), claims.Unknown
	if c.Passed != nil {
		verdict = claims.Broken
		if *c.Passed {
			verdict = claims.Holds
		}
		banner = map[bool]string{true: signs[claims.Holds] + " passed: ", false: signs[claims.Broken] + " not passed yet: "}[*c.Passed] + banner
	}
	var rows [][]g.Node
	for _, i := range c.Items {
		sign := signs[claims.Holds]
		if len(i.Missing) > 0 {
			sign = signs[claims.Broken]
		}
		var why g.Group
		for _, m := range i.Missing {
			why = append(why, h.Div(g.Text(m)))
		}
		rows = append(
			rows,
			[]g.Node{g.Text(sign), g.Text(i.Text), g.Text(fmt.Sprintf("%s of %d", Points(i.Points), i.Of)), why},
		)
	}
	var notes g.Group
	for _, n := range c.Notes {
		notes = append(notes, h.P(g.Text(signs[claims.Broken]+" "+n)))
	}
	return page.Write(bench+": "+banner, "", "",
		h.H1(g.Text(bench)), h.P(h.Class("lead"), g.Text(title)),
		h.Div(h.Class("banner "+string(verdict)), g.Text(banner)), notes,
		page.Table([]string{"", "for", "points", "what is missing, and why"}, rows))
}

// Points writes points without needless places.
func Points(x float64) string {
	return strings.TrimSuffix(strings.TrimRight(fmt.Sprintf("%.2f", x), "0"), ".")
}

package report

import (
	"fmt"

	g "maragu.dev/gomponents"
	h "maragu.dev/gomponents/html"

	"openbastion/internal/classroom/class"
	"openbastion/internal/render/page"
	"openbastion/internal/verify/claims"
)

// Class writes the verdicts on the benches of a class as one page: what does not hold on each, those first.
func Class(title string, v class.Verdict) ([]byte, error) {
	count := map[claims.Verdict]int{}
	var rows [][]g.Node
	for _, wanted := range []claims.Verdict{claims.Broken, claims.Unknown, claims.Holds} {
		for _, b := range v.Benches {
			if b.Verdict != wanted {
				continue
			}
			count[wanted]++
			rows = append(rows, []g.Node{g.Text(signs[b.Verdict]), g.Text(b.Title()), g.Text(b.Host),
				g.Text(fmt.Sprintf("%d of %d", b.Counts.Holds, b.Counts.Holds+b.Counts.Broken+b.Counts.Unknown)), openOf(b)})
		}
	}
	banner := fmt.Sprintf("%s %d of %d benches hold, %d broken, %d unknown", signs[v.Verdict], count[claims.Holds], len(v.Benches),
		count[claims.Broken], count[claims.Unknown])
	return page.Write(v.Lab+": "+banner, "", "", h.H1(g.Text(v.Lab)), h.P(h.Class("lead"), g.Text(title)),
		h.Div(h.Class("banner "+string(v.Verdict)), g.Text(banner)),
		page.Table([]string{"", "bench", "host", "checks that hold", "what does not"}, rows))
}

// openOf returns what does not hold on a bench: its causes alone, not what follows from them.
func openOf(b class.Judged) g.Node {
	if b.Why != "" {
		return h.Div(g.Text(b.Why))
	}
	var out g.Group
	for _, r := range b.Open {
		if r.Follows == "" {
			out = append(out, h.Div(g.Text(r.ID+": "+r.Observed)))
		}
	}
	for _, f := range b.Findings {
		out = append(out, h.Div(g.Text(f.Code+" "+f.Subject+": "+f.Message)))
	}
	return out
}

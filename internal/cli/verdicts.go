package cli

import (
	"encoding/json"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"openbastion/internal/classroom/class"
	"openbastion/internal/model/plan"
	"openbastion/internal/render/report"
	"openbastion/internal/verify/claims"
	"openbastion/internal/verify/verdict"
)

// isFolder reports whether what evidence is to be read from is one folder.
func isFolder(from []string) bool {
	if len(from) != 1 {
		return false
	}
	info, err := os.Stat(from[0])
	return err == nil && info.IsDir()
}

// fromFolder judges what lies in a folder: verdicts on benches, as start --results writes them, or evidence.
func (a *app) fromFolder(file string, trust trusted, folder string, reports []string, replace bool, who []class.Bench) error {
	list, err := filepath.Glob(filepath.Join(folder, "*"))
	if err != nil {
		return err
	}
	list = slices.DeleteFunc(list, func(name string) bool { return strings.HasPrefix(filepath.Base(name), ".") })
	if len(list) == 0 {
		return usage("nothing is in %s", folder)
	}
	p, err := a.load(file)
	if err != nil {
		return err
	}
	judged, verdicts := a.verdictsIn(p, list)
	for i := range judged {
		for _, b := range who {
			if b.Name == judged[i].Name {
				judged[i].For = b.For
			}
		}
	}
	if verdicts == 0 {
		return a.verifyFrom(file, trust, list, reports, replace)
	}
	return a.judgeClass(p, class.Whole(p.Name, judged[0].stage, benchesOf(judged)), folder, reports, replace)
}

// benchVerdict is what a file says of a bench.
type benchVerdict struct {
	class.Judged
	stage string
}

func benchesOf(list []benchVerdict) (out []class.Judged) {
	for _, b := range list {
		out = append(out, b.Judged)
	}
	return out
}

// verdictsIn reads the verdicts on a lab's benches, in the order of their numbers, and returns how many of the files are
// verdicts. A file that is none is a bench of which nothing is known.
func (a *app) verdictsIn(p *plan.Plan, list []string) (out []benchVerdict, verdicts int) {
	for _, name := range list {
		bench := class.Bench{Name: strings.TrimSuffix(filepath.Base(name), ".json")}
		var doc verdict.Document
		data, err := a.read(name, mostPacked)
		switch {
		case err != nil:
			out = append(out, benchVerdict{Judged: class.Unjudged(bench, err.Error())})
		case json.Unmarshal(data, &doc) != nil || doc.Schema != verdict.Schema:
			out = append(out, benchVerdict{Judged: class.Unjudged(bench, "its file is not a verdict")})
		case doc.Lab != p.Name && !strings.HasPrefix(doc.Lab, p.Name+"-"):
			verdicts++
			out = append(out, benchVerdict{Judged: class.Unjudged(bench, "its verdict is on the lab "+doc.Lab)})
		default:
			verdicts++
			bench.Name = doc.Lab
			out = append(out, benchVerdict{class.Judge(bench, doc), doc.Stage})
		}
	}
	slices.SortStableFunc(out, func(x, y benchVerdict) int {
		if len(x.Name) != len(y.Name) {
			return len(x.Name) - len(y.Name)
		}
		return strings.Compare(x.Name, y.Name)
	})
	return out, verdicts
}

// judgeClass shows the one verdict on a class whose verdicts came from a folder.
func (a *app) judgeClass(p *plan.Plan, v class.Verdict, folder string, reports []string, replace bool) error {
	if a.format == "json" {
		if err := a.json(v); err != nil {
			return err
		}
	} else {
		s := a.screen()
		if !a.quiet {
			s.line(s.paint(strong, v.Lab), "  ", s.paint(faint, count(len(v.Benches), "bench", "benches")+", from "+folder))
		}
		if a.wholeVerdict(s, v); !a.quiet {
			a.openBenches(s, v)
		}
	}
	if err := a.classPages(p, v, reports, replace); err != nil {
		return err
	}
	if v.Verdict != claims.Holds {
		return failure{status: exitBroken}
	}
	return nil
}

// classPages writes the verdict on a class as pages.
func (a *app) classPages(p *plan.Plan, v class.Verdict, reports []string, replace bool) error {
	for _, to := range reports {
		if !strings.HasSuffix(to, ".html") {
			return usage("the report on a class is a page: %s ends in .html", filepath.Base(to))
		}
		data, err := report.Class(p.Lab.Title, v)
		if err != nil {
			return err
		}
		if err := a.writeNew(to, data, replace); err != nil {
			return notWritten(err)
		}
	}
	return nil
}

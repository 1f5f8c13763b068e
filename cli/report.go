package cli

import (
	"bytes"
	"encoding/xml"
	"fmt"
	"path/filepath"
	"strings"

	"openbastion/core/claims"
	"openbastion/core/plan"
)

// against rehearses a lab as it was before and shows which claims changed.
func (a *app) against(p *plan.Plan, doc claims.Document, file string) error {
	old, err := a.load(file)
	if err != nil {
		return err
	}
	before, _, err := a.rehearsal(old, "")
	if err != nil {
		return err
	}
	changes, same := claims.Changes(before, doc)
	if a.format == "json" {
		return a.json(struct {
			Schema  string          `json:"schema"`
			Lab     string          `json:"lab"`
			Before  claims.Verdict  `json:"before"`
			After   claims.Verdict  `json:"after"`
			Same    int             `json:"same"`
			Changes []claims.Change `json:"changes"`
		}{"openbastion.changes/1", p.Name, before.Verdict, doc.Verdict, same, append([]claims.Change{}, changes...)})
	}
	s := a.screen()
	showTitle(s, p, "rehearsed against "+file)
	t := table{head: []string{"before", "after", "claim", "what is seen"}}
	for _, c := range changes {
		b, n := verdictCell(c.Before), verdictCell(c.After)
		b.text, n.text = centered(b.text, 6), centered(n.text, 5)
		saw := cell{text: c.Saw}
		if c.Follows != "" {
			saw = cell{"follows from " + c.Follows, faint}
		}
		t.add(b, n, cell{c.ID, strong}, saw)
	}
	s.line()
	s.table(t)
	if len(changes) > 0 {
		s.line()
	}
	s.line(fmt.Sprintf("%s changed, %d stayed as they were.", count(len(changes), "claim", "claims"), same))
	return nil
}

// report writes a verdict into a file, in the form that its name asks for.
func (a *app) report(file string, p *plan.Plan, doc claims.Document) error {
	var data []byte
	var err error
	switch strings.ToLower(filepath.Ext(file)) {
	case ".md":
		data = markdownReport(p, doc)
	case ".xml":
		data, err = junit(doc)
	default:
		return usage("--report writes .md or .xml, and %s is neither", file)
	}
	if err == nil {
		err = writeNew(file, data, true)
	}
	if err == nil {
		a.note("the verdict is in " + file)
	}
	return err
}

// markdownReport writes a verdict as a page: the matrix, what does not hold,
// then every claim with its evidence.
func markdownReport(p *plan.Plan, doc claims.Document) []byte {
	var b bytes.Buffer
	plain := func(s string) string {
		return strings.NewReplacer("|", `\|`, "\n", " ", "<", "&lt;").Replace(s)
	}
	sign := map[claims.Verdict]string{claims.Holds: signHolds + " holds", claims.Broken: signBroken + " **broken**", claims.Unknown: signUnknown + " unknown"}
	fmt.Fprintf(&b, "# %s: %s\n\n", p.Name, doc.Stage)
	if p.Lab.Title != "" {
		fmt.Fprintf(&b, "%s\n\n", plain(p.Lab.Title))
	}
	n := map[claims.Verdict]int{}
	for _, r := range doc.Claims {
		n[r.Verdict]++
	}
	fmt.Fprintf(&b, "%s: %d claims hold, %d are broken, %d unknown.\n", sign[doc.Verdict], n[claims.Holds], n[claims.Broken], n[claims.Unknown])
	if n[claims.Broken]+n[claims.Unknown] > 0 {
		b.WriteString("\n## What does not hold\n")
		for _, r := range doc.Claims {
			if r.Verdict == claims.Holds {
				continue
			}
			fmt.Fprintf(&b, "\n### %s\n\n%s\n", r.ID, plain(r.Saw))
			for _, w := range r.Escapes {
				fmt.Fprintf(&b, "\n- %s → %s by `%s`: %s\n", w.From, w.To, strings.Join(w.Path, " → "), plain(w.Tried))
			}
			if r.Follows != "" {
				fmt.Fprintf(&b, "\nIt follows from %s.\n", r.Follows)
			}
			if r.Try != "" {
				fmt.Fprintf(&b, "\nTry: %s.\n", plain(r.Try))
			}
		}
	}
	b.WriteString("\n## All claims\n\n| claim | verdict | what is seen | evidence |\n| --- | --- | --- | --- |\n")
	for _, r := range doc.Claims {
		evidence := r.Evidence[:min(len(r.Evidence), maxEvidence)]
		more := ""
		if len(r.Evidence) > maxEvidence {
			more = fmt.Sprintf("; and %d more", len(r.Evidence)-maxEvidence)
		}
		fmt.Fprintf(&b, "| %s | %s | %s | %s%s |\n", plain(r.ID), sign[r.Verdict], plain(r.Saw), plain(strings.Join(evidence, "; ")), more)
	}
	return b.Bytes()
}

// The form of test results that build servers read.
type junitSuites struct {
	XMLName  xml.Name     `xml:"testsuites"`
	Name     string       `xml:"name,attr"`
	Tests    int          `xml:"tests,attr"`
	Failures int          `xml:"failures,attr"`
	Skipped  int          `xml:"skipped,attr"`
	Suites   []junitSuite `xml:"testsuite"`
}

type junitSuite struct {
	Name     string      `xml:"name,attr"`
	Tests    int         `xml:"tests,attr"`
	Failures int         `xml:"failures,attr"`
	Skipped  int         `xml:"skipped,attr"`
	Cases    []junitCase `xml:"testcase"`
}

type junitCase struct {
	Class   string     `xml:"classname,attr"`
	Name    string     `xml:"name,attr"`
	Failure *junitText `xml:"failure,omitempty"`
	Skipped *junitText `xml:"skipped,omitempty"`
	Out     string     `xml:"system-out,omitempty"`
}

type junitText struct {
	Message string `xml:"message,attr"`
	Text    string `xml:",chardata"`
}

// junit writes a verdict as test results: a suite for each kind of claim, a
// case for each claim. What is unknown was skipped, and no claim is passed for
// want of evidence.
func junit(doc claims.Document) ([]byte, error) {
	all := junitSuites{Name: doc.Lab + " " + doc.Stage}
	at := map[claims.Kind]int{}
	for _, r := range doc.Claims {
		if _, ok := at[r.Kind]; !ok {
			at[r.Kind] = len(all.Suites)
			all.Suites = append(all.Suites, junitSuite{Name: doc.Lab + "." + string(r.Kind)})
		}
		s := &all.Suites[at[r.Kind]]
		c := junitCase{Class: doc.Lab + "." + string(r.Kind), Name: r.ID, Out: strings.Join(append([]string{r.Saw}, r.Evidence...), "\n")}
		switch r.Verdict {
		case claims.Broken:
			c.Failure = &junitText{r.Saw, r.Try}
			s.Failures, all.Failures = s.Failures+1, all.Failures+1
		case claims.Unknown:
			c.Skipped = &junitText{Message: r.Saw}
			s.Skipped, all.Skipped = s.Skipped+1, all.Skipped+1
		}
		s.Tests, all.Tests = s.Tests+1, all.Tests+1
		s.Cases = append(s.Cases, c)
	}
	data, err := xml.MarshalIndent(all, "", "  ")
	return append([]byte(xml.Header), append(data, '\n')...), err
}

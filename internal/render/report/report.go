// Package report writes what a stage found into files: as a page for people
// (HTML, or Markdown for where the lab file lives), and as test results for
// build servers (JUnit XML).
package report

import (
	"bytes"
	"encoding/xml"
	"fmt"
	"strings"

	"openbastion/internal/model/plan"
	"openbastion/internal/model/sanitize"
	"openbastion/internal/verify/claims"
	"openbastion/internal/verify/verdict"
)

var signs = map[claims.Verdict]string{claims.Holds: "✓", claims.Broken: "✗", claims.Unknown: "?"}

// maxEvidence bounds the lines of evidence of a claim in Markdown.
const maxEvidence = 6

// Markdown writes a verdict as a page: the matrix, what does not hold,
// then every claim with its evidence.
func Markdown(p *plan.Plan, doc verdict.Document) []byte {
	var b bytes.Buffer
	plain := func(s string) string {
		return strings.NewReplacer("|", `\|`, "<", "&lt;").Replace(sanitize.Line(strings.ReplaceAll(s, "\n", " ")))
	}
	sign := map[claims.Verdict]string{
		claims.Holds:   signs[claims.Holds] + " holds",
		claims.Broken:  signs[claims.Broken] + " **broken**",
		claims.Unknown: signs[claims.Unknown] + " unknown",
	}
	fmt.Fprintf(&b, "# %s: %s\n\n", p.Name, doc.Stage)
	if p.Lab.Title != "" {
		fmt.Fprintf(&b, "%s\n\n", plain(p.Lab.Title))
	}
	fmt.Fprintf(&b, "%s %s\n", signs[doc.Verdict], doc.Summary())
	for i, c := range doc.Causes {
		if i == 0 {
			b.WriteString("\n## Causes\n\n")
		}
		place := ""
		if c.File != "" {
			place = fmt.Sprintf(" (%s:%d)", plain(c.File), c.Line)
		}
		fmt.Fprintf(&b, "- ✗ **%s**%s: %s\n", plain(c.Code), place, plain(c.Message))
		if len(c.Bypass) > 0 {
			fmt.Fprintf(&b, "  - bypass: `%s`\n", strings.Join(c.Bypass, " → "))
		}
		if c.Remedy != "" {
			fmt.Fprintf(&b, "  - remedy: %s\n", plain(c.Remedy))
		}
		if len(c.Explains) > 0 {
			fmt.Fprintf(&b, "  - knock-on: %s\n", plain(strings.Join(c.Explains, ", ")))
		}
	}
	b.WriteString("\n## All claims\n\n| claim | verdict | observed | evidence |\n| --- | --- | --- | --- |\n")
	for _, r := range doc.Claims {
		var evidence []string
		for _, e := range r.Evidence[:min(len(r.Evidence), maxEvidence)] {
			evidence = append(evidence, e.String())
		}
		more := ""
		if len(r.Evidence) > maxEvidence {
			more = fmt.Sprintf("; and %d more", len(r.Evidence)-maxEvidence)
		}
		fmt.Fprintf(
			&b,
			"| %s | %s | %s | %s%s |\n",
			plain(r.ID),
			sign[r.Verdict],
			plain(r.Observed),
			plain(strings.Join(evidence, "; ")),
			more,
		)
	}
	fmt.Fprintf(
		&b,
		"\n## Scope\n\n%s The proof covers %s. It assumes:\n\n",
		plain(doc.Introduction()),
		plain(doc.Proof.Covers),
	)
	for _, text := range doc.Proof.Assumes {
		fmt.Fprintf(&b, "- %s\n", plain(text))
	}
	for _, text := range doc.Proof.Disagree {
		fmt.Fprintf(&b, "- ✗ %s: %s\n", doc.Differs(), plain(text))
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

// layoutSuite has a case that fails for each error of check that no claim shows, and
// for each place where proof and stage say different things.
func layoutSuite(doc verdict.Document) junitSuite {
	s := junitSuite{Name: doc.Lab + ".check"}
	for _, f := range doc.Findings {
		s.Cases = append(
			s.Cases,
			junitCase{Class: s.Name, Name: f.Code + " " + f.Subject, Failure: &junitText{f.Message, f.Remedy}},
		)
	}
	for _, text := range doc.Proof.Disagree {
		s.Cases = append(s.Cases, junitCase{Class: s.Name, Name: "proof", Failure: &junitText{text, doc.Differs()}})
	}
	s.Tests, s.Failures = len(s.Cases), len(s.Cases)
	return s
}

// JUnit writes a verdict as test results: a suite for each kind of claim, a
// case for each claim. What is unknown was skipped, and no claim is passed for
// want of evidence.
func JUnit(doc verdict.Document) ([]byte, error) {
	all := junitSuites{Name: doc.Lab + " " + doc.Stage}
	at := map[claims.Kind]int{}
	for _, r := range doc.Claims {
		if _, ok := at[r.Kind]; !ok {
			at[r.Kind] = len(all.Suites)
			all.Suites = append(all.Suites, junitSuite{Name: doc.Lab + "." + string(r.Kind)})
		}
		s := &all.Suites[at[r.Kind]]
		c := junitCase{Class: doc.Lab + "." + string(r.Kind), Name: r.ID, Out: r.Observed}
		for _, e := range r.Evidence {
			c.Out += "\n" + e.String()
		}
		switch r.Verdict {
		case claims.Broken:
			c.Failure = &junitText{r.Observed, r.Remedy}
			s.Failures, all.Failures = s.Failures+1, all.Failures+1
		case claims.Unknown:
			c.Skipped = &junitText{Message: r.Observed}
			s.Skipped, all.Skipped = s.Skipped+1, all.Skipped+1
		}
		s.Tests, all.Tests = s.Tests+1, all.Tests+1
		s.Cases = append(s.Cases, c)
	}
	if s := layoutSuite(doc); s.Tests > 0 {
		all.Suites = append(all.Suites, s)
		all.Tests, all.Failures = all.Tests+s.Tests, all.Failures+s.Failures
	}
	data, err := xml.MarshalIndent(all, "", "  ")
	return append([]byte(xml.Header), append(data, '\n')...), err
}

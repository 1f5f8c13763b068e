package cli

import (
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"openbastion/internal/api"
	"openbastion/internal/model/lab"
	"openbastion/internal/verify/check"
	"openbastion/internal/verify/claims"
	"openbastion/internal/verify/explain"
)

func (a *app) explain() *cobra.Command {
	var form string
	c := &cobra.Command{
		Use: "explain [CODE|WORD]", Short: "Explain a word, a finding or a check",
		Long: "Without a word it lists all findings and terms; with --form markdown it prints the findings' pages.",
		Args: cobra.ArbitraryArgs,
		RunE: func(_ *cobra.Command, args []string) error {
			if err := a.wantForm(form, "text", "markdown"); err != nil {
				return err
			}
			name := strings.ToLower(strings.Join(args, " "))
			switch {
			case form == "markdown":
				text, err := check.Markdown()
				if err == nil {
					a.screen().write(text)
				}
				return err
			case name == "":
				return a.explainAll()
			}
			return a.explainWord(name)
		},
	}
	c.Flags().StringVar(&form, "form", "text", "text, or markdown: the findings' pages")
	return c
}

// explainWord shows the page of a finding, or of a word.
func (a *app) explainWord(name string) error {
	if e, ok := check.Lookup(name); ok {
		return a.explainFinding(e)
	}
	w, ok := explain.Find(name)
	if !ok {
		return unknownWord(name)
	}
	if a.format == "json" {
		return a.explainJSON([]explain.Word{w}, nil)
	}
	s := a.screen()
	showWord(s, w)
	if w.Name == "claim" {
		showClaimKinds(s)
	}
	return nil
}

// unknownWord is the error for a word that is not explained, with the nearest ones by letters, else
// by meaning.
func unknownWord(name string) error {
	known := findingCodes()
	for _, k := range explain.Words() {
		known = append(append(known, k.Name), k.Also...)
	}
	hint := "bastion explain lists all words"
	if near := lab.Nearest(name, known); near != "" {
		hint = "did you mean " + near + "?"
	} else if near := explain.Near(name); len(near) > 0 {
		hint = "see also: " + strings.Join(near, ", ")
	}
	return failure{exitUsage, "no explanation of " + strconv.Quote(name), hint}
}

// showClaimKinds lists the kinds of claims.
func showClaimKinds(s *screen) {
	t := table{}
	for _, k := range claims.Kinds {
		t.add(cell{string(k), strong}, k.Title())
	}
	s.below(t)
}

func (a *app) explainJSON(words []explain.Word, entries []check.Entry) error {
	doc := api.Words{Schema: api.WordsSchema, Words: words, Findings: []api.FindingPage{}}
	for _, e := range entries {
		page, err := check.PageOf(e)
		if err != nil {
			return err
		}
		doc.Findings = append(
			doc.Findings,
			api.FindingPage{Code: e.Code, Severity: e.Severity, Title: e.Title, See: e.See,
				Why: e.Why, Remedy: e.Remedy, Before: page.Before, After: page.After},
		)
	}
	return a.json(doc)
}

func (a *app) explainAll() error {
	if a.format == "json" {
		return a.explainJSON(explain.Words(), check.Catalogue())
	}
	s := a.screen()
	t := table{}
	for _, e := range check.Catalogue() {
		c := severityCell(e.Severity)
		t.add(c, e.Code, cell{e.Title, faint})
	}
	s.section(section{"Findings", t})
	words := table{}
	for _, w := range explain.Words() {
		words.add(w.Name, cell{strings.Join(w.Also, ", "), faint})
	}
	s.section(section{"Terms and claims", words})
	return nil
}

func (a *app) explainFinding(e check.Entry) error {
	if a.format == "json" {
		return a.explainJSON(nil, []check.Entry{e})
	}
	page, err := check.PageOf(e)
	if err != nil {
		return err
	}
	s := a.screen()
	c := severityCell(e.Severity)
	s.line(s.paint(c.st, c.text), " ", s.paint(strong, e.Code), "  ", e.Title, "  ", s.paint(faint, string(e.Severity)))
	s.line()
	for _, l := range page.Picture {
		st := plain
		if strings.Contains(l, signBroken) {
			st = broken
		}
		s.line("    ", s.paint(st, l))
	}
	s.line()
	s.para(2, 0, plain, e.Why)
	s.para(2, 2, plain, "Symptom: "+e.See)
	s.para(2, 2, strong, "Remedy: "+e.Remedy)
	for _, part := range page.Parts() {
		st := inside
		if part.Bad {
			st = broken
		}
		s.heading(part.Title)
		for _, l := range part.Lines {
			s.line("  ", s.paint(st, l))
		}
	}
	return nil
}

func showWord(s *screen, w explain.Word) {
	s.line(s.paint(strong, w.Name), "  ", s.paint(faint, strings.Join(w.Also, ", ")))
	s.para(2, 0, plain, w.Text)
	if w.Real != "" {
		s.para(2, 0, faint, "In a real installation: "+w.Real)
	}
}

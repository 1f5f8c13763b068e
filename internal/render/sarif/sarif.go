// Package sarif writes findings in the Static Analysis Results Interchange
// Format (OASIS SARIF 2.1.0), which code hosts show as annotations at the line.
package sarif

import (
	"encoding/json"
	"io"

	"openbastion/internal/verify/check"
)

// levels are SARIF's words for the severities.
var levels = map[check.Severity]string{check.Error: "error", check.Warning: "warning", check.Note: "note"}

// The parts of the format that findings fill, by the names of its section 3.
type (
	document struct {
		Schema  string `json:"$schema"`
		Version string `json:"version"`
		Runs    []run  `json:"runs"`
	}
	run struct {
		Tool    tool     `json:"tool"`
		Results []result `json:"results"`
	}
	tool struct {
		Driver driver `json:"driver"`
	}
	driver struct {
		Name    string `json:"name"`
		Version string `json:"version"`
		Rules   []rule `json:"rules"`
	}
	rule struct {
		ID      string  `json:"id"`
		Short   *text   `json:"shortDescription,omitempty"`
		Full    *text   `json:"fullDescription,omitempty"`
		Help    *text   `json:"help,omitempty"`
		Default setting `json:"defaultConfiguration"`
	}
	setting struct {
		Level string `json:"level"`
	}
	text struct {
		Text string `json:"text"`
	}
	result struct {
		Rule         string        `json:"ruleId"`
		Index        int           `json:"ruleIndex"`
		Level        string        `json:"level"`
		Message      text          `json:"message"`
		Locations    []location    `json:"locations"`
		Suppressions []suppression `json:"suppressions,omitempty"`
	}
	location struct {
		Physical physical `json:"physicalLocation"`
	}
	physical struct {
		Artifact artifact `json:"artifactLocation"`
		Region   region   `json:"region"`
	}
	artifact struct {
		URI string `json:"uri"`
	}
	region struct {
		Line   int `json:"startLine"`
		Column int `json:"startColumn"`
	}
	suppression struct {
		Kind          string `json:"kind"`
		Justification string `json:"justification"`
	}
)

// Write writes the findings of one run. Accepted ones are marked suppressed.
func Write(w io.Writer, version string, findings []check.Finding) error {
	r := run{Tool: tool{driver{Name: "bastion", Version: version, Rules: []rule{}}}, Results: []result{}}
	at := map[string]int{}
	for _, f := range findings {
		if _, known := at[f.Code]; !known {
			at[f.Code] = len(r.Tool.Driver.Rules)
			r.Tool.Driver.Rules = append(r.Tool.Driver.Rules, ruleOf(f))
		}
		one := result{
			Rule: f.Code, Index: at[f.Code], Level: levels[f.Severity], Message: text{f.Subject + ": " + f.Message + ". Remedy: " + f.Remedy + "."},
			Locations: []location{{physical{artifact{f.At.File}, region{max(f.At.Line, 1), max(f.At.Column, 1)}}}},
		}
		if f.Accepted != "" {
			one.Suppressions = []suppression{{"inSource", f.Accepted}}
		}
		r.Results = append(r.Results, one)
	}
	e := json.NewEncoder(w)
	e.SetIndent("", "  ")
	return e.Encode(document{"https://json.schemastore.org/sarif-2.1.0.json", "2.1.0", []run{r}})
}

func ruleOf(f check.Finding) rule {
	r := rule{ID: f.Code, Default: setting{levels[f.Severity]}}
	if e, ok := check.Lookup(f.Code); ok {
		r.Short, r.Full, r.Help = &text{e.Title}, &text{e.Why}, &text{e.Remedy}
	}
	return r
}

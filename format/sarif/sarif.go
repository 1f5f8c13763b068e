// Package sarif writes findings in the Static Analysis Results Interchange
// Format (OASIS SARIF 2.1.0), which code hosts show as annotations at the line.
package sarif

import (
	"io"

	"github.com/owenrumney/go-sarif/v2/sarif"

	"openbastion/core/check"
)

// levels are SARIF's words for the severities.
var levels = map[check.Severity]string{check.Error: "error", check.Warning: "warning", check.Note: "note"}

// Write writes the findings of one run. Accepted ones are marked suppressed.
func Write(w io.Writer, version string, findings []check.Finding) error {
	report, err := sarif.New(sarif.Version210)
	if err != nil {
		return err
	}
	run := sarif.NewRun(*sarif.NewSimpleTool("bastion"))
	run.Tool.Driver.WithVersion(version)
	entries := map[string]check.Entry{}
	for _, e := range check.Catalogue() {
		entries[e.Code] = e
	}
	for _, f := range findings {
		rule := run.AddRule(f.Code).WithDefaultConfiguration(sarif.NewReportingConfiguration().WithLevel(levels[f.Severity]))
		if e, ok := entries[f.Code]; ok {
			rule.WithShortDescription(sarif.NewMultiformatMessageString(e.Title)).WithFullDescription(sarif.NewMultiformatMessageString(e.Why)).WithHelp(sarif.NewMultiformatMessageString(e.Remedy))
		}
		region := sarif.NewRegion().WithStartLine(max(f.At.Line, 1)).WithStartColumn(max(f.At.Column, 1))
		place := sarif.NewPhysicalLocation().WithArtifactLocation(sarif.NewArtifactLocation().WithUri(f.At.File)).WithRegion(region)
		result := run.CreateResultForRule(f.Code).WithLevel(levels[f.Severity]).
			WithMessage(sarif.NewTextMessage(f.Subject + ": " + f.Message + ". Remedy: " + f.Remedy + "."))
		result.AddLocation(sarif.NewLocationWithPhysicalLocation(place))
		if f.Accepted != "" {
			result.WithSuppression([]*sarif.Suppression{sarif.NewSuppression("inSource").WithJustifcation(f.Accepted)})
		}
	}
	report.AddRun(run)
	return report.PrettyWrite(w)
}

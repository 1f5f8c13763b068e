package sarif

import (
	"bytes"
	"testing"

	peer "github.com/owenrumney/go-sarif/v3/pkg/report/v210/sarif"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"openbastion/internal/verify/check"
)

// read reads what was written and checks it against the schema of SARIF 2.1.0.
// The library writes three optional members even when they are not there; they
// get values that the schema takes.
func read(t *testing.T, b []byte) *peer.Report {
	report, err := peer.FromBytes(b)
	require.NoError(t, err)
	for _, run := range report.Runs {
		run.Language, run.Tool.Driver.Language, run.NewlineSequences = "en-US", "en-US", []string{"\n"}
	}
	require.NoError(t, report.Validate())
	return report
}

func TestValid(t *testing.T) {
	var b bytes.Buffer
	require.NoError(t, Write(&b, "0.1.0", []check.Finding{
		{
			Code:     "dual-homed-guest",
			Severity: check.Error,
			Subject:  "otter",
			Message:  "two paths outside",
			Remedy:   "take one away",
			At:       check.Place{File: "lab.yaml", Line: 61, Column: 9},
		},
		{
			Code:     "double-nat",
			Severity: check.Note,
			Subject:  "sluice.wan",
			Message:  "private",
			Remedy:   "forward",
			Accepted: "on purpose",
			At:       check.Place{File: "lab.yaml"},
		},
	}))
	results := read(t, b.Bytes()).Runs[0].Results
	require.Len(t, results, 2)
	assert.Equal(t, []any{"dual-homed-guest", "error", 61, 9},
		[]any{*results[0].RuleID, results[0].Level, *results[0].Locations[0].PhysicalLocation.Region.StartLine,
			*results[0].Locations[0].PhysicalLocation.Region.StartColumn})
	assert.Len(t, results[1].Suppressions, 1)
	var empty bytes.Buffer
	require.NoError(t, Write(&empty, "0.1.0", nil))
	read(t, empty.Bytes())
}

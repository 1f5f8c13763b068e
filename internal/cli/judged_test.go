package cli

import (
	"bytes"
	"encoding/json"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"openbastion/internal/model/lab"
	"openbastion/internal/model/plan"
	"openbastion/internal/verify/check"
	"openbastion/internal/verify/claims"
)

// Every call that judges a lab comes to the same verdict, in its status as in its JSON: on every
// lab of the catalogue of findings, wrong and mended.
func TestOneVerdict(t *testing.T) {
	folder := t.TempDir()
	file := filepath.Join(folder, "lab.yaml")
	for _, e := range check.Catalogue() {
		bad, good := e.Labs()
		for _, text := range []string{bad, good} {
			require.NoError(t, os.WriteFile(file, []byte(text), 0o600))
			l, err := lab.Read(file, []byte(text))
			require.NoError(t, err)
			p, err := plan.Build(l)
			require.NoError(t, err)
			var seen []any
			for _, args := range [][]string{
				{"rehearse", file},
				{"rehearse", file, "--against", file},
				{"rehearse", file, "--fault", "reboot=" + p.Machines[0].Name},
				{"rehearse", file, "--capture", filepath.Join(folder, "lab.pcapng"), "--replace"},
			} {
				var out, text, errs bytes.Buffer
				status := Main(append(args, "--format", "json"), nil, &out, &errs)
				assert.Equal(
					t,
					status,
					Main(append(args, "--color", "never"), nil, &text, &errs),
					"%s %v: %s",
					e.Code,
					args,
					&errs,
				)
				var doc struct {
					Verdict claims.Verdict `json:"verdict"`
				}
				require.NoError(t, json.Unmarshal(out.Bytes(), &doc), "%s %v: %s", e.Code, args, &errs)
				seen = append(seen, doc.Verdict, status)
			}
			for i := 2; i < len(seen); i += 2 {
				assert.Equal(t, seen[:2], seen[i:i+2], "%s: call %d\n%s", e.Code, i/2, text)
			}
		}
	}
}

package report

import (
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"openbastion/core/claims"
	"openbastion/core/lab"
	"openbastion/core/layers"
	"openbastion/core/plan"
	"openbastion/core/rehearse"
	"openbastion/examples"
)

type all struct{ frames []Frame }

func (a *all) Record(_ int, _ time.Time, frame []byte) {
	a.frames = append(a.frames, Frame{Number: len(a.frames) + 1, Segment: "s", Bytes: append([]byte{}, frame...)})
}

// The page names every claim, machine, address and frame, refers to nothing
// outside itself, and is HTML to a validator.
func TestHTML(t *testing.T) {
	for _, name := range []string{"saltmarsh.yaml", "saltmarsh-leaky.yaml"} {
		text, err := examples.Labs.ReadFile(name)
		require.NoError(t, err)
		l, err := lab.Read(name, text)
		require.NoError(t, err)
		p, err := plan.Build(l)
		require.NoError(t, err)
		stage := rehearse.New(p)
		rec := &all{}
		stage.World().Recorder = rec
		doc := claims.Run(p, stage)
		wanted := Quoted(doc)
		require.NotEmpty(t, wanted)
		var frames []Frame
		for _, f := range rec.frames {
			for _, layer := range layers.Of(f.Bytes) {
				for _, field := range layer.Fields {
					assert.NotEqual(t, "not read", field.Name, "frame %d: %s", f.Number, field.Value)
				}
			}
			if wanted[f.Number] {
				frames = append(frames, f)
			}
		}
		data, err := HTML(p, doc, frames)
		require.NoError(t, err)
		page := string(data)
		for _, r := range doc.Claims {
			assert.Contains(t, page, `id="`+r.ID+`"`)
		}
		for _, a := range p.Adapters {
			assert.Contains(t, page, a.MAC.String())
		}
		for _, m := range regexp.MustCompile(`href="#([^"]+)"`).FindAllStringSubmatch(page, -1) {
			assert.Contains(t, page, `id="`+m[1]+`"`)
		}
		assert.Empty(t, regexp.MustCompile(`(?:src|href)="[^#"]`).FindAllString(page, -1), "nothing is fetched")
		if _, err := exec.LookPath("tidy"); err == nil {
			file := filepath.Join(t.TempDir(), "page.html")
			require.NoError(t, os.WriteFile(file, data, 0o600))
			out, _ := exec.Command("tidy", "-q", "-e", file).CombinedOutput()
			assert.NotContains(t, string(out), "Error:", strings.TrimSpace(string(out)))
		}
	}
}

package report

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"openbastion/internal/model/lab"
	"openbastion/internal/model/plan"
	"openbastion/internal/simulator"
	"openbastion/internal/verify/verdict"
)

// The page of a large lab has every claim that fails, one row for guests that stand alike, the whole
// verdict, and stays small.
func TestBrief(t *testing.T) {
	var b strings.Builder
	b.WriteString("bastion: 1\nlab: wide\nsegments:\n  road: {reach: upstream, subnet: 172.20.0.0/16, gateway: 172.20.0.1}\n" +
		"  desks: {reach: isolated, hosts: 200}\nappliances:\n  gate:\n    ports:\n      - {role: wan, segment: road}\n" +
		"      - {role: lan, segment: desks}\nguests:\n")
	for i := range 150 {
		fmt.Fprintf(&b, "  desk%d: desks\n", i)
	}
	b.WriteString("  stranger: road\n")
	l, err := lab.Read("wide.yaml", []byte(b.String()))
	require.NoError(t, err)
	p, err := plan.Build(l)
	require.NoError(t, err)
	stage := simulator.New(p)
	doc := verdict.Finish(p, stage.Outcome())
	shown := Brief(doc)
	assert.Less(t, len(shown.Claims), 100)
	page, err := HTML(p, doc, shown, nil)
	require.NoError(t, err)
	text := string(page)
	assert.Contains(t, text, doc.Summary())
	assert.Contains(t, text, "desk0 … desk149 (150)")
	assert.Contains(t, text, `id="stranger.behind"`)
	assert.Less(t, len(page), 100<<10)
	whole, err := HTML(p, doc, doc, nil)
	require.NoError(t, err)
	assert.Contains(t, string(whole), `id="desk77.dhcp"`)
}

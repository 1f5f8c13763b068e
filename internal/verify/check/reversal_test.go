package check_test

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"go.yaml.in/yaml/v3"

	"openbastion/internal/model/lab"
	"openbastion/internal/model/plan"
	"openbastion/internal/verify/check"
)

// flat returns every word that a lab file gives a key, by the key's path.
func flat(t *testing.T, text []byte) map[string]string {
	var root yaml.Node
	require.NoError(t, yaml.Unmarshal(text, &root), "%s", text)
	out := map[string]string{}
	var walk func(n *yaml.Node, path string)
	walk = func(n *yaml.Node, path string) {
		switch n.Kind {
		case yaml.DocumentNode, yaml.SequenceNode:
			for i, c := range n.Content {
				walk(c, path+"/"+string(rune('0'+i)))
			}
		case yaml.MappingNode:
			for i := 0; i+1 < len(n.Content); i += 2 {
				walk(n.Content[i+1], path+"/"+n.Content[i].Value)
			}
		case yaml.ScalarNode:
			out[path] = n.Value
		}
	}
	walk(&root, "")
	return out
}

// What the user chose by a word (plugged: false, dhcp: host, reach: upstream, later) stays, whatever
// finding speaks against it: over the examples of all findings.
func TestMendNeverReversesAChoice(t *testing.T) {
	for _, e := range check.Catalogue() {
		bad, _ := e.Labs()
		text := []byte(bad)
		l, err := lab.Read("lab.yaml", text)
		require.NoError(t, err, e.Code)
		p, err := plan.Build(l)
		require.NoError(t, err, e.Code)
		list := check.Run(p, time.Time{})
		check.Offer(p, text, time.Time{}, list, list)
		mended, _ := check.Mend(text, list)
		was := flat(t, text)
		for path, now := range flat(t, mended) {
			old, there := was[path]
			word := strings.Trim(old, "abcdefghijklmnopqrstuvwxyz-") == ""
			assert.False(t, there && word && old != now, "%s: %s was %q and is %q", e.Code, path, old, now)
		}
	}
}

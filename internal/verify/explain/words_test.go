package explain

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Every entry is whole, has its place, and no word leads to two.
func TestGlossary(t *testing.T) {
	seen := map[string]string{}
	require.GreaterOrEqual(t, len(Words()), 120)
	before := ""
	for _, w := range Words() {
		assert.NotEmpty(t, w.Text, w.Name)
		assert.True(
			t,
			strings.HasSuffix(w.Text, ".") || strings.HasSuffix(w.Text, "`"),
			"%s ends its sentence: %s",
			w.Name,
			w.Text,
		)
		assert.Less(t, before, strings.ToLower(w.Name)+"~", "%s has its place in order", w.Name)
		if w.Name[0] >= 'a' && w.Name[0] <= 'z' {
			before = w.Name
		}
		for _, name := range append([]string{w.Name}, w.Also...) {
			assert.Empty(t, seen[name], "%s is said of %s and of %s", name, seen[name], w.Name)
			seen[name] = w.Name
			found, ok := Find(strings.ToUpper(name))
			assert.True(t, ok, name)
			assert.Equal(t, w.Name, found.Name, name)
		}
	}
}

// The words that people say lead to a page, and what is no entry leads near one.
func TestWhatPeopleSay(t *testing.T) {
	for _, word := range []string{"nat network", "double nat", "default route", "dhcp server", "arp", "mtu", "hypervisor", "iso", "ova", "vm",
		"slaac", "ipv6", "rfc1918", "rogue dhcp", "stateful", "default deny", "loop", "live system", "snapshot", "slot order",
		"two default routes", "pass-through", "port forward", "jump host", "Port Forwards", "bypass", "hairpin"} {
		_, ok := Find(word)
		assert.True(t, ok, word)
	}
	for word, near := range map[string]string{"dhcp range": "pool", "translation table": "masquerade", "second gateway": "default gateway", "xyzzy": ""} {
		got := Near(word)
		assert.Equal(t, near != "", len(got) > 0, word)
		if near != "" {
			assert.Contains(t, got, near, "%s: %v", word, got)
		}
	}
}

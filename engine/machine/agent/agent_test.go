package agent

import (
	"encoding/json"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"openbastion/core/lab"
	"openbastion/profiles"
)

// A profile comes through as it is.
func TestProfilesComeThrough(t *testing.T) {
	for _, name := range profiles.Names() {
		text, _ := profiles.Profile(name)
		p, err := lab.ReadProfile(name+".yaml", text)
		require.NoError(t, err)
		data, err := json.Marshal(Role{Profiles: map[string]*lab.Profile{name: p}})
		require.NoError(t, err)
		var r Role
		require.NoError(t, json.Unmarshal(data, &r))
		again, err := json.Marshal(r)
		require.NoError(t, err)
		assert.JSONEq(t, string(data), string(again))
	}
}

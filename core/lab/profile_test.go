package lab

import (
	"io/fs"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"openbastion/profiles"
)

func TestShippedProfiles(t *testing.T) {
	names, err := fs.Glob(profiles.Files, "*.yaml")
	require.NoError(t, err)
	require.GreaterOrEqual(t, len(names), 5)
	for _, name := range names {
		data, err := profiles.Files.ReadFile(name)
		require.NoError(t, err)
		p, err := ReadProfile(name, data)
		require.NoError(t, err, name)
		assert.Equal(t, name, p.Name+".yaml")
		assert.NotEmpty(t, p.Sizes["base"].Memory, name)
		for _, model := range p.NICs {
			first, third := p.Device(model, 1), p.Device(model, 3)
			require.NotEmpty(t, first, "%s %s", name, model)
			assert.NotEqual(t, first, third, "adapters are told apart")
		}
	}
}

func TestProfileFaults(t *testing.T) {
	for text, want := range map[string]string{
		"name: x": "write `bastion-profile: 1`",
		"bastion-profile: 1\nconsole: [{ask: a, answer: '{wan.devise}'}]": `no key {wan.devise} (did you mean "wan.device"?)`,
		"bastion-profile: 1\nconsole: [{ask: a, answer: '{wan'}]":         "not closed",
		"bastion-profile: 1\nsizes: {fiter: {cpus: 1}}":                   `did you mean "filter"?`,
		"bastion-profile: 1\nroles: [wan, inside]":                        `"inside" is no role`,
		"bastion-profile: 1\nfactory: {pool: 1.2.3.4}":                    "write FIRST-LAST",
		"bastion-profile: 1\ndevises: {}":                                 "did you mean devices?",
	} {
		_, err := ReadProfile("p.yaml", []byte(text))
		assert.ErrorContains(t, err, want, text)
	}
	assert.Empty(t, (&Profile{}).Device("virtio", 1), "the zero profile knows nothing")
}

package lab

import (
	"io/fs"
	"slices"
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
		assert.NotEmpty(t, p.Console, name)
		topics := slices.Concat(p.Console, p.Pages)
		for i, topic := range topics {
			assert.NotContains(t, topics[:i], topic, "%s is asked for once", name)
		}
		if name != profiles.Default+".yaml" { // none holds a fact that matches one product's
			assert.False(
				t,
				p.Factory.LAN.IsValid() || p.Factory.From.IsValid() || p.Factory.Scheme != "" ||
					p.Factory.AdminPort != 0,
				name,
			)
			assert.Empty(t, p.Asks, name)
			assert.Empty(t, p.Waits, name)
			assert.Zero(t, p.Needs.CPUs+int(p.Needs.Memory)+int(p.Needs.Disk), name)
			assert.NotRegexp(t, `[0-9]+\.[0-9]+|\b[0-9]{2,}\b`, string(data), name)
		}
		for _, model := range p.NICs {
			first, third := p.Device(model, 1), p.Device(model, 3)
			require.NotEmpty(t, first, "%s %s", name, model)
			assert.NotEqual(t, first, third, "adapters are told apart")
		}
	}
}

func TestProfileFaults(t *testing.T) {
	for text, want := range map[string]string{
		"name: x":                                      "write `bastion-profile: 1`",
		"bastion-profile: 1\nconsole: [adress]":        `did you mean "address"?`,
		"bastion-profile: 1\nasks: {sied: x}":          `did you mean "side"?`,
		"bastion-profile: 1\npages: [{a: b}]":          "pages",
		"bastion-profile: 1\nroles: [wan, inside]":     `"inside" is not a role`,
		"bastion-profile: 1\nfactory: {pool: 1.2.3.4}": "write FIRST-LAST",
		"bastion-profile: 1\ndevises: {}":              "did you mean devices?",
	} {
		_, err := ReadProfile("p.yaml", []byte(text))
		assert.ErrorContains(t, err, want, text)
	}
	assert.Empty(t, (&Profile{}).Device("virtio", 1), "the zero profile knows nothing")
}

func FuzzReadProfile(f *testing.F) {
	f.Add([]byte("bastion-profile: 1\nname: our\ndevices: {virtio: [\"lan9\", \"en%s#\"]}\nasks: {side: \"Which?\"}\n"))
	f.Add([]byte("bastion-profile: [1, {a: &x b}, *x]"))
	f.Fuzz(func(t *testing.T, data []byte) {
		if p, err := ReadProfile("p.yaml", data); err == nil {
			p.Facts()
			for n := range 3 {
				p.Device("virtio", n)
			}
		}
	})
}

package lab

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestReadHosts(t *testing.T) {
	c, err := ReadHosts(
		"hosts.yaml",
		[]byte("bastion-hosts: 1\nbenches: 24\nhosts:\n  kiln: {cpus: 16, memory: 64GiB}\n"+
			"  loft: {ssh: teacher@loft.example, cpus: 8, memory: 32GiB}\n"),
	)
	require.NoError(t, err)
	assert.Equal(t, []any{24, sharing, 2}, []any{c.Benches, c.Share, len(c.List)})
	assert.Equal(t, []string{"kiln", "teacher@loft.example"}, []string{c.List[0].SSH, c.List[1].SSH})
	for text, want := range map[string]string{
		"benches: 2\nhosts: {kiln: {cpus: 1, memory: 1GiB}}\n": "the format version is missing",
		"bastion-hosts: 1\n":                                                     "no host is named",
		"bastion-hosts: 1\nhosts: {kiln: {cpus: 1}}\n":                           "host kiln has no capacity; write `memory: …`",
		"bastion-hosts: 1\nhosts: {kiln: {cpus: 1, memory: 1GiB, ssh: -o}}\n":    "is an option of an SSH client",
		"bastion-hosts: 1\nbenches: 0\nhosts: {kiln: {cpus: 1, memory: 1GiB}}\n": "benches",
		"bastion-hosts: 1\nhosts: {kiln: {cpu: 1, memory: 1GiB}}\n":              "did you mean cpus",
		"bastion-hosts: 1\nhosts: {kiln: {cpus: 1, memory: heavy}}\n":            "heavy",
	} {
		_, err := ReadHosts("hosts.yaml", []byte(text))
		assert.ErrorContains(t, err, want, text)
	}
	assert.Len(t, HostsSchema()["properties"], len(hostsFields()))
}

// Whatever a hosts file holds, reading it ends well, and what was read has room for benches.
func FuzzReadHosts(f *testing.F) {
	f.Add([]byte("bastion-hosts: 1\nbenches: 3\nhosts:\n  kiln: {cpus: 16, memory: 64GiB}\n"))
	f.Add([]byte("bastion-hosts: [1, {a: &x b}, *x]"))
	f.Fuzz(func(t *testing.T, data []byte) {
		c, err := ReadHosts("hosts.yaml", data)
		if err != nil {
			return
		}
		require.Positive(t, c.Benches*c.Share*len(c.List))
		for _, h := range c.List {
			require.Positive(t, h.CPUs)
			require.NotEmpty(t, h.SSH)
		}
	})
}

package draft

import (
	"net/netip"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"openbastion/internal/model/lab"
	"openbastion/internal/model/plan"
)

// A LAN's address and pool are taken as people type them, or refused with why.
func TestLAN(t *testing.T) {
	for text, want := range map[string]string{
		"10.83.16.1/24": "", "10.83.16.1/255.255.255.0": "", "10.83.16.0/24": "the first usable one is 10.83.16.1",
		"10.83.16.255/24": "network or its broadcast address", "10.83.16.1": "no length", "fd00::1/64": "IPv6", "10.83.16.1/33": "32", "gate": "",
	} {
		var o Options
		err := SetLAN(&o, text)
		if want == "" && text != "gate" {
			require.NoError(t, err, text)
			assert.Equal(t, "10.83.16.1/24", o.LANAddress.String(), text)
			continue
		}
		require.Error(t, err, text)
		assert.False(t, o.LANAddress.IsValid())
		if want != "" && want != "no length" {
			assert.Contains(t, err.Error(), want, text)
		}
	}
	lan := Options{LANAddress: netip.MustParsePrefix("10.83.16.1/24")}
	for text, want := range map[string]string{
		"10.83.16.50-10.83.16.199": "", " 10.83.16.50 - 10.83.16.199 ": "", "10.83.16.50": "no second address",
		"10.83.16.99-10.83.16.50": "ends before",
		"10.83.17.50-10.83.17.99": "not within", "10.83.16.1-10.83.16.9": "appliance's own", "a-b": "",
	} {
		o := lan
		err := SetPool(&o, text)
		if want == "" && text != "a-b" {
			require.NoError(t, err, text)
			assert.Equal(t, "10.83.16.50-10.83.16.199", o.Pool)
			continue
		}
		require.Error(t, err, text)
		assert.Contains(t, err.Error(), want, text)
		assert.Empty(t, o.Pool, text)
	}
}

// Every shape writes what was chosen and nothing that was not; what it writes is a lab
// whose plan has it.
func TestOnlyWhatWasChosen(t *testing.T) {
	for _, s := range Shapes {
		bare, err := Write(Options{Lab: "bench", Shape: s.Name})
		require.NoError(t, err)
		for _, key := range []string{"hypervisor:", "virtual:", "join:"} {
			assert.NotContains(t, uncommented(string(bare)), key, s.Name)
		}
		o := Options{Lab: "bench", Shape: s.Name, Hypervisor: "server", Virtual: true, NAT: true,
			LANAddress: netip.MustParsePrefix("10.83.77.1/24"),
			Pool:       "10.83.77.60-10.83.77.90"}
		if s.Name == "later-server" {
			o.Pool = "" // nobody hands any out there yet
		}
		full, err := Write(o)
		require.NoError(t, err)
		assert.Contains(t, string(full), "hypervisor: server")
		l, err := lab.Read("lab.yaml", full)
		require.NoError(t, err, string(full))
		assert.Equal(t, "server", l.Site.Hypervisor)
		assert.True(t, l.Site.Virtual)
		p, err := plan.Build(l)
		require.NoError(t, err, string(full))
		found := false
		for _, a := range p.Adapters {
			if a.Address.String() == "10.83.77.1/24" && !a.Machine.Off {
				found = true
				assert.True(t, o.Pool == "" || a.Leases.Pool.String() == o.Pool, "%s: %s", s.Name, full)
			}
		}
		without := map[string]bool{"transparent": true, "one-armed": true, "chain": true, "classroom": true}
		assert.Equal(t, !without[s.Name], found, "%s:\n%s", s.Name, full)
	}
	_, err := Write(Options{Lab: "bench", Shape: "round"})
	assert.ErrorContains(t, err, "no shape")
}

func uncommented(text string) string {
	var out []string
	for _, line := range strings.Split(text, "\n") {
		line, _, _ = strings.Cut(line, "#")
		out = append(out, line)
	}
	return strings.Join(out, "\n")
}

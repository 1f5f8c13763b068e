package export

import (
	"bytes"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"openbastion/internal/export/fileset"
	"openbastion/internal/format/ovf"
	"openbastion/internal/model/lab"
	"openbastion/internal/model/plan"
)

// What is connected later is not connected at the start, what is on no network names
// none, and what is there already or real is not made.
func TestUnfinishedExports(t *testing.T) {
	l, err := lab.Read("lab.yaml", []byte(`bastion: 1
lab: saltmarsh
segments:
  causeway: {reach: upstream}
  backup: {reach: upstream}
  reedbed: {reach: isolated, known-as: "SW 2", uplink: enp2}
appliances:
  sluice:
    autostart: true
    ports:
      - {role: wan, segment: causeway, connect: later}
      - {role: wan, name: second, segment: backup}
      - {role: lan, segment: reedbed}
      - {role: unused}
  old: {running: false, ports: [{role: lan, segment: reedbed}]}
guests:
  heron: {segment: reedbed, system: bsd}
  desk: {segment: reedbed, physical: true}
  server: {segment: reedbed, running: false}
`))
	require.NoError(t, err)
	p, err := plan.Build(l)
	require.NoError(t, err)
	files := map[string]fileset.File{}
	for _, kind := range []string{"ovf", "seed"} {
		for _, k := range Kinds() {
			if k.Name != kind {
				continue
			}
			list, err := k.Files(p)
			require.NoError(t, err)
			for _, f := range list {
				files[f.Name] = f
			}
		}
	}
	for _, name := range []string{"old.ovf", "desk.ovf", "old/network-config", "desk/network-config"} {
		assert.NotContains(t, files, name)
	}
	require.Contains(t, files, "server.ovf", "it comes later")
	got, err := ovf.Read(files["sluice.ovf"].Data)
	require.NoError(t, err)
	s := got.Systems[0]
	var plugged []bool
	for _, a := range s.Adapters {
		plugged = append(plugged, a.Plugged)
	}
	assert.Equal(t, []bool{false, true, true, false}, plugged)
	assert.Equal(
		t,
		[]string{"causeway", "backup", "SW 2", ""},
		[]string{s.Adapters[0].Network, s.Adapters[1].Network, s.Adapters[2].Network,
			s.Adapters[3].Network},
	)
	text := string(files["sluice.ovf"].Data)
	for _, want := range []string{"Starts from disk, then media.", "Starts with the host.", "are connected once it is set up",
		"its memory is reserved"} {
		assert.Contains(t, text, want)
	}
	heron, err := ovf.Read(files["heron.ovf"].Data)
	require.NoError(t, err)
	assert.Equal(t, "BSD, 64 bits", heron.Systems[0].Guest)
	whole, err := ovf.Read(files["saltmarsh-lab.ovf"].Data)
	require.NoError(t, err)
	assert.Len(t, whole.Systems, 2, "what starts: the appliance and heron")

	network := files["sluice/network-config"].Data
	for _, want := range []string{"route-metric: 100", "route-metric: 200", "optional: true"} {
		assert.True(t, bytes.Contains(network, []byte(want)), "%s in\n%s", want, network)
	}
}

package identify

import (
	"fmt"
	"os"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"openbastion/internal/model/lab"
	"openbastion/internal/model/plan"
)

func text(t *testing.T) []byte {
	data, err := os.ReadFile("../../../examples/saltmarsh.yaml")
	require.NoError(t, err)
	return data
}

// anyBuilt draws a machine as packages describe theirs, with an adapter a port.
func anyBuilt(t *rapid.T, ports int) Built {
	b := Built{
		CPUs: rapid.IntRange(0, 9).Draw(t, "cpus"),
		Memory: lab.Bytes(
			rapid.SampledFrom([]int64{0, 256 << 20, 1000 << 20, 4 << 30, 3_000_000_000}).Draw(t, "memory"),
		),
		Disk:     lab.Bytes(rapid.SampledFrom([]int64{0, 1 << 30, 5 << 29, 20_000_000_001}).Draw(t, "disk")),
		Firmware: rapid.SampledFrom([]string{"", "bios", "uefi"}).Draw(t, "firmware"),
		Media:    rapid.SampledFrom([]string{"", "gate 1.iso"}).Draw(t, "media"),
	}
	if bus := rapid.SampledFrom([]string{"", "virtio", "sata", "scsi"}).Draw(t, "bus"); bus != "" {
		b.Buses = []string{bus}
	}
	models := rapid.SampledFrom([][]string{nil, {"virtio"}, {"e1000"}, {"virtio", "e1000"}}).Draw(t, "models")
	names := rapid.SliceOfNDistinct(rapid.SampledFrom([]string{"Inside", "Outside: far", "DMZ", "yes", "net 1", "#2", "net 2"}),
		ports, ports, rapid.ID[string]).
		Draw(t, "networks")
	for k := range ports {
		x := BuiltAdapter{Number: k + 1, Network: names[k], Models: models, Plugged: rapid.Bool().Draw(t, "plugged")}
		if rapid.Bool().Draw(t, "fixed") {
			x.MAC = fmt.Sprintf("02:5c:00:00:07:%02x", k)
		}
		b.Adapters = append(b.Adapters, x)
	}
	return b
}

// A package that was written into a lab does not differ from itself, whatever it
// is and however its adapters became ports.
func TestPackageIsWhatItSays(t *testing.T) {
	sampleText := text(t)
	rapid.Check(t, func(t *rapid.T) {
		l, err := lab.Read("lab.yaml", sampleText)
		require.NoError(t, err)
		p, err := plan.Build(l)
		require.NoError(t, err)
		m := p.Machine("sluice")
		spare := rapid.IntRange(0, 2).Draw(t, "spare")
		b := anyBuilt(t, len(m.Own())+spare)
		for k := range spare {
			b.Adapters[len(m.Own())+k].Plugged = false
		}
		w := Wire(p, m, b)
		for k, port := range rapid.Permutation(m.Own()).Draw(t, "ports") {
			w.Tell(k, port)
		}
		needs := lab.Needs{CPUs: b.CPUs, Memory: b.Memory, Disk: b.Disk, DiskBuses: b.Buses, NICs: b.Adapters[0].Models}
		filled := Package{
			File:   "gate.ova",
			SHA256: strings.Repeat("0f", 32),
			Needs:  needs,
			Built:  b,
			Wiring: w,
		}.Fill(
			sampleText,
			m,
		)
		assert.Empty(t, filled.Kept)
		l, err = lab.Read("lab.yaml", filled.Text)
		require.NoError(t, err, "%s", filled.Text)
		p, err = plan.Build(l)
		require.NoError(t, err, "%s", filled.Text)
		for _, f := range CompareBuilt(p, p.Machine("sluice"), b) {
			if !assert.Equal(t, AsPlanned, f.Sight, "%s", f.Message) {
				t.Logf("%s", filled.Text)
			}
		}
	})
}

// What the file says already stays, and is told.
func TestPackageKeepsWhatIsSaid(t *testing.T) {
	said := []byte(
		strings.NewReplacer("  sluice:\n", "  sluice:\n    machine: {cpus: 7, firmware: uefi}\n").
			Replace(string(text(t))),
	)
	require.NotEqual(t, text(t), said)
	l, err := lab.Read("lab.yaml", said)
	require.NoError(t, err)
	p, err := plan.Build(l)
	require.NoError(t, err)
	m := p.Machine("sluice")
	b := Built{CPUs: 2, Firmware: "bios", Memory: 3 * lab.GiB}
	filled := Package{File: "gate.ova", SHA256: strings.Repeat("0f", 32), Built: b}.Fill(said, m)
	assert.Equal(
		t,
		[]string{"machine: cpus keeps 7; the package has 2", "machine: firmware keeps uefi; the package has bios"},
		filled.Kept,
	)
	assert.Contains(t, string(filled.Text), "cpus: 7")
	assert.Contains(t, string(filled.Text), "memory: 3GiB")
}

package ovf

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

// A package that is written says the same when it is read.
func TestWriteRoundTrip(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		p := &Package{}
		for _, n := range rapid.SliceOfNDistinct(rapid.StringMatching(`[a-z]{1,8}`), 1, 4, rapid.ID[string]).Draw(t, "networks") {
			p.Networks = append(p.Networks, Network{n, "about <" + n + "> & more"})
		}
		for i := range rapid.IntRange(1, 4).Draw(t, "machines") {
			s := System{
				ID:     fmt.Sprintf("m%d", i),
				Name:   fmt.Sprintf("m%d", i),
				CPUs:   rapid.IntRange(1, 64).Draw(t, "cpus"),
				Memory: int64(rapid.IntRange(1, 9000).Draw(t, "memory")) << 20,
			}
			for k := range rapid.IntRange(0, 5).Draw(t, "adapters") {
				s.Adapters = append(s.Adapters, Adapter{
					Number: k + 1, Name: "port", Network: rapid.SampledFrom(p.Networks).Draw(t, "network").Name,
					Model: rapid.SampledFrom([]string{"virtio", "e1000"}).Draw(t, "model"),
					MAC:   fmt.Sprintf("02:5b:00:00:%02x:%02x", i, k), Plugged: rapid.Bool().Draw(t, "plugged"),
				})
			}
			for k := range rapid.IntRange(0, 3).Draw(t, "disks") {
				id := fmt.Sprintf("d%d-%d", i, k)
				size := int64(rapid.IntRange(1, 1<<30).Draw(t, "size"))
				p.Disks = append(p.Disks, Disk{ID: id, Capacity: size})
				s.Drives = append(s.Drives, Drive{Disk: id, Size: size,
					Bus: rapid.SampledFrom([]string{"virtio", "sata", "scsi", "ide"}).Draw(t, "bus")})
			}
			p.Systems = append(p.Systems, s)
		}
		data, err := Write(p, "lab")
		require.NoError(t, err)
		got, err := Read(data)
		require.NoError(t, err, string(data))
		assert.Equal(t, p.Networks, got.Networks)
		require.Len(t, got.Systems, len(p.Systems))
		for i, want := range p.Systems {
			s := got.Systems[i]
			assert.Equal(t, []any{want.Name, want.CPUs, want.Memory}, []any{s.Name, s.CPUs, s.Memory})
			require.Len(t, s.Adapters, len(want.Adapters))
			for k, a := range want.Adapters {
				b := s.Adapters[k]
				assert.Equal(
					t,
					[]any{a.Network, a.Model, a.MAC, a.Plugged},
					[]any{b.Network, b.Model, b.MAC, b.Plugged},
				)
			}
			require.Len(t, s.Drives, len(want.Drives))
			for k, d := range want.Drives {
				assert.Equal(
					t,
					[]any{d.Disk, d.Size, d.Bus},
					[]any{s.Drives[k].Disk, s.Drives[k].Size, s.Drives[k].Bus},
				)
			}
		}
	})
	_, err := Write(&Package{}, "none")
	assert.ErrorContains(t, err, "a package without a machine")
}

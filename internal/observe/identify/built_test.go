package identify

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"

	"openbastion/internal/model/lab"
	"openbastion/internal/model/plan"
)

// asPlanned returns the machine as an export of the plan would have it.
func asPlanned(m *plan.Machine) Built {
	b := Built{
		Name:     m.Name,
		CPUs:     m.Spec.CPUs,
		Memory:   m.Spec.Memory,
		Disk:     m.Spec.Disk,
		Buses:    []string{m.Spec.DiskBus},
		Firmware: m.Spec.Firmware,
		Boot:     []string{"disk", "media"},
	}
	for _, a := range m.Adapters {
		if a.Over == nil {
			b.Adapters = append(
				b.Adapters,
				BuiltAdapter{Number: a.Number, Network: a.Segment.Name, Models: []string{a.NIC}, MAC: a.MAC.String(),
					Plugged: true},
			)
		}
	}
	return b
}

func TestCompareBuilt(t *testing.T) {
	p := sample(t)
	p.Machine("sluice").Appliance.Needs = lab.Needs{
		Memory:    512 * lab.MiB,
		NICs:      []string{"virtio"},
		DiskBuses: []string{"virtio"},
	}
	for _, c := range []struct {
		what, machine string
		change        func(*Built)
		want          []string // code and part of the message, in order; * marks what is worth a look only
	}{
		{"as planned", "sluice", func(*Built) {}, nil},
		{"as planned, a guest", "otter", func(*Built) {}, nil},
		{"another case", "sluice", func(b *Built) { b.Adapters[1].Network = "Reedbed" },
			[]string{`no-gateway adapter 2 is on "Reedbed", and the segment is called reedbed`}},
		{"a trailing digit", "sluice", func(b *Built) { b.Adapters[1].Network = "reedbed2" },
			[]string{`no-gateway adapter 2 is on "reedbed2"`}},
		{"a letter off", "heron", func(b *Built) { b.Adapters[0].Network = "reedbad" }, []string{`no-gateway adapter 1 is on "reedbad"`}},
		{"the wrong way round", "sluice", func(b *Built) {
			b.Adapters[0].Network, b.Adapters[1].Network = "reedbed", "causeway"
		}, []string{"dual-homed-guest adapter 1 (wan) is on reedbed (planned: causeway); adapter 2 is on it: are they the wrong way round?",
			"dual-homed-guest adapter 2 (lan) is on causeway"}},
		{"two inside ones", "sluice", func(b *Built) { b.Adapters[1].Network = "boathouse" },
			[]string{" adapter 2 (lan) is on boathouse (planned: reedbed)"}},
		{"the hypervisor's name for the outside", "sluice", func(b *Built) { b.Adapters[0].Network = "Bridged" },
			[]string{`* adapter 1 (wan) is on "Bridged", a network that the lab does not name`}},
		{"no network", "sluice", func(b *Built) { b.Adapters[2].Network = "" },
			[]string{"* adapter 3 (dmz) has no network; planned: boathouse"}},
		{"unknown", "ferry", func(b *Built) { b.Adapters[0].Network = "Internal 7" }, []string{`no-gateway adapter 1 (`}},
		{"missing", "sluice", func(b *Built) { b.Adapters = b.Adapters[:2] }, []string{"unattached-port adapter 3 (dmz on boathouse) is missing"}},
		{"a second door", "heron", func(b *Built) {
			b.Adapters = append(b.Adapters, BuiltAdapter{Number: 2, Network: "causeway", Plugged: true})
		}, []string{"dual-homed-guest adapter 2 is in no plan, and it is on causeway"}},
		{"one more", "sluice", func(b *Built) { b.Adapters = append(b.Adapters, BuiltAdapter{Number: 4}) },
			[]string{"* adapter 4 is in no plan; it is not connected at start"}},
		{"unplugged", "sluice", func(b *Built) { b.Adapters[1].Plugged = false },
			[]string{"unattached-port adapter 2 (lan) is there and not connected"}},
		{"another address", "otter", func(b *Built) { b.Adapters[0].MAC = "020baa000009" },
			[]string{"* adapter 1 has the MAC address 02:0b:aa:00:00:09"}},
		{"twins", "sluice", func(b *Built) { b.Adapters[2].MAC = b.Adapters[1].MAC },
			[]string{"duplicate-mac adapters 2 and 3", "* adapter 3 has the MAC address"}},
		{"a model without a driver", "sluice", func(b *Built) { b.Adapters[0].Models = []string{"rtl8139"} },
			[]string{"no-nic-driver adapter 1 is a rtl8139"}},
		{"a guest's other model", "heron", func(b *Built) { b.Adapters[0].Models = []string{"e1000"} },
			[]string{"* adapter 1 is a e1000 (planned: virtio)"}},
		{"a bus without a driver", "sluice", func(b *Built) { b.Buses = []string{"ide"} }, []string{"no-disk-driver a disk is attached by ide"}},
		{"small", "sluice", func(b *Built) { b.Memory, b.CPUs = 256*lab.MiB, 1 },
			[]string{"undersized it has 256MiB of memory, and the image needs 512MiB"}},
		{"firmware", "sluice", func(b *Built) { b.Firmware = "uefi" }, []string{" it starts by uefi (planned: bios)"}},
		{"the medium first", "sluice", func(b *Built) { b.Boot, b.Media = []string{"media", "disk"}, "gate.iso" },
			[]string{"boots-media it starts from the medium before the disk"}},
	} {
		m := p.Machine(c.machine)
		b := asPlanned(m)
		c.change(&b)
		var told []string
		for _, d := range CompareBuilt(p, m, b) {
			line := d.Code + " " + d.Message
			switch d.Sight {
			case AsPlanned:
				continue
			case Remark, Unseen:
				line = "* " + d.Message
			}
			told = append(told, line)
			assert.NotEmpty(t, d.Remedy, c.what)
		}
		if !assert.GreaterOrEqual(t, len(told), len(c.want), "%s: %s", c.what, strings.Join(told, " | ")) {
			continue
		}
		for i, w := range c.want {
			assert.Contains(t, told[i], w, c.what)
		}
		if c.want == nil {
			assert.Empty(t, told, c.what)
		}
	}
}

func TestWire(t *testing.T) {
	p := sample(t)
	m := p.Machine("sluice")
	for _, c := range []struct{ networks, want string }{
		{"Management, Outside, Inside, DMZ", "-? wan lan dmz"},
		{"LAN, WAN, OPT", "lan wan dmz?"},
		{"boathouse, reedbed, causeway", "dmz lan wan"},
		{"Network 1, Network 2, Network 3, Network 4", "wan? lan? dmz? -?"},
		{"internal-external, lan", "wan? lan"},
		{"Inside, Inside, WAN", "lan? -? wan"},
		{"", "wan?"},
	} {
		b := Built{}
		for k, n := range strings.Split(c.networks, ", ") {
			b.Adapters = append(b.Adapters, BuiltAdapter{Number: k + 1, Network: n, Plugged: true})
		}
		var got []string
		for _, w := range Wire(p, m, b) {
			name := "-"
			if w.Port != nil {
				name = w.Port.Name
			}
			if w.Doubt != "" {
				name += "?"
			}
			got = append(got, name)
		}
		assert.Equal(t, c.want, strings.Join(got, " "), fmt.Sprint(c.networks))
	}
}

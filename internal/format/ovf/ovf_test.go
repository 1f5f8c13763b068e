package ovf

import (
	"os"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func sample(t *testing.T) string {
	data, err := os.ReadFile("testdata/sluice.ovf")
	require.NoError(t, err)
	return string(data)
}

func TestRead(t *testing.T) {
	p, err := Read([]byte(sample(t)))
	require.NoError(t, err)
	assert.Equal(t, []File{{"file1", "sluice-disk1.qcow2", 196616, "", 0}}, p.Files)
	assert.Equal(t, []Disk{{"disk1", "sluice-disk1.qcow2", 16 << 30, "qcow2"}, {"logs", "", 2 << 30, "qcow2"}}, p.Disks)
	assert.Equal(t, Network{"Management", "The admin page answers here."}, p.Networks[0])
	assert.Equal(t, []Option{{"small", "Small", "up to 20 guests", false}, {"large", "Large", "more", true}}, p.Options)
	require.Len(t, p.Systems, 1)
	s := p.Systems[0]
	assert.Equal(t, []string{"Sluice", "Sluice Gate", "Saltmarsh Field Station", "4.2 build 17", "A Linux of 64 bits"},
		[]string{s.Title(), s.Product, s.Vendor, s.Release, s.Guest})
	assert.True(t, s.Licence)
	assert.Equal(
		t,
		[]any{4, int64(4 << 30), 2},
		[]any{s.CPUs, s.Memory, s.Floor.CPUs},
		"the choice that is made unless another is",
	)
	require.Len(t, s.Adapters, 4)
	assert.Equal(t, Adapter{3, "eth2", "Inside", "virtio e1000", "", true}, s.Adapters[2])
	assert.False(t, s.Adapters[3].Plugged)
	assert.Equal(
		t,
		[]Drive{{false, "disk1", 16 << 30, "sluice-disk1.qcow2", "virtio"}, {false, "logs", 2 << 30, "", "virtio"},
			{true, "", 0, "", "ide"}},
		s.Drives,
	)
}

// Small changes of the sample, and what must come of each.
func TestReadVariants(t *testing.T) {
	whole := sample(t)
	for _, c := range []struct {
		what, old, new string
		check          func(*Package) any
		want           any
	}{
		{"the small choice", `ovf:id="large" ovf:default="true"`, `ovf:id="large"`,
			func(p *Package) any { return []int64{int64(p.Systems[0].CPUs), p.Systems[0].Memory} }, []int64{1, 1 << 30}},
		{"no unit", "<rasd:AllocationUnits>MegaBytes</rasd:AllocationUnits>", "", func(p *Package) any { return p.Systems[0].Memory },
			int64(4 << 30)},
		{"powers of ten", "byte * 2^30", "byte * 10^9", func(p *Package) any { return p.Disks[0].Capacity }, int64(16e9)},
		{"left to the deployment", `ovf:capacity="16"`, `ovf:capacity="${disk}"`, func(p *Package) any { return p.Disks[0].Capacity }, int64(0)},
		{"firmware by a key of any maker", "<VirtualHardwareSection>",
			`<VirtualHardwareSection><x:Config xmlns:x="urn:x" x:key="x.firmware" x:value="EFI"/>`,
			func(p *Package) any { return p.Systems[0].Firmware }, "uefi"},
		{"unplugged by a key", "<rasd:ElementName>eth0</rasd:ElementName>",
			`<rasd:ElementName>eth0</rasd:ElementName><x:Config xmlns:x="urn:x" x:key="link.startConnected" x:value="false"/>`,
			func(p *Package) any { return p.Systems[0].Adapters[0].Plugged }, false},
		{"unplugged by a number", "<rasd:AutomaticAllocation>true<", "<rasd:AutomaticAllocation>0<",
			func(p *Package) any { return p.Systems[0].Adapters[0].Plugged }, false},
		{"a fixed address", "<rasd:AutomaticAllocation>true<", "<rasd:Address>02:5c:00:00:00:07</rasd:Address><rasd:AutomaticAllocation>true<",
			func(p *Package) any { return p.Systems[0].Adapters[0].MAC }, "02:5c:00:00:00:07"},
		{"a maker's own part", "<EulaSection>", `<Extra xmlns="urn:x"><Deep/></Extra><Must xmlns="urn:x" required="true"/><EulaSection>`,
			func(p *Package) any { return p.Systems[0].Unread }, []string{"Extra", "Must, which it requires"}},
		{"pieces", `ovf:size="196616"`, `ovf:size="196616" ovf:chunkSize="65536"`, func(p *Package) any { return p.Files[0].Chunk },
			int64(65536)},
		{"no controller", "<rasd:Parent>7</rasd:Parent>", "", func(p *Package) any { return p.Systems[0].Drives[0].Bus }, ""},
		{"one of a collection", "<VirtualSystem ", `<VirtualSystemCollection ovf:id="lab"><VirtualSystem `,
			func(p *Package) any { return len(p.Systems) }, 1},
		{"a boot order", "<EulaSection>",
			`<BootDeviceSection><CIM_BootConfigSetting><CIM_BootSourceSetting><StructuredBootString>CIM:CD/DVD:1</StructuredBootString></CIM_BootSourceSetting><CIM_BootSourceSetting><StructuredBootString>CIM:Hard-Disk:1</StructuredBootString></CIM_BootSourceSetting></CIM_BootConfigSetting></BootDeviceSection><EulaSection>`, func(p *Package) any { return p.Systems[0].Boot }, []string{"media", "disk"}},
	} {
		text := strings.Replace(whole, c.old, c.new, 1)
		if strings.Contains(c.new, "Collection") {
			text = strings.Replace(text, "</VirtualSystem>", "</VirtualSystem></VirtualSystemCollection>", 1)
		}
		require.NotEqual(t, whole, text, c.what)
		p, err := Read([]byte(text))
		if assert.NoError(t, err, c.what) {
			assert.Equal(t, c.want, c.check(p), c.what)
		}
	}
	for _, c := range []struct{ old, new, want string }{
		{"byte * 2^30", "byte * 2^99", "is not a unit"},
		{`ovf:capacity="16"`, `ovf:capacity="99999999999999999"`, "beyond any machine"},
		{`ovf:capacity="16"`, `ovf:capacity="-1"`, `"-1" is not a count`},
		{"<rasd:VirtualQuantity>4<", "<rasd:VirtualQuantity>many<", "many processors"},
		{"</Envelope>", "", "unexpected EOF"},
		{whole, "<Package/>", "a descriptor is an Envelope"},
		{whole, "<Envelope/>", "contains no virtual system"},
		{whole, strings.Repeat(" ", MaxSize+1), "more than"},
	} {
		_, err := Read([]byte(strings.Replace(whole, c.old, c.new, 1)))
		assert.ErrorContains(t, err, c.want)
	}
}

func FuzzRead(f *testing.F) {
	data, err := os.ReadFile("testdata/sluice.ovf")
	require.NoError(f, err)
	f.Add(data)
	f.Add([]byte("<Envelope><VirtualSystem/></Envelope>"))
	f.Fuzz(func(t *testing.T, data []byte) {
		if p, err := Read(data); err == nil {
			for _, s := range p.Systems {
				s.Title()
			}
		}
	})
}

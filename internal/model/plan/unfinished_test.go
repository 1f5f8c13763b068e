package plan

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"openbastion/internal/model/lab"
)

const mixed = `bastion: 1
lab: saltmarsh
segments:
  causeway: {reach: upstream, uplink: enp1, subnet: 172.29.64.0/24, gateway: 172.29.64.1}
  reedbed: {reach: isolated, uplink: enp2, native: 10, subnet: 10.83.16.0/24}
  tidepool: {reach: isolated, within: reedbed, vlan: 48}
  attic: later
appliances:
  sluice:
    admin-services: [ssh, https/8443]
    machine: {cpus: 2, queues: 1}
    ports:
      - {role: wan, segment: causeway, connect: later}
      - {role: lan, segment: reedbed, address: 10.83.16.1/24}
      - {role: lan, name: sealed, segment: tidepool, over: lan}
      - {role: unused}
      - {role: dmz}
      - {role: later, segment: attic}
  old:
    running: false
    ports: [{role: wan, segment: causeway}, {role: lan, segment: reedbed, address: 10.83.16.1/24}]
guests:
  heron: reedbed
  desk: {segment: reedbed, physical: true}
  otter: later
  server: {segment: reedbed, static: 10.83.16.5/24, running: false}
`

// What is not used, not decided, off or real has its place in the plan, and nobody
// meets it there.
func TestUnfinished(t *testing.T) {
	p := build(t, mixed)
	sluice, old := p.Machine("sluice"), p.Machine("old")
	require.Len(t, sluice.Adapters, 6)
	wan, lan, sealed, unused, dmz, some := sluice.Adapters[0], sluice.Adapters[1], sluice.Adapters[2], sluice.Adapters[3], sluice.Adapters[4],
		sluice.Adapters[5]
	assert.True(t, wan.Later() && wan.Plugged, "it is connected in the end")
	assert.Equal(
		t,
		[]lab.AdminService{{Scheme: "https", Port: 8443}, {Scheme: "ssh", Port: 22}},
		lan.Admin,
		"pages first",
	)
	assert.True(t, lan.Manages(22) && !lan.Manages(443) && len(sealed.Admin) == 0)
	for _, a := range []*Adapter{unused, dmz, some} {
		assert.False(t, a.Plugged, a.Name)
		assert.Equal(t, NoAddress, a.How, a.Name)
		assert.NotContains(t, p.Segment("attic").Adapters, a, a.Name)
		assert.NotZero(t, a.MAC, "it is there: %s", a.Name)
	}
	assert.True(t, unused.Segment.Nowhere() && dmz.Segment.Nowhere() && !some.Segment.Nowhere())
	assert.NotSame(t, unused.Segment, dmz.Segment, "each is on a nowhere of its own")
	assert.Equal(
		t,
		[]int{1, 2, 2, 3, 4, 5},
		[]int{wan.Number, lan.Number, sealed.Number, unused.Number, dmz.Number, some.Number},
	)
	assert.Equal(t, 1, sluice.Spec.Queues, "as the file says")

	assert.True(t, old.Off)
	for _, a := range old.Adapters {
		assert.False(t, a.Plugged)
		assert.NotContains(t, a.Segment.Adapters, a)
	}
	assert.Equal(t, lan, p.Segment("reedbed").Port, "its successor's")
	assert.Nil(t, old.Adapters[1].Leases)
	names := func(list []*Machine) (out []string) {
		for _, m := range list {
			out = append(out, m.Name)
		}
		return out
	}
	assert.Equal(t, []string{"sluice"}, names(p.Running()))
	assert.Equal(
		t,
		[]string{"sluice", "heron", "otter", "server"},
		names(p.Made()),
		"real computers and what is there are not made",
	)
	assert.Equal(t, []string{"sluice", "heron", "otter"}, names(p.Order))

	assert.Equal(t, lab.Isolated, p.Segment("attic").Reach, "planned so that it does no harm")
	assert.Equal(t, "enp2", p.Segment("tidepool").Wire.Uplink())
	assert.False(t, p.Segment("reedbed").Wire.LeavesHost(), "the socket is the lab's own")
	assert.True(t, p.Segment("causeway").Wire.LeavesHost())

	d := p.Document()
	assert.Len(t, d.Open, 4)
	for _, a := range d.Adapters {
		assert.NotEqual(t, Nowhere, a.Segment)
	}
	pinned, _ := p.Pin([]byte(mixed))
	l, err := lab.Read("lab.yaml", pinned)
	require.NoError(t, err, string(pinned))
	assert.Len(t, l.Open, 4, "what is decided later stays open")
}

// A wire that shares its socket with one that leads upstream leads there too.
func TestSharedSocket(t *testing.T) {
	p := build(t, `bastion: 1
lab: saltmarsh
segments:
  causeway: {reach: upstream, uplink: enp1}
  reedbed: {reach: isolated, uplink: enp1}
  boathouse: {reach: upstream, join: nat, uplink: enp1}
appliances:
  sluice: {ports: [{role: wan, segment: causeway}, {role: lan, segment: reedbed}]}
`)
	assert.True(t, p.Segment("reedbed").Wire.LeavesHost())
	assert.Empty(t, p.Segment("boathouse").Wire.Uplink(), "the host translates there")
	assert.False(t, p.Segment("boathouse").Wire.LeavesHost())
}

// Where an appliance is managed follows its kind where the file does not say.
func TestManagedAsItsKind(t *testing.T) {
	for _, c := range []struct {
		factory lab.Factory
		admin   string
		want    string
	}{
		{lab.Factory{}, "", "https/443"}, {lab.Factory{Scheme: "https", AdminPort: 4443}, "", "https/4443"},
		{lab.Factory{Scheme: "http"}, "", "http/80"}, {lab.Factory{Scheme: "http", AdminPort: 8080}, ", admin: true", "http/8080"},
		{lab.Factory{Scheme: "https", AdminPort: 4443}, ", admin: tcp/8443", "https/8443"}, {lab.Factory{}, ", admin: tcp/80", "http/80"},
	} {
		l, err := lab.Read(
			"lab.yaml",
			[]byte(
				"bastion: 1\nlab: fen\nsegments: {up: {reach: upstream}, in: {reach: isolated}}\nappliances:\n  gate: {ports: [{role: wan, segment: up}, {role: lan, segment: in"+c.admin+"}]}\n",
			),
		)
		require.NoError(t, err)
		l.Profiles = map[string]*lab.Profile{"": {Factory: c.factory}}
		p, err := Build(l)
		require.NoError(t, err)
		assert.Equal(t, c.want, p.Machine("gate").Adapters[1].Admin[0].String())
	}
}

package lab

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// What is decided later, or left out, is a question with its place; everything else of
// the file is read as if the key were not there.
func TestOpen(t *testing.T) {
	for _, c := range []struct{ old, new, want string }{
		{"  reedbed: {reach: isolated}", "  reedbed: {reach: later}", "segment reedbed: how far does it reach"},
		{"  reedbed: {reach: isolated}", "  reedbed: later", "segment reedbed: how far does it reach"},
		{"  reedbed: {reach: isolated}", "  reedbed: {}", "segment reedbed: how far does it reach"},
		{"  reedbed: {reach: isolated}", "  reedbed: {reach: isolated, subnet: later}", "segment reedbed: which network has it"},
		{"  reedbed: {reach: isolated}", "  reedbed: {reach: isolated, dhcp: later}", "segment reedbed: DHCP server there"},
		{"  reedbed: {reach: isolated}", "  reedbed: {reach: isolated, uplink: later}", "segment reedbed: by which of the host's adapters"},
		{"  causeway: {reach: upstream}", "  causeway: {reach: upstream, gateway: later}", "segment causeway: which router is there"},
		{"{role: wan, segment: causeway}", "{role: wan}", "port wan of sluice: on which segment is it"},
		{"{role: wan, segment: causeway}", "{role: wan, segment: later}", "port wan of sluice: on which segment is it"},
		{"{role: wan, segment: causeway}", "{role: wan, segment: causeway, address: later}", "port wan of sluice: how does it get its address"},
		{"{role: wan, segment: causeway}", "{role: wan, segment: causeway, address: 172.29.64.7/24, gateway: later}",
			"port wan of sluice: which next hop"},
		{"{role: lan, segment: reedbed}", "{role: later, segment: reedbed}", "port port of sluice: which side is it"},
		{"  heron: reedbed", "  heron: later", "guest heron: on which segment is it"},
		{"  heron: reedbed", "  heron: {}", "guest heron: on which segment is it"},
		{"  heron: reedbed", "  heron: {segment: reedbed, static: later}", "guest heron: which address is static"},
		{"  heron: reedbed", "  heron: {segment: reedbed, reserve: later}", "guest heron: which address is reserved for it"},
		{"  heron: reedbed", "  heron: {adapters: [{segment: reedbed}, {mac: '02:00:00:00:00:09'}]}",
			"adapter 2 of heron: on which segment is it"},
		{"guests:", "    rules: later\nguests:", "appliance sluice: which rules has it"},
	} {
		text := strings.Replace(shortest, c.old, c.new, 1)
		require.NotEqual(t, shortest, text, c.old)
		l, err := Read("lab.yaml", []byte(text))
		require.NoError(t, err, c.new)
		require.Len(t, l.Open, 1, c.new)
		o := l.Open[0]
		assert.Equal(t, c.want, o.Subject+": "+o.Question)
		assert.NotZero(t, o.Pos.Line)
		assert.True(t, Later(o.Of, o.Key) || !o.Of.origin().written(o.Key), c.new)
		assert.False(t, o.Of.origin().Has(o.Key), "it has no value: %s", c.new)
	}
	l, err := Read("lab.yaml", []byte(shortest))
	require.NoError(t, err)
	assert.Empty(t, l.Open)
	for _, must := range []string{"bastion: later", "lab: Later", "title: later"} { // what must be known, and what is free text
		key, _, _ := strings.Cut(must, ":")
		text := strings.Replace(shortest, key+":", must+"\nx", 1)
		if key == "title" {
			text = shortest + "\n" + must + "\n"
		}
		l, err := Read("lab.yaml", []byte(text))
		if key != "title" {
			assert.Error(t, err, must)
			continue
		}
		require.NoError(t, err)
		assert.Equal(t, "later", l.Title)
	}
}

// An editor decides what was open, and leaves what it is not told of.
func TestOpenIsDecidedInPlace(t *testing.T) {
	text := strings.Replace(shortest, "{role: wan, segment: causeway}", "{role: wan, segment: later, address: dhcp}", 1)
	l, err := Read("lab.yaml", []byte(text))
	require.NoError(t, err)
	e := NewEditor([]byte(text))
	e.Set(l.Appliances[0].Ports[0], "segment", "causeway")
	assert.Equal(t, strings.Replace(text, "later", "causeway", 1), string(e.Bytes()))
	l, err = Read("lab.yaml", e.Bytes())
	require.NoError(t, err)
	assert.Empty(t, l.Open)
}

func TestAdminServices(t *testing.T) {
	for text, want := range map[string]string{"https": "https/443", "HTTP": "http/80", "ssh/2222": "ssh/2222", "telnet": "telnet/23"} {
		s, err := parseAdminService(text)
		require.NoError(t, err, text)
		assert.Equal(t, want, s.String())
		assert.Equal(t, strings.HasPrefix(want, "http"), s.Page())
		assert.Equal(t, strings.HasPrefix(want, "http/") || strings.HasPrefix(want, "telnet"), s.Plain())
	}
	for _, text := range []string{"", "ftp", "https/", "https/0", "https/65536", "https/443/1", "ssh/-1"} {
		_, err := parseAdminService(text)
		assert.Error(t, err, text)
	}
	for text, want := range map[string]string{"10.83.16.0/24 via 172.29.64.7": "10.83.16.0/24 172.29.64.7",
		"10.83.0.0/255.255.0.0 via 172.29.64.7": "10.83.0.0/16 172.29.64.7"} {
		r, err := parseRoute(text)
		require.NoError(t, err, text)
		assert.Equal(t, want, fmt.Sprint(r.To, " ", r.Via))
	}
	for _, text := range []string{"10.83.16.0/24", "10.83.16.0 via 172.29.64.7", "10.83.16.0/24 via", "10.83.16.0/24 via gate",
		"via 172.29.64.7"} {
		_, err := parseRoute(text)
		assert.Error(t, err, text)
	}
}

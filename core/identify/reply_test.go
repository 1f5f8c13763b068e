package identify

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
)

// What a console asks is answered by the plan, and what no rule knows, or what may mean two
// ports, by nobody.
func TestReplyTo(t *testing.T) {
	p := sample(t)
	m := p.Machine("sluice")
	var list strings.Builder
	for i, a := range []int{2, 0, 1} { // as the system found them, in an order of its own
		list.WriteString("net" + string(rune('0'+i)) + "  " + m.Adapters[a].MAC.String() + "\n")
	}
	for _, c := range []struct {
		asks string
		do   Do
		text string
	}{
		{"Which interface is wan?", Type, "net1"},
		{"Which interface is lan? [none]", Type, "net2"},
		{"Interface of dmz:", Type, "net0"},
		{"Does wan get its address by a lease (y/n)?", Type, "y"},
		{"Does lan get its address by DHCP? [y/n]", Type, "n"},
		{"Address of lan:", Type, "10.83.16.1"},
		{"Prefix length of lan, in bits?", Type, "24"},
		{"Mask of dmz?", Type, "255.255.255.0"},
		{"Does lan hand out leases (y/n)?", Type, "y"},
		{"First address of the pool of lan?", Type, "10.83.16.50"},
		{"Last address of the pool of lan?", Type, "10.83.16.199"},
		{"VLAN tag of quarantine?", Type, "48"},
		{"Are VLANs to be set up? (y/n)", Type, "y"},
		{"Name of this machine:", Type, "sluice"},
		{"Domain?", Type, "saltmarsh.example"},
		{"Is this right (yes/no)?", Type, "y"},
		{"Remove the medium and press Enter.", Eject, ""},
		{"Password of the administrator:", Stop, ""},
		{"Licence key?", Stop, ""},
		{"Address of the inside port?", Stop, ""}, // which of two?
		{"Gateway of lan?", Stop, ""},
		{"Erase the disk (y/n)?", Stop, ""},
		{"How much swap?", Stop, ""},
	} {
		r := ReplyTo(p, m, list.String()+"\n"+c.asks+" \n")
		assert.Equal(t, c.do, r.Do, "%s: %s", c.asks, r.Why)
		assert.Equal(t, c.text, r.Text, c.asks)
		assert.NotEmpty(t, r.Why, c.asks)
	}
	assert.Equal(t, Stop, ReplyTo(p, m, "net0\nnet1\nWhich interface is wan?").Do, "by order is luck")
	for _, text := range []string{"", "\n \n", "Copying files", "[  3.21] eth0: link up"} {
		assert.Empty(t, ReplyTo(p, m, text).Question, "%q asks nothing", text)
	}
}

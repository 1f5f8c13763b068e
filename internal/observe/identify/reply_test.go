package identify

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"

	"openbastion/internal/model/plan"
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
		{"Does wan get its address DHCP (y/n)?", Type, "y"},
		{"Does lan get its address by DHCP? [y/n]", Type, "n"},
		{"Address of lan:", Type, "10.83.16.1"},
		{"Prefix length of lan, in bits?", Type, "24"},
		{"Mask of dmz?", Type, "255.255.255.0"},
		{"Does lan serve DHCP (y/n)?", Type, "y"},
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
		r := ReplyTo(p, m, list.String()+"\n"+c.asks+" \n", nil)
		assert.Equal(t, c.do, r.Do, "%s: %s", c.asks, r.Why)
		assert.Equal(t, c.text, r.Text, c.asks)
		assert.NotEmpty(t, r.Why, c.asks)
	}
	assert.Equal(t, Stop, ReplyTo(p, m, "net0\nnet1\nWhich interface is wan?", nil).Do, "by order is chance")
	for _, text := range []string{"", "\n \n", "Copying files", "[  3.21] eth0: link up"} {
		assert.Empty(t, ReplyTo(p, m, text, nil).Question, "%q asks nothing", text)
	}
}

// Where a screen tells its interfaces by their links alone, each adapter is unplugged in turn,
// and what was found so is the answer.
func TestReplyByUnplugging(t *testing.T) {
	p := sample(t)
	m := p.Machine("sluice")
	const asks = "\nWhich interface is wan? Enter alone looks again: "
	for _, list := range []string{
		"  eth0  link up\n  eth1  link up\n  eth2  link down\n",
		"eth0: no link\neth1: link is up\neth2: link is up\n",
		"em0 (up)\nem1 (up)\nem2 (no carrier)\n",
	} {
		r := ReplyTo(p, m, list+asks, nil)
		assert.Equal(t, Reply{Question: strings.TrimSpace(asks), Do: Unplug, Again: true, Why: r.Why}, r, list)
		r = ReplyTo(p, m, list+asks, map[*plan.Adapter]string{m.Adapters[0]: "eth1"})
		assert.Equal(t, []any{Type, "eth1"}, []any{r.Do, r.Text})
	}
	assert.Equal(t, Stop, ReplyTo(p, m, "eth0\neth1\neth2\n"+asks, nil).Do, "a screen that says nothing of links")
	assert.Equal(t, Stop, ReplyTo(p, m, "eth0 link up\neth1 link up\n"+asks, nil).Do, "one interface is not there")
	assert.Equal(t, Stop, ReplyTo(p, m, "eth0 link up\neth1 link up\neth2 link up\nAddress of inside?", nil).Do)
}

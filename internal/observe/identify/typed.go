package identify

import (
	"fmt"
	"strings"

	"openbastion/internal/model/plan"
	"openbastion/internal/model/subnet"
	"openbastion/internal/observe/listing"
)

// answers judges what somebody typed at the console's questions.
func (c *comparison) answers(x *pairing) {
	if c.m.Appliance == nil {
		return
	}
	devices := map[string]*plan.Adapter{} // what was typed as a port's interface
	for _, a := range c.l.Answers {
		port := portMeant(c.m, a.Question)
		if port == nil {
			continue
		}
		low := strings.ToLower(a.Question)
		asks := func(words ...string) bool {
			for _, w := range words {
				if strings.Contains(low, w) {
					return true
				}
			}
			return false
		}
		yes, no := strings.HasPrefix(strings.ToLower(a.Text), "y"), strings.HasPrefix(strings.ToLower(a.Text), "n")
		switch {
		case (yes || no) && len(a.Text) <= 3 && asks("lease", "dhcp") && port.Role != "wan":
			c.answered(yes == (port.Leases != nil), map[bool]string{true: "yes", false: "no"}[port.Leases != nil], a,
				port.Name+map[bool]string{true: " serves DHCP", false: " does not serve DHCP"}[port.Leases != nil])
		case len(a.Text) <= 3 && (yes || no):
		case asks("start", "first", "begin", "from") && port.Leases != nil:
			c.answeredAddress(
				a,
				port.Leases.Pool.From.String(),
				"the pool of "+port.Name+" begins at "+port.Leases.Pool.From.String(),
			)
		case asks("end", "last") && port.Leases != nil:
			c.answeredAddress(
				a,
				port.Leases.Pool.To.String(),
				"the pool of "+port.Name+" ends at "+port.Leases.Pool.To.String(),
			)
		case asks("gateway", "router", "next hop"):
			want := "none"
			if port.Gateway.IsValid() {
				want = port.Gateway.String()
			}
			c.answeredAddress(a, want, "the gateway planned for "+port.Name+" is "+want)
		case asks("bit", "mask", "prefix", "length"):
			length := fmt.Sprint(port.Segment.Subnet.Bits())
			c.answered(
				strings.TrimPrefix(a.Text, "/") == length || a.Text == subnet.Mask(port.Segment.Subnet.Bits()),
				length,
				a,
				port.Segment.Name+" has /"+length,
			)
		case asks("tag", "vlan") && port.Over != nil:
			c.answered(a.Text == fmt.Sprint(port.Segment.Tag), fmt.Sprint(port.Segment.Tag), a,
				fmt.Sprintf("%s has the tag %d", port.Segment.Name, port.Segment.Tag))
		case asks("device", "interface", "nic", "adapter", "which", "card"):
			c.answeredDevice(x, devices, port, a)
		case asks("address", "ip") && port.Address.IsValid():
			c.answeredAddress(a, port.Address.Addr().String(), port.Name+" should have "+port.Address.String())
		}
	}
}

// answeredAddress judges an address that was typed, or what should have been one; a
// prefix length behind it is judged with it by its own question.
func (c *comparison) answeredAddress(a listing.Answer, want, why string) {
	text, _, _ := strings.Cut(a.Text, "/")
	if _, err := subnet.ParseAddr(text); err != nil && want != "none" {
		c.wrong(
			"",
			"go back and answer "+want,
			"%q was entered in line %d, which is not an address: %v",
			a.Text,
			a.Line,
			err,
		)
		return
	}
	c.answered(text == want || want == "none" && strings.EqualFold(text, "none"), want, a, why)
}

// answeredDevice judges which interface was typed for a port: against what the same
// paste, or the lab file, shows it to be, and against the other answers.
func (c *comparison) answeredDevice(x *pairing, typed map[string]*plan.Adapter, port *plan.Adapter, a listing.Answer) {
	name := strings.ToLower(a.Text)
	if other := typed[name]; other != nil && other != port && other.Over == nil && port.Over == nil {
		c.wrong(
			"unpinned-order",
			"go back and answer each with its own",
			"%s was typed for %s and for %s",
			a.Text,
			other.Name,
			port.Name,
		)
		return
	}
	typed[name] = port
	if port.Seen() != "" {
		c.answered(strings.EqualFold(a.Text, port.Seen()), port.Seen(), a, port.Name+" is "+port.Seen())
		return
	}
	if k, ok := x.taken[port]; ok && x.rows[k].How.Sure() && x.rows[k].listed.Device != "" {
		device := x.rows[k].listed.Device
		c.answered(
			strings.EqualFold(a.Text, device),
			device,
			a,
			fmt.Sprintf("%s is %s, by %s", port.Name, device, x.rows[k].How),
		)
	}
}

func (c *comparison) answered(right bool, want string, a listing.Answer, why string) {
	if right {
		c.on(a.Line, "the answer %s is as planned", a.Text)
		return
	}
	c.wrong("", "go back and answer "+want, "%q was typed at line %d, and %s", a.Text, a.Line, why)
}

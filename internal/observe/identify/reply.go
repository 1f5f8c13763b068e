package identify

import (
	"fmt"
	"regexp"
	"slices"
	"strings"
	"sync"

	"openbastion/internal/model/lab"
	"openbastion/internal/model/plan"
	"openbastion/internal/model/subnet"
	"openbastion/internal/observe/listing"
)

// Do is what is done at a console's question.
type Do int

// What may be done.
const (
	Stop   Do = iota // nobody knows that question: a person must look
	Type             // type the answer, and Enter
	Eject            // take the medium out of the drive, and press Enter
	Unplug           // unplug each adapter in turn: by their links alone the screen tells its interfaces apart
)

// Reply is the plan's answer to what stands on a console.
type Reply struct {
	Question string // as it stands there; empty: nothing is asked
	Do       Do
	Text     string // what is typed; empty for Enter alone
	Again    bool   // Enter alone has the console look at its interfaces again
	Why      string // what the answer goes by, or why there is none
}

// What is asked for: a yes or a no; and what ends like a question at all.
var (
	asksYesNo = sync.OnceValue(func() *regexp.Regexp {
		return regexp.MustCompile(`(?i)[(\[]\s*y(es)?\s*[/|]\s*n(o)?\s*[)\]]|\byes or no\b`)
	})
	prompted = sync.OnceValue(func() *regexp.Regexp {
		return regexp.MustCompile(`[?:>]\s*$|[?:>]\s*[\[(][^\])]*[\])]\s*[?:>]?\s*$`)
	})
)

// ReplyTo answers the question that a console waits at, which stands at the end of its
// screen. Interfaces are told apart by the hardware addresses that the screen shows, or by
// what is known of them already: devices are those that were found by unplugging. It guesses
// nothing: a question that fits no rule, or more than one port, stops.
func ReplyTo(p *plan.Plan, m *plan.Machine, screen string, devices map[*plan.Adapter]string) Reply {
	lines := strings.Split(strings.TrimRight(screen, " \n"), "\n")
	question := strings.TrimSpace(lines[len(lines)-1])
	if question == "" {
		return Reply{}
	}
	r := Reply{Question: question}
	low := strings.ToLower(question)
	asks := func(words ...string) bool {
		for _, w := range words {
			if strings.Contains(low, w) {
				return true
			}
		}
		return false
	}
	if asks("remove", "eject", "take out") && asks("medium", "media", "disc", "cd") {
		r.Do, r.Why = Eject, "the disk is to start next, not the medium"
		return r
	}
	if !prompted().MatchString(question) {
		return Reply{}
	}
	port := portMeant(m, question)
	if port != nil && !asks(strings.ToLower(port.Name)) && asks("inside", "internal") && manyInside(m) {
		port = nil
	}
	q := asked{m: m, port: port, asks: asks}
	if asksYesNo().MatchString(question) {
		r.Text, r.Why = q.yesOrNo()
	} else {
		r.Again = asks("enter") && asks("again", "refresh")
		r.Text, r.Why = q.value(func(a *plan.Adapter) (string, string) {
			if d := devices[a]; d != "" {
				return d, fmt.Sprintf("its link went when adapter %d was unplugged", a.Number)
			}
			return deviceOn(p, m, a, screen), fmt.Sprintf("%s has the MAC address %s", a.Name, a.MAC)
		})
		if r.Text == "" && q.port != nil && asks(deviceWords...) && len(Links(screen)) >= len(m.Own()) {
			r.Do, r.Why = Unplug, "only their links distinguish the interfaces"
			return r
		}
	}
	if r.Why == "" {
		r.Why = "no rule covers this question"
		return r
	}
	r.Do = Type
	return r
}

// manyInside reports whether it is an appliance with more than one port that "inside" may mean.
func manyInside(m *plan.Machine) bool {
	n := 0
	for _, a := range m.Own() {
		if a.Role.Inside() {
			n++
		}
	}
	return n > 1
}

// deviceWords are what asks for an interface.
var deviceWords = []string{"device", "interface", "nic", "adapter", "card"}

// Links returns the interfaces on a screen of which it says whether they have a link.
func Links(screen string) []listing.Interface {
	return slices.DeleteFunc(listing.Read(screen).Interfaces, func(i listing.Interface) bool {
		return i.Device == "" || i.Link == listing.LinkUnknown
	})
}

// asked is a question about a machine, or one of its ports.
type asked struct {
	m    *plan.Machine
	port *plan.Adapter // nil: about the machine, or nobody knows
	asks func(words ...string) bool
}

// yesOrNo answers what is answered by yes or no.
func (q asked) yesOrNo() (text, why string) {
	say := func(yes bool, why string) (string, string) {
		if yes {
			return "y", why
		}
		return "n", why
	}
	switch {
	case q.asks("hand out", "server", "serve") && q.asks("lease", "dhcp") && q.port != nil:
		return say(q.port.Leases != nil, "whether "+q.port.Name+" runs a DHCP server")
	case q.asks("lease", "dhcp") && q.port != nil && q.port.Role == lab.WAN:
		return say(q.port.How == plan.FromAbove, "how "+q.port.Name+" gets its address")
	case q.asks("lease", "dhcp") && q.port != nil && q.asks("its address", "get", "obtain", "client"):
		return say(false, q.port.Name+" has a static address")
	case q.asks("vlan", "tag"):
		for _, a := range q.m.Adapters {
			if a.Over != nil && (q.port == nil || a.Over == q.port) {
				return say(true, a.Name+" is tagged")
			}
		}
		return say(false, "nothing is tagged")
	case q.asks("is this right", "are these right", "is that right", "correct", "proceed", "continue", "go on", "apply", "save"):
		return say(true, "the answer is as planned")
	}
	return "", ""
}

// value answers what takes a value.
func (q asked) value(device func(*plan.Adapter) (name, why string)) (text, why string) {
	a := q.port
	switch {
	case q.asks("password", "passphrase", "licence", "license", "key"):
		return "", "" // a person's own
	case a == nil && q.asks("domain"):
		if leases := domainOf(q.m); leases != "" {
			return leases, "the domain of " + q.m.Name
		}
	case a == nil && q.asks("name") && !q.asks("name server", "nameserver", "interface", "user", "login"):
		return q.m.Name, "what the machine is called"
	case a == nil:
	case q.asks("first", "start", "begin", "from") && a.Leases != nil:
		return a.Leases.Pool.From.String(), "the pool of " + a.Name
	case q.asks("last", "end") && a.Leases != nil:
		return a.Leases.Pool.To.String(), "the pool of " + a.Name
	case q.asks("gateway", "router", "next hop"):
		if a.Gateway.IsValid() {
			return a.Gateway.String(), "the gateway of " + a.Name
		}
		return "", "" // an inside port has none; how that is said, this console knows
	case q.asks("bit", "prefix", "length"):
		return fmt.Sprint(a.Segment.Subnet.Bits()), "the length of " + a.Segment.Name
	case q.asks("mask"):
		return subnet.Mask(a.Segment.Subnet.Bits()), "the mask of " + a.Segment.Name
	case q.asks("tag", "vlan") && a.Over != nil:
		return fmt.Sprint(a.Segment.Tag), "the tag of " + a.Segment.Name
	case q.asks(deviceWords...):
		if d, why := device(a); d != "" {
			return d, why
		}
	case q.asks("address", "ip") && a.Address.IsValid():
		return a.Address.Addr().String(), "the address of " + a.Name
	}
	return "", ""
}

func domainOf(m *plan.Machine) string {
	for _, a := range m.Adapters {
		if a.Leases != nil && a.Leases.Domain != "" {
			return a.Leases.Domain
		}
	}
	return ""
}

// deviceOn returns what a port's interface is called: as the lab file or the screen shows it
// for sure, by its hardware address.
func deviceOn(p *plan.Plan, m *plan.Machine, a *plan.Adapter, screen string) string {
	if seen := a.Seen(); seen != "" {
		return seen
	}
	for _, row := range Listed(p, m, listing.Read(screen)).Rows {
		if row.adapter == a && row.How.Sure() && row.Conflict == "" {
			return row.Device
		}
	}
	return ""
}

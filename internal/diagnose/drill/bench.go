package drill

import (
	"context"
	"errors"
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"openbastion/internal/diagnose"
	"openbastion/internal/model/lab"
	"openbastion/internal/model/plan"
	"openbastion/internal/netsim/outcome"
	"openbastion/internal/simulator"
	"openbastion/internal/verify/claims"
)

// Bench is a lab with something wrong in it, in front of which a person sits.
type Bench struct {
	drill *Drill
	lab   *simulator.Lab
	cut   bool // the WANs are unplugged
}

// Reply is what a machine shows.
type Reply struct {
	Text  string
	Looks int // how many looks that was
}

// Help says what a person may ask.
const Help = `listing of GUEST             its addresses, routes and resolvers
ping from MACHINE to DESTINATION    DESTINATION: outside, a machine, an address
large from GUEST             a ping outside that fills a packet
name on MACHINE              does a name outside resolve?
page on GUEST [from DESTINATION]    a page outside, or at a machine or address
hops from GUEST              the first hop on the way outside
leases on GUEST              who answers when it asks who hands out leases
renew GUEST                  it asks anew
console of APPLIANCE         its ports, addresses and routes
rules of APPLIANCE           its rules, leases, translation, port forwards
adapters of MACHINE          which network each is attached to (3 looks)
published PROTO/PORT         from outside, at the WAN
unplug / plug                the appliances' WAN
answer WORDS                 what is wrong, in words or by its name
fewest, hint, give up, quit`

// errors of a person's question.
var errNotUnderstood = errors.New("unknown question; help lists them")

// fillers are words that change nothing.
var fillers = map[string]bool{
	"from": true,
	"to":   true,
	"of":   true,
	"on":   true,
	"the":  true,
	"in":   true,
	"at":   true,
	"by":   true,
	"a":    true,
}

// Do answers a question.
func (b *Bench) Do(line string) (Reply, error) {
	var words []string
	for _, w := range strings.Fields(strings.ToLower(line)) {
		if !fillers[w] {
			words = append(words, strings.TrimRight(w, "?."))
		}
	}
	if len(words) == 0 {
		return Reply{}, errNotUnderstood
	}
	verb, rest := words[0], words[1:]
	switch verb {
	case "unplug", "plug":
		return b.plug(verb == "plug"), nil
	case "published", "publish":
		return b.published(rest)
	}
	if len(rest) == 0 {
		return Reply{}, fmt.Errorf("%s of which machine? The lab has %s", verb, strings.Join(b.plan().Names(), ", "))
	}
	m := b.plan().Machine(rest[0])
	if m == nil {
		return Reply{}, fmt.Errorf("no machine %s; the lab has %s", rest[0], strings.Join(b.plan().Names(), ", "))
	}
	return b.ask(verb, m, rest[1:])
}

func (b *Bench) plan() *plan.Plan { return b.drill.Study.Plan }

// ask answers what is asked of a machine.
func (b *Bench) ask(verb string, m *plan.Machine, rest []string) (Reply, error) {
	switch verb {
	case "adapters":
		return b.adapters(m), nil
	case "ping", "large":
		return b.ping(m, verb == "large", rest)
	case "name", "names":
		return b.name(m)
	}
	if m.Appliance != nil {
		switch verb {
		case "console", "listing":
			return b.console(m), nil
		case "rules", "settings", "page":
			return b.rules(m), nil
		}
		return Reply{}, fmt.Errorf("%s is for guests; an appliance has console, rules, ping, name and adapters", verb)
	}
	at := b.here(m)
	switch verb {
	case "listing", "console", "address":
		return Reply{b.listing(m, at), 1}, nil
	case "renew":
		b.lab.Renew(at)
		return Reply{b.listing(m, at), 1}, nil
	case "page", "pages":
		return b.page(m, rest)
	case "hops", "hop", "trace":
		return b.hops(m), nil
	case "leases", "servers":
		return b.servers(m), nil
	}
	return Reply{}, errNotUnderstood
}

// here returns what is built of a machine's adapter at which one looks.
func (b *Bench) here(m *plan.Machine) *plan.Adapter {
	if home := diagnose.Home(m); home != nil {
		return b.drill.Built.Plan.Same(home)
	}
	list := m.WAN()
	if len(list) == 0 {
		list = m.Adapters
	}
	return b.drill.Built.Plan.Same(list[0])
}

// off reports whether it is a machine that shows nothing at all.
func (b *Bench) off(m *plan.Machine) bool {
	is := b.drill.Built.Plan.Machine(m.Name)
	return is == nil || is.Off
}

// put asks the lab one thing.
func (b *Bench) put(what claims.Asking) claims.Answer {
	return claims.AskOne(context.Background(), b.lab, what)
}

func (b *Bench) plug(in bool) Reply {
	condition, text := claims.Unplugged, "The WAN of every appliance is unplugged."
	if in {
		condition, text = claims.Running, "The WAN of every appliance is plugged in."
	}
	b.cut = !in
	_ = b.lab.Set(context.Background(), condition) // only a context's end is an error
	return Reply{text, 1}
}

// target returns where a word leads: an address, with the name of who should be there.
func (b *Bench) target(from *plan.Machine, word string) (netip.Addr, string, error) {
	witness := b.lab.Facts().Witness.Address
	if word == "" || word == "outside" || word == "witness" {
		return witness, "outside", nil
	}
	if a, err := netip.ParseAddr(word); err == nil {
		return a, word, nil
	}
	if word == "gateway" || word == "router" || word == "hop" {
		if g := b.lab.Held(b.here(from)).Gateway; g.IsValid() {
			return g, word, nil
		}
		return netip.Addr{}, "", fmt.Errorf("%s has no gateway", from.Name)
	}
	m := b.plan().Machine(word)
	if m == nil {
		return netip.Addr{}, "", fmt.Errorf("no %s; use outside, gateway, a machine or an address", word)
	}
	for _, a := range m.Adapters { // as planned: that is what people try
		if a.Address.IsValid() && (m.Guest != nil || b.faces(from, a)) {
			return a.Address.Addr(), m.Name, nil
		}
	}
	if held := b.lab.Held(b.here(m)); held.Address.IsValid() {
		return held.Address.Addr(), m.Name, nil
	}
	return netip.Addr{}, "", fmt.Errorf("%s has no address now (planned: none)", m.Name)
}

// faces reports whether it is the port of an appliance on the segment where a guest is to be.
func (b *Bench) faces(from *plan.Machine, port *plan.Adapter) bool {
	home := diagnose.Home(from)
	return home == nil || port.Segment == home.Segment
}

func (b *Bench) ping(m *plan.Machine, large bool, rest []string) (Reply, error) {
	word := ""
	if len(rest) > 0 {
		word = rest[0]
	}
	to, _, err := b.target(m, word)
	if err != nil {
		return Reply{}, err
	}
	if b.off(m) {
		return Reply{"Nothing: " + m.Name + " is dark.", 1}, nil
	}
	at := b.here(m)
	if large {
		return Reply{
			pingText(
				m,
				to,
				1472,
				claims.GotReach{Answered: b.lab.Large([]*plan.Adapter{at})[0], Outcome: outcome.Of(outcome.NoAnswer)},
			),
			1,
		}, nil
	}
	a := b.put(claims.AskReach{From: claims.RefTo(at), Service: lab.Service{Proto: lab.ICMP}, Address: to})
	got, _ := a.Got.(claims.GotReach)
	return Reply{pingText(m, to, 56, got), 1}, nil
}

func (b *Bench) name(m *plan.Machine) (Reply, error) {
	if b.off(m) {
		return Reply{"Nothing: " + m.Name + " is dark.", 1}, nil
	}
	witness := b.lab.Facts().Witness
	a := b.put(claims.AskName{At: claims.RefTo(b.here(m))})
	got, _ := a.Got.(claims.GotName)
	return Reply{nameText(m, witness.Name, got), 1}, nil
}

func (b *Bench) page(m *plan.Machine, rest []string) (Reply, error) {
	word, port := "", uint16(80)
	if len(rest) > 0 {
		word = rest[0]
	}
	to, who, err := b.target(m, word)
	if err != nil {
		return Reply{}, err
	}
	for _, l := range b.drill.Study.Looks {
		if l.Machine != m {
			continue
		}
		admin := l.Kind == diagnose.Admin && l.To.Address.Addr() == to
		inside := l.Kind == diagnose.Inside && l.To.Machine.Name == who
		outside := l.Kind == diagnose.Page && who == "outside"
		if admin || inside || outside {
			port = l.Service().From
		}
	}
	a := b.put(
		claims.AskReach{
			From:    claims.RefTo(b.here(m)),
			Service: lab.Service{Proto: lab.TCP, From: port, To: port},
			Address: to,
		},
	)
	got, _ := a.Got.(claims.GotReach)
	return Reply{pageText(m.Name, netip.AddrPortFrom(to, port), got), 1}, nil
}

func (b *Bench) hops(m *plan.Machine) Reply {
	a := b.put(claims.AskHop{At: claims.RefTo(b.here(m))})
	got, _ := a.Got.(claims.GotHop)
	if got.Router.IsValid() {
		return Reply{fmt.Sprintf(" 1:  %s   0.1 ms", got.Router), 1}
	}
	return Reply{" 1:  no reply\n 2:  no reply", 1}
}

func (b *Bench) servers(m *plan.Machine) Reply {
	a := b.put(claims.AskServers{At: claims.RefTo(b.here(m))})
	got, _ := a.Got.(claims.GotServers)
	if len(got.Offers) == 0 {
		return Reply{"No answer to four questions.", 1}
	}
	var lines []string
	for _, o := range got.Offers {
		lines = append(lines, fmt.Sprintf("offer of %s by %s, from %s", o.Address, o.Server, o.ServerMAC))
	}
	return Reply{strings.Join(slices.Compact(lines), "\n"), 1}
}

// published tries from outside what an appliance publishes.
func (b *Bench) published(rest []string) (Reply, error) {
	for _, m := range b.plan().Running() {
		wans := m.WAN()
		if len(wans) == 0 {
			continue
		}
		service := lab.Service{Proto: lab.TCP, From: 443, To: 443}
		if len(m.Publishes) > 0 {
			v := m.Publishes[0]
			service = lab.Service{Proto: v.Proto, From: v.Port, To: v.Port}
		}
		if len(rest) > 0 {
			s, err := lab.ParseService(rest[0])
			if err != nil || s.AllPorts() || s.From != s.To {
				return Reply{}, fmt.Errorf("use a protocol and a port, such as tcp/443, not %s", rest[0])
			}
			service = s
		}
		at := b.drill.Built.Plan.Same(wans[0])
		held := b.lab.Held(at).Address
		if !held.IsValid() {
			return Reply{"The WAN of " + m.Name + " has no address that one could try.", 1}, nil
		}
		a := b.put(claims.AskReach{To: claims.RefTo(at), Service: service})
		got, _ := a.Got.(claims.GotReach)
		return Reply{pageText("outside", netip.AddrPortFrom(held.Addr(), service.From), got), 1}, nil
	}
	return Reply{}, errors.New("no appliance has a WAN")
}

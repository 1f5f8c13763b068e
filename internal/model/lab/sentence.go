package lab

import (
	"fmt"
	"net/netip"
	"strconv"
	"strings"

	"openbastion/internal/model/subnet"
)

// Action is what a rule does with what it matches.
type Action string

// The actions.
const (
	Allow  Action = "allow"
	Deny   Action = "deny"   // silently
	Refuse Action = "refuse" // with a reset or an unreachable
)

// Proto is a protocol as rules name them.
type Proto string

// The protocols.
const (
	Any  Proto = "any"
	ICMP Proto = "icmp"
	TCP  Proto = "tcp"
	UDP  Proto = "udp"
)

// Service is a protocol and, for TCP and UDP, a range of destination ports.
// From and To are both 0 where every port is meant.
type Service struct {
	Proto    Proto
	From, To uint16
}

// AllPorts reports whether it is a service that is not limited to some ports.
func (s Service) AllPorts() bool { return s.From == 0 && s.To == 0 }

func (s Service) String() string {
	switch {
	case s.AllPorts():
		return string(s.Proto)
	case s.From == s.To:
		return fmt.Sprintf("%s/%d", s.Proto, s.From)
	}
	return fmt.Sprintf("%s/%d-%d", s.Proto, s.From, s.To)
}

// ParseService reads PROTO, PROTO/PORT or PROTO/PORT-PORT.
func ParseService(text string) (Service, error) {
	name, ports, has := strings.Cut(strings.TrimSpace(text), "/")
	s := Service{Proto: Proto(strings.ToLower(name))}
	switch s.Proto {
	case TCP, UDP:
	case ICMP, Any:
		if has {
			return Service{}, fmt.Errorf("%s has no ports; write %s, or tcp/%s", name, s.Proto, ports)
		}
	default:
		return Service{}, fmt.Errorf(
			"%q is not a protocol; write any, icmp, tcp or udp%s",
			name,
			didYouMean(name, "any", "icmp", "tcp", "udp"),
		)
	}
	if !has {
		return s, nil
	}
	low, high, span := strings.Cut(ports, "-")
	if !span {
		high = low
	}
	var err error
	if s.From, err = parsePort(low); err != nil {
		return Service{}, err
	}
	if s.To, err = parsePort(high); err != nil {
		return Service{}, err
	}
	if s.From > s.To {
		return Service{}, fmt.Errorf("the ports %s run backwards; write %s/%d-%d", ports, s.Proto, s.To, s.From)
	}
	return s, nil
}

func parsePort(text string) (uint16, error) {
	n, err := strconv.ParseUint(text, 10, 16)
	if err != nil || n == 0 {
		return 0, fmt.Errorf("%q is not a port; write a number from 1 to 65535", text)
	}
	return uint16(n), nil
}

// WhoKind says what a Who stands for.
type WhoKind uint8

// The kinds of Who.
const (
	WhoAny WhoKind = iota
	WhoOutside
	WhoSegment
	WhoGuest
	WhoAppliance
	WhoPrefix
)

// Who is one party of a sentence.
type Who struct {
	Kind   WhoKind
	Name   string       // of a segment, guest or appliance
	Prefix netip.Prefix // of an address or prefix
}

func (w Who) String() string {
	switch w.Kind {
	case WhoAny:
		return "any"
	case WhoOutside:
		return "outside"
	case WhoPrefix:
		if w.Prefix.IsSingleIP() {
			return w.Prefix.Addr().String()
		}
		return w.Prefix.String()
	}
	return w.Name
}

// Rule is one sentence of an appliance's rules.
type Rule struct {
	Pos      Pos
	Text     string // as written
	Action   Action
	Services []Service
	From, To []Who
	Log      bool
}

func (r Rule) String() string {
	s := string(r.Action) + " " + join(r.Services) + " from " + join(r.From) + " to " + join(r.To)
	if r.Log {
		s += " log"
	}
	return s
}

func join[T fmt.Stringer](list []T) string {
	var b strings.Builder
	for i, v := range list {
		if i > 0 {
			b.WriteByte(',')
		}
		b.WriteString(v.String())
	}
	return b.String()
}

// Expectation is one sentence under expect.
type Expectation struct {
	Pos     Pos
	Text    string
	From    Who
	To      Who
	Never   bool
	Service Service // any when the sentence names none
}

func (e Expectation) String() string {
	verb := " reaches "
	if e.Never {
		verb = " never reaches "
	}
	s := e.From.String() + verb + e.To.String()
	if e.Service.Proto != Any {
		s += " " + e.Service.String()
	}
	return s
}

// ParseRule reads
//
//	allow|deny|refuse PROTO[/PORT[-PORT]][,…] from WHO to WHOM [log]
//
// Names are not looked up here: every WHO that is no address and no keyword
// comes back as a WhoSegment with its name.
func ParseRule(text string) (Rule, error) {
	r := Rule{Text: text}
	words := fields(text)
	at := func(i int) string {
		if i < len(words) {
			return words[i]
		}
		return ""
	}
	const form = "write: allow|deny|refuse PROTO[/PORT] from SOURCE to DESTINATION [log]"
	r.Action = Action(strings.ToLower(at(0)))
	switch r.Action {
	case Allow, Deny, Refuse:
	default:
		return r, fmt.Errorf(
			"a rule starts with allow, deny or refuse, not %q%s; %s",
			at(0),
			didYouMean(at(0), "allow", "deny", "refuse"),
			form,
		)
	}
	if at(2) != "from" || at(4) != "to" || at(5) == "" {
		return r, fmt.Errorf("the rule %q is not whole; %s", text, form)
	}
	for _, s := range strings.Split(at(1), ",") {
		service, err := ParseService(s)
		if err != nil {
			return r, err
		}
		r.Services = append(r.Services, service)
	}
	var err error
	if r.From, err = parseWho(at(3)); err != nil {
		return r, err
	}
	if r.To, err = parseWho(at(5)); err != nil {
		return r, err
	}
	switch {
	case at(6) == "log" && at(7) == "":
		r.Log = true
	case at(6) != "":
		return r, fmt.Errorf("only log may follow the second SOURCE, not %q; %s", at(6), form)
	}
	return r, nil
}

// ParseExpectation reads
//
//	WHO reaches|never reaches WHOM [PROTO[/PORT]]
//
// with names left as ParseRule leaves them.
func ParseExpectation(text string) (Expectation, error) {
	e := Expectation{Text: text, Service: Service{Proto: Any}}
	words := fields(text)
	const form = "write: SOURCE reaches|never reaches DESTINATION [PROTO[/PORT[-PORT]]]"
	if len(words) > 2 && words[1] == "never" && words[2] == "reaches" {
		e.Never = true
		words = append(words[:1:1], words[2:]...)
	}
	if len(words) < 3 || len(words) > 4 || words[1] != "reaches" {
		return e, fmt.Errorf("the sentence %q is not whole; %s", text, form)
	}
	from, err := parseWho(words[0])
	if err != nil {
		return e, err
	}
	to, err := parseWho(words[2])
	if err != nil {
		return e, err
	}
	if len(from) != 1 || len(to) != 1 {
		return e, fmt.Errorf("a sentence has one SOURCE and one DESTINATION; write one sentence for each")
	}
	e.From, e.To = from[0], to[0]
	if len(words) == 4 {
		if strings.Contains(words[3], ",") {
			return e, fmt.Errorf("a sentence has one PROTO[/PORT]; write one sentence for each")
		}
		if e.Service, err = ParseService(words[3]); err != nil {
			return e, err
		}
	}
	return e, nil
}

// fields splits at white space and takes the space after a comma away, so that
// "tcp/80, tcp/443" is one word.
func fields(text string) []string {
	var out []string
	for _, w := range strings.Fields(text) {
		if n := len(out); n > 0 && (strings.HasSuffix(out[n-1], ",") || strings.HasPrefix(w, ",")) {
			out[n-1] += w
			continue
		}
		out = append(out, w)
	}
	return out
}

func parseWho(text string) ([]Who, error) {
	var list []Who
	for _, w := range strings.Split(text, ",") {
		switch {
		case w == "":
			return nil, fmt.Errorf("%q has an empty name between its commas", text)
		case w == "any":
			list = append(list, Who{Kind: WhoAny})
		case w == "outside":
			list = append(list, Who{Kind: WhoOutside})
		case strings.ContainsAny(w, ".:/") || w[0] >= '0' && w[0] <= '9':
			p, err := parseNetwork(w)
			if err != nil {
				return nil, err
			}
			list = append(list, Who{Kind: WhoPrefix, Prefix: p})
		default:
			list = append(list, Who{Kind: WhoSegment, Name: w})
		}
	}
	return list, nil
}

// parseNetwork reads an address (as a prefix of its own) or a network.
func parseNetwork(text string) (netip.Prefix, error) {
	if !strings.Contains(text, "/") {
		a, err := subnet.ParseAddr(text)
		if err != nil {
			return netip.Prefix{}, err
		}
		return netip.PrefixFrom(a, a.BitLen()), nil
	}
	p, err := subnet.ParsePrefix(text)
	if err != nil {
		return netip.Prefix{}, err
	}
	if p != p.Masked() {
		return netip.Prefix{}, fmt.Errorf(
			"%s names one machine, not a network; write %s, or %s for the machine",
			p,
			p.Masked(),
			p.Addr(),
		)
	}
	return p, nil
}

// Package outcome is what became of a request that a machine sent: a ping, a
// datagram, a connection, a question for a name. Programs read its code; people
// read its text, which is made here alone.
//
// A router or the destination reports the codes Unreachable, TimeExceeded and
// TooBig in ICMP errors (RFC 792, RFC 4443), Refused and Reset in TCP resets
// (RFC 9293, section 3.10.7); the others come from the sender itself.
package outcome

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"
)

// Code is the kind of an outcome. The empty code is a request that was answered.
type Code string

// The codes.
const (
	OK           Code = ""
	NoAnswer     Code = "no-answer"     // it was sent, and nothing came back in time
	Refused      Code = "refused"       // a TCP reset in reply to the first segment
	Reset        Code = "reset"         // a TCP reset later on
	Closed       Code = "closed"        // the other end closed without an answer
	Unreachable  Code = "unreachable"   // an ICMP error
	TimeExceeded Code = "time-exceeded" // an ICMP error
	TooBig       Code = "too-big"       // an ICMP error with the MTU of the next link
	Prohibited   Code = "prohibited"    // the system does not let the program send it
	NoRoute      Code = "no-route"      // the sender has no route to the destination
	NoAddress    Code = "no-address"    // the sender or the destination has no address
	NoGateway    Code = "no-gateway"    // the sender has no default gateway
	NoNeighbor   Code = "no-neighbor"   // the next hop does not answer ARP or neighbor discovery
	NoServer     Code = "no-server"     // the sender knows no DNS server
	Failed       Code = "failed"        // anything else; Detail says what
)

var codes = []Code{NoAnswer, Refused, Reset, Closed, Unreachable, TimeExceeded, TooBig, Prohibited, NoRoute, NoAddress,
	NoGateway, NoNeighbor, NoServer, Failed}

// Outcome is a code, the machine that reported it (invalid where the sender
// itself noticed) and a detail: the MTU in bytes for TooBig, else a text for
// people that replaces the usual one.
type Outcome struct {
	Code   Code
	By     netip.Addr
	Detail string
}

// Of returns the outcome with a code.
func Of(c Code) Outcome { return Outcome{Code: c} }

// By returns the outcome that a machine reported.
func By(c Code, by netip.Addr) Outcome { return Outcome{Code: c, By: by} }

// Fail returns the outcome for any other reason.
func Fail(detail string) Outcome { return Outcome{Code: Failed, Detail: detail} }

// Is reports whether the outcome has one of the codes.
func (o Outcome) Is(c ...Code) bool { return slices.Contains(c, o.Code) }

var texts = map[Code]string{
	OK: "answered", NoAnswer: "no answer", Closed: "closed without an answer", Prohibited: "prohibited",
	NoRoute: "no route", NoAddress: "no address", NoGateway: "no gateway", NoNeighbor: "the next hop does not answer",
	NoServer: "no DNS server is set",
}

// String returns the outcome for people, such as "refused by 10.83.16.21".
func (o Outcome) String() string {
	by := ""
	if o.By.IsValid() {
		by = " (from " + o.By.String() + ")"
	}
	switch o.Code {
	case Refused, Reset:
		if o.By.IsValid() {
			return string(o.Code) + " by " + o.By.String()
		}
		return string(o.Code)
	case Unreachable:
		return "unreachable" + by
	case TimeExceeded:
		return "time exceeded" + by
	case TooBig:
		return fmt.Sprintf("too big%s: the path carries %s bytes", by, o.Detail)
	}
	if o.Detail != "" {
		return o.Detail
	}
	return texts[o.Code]
}

// Or returns the text of a failure, or else the one for success.
func (o Outcome) Or(success string) string {
	if o.Code == OK {
		return success
	}
	return o.String()
}

// MarshalText returns code, sender and detail, as in "refused by 10.83.16.21".
func (o Outcome) MarshalText() ([]byte, error) {
	s := string(o.Code)
	if o.By.IsValid() {
		s += " by " + o.By.String()
	}
	if o.Detail != "" {
		s += ": " + o.Detail
	}
	return []byte(s), nil
}

// UnmarshalText reads what MarshalText writes, and fails on an unknown code.
func (o *Outcome) UnmarshalText(data []byte) error {
	*o = Outcome{}
	head, detail, _ := strings.Cut(string(data), ": ")
	code, by, reported := strings.Cut(head, " by ")
	if code != "" && !slices.Contains(codes, Code(code)) {
		return fmt.Errorf("%q is not a known outcome", code)
	}
	o.Code, o.Detail = Code(code), detail
	if !reported {
		return nil
	}
	var err error
	o.By, err = netip.ParseAddr(by)
	return err
}

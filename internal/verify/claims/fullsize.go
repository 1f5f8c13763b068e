package claims

import (
	"fmt"
	"strings"

	"openbastion/internal/model/lab"
	"openbastion/internal/model/plan"
	"openbastion/internal/netsim/dns"
	"openbastion/internal/netsim/outcome"
	"openbastion/internal/verify/reachability"
)

// FullPacket is the size of the packets with which a path is tried, in bytes with their IP header: what an Ethernet frame
// carries (RFC 894). A path may carry less, where it reports that (RFC 1191, RFC 8201).
const FullPacket = 1500

// fullSizeClaim asks, of the first guest on a segment that may go outside, whether packets of full size pass both ways as
// small ones do; where none there may, whether the appliance's port answers one.
func fullSizeClaim(m *reachability.Model, s *plan.Segment, w Witness) (claim, bool) {
	var parts []part
	for _, a := range s.Adapters {
		if a.Guest == nil || !a.Plugged || a.Machine.Off || InsideAdapter(a.Machine) != a {
			continue
		}
		if parts = fullSizeParts(m, a, w); len(parts) > 0 {
			return claim{
				Result: Result{ID: s.Name + "." + string(FullSize), Segment: s.Name, Kind: FullSize},
				parts:  parts, guests: []string{a.Machine.Name}, lone: s.Name,
			}, true
		}
	}
	return claim{}, false
}

// fullSizeParts ask by one service of each protocol that the rules let pass.
func fullSizeParts(m *reachability.Model, home *plan.Adapter, w Witness) (out []part) {
	port := home.Gate()
	if port == nil {
		return nil
	}
	add := func(small AskReach, to string) {
		large := small
		large.Size = FullPacket
		out = append(out, part{asks: asking(small, large), judge: func(r *Result, got []Got) {
			judgeSize(r, home, small.Service, to, got[0].(GotReach), got[1].(GotReach))
		}})
	}
	if leadsOut(m, port.Machine) && !varies(home) {
		for _, s := range AllowedServices(port.Machine, home.Segment, home.Likely(), w.Address) {
			if s.Proto != lab.UDP || s.From != dns.Port { // DNS messages become large in ways of their own (RFC 6891)
				add(AskReach{From: RefTo(home), Service: s}, "the test server")
			}
		}
	}
	ping := lab.Service{Proto: lab.ICMP}
	if len(out) == 0 && port.Address.IsValid() && m.Answers(port, ping) {
		add(AskReach{From: RefTo(home), Service: ping, Address: port.Address.Addr()}, portOf(port))
	}
	if six := port.Address6; home.Address6.IsValid() && six.IsValid() && m.Answers(port, ping) {
		add(AskReach{From: RefTo(home), Service: ping, Address: six.Addr()}, portOf(port)+" over IPv6")
	}
	return out
}

// judgeSize judges by one service. What small packets don't pass says nothing of large ones.
func judgeSize(r *Result, home *plan.Adapter, s lab.Service, to string, small, large GotReach) {
	switch {
	case r.Verdict == Broken:
	case !small.Answered:
		r.Verdict = Unknown
		r.Observed = fmt.Sprintf("%s does not reach %s (%s) by small packets either", home.Machine.Name, to, s)
	case !large.Answered:
		why := Reason{Code: "full-size-lost", Subject: home.Machine.Name, Segment: home.Segment.Name, Service: s.String(),
			Expected: bytesText(FullPacket), Observed: to, Detail: large.Outcome.String()}
		if large.Outcome.Is(outcome.TooBig) {
			why.Code = "reported-size-lost"
		}
		r.fail(why)
	case r.Verdict == Holds && strings.HasPrefix(r.Observed, sizeText(to, large.Carries)):
		r.Observed += ", " + s.String()
	case r.Verdict == Holds:
		r.Observed = strings.TrimPrefix(r.Observed+"; "+sizeText(to, large.Carries)+s.String(), "; ")
	}
}

// sizeText says up to which size packets pass, and ends before the services that were tried.
func sizeText(to string, carries int) string {
	if carries == 0 {
		return fmt.Sprintf("streams of several packets pass to %s and back: ", to)
	}
	if carries < FullPacket {
		return fmt.Sprintf("up to %s pass to %s and back, and larger packets are reported as too big: ", bytesText(carries), to)
	}
	return fmt.Sprintf("packets of %s pass to %s and back: ", bytesText(FullPacket), to)
}

// bytesText writes a size of a packet.
func bytesText(n int) string {
	if n < 1000 {
		return fmt.Sprintf("%d bytes", n)
	}
	return fmt.Sprintf("%d,%03d bytes", n/1000, n%1000)
}

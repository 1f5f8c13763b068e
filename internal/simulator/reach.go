package simulator

import (
	"cmp"
	"net/netip"
	"strconv"
	"time"

	"openbastion/internal/model/lab"
	"openbastion/internal/netsim/outcome"
	"openbastion/internal/netsim/probemsg"
	"openbastion/internal/verify/claims"
)

// tried is what became of one try to reach a service.
type tried struct {
	answered bool
	frame    int
	outcome  outcome.Outcome
	who      string
	source   netip.Addr
}

// reach asks from a station whether a service answers at an address; with packets of a size in bytes, or 0: small ones. Where a
// router reports that less passes, it is tried with as much.
func (l *Lab) reach(from *station, to netip.Addr, service lab.Service, size int) func() answer {
	first := l.try(from, to, service, size)
	return func() answer {
		t, carries := first(), size
		if told, err := strconv.Atoi(t.outcome.Detail); size > 0 && t.outcome.Is(outcome.TooBig) && err == nil && told < size {
			again := l.try(from, to, service, told)
			l.world.run(l.world.now + l.timing.answer)
			if second := again(); second.answered {
				t, carries = second, told
			}
		}
		got := claims.GotReach{Answered: t.answered, Outcome: t.outcome, Who: t.who, Source: t.source}
		what := from.name + " to " + to.String() + " by " + service.String()
		switch {
		case size > 0 && service.Proto == lab.TCP:
			carries = 0 // both ends agree on it (RFC 9293, section 3.7.1)
			what += " with " + strconv.Itoa(probemsg.Stream) + " bytes each way"
		case size > 0:
			what += " with packets of " + strconv.Itoa(carries) + " bytes"
		}
		switch {
		case t.answered && t.source.IsValid():
			what += " answered; " + cmp.Or(t.who, "the far end") + " saw " + t.source.String()
		case t.answered:
			what += " answered"
		default:
			what += ": " + t.outcome.String()
		}
		if t.answered {
			got.Carries = carries
		}
		return answer{got: got, evidence: []claims.Evidence{l.frame(t.frame, "%s", what)}}
	}
}

// try sends what reach asks, and returns what tells what became of it.
func (l *Lab) try(from *station, to netip.Addr, service lab.Service, size int) func() tried {
	now := l.world.now
	defer l.world.pump(from)
	room := probemsg.Room(to, size)
	switch service.Proto {
	case lab.ICMP:
		payload := l.payload()
		p := from.node.Ping(now, to, 0, 2*time.Second, probemsg.Pad(payload, room))
		return func() tried { return tried{p.Answered, p.Frame, p.Outcome, "", l.seen[string(payload)]} }
	case lab.UDP:
		question := probemsg.Pad(probemsg.Question(service.From), room)
		x := from.node.Ask(now, netip.AddrPortFrom(to, service.From), question, 2*time.Second)
		return func() tried {
			who, source := probemsg.Introduced(x.Data)
			return tried{x.Answered, x.Frame, x.Outcome, who, source}
		}
	default:
		var body []byte
		if size > 0 {
			body = make([]byte, probemsg.Stream)
		}
		f := from.node.Fetch(now, netip.AddrPortFrom(to, service.From), "/", body)
		return func() tried {
			who, source := probemsg.Introduced([]byte(f.Body))
			return tried{f.Connected && len(f.Body) >= len(body), f.Frame, f.Outcome, who, source}
		}
	}
}

package field

import (
	"context"
	"crypto/rand"
	"errors"
	"net/netip"

	"openbastion/internal/classroom/witness"
	"openbastion/internal/model/lab"
	"openbastion/internal/netsim/probemsg"
	"openbastion/internal/testbed/pathmtu"
	"openbastion/internal/verify/claims"
)

// whole asks the witness, or pings another address, with packets of a size that may not be fragmented; where a router reports
// that less passes, with as much.
func (s *Probe) whole(ctx context.Context, q claims.AskReach, to netip.Addr) claims.Answer {
	carries, err := pathmtu.Try(q.Size, func(size int) (err error) {
		switch q.Service.Proto {
		case lab.ICMP:
			payload := []byte(probemsg.PingPrefix + rand.Text())
			return pathmtu.Ping(ctx, nil, to, probemsg.Pad(payload, probemsg.Room(to, size)))
		case lab.UDP:
			_, _, err = s.ask(ctx, tried{witness.UDP, q.Service.From}, leaving{size: size}, 0, 0)
		default:
			_, _, err = s.ask(ctx, tried{witness.HTTP, q.Service.From}, leaving{size: size}, 0, 0)
		}
		return err
	})
	switch {
	case errors.Is(err, errPermission):
		return claims.Answer{Missing: noPings}
	case errors.Is(err, errors.ErrUnsupported):
		return claims.Answer{Missing: err.Error()}
	}
	got := claims.GotReach{Answered: err == nil, Unseen: true, Outcome: outcomeOf(err)}
	if err == nil && q.Service.Proto != lab.TCP {
		got.Carries = carries
	}
	return claims.Answer{Got: got, Evidence: s.reading("%s by %s with packets of %d bytes: %s", to, q.Service, carries,
		got.Outcome.Or("answered"))}
}

//go:build !linux

package field

import (
	"context"
	"errors"
	"net/netip"

	"openbastion/internal/model/plan"
	"openbastion/internal/netsim/packet"
	"openbastion/internal/verify/claims"
)

// packets asks what a system does not tell; not on this system.
type packets struct{}

func openPackets(context.Context, *plan.Plan, *plan.Machine, map[*plan.Adapter]*Adapter) (*packets, error) {
	return nil, errors.New("packets of one's own are sent on Linux only")
}

func (*packets) ask(context.Context, []claims.Question, func(claims.Answer)) {}

func sendFrames(context.Context, string, [][]byte) error { return errors.ErrUnsupported }

func exchangeFrames(context.Context, string, [][]byte, func(*packet.Packet)) error {
	return errors.New("packets of one's own are sent on Linux only")
}

// listen hears nothing on this system.
func (w *Witness) listen(context.Context, netip.Addr) error {
	return errors.New("packets that arrive at this machine are observed on Linux only")
}

//go:build !linux

package field

import (
	"context"
	"errors"

	"openbastion/core/claims"
	"openbastion/core/plan"
)

// packets asks what a system does not tell; not on this system.
type packets struct{}

func openPackets(context.Context, *plan.Plan, *plan.Machine, System) (*packets, error) {
	return nil, errors.New("packets of one's own are sent on Linux only")
}

func (*packets) ask(context.Context, []claims.Question, func(claims.Answer)) {}

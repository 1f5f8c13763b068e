//go:build !windows

package field

import (
	"context"
	"net/netip"
)

// ping sends an echo request and waits for its answer.
func ping(ctx context.Context, to netip.Addr) error { return pingBySocket(ctx, to) }

//go:build !linux

package pathmtu

import (
	"errors"
	"fmt"
	"net"
	"syscall"
)

// Whole is not to be had on this system.
func Whole(string, string, syscall.RawConn) error {
	return fmt.Errorf("packets that may not be fragmented are sent on Linux only: %w", errors.ErrUnsupported)
}

func carries(syscall.RawConn, net.Addr) int { return 0 }

//go:build !linux

package field

import "syscall"

// onDevice leaves it to the system by which adapter a socket's packets go: its address says it as well as it can.
func onDevice(string) func(network, address string, c syscall.RawConn) error { return nil }

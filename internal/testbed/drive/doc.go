// Package drive puts machines of the core on real adapters and clocks: it polls,
// hands over what was received, lets time advance, and sends what is drained.
// The machines know nothing of sockets; the same ones run in the rehearsal.
//
// What a real adapter leaves undone is done here: the checksums of packets that
// a local program sent (they come with the sum of the pseudo header only), tags
// that the kernel took off, and segments that are larger than the wire.
package drive

import (
	"slices"
	"time"

	"openbastion/internal/netsim/host"
	"openbastion/internal/netsim/packet"
)

// Machine is what can be driven. now is the time since the drive began. A frame that it is
// handed is its own only until it returns.
type Machine interface {
	Receive(now time.Duration, adapter int, frame []byte)
	Advance(now time.Duration)
	Deadline() (at time.Duration, ok bool)
	Drain() []host.Emission
}

// Node is a node of the core as a Machine.
type Node struct{ *host.Node }

// Receive reads a frame and hands it to the node; what cannot be read is
// dropped, as an adapter drops it.
func (n Node) Receive(now time.Duration, adapter int, frame []byte) {
	if p, err := packet.Decode(slices.Clone(frame)); err == nil {
		n.Node.Receive(now, adapter, p)
	}
}

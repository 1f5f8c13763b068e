package rehearse

import (
	"net/netip"
	"slices"
	"time"

	"openbastion/core/node"
	"openbastion/core/plan"
)

// Outlet is where an adapter of a guest leaves the simulation: what the lab
// sends to it comes out, and what is put in goes onto the lab's wire. Whoever
// stands behind it takes the guest's place. Time is whatever it is told.
type Outlet struct {
	lab    *Lab
	s      *station
	number int
	frames []node.Emission
	began  time.Duration // the lab's time when the outlet's was zero
}

// Expose gives an outlet in a guest's place at one of its adapters. It must be
// called before the lab is asked anything; the guest itself is then silent.
func (l *Lab) Expose(a *plan.Adapter) *Outlet {
	s := l.members[a.Machine]
	o := &Outlet{lab: l, s: s, number: a.Number}
	s.outlet = o
	for _, p := range s.node.Ports() {
		p.Client = nil
	}
	return o
}

// Start lets the rest of the lab come up, in no time.
func (o *Outlet) Start() {
	o.lab.start()
	o.began = o.lab.world.now
}

// Receive puts a frame on the lab's wire.
func (o *Outlet) Receive(now time.Duration, _ int, frame []byte) {
	o.Advance(now)
	o.lab.world.transmit(o.s, o.number, slices.Clone(frame))
}

// Advance lets everything happen in the lab that happens until now. When the lab
// was asked something meanwhile, which takes time of its own, its clock is set by
// what it has become.
func (o *Outlet) Advance(now time.Duration) {
	o.began = max(o.began, o.lab.world.now-now)
	o.lab.world.run(o.began + now)
}

// Pinged gives the source of the last ping that the witness saw, or the zero
// Addr.
func (o *Outlet) Pinged() netip.Addr { return o.lab.pinged }

// Deadline gives when something happens next.
func (o *Outlet) Deadline() (time.Duration, bool) {
	at, ok := o.lab.world.next()
	return max(at-o.began, 0), ok
}

// Drain gives the frames that came out since the last call.
func (o *Outlet) Drain() []node.Emission {
	out := o.frames
	o.frames = nil
	return out
}

package host

import "time"

// A way out is asked every watchEvery whether its next hop is there; after
// watchMisses silences in a row it is dead, after one answer it lives again.
const (
	watchEvery  = 2 * time.Second
	watchMisses = 3
)

// Watch keeps asking a port's next hop whether it is there, so that another
// way out is taken while it is not. It holds its breath while a packet is
// followed.
func (n *Node) Watch(port *Port) {
	var last *Ping
	misses := 0
	var tick func()
	tick = func() {
		switch {
		case last == nil:
		case last.Answered:
			misses, port.Dead = 0, false
		default:
			misses++
			port.Dead = misses >= watchMisses
		}
		last = nil
		if n.Noted == nil && port.leadsOut() {
			last = n.Ping(n.now, port.Gateway, 0, watchEvery/2, []byte("is this way open"))
		}
		n.after(watchEvery, tick)
	}
	n.after(watchEvery, tick)
}

package host

import (
	"net/netip"
	"time"

	"openbastion/internal/netsim/outcome"
	"openbastion/internal/netsim/packet"
)

// tcpState is a connection's state (RFC 9293, section 3.3.2).
type tcpState uint8

const (
	closed tcpState = iota
	synSent
	synReceived
	established
	finWait1
	finWait2
	closeWait
	closing
	lastAck
	timeWait
)

const (
	mss         = 1460
	window      = 65535
	firstRTO    = time.Second // RFC 6298, section 2
	maxRTO      = 60 * time.Second
	maxRetries  = 5
	maxSegments = 2 * time.Minute // MSL; TIME-WAIT lasts twice that
	maxAhead    = 64              // segments kept that arrived out of order
	maxConns    = 1 << 16
)

type connKey struct{ local, remote netip.AddrPort }

// Conn is a TCP connection. Its callbacks run within the node's Receive and
// Advance.
type Conn struct {
	Local, Remote netip.AddrPort
	Established   bool
	Closed        bool            // the other end has sent all it will
	Done          bool            // nothing more will happen
	Outcome       outcome.Outcome // why it ended early
	Frame         int             // of the last segment taken in
	OnData        func(data []byte)
	OnClose       func() // the other end has sent all it will
	OnDone        func()

	node  *Node
	state tcpState

	sendUna, sendNext uint32
	sendWindow        uint32
	mss               int
	unsent            []byte // not yet sent
	flight            []byte // sent and not acknowledged
	fin               bool   // a FIN is to be sent after unsent
	finSent           bool
	ISS               uint32

	receiveNext uint32
	ahead       map[uint32][]byte
	finAt       uint32 // sequence number of the other end's FIN, when finSeen
	finSeen     bool

	rto     time.Duration
	retries int
	armed   int // timers of earlier arming are void
}

// Listen hands new connections to a local port to accept, once established.
func (n *Node) Listen(port uint16, accept func(*Conn)) {
	if n.listeners == nil {
		n.listeners = map[uint16]func(*Conn){}
	}
	n.listeners[port] = accept
}

func (n *Node) listener(port uint16) func(*Conn) {
	if accept, told := n.listeners[port]; told {
		return accept
	}
	return n.AnyTCP
}

// Dial opens a connection. A Conn that could not be opened is Done.
func (n *Node) Dial(now time.Duration, to netip.AddrPort) *Conn {
	n.now = now
	c := &Conn{node: n, Remote: to, rto: firstRTO, mss: mss}
	from, ok := n.source(to.Addr())
	if !ok {
		c.Done, c.Outcome = true, outcome.Of(outcome.NoRoute)
		return c
	}
	port := n.freePort(func(p uint16) bool { return n.conns[connKey{netip.AddrPortFrom(from, p), to}] != nil })
	c.Local = netip.AddrPortFrom(from, port)
	c.ISS = n.rand()
	c.sendUna, c.sendNext, c.state = c.ISS, c.ISS+1, synSent
	n.addConn(c)
	c.emit(packet.SYN, c.ISS, nil)
	c.arm()
	return c
}

func (n *Node) addConn(c *Conn) {
	if n.conns == nil {
		n.conns = map[connKey]*Conn{}
	}
	n.conns[connKey{c.Local, c.Remote}] = c
}

// Write sends data after what was written before.
func (c *Conn) Write(data []byte) {
	if c.fin || c.Done {
		return
	}
	c.unsent = append(c.unsent, data...)
	c.push()
}

// Close sends all that was written and then says that nothing follows.
func (c *Conn) Close() {
	if c.fin || c.Done {
		return
	}
	c.fin = true
	c.push()
}

// Abort ends the connection with a reset.
func (c *Conn) Abort() {
	if !c.Done {
		c.emit(packet.RST|packet.ACK, c.sendNext, nil)
		c.end(outcome.Fail("aborted"))
	}
}

func (c *Conn) fail(why outcome.Outcome) { c.end(why) }

func (c *Conn) end(why outcome.Outcome) {
	if c.Done {
		return
	}
	c.Done, c.Outcome, c.state = true, why, closed
	c.armed++
	delete(c.node.conns, connKey{c.Local, c.Remote})
	if c.OnDone != nil {
		c.OnDone()
	}
}

func (c *Conn) emit(flags uint8, seq uint32, data []byte) {
	f := packet.SegmentFields{
		Source:      c.Local.Port(),
		Destination: c.Remote.Port(),
		Seq:         seq,
		Flags:       flags,
		Window:      window,
	}
	if flags&packet.SYN != 0 {
		f.MSS = mss
	}
	if flags&packet.ACK != 0 {
		f.Ack = c.receiveNext
	}
	c.node.originate(packet.Segment(c.node.header(c.Local.Addr(), c.Remote.Addr()), f, data))
}

func (c *Conn) ack() { c.emit(packet.ACK, c.sendNext, nil) }

// push sends what may be sent now.
func (c *Conn) push() {
	switch c.state {
	case established, closeWait:
	default:
		return
	}
	for len(c.unsent) > 0 && len(c.flight) < int(c.sendWindow) {
		size := min(len(c.unsent), c.mss, int(c.sendWindow)-len(c.flight))
		chunk := c.unsent[:size]
		c.unsent = c.unsent[size:]
		flags := packet.ACK
		if len(c.unsent) == 0 {
			flags |= packet.PSH
		}
		c.emit(flags, c.sendNext, chunk)
		c.flight = append(c.flight, chunk...)
		c.sendNext += uint32(size)
		c.arm()
	}
	if c.fin && !c.finSent && len(c.unsent) == 0 {
		c.finSent = true
		c.emit(packet.FIN|packet.ACK, c.sendNext, nil)
		c.sendNext++
		if c.state == established {
			c.state = finWait1
		} else {
			c.state = lastAck
		}
		c.arm()
	}
	if len(c.unsent) > 0 && len(c.flight) == 0 { // the window is shut: look again
		c.arm()
	}
}

// arm starts the retransmission timer anew.
func (c *Conn) arm() {
	c.armed++
	mine := c.armed
	c.node.after(c.rto, func() {
		if mine == c.armed && !c.Done {
			c.expire()
		}
	})
}

// expire sends the oldest unacknowledged segment again (RFC 6298, section 5).
func (c *Conn) expire() {
	if c.state == timeWait {
		c.end(outcome.Outcome{})
		return
	}
	if c.retries++; c.retries > maxRetries {
		c.end(outcome.Of(outcome.NoAnswer))
		return
	}
	c.rto = min(2*c.rto, maxRTO)
	switch {
	case c.state == synSent:
		c.emit(packet.SYN, c.ISS, nil)
	case c.state == synReceived:
		c.emit(packet.SYN|packet.ACK, c.ISS, nil)
	case len(c.flight) > 0:
		c.emit(packet.ACK|packet.PSH, c.sendUna, c.flight[:min(len(c.flight), c.mss)])
	case c.finSent && c.sendUna != c.sendNext:
		c.emit(packet.FIN|packet.ACK, c.sendNext-1, nil)
	case len(c.unsent) > 0: // probe a shut window with one byte
		c.flight = append(c.flight, c.unsent[0])
		c.unsent = c.unsent[1:]
		c.emit(packet.ACK|packet.PSH, c.sendNext, c.flight)
		c.sendNext++
	default:
		return
	}
	c.arm()
}

// before compares sequence numbers (RFC 9293, section 3.4).
func before(a, b uint32) bool { return int32(a-b) < 0 }

func (n *Node) deliverTCP(p *packet.Packet) {
	f, data := packet.ReadSegment(p)
	key := connKey{netip.AddrPortFrom(p.Destination, f.Destination), netip.AddrPortFrom(p.Source, f.Source)}
	if c := n.conns[key]; c != nil {
		c.Frame = p.Number
		c.receive(f, data)
		return
	}
	accept := n.listener(f.Destination)
	if accept == nil || f.Flags&(packet.RST|packet.ACK) != 0 || f.Flags&packet.SYN == 0 || len(n.conns) >= maxConns {
		if f.Flags&packet.RST == 0 {
			n.reset(p.Destination, p.Source, f, len(data))
		}
		return
	}
	c := &Conn{
		node:   n,
		Local:  key.local,
		Remote: key.remote,
		rto:    firstRTO,
		mss:    min(mss, max(int(f.MSS), 64)),
		Frame:  p.Number,
	}
	c.ISS = n.rand()
	c.sendUna, c.sendNext, c.receiveNext, c.sendWindow = c.ISS, c.ISS+1, f.Seq+1, uint32(f.Window)
	c.state = synReceived
	n.addConn(c)
	c.emit(packet.SYN|packet.ACK, c.ISS, nil)
	c.arm()
}

// reset answers a segment that belongs to no connection (RFC 9293, 3.10.7.1).
func (n *Node) reset(from, to netip.Addr, f packet.SegmentFields, size int) {
	r := packet.SegmentFields{Source: f.Destination, Destination: f.Source, Flags: packet.RST}
	if f.Flags&packet.ACK != 0 {
		r.Seq = f.Ack
	} else {
		r.Flags |= packet.ACK
		r.Ack = f.Seq + uint32(size)
		if f.Flags&packet.SYN != 0 {
			r.Ack++
		}
		if f.Flags&packet.FIN != 0 {
			r.Ack++
		}
	}
	n.originate(packet.Segment(n.header(from, to), r, nil))
}

// receive takes a segment (RFC 9293, section 3.10.7).
func (c *Conn) receive(f packet.SegmentFields, data []byte) {
	if c.state == synSent {
		c.receiveSynSent(f)
		return
	}
	size := uint32(len(data))
	if f.Flags&(packet.SYN|packet.FIN) != 0 {
		size++
	}
	// Outside the window: say where we are, and take nothing.
	if before(f.Seq+size, c.receiveNext) || size > 0 && f.Seq+size == c.receiveNext ||
		!before(f.Seq, c.receiveNext+window) {
		if f.Flags&packet.RST == 0 {
			if c.state == synReceived && f.Flags&packet.SYN != 0 {
				c.emit(packet.SYN|packet.ACK, c.ISS, nil)
			} else {
				c.ack()
			}
		}
		return
	}
	if f.Flags&packet.RST != 0 {
		switch {
		case f.Seq != c.receiveNext:
			c.ack() // RFC 5961, section 3.2
		case c.state == closing || c.state == lastAck || c.state == timeWait:
			c.end(outcome.Outcome{}) // both ends have said all
		default:
			c.end(outcome.By(outcome.Reset, c.Remote.Addr()))
		}
		return
	}
	if f.Flags&packet.SYN != 0 {
		c.ack() // RFC 5961, section 4.2
		return
	}
	if f.Flags&packet.ACK == 0 {
		return
	}
	if c.state == synReceived {
		if f.Ack != c.sendNext {
			c.node.reset(c.Local.Addr(), c.Remote.Addr(), f, 0)
			return
		}
		c.state, c.Established = established, true
		if accept := c.node.listener(c.Local.Port()); accept != nil {
			accept(c)
		}
	}
	if c.acknowledge(f); c.Done {
		return
	}
	c.take(f, data)
	c.push()
}

func (c *Conn) receiveSynSent(f packet.SegmentFields) {
	if f.Flags&packet.ACK != 0 && f.Ack != c.ISS+1 {
		if f.Flags&packet.RST == 0 {
			c.node.reset(c.Local.Addr(), c.Remote.Addr(), f, 0)
		}
		return
	}
	if f.Flags&packet.RST != 0 {
		if f.Flags&packet.ACK != 0 {
			c.end(outcome.By(outcome.Refused, c.Remote.Addr()))
		}
		return
	}
	if f.Flags&packet.SYN == 0 {
		return
	}
	c.receiveNext, c.sendWindow = f.Seq+1, uint32(f.Window)
	if f.MSS != 0 {
		c.mss = min(c.mss, max(int(f.MSS), 64))
	}
	if f.Flags&packet.ACK == 0 { // both ends opened at once
		c.state = synReceived
		c.emit(packet.SYN|packet.ACK, c.ISS, nil)
		return
	}
	c.sendUna, c.state, c.Established, c.retries, c.rto = f.Ack, established, true, 0, firstRTO
	c.armed++
	c.ack()
	c.push()
}

// acknowledge takes the segment's acknowledgement and window.
func (c *Conn) acknowledge(f packet.SegmentFields) {
	if before(c.sendNext, f.Ack) {
		c.ack() // of something never sent
		return
	}
	c.sendWindow = uint32(f.Window)
	if !before(c.sendUna, f.Ack) {
		return
	}
	acked := int(f.Ack - c.sendUna)
	c.flight = c.flight[min(acked, len(c.flight)):]
	c.sendUna, c.retries, c.rto = f.Ack, 0, firstRTO
	if c.sendUna == c.sendNext {
		c.armed++ // nothing is under way
	} else {
		c.arm()
	}
	if !c.finSent || c.sendUna != c.sendNext {
		return
	}
	switch c.state { // our FIN is acknowledged
	case finWait1:
		c.state = finWait2
	case closing:
		c.linger()
	case lastAck:
		c.end(outcome.Outcome{})
	}
}

// take takes the segment's data and FIN, in order; what is ahead waits.
func (c *Conn) take(f packet.SegmentFields, data []byte) {
	if f.Flags&packet.FIN != 0 {
		c.finSeen, c.finAt = true, f.Seq+uint32(len(data))
	}
	if len(data) == 0 && f.Flags&packet.FIN == 0 {
		return
	}
	if len(data) > 0 {
		if before(c.receiveNext, f.Seq) {
			if c.ahead == nil {
				c.ahead = map[uint32][]byte{}
			}
			if len(c.ahead) < maxAhead {
				c.ahead[f.Seq] = data
			}
		} else {
			c.consume(f.Seq, data)
		}
	}
	for again := true; again; { // what waited may fit now
		again = false
		for seq, d := range c.ahead {
			if !before(c.receiveNext, seq) {
				delete(c.ahead, seq)
				c.consume(seq, d)
				again = true
			}
		}
	}
	if c.finSeen && c.receiveNext == c.finAt && !c.Closed {
		c.receiveNext++
		c.Closed = true
		switch c.state {
		case established:
			c.state = closeWait
		case finWait1:
			c.state = closing
		case finWait2:
			c.linger()
		}
		c.ack()
		if c.OnClose != nil {
			c.OnClose()
		}
		return
	}
	c.ack()
}

func (c *Conn) consume(seq uint32, data []byte) {
	skip := int(c.receiveNext - seq)
	if skip >= len(data) || c.Closed {
		return
	}
	data = data[skip:]
	c.receiveNext += uint32(len(data))
	if c.OnData != nil {
		c.OnData(data)
	}
}

// linger is TIME-WAIT: late segments of this connection find somebody.
func (c *Conn) linger() {
	c.state, c.rto = timeWait, 2*maxSegments
	c.arm()
	c.rto = firstRTO
}

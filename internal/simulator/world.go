// Package rehearse runs a whole lab in memory: every machine of the plan, the
// host, and an outside, as one deterministic event loop in virtual time. Every
// frame that crosses a wire is complete, and the same plan gives the same
// frames in every run.
package simulator

import (
	"cmp"
	"container/heap"
	"context"
	"slices"
	"time"

	"openbastion/internal/model/mac"
	"openbastion/internal/netsim/bridge"
	"openbastion/internal/netsim/host"
	"openbastion/internal/netsim/packet"
)

// Recorder is given every frame as it is sent, in order. segment is the index
// in [World.Segments]; the n-th call is about frame number n, from 1.
type Recorder interface {
	Record(segment int, at time.Time, frame []byte)
}

// Recorders gives each frame to each of several.
type Recorders []Recorder

// Record takes the next frame.
func (r Recorders) Record(segment int, at time.Time, frame []byte) {
	for _, one := range r {
		one.Record(segment, at, frame)
	}
}

// Epoch is the wall clock time at which every rehearsal starts.
var Epoch = time.Date(2026, 1, 1, 0, 0, 0, 0, time.UTC)

// latency is how long a frame takes across a wire. It is the same everywhere,
// so that frames arrive in the order in which they were sent.
const latency = 20 * time.Microsecond

// World is the event loop: stations on wires.
type World struct {
	Segments []string // names, for the Recorder
	Recorder Recorder // or nil

	now      time.Duration
	frames   ring
	alarms   alarms
	wires    []*cable
	stations []*station
	owner    map[mac.Address]*station // whose hardware address it is
	number   int                      // of the last frame sent
	sent     []time.Duration          // when each frame was, by number less one
	watch    func(from *station, segment int, p *packet.Packet)
	disturb  func(segment int) (lost bool, later time.Duration) // a fault, or nil
	limits   map[int]int                                        // the largest frame that a segment passes, by segment
	late     []inflight                                         // frames that a fault holds up, by time
	live     *Live                                              // when some machines are real, or nil
	at       *cable                                             // whose frame is being delivered
	deliver  func(port int, p *packet.Packet)                   // to a port of it

	ctx    context.Context // whose end stops the loop, or nil
	Budget int             // how many events may happen in all; 0: as many as a lab of its size needs
	events int
	spent  bool // the budget is: nothing happens any more
}

// Events that a lab may need: some for every pair of stations that can talk,
// and many for each station. A loop that takes more goes round for ever.
const (
	eventsPerStation = 20_000
	eventsAtLeast    = 200_000
)

func (w *World) budget() int {
	return cmp.Or(w.Budget, eventsAtLeast+eventsPerStation*len(w.stations))
}

// stopped returns why the loop stands still, when its context ended.
func (w *World) stopped() error {
	if w.ctx == nil {
		return nil
	}
	return w.ctx.Err()
}

// halted counts an event and tells whether the loop must stand still.
func (w *World) halted() bool {
	if w.events++; w.events > w.budget() {
		w.spent = true
	}
	return w.spent || w.events%1024 == 0 && w.stopped() != nil
}

func newWorld() *World {
	w := &World{owner: map[mac.Address]*station{}}
	w.deliver = func(port int, p *packet.Packet) {
		e := &w.at.ends[port]
		if e.station.real {
			w.live.arrive(e, p)
			return
		}
		e.station.node.Receive(w.now, e.adapter, p)
		if e.station.node.Stirred() {
			w.pump(e.station)
		} else if w.at.census != nil {
			w.at.count(port)
		}
	}
	return w
}

// station is a node with its links.
type station struct {
	node    *host.Node
	name    string
	index   int    // of the world's stations
	links   []link // by adapter number
	real    bool   // it is outside the simulation, see Live
	resumed bool   // it goes on from another lab, see Live.Resume
	alarm   time.Duration
}

type link struct {
	cable *cable
	port  int
}

// cable is a wire with what is attached to it.
type cable struct {
	bridge.Switch
	ends     []end
	census   *census     // of a crowded wire; nil: of any other
	segments map[int]int // tag to index in World.Segments
}

type end struct {
	station *station
	adapter int
}

// inflight is a frame on its way.
type inflight struct {
	at    time.Duration
	cable *cable
	port  int
	tag   int
	p     *packet.Packet
}

func (w *World) addCable() *cable {
	c := &cable{segments: map[int]int{}}
	w.wires = append(w.wires, c)
	return c
}

func (w *World) addSegment(c *cable, tag int, name string) {
	c.segments[tag] = len(w.Segments)
	w.Segments = append(w.Segments, name)
}

func (w *World) addStation(n *host.Node) *station {
	s := &station{node: n, name: n.Name, index: len(w.stations)}
	w.stations = append(w.stations, s)
	for _, p := range n.Ports() {
		w.owner[p.MAC] = s
	}
	return s
}

func (w *World) attach(s *station, adapter int, c *cable, how bridge.Port) {
	for len(s.links) <= adapter {
		s.links = append(s.links, link{})
	}
	s.links[adapter] = link{c, c.Attach(how)}
	c.ends = append(c.ends, end{s, adapter})
}

// setLink plugs or unplugs a station's adapter.
func (w *World) setLink(s *station, adapter int, up bool) {
	if adapter >= len(s.links) || s.links[adapter].cable == nil {
		return
	}
	l := s.links[adapter]
	l.cable.SetLink(l.port, up)
	if s.real {
		return
	}
	s.node.SetLink(w.now, adapter, up)
	w.pump(s)
}

// transmit puts a frame from a station on its wire.
func (w *World) transmit(s *station, adapter int, frame []byte) {
	if adapter >= len(s.links) || s.links[adapter].cable == nil {
		return
	}
	l := s.links[adapter]
	p, err := packet.Decode(frame)
	if err != nil {
		return
	}
	tag, ok := l.cable.Admit(l.port, p)
	if !ok {
		return
	}
	if w.number++; w.live == nil { // a real lab runs for as long as it likes
		w.sent = append(w.sent, w.now)
	}
	p.Number = w.number
	segment := l.cable.segments[tag]
	if w.Recorder != nil {
		w.Recorder.Record(segment, Epoch.Add(w.now), frame)
	}
	if w.watch != nil {
		w.watch(s, segment, p)
	}
	if largest, ok := w.limits[segment]; ok && len(frame) > largest {
		return
	}
	f := inflight{w.now + latency, l.cable, l.port, tag, p}
	if w.disturb != nil {
		lost, later := w.disturb(segment)
		if lost {
			return
		}
		if f.at += later; later > 0 {
			at, _ := slices.BinarySearchFunc(
				w.late,
				f.at+1,
				func(x inflight, at time.Duration) int { return cmp.Compare(x.at, at) },
			)
			w.late = slices.Insert(w.late, at, f)
			return
		}
	}
	w.frames.push(f)
}

// linkSize is what a frame has beside its packet: addresses, type, a tag (IEEE 802.1Q).
const linkSize = 18

// limit has a segment lose packets of more than size bytes, and say nothing.
func (w *World) limit(segment, size int) {
	if w.limits == nil {
		w.limits = map[int]int{}
	}
	w.limits[segment] = size + linkSize
}

// pump sends what a station wants sent and notes its next deadline.
func (w *World) pump(s *station) {
	for _, e := range s.node.Drain() {
		w.transmit(s, e.Adapter, e.Frame)
	}
	s.recount()
	if at, ok := s.node.Deadline(); ok && (s.alarm == 0 || at < s.alarm) {
		at = max(at, 1)
		s.alarm = at
		heap.Push(&w.alarms, alarm{at, s})
	}
}

// next returns when something happens next.
func (w *World) next() (at time.Duration, ok bool) {
	if w.frames.size() > 0 {
		at, ok = w.frames.first().at, true
	}
	if len(w.late) > 0 && (!ok || w.late[0].at < at) {
		at, ok = w.late[0].at, true
	}
	if len(w.alarms) > 0 && (!ok || w.alarms[0].at < at) {
		at, ok = w.alarms[0].at, true
	}
	return at, ok
}

// advance lets everything happen that happens until the given time.
func (w *World) advance(until time.Duration) {
	for {
		at, frame := until+1, false
		if w.frames.size() > 0 {
			at, frame = w.frames.first().at, true
		}
		if len(w.late) > 0 && w.late[0].at < at {
			at, frame = w.late[0].at, true
		}
		if len(w.alarms) > 0 && w.alarms[0].at < at {
			at, frame = w.alarms[0].at, false
		}
		if at > until {
			w.now = max(w.now, until)
			return
		}
		w.now = max(w.now, at)
		if w.halted() {
			w.now = max(w.now, until)
			return
		}
		if frame {
			var f inflight
			if len(w.late) > 0 && w.late[0].at == at {
				f, w.late = w.late[0], w.late[1:]
			} else {
				f = w.frames.pop()
			}
			w.at = f.cable
			if ports, all := f.cable.heeding(f.p); all {
				f.cable.Forward(f.port, f.tag, f.p, w.deliver)
			} else {
				f.cable.ForwardTo(ports, f.port, f.tag, f.p, w.deliver)
			}
			continue
		}
		a := heap.Pop(&w.alarms).(alarm)
		if a.station.alarm != a.at {
			continue // an earlier one took its place
		}
		a.station.alarm = 0
		a.station.node.Advance(w.now)
		w.pump(a.station)
	}
}

// ring is a queue of frames, oldest first.
type ring struct {
	items []inflight
	head  int
	count int
}

func (r *ring) size() int        { return r.count }
func (r *ring) first() *inflight { return &r.items[r.head] }

func (r *ring) push(f inflight) {
	if r.count == len(r.items) {
		grown := make([]inflight, max(64, 2*len(r.items)))
		for i := range r.count {
			grown[i] = r.items[(r.head+i)%len(r.items)]
		}
		r.items, r.head = grown, 0
	}
	r.items[(r.head+r.count)%len(r.items)] = f
	r.count++
}

func (r *ring) pop() inflight {
	f := r.items[r.head]
	r.items[r.head] = inflight{}
	r.head = (r.head + 1) % len(r.items)
	r.count--
	return f
}

// alarms is a heap of stations' deadlines; equal times go by the order in which
// stations were added, so that it is the same in every run.
type alarms []alarm

type alarm struct {
	at      time.Duration
	station *station
}

func (h alarms) Len() int      { return len(h) }
func (h alarms) Swap(i, j int) { h[i], h[j] = h[j], h[i] }
func (h alarms) Less(i, j int) bool {
	return h[i].at < h[j].at || h[i].at == h[j].at && h[i].station.index < h[j].station.index
}
func (h *alarms) Push(x any) { *h = append(*h, x.(alarm)) }
func (h *alarms) Pop() any {
	last := len(*h) - 1
	a := (*h)[last]
	*h = (*h)[:last]
	return a
}

// Frames returns how many frames were sent so far.
func (w *World) Frames() int { return w.number }

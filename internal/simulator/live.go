package simulator

import (
	"math"
	"net/netip"
	"slices"
	"time"

	"openbastion/internal/model/lab"
	"openbastion/internal/model/plan"
	"openbastion/internal/model/subnet"
	"openbastion/internal/netsim/bridge"
	"openbastion/internal/netsim/dhcp"
	"openbastion/internal/netsim/host"
	"openbastion/internal/netsim/packet"
	"openbastion/internal/verify/attack"
	"openbastion/internal/verify/claims"
	"openbastion/internal/verify/reachability"
)

// Live is a rehearsal in whose wires real machines are: what the lab sends them comes
// out, and what they send is put in. Everybody else (the outside, the host, strangers,
// and machines of the plan that are not real) stays simulated, and whoever is hostile
// speaks from the switch in the real machine's place. Time is whatever it is told.
//
// Adapters are numbered from 1 by their place in Adapters; an appliance's tagged
// ports are adapters of their own, and send and take what they carry untagged.
type Live struct {
	*Lab
	Adapters []*plan.Adapter

	// Wait lets everything happen, in the lab and outside it, until a time; it is
	// called from within questions. Nil: time passes at once.
	Wait func(until time.Duration)
	// Forget has a real machine forget what its neighbors told it.
	Forget func(*plan.Machine)

	began  time.Duration // the lab's time when the real one was zero
	joined []*station    // where the lab goes on to real networks; numbered after all adapters
	out    []host.Emission
	places map[place]int
	asks   map[*host.Port]*dhcp.Client // of ports of real machines, for who stands in their place
}

// place is an adapter's tag on a station's link.
type place struct {
	s       *station
	adapter int
	tag     int
}

// Timing of a lab whose machines are real: they need moments where simulated ones
// need none, and nobody waits a minute for what is not coming.
var (
	virtual = timing{
		pace:   5 * latency,
		settle: 10 * time.Millisecond,
		answer: answerTime,
		step:   100 * time.Microsecond,
		link:   time.Second,
		back:   answerTime,
		scan:   answerTime,
	}
	realish = timing{
		pace:   time.Millisecond,
		settle: 20 * time.Millisecond,
		answer: 1200 * time.Millisecond,
		step:   time.Millisecond,
		scan:   200 * time.Millisecond,
		link:   15 * time.Millisecond,
		back:   50 * time.Millisecond,
	}
)

// timing is how long the stage gives things.
type timing struct {
	pace   time.Duration // between bursts of hostile frames
	settle time.Duration // after the last of them: so long it must be quiet, where time is real
	answer time.Duration // after the last question
	scan   time.Duration // after the last port that was tried from outside
	step   time.Duration // between questions
	link   time.Duration // after a cable was pulled
	back   time.Duration // after all are plugged again
}

// NewLive builds the world around the machines of a plan that are real.
func NewLive(p *plan.Plan, real func(*plan.Machine) bool) *Live { return newLive(p, real, false) }

// NewTrunked is NewLive with machines that tag by themselves: an appliance's tagged ports
// are no adapters of their own, and what is theirs passes, with its tag, by the adapter
// that carries them.
func NewTrunked(p *plan.Plan, real func(*plan.Machine) bool) *Live { return newLive(p, real, true) }

func newLive(p *plan.Plan, real func(*plan.Machine) bool, trunked bool) *Live {
	v := &Live{Lab: New(p), places: map[place]int{}, asks: map[*host.Port]*dhcp.Client{}}
	v.timing = realish
	v.world.Budget = math.MaxInt
	v.world.live = v
	for _, m := range p.Machines {
		if !real(m) {
			continue
		}
		s := v.members[m]
		s.real = true
		for _, port := range s.node.Ports() {
			v.asks[port] = port.Client
			port.Client, port.Server = nil, nil
		}
		for _, a := range m.Adapters {
			if a.Over != nil && trunked {
				continue
			}
			v.Adapters = append(v.Adapters, a)
			tag := 0
			if a.Over != nil {
				tag = a.Segment.Tag
			}
			v.places[place{s, a.Number, tag}] = len(v.Adapters)
		}
	}
	return v
}

// Plug plugs a real machine's adapter in at the switch, or unplugs it.
func (v *Live) Plug(a *plan.Adapter, in bool) { v.world.setLink(v.members[a.Machine], a.Number, in) }

// AddServer puts somebody on a segment who hands out leases there beside whoever is
// planned to. It is called before Start.
func (v *Live) AddServer(s *plan.Segment) {
	v.addStranger(s, len(v.plan.Segments)+1+slices.Index(v.plan.Segments, s))
}

// JoinOutside has the outside go on to a real network: what is for nobody in the lab's
// world goes to an adapter that is numbered after all others, to who has the address that
// it returns there. Names that are not of the lab's own world are asked of resolvers there; of
// that one itself, where none are named. It is called before Start.
func (v *Live) JoinOutside(resolvers []netip.Addr) netip.Prefix {
	at := netip.PrefixFrom(subnet.Last(v.beyond), v.beyond.Bits())
	v.goesOn("this machine", v.far, bridge.Port{})
	if len(resolvers) == 0 {
		resolvers = []netip.Addr{at.Addr()}
	}
	for _, s := range v.routers {
		for _, p := range s.node.Ports() {
			if v.beyond.Contains(p.Address.Addr()) {
				p.Gateway = at.Addr()
			}
		}
		if r := s.node.Resolver; r != nil {
			r.Zones, r.Upstreams = []string{"example."}, resolvers
		}
	}
	return at
}

// JoinSegment has a segment go on to a real network, where who routes and hands out leases
// is: the lab's own router is taken off it. Adapters that are joined are numbered after all
// others, in order; it gives the number. It is called before Start.
func (v *Live) JoinSegment(s *plan.Segment) (number int) {
	if r := v.routers[s]; r != nil {
		v.world.setLink(r, 1, false)
	}
	return v.goesOn("beyond "+s.Name, v.cables[s.Wire], bridge.Port{Native: s.Tag})
}

// Last returns the number of the adapter that was joined last.
func (v *Live) Last() int { return len(v.Adapters) + len(v.joined) }

func (v *Live) goesOn(name string, c *cable, how bridge.Port) (number int) {
	s := v.world.addStation(host.New(v.unused(name)))
	s.real = true
	v.world.attach(s, 1, c, how)
	v.joined = append(v.joined, s)
	return len(v.Adapters) + len(v.joined)
}

// Extend has a segment go on elsewhere, beside all that is on it here. Adapters by which it
// does are numbered after all others, in order; it gives the number. It is called before
// Start.
func (v *Live) Extend(s *plan.Segment) (number int) {
	return v.goesOn(s.Name+" elsewhere", v.cables[s.Wire], bridge.Port{Native: s.Tag})
}

// BehindRouters returns the networks of the lab's outside by the router that leads to each.
func (v *Live) BehindRouters() map[netip.Prefix]netip.Addr {
	out := map[netip.Prefix]netip.Addr{}
	for s, r := range v.routers {
		for _, p := range r.node.Ports() {
			if v.beyond.Contains(p.Address.Addr()) && s.Subnet.IsValid() {
				out[s.Subnet] = p.Address.Addr()
			}
		}
	}
	return out
}

// Start lets the simulated part of the lab come up, in no time; the clock of what
// is real begins with it. Where an appliance is real, which is not up yet, its guests
// wait for StartGuests.
func (v *Live) Start() {
	if slices.ContainsFunc(v.plan.Appliances(), v.Real) {
		v.startBeyond()
	} else {
		v.Lab.start()
	}
	v.began = v.world.now
}

// StartGuests has the simulated guests ask for what they are to be given, where they have
// waited for an appliance.
func (v *Live) StartGuests() {
	for _, m := range v.plan.Guests() {
		if s := v.members[m]; !s.real && slices.ContainsFunc(v.plan.Appliances(), v.Real) {
			v.lead(s)
		}
	}
}

// Settled reports whether the simulated guests have the leases that are handed out to them.
func (v *Live) Settled() bool {
	for _, m := range v.plan.Guests() {
		if v.Real(m) {
			continue
		}
		for _, a := range m.Adapters {
			_, port := v.portOf(a)
			if by, _ := a.Segment.LeaseService(); by != nil && a.Plugged && port.Client != nil &&
				!port.Address.IsValid() {
				return false
			}
		}
	}
	return true
}

// Addresses returns what a simulated adapter has: its IPv4 address, and its IPv6 addresses.
func (v *Live) Addresses(a *plan.Adapter) (four netip.Prefix, gateway netip.Addr, six []netip.Prefix) {
	_, port := v.portOf(a)
	if port.IPv6 != nil {
		six = slices.Clone(port.IPv6.Addresses)
	}
	return port.Address, port.Gateway, six
}

// Real reports whether a machine is.
func (v *Live) Real(m *plan.Machine) bool {
	s := v.members[m]
	return s != nil && s.real
}

// SetAddresses notes which addresses a real adapter has, for those who know them.
func (v *Live) SetAddresses(a *plan.Adapter, four netip.Prefix, six []netip.Prefix) {
	s, port := v.portOf(a)
	port.Address = four
	s.node.Readdressed()
	if port.IPv6 != nil {
		port.IPv6.Addresses = six
	}
}

// Receive puts a frame of a real adapter on the lab's wire.
func (v *Live) Receive(now time.Duration, number int, frame []byte) {
	v.Advance(now)
	if at := number - len(v.Adapters) - 1; at >= 0 && at < len(v.joined) {
		v.world.transmit(v.joined[at], 1, slices.Clone(frame))
		return
	}
	if number < 1 || number > len(v.Adapters) {
		return
	}
	a := v.Adapters[number-1]
	s := v.members[a.Machine]
	if !s.real { // somebody hostile stands in its place
		return
	}
	frame = slices.Clone(frame)
	if a.Over != nil {
		frame = packet.Tagged(frame, a.Segment.Tag)
	}
	v.world.transmit(s, a.Number, frame)
}

// Say has a simulated machine send a frame, untagged, by an adapter.
func (v *Live) Say(a *plan.Adapter, frame []byte) {
	v.world.transmit(v.members[a.Machine], a.Number, slices.Clone(frame))
}

// arrive is what a real machine is sent.
func (v *Live) arrive(e *end, p *packet.Packet) {
	s := e.station
	if port := s.node.PortFor(e.adapter, p); port != nil && s.node.Seen != nil &&
		(p.IPv4 || p.IPv6 && port.IPv6 != nil) {
		s.node.Seen(p)
	}
	if at := slices.Index(v.joined, s); at >= 0 {
		v.out = append(v.out, host.Emission{Adapter: len(v.Adapters) + 1 + at, Frame: p.Bytes})
		return
	}
	number, ok := v.places[place{s, e.adapter, p.Tag}]
	frame := p.Bytes
	if ok && p.Tag != 0 {
		frame = packet.Untagged(frame)
	} else if !ok {
		number = v.places[place{s, e.adapter, 0}]
	}
	v.out = append(v.out, host.Emission{Adapter: number, Frame: frame})
}

// Advance lets everything happen in the lab that happens until now. When the lab was
// asked something meanwhile, which takes time of its own, its clock is set by what it
// has become.
func (v *Live) Advance(now time.Duration) {
	v.began = max(v.began, v.world.now-now)
	v.world.advance(v.began + now)
}

// Deadline returns when something happens next.
func (v *Live) Deadline() (time.Duration, bool) {
	at, ok := v.world.next()
	return max(at-v.began, 0), ok
}

// Drain returns the frames that came out since the last call.
func (v *Live) Drain() []host.Emission {
	out := v.out
	v.out = nil
	return out
}

// replaced puts somebody hostile, who is simulated, in a real machine's place; what
// it returns puts the machine back.
func (v *Live) replaced(s *station) (back func()) {
	if !s.real {
		return func() {}
	}
	s.real = false
	return func() {
		v.world.settle(v.timing.settle) // what is still on its way is for who stood there
		s.real = true
		v.world.run(v.world.now + v.timing.link)
	}
}

// StandIn puts a simulated machine, as planned, in a real one's place, or takes it away
// again: for what a real one is to be asked that answers no questions. The real one hears
// and says nothing meanwhile.
func (v *Live) StandIn(m *plan.Machine, in bool) {
	s := v.members[m]
	if s.real == !in {
		return
	}
	s.real = !in
	for _, port := range s.node.Ports() {
		if port.Client = nil; in && v.asks[port] != nil {
			port.Client = &dhcp.Client{MAC: v.asks[port].MAC, Hostname: v.asks[port].Hostname}
			port.Address = netip.Prefix{} // what it had is the real one's
		}
	}
	s.node.Readdressed()
	if in {
		v.lead(s)
	}
}

// Slower has what is hostile be sent at a slower pace from now on: by a factor; 1 is the
// usual one.
func (v *Live) Slower(factor int) { v.timing.pace = time.Duration(factor) * realish.pace }

// Arrivals has a guest send what a hostile one sends, but for lies, and tells how many of
// that came outside. Where none does, as next to nothing is allowed, it sends what the
// guest is known to have got through by an adapter: a service at the witness. When not even
// that arrives the sending is no good.
func (v *Live) Arrivals(by *plan.Adapter, source netip.Addr, known lab.Service) (sent, arrived int) {
	fire := func(attempts attack.Attempts) (int, int) {
		r := v.newRound(v.members[by.Machine], attempts, v.outside)
		v.round = r
		defer func() { v.round = nil }()
		return v.fire(r, func(t *attack.Attempt) bool { return !t.AfterLies }), len(r.caught)
	}
	v.learned = v.known()
	if sent, arrived = fire(attack.Escape(v.plan, by.Machine, v.learned)); arrived > 0 {
		return sent, arrived
	}
	one := attack.Single(claims.RefTo(by), by.MAC, reachability.Packet{Source: source, Destination: v.witness,
		Protocol: known.Proto, DestinationPort: known.From}, attack.Hop{})
	one.Hops = attack.Gates(v.plan, by, v.learned)
	_, arrived = fire(attack.Attempts{one})
	return sent + 1, arrived
}

// AddressOf returns a simulated adapter's address, or why there is none.
func (v *Live) AddressOf(a *plan.Adapter, six bool) (netip.Addr, string) {
	_, to, why := v.target(nil, a, six)
	return to, why
}

// Pinged returns the source of the last ping that the witness saw, or the zero Addr.
func (v *Live) Pinged() netip.Addr { return v.pinged }

// Saw returns the source from which the witness saw a ping with a payload.
func (v *Live) Saw(payload string) netip.Addr { return v.seen[payload] }

// Servers calls a function for each simulated machine that hands out leases, with the
// lab's time and the name of the segment where it does.
func (v *Live) Servers(each func(now time.Duration, segment, server string, s *dhcp.Server)) {
	for _, s := range v.world.stations {
		for _, p := range s.node.Ports() {
			if p.Server == nil || p.Adapter >= len(s.links) || s.links[p.Adapter].cable == nil {
				continue
			}
			if at, ok := s.links[p.Adapter].cable.segments[p.Tag]; ok {
				each(v.world.now, v.world.Segments[at], s.name, p.Server)
			}
		}
	}
}

// run lets everything happen until a time of the lab.
func (w *World) run(until time.Duration) {
	if w.live != nil && w.live.Wait != nil {
		w.live.Wait(until - w.live.began)
		return
	}
	w.advance(until)
}

// maxSettle bounds how many times as long a real lab is waited for that does not become
// quiet.
const maxSettle = 20

// settle lets everything happen that follows from what was sent: for a time of the lab;
// where time is real, until so long no frame was seen.
func (w *World) settle(quiet time.Duration) {
	if w.live == nil || w.live.Wait == nil {
		w.run(w.now + quiet)
		return
	}
	for range maxSettle {
		before := w.number
		w.run(w.now + quiet)
		if w.number == before || w.stopped() != nil {
			return
		}
	}
}

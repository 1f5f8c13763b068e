package rehearse

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"net/netip"
	"slices"
	"strconv"
	"time"

	"openbastion/core/header"

	"openbastion/core/claims"
	"openbastion/core/lab"
	"openbastion/core/mac"
	"openbastion/core/packet"
	"openbastion/core/plan"
)

// attack is the round in which guests turn hostile: each sends what it can
// invent by every adapter to every station of its segment, and whatever comes
// out outside is recognised by a token in it.
type attack struct {
	attempts []attempt            // by token
	caught   map[int]map[int]bool // token to the hops by which it got out
	targets  map[*station]bool    // who notices
	arrived  map[int]*station     // token to the last station that noticed
}

// attempt is one packet, sent to each of several next hops; the hop is told
// from the identification field of the IPv4 header.
type attempt struct {
	from    *station
	adapter int
	frame   []byte
	hops    []hop
	odd     bool // looked for on every wire outside, as no station may take it in
	tried   string
	before  func() // what must be done again first, or nil
}

type hop struct {
	mac  mac.Address
	name string
}

// Every hostile packet carries its token: after a word in what it says, and
// behind a first byte in the sequence number of a SYN.
const (
	tokenMark = 0xb5
	tokenWord = "open-bastion-escape-"
)

// tokenOf finds the token of a hostile packet, or -1.
func tokenOf(p *packet.Packet) int {
	switch p.Proto {
	case packet.TCP:
		if len(p.Data) >= header.TCPSize && p.Data[4] == tokenMark && p.Data[13] == packet.SYN {
			return int(binary.BigEndian.Uint32(p.Data[4:]) & 0xffffff)
		}
		return -1
	default:
		return wordIn(p.Data)
	}
}

// wordOrToken finds the token in any packet.
func wordOrToken(p *packet.Packet) int {
	if p.IP() {
		return tokenOf(p)
	}
	return wordIn(p.Bytes)
}

// saw is told of every packet that a station outside takes in.
func (a *attack) saw(by *station, p *packet.Packet) {
	if a == nil || !a.targets[by] {
		return
	}
	t := tokenOf(p)
	if t < 0 || t >= len(a.attempts) {
		return
	}
	if a.caught[t] == nil {
		a.caught[t] = map[int]bool{}
	}
	a.caught[t][hopOf(p)] = true
	if old := a.arrived[t]; old == nil || old.name != witnessHost { // a router on the way gives way to the witness
		a.arrived[t] = by
	}
}

// assault makes the probes of kind Escape and Scan. Meanwhile every guest with
// a second adapter passes on what it is given, as a hostile one would.
func (l *Lab) assault(probes []claims.Probe, out []claims.Observation) {
	for _, m := range l.plan.Guests() {
		if len(m.Adapters) > 1 {
			n := l.members[m].node
			defer func(was bool) { n.Forwards, n.Spreads = was, false }(n.Forwards)
			n.Forwards, n.Spreads = true, true
		}
	}
	done := map[*plan.Machine]*claims.Observation{}
	for i, q := range probes {
		if l.Progress != nil {
			l.Progress(i, len(probes))
		}
		switch {
		case q.Kind == claims.Scan:
			out[i] = l.scan(q)
		case q.Kind == claims.Escape && done[q.From.Machine] != nil:
			out[i] = *done[q.From.Machine]
		case q.Kind == claims.Escape:
			out[i] = l.escape(q.From.Machine)
			done[q.From.Machine] = &out[i]
		}
	}
}

// escape lets one guest try everything.
func (l *Lab) escape(m *plan.Machine) claims.Observation {
	first := l.world.number + 1
	a := &attack{caught: map[int]map[int]bool{}, arrived: map[int]*station{}, targets: l.outside}
	l.attack = a
	defer func() { l.attack = nil }()
	s := l.members[m]
	for _, ad := range m.Adapters {
		if ad.Plugged {
			l.plot(a, s, ad)
		}
	}
	l.world.watch = l.tap(a, s)
	o := claims.Observation{Attempts: l.fire(a, 0)}
	var notes []string
	for _, ad := range m.Adapters {
		if ad.Plugged {
			n, said := l.play(a, s, ad)
			o.Attempts += n
			notes = append(notes, said...)
		}
	}
	l.world.watch = nil
	o.Escapes = l.explainWays(a, m.Name)
	o.Answered = len(o.Escapes) > 0
	o.Evidence = []string{fmt.Sprintf("%d packets tried, frames %d to %d", o.Attempts, first, l.world.number)}
	for _, w := range o.Escapes {
		o.Evidence = append(o.Evidence, w.Packet)
	}
	o.Evidence = append(o.Evidence, notes...)
	return o
}

// plot lists what a guest can try by one adapter.
func (l *Lab) plot(a *attack, s *station, ad *plan.Adapter) {
	gates, neighbors := l.hops(ad)
	own := l.address(ad)
	targets := []netip.Addr{l.witness}
	for _, seg := range l.plan.Segments {
		if seg.Reach == lab.Upstream && seg.Gateway.IsValid() {
			targets = append(targets, seg.Gateway)
		}
	}
	add := func(source, to netip.Addr, what string, hops []hop, services []lab.Service) {
		for _, service := range services {
			token := len(a.attempts)
			a.attempts = append(a.attempts, attempt{
				from: s, adapter: ad.Number, hops: hops, frame: forge(ad.MAC, source, to, service, token),
				tried: fmt.Sprintf("%s from %s, by adapter %d", shownAs(service), what, ad.Number),
			})
		}
	}
	for _, to := range targets {
		for _, source := range l.sources(ad, own) {
			what := source.String()
			if source == own {
				what = "its own address " + what
			} else {
				what = "the foreign address " + what
			}
			add(source, to, what, gates, usual)
			if source == own && to == l.witness {
				add(source, to, what, gates, l.named)
			}
		}
	}
	add(own, l.witness, "its own address "+own.String(), neighbors, usual)
	l.odd(a, s, ad, own, gates)
}

// tap finds odd packets where they must not be: on a segment outside, sent by
// somebody else than the guest.
func (l *Lab) tap(a *attack, attacker *station) func(*station, int, *packet.Packet) {
	return func(from *station, segment int, p *packet.Packet) {
		if from == attacker || l.outside[from] || !l.outer[segment] || p.IsError() {
			return // an error quotes what it is about
		}
		if t := wordIn(p.Bytes); t >= 0 && t < len(a.attempts) && a.attempts[t].odd {
			if a.caught[t] == nil {
				a.caught[t] = map[int]bool{}
			}
			a.caught[t][hopOf(p)] = true
			a.arrived[t] = from
		}
	}
}

// hopOf reads to which of its hops a hostile packet was sent: aim wrote that
// into its identification, or its flow label.
func hopOf(p *packet.Packet) int {
	switch {
	case p.IPv4:
		return int(header.IPv4(p.Body).ID())
	case p.IPv6:
		return int(p.Body[3])
	}
	return 0
}

// wordIn finds the token in any frame, or -1.
func wordIn(b []byte) int {
	at := bytes.Index(b, []byte(tokenWord))
	if at < 0 || len(b) < at+len(tokenWord)+8 {
		return -1
	}
	n, err := strconv.ParseUint(string(b[at+len(tokenWord):][:8]), 16, 32)
	if err != nil {
		return -1
	}
	return int(n)
}

// address gives the adapter's address, or one that it could take.
func (l *Lab) address(ad *plan.Adapter) netip.Addr {
	if _, port := l.portOf(ad); port.Address.IsValid() {
		return port.Address.Addr()
	}
	return guess(ad.Segment)
}

// guess gives an address on a segment that a hostile guest could take.
func guess(s *plan.Segment) netip.Addr {
	b := s.Subnet.Addr().As4()
	binary.BigEndian.PutUint32(b[:], binary.BigEndian.Uint32(b[:])|1<<(32-s.Subnet.Bits())-2)
	return netip.AddrFrom4(b)
}

// hops gives the stations of the adapter's segment that may route (appliances,
// the host, routers, everybody at once), and the other guests.
func (l *Lab) hops(ad *plan.Adapter) (gates, neighbors []hop) {
	s := ad.Segment
	for _, other := range s.Adapters {
		switch {
		case other.Machine == ad.Machine:
		case other.Guest == nil:
			gates = append(gates, hop{other.MAC, other.Machine.Name})
		default:
			neighbors = append(neighbors, hop{other.MAC, other.Machine.Name})
		}
	}
	r := l.routers[s]
	if r == nil && s.Bridged != nil {
		r = l.routers[s.Bridged] // beyond a transparent appliance
	}
	if r != nil {
		gates = append(gates, hop{r.node.Ports()[0].MAC, r.name})
	}
	if a := l.announcers[s]; a != nil {
		gates = append(gates, hop{a.node.Ports()[0].MAC, a.name})
	}
	if l.host != nil && s.HostLeg.IsValid() {
		for _, p := range l.host.node.Ports() {
			if p.Address == s.HostLeg {
				gates = append(gates, hop{p.MAC, "host"})
			}
		}
	}
	return append(gates, hop{mac.Broadcast, "everybody"}), neighbors
}

// sources gives the addresses that a guest may pretend to have: its own, a
// neighbor's, the router's, one of each other segment, and a public one.
func (l *Lab) sources(ad *plan.Adapter, own netip.Addr) []netip.Addr {
	list := []netip.Addr{own, netip.AddrFrom4([4]byte{198, 51, 100, 7})}
	add := func(a netip.Addr) {
		if a.IsValid() && !slices.Contains(list, a) && len(list) < 12 {
			list = append(list, a)
		}
	}
	add(guess(ad.Segment))
	add(ad.Segment.Gateway)
	for _, s := range l.plan.Segments {
		if s != ad.Segment {
			add(guess(s))
		}
	}
	return list
}

// forge builds a hostile packet with the hop's place still open.
func forge(from mac.Address, source, to netip.Addr, service lab.Service, token int) []byte {
	h := packet.IP{Source: source, Destination: to}
	word := fmt.Sprintf("%s%08x", tokenWord, token)
	var b []byte
	switch service.Proto {
	case lab.ICMP:
		b = packet.Echo(h, false, 0xb5b5, uint16(token), []byte(word))
	case lab.UDP:
		b = packet.Datagram(h, 40000, service.From, say(service.From, word))
	default:
		b = packet.Segment(h, packet.SegmentFields{Source: 40000, Destination: service.From, Seq: tokenMark<<24 | uint32(token)&0xffffff, Flags: packet.SYN, Window: 1024}, nil)
	}
	packet.SetLink(b, mac.Address{}, from)
	return b
}

// aim gives the attempt's frame for its i-th hop.
func (t *attempt) aim(i int) []byte {
	b := slices.Clone(t.frame)
	copy(b, t.hops[i].mac[:])
	switch binary.BigEndian.Uint16(b[12:]) {
	case packet.TypeIPv4:
		header.IPv4(b[14:]).SetID(uint16(i))
	case packet.TypeIPv6:
		b[14+3] = byte(i)
	} // else it is tagged: the hop is not marked
	return b
}

// fire sends every attempt from the first-th on to each of its hops and gives
// how many that were.
func (l *Lab) fire(a *attack, first int) int {
	n := 0
	for t := first; t < len(a.attempts); t++ {
		try := &a.attempts[t]
		for i := range try.hops {
			l.world.transmit(try.from, try.adapter, try.aim(i))
			// Few at once: a neighbor that must first ask for an address keeps
			// only some packets waiting.
			if n++; n%8 == 0 {
				l.world.run(l.world.now + 5*latency)
			}
		}
	}
	// Long enough for an address to be asked for on the way.
	l.world.run(l.world.now + 10*time.Millisecond)
	return n
}

// maxWays bounds how many ways of one guest are told in full.
const maxWays = 4

// explainWays sends one packet of each way that got out once more and follows
// it from wire to wire.
func (l *Lab) explainWays(a *attack, from string) []claims.Way {
	var ways []claims.Way
	told := map[string]bool{}
	tokens := make([]int, 0, len(a.caught))
	for t := range a.caught {
		tokens = append(tokens, t)
	}
	slices.Sort(tokens)
	for _, t := range tokens {
		try := &a.attempts[t]
		hops := make([]int, 0, len(a.caught[t]))
		for h := range a.caught[t] {
			hops = append(hops, h)
		}
		slices.Sort(hops)
		for _, h := range hops {
			if h >= len(try.hops) {
				continue
			}
			// The broadcast address as next hop tells nothing that a station's own did not.
			by := fmt.Sprint(try.from.name, try.adapter)
			id := by + try.hops[h].name
			if told[id] || len(ways) >= maxWays || try.hops[h].mac == mac.Broadcast && told[by] {
				continue
			}
			told[id], told[by] = true, true
			ways = append(ways, l.follow(a, t, h, from))
		}
	}
	return ways
}

// follow sends one attempt again and notes where it passes.
func (l *Lab) follow(a *attack, token, h int, from string) claims.Way {
	try := &a.attempts[token]
	way := claims.Way{From: from, Tried: try.tried}
	if name := try.hops[h].name; name == "everybody" {
		way.Tried += ", to everybody on the segment"
	} else {
		way.Tried += ", with " + name + " as next hop"
	}
	var last *packet.Packet
	over := false
	l.world.watch = func(s *station, segment int, p *packet.Packet) {
		if p.Type == packet.TypeARP || p.Discovery() {
			return // asking for neighbors is no way
		}
		seg := l.plan.Segment(l.world.Segments[segment])
		if over = over || s == l.buoy || l.outside[s] && seg != nil && s != try.from; over || wordOrToken(p) != token {
			return // it has arrived; what follows is the way back
		}
		way.Path = append(way.Path, s.name, l.world.Segments[segment])
		last = p
		if try.odd && l.outer[segment] { // seen outside, whoever takes it
			way.To, over = l.world.Segments[segment], true
		}
		if seg != nil && seg.Reach == lab.Upstream && way.Door == nil {
			way.Door = doorOn(l.plan.Machine(s.name), seg)
		}
	}
	delete(a.arrived, token)
	if try.before != nil {
		try.before()
	}
	l.world.transmit(try.from, try.adapter, try.aim(h))
	l.world.run(l.world.now + 10*time.Millisecond)
	l.world.watch = nil
	if last != nil {
		way.Packet = fmt.Sprintf("frame %d: %s", last.Number, last)
	}
	if end := a.arrived[token]; last != nil && end != nil && !try.odd {
		way.Path, way.To = append(way.Path, end.name), end.name
	}
	return way
}

// doorOn gives the guest's adapter on a segment, or nil.
func doorOn(m *plan.Machine, s *plan.Segment) *plan.Adapter {
	if m == nil || m.Guest == nil {
		return nil
	}
	for _, a := range m.Adapters {
		if a.Segment == s {
			return a
		}
	}
	return nil
}

// scan tries the WAN from outside: each service from the witness, and packets
// to inside addresses from the router next to the WAN.
func (l *Lab) scan(q claims.Probe) claims.Observation {
	first := l.world.number + 1
	_, port := l.portOf(q.To)
	if !port.Address.IsValid() && len(q.Scan) > 0 {
		return claims.Observation{Unknown: fmt.Sprintf("port %s of %s has no address to try", q.To.Name, q.To.Machine.Name)}
	}
	from := l.buoy
	if r := l.routers[q.To.Segment]; r != nil && q.To.Segment.Lab.Join == "nat" {
		from = r // the host's translation hides the WAN from all but the host
	}
	o := claims.Observation{}
	finish := make([]func() claims.Observation, len(q.Scan))
	for i, s := range q.Scan {
		finish[i] = l.reach(from, port.Address.Addr(), claims.Probe{Kind: claims.AskReach, To: q.To, Proto: s.Proto, Port: s.From})
		l.world.run(l.world.now + time.Millisecond)
	}
	l.world.run(l.world.now + settleTime)
	for i, fn := range finish {
		o.Attempts++
		if r := fn(); r.Answered {
			o.Open = append(o.Open, q.Scan[i])
			o.Evidence = append(o.Evidence, r.Evidence...)
		}
	}
	n, ways := l.intrude(q.To)
	o.Attempts += n
	o.Escapes = ways
	o.Evidence = append(o.Evidence, fmt.Sprintf("%d tries from outside, frames %d to %d", o.Attempts, first, l.world.number))
	return o
}

// intrude sends packets for inside addresses to the appliance's WAN adapter,
// as a machine on the upstream segment can.
func (l *Lab) intrude(wan *plan.Adapter) (int, []claims.Way) {
	router := l.routers[wan.Segment]
	if router == nil { // behind another appliance: nobody outside is next to this WAN
		return 0, nil
	}
	a := &attack{caught: map[int]map[int]bool{}, arrived: map[int]*station{}, targets: map[*station]bool{}}
	l.attack = a
	defer func() { l.attack = nil }()
	for _, m := range l.plan.Guests() {
		for _, ad := range m.Adapters {
			if s := ad.Segment; s.Port == nil || s.Port.Machine != wan.Machine {
				continue
			}
			st, port := l.portOf(ad)
			if !port.Address.IsValid() {
				continue
			}
			st.node.Seen = func(p *packet.Packet) { a.saw(st, p) }
			defer func() { st.node.Seen = nil }()
			a.targets[st] = true
			for _, service := range usual {
				to := hop{wan.MAC, wan.Machine.Name}
				if ad.Segment.Bridged != nil { // a transparent appliance is no next hop: the guest itself is
					to = hop{ad.MAC, m.Name}
				}
				a.attempts = append(a.attempts, attempt{
					from: router, adapter: 1, hops: []hop{to},
					frame: forge(router.node.Ports()[0].MAC, l.witness, port.Address.Addr(), service, len(a.attempts)),
					tried: shownAs(service) + " from " + l.witness.String() + " on " + wan.Segment.Name,
				})
			}
		}
	}
	n := l.fire(a, 0)
	return n, l.explainWays(a, router.name)
}

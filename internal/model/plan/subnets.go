package plan

import (
	"cmp"
	"fmt"
	"hash/fnv"
	"net/netip"

	"github.com/gaissmai/bart"

	"openbastion/internal/model/lab"
	"openbastion/internal/model/subnet"
)

// segments makes the plan's segments and wires and chooses subnets for those
// that have none.
func (b *builder) segments() error {
	var taken bart.Lite
	for _, n := range b.lab.Site.Networks {
		taken.Insert(n)
	}
	var faults lab.Faults
	for _, src := range b.lab.Segments {
		if src.Subnet.IsValid() {
			taken.Insert(src.Subnet)
			if src.Subnet.Addr().Is6() {
				faults = append(faults, lab.Fault{File: b.lab.File, Pos: src.At("subnet"),
					Message: fmt.Sprintf("%s is an IPv6 network, and a segment has an IPv4 one", src.Subnet),
					Instead: "write an IPv4 network; `ipv6: true` at the top also gives each inside segment an IPv6 network"})
			}
		}
	}
	if faults != nil {
		return faults
	}
	bridged := b.bridged()
	typed := b.typedOn(bridged)
	for _, src := range b.lab.Segments {
		if net, _ := b.given(src, typed[src.Name]); net.IsValid() {
			taken.Insert(net)
		}
	}
	choose := newChooser(b.lab.Name, b.lab.Space, &taken)
	for _, src := range b.lab.Segments {
		s := &Segment{
			Lab:     src,
			Name:    src.Name,
			Reach:   cmp.Or(src.Reach, lab.Isolated),
			Subnet:  src.Subnet,
			Gateway: src.Gateway,
			Tag:     src.VLAN,
		}
		b.plan.Segments = append(b.plan.Segments, s)
		b.plan.segments[s.Name] = s
	}
	for _, s := range b.plan.Segments {
		src := s.Lab
		if s.Bridged = b.plan.segments[bridged[s.Name]]; s.Bridged != nil && !s.Subnet.IsValid() {
			s.Planned = true
			continue // both sides of a transparent appliance are one network, known below
		}
		if !s.Subnet.IsValid() {
			net, by := b.given(src, typed[src.Name])
			if s.By = by; by != "" {
				s.Subnet = net
			} else {
				s.Subnet, s.Assumed = b.upstream(src)
			}
			if s.Planned = !s.Subnet.IsValid(); s.Planned && net.IsValid() {
				s.Subnet = net // it holds what the file gives; its length is chosen
			} else if s.Planned {
				var err error
				if s.Subnet, err = choose.next(b.need(src), src.Hosts > 0); err != nil {
					return lab.Faults{{File: b.lab.File, Pos: src.Pos, Message: fmt.Sprintf("segment %s: %v", src.Name, err),
						Instead: "set its subnet, or a larger space for the lab"}}
				}
			}
		}
		if src.Reach == lab.Upstream && !s.Gateway.IsValid() {
			s.Gateway = b.free(s, subnet.First(s.Subnet))
			b.used[s.Gateway] = true
		}
	}
	b.networks()
	for _, s := range b.plan.Segments {
		for outer, n := s.Bridged, 0; outer != nil && n < len(b.plan.Segments); outer, n = outer.Bridged, n+1 {
			if !s.Subnet.IsValid() {
				s.Subnet = outer.Subnet
			}
			if !s.Gateway.IsValid() {
				s.Gateway = outer.Gateway
			}
		}
		if !s.Subnet.IsValid() {
			return lab.Faults{
				{File: b.lab.File, Pos: s.Lab.Pos, Message: fmt.Sprintf("segment %s is bridged with itself", s.Name),
					Instead: "let the appliance's ports end on two segments"},
			}
		}
	}
	b.sixes()
	for _, s := range b.plan.Segments {
		if s.Lab.Within == "" {
			s.Tag = 0
			s.Wire = &Wire{Name: s.Name, Segments: []*Segment{s}}
			b.plan.Wires = append(b.plan.Wires, s.Wire)
		}
	}
	for _, s := range b.plan.Segments {
		if s.Lab.Within == "" {
			continue
		}
		root := s
		for range b.plan.Segments { // a tagged segment within a tagged one still ends on a wire
			if root.Lab.Within == "" {
				break
			}
			root = b.plan.Segment(root.Lab.Within)
		}
		if root.Wire == nil {
			return lab.Faults{{File: b.lab.File, Pos: s.Lab.At("within"),
				Message: fmt.Sprintf(
					"segment %s is within itself, through others",
					s.Name,
				), Instead: "give one of them its own network"}}
		}
		s.Wire = root.Wire
		s.Wire.Segments = append(s.Wire.Segments, s)
	}
	b.outward()
	return nil
}

// outward notes which wires lead to what is upstream of the host.
func (b *builder) outward() {
	uplinks := map[string]bool{}
	for _, w := range b.plan.Wires {
		if root := w.Root(); root.Reach == lab.Upstream && root.Lab.Join != "nat" {
			w.outward, uplinks[w.Uplink()] = true, true
		}
	}
	for _, w := range b.plan.Wires {
		w.outward = w.outward || w.Uplink() != "" && uplinks[w.Uplink()]
	}
}

// bridged returns, for each segment behind a transparent appliance, the segment
// before it.
func (b *builder) bridged() map[string]string {
	out := map[string]string{}
	for _, a := range b.lab.Appliances {
		if a.Kind != "transparent" {
			continue
		}
		outer := ""
		for _, p := range a.Ports {
			if p.Role == lab.WAN && outer == "" {
				outer = p.Segment
			}
		}
		for _, p := range a.Ports {
			if p.Role.Inside() && outer != "" && p.Segment != outer {
				out[p.Segment] = outer
			}
		}
	}
	return out
}

// sixes returns inside segments an IPv6 prefix each: a unique local /48 made of
// the lab's name (RFC 4193 asks for a random one; this one is the same in every
// plan), and a /64 in it by the segment's place in the file.
func (b *builder) sixes() {
	if !b.lab.IPv6 {
		return
	}
	h := fnv.New64a()
	h.Write([]byte(b.lab.Name))
	id := h.Sum64()
	for i, s := range b.plan.Segments {
		if s.Reach == lab.Upstream || s.Bridged != nil {
			continue
		}
		a := [16]byte{
			0xfd,
			byte(id >> 32),
			byte(id >> 24),
			byte(id >> 16),
			byte(id >> 8),
			byte(id),
			byte((i + 1) >> 8),
			byte(i + 1),
		}
		s.Subnet6 = netip.PrefixFrom(netip.AddrFrom16(a), 64)
	}
}

// upstream returns the network that is there already: the site's, when the
// segment is bridged and the site is on exactly one.
func (b *builder) upstream(s *lab.Segment) (netip.Prefix, bool) {
	if s.Reach != lab.Upstream {
		return netip.Prefix{}, false
	}
	if s.Join != "nat" && len(b.lab.Site.Networks) == 1 {
		n := b.lab.Site.Networks[0]
		for _, other := range b.lab.Segments {
			if other != s && other.Subnet == n {
				return netip.Prefix{}, true
			}
		}
		return n, false
	}
	return netip.Prefix{}, true
}

// need returns the prefix length for a segment whose subnet is chosen: what the
// file asks for with a fifth to grow, else a /24 or what its members fill.
func (b *builder) need(s *lab.Segment) int {
	members := b.members[s] + 2
	if s.Hosts > 0 {
		return subnet.LengthFor(max(s.Hosts*5/4, members) + 2)
	}
	return min(24, subnet.LengthFor(members*5/4))
}

// chooser hands out subnets of a /16 of private space, the next /16 when that
// is full. Networks without a size of their own are /24s 16 apart, so that a
// mask typed two bits too wide does not join two of them; sized ones pack.
type chooser struct {
	taken  *bart.Lite
	blocks []netip.Prefix
	spread int  // next of the /24s 16 apart
	packed bool // the file says the space: nothing is spread in it
	from   map[int]uint32
}

func newChooser(name string, space netip.Prefix, taken *bart.Lite) *chooser {
	if space.IsValid() {
		return &chooser{taken: taken, from: map[int]uint32{}, blocks: []netip.Prefix{space}, packed: true}
	}
	h := fnv.New32a()
	h.Write([]byte(name))
	start := int(h.Sum32() % 200)
	c := &chooser{taken: taken, from: map[int]uint32{}}
	for i := range 200 { // 10.20.0.0/16 to 10.219.0.0/16: what house networks seldom use
		p := netip.PrefixFrom(netip.AddrFrom4([4]byte{10, byte(20 + (start+i)%200), 0, 0}), 16)
		if !taken.OverlapsPrefix(p) {
			c.blocks = append(c.blocks, p)
		}
	}
	if len(c.blocks) == 0 {
		c.blocks = append(c.blocks, netip.PrefixFrom(netip.AddrFrom4([4]byte{10}), 8))
	}
	return c
}

func (c *chooser) next(length int, sized bool) (netip.Prefix, error) {
	if length == 24 && !sized && !c.packed {
		for ; c.spread < 15 && len(c.blocks) > 0; c.spread++ {
			p := netip.PrefixFrom(subnet.Add(c.blocks[0].Addr(), (c.spread+1)*16*256), 24)
			if !c.taken.OverlapsPrefix(p) {
				c.taken.Insert(p)
				c.spread++
				return p, nil
			}
		}
	}
	for i, block := range c.blocks {
		if length < block.Bits() {
			continue
		}
		p, ok := c.pack(i, block, length)
		if ok {
			return p, nil
		}
	}
	return netip.Prefix{}, fmt.Errorf("no free subnet of length /%d is left in %s", length, c.blocks[len(c.blocks)-1])
}

// pack takes the lowest free place of that length in a block. Places only ever
// fill, so each length goes on where it stopped.
func (c *chooser) pack(i int, block netip.Prefix, length int) (netip.Prefix, bool) {
	key := i*64 + length
	step := uint32(1) << (32 - length)
	for at := c.from[key]; uint64(at) < uint64(subnet.Size(block)); at += step {
		p := netip.PrefixFrom(subnet.Add(block.Addr(), int(at)), length)
		if !c.taken.OverlapsPrefix(p) {
			c.taken.Insert(p)
			c.from[key] = at + step
			return p, true
		}
	}
	c.from[key] = uint32(min(subnet.Size(block), 1<<31))
	return netip.Prefix{}, false
}

// networks puts segments that transparent appliances join together. A segment that is
// bridged with itself has been refused, or is about to be.
func (b *builder) networks() {
	together := map[*Segment][]*Segment{}
	outermost := func(s *Segment) *Segment {
		for range b.plan.Segments {
			if s.Bridged == nil {
				break
			}
			s = s.Bridged
		}
		return s
	}
	for _, s := range b.plan.Segments {
		root := outermost(s)
		together[root] = append(together[root], s)
	}
	for _, list := range together {
		for _, s := range list {
			s.network = list
		}
	}
}

package machine

import (
	"context"
	"net/netip"
	"sync"
	"time"

	"github.com/insomniacslk/dhcp/dhcpv4"

	"openbastion/internal/model/mac"
	"openbastion/internal/model/plan"
	"openbastion/internal/netsim/header"
	"openbastion/internal/netsim/packet"
)

// heard is what is seen at the switch of machines that say nothing by themselves: which
// addresses their adapters speak for.
type heard struct {
	adapters map[mac.Address][]*plan.Adapter // those of one hardware address: a port and those over it

	mu   sync.Mutex
	have map[*plan.Adapter]netip.Prefix
}

func newHeard(machines []*plan.Machine) *heard {
	h := &heard{adapters: map[mac.Address][]*plan.Adapter{}, have: map[*plan.Adapter]netip.Prefix{}}
	for _, m := range machines {
		for _, a := range m.Adapters {
			h.adapters[a.MAC] = append(h.adapters[a.MAC], a)
		}
	}
	return h
}

// Record looks at a frame. Who answers for an address in ARP has it (RFC 826); who is given
// one by a lease has it (RFC 2131); and an appliance has the address that it sends from on a
// network of its own.
func (h *heard) Record(_ int, _ time.Time, frame []byte) {
	p, err := packet.Decode(frame)
	if err != nil {
		return
	}
	switch {
	case p.Type == packet.TypeARP && header.ARP(p.Body).Valid():
		if address, ok := netip.AddrFromSlice(header.ARP(p.Body).SenderAddr()); ok &&
			mac.Address(header.ARP(p.Body).SenderMAC()) == p.From {
			h.note(p.From, address)
		}
	case p.IPv4 && p.Proto == packet.UDP:
		if _, to, ok := p.Ports(); ok && to == dhcpv4.ClientPort {
			h.leased(p.Data)
			return
		}
		fallthrough
	case p.IPv4:
		if list := h.adapters[p.From]; len(list) > 0 && list[0].Machine.Appliance != nil {
			h.note(p.From, p.Source)
		}
	}
}

// leased reads an acknowledged lease.
func (h *heard) leased(datagram []byte) {
	if len(datagram) < header.UDPSize {
		return
	}
	m, err := dhcpv4.FromBytes(datagram[header.UDPSize:])
	if err != nil || m.MessageType() != dhcpv4.MessageTypeAck || len(m.ClientHWAddr) != len(mac.Address{}) {
		return
	}
	if address, ok := netip.AddrFromSlice(m.YourIPAddr.To4()); ok {
		h.note(mac.Address(m.ClientHWAddr), address)
	}
}

// note takes down that a hardware address speaks for an address, on the network that it is of.
func (h *heard) note(of mac.Address, address netip.Addr) {
	for _, a := range h.adapters[of] {
		if s := a.Segment.Subnet; s.Contains(address) && address != s.Addr() {
			h.mu.Lock()
			h.have[a] = netip.PrefixFrom(address, s.Bits())
			h.mu.Unlock()
		}
	}
}

// address returns what an adapter was heard to have last; invalid: nothing yet.
func (h *heard) address(a *plan.Adapter) netip.Prefix {
	h.mu.Lock()
	defer h.mu.Unlock()
	return h.have[a]
}

// foreignTime is how long an appliance with a system of its own may take until it answers:
// what is being installed does not.
const foreignTime = 2 * time.Minute

// askEach is how often it is asked meanwhile.
const askEach = 500 * time.Millisecond

// awaitForeign waits until appliances with a system of their own answer for the addresses
// that they are planned to have, asked in the place of guests that are not started yet.
func (l *Lab) awaitForeign(ctx context.Context, list []*plan.Machine) error {
	for _, m := range list {
		x := l.of(m)
		if x == nil || x.reference {
			continue
		}
		began, told := time.Now(), false
		for ; ctx.Err() == nil && time.Since(began) < foreignTime; pause(ctx, askEach) {
			if _, why := x.state(); why != "" {
				break
			}
			if l.answersFor(m) {
				break
			}
			if !told {
				l.tell("%s: waiting until it answers on its inside", m.Name)
				told = true
			}
		}
		if ctx.Err() == nil && !l.answersFor(m) {
			l.note(m.Name + " did not answer on its inside when the guests were started")
		}
	}
	return ctx.Err()
}

// answersFor asks for each address of an appliance that the plan gives for sure, and tells
// whether all were heard.
func (l *Lab) answersFor(m *plan.Machine) bool {
	all := true
	for _, a := range m.Adapters {
		if !a.Address.IsValid() || !a.Plugged || l.heard.address(a).IsValid() {
			continue
		}
		for _, guest := range a.Segment.Adapters {
			if guest.Guest == nil || !guest.Plugged {
				continue
			}
			all = false
			// A probe (RFC 5227, section 2.1.1): it claims no address.
			probe := packet.ARP(
				packet.ARPRequest,
				mac.Broadcast,
				guest.MAC,
				netip.IPv4Unspecified(),
				mac.Address{},
				a.Address.Addr(),
			)
			if number := l.numbers[guest]; number > 0 {
				l.loop.Do(l.ctx, func(now time.Duration) { l.live.Receive(now, number, probe) })
			} else {
				l.loop.Do(l.ctx, func(time.Duration) { l.live.Say(guest, probe) })
			}
			break
		}
	}
	return all
}

package dhcp

import (
	"maps"
	"net"
	"net/netip"
	"slices"
	"time"

	"github.com/insomniacslk/dhcp/dhcpv4"

	"openbastion/internal/model/mac"
)

// Config is what a server hands out. Pool ends are included.
type Config struct {
	Address      netip.Prefix // the server's own address on the segment
	From, To     netip.Addr
	Router       netip.Addr // invalid: none is named
	DNS          []netip.Addr
	Domain       string
	Time         time.Duration
	Reservations map[mac.Address]netip.Addr
}

const (
	offerHold   = 60 * time.Second // how long an offered address waits for its request
	declineHold = 10 * time.Minute // how long a declined address is left alone
)

// Server hands out leases on one segment. An address is held for a client from
// the offer on, so that two clients are never offered the same one.
type Server struct {
	Config
	clients  map[string]*entry
	taken    map[netip.Addr]*entry
	reserved map[netip.Addr]bool
	cursor   netip.Addr
}

type entry struct {
	client  string // empty: declined, held by nobody
	card    mac.Address
	address netip.Addr
	until   time.Duration
	bound   bool
}

// Held returns the address that a hardware address holds now; invalid when none.
func (s *Server) Held(now time.Duration, card mac.Address) netip.Addr {
	for _, e := range s.taken {
		if e.card == card && e.bound && e.until > now {
			return e.address
		}
	}
	return netip.Addr{}
}

// Handed is an address that a server has handed out.
type Handed struct {
	Address netip.Addr
	Card    mac.Address
	Until   time.Duration
}

// List returns what is handed out, by address.
func (s *Server) List(now time.Duration) []Handed {
	var out []Handed
	for _, at := range slices.SortedFunc(maps.Keys(s.taken), netip.Addr.Compare) {
		if e := s.taken[at]; e.bound && e.until > now {
			out = append(out, Handed{at, e.card, e.until})
		}
	}
	return out
}

// NewServer makes a server without leases.
func NewServer(c Config) *Server {
	s := &Server{
		Config:   c,
		clients:  map[string]*entry{},
		taken:    map[netip.Addr]*entry{},
		reserved: map[netip.Addr]bool{},
		cursor:   c.From,
	}
	for _, a := range c.Reservations {
		s.reserved[a] = true
	}
	return s
}

// Resume has the server go on where another one is that served the segment before: with the leases that it
// may still give itself.
func (s *Server) Resume(old *Server) {
	for at, e := range old.taken {
		reserved, has := s.Reservations[e.card]
		inPool := at.Compare(s.From) >= 0 && at.Compare(s.To) <= 0 && !s.reserved[at]
		if e.client == "" || has && reserved != at || !has && !inPool {
			continue
		}
		s.taken[at] = e
		if old.clients[e.client] == e {
			s.clients[e.client] = e
		}
	}
}

// Reply is a message to send. To is the client's address, or the broadcast
// address; ToMAC its hardware address, for a client that has no address yet.
type Reply struct {
	Message *dhcpv4.DHCPv4
	To      netip.Addr
	ToMAC   mac.Address
}

// Leased counts the leases in force at now.
func (s *Server) Leased(now time.Duration) int {
	n := 0
	for _, e := range s.clients {
		if e.bound && e.until > now {
			n++
		}
	}
	return n
}

// Receive answers one message from a client. Messages that a server has no
// answer to give nil.
func (s *Server) Receive(now time.Duration, m *dhcpv4.DHCPv4) *Reply {
	if m.OpCode != dhcpv4.OpcodeBootRequest || len(m.ClientHWAddr) != 6 {
		return nil
	}
	client := string(m.Options.Get(dhcpv4.OptionClientIdentifier))
	if client == "" {
		client = string(m.ClientHWAddr)
	}
	switch m.MessageType() {
	case dhcpv4.MessageTypeDiscover:
		e := s.offer(now, client, mac.Address(m.ClientHWAddr), fromIP(m.RequestedIPAddress()))
		if e == nil {
			return nil // the pool is used up
		}
		return s.reply(m, dhcpv4.MessageTypeOffer, e.address)
	case dhcpv4.MessageTypeRequest:
		return s.request(now, client, m)
	case dhcpv4.MessageTypeDecline:
		if e := s.clients[client]; e != nil && fromIP(m.RequestedIPAddress()) == e.address {
			delete(s.clients, client)
			e.client, e.bound, e.until = "", false, now+declineHold
		}
	case dhcpv4.MessageTypeRelease:
		if e := s.clients[client]; e != nil && fromIP(m.ClientIPAddr) == e.address {
			e.bound, e.until = false, now // kept for the client until somebody needs it
		}
	case dhcpv4.MessageTypeInform:
		r := s.reply(m, dhcpv4.MessageTypeAck, netip.Addr{})
		r.Message.DeleteOption(dhcpv4.OptionIPAddressLeaseTime)
		if r.To = fromIP(m.ClientIPAddr); !r.To.IsValid() { // it does not say who it is: then all are told
			r.To, r.ToMAC = broadcast, mac.Broadcast
		}
		return r
	}
	return nil
}

// offer finds the address for a client: its reservation, what it has or had,
// what it asks for, or the next free one (RFC 2131, section 4.3.1).
func (s *Server) offer(now time.Duration, client string, hw mac.Address, wish netip.Addr) *entry {
	reserved, fixed := s.Reservations[hw]
	e := s.clients[client]
	if e != nil && (!fixed || e.address == reserved) {
		e.until = max(e.until, now+offerHold)
		return e
	}
	if e != nil { // a reservation has come since
		delete(s.taken, e.address)
		delete(s.clients, client)
	}
	address := reserved
	if !fixed {
		address = s.choose(now, wish)
	}
	if !address.IsValid() {
		return nil
	}
	if old := s.taken[address]; old != nil {
		delete(s.clients, old.client)
	}
	e = &entry{client: client, card: hw, address: address, until: now + offerHold}
	s.clients[client], s.taken[address] = e, e
	return e
}

func (s *Server) inPool(a netip.Addr) bool {
	return a.IsValid() && a.Compare(s.From) >= 0 && a.Compare(s.To) <= 0
}

func (s *Server) choose(now time.Duration, wish netip.Addr) netip.Addr {
	if s.inPool(wish) && s.open(now, wish) {
		return wish
	}
	// Never-used addresses first, in order; then whichever has run out.
	for s.inPool(s.cursor) {
		a := s.cursor
		s.cursor = a.Next()
		if s.open(now, a) {
			return a
		}
	}
	for a := s.From; s.inPool(a); a = a.Next() {
		if s.open(now, a) {
			return a
		}
	}
	return netip.Addr{}
}

// open reports whether it is an address that may be given to anybody.
func (s *Server) open(now time.Duration, a netip.Addr) bool {
	if a == s.Address.Addr() {
		return false
	}
	if e := s.taken[a]; e != nil && e.until > now {
		return false
	}
	return !s.reserved[a]
}

// request answers a REQUEST in each of its meanings (RFC 2131, section 4.3.2).
func (s *Server) request(now time.Duration, client string, m *dhcpv4.DHCPv4) *Reply {
	e := s.clients[client]
	chosen := fromIP(m.ServerIdentifier())
	asked := fromIP(m.RequestedIPAddress())
	held := fromIP(m.ClientIPAddr)
	switch {
	case chosen.IsValid(): // selecting
		if chosen != s.Address.Addr() {
			if e != nil && !e.bound { // another server was chosen: the address is free again
				delete(s.clients, client)
				delete(s.taken, e.address)
			}
			return nil
		}
		if e == nil || e.address != asked {
			return s.nak(m)
		}
	case asked.IsValid(): // after a restart
		if !s.Address.Masked().Contains(asked) {
			return s.nak(m)
		}
		if e == nil {
			return nil // unknown here: another server may know it
		}
		if e.address != asked {
			return s.nak(m)
		}
	default: // renewing or rebinding
		if !held.IsValid() {
			return nil
		}
		if e == nil || e.address != held {
			if !s.Address.Masked().Contains(held) || s.taken[held] != nil && s.taken[held].client != client {
				return s.nak(m)
			}
			if e == nil {
				return nil
			}
			return s.nak(m)
		}
	}
	e.bound, e.until = true, now+s.Time
	return s.reply(m, dhcpv4.MessageTypeAck, e.address)
}

func (s *Server) reply(m *dhcpv4.DHCPv4, kind dhcpv4.MessageType, address netip.Addr) *Reply {
	r := message(dhcpv4.OpcodeBootReply, kind, m.TransactionID, m.ClientHWAddr)
	r.Flags, r.GatewayIPAddr = m.Flags, m.GatewayIPAddr
	r.UpdateOption(dhcpv4.OptServerIdentifier(toIP(s.Address.Addr())))
	if id := m.Options.Get(dhcpv4.OptionClientIdentifier); id != nil {
		r.UpdateOption(dhcpv4.OptGeneric(dhcpv4.OptionClientIdentifier, id)) // RFC 6842
	}
	if kind == dhcpv4.MessageTypeNak {
		return &Reply{Message: r, To: broadcast, ToMAC: mac.Broadcast}
	}
	r.YourIPAddr = toIP(address)
	if kind == dhcpv4.MessageTypeAck {
		r.ClientIPAddr = m.ClientIPAddr
	}
	r.UpdateOption(dhcpv4.OptIPAddressLeaseTime(s.Time))
	r.UpdateOption(dhcpv4.OptSubnetMask(net.CIDRMask(s.Address.Bits(), 32)))
	if s.Router.IsValid() {
		r.UpdateOption(dhcpv4.OptRouter(toIP(s.Router)))
	}
	if len(s.DNS) > 0 {
		r.UpdateOption(dhcpv4.OptDNS(toIPs(s.DNS)...))
	}
	if s.Domain != "" {
		r.UpdateOption(dhcpv4.OptDomainName(s.Domain))
	}
	to := &Reply{Message: r, To: address, ToMAC: mac.Address(m.ClientHWAddr)}
	if held := fromIP(m.ClientIPAddr); held.IsValid() {
		to.To = held
	} else if m.IsBroadcast() {
		to.To, to.ToMAC = broadcast, mac.Broadcast
	}
	return to
}

func (s *Server) nak(m *dhcpv4.DHCPv4) *Reply {
	r := s.reply(m, dhcpv4.MessageTypeNak, netip.Addr{})
	r.Message.UpdateOption(dhcpv4.OptMessage("address not available"))
	return r
}

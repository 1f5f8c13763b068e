package dhcp

import (
	"encoding/binary"
	"net/netip"
	"time"

	"github.com/insomniacslk/dhcp/dhcpv4"

	"openbastion/internal/model/mac"
)

// State is where a client stands (RFC 2131, figure 5).
type State uint8

// The states. Probing is the wait, between the acknowledgement and the use of
// an address, for somebody who already has it (RFC 5227).
const (
	Idle State = iota
	Selecting
	Requesting
	Probing
	Bound
	Renewing
	Rebinding
	Rebooting
)

// ActionKind is what a client asks of whoever drives it.
type ActionKind uint8

// The kinds of Action.
const (
	Send      ActionKind = iota // send Message to To, from From
	Probe                       // ask by ARP whether anybody has Address; answer with Probed
	Configure                   // take Binding
	Drop                        // give the address up
)

// Action is one thing a client asks for.
type Action struct {
	Kind    ActionKind
	Message *dhcpv4.DHCPv4
	From    netip.Addr // 0.0.0.0 while the client has no address
	To      netip.Addr // a server, or the broadcast address
	Address netip.Addr
	Binding *Binding
}

// Client is a lease client for one adapter.
type Client struct {
	MAC      mac.Address
	Hostname string
	Salt     uint32 // tells clients with one hardware address apart

	State   State
	Binding *Binding // in force, or nil
	Offers  []Offer  // answers to the last DISCOVER, from everybody
	Refused int      // NAKs received

	seed     uint32
	xid      dhcpv4.TransactionID
	tries    int
	deadline time.Duration // 0: none
	pending  Binding       // acknowledged, being probed
	chosen   Offer
	last     netip.Addr
	since    time.Duration
	expiry   time.Duration
}

// Retransmission (RFC 2131, section 4.1) starts at four seconds and doubles.
const (
	firstWait = 4 * time.Second
	lastWait  = 64 * time.Second
	maxTries  = 5
	afterNak  = time.Second
	retryIdle = 10 * time.Second // after a decline, at least (section 3.1, 5)
)

// Deadline returns the time at which Advance must be called; ok is false when
// there is none.
func (c *Client) Deadline() (at time.Duration, ok bool) { return c.deadline, c.deadline != 0 }

// Start asks for a lease from the beginning.
func (c *Client) Start(now time.Duration) []Action {
	c.State, c.tries, c.Offers, c.since = Selecting, 0, nil, now
	c.newExchange()
	return c.discover(now)
}

// Restart asks for the last address again, as after the link came back.
func (c *Client) Restart(now time.Duration) []Action {
	if !c.last.IsValid() {
		return c.Start(now)
	}
	c.State, c.tries, c.since = Rebooting, 0, now
	c.newExchange()
	c.wait(now)
	return c.request(now)
}

// newExchange picks a transaction identifier; the same client always picks
// the same sequence.
func (c *Client) newExchange() {
	if c.seed == 0 {
		c.seed = (binary.BigEndian.Uint32(c.MAC[2:]) ^ c.Salt*0x9e3779b9) | 1
	}
	c.seed = c.seed*1664525 + 1013904223
	binary.BigEndian.PutUint32(c.xid[:], c.seed)
}

func (c *Client) wait(now time.Duration) {
	w := min(firstWait<<c.tries, lastWait)
	c.deadline = now + w
	c.tries++
}

func (c *Client) message(now time.Duration, kind dhcpv4.MessageType) *dhcpv4.DHCPv4 {
	m := message(dhcpv4.OpcodeBootRequest, kind, c.xid, c.MAC[:])
	m.NumSeconds = uint16((now - c.since) / time.Second)
	m.UpdateOption(
		dhcpv4.OptParameterRequestList(dhcpv4.OptionSubnetMask, dhcpv4.OptionRouter, dhcpv4.OptionDomainNameServer,
			dhcpv4.OptionDomainName),
	)
	if c.Hostname != "" {
		m.UpdateOption(dhcpv4.OptHostName(c.Hostname))
	}
	return m
}

func (c *Client) discover(now time.Duration) []Action {
	c.wait(now)
	m := c.message(now, dhcpv4.MessageTypeDiscover)
	if c.last.IsValid() {
		m.UpdateOption(dhcpv4.OptRequestedIPAddress(toIP(c.last)))
	}
	return []Action{{Kind: Send, Message: m, From: zero, To: broadcast}}
}

func (c *Client) request(now time.Duration) []Action {
	m := c.message(now, dhcpv4.MessageTypeRequest)
	a := Action{Kind: Send, Message: m, From: zero, To: broadcast}
	switch c.State {
	case Requesting:
		m.UpdateOption(dhcpv4.OptServerIdentifier(toIP(c.chosen.Server)))
		m.UpdateOption(dhcpv4.OptRequestedIPAddress(toIP(c.chosen.Address)))
	case Rebooting:
		m.UpdateOption(dhcpv4.OptRequestedIPAddress(toIP(c.last)))
	case Renewing, Rebinding:
		a.From = c.Binding.Address.Addr()
		m.ClientIPAddr = toIP(a.From)
		if c.State == Renewing {
			a.To = c.Binding.Server
		}
	}
	return []Action{a}
}

// Receive takes a message from a server; from is the hardware address of its
// frame and frame its number, for the record. Messages of other exchanges and
// clients are passed over.
func (c *Client) Receive(now time.Duration, m *dhcpv4.DHCPv4, from mac.Address, frame int) []Action {
	if m.OpCode != dhcpv4.OpcodeBootReply || m.TransactionID != c.xid || mac.Address(m.ClientHWAddr) != c.MAC {
		return nil
	}
	server := fromIP(m.ServerIdentifier())
	switch kind := m.MessageType(); {
	case kind == dhcpv4.MessageTypeOffer:
		offer := Offer{Server: server, ServerMAC: from, Address: fromIP(m.YourIPAddr), Frame: frame}
		c.Offers = append(c.Offers, offer)
		if c.State != Selecting || !server.IsValid() || !offer.Address.IsValid() {
			return nil
		}
		c.State, c.chosen, c.tries = Requesting, offer, 0
		c.wait(now)
		return c.request(now)
	case kind == dhcpv4.MessageTypeNak && (c.State == Requesting || c.State == Rebooting || c.State == Renewing || c.State == Rebinding):
		c.Refused++
		return c.restart(now, afterNak)
	case kind == dhcpv4.MessageTypeAck:
		return c.acknowledged(now, m, server, from, frame)
	}
	return nil
}

func (c *Client) acknowledged(
	now time.Duration,
	m *dhcpv4.DHCPv4,
	server netip.Addr,
	from mac.Address,
	frame int,
) []Action {
	address := fromIP(m.YourIPAddr)
	d := m.IPAddressLeaseTime(0)
	if !address.IsValid() || d <= 0 {
		return nil
	}
	bits, _ := m.SubnetMask().Size()
	if m.SubnetMask() == nil || bits == 0 {
		bits = 24
	}
	b := Binding{
		Address: netip.PrefixFrom(address, bits), DNS: fromIPs(m.DNS()), Domain: m.DomainName(),
		Server: server, ServerMAC: from, Duration: d, Since: now, Frame: frame,
	}
	if routers := m.Router(); len(routers) > 0 {
		b.Router = fromIP(routers[0])
	}
	switch c.State {
	case Requesting, Rebooting:
		if c.State == Requesting && server != c.chosen.Server {
			return nil
		}
		c.State, c.pending, c.deadline = Probing, b, 0
		return []Action{{Kind: Probe, Address: address}}
	case Renewing, Rebinding:
		return c.bind(now, b)
	}
	return nil
}

func (c *Client) bind(now time.Duration, b Binding) []Action {
	c.State, c.Binding, c.last, c.tries = Bound, &b, b.Address.Addr(), 0
	c.expiry = b.Since + b.Duration
	c.deadline = b.Since + b.Duration/2
	return []Action{{Kind: Configure, Binding: &b}}
}

// Probed returns the outcome of a Probe: whether another machine has the address.
func (c *Client) Probed(now time.Duration, taken bool) []Action {
	if c.State != Probing {
		return nil
	}
	if !taken {
		return c.bind(now, c.pending)
	}
	m := c.message(now, dhcpv4.MessageTypeDecline)
	m.UpdateOption(dhcpv4.OptServerIdentifier(toIP(c.pending.Server)))
	m.UpdateOption(dhcpv4.OptRequestedIPAddress(toIP(c.pending.Address.Addr())))
	c.last = netip.Addr{}
	return append([]Action{{Kind: Send, Message: m, From: zero, To: broadcast}}, c.restart(now, retryIdle)...)
}

// restart waits and then begins anew; an address in use is given up.
func (c *Client) restart(now, wait time.Duration) []Action {
	held := c.Binding != nil
	c.State, c.Binding, c.deadline, c.tries = Idle, nil, now+wait, 0
	if held {
		return []Action{{Kind: Drop}}
	}
	return nil
}

// Release returns the lease back.
func (c *Client) Release(now time.Duration) []Action {
	if c.Binding == nil {
		return nil
	}
	c.newExchange()
	m := c.message(now, dhcpv4.MessageTypeRelease)
	m.ClientIPAddr = toIP(c.Binding.Address.Addr())
	m.UpdateOption(dhcpv4.OptServerIdentifier(toIP(c.Binding.Server)))
	out := []Action{{Kind: Send, Message: m, From: c.Binding.Address.Addr(), To: c.Binding.Server}, {Kind: Drop}}
	c.State, c.Binding, c.deadline = Idle, nil, 0
	return out
}

// Advance does what is due at now.
func (c *Client) Advance(now time.Duration) []Action {
	if c.deadline == 0 || now < c.deadline {
		return nil
	}
	c.deadline = 0
	switch c.State {
	case Idle:
		return c.Start(now)
	case Selecting:
		return c.discover(now)
	case Requesting:
		if c.tries >= maxTries {
			return c.Start(now)
		}
		c.wait(now)
		return c.request(now)
	case Rebooting:
		if c.tries >= 2 {
			c.last = netip.Addr{}
			return c.Start(now)
		}
		c.wait(now)
		return c.request(now)
	case Bound, Renewing, Rebinding:
		return c.extend(now)
	}
	return nil
}

// extend renews at half the lease, rebinds at seven eighths, and gives up at
// its end; between, it asks again after half the time that is left, but not
// within a minute (RFC 2131, section 4.4.5).
func (c *Client) extend(now time.Duration) []Action {
	if now >= c.expiry {
		c.last = netip.Addr{}
		return append(c.restart(now, 0), c.Start(now)...)
	}
	rebind := c.Binding.Since + c.Binding.Duration*7/8
	limit := c.expiry
	if now < rebind {
		c.State, limit = Renewing, rebind
	} else {
		c.State = Rebinding
	}
	c.since = c.Binding.Since
	c.newExchange()
	c.deadline = min(limit, now+max((limit-now)/2, time.Minute))
	return c.request(now)
}

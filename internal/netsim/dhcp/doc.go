// Package lease is the lease service of IPv4 segments: server and client of
// the Dynamic Host Configuration Protocol (RFC 2131, options of RFC 2132), each
// a state machine that takes a message and a time and gives messages and its
// next deadline. Rehearsal drives it with a virtual clock, the engines with
// sockets.
//
// Times are durations since whatever start the caller chose.
package dhcp

import (
	"net"
	"net/netip"
	"time"

	"github.com/insomniacslk/dhcp/dhcpv4"

	"openbastion/internal/model/mac"
)

// The ports of the protocol (RFC 2131, section 4.1).
const (
	ServerPort = 67
	ClientPort = 68
)

// Binding is what a lease gives a client.
type Binding struct {
	Address   netip.Prefix
	Router    netip.Addr // invalid when none was named
	DNS       []netip.Addr
	Domain    string
	Server    netip.Addr  // server identifier
	ServerMAC mac.Address // where the ACK came from
	Duration  time.Duration
	Since     time.Duration // when it was acknowledged
	Frame     int           // number of the frame that acknowledged it
}

// Offer is one answer to a DISCOVER.
type Offer struct {
	Server    netip.Addr
	ServerMAC mac.Address
	Address   netip.Addr
	Frame     int
}

var (
	zero      = netip.AddrFrom4([4]byte{})
	broadcast = netip.AddrFrom4([4]byte{255, 255, 255, 255})
)

func toIP(a netip.Addr) net.IP {
	if !a.IsValid() {
		return net.IPv4zero.To4()
	}
	return a.AsSlice()
}

func fromIP(ip net.IP) netip.Addr {
	a, _ := netip.AddrFromSlice(ip.To4())
	if a == zero {
		return netip.Addr{}
	}
	return a
}

func fromIPs(list []net.IP) []netip.Addr {
	var out []netip.Addr
	for _, ip := range list {
		if a := fromIP(ip); a.IsValid() {
			out = append(out, a)
		}
	}
	return out
}

func toIPs(list []netip.Addr) []net.IP {
	out := make([]net.IP, len(list))
	for i, a := range list {
		out[i] = toIP(a)
	}
	return out
}

// message makes an empty message of one kind.
func message(
	op dhcpv4.OpcodeType,
	kind dhcpv4.MessageType,
	xid dhcpv4.TransactionID,
	hw net.HardwareAddr,
) *dhcpv4.DHCPv4 {
	m := &dhcpv4.DHCPv4{
		OpCode: op, HWType: 1, TransactionID: xid, ClientHWAddr: hw,
		ClientIPAddr: toIP(
			netip.Addr{},
		), YourIPAddr: toIP(netip.Addr{}), ServerIPAddr: toIP(netip.Addr{}), GatewayIPAddr: toIP(netip.Addr{}),
		Options: dhcpv4.Options{},
	}
	m.UpdateOption(dhcpv4.OptMessageType(kind))
	return m
}

package dhcp

import (
	"net"
	"net/netip"

	"github.com/insomniacslk/dhcp/dhcpv6"
	"github.com/insomniacslk/dhcp/iana"
	"github.com/insomniacslk/dhcp/rfc1035label"

	"openbastion/internal/model/mac"
)

// What DHCPv6 tells beside an address (RFC 8415, section 18.2.6; RFC 3646):
// addresses themselves are made of what routers announce.

func duid(a mac.Address) dhcpv6.DUID {
	return &dhcpv6.DUIDLL{HWType: iana.HWTypeEthernet, LinkLayerAddr: net.HardwareAddr(a[:])}
}

// InformationRequest builds the question for resolvers and domain.
func InformationRequest(a mac.Address, xid [3]byte) []byte {
	m := &dhcpv6.Message{MessageType: dhcpv6.MessageTypeInformationRequest, TransactionID: xid}
	m.AddOption(dhcpv6.OptClientID(duid(a)))
	m.AddOption(dhcpv6.OptRequestedOption(dhcpv6.OptionDNSRecursiveNameServer, dhcpv6.OptionDomainSearchList))
	m.AddOption(dhcpv6.OptElapsedTime(0))
	return m.ToBytes()
}

// Inform answers an information request; ok is false for anything else.
func Inform(request []byte, own mac.Address, dns []netip.Addr, domain string) (answer []byte, ok bool) {
	q, err := dhcpv6.MessageFromBytes(request)
	if err != nil || q.MessageType != dhcpv6.MessageTypeInformationRequest {
		return nil, false
	}
	m := &dhcpv6.Message{MessageType: dhcpv6.MessageTypeReply, TransactionID: q.TransactionID}
	if id := q.Options.ClientID(); id != nil {
		m.AddOption(dhcpv6.OptClientID(id))
	}
	m.AddOption(dhcpv6.OptServerID(duid(own)))
	var list []net.IP
	for _, a := range dns {
		list = append(list, a.AsSlice())
	}
	m.AddOption(dhcpv6.OptDNS(list...))
	if domain != "" {
		m.AddOption(dhcpv6.OptDomainSearchList(&rfc1035label.Labels{Labels: []string{domain}}))
	}
	return m.ToBytes(), true
}

// ReadInformation returns what an answer to an information request says; ok is
// false for anything but that answer.
func ReadInformation(data []byte, xid [3]byte) (dns []netip.Addr, domain string, ok bool) {
	m, err := dhcpv6.MessageFromBytes(data)
	if err != nil || m.MessageType != dhcpv6.MessageTypeReply || m.TransactionID != xid || m.Options.ServerID() == nil {
		return nil, "", false
	}
	for _, ip := range m.Options.DNS() {
		if a, ok := netip.AddrFromSlice(ip); ok {
			dns = append(dns, a)
		}
	}
	if l := m.Options.DomainSearchList(); l != nil && len(l.Labels) > 0 {
		domain = l.Labels[0]
	}
	return dns, domain, true
}

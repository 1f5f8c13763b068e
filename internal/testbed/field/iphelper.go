package field

import (
	"encoding/binary"
	"net/netip"

	"openbastion/internal/model/mac"
)

// What Windows' IP Helper gives is memory of structures that point into it. It is read here by
// the places of their parts on 64-bit Windows, so that it can be read, and tried, anywhere.

// helperMemory is memory that begins at an address.
type helperMemory struct {
	base uint64
	data []byte
}

// at returns so many bytes from an address on; false where they are not in the memory.
func (m helperMemory) at(address uint64, size int) ([]byte, bool) {
	if address < m.base || address-m.base > uint64(len(m.data)) || len(m.data)-int(address-m.base) < size {
		return nil, false
	}
	return m.data[address-m.base:][:size], true
}

// Where the parts of IP_ADAPTER_ADDRESSES are, in bytes, and of the lists that hang on it
// (IP_ADAPTER_GATEWAY_ADDRESS and the like).
const (
	helperIndex    = 4
	helperNext     = 8
	helperResolver = 48
	helperFlags    = 92
	helperGateway  = 208
	helperServer   = 232
	helperSize     = 248

	helperListAddress = 16
	helperListSize    = 32

	helperLeased = 0x4 // IP_ADAPTER_DHCP_ENABLED
)

// mostHelped bounds a list, which might lead back to its beginning.
const mostHelped = 4096

// helperAdapter is what the IP Helper tells of an adapter beside what every system does.
type helperAdapter struct {
	index               int
	leased              bool
	server              netip.Addr
	gateways, resolvers []netip.Addr
}

// adapters reads what GetAdaptersAddresses wrote.
func (m helperMemory) adapters() (out []helperAdapter) {
	for next := m.base; next != 0 && len(out) < mostHelped; {
		b, ok := m.at(next, helperSize)
		if !ok {
			return out
		}
		a := helperAdapter{index: int(binary.LittleEndian.Uint32(b[helperIndex:])),
			leased:   binary.LittleEndian.Uint32(b[helperFlags:])&helperLeased != 0,
			gateways: m.list(b[helperGateway:]), resolvers: m.list(b[helperResolver:])}
		a.server, _ = m.address(b[helperServer:])
		out = append(out, a)
		next = binary.LittleEndian.Uint64(b[helperNext:])
	}
	return out
}

// list reads the addresses of a list that a pointer leads to.
func (m helperMemory) list(pointer []byte) (out []netip.Addr) {
	next := binary.LittleEndian.Uint64(pointer)
	for n := 0; next != 0 && n < mostHelped; n++ {
		b, ok := m.at(next, helperListSize)
		if !ok {
			return out
		}
		if a, ok := m.address(b[helperListAddress:]); ok {
			out = append(out, a)
		}
		next = binary.LittleEndian.Uint64(b[helperNext:])
	}
	return out
}

// address reads a SOCKET_ADDRESS: a pointer, and the length of what it leads to.
func (m helperMemory) address(b []byte) (netip.Addr, bool) {
	size := binary.LittleEndian.Uint32(b[8:])
	if size > 128 {
		return netip.Addr{}, false
	}
	s, ok := m.at(binary.LittleEndian.Uint64(b), int(size))
	if !ok {
		return netip.Addr{}, false
	}
	return helperSocket(s)
}

// Address families of Windows.
const (
	helperFour = 2
	helperSix  = 23
)

// helperSocket reads a SOCKADDR.
func helperSocket(b []byte) (netip.Addr, bool) {
	switch {
	case len(b) >= 8 && binary.LittleEndian.Uint16(b) == helperFour:
		return netip.AddrFrom4([4]byte(b[4:8])), true
	case len(b) >= 24 && binary.LittleEndian.Uint16(b) == helperSix:
		return netip.AddrFrom16([16]byte(b[8:24])).Unmap(), true
	}
	return netip.Addr{}, false
}

// takeHelped puts what the IP Helper tells into the system.
func (s *System) takeHelped(list []helperAdapter) {
	for _, one := range list {
		for i := range s.Adapters {
			a := &s.Adapters[i]
			if a.index != one.index {
				continue
			}
			a.Leased, a.Server = one.leased, one.server
			for _, at := range one.gateways {
				s.lead(a, at)
			}
			s.Resolvers = append(s.Resolvers, one.resolvers...)
		}
	}
}

// Of MIB_IPNET_ROW2: SOCKADDR_INET, index, the hardware address, its length and the state. Rows
// stand behind their number, at places that 8 divides.
const (
	rowIndex   = 28
	rowMAC     = 40
	rowLength  = 72
	rowState   = 76
	rowSize    = 88
	rowsAt     = 8
	rowReached = 2 // NlnsProbe, and above it what was reached (of NL_NEIGHBOR_STATE)
)

// helperNeighbors reads the rows of a table that GetIpNetTable2 gave: who is known on an
// adapter's segment.
func helperNeighbors(rows []byte, index int) map[netip.Addr]mac.Address {
	out := map[netip.Addr]mac.Address{}
	for ; len(rows) >= rowSize; rows = rows[rowSize:] {
		at, ok := helperSocket(rows[:rowIndex])
		if !ok || int(binary.LittleEndian.Uint32(rows[rowIndex:])) != index ||
			binary.LittleEndian.Uint32(
				rows[rowLength:],
			) != uint32(
				len(mac.Address{}),
			) || binary.LittleEndian.Uint32(rows[rowState:]) < rowReached {
			continue
		}
		if m := mac.Address(rows[rowMAC:][:6]); !m.IsZero() {
			out[at] = m
		}
	}
	return out
}

// Of ICMP_ECHO_REPLY: who sent it, and IP_STATUS.
const (
	echoStatus  = 4
	echoSize    = 40
	echoAnswers = 0
	echoExpired = 11013 // IP_TTL_EXPIRED_TRANSIT
)

// helperEcho reads what IcmpSendEcho wrote: from whom, and whether the time was over there.
func helperEcho(b []byte) (from netip.Addr, expired, ok bool) {
	if len(b) < echoSize {
		return from, false, false
	}
	from = netip.AddrFrom4([4]byte(b[:4]))
	status := binary.LittleEndian.Uint32(b[echoStatus:])
	return from, status == echoExpired, !from.IsUnspecified() && (status == echoExpired || status == echoAnswers)
}

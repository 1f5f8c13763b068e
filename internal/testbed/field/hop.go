package field

import (
	"context"
	"net"
	"net/netip"
	"os"
	"time"

	"golang.org/x/net/icmp"
	"golang.org/x/net/ipv4"

	"openbastion/internal/netsim/packet"
)

// hopByICMP sends a datagram with one hop to live and gives who says that its time was over, by a
// socket that takes in what routers say (RFC 792): on most systems that takes rights.
func hopByICMP(ctx context.Context, to netip.AddrPort) (netip.Addr, error) {
	in, err := icmp.ListenPacket("ip4:icmp", "0.0.0.0")
	if err != nil {
		return netip.Addr{}, err
	}
	defer in.Close()
	c, err := (&net.Dialer{}).DialContext(ctx, "udp4", to.String())
	if err != nil {
		return netip.Addr{}, err
	}
	defer c.Close()
	if err := ipv4.NewConn(c).SetTTL(1); err != nil {
		return netip.Addr{}, err
	}
	own, _ := sourceOf(c.LocalAddr())
	b := make([]byte, biggest)
	for range tries {
		if _, err := c.Write([]byte("open bastion probe\n")); err != nil {
			return netip.Addr{}, err
		}
		_ = in.SetReadDeadline(time.Now().Add(tryTime))
		for ctx.Err() == nil {
			n, from, err := in.ReadFrom(b)
			if err != nil {
				break
			}
			at, ok := from.(*net.IPAddr)
			if ok && expired(b[:n], own.Port(), to) {
				router, _ := netip.AddrFromSlice(at.IP)
				return router.Unmap(), nil
			}
		}
	}
	return netip.Addr{}, os.ErrDeadlineExceeded
}

// expired reports whether it is the word of a router that the time of a datagram was over which went from one of
// this machine's ports.
func expired(message []byte, from uint16, to netip.AddrPort) bool {
	if len(message) == 0 || message[0] != byte(ipv4.ICMPTypeTimeExceeded) {
		return false
	}
	_, destination, proto, data, ok := packet.Quoted(message)
	if !ok || proto != packet.UDP || destination != to.Addr() {
		return false
	}
	source, port, ok := packet.Ports(proto, data)
	return ok && source == from && port == to.Port()
}

package field

import (
	"context"
	"crypto/rand"
	"io/fs"
	"net"
	"net/netip"
	"os"
	"time"

	"golang.org/x/net/icmp"
	"golang.org/x/net/ipv4"
	"golang.org/x/net/ipv6"

	"openbastion/internal/netsim/probemsg"
)

// pingBySocket sends an echo request and waits for its answer: by a socket for pings, where the
// system has those, else by a raw one.
func pingBySocket(ctx context.Context, to netip.Addr) error {
	networks, at, proto := []string{"udp4", "ip4:icmp"}, "0.0.0.0", 1
	var kind, answer icmp.Type = ipv4.ICMPTypeEcho, ipv4.ICMPTypeEchoReply
	if to.Is6() {
		networks, at, proto, kind, answer = []string{
			"udp6",
			"ip6:ipv6-icmp",
		}, "::", 58, ipv6.ICMPTypeEchoRequest, ipv6.ICMPTypeEchoReply
	}
	var c *icmp.PacketConn
	var err error
	for _, network := range networks {
		if c, err = icmp.ListenPacket(network, at); err == nil {
			break
		}
	}
	if err != nil {
		return err
	}
	defer c.Close()
	payload := []byte(probemsg.PingPrefix + rand.Text())
	var target net.Addr = &net.IPAddr{IP: to.AsSlice()}
	if _, raw := c.LocalAddr().(*net.UDPAddr); raw {
		target = &net.UDPAddr{IP: to.AsSlice()}
	}
	b := make([]byte, biggest)
	for try := range tries {
		m := icmp.Message{Type: kind, Body: &icmp.Echo{ID: os.Getpid() & 0xffff, Seq: try + 1, Data: payload}}
		data, err := m.Marshal(nil)
		if err != nil {
			return err
		}
		if _, err := c.WriteTo(data, target); err != nil {
			return err
		}
		_ = c.SetReadDeadline(time.Now().Add(tryTime))
		for ctx.Err() == nil {
			n, _, err := c.ReadFrom(b)
			if err != nil {
				break
			}
			got, err := icmp.ParseMessage(proto, b[:n])
			if err != nil || got.Type != answer {
				continue
			}
			if echo, ok := got.Body.(*icmp.Echo); ok && string(echo.Data) == string(payload) {
				return nil
			}
		}
	}
	return os.ErrDeadlineExceeded
}

// errPermission is wrapped by what takes rights.
var errPermission = fs.ErrPermission

package machine

import (
	"crypto/sha256"
	"fmt"
	"net"
	"net/netip"
	"os"
	"strings"

	"openbastion/core/lab"
	"openbastion/engine/drive"
	"openbastion/engine/upstream"
)

// namesPort is where names are asked for (RFC 1035, section 4.2).
const namesPort = 53

// join lets the lab's outside go on to what this machine's ordinary sockets reach.
func (l *Lab) join() error {
	for _, s := range l.plan.Segments {
		if s.Reach == lab.Upstream && s.Lab.Join == "bridged" {
			l.note(fmt.Sprintf("%s is joined by this machine's own sockets, as if it were translated: to be on an adapter takes rights that --on kernel has",
				s.Name))
		}
	}
	inner := l.live.JoinOutside(nil)
	sum := sha256.Sum256([]byte(l.plan.Name))
	mac := [6]byte{2, sum[0], sum[1], sum[2], sum[3], sum[4]}
	up, err := upstream.New(mac, upstream.Options{Address: inner, Routes: l.live.BehindRouters(), Allow: l.options.Allow, Resolvers: resolvers(),
		Dial: l.options.Dial})
	if err != nil {
		return err
	}
	l.upstream = up
	near, far, err := pair("upstream")
	if err != nil {
		return err
	}
	defer far.Close()
	stream, err := net.FileConn(far)
	if err != nil {
		return err
	}
	go up.Serve(stream)
	wire, err := drive.OpenStream(near, len(l.live.Adapters)+1)
	if err != nil {
		return err
	}
	l.wires = append(l.wires, wire)
	l.note("the lab is let out by this machine's own sockets; this machine itself is not reached")
	return nil
}

// left tells what has left the lab for this machine's network.
func (l *Lab) left() (out []string) {
	if l.upstream == nil {
		return nil
	}
	for _, c := range l.upstream.Counts() {
		text := fmt.Sprintf("%s left the lab for this machine's network: conversations %d, bytes %d", c.Source, c.Conversations, c.Bytes)
		if c.Refused > 0 {
			text += fmt.Sprintf("; refused or not reached %d", c.Refused)
		}
		out = append(out, text)
	}
	return out
}

// resolvers gives who this machine asks for names.
func resolvers() (list []netip.AddrPort) {
	data, err := os.ReadFile("/etc/resolv.conf")
	if err != nil {
		return nil
	}
	for line := range strings.Lines(string(data)) {
		f := strings.Fields(line)
		if len(f) < 2 || f[0] != "nameserver" {
			continue
		}
		if a, err := netip.ParseAddr(f[1]); err == nil {
			list = append(list, netip.AddrPortFrom(a, namesPort))
		}
	}
	return list
}

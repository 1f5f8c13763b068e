package machine

import (
	"crypto/sha256"
	"errors"
	"fmt"
	"io/fs"
	"net"
	"net/netip"
	"strconv"
	"strings"

	"openbastion/internal/model/lab"
	"openbastion/internal/model/plan"
	"openbastion/internal/netsim/vxlan"
	"openbastion/internal/testbed/drive"
	"openbastion/internal/testbed/hostnet"
	"openbastion/internal/testbed/upstream"
)

// join joins the lab's upstream segments, each as its file says: on a device or an adapter of
// this machine, where the user may, else by this machine's ordinary sockets.
func (l *Lab) join() error {
	bySockets := false
	for _, s := range l.plan.Segments {
		if s.Reach != lab.Upstream {
			continue
		}
		on, err := l.onDevice(s)
		if err != nil {
			return err
		}
		bySockets = bySockets || !on
	}
	if !bySockets {
		return nil
	}
	return l.throughSockets()
}

// onDevice puts a segment on the tap device that was named for it, else on the adapter that
// its file names, where that may be opened: nothing of either is changed. What is beyond is
// what is there: the invented router is off the segment.
func (l *Lab) onDevice(s *plan.Segment) (bool, error) {
	device, tap := l.options.Taps[s.Name]
	if !tap && (s.Lab.Join != "bridged" || s.Lab.Uplink == "") {
		return false, nil
	}
	var port drive.Port
	var err error
	if number := l.live.Last() + 1; tap {
		port, err = drive.OpenTap(device, number)
	} else {
		device = s.Lab.Uplink
		port, err = drive.Open(device, number)
	}
	switch {
	case err != nil && !tap && errors.Is(err, fs.ErrPermission):
		l.note(
			fmt.Sprintf(
				"%s is joined by this machine's own sockets, as if it were translated: to be on %s takes the right to open "+
					"packet sockets, or a tap device that you may open (--tap %s=DEVICE)",
				s.Name,
				device,
				s.Name,
			),
		)
		return false, nil
	case err != nil:
		return false, fmt.Errorf("segment %s: %w", s.Name, err)
	}
	l.ports = append(l.ports, port)
	l.live.JoinSegment(s)
	l.Away = device
	l.note(fmt.Sprintf("%s is on %s of this machine; nothing is observed there, so that is unknown", s.Name, device))
	return true, nil
}

// throughSockets lets the lab's outside go on to what this machine's ordinary sockets reach.
func (l *Lab) throughSockets() error {
	inner := l.live.JoinOutside(nil)
	sum := sha256.Sum256([]byte(l.plan.Name))
	mac := [6]byte{2, sum[0], sum[1], sum[2], sum[3], sum[4]}
	up, err := upstream.New(
		mac,
		upstream.Options{Address: inner, Routes: l.live.BehindRouters(), Allow: l.options.Allow,
			Resolvers: hostnet.Resolvers(), Dial: l.options.Dial},
	)
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
	wire, err := drive.OpenStream(near, l.live.Last())
	if err != nil {
		return err
	}
	l.ports = append(l.ports, wire)
	l.Host = hostnet.Addresses()
	l.note("the lab is let out by this machine's own sockets; this machine itself is not reached")
	return nil
}

// Span has a segment go on on another machine (VXLAN, RFC 7348).
type Span struct {
	Segment   string
	Number    uint32 // of the segment, on the way
	Near, Far netip.AddrPort
}

// ParseSpan reads a span: SEGMENT=NUMBER,NEAR,FAR with addresses of IPv4; where one names no
// port it is the usual one.
func ParseSpan(text string) (s Span, err error) {
	segment, rest, ok := strings.Cut(text, "=")
	f := strings.Split(rest, ",")
	if !ok || len(f) != 3 {
		return s, fmt.Errorf(
			"%q is not a span; write SEGMENT=NUMBER,NEAR,FAR, such as reedbed=48,192.0.2.1,192.0.2.2",
			text,
		)
	}
	number, err := strconv.ParseUint(f[0], 10, 32)
	if err != nil || number > vxlan.MaxSegment {
		return s, fmt.Errorf("%q is not a segment number; it has 24 bits", f[0])
	}
	s = Span{Segment: segment, Number: uint32(number)}
	for i, at := range []*netip.AddrPort{&s.Near, &s.Far} {
		if a, err := netip.ParseAddr(f[i+1]); err == nil {
			*at = netip.AddrPortFrom(a, vxlan.Port)
		} else if *at, err = netip.ParseAddrPort(f[i+1]); err != nil {
			return s, fmt.Errorf("%q is not an address, with or without a port: %w", f[i+1], err)
		}
	}
	return s, nil
}

// span has segments go on on other machines.
func (l *Lab) span() error {
	for _, s := range l.options.Spans {
		segment := l.plan.Segment(s.Segment)
		if segment == nil {
			return fmt.Errorf("no segment %q to span", s.Segment)
		}
		tunnel, err := drive.OpenTunnel(s.Near, s.Far, s.Number, l.live.Extend(segment))
		if err != nil {
			return fmt.Errorf("segment %s: %w", s.Segment, err)
		}
		l.ports = append(l.ports, tunnel)
		l.note(fmt.Sprintf("%s goes on at %s, as segment %d of VXLAN", s.Segment, s.Far, s.Number))
	}
	return nil
}

// left returns what has left the lab for this machine's network.
func (l *Lab) left() (out []string) {
	if l.upstream == nil {
		return nil
	}
	for _, c := range l.upstream.Counts() {
		text := fmt.Sprintf(
			"%s left the lab for this machine's network: conversations %d, bytes %d",
			c.Source,
			c.Conversations,
			c.Bytes,
		)
		if c.Refused > 0 {
			text += fmt.Sprintf("; refused or not reached %d", c.Refused)
		}
		out = append(out, text)
	}
	return out
}

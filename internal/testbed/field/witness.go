package field

import (
	"bufio"
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/netip"
	"slices"
	"strings"
	"sync"
	"time"

	"golang.org/x/net/ipv4"
	"golang.org/x/net/ipv6"

	"openbastion/internal/classroom/witness"
	"openbastion/internal/model/lab"
	"openbastion/internal/model/plan"
	"openbastion/internal/netsim/probemsg"
	"openbastion/internal/verify/attack"
	"openbastion/internal/verify/claims"
)

// Ports are those on which a witness answers. Each understands every form there is of its
// protocol: a datagram by itself or within DNS; a connection by itself or with HTTP.
type Ports struct {
	UDP []uint16
	TCP []uint16
}

// Usual are the ports on which a witness listens where nobody says others.
var Usual = Ports{UDP: []uint16{7, 53, 123, 443}, TCP: []uint16{53, 80, 443, 8443}}

// With adds ports on which a plan's claims ask the witness.
func (p Ports) With(of *plan.Plan) Ports {
	add := func(list []uint16, port uint16) []uint16 {
		if slices.Contains(list, port) {
			return list
		}
		return append(slices.Clone(list), port)
	}
	for _, q := range claims.Questions(of, claims.Facts{}) {
		r, is := q.Ask.(claims.AskReach)
		switch {
		case !is || r.To != (claims.Ref{}) || r.Address.IsValid() || r.Service.From == 0:
		case r.Service.Proto == lab.UDP:
			p.UDP = add(p.UDP, r.Service.From)
		case r.Service.Proto == lab.TCP:
			p.TCP = add(p.TCP, r.Service.From)
		}
	}
	return p
}

// String lists the ports.
func (p Ports) String() string { return "udp " + FormatPorts(p.UDP) + " · tcp " + FormatPorts(p.TCP) }

// FormatPorts writes ports as [ParsePorts] reads them.
func FormatPorts(list []uint16) string {
	var out []string
	for _, n := range list {
		out = append(out, fmt.Sprint(n))
	}
	return strings.Join(out, ",")
}

// What a witness bounds.
const (
	connections = 4096             // at a time
	ofSource    = 64               // of them from one address, or one network of 64 bits
	patience    = 10 * time.Second // with one of them
)

// Witness answers on sockets of this machine.
type Witness struct {
	Heard func(run uint32, attempt int) // told of each forged packet that came; nil: nobody
	Ports Ports

	began time.Time
	seen  func(witness.Seen)

	mu     sync.Mutex // of the server
	server *witness.Server

	packets []net.PacketConn
	streams []net.Listener
}

// Listen opens a witness's sockets: at an address, or, where that is invalid, at all of this
// machine's. seen is told each question that was answered.
func Listen(at netip.Addr, ports Ports, server *witness.Server, seen func(witness.Seen)) (*Witness, error) {
	w := &Witness{Ports: ports, began: time.Now(), seen: seen, server: server}
	var hosts []string
	switch {
	case !at.IsValid():
		hosts = []string{"0.0.0.0", "::"}
	default:
		hosts = []string{at.String()}
	}
	var all []error
	for _, host := range hosts {
		family := "4"
		if strings.Contains(host, ":") {
			family = "6"
		}
		for _, port := range ports.UDP {
			c, err := net.ListenPacket("udp"+family, net.JoinHostPort(host, fmt.Sprint(port)))
			if err == nil {
				w.packets = append(w.packets, c)
			}
			all = append(all, without6(family, at, err))
		}
		for _, port := range ports.TCP {
			l, err := net.Listen("tcp"+family, net.JoinHostPort(host, fmt.Sprint(port)))
			if err == nil {
				w.streams = append(w.streams, l)
			}
			all = append(all, without6(family, at, err))
		}
	}
	if err := errors.Join(all...); err != nil {
		w.Close()
		return nil, err
	}
	return w, nil
}

// without6 forgives a machine that speaks no IPv6, where nobody asked for that.
func without6(family string, at netip.Addr, err error) error {
	if family == "6" && !at.IsValid() {
		return nil
	}
	return err
}

// Addresses returns where it listens: of datagrams, then of connections.
func (w *Witness) Addresses() (out []net.Addr) {
	for _, c := range w.packets {
		out = append(out, c.LocalAddr())
	}
	for _, l := range w.streams {
		out = append(out, l.Addr())
	}
	return out
}

// Close ends it.
func (w *Witness) Close() {
	for _, c := range w.packets {
		_ = c.Close()
	}
	for _, l := range w.streams {
		_ = l.Close()
	}
}

// Hear listens to all that comes to this machine by the adapter that it listens at, until the
// context ends. The error says why it cannot.
func (w *Witness) Hear(ctx context.Context, at netip.Addr) error {
	if err := w.listen(ctx, at); err != nil {
		return err
	}
	w.mu.Lock()
	defer w.mu.Unlock()
	w.server.Listening = true
	return nil
}

// hear notes a forged packet.
func (w *Witness) hear(m attack.Mark) {
	w.mu.Lock()
	first := w.server.Hear(m.Run, m.Attempt)
	w.mu.Unlock()
	if first && w.Heard != nil {
		w.Heard(m.Run, m.Attempt)
	}
}

// deaf says that it no longer hears what comes.
func (w *Witness) deaf() {
	w.mu.Lock()
	defer w.mu.Unlock()
	w.server.Listening = false
}

// Run answers until the context ends.
func (w *Witness) Run(ctx context.Context) {
	var all sync.WaitGroup
	for _, c := range w.packets {
		all.Go(func() { w.datagrams(c) })
	}
	places := &places{of: map[netip.Prefix]int{}}
	for _, l := range w.streams {
		all.Go(func() { w.accept(l, places) })
	}
	<-ctx.Done()
	w.Close()
	all.Wait()
}

// handle has the state machine answer.
func (w *Witness) handle(from netip.AddrPort, way witness.Way, hops int, data []byte) []byte {
	w.mu.Lock()
	answer, seen := w.server.Handle(time.Since(w.began), time.Now(), from, way, hops, data)
	w.mu.Unlock()
	if seen != nil && w.seen != nil {
		w.seen(*seen)
	}
	return answer
}

// biggest bounds a datagram that is looked at.
const biggest = 2048

// receiver reads datagrams with the hop limit that was left; 0 where the system does not tell.
func receiver(c net.PacketConn) func(b []byte) (n, hops int, from net.Addr, err error) {
	if strings.Contains(c.LocalAddr().String(), "[") {
		six := ipv6.NewPacketConn(c)
		if six.SetControlMessage(ipv6.FlagHopLimit, true) == nil {
			return func(b []byte) (n, hops int, from net.Addr, err error) {
				n, cm, from, err := six.ReadFrom(b)
				if cm != nil {
					hops = cm.HopLimit
				}
				return n, hops, from, err
			}
		}
	} else if four := ipv4.NewPacketConn(c); four.SetControlMessage(ipv4.FlagTTL, true) == nil {
		return func(b []byte) (n, hops int, from net.Addr, err error) {
			n, cm, from, err := four.ReadFrom(b)
			if cm != nil {
				hops = cm.TTL
			}
			return n, hops, from, err
		}
	}
	return func(b []byte) (n, hops int, from net.Addr, err error) {
		n, from, err = c.ReadFrom(b)
		return n, 0, from, err
	}
}

func (w *Witness) datagrams(c net.PacketConn) {
	read := receiver(c)
	b := make([]byte, biggest)
	for {
		n, hops, from, err := read(b)
		if errors.Is(err, net.ErrClosed) {
			return
		}
		if err != nil { // what came before it could not be delivered, say
			continue
		}
		source, ok := sourceOf(from)
		if !ok {
			continue
		}
		if answer := w.datagram(source, hops, b[:n]); answer != nil {
			_, _ = c.WriteTo(answer, from) // who does not get it asks again
		}
	}
}

// datagram answers a message by itself, or within a question of DNS.
func (w *Witness) datagram(source netip.AddrPort, hops int, data []byte) []byte {
	if witness.Is(data) {
		return padded(w.handle(source, witness.UDP, hops, data[:witness.Size]), len(data))
	}
	if m, ok := attack.MarkIn(data); ok {
		w.hear(m)
		return nil
	}
	id, response, message, ok := fromDNS(data)
	if !ok || response {
		return nil
	}
	answer := w.handle(source, witness.DNS, hops, message)
	if answer == nil {
		return nil
	}
	out, err := asDNS(id, true, answer)
	if err != nil {
		return nil
	}
	return out
}

// padded fills an answer to the size of its question; none stays none.
func padded(answer []byte, size int) []byte {
	if answer == nil {
		return nil
	}
	return probemsg.Pad(answer, size)
}

func sourceOf(a net.Addr) (netip.AddrPort, bool) {
	var at netip.AddrPort
	switch v := a.(type) {
	case *net.UDPAddr:
		at = v.AddrPort()
	case *net.TCPAddr:
		at = v.AddrPort()
	}
	return netip.AddrPortFrom(at.Addr().Unmap(), at.Port()), at.IsValid()
}

// places are the connections that are open, by who holds them: one source cannot hold all.
type places struct {
	mu  sync.Mutex
	all int
	of  map[netip.Prefix]int
}

// whole returns who is counted as one: an IPv4 address, or the network of an IPv6 one.
func whole(a netip.Addr) netip.Prefix {
	bits := 32
	if a.Is6() {
		bits = 64
	}
	p, _ := a.Prefix(bits) // the bits fit
	return p
}

func (x *places) take(from netip.Prefix) bool {
	x.mu.Lock()
	defer x.mu.Unlock()
	if x.all >= connections || x.of[from] >= ofSource {
		return false
	}
	x.all++
	x.of[from]++
	return true
}

func (x *places) give(from netip.Prefix) {
	x.mu.Lock()
	defer x.mu.Unlock()
	x.all--
	if x.of[from]--; x.of[from] == 0 {
		delete(x.of, from)
	}
}

func (w *Witness) accept(l net.Listener, places *places) {
	for {
		c, err := l.Accept()
		if errors.Is(err, net.ErrClosed) {
			return
		}
		if err != nil {
			time.Sleep(time.Millisecond) // out of descriptors, say
			continue
		}
		source, ok := sourceOf(c.RemoteAddr())
		from := whole(source.Addr())
		if !ok || !places.take(from) {
			_ = c.Close()
			continue
		}
		go func() {
			defer func() { places.give(from); _ = c.Close() }()
			w.connection(c)
		}()
	}
}

// connection answers messages on a connection, by themselves or each in a request of HTTP.
func (w *Witness) connection(c net.Conn) {
	source, ok := sourceOf(c.RemoteAddr())
	if !ok || c.SetDeadline(time.Now().Add(patience)) != nil {
		return
	}
	in := bufio.NewReaderSize(io.LimitReader(c, 64<<10), biggest)
	start, err := in.Peek(4)
	if err != nil {
		return
	}
	if string(start) == "POST" {
		w.requests(in, c, source)
		return
	}
	message := make([]byte, witness.Size)
	for {
		if _, err := io.ReadFull(in, message); err != nil {
			return
		}
		answer := w.handle(source, witness.TCP, 0, message)
		if answer == nil {
			return
		}
		if _, err := c.Write(answer); err != nil {
			return
		}
	}
}

func (w *Witness) requests(in *bufio.Reader, c net.Conn, source netip.AddrPort) {
	for {
		r, err := http.ReadRequest(in)
		if err != nil || r.ContentLength < witness.Size || r.ContentLength > probemsg.Stream {
			return
		}
		message := make([]byte, r.ContentLength)
		if _, err := io.ReadFull(r.Body, message); err != nil {
			return
		}
		answer := padded(w.handle(source, witness.HTTP, 0, message[:witness.Size]), len(message))
		if answer == nil {
			return
		}
		response := http.Response{StatusCode: http.StatusOK, ProtoMajor: 1, ProtoMinor: 1, ContentLength: int64(len(answer)),
			Header: http.Header{
				"Content-Type": {"application/octet-stream"},
			}, Body: io.NopCloser(bytes.NewReader(answer))}
		if response.Write(c) != nil {
			return
		}
	}
}

// ParsePorts reads ports: numbers with commas between them.
func ParsePorts(text string) (out []uint16, err error) {
	for f := range strings.SplitSeq(text, ",") {
		var n uint16
		f = strings.TrimSpace(f)
		if f == "" {
			continue
		}
		if _, err := fmt.Sscanf(f, "%d", &n); err != nil || fmt.Sprint(n) != f || n == 0 {
			return nil, fmt.Errorf("%q is not a port; write numbers from 1 to 65535 with commas between them", f)
		}
		if !slices.Contains(out, n) {
			out = append(out, n)
		}
	}
	return out, nil
}

package field

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"slices"
	"time"

	"golang.org/x/sys/unix"

	"openbastion/internal/netsim/host"
	"openbastion/internal/netsim/packet"
	"openbastion/internal/testbed/drive"
	"openbastion/internal/verify/attack"
)

// The pace of forged packets, which must not fill the buffers on their way.
const (
	burst     = 8
	burstTime = 2 * time.Millisecond
)

// sendFrames sends frames by one of this machine's adapters.
func sendFrames(ctx context.Context, name string, frames [][]byte) error {
	i, err := net.InterfaceByName(name)
	if err != nil {
		return err
	}
	fd, err := unix.Socket(unix.AF_PACKET, unix.SOCK_RAW|unix.SOCK_CLOEXEC, 0)
	if err != nil {
		return err
	}
	defer unix.Close(fd)
	to := &unix.SockaddrLinklayer{Ifindex: i.Index}
	for n, f := range frames {
		if n%burst == 0 {
			time.Sleep(burstTime)
		}
		if ctx.Err() != nil {
			return ctx.Err()
		}
		if err := unix.Sendto(fd, f, 0, to); err != nil && !errors.Is(err, unix.EMSGSIZE) {
			return fmt.Errorf("%s: %w", name, err)
		}
	}
	return nil
}

// exchangeFrames sends frames by one of this machine's adapters, and tells what comes by it until
// a while after the last.
func exchangeFrames(ctx context.Context, name string, frames [][]byte, came func(*packet.Packet)) error {
	a, err := drive.Open(name, 1)
	if err != nil {
		return err
	}
	defer a.Close()
	d, err := drive.New(ear(came), a)
	if err != nil {
		return err
	}
	own, end := context.WithCancel(ctx)
	ended := make(chan error, 1)
	go func() { ended <- d.Run(own) }()
	err = sendFrames(ctx, name, frames)
	time.Sleep(onTheWay)
	end()
	return errors.Join(err, <-ended)
}

// overhear hears a forged packet among all that comes.
func (w *Witness) overhear(p *packet.Packet) {
	if p.IsError() {
		return // it quotes what it is about
	}
	if m, ok := attack.MarkOf(p); ok {
		w.hear(m)
	} else if m, ok := attack.MarkIn(p.Bytes); ok { // within a tunnel, say
		w.hear(m)
	}
}

// ear is told all that comes by an adapter; what cannot be read as its bytes.
type ear func(*packet.Packet)

func (e ear) Receive(_ time.Duration, _ int, frame []byte) {
	p, err := packet.Decode(frame)
	if err != nil {
		p = &packet.Packet{Bytes: frame}
	}
	e(p)
}

func (ear) Advance(time.Duration)           {}
func (ear) Deadline() (time.Duration, bool) { return 0, false }
func (ear) Drain() []host.Emission          { return nil }

// outward returns the adapters by which a witness at an address, or at all where that is
// invalid, is reached from outside: the one with the address, else those that lead on, else all. What is in another namespace
// of the machine is none of its.
func (s System) outward(at netip.Addr) []Adapter {
	here := slices.DeleteFunc(slices.Clone(s.Adapters), func(x Adapter) bool { return !x.Up || x.Within != "" })
	for _, wanted := range []func(Adapter) bool{
		func(x Adapter) bool {
			return slices.ContainsFunc(x.Addresses, func(p netip.Prefix) bool { return p.Addr() == at })
		},
		func(x Adapter) bool { return x.Gateway.IsValid() || x.Gateway6.IsValid() },
	} {
		if list := slices.DeleteFunc(slices.Clone(here), func(x Adapter) bool { return !wanted(x) }); len(list) > 0 {
			return list
		}
	}
	return here
}

// listen hears all that comes by the adapters that lead outside.
func (w *Witness) listen(ctx context.Context, at netip.Addr) error {
	s, err := Look()
	if err != nil {
		return err
	}
	var ports []drive.Port
	end := func() {
		for _, p := range ports {
			_ = p.Close()
		}
	}
	for i, x := range s.outward(at) {
		a, err := drive.Open(x.Name, i+1)
		if err != nil {
			end()
			return err
		}
		ports = append(ports, a)
	}
	if len(ports) == 0 {
		return errors.New("no adapter of this machine is up")
	}
	d, err := drive.New(ear(w.overhear), ports...)
	if err != nil {
		end()
		return err
	}
	go func() {
		_ = d.Run(ctx)
		w.deaf()
		end()
	}()
	return nil
}

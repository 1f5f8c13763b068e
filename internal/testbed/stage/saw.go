package stage

import (
	"context"
	"errors"
	"net"
	"net/netip"
	"os"
	"syscall"

	"openbastion/internal/netsim/dns"
	"openbastion/internal/verify/claims"
)

// Prohibited is what a system says of what it does not let somebody do.
const Prohibited = "prohibited"

// Saw says in few words why a question got nothing; nothing of no error.
func Saw(err error) string {
	switch {
	case err == nil:
		return ""
	case errors.Is(err, os.ErrDeadlineExceeded), errors.Is(err, context.DeadlineExceeded):
		return "no answer"
	case errors.Is(err, syscall.ECONNREFUSED):
		return "refused"
	case errors.Is(err, syscall.ENETUNREACH):
		return "no route"
	case errors.Is(err, syscall.EHOSTUNREACH):
		return "unreachable"
	case errors.Is(err, syscall.EACCES), errors.Is(err, syscall.EPERM):
		return Prohibited
	}
	var op *net.OpError
	if errors.As(err, &op) {
		return op.Err.Error()
	}
	return err.Error()
}

// LookUp asks a resolver for a name by what exchanges a datagram with it.
func LookUp(resolver netip.Addr, name string, exchange func(to netip.AddrPort, question []byte) ([]byte, error),
	saw func(error) string) claims.GotName {
	got := claims.GotName{Resolver: resolver}
	const id = 0x0b57
	q, err := dns.Question(id, name)
	if err != nil {
		got.Saw = err.Error()
		return got
	}
	data, err := exchange(netip.AddrPortFrom(resolver, dns.Port), q)
	if err != nil {
		got.Saw = saw(err)
		return got
	}
	addresses, code, ok := dns.ReadAnswer(data, id)
	if !ok {
		got.Saw = "what it said is no answer"
		return got
	}
	got.Answered, got.Addresses, got.Saw = true, addresses, code.String()
	return got
}

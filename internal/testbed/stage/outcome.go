package stage

import (
	"context"
	"errors"
	"net"
	"net/netip"
	"os"
	"strconv"
	"syscall"

	"openbastion/internal/netsim/dns"
	"openbastion/internal/netsim/outcome"
	"openbastion/internal/testbed/pathmtu"
	"openbastion/internal/verify/claims"
)

// Outcome returns why a request got no answer.
func Outcome(err error) outcome.Outcome {
	var large pathmtu.TooBig
	switch {
	case err == nil:
		return outcome.Outcome{}
	case errors.As(err, &large):
		return outcome.Outcome{Code: outcome.TooBig, Detail: strconv.Itoa(large.MTU)}
	case errors.Is(err, os.ErrDeadlineExceeded), errors.Is(err, context.DeadlineExceeded):
		return outcome.Of(outcome.NoAnswer)
	case errors.Is(err, syscall.ECONNREFUSED):
		return outcome.Of(outcome.Refused)
	case errors.Is(err, syscall.ENETUNREACH):
		return outcome.Of(outcome.NoRoute)
	case errors.Is(err, syscall.EHOSTUNREACH):
		return outcome.Of(outcome.Unreachable)
	case errors.Is(err, syscall.EACCES), errors.Is(err, syscall.EPERM):
		return outcome.Of(outcome.Prohibited)
	}
	var op *net.OpError
	if errors.As(err, &op) {
		return outcome.Fail(op.Err.Error())
	}
	return outcome.Fail(err.Error())
}

// LookUp asks a resolver for a name by what exchanges a datagram with it.
func LookUp(resolver netip.Addr, name string, exchange func(to netip.AddrPort, question []byte) ([]byte, error),
	why func(error) outcome.Outcome) claims.GotName {
	got := claims.GotName{Resolver: resolver}
	const id = 0x0b57
	q, err := dns.Question(id, name)
	if err != nil {
		got.Outcome = outcome.Fail(err.Error())
		return got
	}
	data, err := exchange(netip.AddrPortFrom(resolver, dns.Port), q)
	if err != nil {
		got.Outcome = why(err)
		return got
	}
	addresses, code, ok := dns.ReadAnswer(data, id)
	if !ok {
		got.Outcome = outcome.Fail("the reply is not a valid DNS message")
		return got
	}
	got.Answered, got.Addresses, got.Code = true, addresses, code.String()
	return got
}

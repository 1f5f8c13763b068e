package ruleset

import (
	"fmt"
	"strings"

	"github.com/google/nftables/binaryutil"
	"github.com/google/nftables/expr"
	"golang.org/x/sys/unix"
)

// The states of connection tracking, as bits.
var states = map[string]uint32{"invalid": 1, "established": 2, "related": 4, "new": 8}

func (s *statement) state() error {
	if err := s.take("state"); err != nil {
		return err
	}
	bits := uint32(0)
	for n, ok := states[s.peek()]; ok; n, ok = states[s.peek()] {
		bits |= n
		s.next()
	}
	if bits == 0 {
		return fmt.Errorf("the state %q is not known", s.peek())
	}
	native := binaryutil.NativeEndian.PutUint32
	s.add(&expr.Ct{Key: expr.CtKeySTATE, Register: 1},
		&expr.Bitwise{SourceRegister: 1, DestRegister: 1, Len: 4, Mask: native(bits), Xor: native(0)})
	s.compare(expr.CmpOpNeq, native(0))
	return nil
}

// route reads what the routing table is asked.
func (s *statement) route() error {
	native := binaryutil.NativeEndian.PutUint32
	text := strings.Join(s.words[:min(len(s.words), 5)], " ")
	for _, x := range []struct {
		form  string
		fib   expr.Fib
		equal uint32
	}{
		{"saddr . iif oif missing", expr.Fib{Register: 1, FlagSADDR: true, FlagIIF: true, ResultOIF: true, FlagPRESENT: true}, 0},
		{"daddr type local", expr.Fib{Register: 1, FlagDADDR: true, ResultADDRTYPE: true}, unix.RTN_LOCAL},
	} {
		if text == x.form || strings.HasPrefix(text, x.form+" ") {
			s.add(&x.fib)
			s.equal(native(x.equal))
			return s.take(strings.Fields(x.form)...)
		}
	}
	if strings.HasPrefix(text, "saddr oifname ") {
		s.add(&expr.Fib{Register: 1, FlagSADDR: true, ResultOIFNAME: true})
		_ = s.take("saddr", "oifname")
		return s.named()
	}
	return fmt.Errorf("fib %q is not known", text)
}

// named compares with the name of a device.
func (s *statement) named() error {
	name := s.next()
	if len(name) == 0 || len(name) >= unix.IFNAMSIZ || strings.ContainsAny(name, "${") {
		return fmt.Errorf("%q is no name of a device", name)
	}
	b := make([]byte, unix.IFNAMSIZ)
	copy(b, name)
	s.equal(b)
	return nil
}

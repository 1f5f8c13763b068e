package kernel

import (
	"encoding/binary"
	"fmt"
	"net/netip"

	"openbastion/internal/netsim/probemsg"

	"github.com/google/nftables"
	"github.com/google/nftables/expr"
)

// introduction is the table by which a guest answers on every port of its own
// addresses.
const (
	introduction  = "bastion-introduces"
	introducePort = 7
)

// answer has a guest say who it is to whoever asks, on every port of its own: what
// passes can then be told from what is refused on the way.
func (x *machine) answer() error {
	tcp, err := x.space.listen(introducePort)
	if err != nil {
		return fmt.Errorf("%s: %w", x.plan.Name, err)
	}
	x.stops = append(x.stops, func() { tcp.Close() })
	go serve(tcp, pages(func(client netip.AddrPort) string { return probemsg.Page(x.plan.Name, client) }))
	stop, err := x.space.answerUDP(introducePort, func(data []byte, from netip.AddrPort) []byte {
		reply, ok := probemsg.Reply(data, x.plan.Name, from)
		if !ok {
			return nil
		}
		return reply
	})
	if err != nil {
		return fmt.Errorf("%s: %w", x.plan.Name, err)
	}
	x.stops = append(x.stops, stop)
	return nil
}

// introduce sends what comes to the guest's own addresses on to who answers for it:
// only what is its own, so that what it forwards for others passes.
func (x *machine) introduce(on bool) error {
	c, err := nftables.New(nftables.WithNetNSFd(x.space.fd))
	if err != nil {
		return err
	}
	table := c.AddTable(&nftables.Table{Family: nftables.TableFamilyINet, Name: introduction})
	if !on {
		c.DelTable(table)
		return c.Flush()
	}
	c.DelTable(table)
	table = c.AddTable(table)
	chain := c.AddChain(
		&nftables.Chain{Name: "in", Table: table, Type: nftables.ChainTypeNAT, Hooknum: nftables.ChainHookPrerouting,
			Priority: nftables.ChainPriorityNATDest},
	)
	for _, proto := range []byte{6, 17} {
		c.AddRule(&nftables.Rule{Table: table, Chain: chain, Exprs: []expr.Any{
			&expr.Fib{Register: 1, FlagDADDR: true, ResultADDRTYPE: true},
			&expr.Cmp{Op: expr.CmpOpEq, Register: 1, Data: binary.NativeEndian.AppendUint32(nil, 2)},
			&expr.Meta{Key: expr.MetaKeyL4PROTO, Register: 1},
			&expr.Cmp{Op: expr.CmpOpEq, Register: 1, Data: []byte{proto}},
			&expr.Immediate{Register: 1, Data: binary.BigEndian.AppendUint16(nil, introducePort)},
			&expr.Redir{RegisterProtoMin: 1},
		}})
	}
	return c.Flush()
}

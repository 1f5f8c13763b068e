package nfnetlink

import (
	"encoding/binary"
	"errors"
	"fmt"

	"github.com/google/nftables"
	"github.com/google/nftables/userdata"
	"github.com/mdlayher/netlink"
	"golang.org/x/sys/unix"

	"openbastion/internal/filter/ruleset"
)

// readBuffer holds the kernel's receipts for every rule of a large table, in bytes.
const readBuffer = 8 << 20

// Open returns a connection to the packet filter of a network namespace, by its file descriptor; 0
// is the calling thread's own.
func Open(space int) (*nftables.Conn, error) {
	return nftables.New(nftables.WithNetNSFd(space), nftables.WithSockOptions(func(c *netlink.Conn) error {
		return c.SetReadBuffer(readBuffer)
	}))
}

var hooks = map[string]*nftables.ChainHook{"prerouting": nftables.ChainHookPrerouting, "input": nftables.ChainHookInput,
	"forward": nftables.ChainHookForward, "output": nftables.ChainHookOutput, "postrouting": nftables.ChainHookPostrouting}

// Load replaces the table of that name in the namespace of the connection, all or nothing.
func Load(c *nftables.Conn, t *ruleset.Table) error {
	if t.Family != ruleset.Inet {
		return fmt.Errorf("the kernel's filter for %s is not loaded by this program", t.Family)
	}
	table := &nftables.Table{Name: t.Name, Family: nftables.TableFamilyINet}
	c.AddTable(table)
	c.DelTable(table)
	table = c.AddTable(table)
	chains := map[string]*nftables.Chain{}
	for _, x := range t.Chains {
		chain := &nftables.Chain{Name: x.Name, Table: table}
		if h := x.Hook; h != nil {
			policy, priority := nftables.ChainPolicyAccept, nftables.ChainPriority(h.Priority)
			if h.Drop {
				policy = nftables.ChainPolicyDrop
			}
			chain.Type, chain.Hooknum, chain.Priority, chain.Policy = nftables.ChainType(
				h.Type,
			), hooks[h.At], &priority, &policy
		}
		chains[x.Name] = c.AddChain(chain)
	}
	l := loader{conn: c, table: table, devices: map[string]string{}}
	for _, p := range t.Ports {
		l.devices[p.Name] = p.Device
	}
	for _, x := range t.Chains {
		for _, r := range x.Rules {
			if err := l.load(chains[x.Name], r); err != nil {
				return fmt.Errorf("chain %s: %w", x.Name, err)
			}
		}
	}
	if err := c.Flush(); err != nil {
		return fmt.Errorf("the kernel refuses the rules: %w", err)
	}
	return nil
}

// loader adds the rules of one table.
type loader struct {
	conn    *nftables.Conn
	table   *nftables.Table
	devices map[string]string // of ports, by name
}

// maxComment is what the kernel's tools read of a rule's comment, in bytes.
const maxComment = 127

// load adds a rule, for each of its devices one.
func (l loader) load(chain *nftables.Chain, r ruleset.Rule) error {
	if len(r.Actions) == 0 {
		return nil // a remark
	}
	for _, matches := range perDevice(r.Matches) {
		e := &expressions{loader: l}
		for _, m := range matches {
			if err := e.match(m); err != nil {
				return err
			}
		}
		for _, a := range r.Actions {
			if err := e.action(a); err != nil {
				return err
			}
		}
		rule := &nftables.Rule{Table: l.table, Chain: chain, Exprs: e.list}
		if r.Title != "" {
			rule.UserData = userdata.AppendString(nil, userdata.TypeComment, r.Title[:min(len(r.Title), maxComment)])
		}
		l.conn.AddRule(rule)
	}
	return nil
}

// perDevice makes of matches of several devices one list for each: a set of names would be listed
// without them by the kernel's tools, as the library stores them.
func perDevice(matches []ruleset.Match) [][]ruleset.Match {
	for i, m := range matches {
		var names []string
		one := func(string) ruleset.Match { return nil }
		switch m := m.(type) {
		case ruleset.In:
			names, one = m, func(n string) ruleset.Match { return ruleset.In{n} }
		case ruleset.Out:
			names, one = m, func(n string) ruleset.Match { return ruleset.Out{n} }
		case ruleset.RouteBack:
			names, one = m, func(n string) ruleset.Match { return ruleset.RouteBack{n} }
		}
		if len(names) < 2 {
			continue
		}
		var out [][]ruleset.Match
		for _, n := range names {
			for _, rest := range perDevice(matches[i+1:]) {
				out = append(out, append(append(append([]ruleset.Match{}, matches[:i]...), one(n)), rest...))
			}
		}
		return out
	}
	return [][]ruleset.Match{matches}
}

// Generation returns the number of the rules of a network namespace: the kernel counts it up with each change of
// them (nfnetlink, NFT_MSG_GETGEN).
func Generation(space int) (uint32, error) {
	c, err := netlink.Dial(unix.NETLINK_NETFILTER, &netlink.Config{NetNS: space})
	if err != nil {
		return 0, err
	}
	defer c.Close()
	list, err := c.Execute(netlink.Message{
		Header: netlink.Header{Type: unix.NFNL_SUBSYS_NFTABLES<<8 | unix.NFT_MSG_GETGEN, Flags: netlink.Request},
		Data:   []byte{unix.AF_UNSPEC, unix.NFNETLINK_V0, 0, 0},
	})
	if err != nil {
		return 0, err
	}
	for _, m := range list {
		const familyHeader = 4
		if len(m.Data) < familyHeader {
			continue
		}
		d, err := netlink.NewAttributeDecoder(m.Data[familyHeader:])
		if err != nil {
			return 0, err
		}
		d.ByteOrder = binary.BigEndian
		for d.Next() {
			if d.Type() == unix.NFTA_GEN_ID {
				return d.Uint32(), d.Err()
			}
		}
	}
	return 0, errors.New("the kernel does not report the number of its rules")
}

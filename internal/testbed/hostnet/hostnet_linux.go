package hostnet

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"slices"
	"strings"

	"github.com/google/nftables"
	"github.com/google/nftables/expr"
	"github.com/vishvananda/netlink"
)

// Undo takes changes back, the last first. What is gone already is no error.
func Undo(list []Change) error {
	var all []error
	for i := len(list) - 1; i >= 0; i-- {
		if err := list[i].undo(); err != nil {
			all = append(all, fmt.Errorf("%s: %w", list[i], err))
		}
	}
	return errors.Join(all...)
}

func (c Change) undo() error {
	switch c.Kind {
	case Link:
		l, err := netlink.LinkByName(c.Name)
		if errors.As(err, &netlink.LinkNotFoundError{}) {
			return nil
		}
		if err != nil {
			return err
		}
		return netlink.LinkDel(l)
	case Table:
		return drop(c.Name)
	case Setting:
		if others, err := tables(TablePrefix); err != nil || others {
			return err // another lab needs it, and takes it back
		}
		if err := os.WriteFile(path(c.Name), []byte(c.Was), 0); err != nil {
			return err
		}
		return drop(mark)
	}
	return fmt.Errorf("a change of a kind that is not known: %q", c.Kind)
}

// mark is a table that is there as long as labs hold a setting that was otherwise before the first of them. It has the
// machine pass on nobody else's packets. No lab's own table can have its name.
const mark = "bastion-forwarding"

// drop takes a table away; one that is not there is gone already.
func drop(table string) error {
	n, err := nftables.New()
	if err != nil {
		return err
	}
	n.DelTable(&nftables.Table{Family: nftables.TableFamilyINet, Name: table})
	if err := n.Flush(); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	return nil
}

// tables reports whether a table is on the machine whose name begins so.
func tables(prefix string) (bool, error) {
	n, err := nftables.New()
	if err != nil {
		return false, err
	}
	list, err := n.ListTablesOfFamily(nftables.TableFamilyINet)
	return slices.ContainsFunc(list, func(t *nftables.Table) bool { return strings.HasPrefix(t.Name, prefix) }), err
}

// path returns the file of a kernel setting.
func path(name string) string { return "/proc/sys/" + strings.ReplaceAll(name, ".", "/") }

// onlyLabs adds the mark, with a chain that drops what neither comes from a lab nor goes to one.
func onlyLabs(n *nftables.Conn) {
	table := n.AddTable(&nftables.Table{Family: nftables.TableFamilyINet, Name: mark})
	chain := n.AddChain(&nftables.Chain{Name: "others", Table: table, Type: nftables.ChainTypeFilter,
		Hooknum: nftables.ChainHookForward, Priority: nftables.ChainPriorityFilter})
	var rule []expr.Any
	for _, key := range []expr.MetaKey{expr.MetaKeyIIFNAME, expr.MetaKeyOIFNAME} {
		rule = append(rule, &expr.Meta{Key: key, Register: 1}, &expr.Cmp{Op: expr.CmpOpNeq, Register: 1, Data: []byte(LinkPrefix)})
	}
	n.AddRule(&nftables.Rule{Table: table, Chain: chain, Exprs: append(rule, &expr.Verdict{Kind: expr.VerdictDrop})})
}

// Forward has the machine pass packets on, once note has written down that it did not.
// Where it does so already nothing is changed; where that is for the sake of another lab,
// that is noted, so that the last of them takes it back.
func Forward(note func(Change) error) error {
	const name, on = "net.ipv4.ip_forward", "1"
	was, err := os.ReadFile(path(name))
	if err != nil {
		return err
	}
	text := strings.TrimSpace(string(was))
	held, err := tables(mark)
	if err != nil || text == on && !held {
		return err
	}
	if held {
		text = "0"
	}
	if err := note(Change{Kind: Setting, Name: name, Was: text}); err != nil {
		return err
	}
	n, err := nftables.New()
	if err != nil {
		return err
	}
	if !held {
		onlyLabs(n)
	}
	if err := n.Flush(); err != nil {
		return err
	}
	return os.WriteFile(path(name), []byte(on), 0)
}

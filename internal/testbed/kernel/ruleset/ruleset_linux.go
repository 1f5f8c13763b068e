package ruleset

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"github.com/google/nftables"
	"github.com/google/nftables/userdata"
	"github.com/mdlayher/netlink"
)

// chainText is a chain with its rules, each with the comment before it.
type chainText struct {
	name    string
	kind    nftables.ChainType // empty: it is jumped to
	hook    *nftables.ChainHook
	prio    nftables.ChainPriority
	policy  nftables.ChainPolicy
	rules   []ruleText
	loading *nftables.Chain
}

type ruleText struct {
	line    int
	text    string
	comment string
}

// text is a whole table.
type text struct {
	family nftables.TableFamily
	name   string
	defs   map[string]string
	chains []*chainText
}

// readBuffer holds the kernel's receipts for every rule of a large table, in bytes.
const readBuffer = 8 << 20

// Open gives a connection to the packet filter of a network namespace, by its file
// descriptor; 0 is the calling thread's own.
func Open(space int) (*nftables.Conn, error) {
	return nftables.New(nftables.WithNetNSFd(space), nftables.WithSockOptions(func(c *netlink.Conn) error {
		return c.SetReadBuffer(readBuffer)
	}))
}

// Load puts the table of a text in the place of the one that has its name, in the
// namespace of the connection, all or nothing.
func Load(c *nftables.Conn, data []byte) error {
	t, err := parse(string(data))
	if err != nil {
		return fmt.Errorf("ruleset: %w", err)
	}
	table := &nftables.Table{Name: t.name, Family: t.family}
	c.AddTable(table)
	c.DelTable(table)
	table = c.AddTable(table)
	known := map[string]bool{}
	for _, x := range t.chains {
		known[x.name] = true
		chain := &nftables.Chain{Name: x.name, Table: table}
		if x.kind != "" {
			chain.Type, chain.Hooknum, chain.Priority, chain.Policy = x.kind, x.hook, &x.prio, &x.policy
		}
		x.loading = c.AddChain(chain)
	}
	for _, x := range t.chains {
		for _, r := range x.rules {
			for _, w := range perDevice(words(r.text)) {
				s := &statement{words: w, defs: t.defs, chains: known, conn: c, table: table}
				if err := s.all(); err != nil {
					return fmt.Errorf("ruleset: line %d: %q: %w", r.line, r.text, err)
				}
				rule := &nftables.Rule{Table: table, Chain: x.loading, Exprs: s.exprs}
				if r.comment != "" {
					rule.UserData = userdata.AppendString(nil, userdata.TypeComment, r.comment)
				}
				c.AddRule(rule)
			}
		}
	}
	if err := c.Flush(); err != nil {
		return fmt.Errorf("ruleset: the kernel refuses it: %w", err)
	}
	return nil
}

// perDevice makes a rule for several devices one for each: a set of names would be
// listed without them by the kernel's tools, as the library stores them.
func perDevice(w []string) [][]string {
	for i := range w {
		if (w[i] != "iifname" && w[i] != "oifname") || i+1 >= len(w) || w[i+1] != "{" {
			continue
		}
		end := slices.Index(w[i:], "}") + i
		if end < i {
			break
		}
		var out [][]string
		for _, name := range w[i+2 : end] {
			one := append(append(slices.Clone(w[:i+1]), name), w[end+1:]...)
			out = append(out, perDevice(one)...)
		}
		return out
	}
	return [][]string{w}
}

// maxComment is what the kernel's tools read of a rule's comment.
const maxComment = 127

// parse reads the outline: definitions, the table, its chains and their rules.
func parse(data string) (*text, error) {
	t := &text{defs: map[string]string{}}
	var chain *chainText
	comment := ""
	for n, line := range strings.Split(data, "\n") {
		line = strings.TrimSpace(line)
		if rest, ok := strings.CutPrefix(line, "#"); ok {
			comment = strings.TrimSpace(rest)
			continue
		}
		f := words(line)
		switch {
		case len(f) == 0:
		case f[0] == "define" && len(f) == 4 && f[2] == "=":
			t.defs["$"+f[1]] = f[3]
		case f[0] == "delete" || f[0] == "table" && len(f) == 3:
		case f[0] == "table" && len(f) == 4 && f[1] == "inet" && t.name == "":
			t.family, t.name = nftables.TableFamilyINet, f[2]
		case f[0] == "chain" && len(f) == 3 && chain == nil && t.name != "":
			chain = &chainText{name: f[1]}
			t.chains = append(t.chains, chain)
		case f[0] == "}" && chain != nil:
			chain = nil
		case f[0] == "}":
		case f[0] == "type" && chain != nil && strings.Contains(line, " hook "):
			if err := chain.base(line); err != nil {
				return nil, fmt.Errorf("line %d: %w", n+1, err)
			}
		case chain != nil:
			chain.rules = append(chain.rules, ruleText{n + 1, line, comment[:min(len(comment), maxComment)]})
			continue // the comment is of the rules behind it
		default:
			return nil, fmt.Errorf("line %d: %q is not known", n+1, line)
		}
		if f := strings.Fields(line); len(f) > 0 && chain == nil || len(f) > 0 && f[0] == "chain" {
			comment = ""
		}
	}
	if t.name == "" {
		return nil, fmt.Errorf("it holds no table of the family inet")
	}
	return t, nil
}

var hooks = map[string]*nftables.ChainHook{"prerouting": nftables.ChainHookPrerouting, "input": nftables.ChainHookInput,
	"forward": nftables.ChainHookForward, "output": nftables.ChainHookOutput, "postrouting": nftables.ChainHookPostrouting}

// base reads "type filter hook input priority 0; policy drop;".
func (c *chainText) base(line string) error {
	f := strings.Fields(strings.ReplaceAll(line, ";", " "))
	if len(f) != 8 || f[4] != "priority" || f[6] != "policy" || hooks[f[3]] == nil || f[1] != "filter" && f[1] != "nat" {
		return fmt.Errorf("%q is no hook", line)
	}
	n, err := strconv.ParseInt(f[5], 10, 32)
	if err != nil {
		return fmt.Errorf("%q is no priority", f[5])
	}
	c.kind, c.hook, c.prio, c.policy = nftables.ChainType(f[1]), hooks[f[3]], nftables.ChainPriority(n), nftables.ChainPolicyAccept
	if f[7] == "drop" {
		c.policy = nftables.ChainPolicyDrop
	}
	return nil
}

// words splits a line at spaces; a quoted text is one word, and a comment ends it.
func words(line string) []string {
	var out []string
	for line = strings.TrimSpace(line); line != ""; line = strings.TrimSpace(line) {
		switch {
		case line[0] == '#':
			return out
		case line[0] == '"':
			end := strings.IndexByte(line[1:], '"')
			if end < 0 {
				return append(out, line)
			}
			out, line = append(out, line[1:end+1]), line[end+2:]
			continue
		}
		end := strings.IndexAny(line, " \t,")
		switch {
		case end < 0:
			return append(out, line)
		case end == 0: // a comma
			line = line[1:]
			continue
		}
		out, line = append(out, line[:end]), line[end:]
	}
	return out
}

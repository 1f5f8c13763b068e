package plan

import (
	"net/netip"
	"slices"

	"github.com/gaissmai/bart"
)

// minIndexed is the number of rules from which on an index pays.
const minIndexed = 16

// ruleIndex finds the rules that can match a packet by its addresses, so that a filter of many rules
// is not read whole for each packet. It is of the rules as they were planned: a filter that was
// changed since is read from its first rule on.
type ruleIndex struct {
	of       *Rule // the first of the rules that it is of
	len      int
	from, to partyIndex
}

// partyIndex is the numbers of rules, ascending, by one of their parties.
type partyIndex struct {
	named bart.Table[[]int32] // by each prefix that the party names
	any   []int32             // whose party is something else than prefixes too
}

func indexRules(rules []Rule) *ruleIndex {
	if len(rules) < minIndexed {
		return nil
	}
	x := &ruleIndex{of: &rules[0], len: len(rules)}
	for i := range rules {
		x.from.add(int32(i), rules[i].From)
		x.to.add(int32(i), rules[i].To)
	}
	return x
}

func (x *partyIndex) add(rule int32, party []Match) {
	for _, m := range party {
		if m.Any || m.Outside || m.Own {
			x.any = append(x.any, rule)
			return // found whatever the address is
		}
	}
	for _, m := range party {
		for _, p := range m.Prefixes {
			x.named.Modify(p.Masked(), func(list []int32, _ bool) ([]int32, bool) {
				if n := len(list); n > 0 && list[n-1] == rule {
					return list, false
				}
				return append(list, rule), false
			})
		}
	}
}

// lists returns the lists of rules whose party may be an address, and how many rules they are.
func (x *partyIndex) lists(a netip.Addr, into [][]int32) (out [][]int32, rules int) {
	out = append(into, x.any)
	rules = len(x.any)
	if a.IsValid() {
		for _, list := range x.named.Supernets(netip.PrefixFrom(a, a.BitLen())) {
			out = append(out, list)
			rules += len(list)
		}
	}
	return out, rules
}

// candidates calls yield with the rules that can match, in their order, until it returns false.
func (x *ruleIndex) candidates(source, destination netip.Addr, yield func(rule int32) bool) {
	var a, b [8][]int32
	lists, n := x.from.lists(source, a[:0])
	if others, m := x.to.lists(destination, b[:0]); m < n {
		lists = others
	}
	for {
		first := -1
		lists = slices.DeleteFunc(lists, func(l []int32) bool { return len(l) == 0 })
		for i, l := range lists {
			if first < 0 || l[0] < lists[first][0] {
				first = i
			}
		}
		if first < 0 || !yield(lists[first][0]) {
			return
		}
		lists[first] = lists[first][1:]
	}
}

// fits reports whether the index is of these rules.
func (x *ruleIndex) fits(rules []Rule) bool {
	return x != nil && len(rules) == x.len && &rules[0] == x.of
}

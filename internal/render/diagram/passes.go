package diagram

import (
	"fmt"
	"slices"
	"strings"

	"openbastion/internal/model/plan"
	"openbastion/internal/verify/reachability"
)

// maxPasses is how many lines an entry bears of what passes from it, and how
// many services one of them names.
const maxPasses = 4

// passes writes below each guest what passes from it, and to whom; to guests that
// the same passes in one line.
func (t *tree) passes(cells []reachability.Cell) {
	from := map[string][]reachability.Cell{}
	for _, c := range cells {
		from[c.From] = append(from[c.From], c)
	}
	if len(from) == 0 {
		return
	}
	for _, b := range t.blocks {
		for _, e := range b.entries {
			e.lines = append(e.lines, passing(e.guests, from)...)
		}
	}
}

// passing returns the lines for guests that share an entry: those of the first when
// the same passes from all.
func passing(guests []*plan.Machine, from map[string][]reachability.Cell) []string {
	lines := reached(from[guests[0].Name], guests)
	for _, g := range guests[1:] {
		if !slices.Equal(lines, reached(from[g.Name], guests)) {
			return []string{"→ differs by guest"}
		}
	}
	return lines
}

// reached returns a line for each set of services that passes, to whom it does; what
// passes between those who share an entry is left out.
func reached(cells []reachability.Cell, beside []*plan.Machine) []string {
	var order []string
	to := map[string][]string{}
	for _, c := range cells {
		if len(c.Services) == 0 ||
			len(beside) > 1 && slices.ContainsFunc(beside, func(g *plan.Machine) bool { return g.Name == c.To }) {
			continue
		}
		words := several(c.Services, maxPasses)
		if to[words] == nil {
			order = append(order, words)
		}
		to[words] = append(to[words], c.To)
	}
	if len(order) == 0 {
		return []string{"→ none"}
	}
	var out []string
	for i, words := range order {
		if i == maxPasses-1 && len(order) > maxPasses {
			return append(out, fmt.Sprintf("→ and %d ways more", len(order)-i))
		}
		out = append(out, "→ "+several(to[words], maxPasses)+": "+strings.TrimSpace(words))
	}
	return out
}

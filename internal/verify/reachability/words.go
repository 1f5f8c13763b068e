package reachability

import (
	"encoding/binary"
	"fmt"
	"slices"
	"strings"

	"openbastion/internal/filter/packetset"
)

// Words returns which packets are in sets, one set to a line.
func (m *Model) Words(sets []packetset.Packets) []string {
	var out []string
	for i, s := range merged(sets) {
		if i == maxSets {
			out = append(out, fmt.Sprintf("and sets more, of %d in all", len(sets)))
			break
		}
		from, to := m.addressWords(s.Source), m.addressWords(s.Destination)
		line := serviceWords(s.Service) + " from " + from + " to " + to
		if !slices.Contains(out, line) {
			out = append(out, line)
		}
	}
	return out
}

// merged puts sets together that differ in one dimension only.
func merged(sets []packetset.Packets) []packetset.Packets {
	out := slices.Clone(sets)
	for dimension := range 3 {
		at := map[string]int{}
		var next []packetset.Packets
		for _, s := range out {
			key := keyOf(s.Source, s.Destination)
			switch dimension {
			case 0:
				key = keyOf(s.Source, s.Service)
			case 1:
				key = keyOf(s.Destination, s.Service)
			}
			i, ok := at[key]
			if !ok {
				at[key] = len(next)
				next = append(next, s)
				continue
			}
			n := &next[i]
			n.Source, n.Destination, n.Service = n.Source.Union(
				s.Source,
			), n.Destination.Union(
				s.Destination,
			), n.Service.Union(
				s.Service,
			)
		}
		out = next
	}
	return out
}

// keyOf names two lines, each after how many spans it has.
func keyOf(a, b packetset.Line) string {
	key := make([]byte, 0, 16*(len(a)+len(b))+16)
	for _, l := range []packetset.Line{a, b} {
		key = binary.AppendUvarint(key, uint64(len(l)))
		for _, s := range l {
			key = binary.AppendUvarint(binary.AppendUvarint(key, s.From), s.To)
		}
	}
	return string(key)
}

func serviceWords(l packetset.Line) string {
	list, others := packetset.Listed(l)
	if rest, more := packetset.Listed(packetset.AllServices.Minus(l)); !more && len(rest) > 0 && len(rest) < len(list) {
		var but []string
		for _, s := range rest {
			but = append(but, s.String())
		}
		return "any but " + strings.Join(but, ", ")
	}
	var words []string
	for _, s := range list {
		words = append(words, s.String())
	}
	if others {
		words = append(words, "other protocols")
	}
	return strings.Join(words, ", ")
}

// maxRuns is how many runs of addresses a line names.
const maxRuns = 6

// addressWords returns which addresses are in a set: segments by their names.
func (m *Model) addressWords(l packetset.Line) string {
	if m.space.All().Within(l) || m.space.IPv4().Within(l) && !l.Meets(m.space.IPv6()) {
		return "any address"
	}
	var words []string
	for _, s := range m.plan.Segments {
		line := m.lines[s]
		if !line.Meets(l) {
			continue
		}
		lacks := line.Minus(l)
		if len(line) == 0 || len(m.of[s].segments) > 1 || len(lacks) > 2 || !lacks.Within(m.busy()) {
			continue
		}
		name := s.Name
		for i, r := range m.space.Runs(lacks) {
			if i == 0 {
				name += " but "
			} else {
				name += " and "
			}
			name += r[0].String()
		}
		words, l = append(words, name), l.Minus(line)
	}
	if four := m.elsewhere(); four.Within(l) {
		words, l = append(words, "outside the lab"), l.Minus(four)
	}
	if six := m.space.IPv6(); six.Within(l) {
		words, l = append(words, "any IPv6 address"), l.Minus(six)
	}
	runs := m.space.Runs(l)
	for i, r := range runs {
		if i == maxRuns {
			words = append(words, fmt.Sprintf("%d runs more", len(runs)-i))
			break
		}
		if r[0] == r[1] {
			words = append(words, r[0].String())
		} else {
			words = append(words, r[0].String()+"-"+r[1].String())
		}
	}
	return strings.Join(words, ", ")
}

// elsewhere returns the IPv4 addresses of no segment.
func (m *Model) elsewhere() packetset.Line {
	if m.beside == nil {
		var lines []packetset.Line
		for _, s := range m.plan.Segments {
			lines = append(lines, m.lines[s])
		}
		m.beside = m.space.IPv4().Minus(packetset.Join(lines...))
	}
	return m.beside
}

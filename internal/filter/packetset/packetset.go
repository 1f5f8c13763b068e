// Package packetset does arithmetic with sets of packets: products of a set of
// sources, a set of destinations and a set of services. It answers exactly
// what pairs of rules cannot: whether several rules together cover another.
package packetset

import (
	"slices"

	"openbastion/internal/model/lab"
)

// Span is a run of numbers, both ends included.
type Span struct{ From, To uint64 }

// Line is a set of numbers: spans in order that neither touch nor overlap.
type Line []Span

// Services lie on a line of their own: ICMP, then the TCP ports, the UDP
// ports, and one place for every other protocol.
const (
	tcpBase = 1 << 16
	udpBase = 2 << 16
	other   = 3 << 16
)

// AllServices is every service.
var AllServices = Line{{0, 0}, {tcpBase, tcpBase + 65535}, {udpBase, udpBase + 65535}, {other, other}}

// Service returns the place of a service.
func Service(s lab.Service) Line {
	low, high := uint64(s.From), uint64(s.To)
	if s.AllPorts() {
		low, high = 0, 65535
	}
	switch s.Proto {
	case lab.ICMP:
		return Line{{0, 0}}
	case lab.TCP:
		return Line{{tcpBase + low, tcpBase + high}}
	case lab.UDP:
		return Line{{udpBase + low, udpBase + high}}
	}
	return AllServices
}

// Services returns the places of several.
func Services(list []lab.Service) Line {
	var l Line
	for _, s := range list {
		l = append(l, Service(s)...)
	}
	return l.normal()
}

func (l Line) normal() Line {
	if len(l) < 2 {
		return l
	}
	slices.SortFunc(l, func(a, b Span) int {
		switch {
		case a.From < b.From:
			return -1
		case a.From > b.From:
			return 1
		}
		return 0
	})
	out := l[:1]
	for _, s := range l[1:] {
		if last := &out[len(out)-1]; s.From <= last.To+1 {
			last.To = max(last.To, s.To)
		} else {
			out = append(out, s)
		}
	}
	return out
}

// Union returns what is in either.
func (l Line) Union(m Line) Line { return append(slices.Clone(l), m...).normal() }

// Meets reports whether the two have anything in common.
func (l Line) Meets(m Line) bool {
	for i, j := 0, 0; i < len(l) && j < len(m); {
		switch {
		case l[i].To < m[j].From:
			i++
		case m[j].To < l[i].From:
			j++
		default:
			return true
		}
	}
	return false
}

// And returns what is in both.
func (l Line) And(m Line) Line {
	var out Line
	for i, j := 0, 0; i < len(l) && j < len(m); {
		if from, to := max(l[i].From, m[j].From), min(l[i].To, m[j].To); from <= to {
			out = append(out, Span{from, to})
		}
		if l[i].To < m[j].To {
			i++
		} else {
			j++
		}
	}
	return out
}

// Minus returns what is in l and not in m.
func (l Line) Minus(m Line) Line {
	var out Line
	j := 0
	for _, s := range l {
		for j < len(m) && m[j].To < s.From {
			j++
		}
		from := s.From
		for k := j; k < len(m) && m[k].From <= s.To; k++ {
			if m[k].From > from {
				out = append(out, Span{from, m[k].From - 1})
			}
			from = max(from, m[k].To+1)
		}
		if from <= s.To {
			out = append(out, Span{from, s.To})
		}
	}
	return out
}

// Packets is every packet with a source, a destination and a service in the
// three lines.
type Packets struct{ Source, Destination, Service Line }

// Empty reports whether there is no such packet.
func (p Packets) Empty() bool {
	return len(p.Source) == 0 || len(p.Destination) == 0 || len(p.Service) == 0
}

// Meets reports whether the two have a packet in common.
func (p Packets) Meets(q Packets) bool {
	return p.Service.Meets(q.Service) && p.Source.Meets(q.Source) && p.Destination.Meets(q.Destination)
}

// And returns the packets in both.
func (p Packets) And(q Packets) Packets {
	return Packets{p.Source.And(q.Source), p.Destination.And(q.Destination), p.Service.And(q.Service)}
}

// Minus returns the packets of p that are not in q, in at most three parts.
func (p Packets) Minus(q Packets) []Packets {
	if !p.Meets(q) {
		return []Packets{p}
	}
	both := p.And(q)
	var out []Packets
	for _, part := range []Packets{
		{p.Source.Minus(q.Source), p.Destination, p.Service},
		{both.Source, p.Destination.Minus(q.Destination), p.Service},
		{both.Source, both.Destination, p.Service.Minus(q.Service)},
	} {
		if !part.Empty() {
			out = append(out, part)
		}
	}
	return out
}

// Without takes a set away from several, which may fall into more parts.
func Without(parts []Packets, q Packets) []Packets {
	var left []Packets
	for _, p := range parts {
		left = append(left, p.Minus(q)...)
	}
	return left
}

// maxParts bounds how many parts a subtraction may fall into; beyond it a
// question has no answer.
const maxParts = 4096

// Covered takes the sets of others away from p, in order, until nothing is
// left. It gives the places of those that took something, and whether nothing
// is left; ok is false when p fell into too many parts to tell.
func (p Packets) Covered(others []Packets) (by []int, covered, ok bool) {
	left := []Packets{p}
	for i, q := range others {
		took := slices.ContainsFunc(left, q.Meets)
		if took {
			by = append(by, i)
		}
		if left = Without(left, q); len(left) == 0 {
			return by, true, true
		}
		if len(left) > maxParts {
			return nil, false, false
		}
	}
	return by, false, true
}

package class

import (
	"cmp"
	"math"

	"openbastion/internal/model/lab"
)

// Need is what one bench takes.
type Need struct {
	CPUs   int
	Memory lab.Bytes
}

// Host is one machine and what it has for benches, sharing of processors reckoned in.
type Host struct {
	Name   string
	CPUs   int
	Memory lab.Bytes
}

// Fits returns how many benches a host carries.
func (h Host) Fits(n Need) int {
	most := math.MaxInt
	if n.CPUs > 0 {
		most = h.CPUs / n.CPUs
	}
	if n.Memory > 0 {
		most = min(most, int(h.Memory/n.Memory))
	}
	return most
}

// Place places benches, given in order, on hosts. What kept says of a bench stays, where
// that host is among the hosts and has room; the others go where most room is left by
// share, neighbours together. A bench that fits nowhere is not among those placed.
func Place(benches []string, need Need, hosts []Host, kept map[string]string) map[string]string {
	room, fits := map[string]int{}, make([]int, len(hosts))
	for i, h := range hosts {
		fits[i] = h.Fits(need)
		room[h.Name] = fits[i]
	}
	placed := map[string]string{}
	var open []string
	for _, b := range benches {
		if on, ok := kept[b]; ok && room[on] > 0 {
			placed[b] = on
			room[on]--
			continue
		}
		open = append(open, b)
	}
	for i, n := range shares(len(open), hosts, fits, room) {
		for _, b := range open[:n] {
			placed[b] = hosts[i].Name
		}
		open = open[n:]
	}
	return placed
}

// shares returns how many more benches each host takes of n: one by one, each goes to the
// host that is emptiest by share then, the earlier of two alike.
func shares(n int, hosts []Host, fits []int, room map[string]int) []int {
	out := make([]int, len(hosts))
	for range n {
		best := -1
		for i, h := range hosts {
			if room[h.Name] > 0 &&
				(best < 0 || emptier(room[h.Name], fits[i], room[hosts[best].Name], fits[best]) > 0) {
				best = i
			}
		}
		if best < 0 {
			return out
		}
		out[best]++
		room[hosts[best].Name]--
	}
	return out
}

// emptier compares the shares a/b and c/d without rounding.
func emptier(a, b, c, d int) int {
	return cmp.Compare(float64(a)*float64(d), float64(c)*float64(b))
}

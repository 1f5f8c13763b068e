package lab

import "slices"

// Nearest returns the known word closest to word, or "" when none is close: at
// most a third of the letters, and no more than three, may differ.
func Nearest(word string, known []string) string {
	if len(word) > 64 {
		return ""
	}
	best, score := "", min(3, (len(word)+2)/3)+1
	for _, k := range known {
		if len(k) > 64 || abs(len(k)-len(word)) >= score {
			continue
		}
		if d := distance(word, k); d < score {
			best, score = k, d
		}
	}
	return best
}

func didYouMean(word string, known ...string) string {
	if n := meaning(word, known); n != "" && n != word {
		return ` (did you mean "` + n + `"?)`
	}
	return ""
}

func abs(n int) int {
	if n < 0 {
		return -n
	}
	return n
}

// distance counts the insertions, deletions, changes and swaps of neighbouring
// letters that turn a into b (optimal string alignment).
func distance(a, b string) int {
	before, last := make([]int, len(b)+1), make([]int, len(b)+1)
	now := make([]int, len(b)+1)
	for j := range last {
		last[j] = j
	}
	for i := 1; i <= len(a); i++ {
		now[0] = i
		for j := 1; j <= len(b); j++ {
			cost := 1
			if a[i-1] == b[j-1] {
				cost = 0
			}
			now[j] = min(last[j]+1, now[j-1]+1, last[j-1]+cost)
			if i > 1 && j > 1 && a[i-1] == b[j-2] && a[i-2] == b[j-1] {
				now[j] = min(now[j], before[j-2]+1)
			}
		}
		before, last, now = last, now, before
	}
	return last[len(b)]
}

// closest is nearest over the keys of a map, in a stable order.
func closest[V any](word string, known map[string]V) string {
	names := make([]string, 0, len(known))
	for n := range known {
		names = append(names, n)
	}
	slices.Sort(names)
	return Nearest(word, names)
}

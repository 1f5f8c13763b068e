package class

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"
	"pgregory.net/rapid"

	"openbastion/internal/model/lab"
)

// Whatever the hosts and whatever was there before: nothing is promised twice, whoever can
// stay stays, and nobody is left out while there is room.
func TestPlace(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		need := Need{
			rapid.IntRange(0, 4).Draw(t, "processors"),
			lab.Bytes(rapid.IntRange(1, 4).Draw(t, "memory")) * lab.GiB,
		}
		var hosts []Host
		total := 0
		for i := range rapid.IntRange(1, 8).Draw(t, "hosts") {
			h := Host{fmt.Sprint("host-", i), rapid.IntRange(0, 40).Draw(t, "its processors"),
				lab.Bytes(rapid.IntRange(0, 40).Draw(t, "its memory")) * lab.GiB}
			hosts = append(hosts, h)
			total += h.Fits(need)
		}
		var benches []string
		kept := map[string]string{}
		for i := range rapid.IntRange(0, 60).Draw(t, "benches") {
			b := fmt.Sprint("bench-", i)
			benches = append(benches, b)
			if on := rapid.IntRange(-1, len(hosts)).Draw(t, "was on"); on >= 0 { // the last is a host that is gone
				kept[b] = fmt.Sprint("host-", on)
			}
		}
		placed := Place(benches, need, hosts, kept)
		assert.Len(t, placed, min(total, len(benches)))
		carried, stayed := map[string]int{}, map[string]int{}
		for b, on := range placed {
			carried[on]++
			if kept[b] == on {
				stayed[on]++
			}
		}
		wished := map[string]int{}
		for _, on := range kept {
			wished[on]++
		}
		for _, h := range hosts {
			assert.LessOrEqual(t, carried[h.Name]*need.CPUs, h.CPUs)
			assert.LessOrEqual(t, lab.Bytes(carried[h.Name])*need.Memory, h.Memory)
			assert.GreaterOrEqual(t, stayed[h.Name], min(wished[h.Name], h.Fits(need)))
		}
		assert.Equal(t, placed, Place(benches, need, hosts, placed), "placed again, all stay")
	})
}

// Hosts of unlike size are filled alike, and neighbours are on one host.
func ExamplePlace() {
	var benches []string
	for i := range 9 {
		benches = append(benches, fmt.Sprint("bench-", i+1))
	}
	placed := Place(benches, Need{2, 4 * lab.GiB}, []Host{{"kiln", 64, 64 * lab.GiB}, {"loft", 32, 32 * lab.GiB}}, nil)
	for _, b := range benches {
		fmt.Println(b, placed[b])
	}
	// Output:
	// bench-1 kiln
	// bench-2 kiln
	// bench-3 kiln
	// bench-4 kiln
	// bench-5 kiln
	// bench-6 kiln
	// bench-7 loft
	// bench-8 loft
	// bench-9 loft
}

func BenchmarkPlace(b *testing.B) {
	var benches []string
	for i := range 1000 {
		benches = append(benches, fmt.Sprintf("bench-%04d", i))
	}
	var hosts []Host
	for i := range 40 {
		hosts = append(hosts, Host{fmt.Sprint("host-", i), 64, lab.Bytes(100+i) * lab.GiB})
	}
	for b.Loop() {
		Place(benches, Need{2, 2 * lab.GiB}, hosts, nil)
	}
}

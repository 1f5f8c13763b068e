package sampling

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"
)

// Within as many days as every n-th says, each case comes up, each once.
func TestEachCaseComesUp(t *testing.T) {
	t.Setenv("TEST_ALL", "")
	for _, size := range []int{1, 3, 7, 40} {
		list := make([]int, size)
		for i := range list {
			list[i] = i
		}
		seen := map[int]int{}
		for day := range min(7, size) {
			t.Setenv("TEST_DAY", fmt.Sprintf("2026-11-%02d", day+1))
			for _, x := range Some(t, list, 7) {
				seen[x]++
			}
		}
		assert.Len(t, seen, size)
		for x, n := range seen {
			assert.Equal(t, 1, n, "case %d of %d", x, size)
		}
	}
	t.Setenv("TEST_ALL", "1")
	assert.Len(t, Some(t, []int{1, 2, 3}, 2), 3)
}

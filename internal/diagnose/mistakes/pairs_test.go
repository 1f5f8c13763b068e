package mistakes_test

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"

	"openbastion/internal/diagnose/mistakes"
	"openbastion/internal/sampling"
)

// Any two mistakes can be made together, in either order: what the first took away, the second does
// not find, and nothing else happens.
func TestPairsCanBeMade(t *testing.T) {
	made := 0
	for name, p := range plans(t) {
		list := mistakes.All(p)
		if len(list) > 200 {
			list = list[:200]
		}
		for i, first := range list {
			for j, second := range list {
				if !sampling.Turn(i*7+j, 40) {
					continue
				}
				func() {
					defer func() {
						if why := recover(); why != nil {
							t.Errorf("%s: %s, then %s: %s", name, first.ID(), second.ID(), fmt.Sprint(why))
						}
					}()
					_, _ = mistakes.Plant(p, first, second)
					made++
				}()
			}
		}
	}
	assert.Greater(t, made, 1000)
}

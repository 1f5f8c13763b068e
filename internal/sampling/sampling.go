// Package sampling picks which of many cases a run of the tests tries. A usual run takes a few of
// each kind, other ones every day, so that all of them come up within days; TEST_ALL=1, which
// `make test-all` sets, tries all. What was picked is in the log, and TEST_DAY repeats it.
package sampling

import (
	"os"
	"testing"
	"time"
)

// All reports whether every case is to be tried.
func All() bool { return os.Getenv("TEST_ALL") != "" }

// Day returns the number of the day whose cases are tried: of TEST_DAY (2026-11-20), else of today.
func Day() int {
	at, err := time.Parse(time.DateOnly, os.Getenv("TEST_DAY"))
	if err != nil {
		at = time.Now().UTC()
	}
	return int(at.Unix() / (24 * 60 * 60))
}

// Turn reports whether it is the day's turn of case i among every n-th.
func Turn(i, n int) bool { return All() || (i+Day())%n == 0 }

// Some returns every n-th of a list, beginning with another one each day; at least one, where there
// is any. Cases that are alike should stand next to each other, so that each kind is among them.
func Some[T any](t testing.TB, list []T, n int) []T {
	if All() || len(list) == 0 {
		return list
	}
	var out []T
	for i := Day() % min(n, len(list)); i < len(list); i += n {
		out = append(out, list[i])
	}
	t.Logf(
		"%d of %d cases (TEST_DAY=%s)",
		len(out),
		len(list),
		time.Unix(int64(Day())*24*60*60, 0).UTC().Format(time.DateOnly),
	)
	return out
}

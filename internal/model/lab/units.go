package lab

import (
	"fmt"
	"strconv"
	"strings"
	"time"
)

// Bytes is an amount of memory or disk.
type Bytes int64

// The binary units (IEC 80000-13).
const (
	KiB Bytes = 1 << 10
	MiB Bytes = 1 << 20
	GiB Bytes = 1 << 30
	TiB Bytes = 1 << 40
)

func (b Bytes) String() string {
	for _, u := range []struct {
		size Bytes
		name string
	}{{TiB, "TiB"}, {GiB, "GiB"}, {MiB, "MiB"}, {KiB, "KiB"}} {
		if b >= u.size && b%u.size == 0 {
			return strconv.FormatInt(int64(b/u.size), 10) + u.name
		}
		if b >= u.size && b%(u.size/4) == 0 {
			return strconv.FormatFloat(float64(b)/float64(u.size), 'f', -1, 64) + u.name
		}
	}
	for _, u := range []struct { // powers of 1000, as the user may have written them
		size Bytes
		name string
	}{{1e12, "TB"}, {1e9, "GB"}, {1e6, "MB"}, {1e3, "KB"}} {
		if b >= u.size && b%u.size == 0 {
			return strconv.FormatInt(int64(b/u.size), 10) + u.name
		}
	}
	return strconv.FormatInt(int64(b), 10) + "B"
}

// MarshalText returns String, for JSON.
func (b Bytes) MarshalText() ([]byte, error) { return []byte(b.String()), nil }

// UnmarshalText reads what MarshalText gives, and whatever ParseBytes reads.
func (b *Bytes) UnmarshalText(text []byte) (err error) {
	if string(text) == Bytes(0).String() { // nothing was said
		*b = 0
		return nil
	}
	*b, err = ParseBytes(string(text))
	return err
}

// ParseBytes reads a number with a unit: KiB, MiB, GiB, TiB, the short K, M, G
// and T for the same, KB, MB, GB and TB for powers of 1000, and B. At most 1024 TiB.
func ParseBytes(text string) (Bytes, error) {
	t := strings.ReplaceAll(strings.TrimSpace(text), " ", "")
	i := strings.IndexFunc(t, func(r rune) bool { return (r < '0' || r > '9') && r != '.' })
	if i <= 0 {
		if i < 0 && t != "" {
			return 0, fmt.Errorf("%q has no unit; write %sMiB or %sGiB", text, t, t)
		}
		return 0, fmt.Errorf("%q is not a size; write one such as 2GiB", text)
	}
	n, err := strconv.ParseFloat(t[:i], 64)
	if err != nil {
		return 0, fmt.Errorf("%q is not a size; write one such as 2GiB", text)
	}
	var unit float64
	switch strings.ToLower(t[i:]) {
	case "b":
		unit = 1
	case "kib", "k", "ki":
		unit = 1 << 10
	case "mib", "m", "mi":
		unit = 1 << 20
	case "gib", "g", "gi":
		unit = 1 << 30
	case "tib", "t", "ti":
		unit = 1 << 40
	case "kb":
		unit = 1e3
	case "mb":
		unit = 1e6
	case "gb":
		unit = 1e9
	case "tb":
		unit = 1e12
	default:
		return 0, fmt.Errorf("%q is not a unit; write KiB, MiB, GiB or TiB", t[i:])
	}
	v := n * unit
	if v < 1 || v > 1<<50 {
		return 0, fmt.Errorf("%q is out of bounds; an amount is between 1 byte and 1024TiB", text)
	}
	return Bytes(v), nil
}

// parseSpan reads a lease time: a Go duration, or days as in 2d. From a minute
// to a year.
func parseSpan(text string) (time.Duration, error) {
	t := strings.TrimSpace(text)
	var d time.Duration
	if days, ok := strings.CutSuffix(t, "d"); ok {
		n, err := strconv.Atoi(days)
		if err != nil || n < 0 || n > 366 {
			return 0, fmt.Errorf("%q is not a duration; write one such as 8h or 2d", text)
		}
		d = time.Duration(n) * 24 * time.Hour
	} else {
		var err error
		if d, err = time.ParseDuration(t); err != nil {
			return 0, fmt.Errorf("%q is not a duration; write one such as 8h, 30m or 2d", text)
		}
	}
	if d < time.Minute || d > 366*24*time.Hour {
		return 0, fmt.Errorf("%q is out of range; a lease lasts from 1m to 366d", text)
	}
	return d, nil
}

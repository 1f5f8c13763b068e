package image

import (
	"bytes"
	"fmt"
	"io"
	"math/rand/v2"
	"strings"
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A split file is looked at as the whole that it is, whichever part is named, and
// a missing part is told.
func TestParts(t *testing.T) {
	data := zipped(t, bytes.NewReader(fixedVHD(300_000)))
	for _, form := range []string{"gate.vhd.gz.%03d", "gate.vhd.gz.part%d"} {
		dir := fstest.MapFS{"other.vhd.001": {Data: []byte("x")}}
		const parts = 4
		each := len(data)/parts + 1
		for k := range parts {
			dir[fmt.Sprintf(form, k+1)] = &fstest.MapFile{Data: data[k*each : min((k+1)*each, len(data))]}
		}
		look := func(k int) *Content {
			name := fmt.Sprintf(form, k)
			return Inspect(name, bytes.NewReader(dir[name].Data), int64(len(dir[name].Data)), Options{Siblings: dir})
		}
		for k := range parts {
			c := look(k + 1)
			assert.Equal(t, Kind("gzip"), c.Kind, form)
			assert.Empty(t, c.Faults)
			assert.EqualValues(t, len(data), c.Size)
			assert.Len(t, c.Companions, parts)
			assert.Contains(t, c.Next, "> gate.vhd.gz")
			_, err := c.Pick("")
			assert.ErrorContains(t, err, "join them first")
		}
		delete(dir, fmt.Sprintf(form, 2))
		assert.Contains(
			t,
			strings.Join(look(1).Faults, " "),
			fmt.Sprintf(form, 2)+", a part of it, is missing from its folder",
		)
	}
	alone := Inspect(
		"notes.7",
		strings.NewReader("words"),
		5,
		Options{Siblings: fstest.MapFS{"notes.7": {Data: []byte("words")}}},
	)
	assert.Empty(t, alone.Companions)
}

// Parts read as one give what the whole gives, anywhere.
func TestJoined(t *testing.T) {
	r := rand.New(rand.NewPCG(3, 4))
	whole := make([]byte, 5000)
	for k := range whole {
		whole[k] = byte(r.Uint32())
	}
	var j joined
	for at := 0; at < len(whole); {
		n := min(r.IntN(900), len(whole)-at)
		j = append(j, part{size: int64(n), r: bytes.NewReader(whole[at : at+n])})
		at += n
	}
	for range 500 {
		at, n := r.IntN(len(whole)), r.IntN(3000)
		got := make([]byte, n)
		m, err := j.ReadAt(got, int64(at))
		want := whole[at:min(at+n, len(whole))]
		require.Equal(t, len(want), m)
		require.True(t, bytes.Equal(want, got[:m]))
		if m < n {
			require.ErrorIs(t, err, io.EOF)
		} else {
			require.NoError(t, err)
		}
	}
}

package iso

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

// What is written is read back: label, names, and every byte where the folder
// says that it lies.
func TestWrite(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		var files []File
		for i := range rapid.IntRange(0, 9).Draw(t, "files") {
			files = append(files, File{fmt.Sprintf("%d-%s", i, rapid.StringMatching(`[a-z.-]{0,20}`).Draw(t, "name")),
				rapid.SliceOfN(rapid.Byte(), 0, 5000).Draw(t, "data")})
		}
		label := rapid.StringMatching(`[a-z]{1,16}`).Draw(t, "label")
		image, err := Write(label, files)
		if err != nil {
			require.ErrorContains(t, err, "another file is called")
			return
		}
		got, err := Read(bytes.NewReader(image), int64(len(image)))
		require.NoError(t, err)
		assert.Equal(t, label, got.Volume)
		assert.True(t, got.Joliet)
		assert.Empty(t, got.Partial)
		assert.Equal(t, int64(len(image)), got.Size)
		root := image[jolietRoot*Sector:]
		n := int(root[0])
		n += int(root[n])
		for _, f := range files {
			r := root[n:]
			n += int(r[0])
			assert.Equal(t, ucs2(f.Name), r[33:33+int(r[32])])
			at, size := binary.LittleEndian.Uint32(r[2:]), binary.BigEndian.Uint32(r[14:])
			assert.Equal(t, at, binary.BigEndian.Uint32(r[6:]))
			assert.True(t, bytes.Equal(f.Data, image[at*Sector:][:size]))
		}
		assert.Zero(t, root[n])
	})
	for _, name := range []string{"", "a/b", strings.Repeat("x", 65), "a*"} {
		_, err := Write("cidata", []File{{name, nil}})
		assert.Error(t, err, name)
	}
	var many []File
	for i := range 90 {
		many = append(many, File{fmt.Sprintf("%03d", i), nil})
	}
	_, err := Write("cidata", many)
	assert.ErrorContains(t, err, "too many for one folder")
}

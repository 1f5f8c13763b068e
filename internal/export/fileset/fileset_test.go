package fileset

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"openbastion/internal/atomicfile"
)

// Files are written whole or not at all, and none that is there is lost.
func TestWrite(t *testing.T) {
	dir := filepath.Join(t.TempDir(), "new", "folder")
	files := []File{{"a/one", []byte("1")}, {"two", []byte("2")}}
	require.NoError(t, Write(dir, files, false))
	for _, f := range files {
		data, err := os.ReadFile(filepath.Join(dir, f.Name))
		require.NoError(t, err)
		assert.Equal(t, f.Data, data)
	}
	err := Write(dir, []File{{"three", nil}, {"two", []byte("other")}}, false)
	require.ErrorIs(t, err, atomicfile.ErrThere)
	assert.NoFileExists(t, filepath.Join(dir, "three"))
	require.NoError(t, Write(dir, []File{{"two", []byte("other")}}, true))
	assert.ErrorContains(t, Write(dir, []File{{"../out", nil}}, true), "points outside its folder")

	// One that cannot be written leaves nothing of the others behind.
	require.NoError(t, os.WriteFile(filepath.Join(dir, "file"), nil, 0o600))
	require.Error(t, Write(dir, []File{{"fresh", []byte("x")}, {"file/below", nil}}, false))
	list, err := os.ReadDir(dir)
	require.NoError(t, err)
	var names []string
	for _, e := range list {
		names = append(names, e.Name())
	}
	assert.Equal(t, []string{"a", "file", "two"}, names)

	// Nor a folder that was made for them; and what was read is not written over.
	require.Error(t, Write(filepath.Join(dir, "deep", "er"), []File{{"x", nil}, {"x/below", nil}}, false))
	assert.NoDirExists(t, filepath.Join(dir, "deep"))
	assert.ErrorIs(t, Write(dir, []File{{"two", nil}}, true, filepath.Join(dir, "two")), atomicfile.ErrInput)
}

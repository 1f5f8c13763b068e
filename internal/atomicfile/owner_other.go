//go:build !unix

package atomicfile

import (
	"io/fs"
	"os"
)

func links(fs.FileInfo) uint64  { return 1 }
func own(*os.File, fs.FileInfo) {}
func umask() fs.FileMode        { return 0 }

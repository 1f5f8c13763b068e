//go:build unix

package atomicfile

import (
	"io/fs"
	"os"
	"sync"
	"syscall"
)

// links returns how many names a file has.
func links(info fs.FileInfo) uint64 {
	if s, ok := info.Sys().(*syscall.Stat_t); ok {
		return uint64(s.Nlink)
	}
	return 1
}

// own gives a file the owner of another, where that is allowed.
func own(f *os.File, like fs.FileInfo) {
	if s, ok := like.Sys().(*syscall.Stat_t); ok {
		_ = f.Chown(int(s.Uid), int(s.Gid))
	}
}

// umask is what the process leaves out of the mode of new files. It can only be
// read by setting it, so it is read once.
var umask = sync.OnceValue(func() fs.FileMode {
	old := syscall.Umask(0o077)
	syscall.Umask(old)
	return fs.FileMode(old)
})

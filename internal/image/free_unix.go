//go:build linux || darwin || freebsd

package image

import "golang.org/x/sys/unix"

// Free returns how many bytes can be written in a folder; false when that cannot
// be told here.
func Free(dir string) (int64, bool) {
	var fs unix.Statfs_t
	if unix.Statfs(dir, &fs) != nil {
		return 0, false
	}
	return int64(fs.Bavail) * int64(fs.Bsize), true
}

package atomicfile

import (
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"os"
	"path/filepath"

	"github.com/gofrs/flock"
)

// ErrChanged says that a file is no longer what an edit was made from.
var ErrChanged = errors.New("was changed in the meantime and is unchanged now")

// Edit puts a changed text in the place of the one that it was made from. It
// holds a lock, so that of two edits made from one text the second is refused:
// nothing that somebody wrote meanwhile is lost.
func Edit(path string, from, to []byte) error {
	lock, err := lockOf(path)
	if err != nil {
		return err
	}
	if err := lock.Lock(); err != nil {
		return fmt.Errorf("%s cannot be locked: %w", path, err)
	}
	defer func() { _ = lock.Unlock() }()
	now, err := os.ReadFile(path)
	if err != nil {
		return fmt.Errorf("%s %w", path, cause(err))
	}
	if !bytes.Equal(now, from) {
		return fmt.Errorf("%s %w", path, ErrChanged)
	}
	return Write(path, to, Options{Replace: true})
}

// lockOf returns the lock of a file: one by its path, in the user's cache, as the
// file itself is replaced.
func lockOf(path string) (*flock.Flock, error) {
	target, err := follow(path)
	if err == nil {
		target, err = filepath.Abs(target)
	}
	if err != nil {
		return nil, fmt.Errorf("%s %w", path, err)
	}
	folder, err := os.UserCacheDir()
	if err != nil {
		folder = os.TempDir()
	}
	folder = filepath.Join(folder, "open-bastion", "locks")
	if err := os.MkdirAll(folder, 0o700); err != nil {
		folder = os.TempDir()
	}
	sum := sha256.Sum256([]byte(target))
	return flock.New(filepath.Join(folder, hex.EncodeToString(sum[:12])+".lock")), nil
}

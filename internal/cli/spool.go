package cli

import (
	"fmt"
	"io"
	"os"

	"openbastion/internal/image"
)

// source is a file, or standard input, as one that is read anywhere.
type source interface {
	io.ReaderAt
	io.Closer
}

// open opens a file that must be a plain one, or standard input for "-".
func (a *app) open(file string) (source, int64, error) {
	if file == "-" {
		return a.spool()
	}
	info, err := os.Stat(file) // before it is opened: opening a pipe waits for its other end
	if err == nil && !info.Mode().IsRegular() {
		err = image.ErrNotPlain
	}
	var f *os.File
	if err == nil {
		f, err = os.Open(file)
	}
	if err != nil {
		return nil, 0, failure{exitUsage, fmt.Sprintf("cannot read %s: %v", file, cause(err)), ""}
	}
	return f, info.Size(), nil
}

// spoolReserve is the room, in bytes, that is left free where standard input is
// kept while it is looked at.
const spoolReserve = 256 << 20

// spool keeps standard input in a temporary file without a name, so that it can
// be read anywhere and twice; a plain file that stands there is taken as it is.
func (a *app) spool() (source, int64, error) {
	if a.spooled == nil {
		f, err := a.spoolFile()
		if err != nil {
			return nil, 0, failure{exitUsage, fmt.Sprintf("cannot read standard input: %v", cause(err)), ""}
		}
		a.spooled = f
	}
	size, err := a.spooled.Seek(0, io.SeekEnd)
	if err != nil {
		return nil, 0, failure{exitUsage, fmt.Sprintf("cannot read standard input: %v", cause(err)), ""}
	}
	return struct {
		io.ReaderAt
		io.Closer
	}{a.spooled, io.NopCloser(nil)}, size, nil
}

func (a *app) spoolFile() (*os.File, error) {
	if in, ok := a.in.(*os.File); ok {
		if info, err := in.Stat(); err == nil && info.Mode().IsRegular() {
			return in, nil
		}
	}
	f, err := os.CreateTemp("", "bastion-*")
	if err != nil {
		return nil, err
	}
	if os.Remove(f.Name()) != nil { // a system that keeps the names of open files
		a.atEnd = append(a.atEnd, func() { f.Close(); os.Remove(f.Name()) })
	}
	room := int64(1) << 40
	if free, ok := image.Free(os.TempDir()); ok {
		room = max(free-spoolReserve, 0)
	}
	n, err := io.Copy(f, io.LimitReader(a.in, room+1))
	if err == nil && n > room {
		err = fmt.Errorf(
			"it has more than %s, and there is no more space for it in %s: save it to a file first",
			size1024(room),
			os.TempDir(),
		)
	}
	return f, err
}

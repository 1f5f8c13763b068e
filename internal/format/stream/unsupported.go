package stream

import (
	"errors"

	"github.com/klauspost/compress/zstd"
	"github.com/mikelolasagasti/xz"
)

// UnsupportedError says that a stream is sound as far as it was read, and packed
// in a way that is not unpacked here. Why ends in what to do instead.
type UnsupportedError struct{ Why string }

func (e *UnsupportedError) Error() string { return e.Why }

// supported returns what a decoder cannot do from what is damaged: the headers that
// ask for it carry checksums, and were sound.
func supported(err error) error {
	for _, c := range []struct {
		err error
		why string
	}{
		{xz.ErrMemlimit, "its dictionary is larger than the 1 GiB of memory that is used here: unpack it with xz -d"},
		{xz.ErrOptions, "it uses an xz filter that is not supported here: unpack it with xz -d"},
		{xz.ErrUnsupportedCheck, "it carries a checksum of xz that is not known here: unpack it with xz -d"},
		{zstd.ErrWindowSizeExceeded, "its window is larger than the 1 GiB of memory that is used here: unpack it with zstd -d --long=31"},
		{zstd.ErrDecoderSizeExceeded, "its window is larger than the 1 GiB of memory that is used here: unpack it with zstd -d --long=31"},
		{zstd.ErrUnknownDictionary, "it is compressed with a custom dictionary: unpack it with zstd -d -D and that dictionary"},
	} {
		if errors.Is(err, c.err) {
			return &UnsupportedError{c.why}
		}
	}
	return err
}

package seed

import (
	"fmt"
	"io"
	"os"

	"github.com/diskfs/go-diskfs/backend/file"
	"github.com/diskfs/go-diskfs/filesystem/iso9660"

	"openbastion/format/bundle"
)

// label is the volume label by which a seed is found.
const label = "cidata"

// image writes files into an ISO 9660 image with their names as they are (Rock
// Ridge).
func image(files []bundle.File) (data []byte, err error) {
	dir, err := os.MkdirTemp("", "bastion-seed-")
	if err != nil {
		return nil, err
	}
	defer os.RemoveAll(dir)
	f, err := os.CreateTemp(dir, "*.iso")
	if err != nil {
		return nil, err
	}
	defer f.Close()
	work, err := os.MkdirTemp(dir, "work")
	if err != nil {
		return nil, err
	}
	disk, err := iso9660.Create(file.New(f, false), 0, 0, 2048, work)
	if err != nil {
		return nil, fmt.Errorf("an image: %w", err)
	}
	for _, x := range files {
		w, err := disk.OpenFile("/"+x.Name, os.O_CREATE|os.O_RDWR)
		if err != nil {
			return nil, fmt.Errorf("%s in an image: %w", x.Name, err)
		}
		_, err = w.Write(x.Data)
		if e := w.Close(); err == nil {
			err = e
		}
		if err != nil {
			return nil, fmt.Errorf("%s in an image: %w", x.Name, err)
		}
	}
	if err := disk.Finalize(iso9660.FinalizeOptions{RockRidge: true, VolumeIdentifier: label}); err != nil {
		return nil, fmt.Errorf("an image: %w", err)
	}
	if _, err := f.Seek(0, io.SeekStart); err != nil {
		return nil, err
	}
	return io.ReadAll(f)
}

package seed

import (
	"openbastion/internal/export/fileset"
	"openbastion/internal/format/iso"
)

// label is the volume label by which a seed is found.
const label = "cidata"

// image writes files into an optical image.
func image(files []fileset.File) ([]byte, error) {
	var list []iso.File
	for _, f := range files {
		list = append(list, iso.File{Name: f.Name, Data: f.Data})
	}
	return iso.Write(label, list)
}

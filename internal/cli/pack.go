package cli

import (
	"archive/zip"
	"bytes"
	"crypto/sha256"
	"fmt"
	"io"
	"path"
	"path/filepath"
	"strings"
	"time"

	"github.com/spf13/cobra"
)

// The places in an archive that is handed in.
const (
	packLab      = "lab.yaml"
	packEvidence = "evidence/"
	packRecord   = "record.md"
	packFiles    = "files/"
	packSums     = "SHA256SUMS"
)

// The bounds of an archive: its bytes and what of it is read, each piece of evidence, and how much is in it.
const (
	mostPacked   = 256 << 20
	mostRead     = 64 << 20
	mostPiece    = 8 << 20
	mostEntries  = 4096
	mostEvidence = 1024
)

func (a *app) packCommand() *cobra.Command {
	var to, record string
	var also []string
	var replace bool
	c := &cobra.Command{
		Use: "pack [LAB] EVIDENCE… --to FILE.zip", Short: "Pack a hand-in archive",
		Long: `Puts what a bench hands in into one archive: the lab file, the evidence of its guests, the
runbook's record and whatever else, with the checksum of each. "bastion grade" reads it.`,
		Args: cobra.MinimumNArgs(1),
		RunE: func(_ *cobra.Command, args []string) error {
			if to == "" {
				return usage("--to FILE.zip is required")
			}
			var files []string
			lab := fromArgs(args, &files)
			if len(files) == 0 {
				return usage("no evidence is named")
			}
			if _, err := a.load(lab); err != nil {
				return err
			}
			return a.packUp(lab, files, record, also, to, replace)
		},
	}
	c.Flags().StringVar(&to, "to", "", "the archive to write")
	c.Flags().StringVar(&record, "record", "", "the record that \"runbook --walk --record\" wrote")
	c.Flags().StringArrayVar(&also, "also", nil, "a picture or any other file; repeatable")
	c.Flags().BoolVar(&replace, "replace", false, "replace an existing file")
	return c
}

// archivedFile is one file in an archive.
type archivedFile struct {
	name string
	data []byte
}

func (a *app) packUp(lab string, files []string, record string, also []string, to string, replace bool) error {
	list, total := []archivedFile{{packLab, a.texts[lab]}}, 0
	seen := map[string]bool{}
	add := func(place, file string) error {
		data, err := a.read(file, mostPacked)
		if err != nil {
			return err
		}
		if total += len(data); total > mostPacked {
			return usage("more than %s does not go into one archive", size1024(mostPacked))
		}
		if seen[place] {
			return usage("two files would be %s in the archive: rename one", place)
		}
		seen[place] = true
		list = append(list, archivedFile{place, data})
		return nil
	}
	for _, f := range files {
		if err := add(packEvidence+filepath.Base(f), f); err != nil {
			return err
		}
	}
	if record != "" {
		if err := add(packRecord, record); err != nil {
			return err
		}
	}
	for _, f := range also {
		if err := add(packFiles+filepath.Base(f), f); err != nil {
			return err
		}
	}
	archive, err := archived(list)
	if err != nil {
		return err
	}
	if err := a.writeNew(to, archive, replace); err != nil {
		return err
	}
	a.note(fmt.Sprintf("%s contains %s.", to, count(len(list), "file", "files")))
	return nil
}

// archived makes an archive of files, with the checksum of each.
func archived(list []archivedFile) ([]byte, error) {
	var out bytes.Buffer
	sums := ""
	w := zip.NewWriter(&out)
	write := func(name string, data []byte) error {
		f, err := w.CreateHeader(
			&zip.FileHeader{Name: name, Method: zip.Deflate, Modified: time.Now().UTC().Truncate(time.Second)},
		)
		if err == nil {
			_, err = f.Write(data)
		}
		return err
	}
	for _, e := range list {
		sums += fmt.Sprintf("%x  %s\n", sha256.Sum256(e.data), e.name)
		if err := write(e.name, e.data); err != nil {
			return nil, err
		}
	}
	if err := write(packSums, []byte(sums)); err != nil {
		return nil, err
	}
	if err := w.Close(); err != nil {
		return nil, err
	}
	return out.Bytes(), nil
}

// handedIn is what an archive holds.
type handedIn struct {
	evidence map[string][]byte
	record   string
	wrong    []string // what is not as its checksum says
}

// unpackWork reads an archive that pack made: evidence, the record and the checksums, and nothing else
// of it is unpacked.
func unpackWork(data []byte) (h handedIn, err error) {
	r, err := zip.NewReader(bytes.NewReader(data), int64(len(data)))
	if err != nil {
		return h, err
	}
	if len(r.File) > mostEntries {
		return h, fmt.Errorf("it has %d files; at most %d are read", len(r.File), mostEntries)
	}
	h.evidence = map[string][]byte{}
	sums, total := map[string]string{}, 0
	found := map[string][]byte{}
	var order []string
	for _, f := range r.File {
		evidence := strings.HasPrefix(f.Name, packEvidence)
		if !evidence && f.Name != packSums && f.Name != packRecord {
			continue
		}
		if _, twice := found[f.Name]; twice {
			return h, fmt.Errorf("it has more than one %s", f.Name)
		}
		part, err := piece(f)
		if err != nil {
			return h, fmt.Errorf("%s: %w", f.Name, err)
		}
		if total += len(part); total > mostRead || len(found) > mostEvidence {
			return h, fmt.Errorf(
				"it holds more than %s, or more than %d pieces of evidence",
				size1024(mostRead),
				mostEvidence,
			)
		}
		found[f.Name] = part
		switch {
		case evidence:
			h.evidence[path.Base(f.Name)] = part
		case f.Name == packRecord:
			h.record = string(part)
		default:
			for line := range strings.Lines(string(part)) {
				if sum, name, ok := strings.Cut(strings.TrimSpace(line), "  "); ok {
					sums[name] = sum
				}
			}
			continue
		}
		order = append(order, f.Name)
	}
	for _, name := range order {
		if sums[name] != fmt.Sprintf("%x", sha256.Sum256(found[name])) {
			h.wrong = append(h.wrong, name)
		}
	}
	return h, nil
}

// piece unpacks one file of an archive.
func piece(f *zip.File) ([]byte, error) {
	in, err := f.Open()
	if err != nil {
		return nil, err
	}
	defer in.Close()
	data, err := io.ReadAll(io.LimitReader(in, mostPiece+1))
	if err == nil && len(data) > mostPiece {
		err = fmt.Errorf("it unpacks to more than %s", size1024(mostPiece))
	}
	return data, err
}

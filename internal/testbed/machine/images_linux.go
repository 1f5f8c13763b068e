package machine

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"strings"

	"openbastion/internal/atomicfile"
	"openbastion/internal/format/disk"
	"openbastion/internal/image"
	"openbastion/internal/model/lab"
	"openbastion/internal/model/plan"
)

// stateSize is how large the file may become, as QEMU sees it, that takes the memory of a
// machine's snapshots. It takes what it holds.
const stateSize = lab.Bytes(64 << 30)

// makeDisk makes a qcow2 file: an empty disk of a size, or one that begins as a raw file, which is never
// written.
func makeDisk(ctx context.Context, name, from string, size lab.Bytes) error {
	args := []string{"create", "-q", "-f", "qcow2"}
	if from != "" {
		args = append(args, "-F", "raw", "-b", from)
	}
	args = append(args, name)
	if size > 0 {
		args = append(args, fmt.Sprint(uint64(size)))
	}
	out, err := exec.CommandContext(ctx, "qemu-img", args...).CombinedOutput()
	switch {
	case errors.Is(err, exec.ErrNotFound):
		return lacking{fmt.Errorf("qemu-img, which makes disks, is not on this machine: %w", err)}
	case err != nil && ctx.Err() == nil:
		_ = os.Remove(name)
		return fmt.Errorf("make a disk: %s", strings.TrimSpace(string(out)))
	}
	return ctx.Err()
}

// mostOfPacked bounds what a virtual disk may hold, by the size of its file, and mostHeld for any.
const (
	mostOfPacked = 256
	mostHeld     = int64(1) << 40
)

// images makes what a machine starts from of the files that the lab names for it: an
// optical image becomes the medium in its drive, a disk the beginning of its own, which is
// kept from one start to the next.
func (l *Lab) images(ctx context.Context, m *plan.Machine, s *Setup) error {
	names := []string{m.Spec.Media}
	if m.Appliance != nil {
		names = append(names, m.Appliance.Image.File)
	}
	own := filepath.Join(l.options.Disks, m.Name+".qcow2")
	_, err := os.Stat(own)
	kept := err == nil
	from := ""
	seen := map[string]bool{"": true}
	for _, name := range names {
		if seen[name] {
			continue
		}
		seen[name] = true
		if !filepath.IsAbs(name) {
			name = filepath.Join(l.options.Beside, name)
		}
		if name, err = filepath.Abs(name); err != nil { // a relative name may be read as a protocol
			return err
		}
		if err := l.isWanted(m, name, kept); err != nil {
			return err
		}
		optical, file, err := l.content(m, name)
		switch {
		case err != nil:
			return fmt.Errorf("%s: %w", m.Name, err)
		case optical:
			s.Media = file
		default:
			from = file
		}
	}
	if err := firmware(m, s, l.options.Disks); err != nil {
		return err
	}
	s.Disk = own
	if kept {
		l.note(fmt.Sprintf("%s continues with its existing disk (%s)", m.Name, own))
		return nil
	}
	l.tell("%s: making its disk", m.Name)
	if err := os.MkdirAll(l.options.Disks, 0o700); err != nil {
		return err
	}
	size := m.Spec.Disk
	if from != "" {
		size = 0
	}
	return makeDisk(ctx, own, from, size)
}

// isWanted holds an appliance's image against the digest that the lab gives.
func (l *Lab) isWanted(m *plan.Machine, name string, kept bool) error {
	if kept || m.Appliance == nil || m.Appliance.Image.SHA256 == "" ||
		filepath.Base(name) != filepath.Base(m.Appliance.Image.File) {
		return nil
	}
	f, err := os.Open(name)
	if err != nil {
		return fmt.Errorf("%s: %w", m.Name, err)
	}
	defer f.Close()
	l.tell("%s: reading its image", m.Name)
	sum, err := image.Digest("sha256", f)
	if err != nil {
		return fmt.Errorf("%s: %s: %w", m.Name, name, err)
	}
	if !strings.EqualFold(sum, m.Appliance.Image.SHA256) {
		return fmt.Errorf(
			"%s: %s is not the image that the lab names: its SHA-256 is %s, wanted is %s",
			m.Name,
			name,
			sum,
			m.Appliance.Image.SHA256,
		)
	}
	return nil
}

// content returns what an image is, unpacking it when it is packed: an optical image, or a
// raw disk.
func (l *Lab) content(m *plan.Machine, name string) (optical bool, file string, err error) {
	f, err := os.Open(name)
	if err != nil {
		return false, "", err
	}
	defer f.Close()
	info, err := f.Stat()
	if err == nil && !info.Mode().IsRegular() {
		err = fmt.Errorf("%s: %w", name, image.ErrNotPlain)
	}
	if err != nil {
		return false, "", err
	}
	c := image.Inspect(filepath.Base(name), f, info.Size(), image.Options{Siblings: image.Folder(filepath.Dir(name))})
	switch {
	case len(c.Faults) > 0:
		return false, "", fmt.Errorf("%s: %s", name, c.Faults[0])
	case c.Kind == image.Optical:
		return true, name, nil
	case c.Kind == image.RawDisk:
		return false, name, nil
	case c.Kind == image.VirtDisk:
		file, err := l.converted(m, name, f, info.Size())
		return false, file, err
	case len(c.Inside) > 0:
		return l.unpacked(m, name, f, info.Size(), c)
	}
	return false, "", fmt.Errorf("%s is nothing that a machine starts from: %s", name, c.Next)
}

// converted returns a virtual disk as a raw one beside the machine's own, made once by our reader: QEMU
// opens no container that somebody else made, as in some a name leads to any file of the host. A disk
// that names another file is refused.
func (l *Lab) converted(m *plan.Machine, name string, f *os.File, size int64) (string, error) {
	v, err := disk.ReadVirtual(f, size)
	if err != nil {
		return "", fmt.Errorf("%s: %w", name, err)
	}
	if names, alone := v.Alone(); !alone {
		what := "a file that it does not name"
		if len(names) > 0 {
			what = fmt.Sprintf("%q", names)
		}
		return "", fmt.Errorf("%s is a disk that needs other files, %s: merge it into one file first", name, what)
	}
	w, err := v.Open(f, size, func(string) (io.ReaderAt, int64, error) { return nil, 0, fs.ErrNotExist })
	if err == nil && len(w.Missing) > 0 {
		err = fmt.Errorf("it needs other files: %q", w.Missing)
	}
	if err != nil {
		return "", fmt.Errorf("%s: %w", name, err)
	}
	if w.Size > mostHeld {
		return "", fmt.Errorf("%s: a disk of %s; at most %s are started here", name, lab.Bytes(w.Size), lab.Bytes(mostHeld))
	}
	to := filepath.Join(l.options.Disks, m.Name+"-base.raw")
	if _, err := os.Stat(to); err == nil {
		return to, nil
	}
	l.tell("%s: reading %s", m.Name, filepath.Base(name))
	if err := os.MkdirAll(l.options.Disks, 0o700); err != nil {
		return "", err
	}
	target, err := atomicfile.Create(to, atomicfile.Options{})
	if err != nil {
		return "", err
	}
	defer target.Abort()
	if err := target.Inner().Truncate(w.Size); err != nil {
		return "", err
	}
	if _, err := w.CopyTo(target.Inner(), max(size*mostOfPacked, 1<<30)); err != nil {
		return "", fmt.Errorf("%s: %w", name, err)
	}
	return to, target.Commit()
}

// unpacked unpacks what is in an image beside the machine's disk, once.
func (l *Lab) unpacked(
	m *plan.Machine,
	name string,
	f *os.File,
	size int64,
	c *image.Content,
) (optical bool, file string, err error) {
	choice, err := c.Pick("")
	if err != nil {
		return false, "", fmt.Errorf("%s: %w", name, err)
	}
	to := filepath.Join(l.options.Disks, m.Name+"-"+choice.Name())
	if _, err := os.Stat(to); errors.Is(err, fs.ErrNotExist) {
		l.tell("%s: unpacking %s", m.Name, filepath.Base(name))
		if err := os.MkdirAll(l.options.Disks, 0o700); err != nil {
			return false, "", err
		}
		r, err := choice.Open(f, size, true)
		if err != nil {
			return false, "", fmt.Errorf("%s: %w", name, err)
		}
		defer r.Close()
		target, err := atomicfile.Create(to, atomicfile.Options{})
		if err != nil {
			return false, "", err
		}
		defer target.Abort()
		if _, err := image.Write(target, r); err != nil {
			return false, "", fmt.Errorf("%s: %w", name, err)
		}
		if err := target.Commit(); err != nil {
			return false, "", err
		}
	}
	return l.content(m, to)
}

// Where the firmware of UEFI is on common systems: its code, and its variables as they
// begin.
var firmwares = [][2]string{
	{"/usr/share/OVMF/OVMF_CODE_4M.fd", "/usr/share/OVMF/OVMF_VARS_4M.fd"},
	{"/usr/share/OVMF/OVMF_CODE.fd", "/usr/share/OVMF/OVMF_VARS.fd"},
	{"/usr/share/edk2/x64/OVMF_CODE.4m.fd", "/usr/share/edk2/x64/OVMF_VARS.4m.fd"},
}

// firmware finds the firmware of a machine with UEFI, and gives it variables of its own.
func firmware(m *plan.Machine, s *Setup, folder string) error {
	if m.Spec.Firmware != "uefi" {
		return nil
	}
	for _, f := range firmwares {
		vars, err := os.ReadFile(f[1])
		if err != nil {
			continue
		}
		own := filepath.Join(folder, m.Name+"-variables.fd")
		s.Firmware = []string{f[0], own}
		if _, err := os.Stat(own); err == nil {
			return nil
		}
		return errors.Join(os.MkdirAll(folder, 0o700), os.WriteFile(own, vars, 0o600))
	}
	return lacking{
		fmt.Errorf(
			"%s starts by UEFI, whose firmware for virtual machines is not installed (on Debian: the package ovmf)",
			m.Name,
		),
	}
}

package boot

import (
	"archive/tar"
	"bytes"
	"cmp"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"github.com/blakesmith/ar"

	"openbastion/internal/format/stream"
)

// ErrNoKernel says that no kernel was found.
var ErrNoKernel = errors.New("no Linux kernel with modules")

// Kernel is a Linux kernel with its modules.
type Kernel struct {
	Release string            // as in 6.1.0-1-amd64
	Image   []byte            // what a machine starts
	Modules map[string][]byte // by file name without endings, '-' as '_'; as they are on disk
	Builtin map[string]bool   // what the kernel has in itself
}

// maxModules bounds what is read of modules, and of a package.
const maxModules = 1 << 30

// Find reads the kernel of a path: a Debian package, a folder with boot and lib/modules in
// it, or empty for this machine's own root. Of several kernels the one whose name is last
// is taken, small ones for machines of a cloud before others. Only the modules that keep
// wants are read.
func Find(from string, keep func(name string) bool) (*Kernel, error) {
	root := cmp.Or(from, "/")
	info, err := os.Stat(root)
	if err != nil {
		return nil, err
	}
	if info.IsDir() {
		return inFolder(os.DirFS(root), root, keep)
	}
	f, err := os.Open(root)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	k, err := inPackage(f, keep)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", from, err)
	}
	return k, nil
}

// Cached returns the last package of a kernel in the user's cache folder of the program; empty
// when there is none.
func Cached() string {
	cache, err := os.UserCacheDir()
	if err != nil {
		return ""
	}
	list, _ := filepath.Glob(filepath.Join(cache, "openbastion", "linux-image-*.deb")) // in order
	if len(list) == 0 {
		return ""
	}
	return list[len(list)-1]
}

// inFolder reads a kernel below a folder.
func inFolder(root fs.FS, name string, keep func(string) bool) (*Kernel, error) {
	images, _ := fs.Glob(root, "boot/vmlinuz-*")
	slices.SortFunc(images, func(a, b string) int {
		rank := func(s string) int {
			if strings.Contains(s, "-cloud-") {
				return 1
			}
			return 0
		}
		return cmp.Or(cmp.Compare(rank(a), rank(b)), strings.Compare(a, b))
	})
	for _, image := range slices.Backward(images) {
		k := newKernel(strings.TrimPrefix(image, "boot/vmlinuz-"))
		data, err := fs.ReadFile(root, image)
		if err != nil {
			return nil, fmt.Errorf("%s: %w", filepath.Join(name, image), err)
		}
		k.Image = data
		folder := "lib/modules/" + k.Release
		if _, err := fs.Stat(root, folder); err != nil {
			folder = "usr/" + folder
		}
		err = fs.WalkDir(root, folder, func(p string, d fs.DirEntry, err error) error {
			if err != nil || d.IsDir() {
				return err
			}
			return k.add(p, keep, func() ([]byte, error) { return fs.ReadFile(root, p) })
		})
		if err == nil && len(k.Modules) > 0 {
			return k, nil
		}
	}
	return nil, fmt.Errorf("%w in %s", ErrNoKernel, name)
}

func newKernel(release string) *Kernel {
	return &Kernel{Release: release, Modules: map[string][]byte{}, Builtin: map[string]bool{}}
}

// endings are those that modules have, the packed ones last.
var endings = []string{".ko", ".ko.xz", ".ko.zst", ".ko.gz"}

// add takes a file of lib/modules, when it is of use.
func (k *Kernel) add(p string, keep func(string) bool, read func() ([]byte, error)) error {
	base := path.Base(p)
	for _, e := range endings {
		name, ok := strings.CutSuffix(base, e)
		if name = Normal(name); !ok || !keep(name) {
			continue
		}
		data, err := read()
		if err == nil {
			data, err = unpacked(data)
		}
		if err != nil {
			return fmt.Errorf("module %s: %w", base, err)
		}
		k.Modules[name] = data
		return nil
	}
	if base != "modules.builtin" {
		return nil
	}
	data, err := read()
	for line := range strings.Lines(string(data)) {
		k.Builtin[Normal(strings.TrimSuffix(path.Base(strings.TrimSpace(line)), ".ko"))] = true
	}
	return err
}

// Normal returns a module's name as the kernel compares it.
func Normal(name string) string { return strings.ReplaceAll(name, "-", "_") }

// unpacked returns a module as it is loaded.
func unpacked(data []byte) ([]byte, error) {
	kind := stream.Detect(data)
	if kind == "" {
		return data, nil
	}
	r, err := stream.Open(kind, bytes.NewReader(data), int64(len(data)))
	if err != nil {
		return nil, err
	}
	defer r.Close()
	return io.ReadAll(io.LimitReader(r, maxModules))
}

// inPackage reads a kernel from a Debian package (deb(5)): an ar archive, one of whose
// members is a packed tar archive with the files.
func inPackage(f *os.File, keep func(string) bool) (*Kernel, error) {
	members := ar.NewReader(f)
	for {
		h, err := members.Next()
		if errors.Is(err, io.EOF) {
			return nil, fmt.Errorf("%w in it: not a kernel package", ErrNoKernel)
		}
		if err != nil {
			return nil, fmt.Errorf("not a Debian package: %w", err)
		}
		if !strings.HasPrefix(h.Name, "data.tar") {
			continue
		}
		data, err := io.ReadAll(io.LimitReader(members, maxModules))
		if err != nil {
			return nil, err
		}
		var files io.Reader = bytes.NewReader(data)
		if kind := stream.Detect(data); kind != "" {
			r, err := stream.Open(kind, bytes.NewReader(data), int64(len(data)))
			if err != nil {
				return nil, err
			}
			defer r.Close()
			files = r
		}
		return inArchive(tar.NewReader(files), keep)
	}
}

func inArchive(files *tar.Reader, keep func(string) bool) (*Kernel, error) {
	k := newKernel("")
	for {
		h, err := files.Next()
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			return nil, err
		}
		read := func() ([]byte, error) { return io.ReadAll(io.LimitReader(files, maxModules)) }
		name := strings.TrimPrefix(path.Clean(h.Name), "/")
		release, ok := strings.CutPrefix(name, "boot/vmlinuz-")
		switch {
		case h.Typeflag != tar.TypeReg:
		case ok:
			k.Release = release
			if k.Image, err = read(); err != nil {
				return nil, err
			}
		case strings.Contains(name, "lib/modules/"):
			if err := k.add(name, keep, read); err != nil {
				return nil, err
			}
		}
	}
	if k.Image == nil || len(k.Modules) == 0 {
		return nil, fmt.Errorf("%w in it", ErrNoKernel)
	}
	return k, nil
}

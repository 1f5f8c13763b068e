package cli

import (
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"sync"

	"openbastion/internal/testbed/machine/boot"
)

// kernelPackage returns the package of a kernel that machines are tried with, empty without.
func kernelPackage() string {
	if _, err := exec.LookPath("qemu-system-x86_64"); err != nil || runtime.GOOS != "linux" {
		return ""
	}
	return boot.Cached()
}

// insideProgram builds the program as it runs in machines, once; empty where none can be
// tried.
var insideProgram = sync.OnceValue(func() string {
	if kernelPackage() == "" {
		return ""
	}
	dir, err := os.MkdirTemp("", "bastion-inside-*")
	if err != nil {
		return ""
	}
	name := filepath.Join(dir, "bastion")
	c := exec.Command("go", "build", "-o", name, "openbastion/cmd/bastion")
	c.Env = append(os.Environ(), "CGO_ENABLED=0")
	if c.Run() != nil {
		return ""
	}
	return name
})

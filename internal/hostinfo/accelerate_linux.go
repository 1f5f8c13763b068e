package hostinfo

import (
	"encoding/binary"
	"errors"
	"fmt"
	"os"
	"runtime"
	"unsafe"

	"golang.org/x/sys/unix"
)

// The calls and layouts of the kernel's virtual machine interface, amd64.
const (
	createVM     = 0xae01
	mmapSize     = 0xae04
	createCPU    = 0xae41
	setTSS       = 0xae47
	setMemory    = 0x4020ae46
	run          = 0xae80
	setRegs      = 0x4090ae82
	getSregs     = 0x8138ae83
	setSregs     = 0x4138ae84
	exitHalt     = 5
	segmentSize  = 24
	offsetCR0    = 224
	offsetRIP    = 16 * 8
	offsetRFLAGS = 17 * 8
	exitReason   = 8 // in the shared page
)

// loop counts ecx down from a million and halts.
var loop = []byte{0xb9, 0x40, 0x42, 0x0f, 0x00, 0x49, 0x75, 0xfd, 0xf4}

// TryAccelerator runs a counting loop of a million steps on a virtual
// processor in flat 32-bit mode. It may take for ever: run it in a process
// that can be ended.
func TryAccelerator() error {
	if runtime.GOARCH != "amd64" {
		return errUntested
	}
	dev, err := os.OpenFile("/dev/kvm", os.O_RDWR, 0)
	if err != nil {
		return fmt.Errorf("the kernel offers no accelerator: %w", errors.Unwrap(err))
	}
	defer dev.Close()
	call := func(fd, request, arg uintptr) (uintptr, error) {
		v, _, e := unix.Syscall(unix.SYS_IOCTL, fd, request, arg)
		if e != 0 {
			return 0, e
		}
		return v, nil
	}
	vm, err := call(dev.Fd(), createVM, 0)
	if err != nil {
		return fmt.Errorf("no virtual machine can be made: %w", err)
	}
	memory, err := unix.Mmap(-1, 0, 0x10000, unix.PROT_READ|unix.PROT_WRITE, unix.MAP_SHARED|unix.MAP_ANONYMOUS)
	if err != nil {
		return err
	}
	copy(memory[0x1000:], loop)
	var region [4]uint64
	b := (*[32]byte)(unsafe.Pointer(&region))[:]
	binary.LittleEndian.PutUint64(b[16:], uint64(len(memory)))
	binary.LittleEndian.PutUint64(b[24:], uint64(uintptr(unsafe.Pointer(&memory[0]))))
	_, _ = call(vm, setTSS, 0xfffbd000) // some processors ask for it
	if _, err = call(vm, setMemory, uintptr(unsafe.Pointer(&b[0]))); err != nil {
		return fmt.Errorf("the virtual machine takes no memory: %w", err)
	}
	cpu, err := call(vm, createCPU, 0)
	if err != nil {
		return fmt.Errorf("no virtual processor can be made: %w", err)
	}
	size, err := call(dev.Fd(), mmapSize, 0)
	if err != nil {
		return err
	}
	shared, err := unix.Mmap(int(cpu), 0, int(size), unix.PROT_READ|unix.PROT_WRITE, unix.MAP_SHARED)
	if err != nil {
		return err
	}
	var sregs [312]byte
	if _, err = call(cpu, getSregs, uintptr(unsafe.Pointer(&sregs))); err != nil {
		return err
	}
	for i := range 6 { // cs, ds, es, fs, gs, ss: flat
		s := sregs[i*segmentSize:][:segmentSize]
		clear(s)
		binary.LittleEndian.PutUint32(s[8:], 0xffffffff)
		kind := byte(3) // data
		if i == 0 {
			kind = 11 // code
		}
		// selector, type, present, privilege, 32 bits, not a system segment, long, granularity
		copy(s[12:], []byte{byte(8 * (i + 1)), 0, kind, 1, 0, 1, 1, 0, 1})
	}
	sregs[offsetCR0] |= 1 // protected mode
	if _, err = call(cpu, setSregs, uintptr(unsafe.Pointer(&sregs))); err != nil {
		return err
	}
	var regs [144]byte
	binary.LittleEndian.PutUint64(regs[offsetRIP:], 0x1000)
	binary.LittleEndian.PutUint64(regs[offsetRFLAGS:], 2)
	if _, err = call(cpu, setRegs, uintptr(unsafe.Pointer(&regs))); err != nil {
		return err
	}
	for {
		if _, err = call(cpu, run, 0); err == unix.EINTR {
			continue
		} else if err != nil {
			return fmt.Errorf("the virtual processor does not run: %w", err)
		}
		if reason := binary.LittleEndian.Uint32(shared[exitReason:]); reason != exitHalt {
			return fmt.Errorf("the virtual processor stopped for reason %d", reason)
		}
		return nil
	}
}

package machine

import (
	"cmp"
	"errors"
	"fmt"
	"slices"
	"strings"

	"openbastion/internal/model/lab"
	"openbastion/internal/model/plan"
)

// Setup is what a QEMU is started with. Descriptors are numbers that it inherits.
type Setup struct {
	Machine     *plan.Machine
	Accelerated bool
	Kernel      string   // of a reference machine: what it starts; empty: it starts from its disk or medium
	Initial     string   // its initial file system
	Disk        string   // a qcow2 file; empty: none
	Media       string   // what is in its drive; empty: nothing
	Firmware    []string // of a machine with UEFI: code, and a file of its own for variables
	State       string   // a qcow2 file for the memory of snapshots
	Control     int      // QMP
	Console     int      // the serial line
	Agent       int      // of a reference machine: the channel to the program inside
	Adapters    []int    // one for each adapter that is its own, in order
}

// firstAdapter is the place on the PCI bus of a machine's first adapter; the others follow
// it, in order: so whoever counts them by place counts them as planned.
const firstAdapter = 0x10

// Devices that adapters and disks become, by the plan's words for them; what is not among
// the adapters is tried by its own name.
var adapterDevices = map[string]string{"virtio": "virtio-net-pci", "e1000": "e1000", "e1000e": "e1000e"}

// deviceName tells what may be a device of QEMU.
func deviceName(name string) bool {
	const most = 32
	return name != "" && len(name) <= most && strings.Trim(name, "abcdefghijklmnopqrstuvwxyz0123456789-") == ""
}

// Args returns QEMU's arguments. Everything is said; nothing is left to what a version of
// QEMU takes for granted.
func (s Setup) Args() ([]string, error) {
	spec := s.Machine.Spec
	accel, cpu := "tcg,tb-size=64", "qemu64,+rdrand"
	if s.Accelerated {
		accel, cpu = "kvm", "host"
	}
	kind := "q35"
	if s.old() {
		kind = "pc"
	}
	args := []string{
		"-name", s.Machine.Name, "-machine", kind, "-accel", accel, "-cpu", cpu,
		"-smp", fmt.Sprint(max(spec.CPUs, 1)), "-m", fmt.Sprintf("%dM", max(uint64(spec.Memory)>>20, leastMemory)),
		// What breaks out of the emulated devices can neither start programs nor gain rights.
		"-sandbox", "on,obsolete=deny,elevateprivileges=deny,spawn=deny,resourcecontrol=deny",
		"-nodefaults", "-no-user-config", "-no-shutdown", "-vnc", "none,password=on",
		"-chardev", fmt.Sprintf("socket,id=control,fd=%d", s.Control), "-mon", "chardev=control,mode=control",
		"-chardev", fmt.Sprintf("socket,id=console,fd=%d", s.Console), "-serial", "chardev:console",
	}
	args = append(
		args,
		"-vga",
		"none",
		"-device",
		"VGA",
	) // whose state is in snapshots, unlike that of the one without a bus
	if len(s.Firmware) > 0 {
		args = append(args, "-drive", "if=pflash,format=raw,unit=0,readonly=on,file="+escape(s.Firmware[0]),
			"-drive", "if=pflash,format=raw,unit=1,file="+escape(s.Firmware[1]))
	}
	if s.State != "" {
		args = append(args, "-blockdev", "driver=qcow2,node-name=state,file.driver=file,file.filename="+escape(s.State))
	}
	if s.Kernel != "" {
		args = append(
			args,
			"-no-reboot",
			"-kernel",
			s.Kernel,
			"-initrd",
			s.Initial,
			"-append",
			"rdinit=/init panic=-1 quiet loglevel=3 console=tty0 console=ttyS0 net.ifnames=0 random.trust_cpu=on -- inside",
			"-device",
			"virtio-serial-pci",
			"-chardev",
			fmt.Sprintf("socket,id=agent,fd=%d", s.Agent),
			"-device",
			"virtserialport,chardev=agent,name="+agentChannel,
		)
	}
	disks, err := s.disks()
	if err != nil {
		return nil, err
	}
	args = append(args, disks...)
	adapters, err := s.adapters()
	return append(args, adapters...), err
}

// old reports whether it is a machine of the older kind, which has the buses that systems that start by
// BIOS may look for.
func (s Setup) old() bool { return s.Kernel == "" && len(s.Firmware) == 0 }

// bus returns the name of a machine's first PCI bus.
func (s Setup) bus() string {
	if s.old() {
		return "pci.0"
	}
	return "pcie.0"
}

// leastMemory is what a machine is given at least, in MiB: a reference machine needs it to
// unpack its initial file system.
const leastMemory = 192

// escape doubles the commas of a file's name, as QEMU's options want it.
func escape(name string) string { return strings.ReplaceAll(name, ",", ",,") }

// bootIndex returns what says when a device's turn to start the machine comes; empty when
// the plan's boot order does not name it.
func (s Setup) bootIndex(kind string) string {
	if i := slices.Index(s.Machine.Spec.Boot, kind); i >= 0 && s.Kernel == "" {
		return fmt.Sprintf(",bootindex=%d", i+1)
	}
	return ""
}

func (s Setup) disks() (args []string, err error) {
	if s.Disk != "" {
		args = append(
			args,
			"-blockdev",
			"driver=qcow2,node-name=disk,discard=unmap,file.driver=file,file.filename="+escape(s.Disk),
		)
		index := s.bootIndex("disk")
		switch bus := cmp.Or(s.Machine.Spec.DiskBus, "virtio"); bus {
		case "virtio":
			args = append(args, "-device", "virtio-blk-pci,id=disk0,drive=disk"+index)
		case "scsi":
			args = append(args, "-device", "virtio-scsi-pci,id=scsi0", "-device", "scsi-hd,id=disk0,drive=disk"+index)
		case "sata":
			args = append(
				args,
				"-device",
				"ich9-ahci,id=sata0",
				"-device",
				"ide-hd,id=disk0,drive=disk,bus=sata0.0"+index,
			)
		case "ide":
			if !s.old() {
				return nil, fmt.Errorf(
					"%s: a machine with UEFI cannot have its disk on the ide bus; write sata",
					s.Machine.Name,
				)
			}
			args = append(args, "-device", "ide-hd,id=disk0,drive=disk,bus=ide.0"+index)
		case "nvme":
			args = append(args, "-device", "nvme,id=disk0,serial=disk,drive=disk"+index)
		default:
			return nil, fmt.Errorf(
				"%s: a disk on the bus %q is nothing that QEMU has; it has virtio, scsi, sata, ide and nvme",
				s.Machine.Name,
				bus,
			)
		}
	}
	if s.Kernel == "" {
		drive := "ide-cd,id=drive0,bus=ide.1" + s.bootIndex("media")
		if s.Media != "" {
			args = append(
				args,
				"-blockdev",
				"driver=raw,node-name=media,read-only=on,file.driver=file,file.filename="+escape(s.Media),
			)
			drive += ",drive=media"
		}
		args = append(args, "-device", drive)
	}
	return args, nil
}

func (s Setup) adapters() (args []string, err error) {
	var all []error
	for i, a := range s.Machine.Own() {
		model := cmp.Or(a.NIC, "virtio")
		device := cmp.Or(adapterDevices[model], model)
		if !deviceName(device) {
			all = append(all, fmt.Errorf("%s: adapter %d: %q is not an adapter model", s.Machine.Name, a.Number, model))
			continue
		}
		id, index := fmt.Sprint("adapter", a.Number), ""
		if i == 0 {
			index = s.bootIndex("network")
		}
		line := fmt.Sprintf(
			"%s,id=%s,netdev=wire%d,mac=%s,bus=%s,addr=%#x",
			device,
			id,
			a.Number,
			a.MAC,
			s.bus(),
			firstAdapter+i,
		)
		if index == "" {
			line += ",romfile="
		}
		args = append(
			args,
			"-netdev",
			fmt.Sprintf("stream,id=wire%d,server=off,addr.type=fd,addr.str=%d", a.Number, s.Adapters[i]),
			"-device",
			line+index,
		)
	}
	return args, errors.Join(all...)
}

// ReferenceMemory is how much memory of its host a reference machine takes, whatever it is given: what a sample of them was
// measured to hold, rounded up.
const ReferenceMemory = 360 * lab.MiB

// References reports whether a machine names nothing to start from, so that it becomes a reference machine.
func References(m *plan.Machine) bool {
	return m.Spec.Media == "" && (m.Appliance == nil || m.Appliance.Image.File == "")
}

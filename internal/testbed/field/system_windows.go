package field

import (
	"bytes"
	"context"
	"crypto/rand"
	"encoding/binary"
	"errors"
	"fmt"
	"maps"
	"net/netip"
	"os"
	"syscall"
	"unsafe"

	"golang.org/x/sys/windows"

	"openbastion/internal/model/mac"
	"openbastion/internal/netsim/probemsg"
)

var (
	helper         = windows.NewLazySystemDLL("iphlpapi.dll")
	icmpCreateFile = helper.NewProc("IcmpCreateFile")
	icmpClose      = helper.NewProc("IcmpCloseHandle")
	icmpSendEcho   = helper.NewProc("IcmpSendEcho")
	getNeighbors   = helper.NewProc("GetIpNetTable2")
)

// The places that iphelper.go reads are those that the system's own package knows.
const (
	_ = -(unsafe.Offsetof(windows.IpAdapterAddresses{}.FirstDnsServerAddress) ^ helperResolver)
	_ = -(unsafe.Offsetof(windows.IpAdapterAddresses{}.Flags) ^ helperFlags)
	_ = -(unsafe.Offsetof(windows.IpAdapterAddresses{}.FirstGatewayAddress) ^ helperGateway)
	_ = -(unsafe.Offsetof(windows.IpAdapterAddresses{}.Dhcpv4Server) ^ helperServer)
	_ = -(unsafe.Offsetof(windows.IpAdapterGatewayAddress{}.Address) ^ helperListAddress)
	_ = -(unsafe.Sizeof(windows.IpAdapterGatewayAddress{}) ^ helperListSize)
)

// Look asks this system for its network (GetAdaptersAddresses).
func Look() (System, error) {
	list, err := adapters()
	if err != nil {
		return System{}, fmt.Errorf("this system's adapters: %w", err)
	}
	s := System{Adapters: list, Proxies: proxies()}
	size := uint32(16 << 10)
	var buffer []byte
	for {
		buffer = make([]byte, size)
		err = windows.GetAdaptersAddresses(windows.AF_UNSPEC, windows.GAA_FLAG_INCLUDE_GATEWAYS, 0,
			(*windows.IpAdapterAddresses)(unsafe.Pointer(&buffer[0])), &size)
		if !errors.Is(err, windows.ERROR_BUFFER_OVERFLOW) {
			break
		}
	}
	if err != nil {
		return s, fmt.Errorf("this system's adapters: %w", err)
	}
	s.takeHelped(helperMemory{uint64(uintptr(unsafe.Pointer(&buffer[0]))), buffer}.adapters())
	return s, nil
}

// neighbors returns who is known on an adapter's segment, by address.
func (a Adapter) neighbors() (map[netip.Addr]mac.Address, error) {
	rows, err := neighborRows(windows.AF_INET)
	if err != nil {
		return nil, err
	}
	out := helperNeighbors(rows, a.index)
	if rows, err := neighborRows(windows.AF_INET6); err == nil { // a system may do without
		maps.Copy(out, helperNeighbors(rows, a.index))
	}
	return out, nil
}

// neighborRows returns a copy of the rows of all adapters' neighbors.
func neighborRows(family uintptr) ([]byte, error) {
	var table *byte
	if r, _, _ := getNeighbors.Call(family, uintptr(unsafe.Pointer(&table))); r != 0 || table == nil {
		return nil, fmt.Errorf("GetIpNetTable2: %w", syscall.Errno(r))
	}
	defer windows.FreeMibTable(unsafe.Pointer(table))
	rows := int(*(*uint32)(unsafe.Pointer(table)))
	return bytes.Clone(unsafe.Slice(table, rowsAt+rows*rowSize)[rowsAt:]), nil
}

// echo sends an echo request with so many hops to live, and gives who answers it or ends it.
func echo(to netip.Addr, hops uint8) (from netip.Addr, expired bool, err error) {
	h, _, err := icmpCreateFile.Call()
	if h == uintptr(windows.InvalidHandle) {
		return from, false, err
	}
	defer icmpClose.Call(h)
	payload := []byte(probemsg.PingPrefix + rand.Text())
	options := struct {
		hops, service, flags, size uint8
		data                       uintptr
	}{hops: hops}
	four := to.As4()
	reply := make([]byte, echoSize+len(payload)+512)
	_, _, err = icmpSendEcho.Call(
		h,
		uintptr(binary.LittleEndian.Uint32(four[:])),
		uintptr(unsafe.Pointer(&payload[0])),
		uintptr(len(payload)),
		uintptr(
			unsafe.Pointer(&options),
		),
		uintptr(unsafe.Pointer(&reply[0])),
		uintptr(len(reply)),
		uintptr(tryTime.Milliseconds()),
	)
	if from, expired, ok := helperEcho(reply); ok {
		return from, expired, nil
	}
	if errors.Is(err, windows.Errno(requestTimedOut)) {
		err = os.ErrDeadlineExceeded
	}
	return from, false, err
}

const requestTimedOut = 11010 // IP_REQ_TIMED_OUT

// ping sends an echo request and waits for its answer. By IPv4 the system does so for everybody.
func ping(ctx context.Context, to netip.Addr) error {
	if to.Is6() {
		return pingBySocket(ctx, to)
	}
	_, err := echoes(to, 64, func(from netip.Addr, expired bool) bool { return !expired && from == to })
	return err
}

// firstHop sends an echo request with one hop to live and gives who says that its time was over.
func firstHop(_ context.Context, to netip.AddrPort) (netip.Addr, error) {
	return echoes(to.Addr(), 1, func(_ netip.Addr, expired bool) bool { return expired })
}

// echoes sends echo requests until what comes back is the wanted, and gives from whom.
func echoes(to netip.Addr, hops uint8, wanted func(from netip.Addr, expired bool) bool) (netip.Addr, error) {
	last := os.ErrDeadlineExceeded
	for range tries {
		from, expired, err := echo(to, hops)
		if err == nil && wanted(from, expired) {
			return from, nil
		}
		if last = err; err == nil {
			last = os.ErrDeadlineExceeded
		}
	}
	return netip.Addr{}, last
}

package drive

import (
	"encoding/binary"
	"strings"

	"golang.org/x/sys/windows"
)

// A storage is what a volume's device says of itself.
type storage struct {
	pluggable bool // its bus is one that people plug things into
	seeks     bool // its heads have to move from place to place
}

// storageOf asks the device of a volume (IOCTL_STORAGE_QUERY_PROPERTY); root is a letter's top or the
// volume's name. What it does not tell is false.
func storageOf(root string) (s storage) {
	name := strings.TrimRight(root, `\`)
	if !strings.HasPrefix(name, `\\`) {
		name = `\\.\` + name
	}
	p, err := windows.UTF16PtrFromString(name)
	if err != nil {
		return s
	}
	const shared = windows.FILE_SHARE_READ | windows.FILE_SHARE_WRITE
	h, err := windows.CreateFile(p, 0, shared, nil, windows.OPEN_EXISTING, 0, 0)
	if err != nil {
		return s
	}
	defer windows.CloseHandle(h)
	const device, seekPenalty = 0, 7
	if b := property(h, device); len(b) >= 32 { // STORAGE_DEVICE_DESCRIPTOR
		s.pluggable = pluggable(binary.LittleEndian.Uint32(b[28:]))
	}
	if b := property(h, seekPenalty); len(b) >= 9 { // DEVICE_SEEK_PENALTY_DESCRIPTOR
		s.seeks = b[8] != 0
	}
	return s
}

// property asks a device for one of its properties; nil if it has none.
func property(h windows.Handle, id byte) []byte {
	const queryProperty = 0x2d1400
	ask, out := [12]byte{id}, make([]byte, 1024) // STORAGE_PROPERTY_QUERY, standard
	var n uint32
	if windows.DeviceIoControl(h, queryProperty, &ask[0], uint32(len(ask)), &out[0], uint32(len(out)), &n, nil) != nil {
		return nil
	}
	return out[:n]
}

// pluggable tells by its bus (STORAGE_BUS_TYPE) a device that people unplug: most disks on USB call
// themselves fixed.
func pluggable(bus uint32) bool {
	const ieee1394, usb, sd, mmc = 4, 7, 12, 13
	return bus == ieee1394 || bus == usb || bus == sd || bus == mmc
}

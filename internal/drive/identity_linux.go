package drive

import (
	"encoding/hex"
	"os"
	"path/filepath"
	"runtime"
	"strings"
	"unsafe"

	"golang.org/x/sys/unix"
)

// Requests that the kernel answers without root, from linux/fs.h and the
// headers of the file systems: x/sys has no constants for most of them.
const (
	fsIocGetUUID    = 0x80111500 // FS_IOC_GETFSUUID, struct fsuuid2
	fsIocGetLabel   = 0x81009431 // FS_IOC_GETFSLABEL, char[256]
	ext4IocGetUUID  = 0x8008662c // EXT4_IOC_GETFSUUID, struct fsuuid
	btrfsIocFSInfo  = 0x8400941f // BTRFS_IOC_FS_INFO, 1024 bytes, fsid at 16
	xfsIocGeometry1 = 0x80705864 // XFS_IOC_FSGEOMETRY_V1, 112 bytes, uuid at 64
)

// identify asks for UUID, label and drive tag. What can't be learnt stays
// empty: that is an answer.
func (d *Drive) identify() {
	fd, err := unix.Open(d.Mount, unix.O_RDONLY|unix.O_DIRECTORY|unix.O_CLOEXEC|unix.O_NONBLOCK, 0)
	if err == nil {
		defer unix.Close(fd)
		d.UUID = kernelUUID(fd, d.FS)
		if b := ask(fd, fsIocGetLabel, make([]byte, 256)); b != nil {
			d.Label, _, _ = strings.Cut(string(b), "\x00")
		}
	}
	if d.UUID == "" {
		d.UUID = byLink("/dev/disk/by-uuid", d.Source)
	}
	if d.Label == "" {
		d.Label = byLink("/dev/disk/by-label", d.Source)
	}
	if tag, err := ReadTag(d.Mount); err == nil {
		d.Tag = tag
		if d.Label == "" {
			d.Label = tag.Label
		}
	}
}

func kernelUUID(fd int, fsType string) string {
	if b := ask(fd, fsIocGetUUID, make([]byte, 17)); b != nil && b[0] == 16 {
		return formatUUID(b[1:])
	}
	switch fsType {
	case "ext4":
		// The caller says how many bytes it takes: fsu_len = 16.
		if b := ask(fd, ext4IocGetUUID, append([]byte{16, 0, 0, 0, 0, 0, 0, 0}, make([]byte, 16)...)); b != nil {
			return formatUUID(b[8:])
		}
	case "btrfs":
		if b := ask(fd, btrfsIocFSInfo, make([]byte, 1024)); b != nil {
			return formatUUID(b[16:32])
		}
	case "xfs":
		if b := ask(fd, xfsIocGeometry1, make([]byte, 112)); b != nil {
			return formatUUID(b[64:80])
		}
	}
	return ""
}

// ask runs one ioctl that fills buf; nil if the file system has no answer.
func ask(fd int, request uintptr, buf []byte) []byte {
	_, _, e := unix.Syscall(unix.SYS_IOCTL, uintptr(fd), request, uintptr(unsafe.Pointer(&buf[0])))
	runtime.KeepAlive(buf)
	if e != 0 {
		return nil
	}
	return buf
}

// formatUUID prints 16 bytes as RFC 9562 does; all zero is no identity.
func formatUUID(b []byte) string {
	h := hex.EncodeToString(b[:16])
	if strings.Trim(h, "0") == "" {
		return ""
	}
	return h[:8] + "-" + h[8:12] + "-" + h[12:16] + "-" + h[16:20] + "-" + h[20:]
}

// byLink finds the name under which udev links to the device.
func byLink(dir, device string) string {
	if !strings.HasPrefix(device, "/dev/") {
		return ""
	}
	want, err := filepath.EvalSymlinks(device)
	if err != nil {
		return ""
	}
	links, err := os.ReadDir(dir)
	if err != nil {
		return ""
	}
	for _, l := range links {
		if got, err := filepath.EvalSymlinks(filepath.Join(dir, l.Name())); err == nil && got == want {
			return unescape(l.Name())
		}
	}
	return ""
}

// unescape takes back udev's \x20 spelling in link names.
func unescape(s string) string {
	var b strings.Builder
	for i := 0; i < len(s); i++ {
		if strings.HasPrefix(s[i:], `\x`) && i+4 <= len(s) {
			if c, err := hex.DecodeString(s[i+2 : i+4]); err == nil {
				b.WriteByte(c[0])
				i += 3
				continue
			}
		}
		b.WriteByte(s[i])
	}
	return b.String()
}

// spinning asks the kernel whether a block device, major:minor, has heads to
// move; a partition's answer is that of the disk it lies on. Loop devices and
// the disks of virtual machines say so whatever they lie on, and are not asked.
func spinning(device string) bool {
	dir, err := filepath.EvalSymlinks("/sys/dev/block/" + device)
	if err != nil {
		return false
	}
	for _, made := range []string{"/loop", "/vd", "/xvd", "/nbd", "/zram"} {
		if strings.Contains(dir, "/block"+made) {
			return false
		}
	}
	for _, at := range []string{dir, filepath.Dir(dir)} {
		if b, err := os.ReadFile(filepath.Join(at, "queue", "rotational")); err == nil {
			return strings.TrimSpace(string(b)) == "1"
		}
	}
	return false
}

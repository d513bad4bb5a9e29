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
	if d.Fuse {
		d.inner = behindFuse(d.Mount, d.Source)
	}
	if d.UUID == "" {
		d.UUID = byLink("/dev/disk/by-uuid", d.Source)
	}
	if d.Label == "" {
		d.Label = byLink("/dev/disk/by-label", d.Source)
	}
	d.tagged()
}

// behindFuse tells which file system a driver shows: by the name in its first
// sector, where this account may read that, or by what NTFS alone has.
func behindFuse(mount, device string) string {
	var b [11]byte // jump 3, name 8
	if f, err := os.Open(device); strings.HasPrefix(device, "/dev/") && err == nil {
		defer f.Close()
		if _, err := f.ReadAt(b[:], 0); err == nil {
			return strings.ToLower(strings.TrimRight(string(b[3:]), " \x00"))
		}
	}
	if _, err := unix.Getxattr(mount, "system.ntfs_attrib_be", b[:4]); err == nil {
		return "ntfs"
	}
	return ""
}

// VolumeName has no answer: the names of volumes are a matter of Windows.
func VolumeName(string) string { return "" }

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

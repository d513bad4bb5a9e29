package drive

import (
	"fmt"
	"slices"
	"strings"
	"unsafe"

	"golang.org/x/sys/unix"

	"nexlin/internal/macos"
)

// mounts gives every mount (getfsstat(2)), the two volumes of the system as one.
func mounts() ([]Drive, error) {
	n, err := unix.Getfsstat(nil, unix.MNT_NOWAIT)
	if err != nil {
		return nil, fmt.Errorf("reading the mounts: %w", err)
	}
	all := make([]unix.Statfs_t, n+8)
	if n, err = unix.Getfsstat(all, unix.MNT_NOWAIT); err != nil {
		return nil, fmt.Errorf("reading the mounts: %w", err)
	}
	var out []Drive
	for i := range all[:n] {
		out = append(out, fromMount(&all[i]))
	}
	return joined(out), nil
}

// mntIgnoreOwnership is MNT_IGNORE_OWNERSHIP (sys/mount.h), usual for drives that are plugged in.
const mntIgnoreOwnership = 0x00200000

func fromMount(m *unix.Statfs_t) Drive {
	d := Drive{
		Mount: unix.ByteSliceToString(m.Mntonname[:]), FS: unix.ByteSliceToString(m.Fstypename[:]),
		Source:   unix.ByteSliceToString(m.Mntfromname[:]),
		ReadOnly: m.Flags&unix.MNT_RDONLY != 0, Network: m.Flags&unix.MNT_LOCAL == 0,
		NoOwners: m.Flags&mntIgnoreOwnership != 0,
		pseudo:   m.Flags&unix.MNT_DONTBROWSE != 0, mountID: uint64(uint32(m.Fsid.Val[0])),
	}
	d.device = fmt.Sprintf("%d:%d", m.Fsid.Val[0], m.Fsid.Val[1])
	d.Fuse = strings.Contains(d.FS, "fuse")
	var options []string
	for flag, name := range map[uint32]string{unix.MNT_NOEXEC: "noexec", unix.MNT_NOSUID: "nosuid",
		unix.MNT_NODEV: "nodev"} {
		if m.Flags&flag != 0 {
			options = append(options, name)
		}
	}
	slices.Sort(options)
	d.Options = strings.Join(options, ",")
	return d
}

// identify asks for the volume's UUID and name, and for the drive tag. Of two volumes the
// system's has the name that people know, and the other one the identity that lasts.
func (d *Drive) identify() {
	defer d.tagged()
	d.UUID, d.Label = volumeIdentity(d.root())
	if d.reach.top != "" {
		_, d.Label = volumeIdentity(d.Mount)
	}
}

// volumeIdentity asks for a volume's UUID and name (getattrlist(2)); empty where it has none.
func volumeIdentity(at string) (uuid, label string) {
	path, err := unix.BytePtrFromString(at)
	if err != nil {
		return "", ""
	}
	list, b := macos.OfVolume(macos.VolumeName|macos.VolumeUUID), make([]byte, 1024)
	_, _, e := unix.Syscall6(unix.SYS_GETATTRLIST, uintptr(unsafe.Pointer(path)), uintptr(unsafe.Pointer(list)),
		uintptr(unsafe.Pointer(&b[0])), uintptr(len(b)), 0, 0)
	if e != 0 {
		return "", ""
	}
	id, label := macos.NameAndUUID(b)
	return formatUUID(id[:]), label
}

// VolumeName has no answer: the names of volumes are a matter of Windows.
func VolumeName(string) string { return "" }

func (t *trial) isFAT() bool {
	var st unix.Statfs_t
	return unix.Fstatfs(int(t.dir.Fd()), &st) == nil && unix.ByteSliceToString(st.Fstypename[:]) == "msdos"
}

// System reports the drive that the system runs from.
func (d *Drive) System() bool { return d.Mount == "/" }

// reached has no part here: every mount is described by the list.
func (d *Drive) reached() bool { return false }

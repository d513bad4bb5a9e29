package drive

import (
	"cmp"
	"errors"
	"fmt"
	"math/bits"
	"path/filepath"
	"strings"
	"syscall"

	"golang.org/x/sys/windows"

	"nexlin/internal/handle"
	"nexlin/internal/pathtext"
)

// mounts gives the volumes that have a drive letter, and those that are mounted in a folder alone.
func mounts() ([]Drive, error) {
	letters, err := windows.GetLogicalDrives()
	if err != nil {
		return nil, fmt.Errorf("reading the drives: %w", err)
	}
	var out []Drive
	for ; letters != 0; letters &= letters - 1 {
		root := string(rune('A'+bits.TrailingZeros32(letters))) + `:\`
		if d, ok := volume(root); ok {
			out = append(out, d)
		}
	}
	return append(out, inFolders()...), nil
}

// inFolders gives the volumes that have a folder as their place and no letter. What can't be asked
// is left out, as where the system has no such places.
func inFolders() (out []Drive) {
	name := make([]uint16, windows.MAX_PATH)
	find, err := windows.FindFirstVolume(&name[0], uint32(len(name)))
	if err != nil {
		return nil
	}
	defer windows.FindVolumeClose(find)
	for ; err == nil; err = windows.FindNextVolume(find, &name[0], uint32(len(name))) {
		root := windows.UTF16ToString(name)
		if folder := folderOf(root); folder != "" {
			d := Drive{Mount: folder, Source: root, reach: reach{top: root}}
			if d.known(root) {
				out = append(out, d)
			}
		}
	}
	return out
}

// folderOf is the first folder in which a volume is mounted; empty if it has a letter, or no place.
func folderOf(root string) string {
	p, err := windows.UTF16PtrFromString(root)
	if err != nil {
		return ""
	}
	names, n := make([]uint16, 4096), uint32(0)
	if windows.GetVolumePathNamesForVolumeName(p, &names[0], uint32(len(names)), &n) != nil {
		return ""
	}
	first := ""
	for rest := names[:min(int(n), len(names))]; len(rest) > 0 && rest[0] != 0; {
		place := windows.UTF16ToString(rest)
		rest = rest[len(windows.StringToUTF16(place)):]
		if len(place) == len(`D:\`) {
			return ""
		}
		first = cmp.Or(first, strings.TrimRight(place, `\`))
	}
	return first
}

// volume describes what is at a drive letter; false if nothing is in it.
func volume(root string) (Drive, bool) {
	d := Drive{Mount: root, pseudo: substituted(root)}
	return d, d.known(root)
}

// known asks for what a drive is; root is its letter's top or its volume's name. False if nothing is
// in it.
func (d *Drive) known(root string) bool {
	p, err := windows.UTF16PtrFromString(root)
	if err != nil {
		return false
	}
	kind := windows.GetDriveType(p)
	d.Network, d.Memory = kind == windows.DRIVE_REMOTE, kind == windows.DRIVE_RAMDISK
	d.pseudo = d.pseudo || kind == windows.DRIVE_UNKNOWN || kind == windows.DRIVE_NO_ROOT_DIR ||
		kind == windows.DRIVE_CDROM
	if d.Network {
		return true // one whose server is gone would take minutes to say so
	}
	d.Source = VolumeName(root)
	if kind == windows.DRIVE_REMOVABLE {
		d.Options = "removable"
	}
	return d.describe(p) || d.Locked
}

// substituted reports a letter that stands for a directory: its drive has a letter of its own.
func substituted(root string) bool {
	name, err := windows.UTF16PtrFromString(filepath.VolumeName(root))
	if err != nil {
		return false
	}
	buf := make([]uint16, windows.MAX_PATH+1)
	n, err := windows.QueryDosDevice(name, &buf[0], uint32(len(buf)))
	return err == nil && n > 0 && strings.HasPrefix(windows.UTF16ToString(buf), `\??\`)
}

// describe asks for what a drive is called and known by; false if nothing is in it.
func (d *Drive) describe(root *uint16) bool {
	label, fs := make([]uint16, windows.MAX_PATH+1), make([]uint16, windows.MAX_PATH+1)
	var serial, longest, flags uint32
	if err := windows.GetVolumeInformation(root, &label[0], uint32(len(label)), &serial, &longest, &flags, &fs[0],
		uint32(len(fs))); err != nil {
		d.Locked = errors.Is(err, syscall.Errno(windows.FVE_E_LOCKED_VOLUME))
		return false // no medium, if it is not that
	}
	d.Label, d.FS = windows.UTF16ToString(label), windows.UTF16ToString(fs)
	const readOnlyVolume = 0x00080000
	d.ReadOnly = flags&readOnlyVolume != 0
	st, err := handle.Lstat(d.root())
	if err != nil {
		return false
	}
	d.mountID, d.device = st.Mount, fmt.Sprintf("%016x", st.Dev)
	if serial != 0 {
		d.UUID = fmt.Sprintf("%016X", st.Dev)
	}
	return true
}

// VolumeName is the name of the volume at a drive letter, or in a folder, that does not change
// with the place, \\?\Volume{…}\; empty if it has none, as a network drive.
func VolumeName(root string) string {
	if strings.HasPrefix(root, `\\?\Volume{`) {
		return root
	}
	p, err := windows.UTF16PtrFromString(strings.TrimRight(root, `\`) + `\`)
	if err != nil {
		return ""
	}
	buf := make([]uint16, 64)
	if windows.GetVolumeNameForVolumeMountPoint(p, &buf[0], uint32(len(buf))) != nil {
		return ""
	}
	return windows.UTF16ToString(buf)
}

// identify reads the drive tag, and asks the device; label and serial number are known already.
func (d *Drive) identify() {
	d.tagged()
	if d.Network || d.pseudo {
		return // a drive for discs would have to turn
	}
	device := storageOf(d.root())
	if d.Spinning = device.seeks; device.pluggable {
		d.Options = "removable"
	}
}

// reached describes a network drive that a path leads to, which the list of drives does not
// ask; false if it can't be.
func (d *Drive) reached() bool {
	p, err := windows.UTF16PtrFromString(d.Mount)
	return err == nil && d.Network && d.mountID == 0 && d.describe(p)
}

func (t *trial) isFAT() bool {
	root := make([]uint16, windows.MAX_PATH+1)
	path, err := windows.UTF16PtrFromString(t.dir.Path())
	if err != nil || windows.GetVolumePathName(path, &root[0], uint32(len(root))) != nil {
		return false
	}
	d, ok := volume(windows.UTF16ToString(root))
	return ok && strings.HasPrefix(d.FS, "FAT")
}

// System reports the drive that the system runs from.
func (d *Drive) System() bool {
	dir, err := windows.GetSystemWindowsDirectory()
	return err == nil && pathtext.Equal(filepath.VolumeName(dir)+`\`, d.Mount)
}

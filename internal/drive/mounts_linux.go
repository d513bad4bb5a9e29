package drive

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"github.com/moby/sys/mountinfo"
	"golang.org/x/sys/unix"
)

// pseudo are file systems that hold no files of people's: kernel views,
// overlays and images of programs.
var pseudo = []string{
	"autofs", "bdev", "binfmt_misc", "bpf", "cgroup", "cgroup2", "configfs", "debugfs", "devpts", "devtmpfs",
	"efivarfs", "fuse.gvfsd-fuse", "fuse.portal", "fuse.snapfuse", "fusectl", "hugetlbfs", "mqueue", "nsfs", "overlay",
	"proc", "pstore", "ramfs", "rpc_pipefs", "securityfs", "selinuxfs", "squashfs", "sysfs", "tracefs",
}

var network = []string{"nfs", "nfs4", "cifs", "smb3", "9p", "ceph", "fuse.sshfs", "afs"}

// mounts gives every mount: the whole of a file system before a part of it,
// a short path before a long one. Room and identity are not asked for yet.
func mounts() ([]Drive, error) {
	infos, err := mountinfo.GetMounts(nil)
	if err != nil {
		return nil, fmt.Errorf("reading the mounts: %w", err)
	}
	slices.SortStableFunc(infos, func(a, b *mountinfo.Info) int {
		return cmp.Or(cmp.Compare(len(a.Root), len(b.Root)), cmp.Compare(len(a.Mountpoint), len(b.Mountpoint)))
	})
	out := make([]Drive, len(infos))
	for i, m := range infos {
		out[i] = fromMount(m)
	}
	return out, nil
}

func fromMount(m *mountinfo.Info) Drive {
	d := Drive{
		Mount: m.Mountpoint, FS: m.FSType, Source: m.Source, mountID: uint64(m.ID),
		device:  fmt.Sprintf("%d:%d", m.Major, m.Minor),
		Memory:  m.FSType == "tmpfs" || m.FSType == "ramfs",
		Fuse:    strings.HasPrefix(m.FSType, "fuse"),
		Network: slices.Contains(network, m.FSType),
		pseudo:  slices.Contains(pseudo, m.FSType),
		Loop:    strings.HasPrefix(m.Source, "/dev/loop"),
		Options: m.Options,
	}
	d.Spinning = spinning(d.device)
	for o := range strings.SplitSeq(m.Options+","+m.VFSOptions, ",") {
		d.ReadOnly = d.ReadOnly || o == "ro"
	}
	return d
}

func (t *trial) isFAT() bool {
	var st unix.Statfs_t
	return unix.Fstatfs(int(t.dir.Fd()), &st) == nil && st.Type == unix.MSDOS_SUPER_MAGIC
}

// System reports the drive that the system runs from.
func (d *Drive) System() bool { return d.Mount == "/" }

// reached has no part here: every mount is described by the list.
func (d *Drive) reached() bool { return false }

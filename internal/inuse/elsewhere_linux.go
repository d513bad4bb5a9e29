package inuse

import (
	"context"
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"github.com/moby/sys/mountinfo"
	"golang.org/x/sys/unix"

	"nexlin/internal/handle"
	"nexlin/internal/pathtext"
)

// A namespace is a mount namespace, with one process that lives in it.
type namespace struct {
	id     string // what the kernel calls it
	pid    int    // 0 for this process's own
	proc   string // the process's directory in proc(5)
	mounts []*mountinfo.Info
}

// namespace reads the mounts of a process's namespace, if that has not been read
// yet, and finds those that show the place. It reports whether it is this
// process's own.
func (l *look) namespace(pid int, at string) (ours bool) {
	id, err := os.Readlink(at + "/ns/mnt")
	if err != nil {
		return false // one that may not be looked at is noted with the process's files
	}
	if i := slices.IndexFunc(l.namespaces, func(n namespace) bool { return n.id == id }); i >= 0 {
		return l.namespaces[i].pid == 0
	}
	f, err := os.Open(at + "/mountinfo")
	if err != nil {
		return false
	}
	defer f.Close()
	infos, err := mountinfo.GetMountsFromReader(f, nil)
	if err != nil {
		l.report.Complete = false
		return false
	}
	n := namespace{id, pid, at, infos}
	l.namespaces = append(l.namespaces, n)
	for _, m := range infos {
		l.mounts.add(m)
	}
	if pid != 0 {
		l.mountsOf(&n)
	}
	return pid == 0
}

// mountsOf finds the mounts of a namespace that show the place or a part of it:
// by them it can be written to at any time.
func (l *look) mountsOf(n *namespace) {
	for _, m := range n.mounts {
		if m.FSType == "overlay" {
			l.layersOf(n, m)
		}
		if l.place.inside == "" || l.place.mountRoot || fmtDevice(m) != l.place.device {
			continue // the copies that other namespaces have of a whole drive's mount are no use of it
		}
		if _, ok := below(l.place.inside, m.Root); ok {
			l.addMount(n, m, m.Mountpoint)
		}
	}
}

func (l *look) addMount(n *namespace, m *mountinfo.Info, path string) {
	h := Holder{Program: "the mount at " + pathtext.Show(m.Mountpoint), Path: path, How: Mounted}
	if n.pid != 0 {
		s := scan{look: l, pid: n.pid, root: n.proc}
		h = s.holder(path, Mounted)
	}
	l.report.Holders = append(l.report.Holders, h)
}

// layersOf finds directories of the place that an overlay is made of.
func (l *look) layersOf(n *namespace, m *mountinfo.Info) {
	for o := range strings.SplitSeq(m.VFSOptions, ",") {
		key, value, _ := strings.Cut(o, "=")
		if !slices.Contains([]string{"lowerdir", "lowerdir+", "datadir+", "upperdir", "workdir"}, key) {
			continue
		}
		for _, dir := range filepath.SplitList(value) {
			if path, ok := l.layer(n, dir); ok {
				l.addMount(n, m, path)
				return
			}
		}
	}
}

func (l *look) layer(n *namespace, dir string) (string, bool) {
	if !filepath.IsAbs(dir) {
		return "", false
	}
	fd, err := unix.Open(n.proc+"/root"+dir, unix.O_PATH|unix.O_DIRECTORY|unix.O_CLOEXEC, 0)
	if err != nil {
		return "", false
	}
	defer unix.Close(fd)
	var st unix.Statx_t
	at := "/proc/self/fd/" + strconv.Itoa(fd)
	path, err := os.Readlink(at)
	if err != nil || statFollowing(at, &st) != nil || !l.mayHold(&st) {
		return "", false
	}
	v, shown := l.judge(&st, path, true)
	return shown, v == isInside
}

// loops finds loop devices whose file lies in the place (loop(4)).
func (l *look) loops() {
	devices, err := os.ReadDir("/sys/block")
	if err != nil {
		return // a kernel without
	}
	for _, d := range devices {
		if !strings.HasPrefix(d.Name(), "loop") {
			continue
		}
		text, err := os.ReadFile("/sys/block/" + d.Name() + "/loop/backing_file")
		if err != nil {
			continue // it has no file
		}
		device := "/dev/" + d.Name()
		h := Holder{Program: "the loop device " + device, How: Loop}
		var id *fileID
		if dev, err := unix.Open(device, unix.O_RDONLY|unix.O_NONBLOCK|unix.O_CLOEXEC, 0); err == nil {
			info, err := unix.IoctlLoopGetStatus64(dev)
			unix.Close(dev)
			if err == nil {
				id = &fileID{[2]uint32{unix.Major(info.Device), unix.Minor(info.Device)}, info.Inode}
			}
		}
		l.kernelFile(strings.TrimSuffix(string(text), "\n"), id, h)
	}
}

// swap finds files of the place that the kernel swaps to.
func (l *look) swap() {
	text, err := os.ReadFile("/proc/swaps")
	if err != nil {
		return // a kernel without
	}
	for line := range strings.Lines(string(text)) {
		if w := strings.Fields(line); len(w) > 1 && w[1] == "file" {
			l.kernelFile(unescaped(w[0]), nil, Holder{Program: "swap", How: Swap})
		}
	}
}

// unescaped gives a path of proc(5) back, in which white space stands in octal.
func unescaped(s string) string {
	return strings.NewReplacer(`\040`, " ", `\011`, "\t", `\012`, "\n", `\134`, `\`).Replace(s)
}

// A fileID is a file's device and inode.
type fileID struct {
	dev [2]uint32
	ino uint64
}

// kernelFile judges a file that the kernel itself has open. id may be nil: then
// the path is all that is told.
func (l *look) kernelFile(path string, id *fileID, h Holder) {
	var st unix.Statx_t
	err := statAt(path, &st)
	if err == nil && id != nil && (st.Ino != id.ino || id.dev != [2]uint32{st.Dev_major, st.Dev_minor}) {
		err = fs.ErrNotExist // another file has that path here
	}
	switch {
	case err == nil && l.mayHold(&st):
		v, shown := l.judge(&st, path, true)
		h.Path = shown
		if v == isInside {
			l.report.Holders = append(l.report.Holders, h)
		} else if v == isUnsure {
			l.rest = append(l.rest, candidate{st.Ino, h})
		}
	case err != nil && id != nil && id.dev == l.place.dev:
		h.Path = path
		l.rest = append(l.rest, candidate{id.ino, h})
	}
}

// findRest looks through the names in the folder for what nothing else tells.
func (l *look) findRest(ctx context.Context) error {
	if len(l.rest) == 0 {
		return nil
	}
	root, err := handle.OpenReal(l.place.dir)
	if errors.Is(err, fs.ErrPermission) {
		l.report.Complete = false
		return nil
	}
	if err != nil {
		return err
	}
	defer root.Release()
	byIno := map[uint64][]Holder{}
	for _, c := range l.rest {
		byIno[c.ino] = append(byIno[c.ino], c.holder)
	}
	self, err := root.Self()
	if err != nil {
		return err
	}
	l.found(byIno, self.Ino, ".")
	return l.search(ctx, root, ".", byIno)
}

func (l *look) found(byIno map[uint64][]Holder, ino uint64, rel string) {
	for _, h := range byIno[ino] {
		h.Path = filepath.Join(l.place.dir, rel)
		l.report.Holders = append(l.report.Holders, h)
	}
	delete(byIno, ino)
}

// search reads directories alone: they name the inodes of what is in them.
func (l *look) search(ctx context.Context, dir *handle.Dir, rel string, byIno map[uint64][]Holder) error {
	var subs []string
	err := dir.EachEntry(func(name string, ino uint64, mayBeDir bool) error {
		l.found(byIno, ino, filepath.Join(rel, name))
		if mayBeDir {
			subs = append(subs, name)
		}
		return ctx.Err()
	})
	for _, name := range subs {
		if err != nil || len(byIno) == 0 {
			break
		}
		err = l.searchIn(ctx, dir, filepath.Join(rel, name), name, byIno)
	}
	return err
}

func (l *look) searchIn(ctx context.Context, dir *handle.Dir, rel, name string, byIno map[uint64][]Holder) error {
	sub, err := dir.Beneath(name)
	switch {
	case errors.Is(err, fs.ErrNotExist), errors.Is(err, handle.ErrNotDir), errors.Is(err, unix.ELOOP),
		errors.Is(err, handle.ErrMount):
		return nil // gone meanwhile, no directory after all, or another file system
	case errors.Is(err, fs.ErrPermission):
		l.report.Complete = false
		return nil
	case err != nil:
		return err
	}
	defer sub.Release()
	return l.search(ctx, sub, rel, byIno)
}

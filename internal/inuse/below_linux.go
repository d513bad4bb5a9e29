package inuse

import (
	"bytes"
	"cmp"
	"context"
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"golang.org/x/sys/unix"
)

// Below reports who uses the folder at the real path dir or anything below
// it: programs that have it open, mapped or as their working directory, by
// whichever path and in whichever mount namespace; mounts of it elsewhere;
// loop devices and swap whose file lies in it. Things are known by their mount
// and by device and inode, not by the text of a path. This process is left
// out. Nobody uses a folder that is not there.
func Below(ctx context.Context, dir string) (Report, error) { return lookBelow(ctx, dir, false) }

// WritersBelow is [Below] for those alone who may still change something, as
// [Report.Writers] picks them: a good deal less has to be looked at.
func WritersBelow(ctx context.Context, dir string) ([]Holder, error) {
	r, err := lookBelow(ctx, dir, true)
	return r.Writers(), err
}

func lookBelow(ctx context.Context, dir string, onlyWriters bool) (Report, error) {
	p, err := placeOf(dir)
	if err != nil || p == nil {
		return Report{Complete: true}, err
	}
	l := &look{place: p, onlyWriters: onlyWriters, mounts: mountTable{}, seen: map[mapped]bool{},
		report: Report{Complete: true}}
	// This process's own mounts come first: their paths are the true ones here.
	l.namespace(0, "/proc/self")
	p.learn(l.mounts)
	if len(l.namespaces) > 0 {
		l.mountsOf(&l.namespaces[0])
	}
	if err := eachProcess(ctx, l.process); err != nil {
		return l.report, err
	}
	l.loops()
	l.swap()
	if err := l.findRest(ctx); err != nil {
		return l.report, err
	}
	r := &l.report
	slices.SortFunc(r.Holders, func(a, b Holder) int {
		return cmp.Or(cmp.Compare(a.PID, b.PID), cmp.Compare(a.Path, b.Path), cmp.Compare(a.How, b.How))
	})
	r.Holders = slices.Compact(r.Holders)
	return *r, nil
}

// eachProcess calls f for every process but this one, with its directory in
// proc(5).
func eachProcess(ctx context.Context, f func(pid int, at string)) error {
	procs, err := os.ReadDir("/proc")
	if err != nil {
		return err
	}
	for _, p := range procs {
		pid, err := strconv.Atoi(p.Name())
		if err != nil || pid == os.Getpid() {
			continue
		}
		if err := ctx.Err(); err != nil {
			return err
		}
		f(pid, filepath.Join("/proc", p.Name()))
	}
	return nil
}

// A look is one search for those who use a place.
type look struct {
	place      *place
	mounts     mountTable
	namespaces []namespace
	seen       map[mapped]bool // maps that are known not to be of the place
	rest       []candidate
	report     Report

	onlyWriters bool
}

// A candidate holds an inode of the place's device, and nothing but the
// folder's own names can tell whether it lies there.
type candidate struct {
	ino    uint64
	holder Holder
}

// A scan is the look at one process.
type scan struct {
	*look
	pid     int
	root    string // its directory in proc(5)
	dir     int    // that, open: what is below it is reached by a short path
	name    string
	service string
	denied  bool
	ours    bool // it is in this process's mount namespace
}

func (l *look) process(pid int, at string) {
	dir, err := unix.Open(at, unix.O_PATH|unix.O_DIRECTORY|unix.O_CLOEXEC, 0)
	if err != nil {
		l.report.Complete = l.report.Complete && ended(err)
		return
	}
	defer unix.Close(dir)
	s := scan{look: l, pid: pid, root: at, dir: dir}
	var st unix.Statx_t
	if err := s.stat("exe", &st); errors.Is(err, fs.ErrNotExist) {
		return // a thread of the kernel, or a program that has ended
	}
	s.ours = l.namespace(pid, at)
	if !l.onlyWriters {
		s.link("exe", Running)
		s.link("cwd", Working)
		s.link("root", Working)
	}
	fds, err := os.ReadDir(s.root + "/fd")
	s.denied = s.denied || err != nil && !ended(err)
	for _, fd := range fds {
		s.see("fd/"+fd.Name(), func(st *unix.Statx_t) How { return s.access(fd.Name(), st) })
	}
	s.maps()
	// Some systems hide their first process from everybody; it holds nobody's folder.
	l.report.Complete = l.report.Complete && (!s.denied || pid == 1)
}

// ended says of an error that the process is no more.
func ended(err error) bool { return errors.Is(err, fs.ErrNotExist) || errors.Is(err, unix.ESRCH) }

// stat asks what a link below the process's directory leads to.
func (s *scan) stat(link string, st *unix.Statx_t) error {
	return unix.Statx(s.dir, link, asKnown, placeMask, st)
}

func (s *scan) link(name string, how How) {
	s.see(name, func(*unix.Statx_t) How { return how })
}

// see looks at what a link in proc(5) leads to, and asks how it is held if it
// may be of the place. It reports whether it may.
func (s *scan) see(link string, how func(*unix.Statx_t) How) bool {
	var st unix.Statx_t
	if err := s.stat(link, &st); err != nil {
		s.denied = s.denied || os.IsPermission(err)
		return false
	}
	if !s.mayHold(&st) {
		return false
	}
	path, err := os.Readlink(s.root + "/" + link)
	if err != nil {
		s.denied = s.denied || os.IsPermission(err)
		return false
	}
	v, shown := s.judge(&st, path, s.ours)
	if v == isOutside {
		return false
	}
	held := how(&st)
	if held == closed {
		return false
	}
	h := s.holder(shown, held)
	if v == isInside {
		s.report.Holders = append(s.report.Holders, h)
	} else {
		s.rest = append(s.rest, candidate{st.Ino, h})
	}
	return true
}

func (s *scan) holder(path string, how How) Holder {
	if s.name == "" {
		b, _ := os.ReadFile(s.root + "/comm") // a program that ended meanwhile stays nameless
		s.name = string(bytes.TrimSpace(b))
		groups, _ := os.ReadFile(s.root + "/cgroup")
		s.service = serviceOf(string(groups))
	}
	return Holder{s.pid, s.name, path, how, s.service}
}

// serviceOf is the unit of the service manager that a process belongs to, by
// its control groups (cgroups(7)); empty for programs that a person started.
func serviceOf(groups string) string {
	for line := range strings.SplitSeq(groups, "\n") {
		_, path, ok := strings.Cut(line, "::")
		if !ok {
			continue
		}
		unit := filepath.Base(path)
		if strings.HasSuffix(unit, ".service") && !strings.HasPrefix(unit, "user@") &&
			!strings.Contains(path, "/app.slice/app-") {
			return unit
		}
	}
	return ""
}

// closed says that a descriptor was closed while it was looked at.
const closed How = "closed"

// access reads the flags of an open file (proc(5), fdinfo). By then the number may
// be another file's; a file that was closed meanwhile is held by nobody.
func (s *scan) access(fd string, st *unix.Statx_t) How {
	b, err := os.ReadFile(s.root + "/fdinfo/" + fd)
	if errors.Is(err, fs.ErrNotExist) {
		return closed
	}
	if err != nil {
		return Somehow
	}
	var now unix.Statx_t
	if s.stat("fd/"+fd, &now) != nil || now.Ino != st.Ino || now.Dev_major != st.Dev_major ||
		now.Dev_minor != st.Dev_minor {
		return closed // the flags may be another file's
	}
	for line := range strings.SplitSeq(string(b), "\n") {
		v, ok := strings.CutPrefix(line, "flags:")
		if !ok {
			continue
		}
		flags, err := strconv.ParseInt(strings.TrimSpace(v), 8, 64)
		switch {
		case err != nil:
			return Somehow
		case flags&unix.O_ACCMODE != unix.O_RDONLY:
			return Writing
		}
	}
	if uint32(st.Mode)&unix.S_IFMT == unix.S_IFDIR {
		return Directory
	}
	return Reading
}

package inuse

import (
	"bufio"
	"bytes"
	"cmp"
	"context"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"golang.org/x/sys/unix"
)

// Below reports who uses the folder at the real path dir or anything below
// it. This process is left out.
func Below(ctx context.Context, dir string) (Report, error) {
	r := Report{Complete: true}
	err := eachProcess(ctx, func(pid int, at string) {
		s := scan{pid: pid, root: at, dir: dir}
		s.all()
		r.Holders = append(r.Holders, s.found...)
		// Some systems hide their first process from everybody; it holds nobody's folder.
		r.Complete = r.Complete && (!s.denied || pid == 1)
	})
	if err != nil {
		return r, err
	}
	slices.SortFunc(r.Holders, func(a, b Holder) int {
		return cmp.Or(cmp.Compare(a.PID, b.PID), cmp.Compare(a.Path, b.Path), cmp.Compare(a.How, b.How))
	})
	r.Holders = slices.Compact(r.Holders)
	return r, nil
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

type scan struct {
	pid    int
	root   string
	dir    string
	name   string
	found  []Holder
	denied bool

	service string
}

func (s *scan) all() {
	s.link("cwd", Working)
	s.link("root", Working)
	s.link("exe", Running)
	fds, err := os.ReadDir(s.root + "/fd")
	s.denied = s.denied || os.IsPermission(err)
	for _, fd := range fds {
		if path, ok := s.below("fd/" + fd.Name()); ok {
			s.add(path, s.access(fd.Name()))
		}
	}
	s.maps()
}

func (s *scan) below(link string) (string, bool) {
	path, err := os.Readlink(s.root + "/" + link)
	if os.IsPermission(err) {
		s.denied = true
	}
	return path, err == nil && s.inside(path)
}

func (s *scan) inside(path string) bool {
	return path == s.dir || strings.HasPrefix(path, strings.TrimSuffix(s.dir, "/")+"/")
}

func (s *scan) link(name string, how How) {
	if path, ok := s.below(name); ok {
		s.add(path, how)
	}
}

func (s *scan) add(path string, how How) {
	if s.name == "" {
		b, _ := os.ReadFile(s.root + "/comm") // a program that ended meanwhile stays nameless
		s.name = string(bytes.TrimSpace(b))
		groups, _ := os.ReadFile(s.root + "/cgroup")
		s.service = serviceOf(string(groups))
	}
	s.found = append(s.found, Holder{s.pid, s.name, path, how, s.service})
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
		if strings.HasSuffix(unit, ".service") && !strings.HasPrefix(unit, "user@") && !strings.Contains(path, "/app.slice/app-") {
			return unit
		}
	}
	return ""
}

// access reads the flags of an open file (proc(5), fdinfo).
func (s *scan) access(fd string) How {
	b, err := os.ReadFile(s.root + "/fdinfo/" + fd)
	if err != nil {
		return Reading
	}
	for line := range strings.SplitSeq(string(b), "\n") {
		v, ok := strings.CutPrefix(line, "flags:")
		if !ok {
			continue
		}
		flags, err := strconv.ParseInt(strings.TrimSpace(v), 8, 64)
		switch {
		case err != nil:
			return Reading
		case flags&unix.O_ACCMODE != unix.O_RDONLY:
			return Writing
		}
	}
	if fi, err := os.Stat(s.root + "/fd/" + fd); err == nil && fi.IsDir() {
		return Directory
	}
	return Reading
}

// maps reads the mapped files (proc(5), maps): a shared map with the right
// to write changes a file without any descriptor being open.
func (s *scan) maps() {
	f, err := os.Open(s.root + "/maps")
	if err != nil {
		s.denied = s.denied || os.IsPermission(err)
		return
	}
	defer f.Close()
	lines := bufio.NewScanner(f)
	for lines.Scan() {
		w := strings.SplitN(lines.Text(), " ", 6)
		if len(w) < 6 {
			continue
		}
		path := strings.ReplaceAll(strings.TrimLeft(w[5], " "), `\012`, "\n")
		if !s.inside(path) {
			continue
		}
		if strings.HasPrefix(w[1], "rw") && strings.HasSuffix(w[1], "s") {
			s.add(path, Writing)
		} else {
			s.add(path, Mapped)
		}
	}
}

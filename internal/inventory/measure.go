package inventory

import (
	"context"
	"errors"
	"io/fs"
	"runtime"
	"slices"
	"strings"
	"sync"

	"golang.org/x/sys/unix"

	"nexlin/internal/handle"
)

// listed is how many paths of one kind a [Listing] keeps.
const listed = 1000

// A Listing counts entries of one kind and keeps the first of their paths,
// in the one order. Above a thousand the kept ones are some, not the first.
type Listing struct {
	Count int
	Paths []string
}

func (l *Listing) add(path string) {
	l.Count++
	if len(l.Paths) < listed {
		l.Paths = append(l.Paths, path)
	}
}

func (l *Listing) merge(o Listing) {
	l.Count += o.Count
	l.Paths = append(l.Paths, o.Paths...)
	slices.SortFunc(l.Paths, handle.Compare)
	l.Paths = l.Paths[:min(len(l.Paths), listed)]
}

// First gives at most n of the paths.
func (l Listing) First(n int) []string { return l.Paths[:min(n, len(l.Paths))] }

// Facts are what is in a folder. Sizes are in bytes.
type Facts struct {
	Files, Dirs, Links int64
	Bytes              int64 // of regular files, apparent; a hard-linked file once
	Allocated          int64 // blocks in use; a hard-linked file once
	Rounded            int64 // what a drive with blocks of Options.Block would use
	LongestName        int   // bytes
	WithXattrs         int64 // entries with extended attributes other than ACLs

	Unreadable Listing // this account may not read them
	Special    Listing // sockets, FIFOs, devices
	Mounts     Listing // other file systems inside
	HardLinked Listing // files with more than one name
	LeadOut    Listing // relative links that climb out of the folder
	Foreign    Listing // owner or group that this account may not give
	Immutable  Listing // marked immutable or append-only
	Privileged Listing // attributes only an administrator may set
	Other      Listing // placeholders and encrypted entries: reading them is not copying them
}

// Entries is the number of inodes the folder takes.
func (f *Facts) Entries() int64 { return f.Files + f.Dirs + f.Links + int64(f.Special.Count) }

// Options of a [Measure].
type Options struct {
	Block    int64                      // block size for Facts.Rounded; 0 means 4096
	MayGive  func(uid, gid uint32) bool // whether this account may give this owner; nil means always
	Root     bool                       // this account is the administrator
	SkipDeep bool                       // sizes only: no attributes, no tests of readability
	Progress func(entries, bytes int64) // called now and then with what was added; may be nil
}

// Measure counts what is below root, in parallel. What this account can't
// read is listed, not an error; errors are those of ctx and of root itself.
func Measure(ctx context.Context, root *handle.Dir, o Options) (Facts, error) {
	st, err := root.Self()
	if err != nil {
		return Facts{}, err
	}
	if o.Block == 0 {
		o.Block = 4096
	}
	m := &measure{ctx: ctx, o: o, mount: st.Mount, dev: st.Dev, jobs: make(chan job, 256), seen: map[[2]uint64]bool{}}
	first := &counter{m: m}
	rootEntry := Entry{Path: ".", Name: ".", Stat: st, Dir: root}
	first.entry(&rootEntry)
	m.pending.Add(1)
	m.jobs <- job{root.Retain(), "."}
	go func() { m.pending.Wait(); close(m.jobs) }()
	var workers sync.WaitGroup
	var mu sync.Mutex
	total := first.facts
	for range 2 * runtime.GOMAXPROCS(0) {
		workers.Go(func() {
			c := &counter{m: m}
			for j := range m.jobs {
				c.dir(j)
				m.pending.Done()
			}
			mu.Lock()
			total.merge(&c.facts)
			mu.Unlock()
		})
	}
	workers.Wait()
	return total, ctx.Err()
}

type job struct {
	dir  *handle.Dir
	path string
}

type measure struct {
	ctx     context.Context
	o       Options
	mount   uint64
	dev     uint64
	jobs    chan job
	pending sync.WaitGroup
	mu      sync.Mutex
	seen    map[[2]uint64]bool // hard-linked inodes counted already
}

type counter struct {
	m     *measure
	facts Facts
}

// dir counts what j holds and hands directories to idle workers, or goes
// into them itself when nobody is idle: the queue stays small.
func (c *counter) dir(j job) {
	defer j.dir.Release()
	names, err := j.dir.Names()
	if err != nil {
		c.facts.Unreadable.add(j.path)
		return
	}
	before := c.facts
	for _, name := range names {
		if c.m.ctx.Err() != nil {
			return
		}
		e := Entry{Path: join(j.path, name), Name: name, Dir: j.dir}
		if err := j.dir.StatInto(name, &e.Stat); err != nil {
			if !errors.Is(err, fs.ErrNotExist) {
				c.facts.Unreadable.add(e.Path)
			}
			continue
		}
		if e.Stat.MountRoot || e.Stat.Mount != c.m.mount || e.Stat.Dev != c.m.dev {
			c.facts.Mounts.add(e.Path)
			continue
		}
		c.entry(&e)
		if e.Stat.IsDir() {
			c.enter(&e)
		}
	}
	if p := c.m.o.Progress; p != nil {
		p(c.facts.Entries()-before.Entries(), c.facts.Bytes-before.Bytes)
	}
}

func (c *counter) enter(e *Entry) {
	sub, err := e.Dir.Sub(e.Name)
	if err != nil {
		if !gone(err) {
			c.facts.Unreadable.add(e.Path)
		}
		return
	}
	c.m.pending.Add(1)
	select {
	case c.m.jobs <- job{sub, e.Path}:
	default:
		c.dir(job{sub, e.Path})
		c.m.pending.Done()
	}
}

func (c *counter) entry(e *Entry) {
	f, st := &c.facts, &e.Stat
	f.LongestName = max(f.LongestName, len(e.Name))
	once := true
	if !st.IsDir() && st.Nlink > 1 {
		once = c.m.firstName(st)
		f.HardLinked.add(e.Path)
	}
	switch {
	case st.IsDir():
		f.Dirs++
		f.Rounded += c.m.o.Block
	case st.IsRegular():
		f.Files++
		if once {
			f.Bytes += st.Size
			f.Rounded += roundUp(min(st.Size, max(st.Allocated, 1)), c.m.o.Block)
		}
	case st.IsSymlink():
		f.Links++
		f.Rounded += c.m.o.Block
	default:
		f.Special.add(e.Path)
	}
	if once {
		f.Allocated += st.Allocated
	}
	if !c.m.o.SkipDeep {
		c.deep(e)
	}
}

// deep asks what only matters for a copy.
func (c *counter) deep(e *Entry) {
	f, st := &c.facts, &e.Stat
	if c.m.o.MayGive != nil && !c.m.o.MayGive(st.UID, st.GID) {
		f.Foreign.add(e.Path)
	}
	if st.Attributes&(unix.STATX_ATTR_IMMUTABLE|unix.STATX_ATTR_APPEND) != 0 {
		f.Immutable.add(e.Path)
	}
	if st.Attributes&unix.STATX_ATTR_ENCRYPTED != 0 {
		f.Other.add(e.Path)
	}
	if st.IsSymlink() {
		if text, err := e.Dir.Readlink(e.Name); err == nil && LeadsOut(e.Path, text) {
			f.LeadOut.add(e.Path)
		}
	}
	if st.IsRegular() && !c.m.o.Root && e.Dir.Access(e.Name, unix.R_OK) != nil {
		f.Unreadable.add(e.Path)
		return
	}
	xattrs, err := e.Dir.Xattrs(e.Name)
	if err != nil {
		if !errors.Is(err, fs.ErrNotExist) {
			f.Unreadable.add(e.Path)
		}
		return
	}
	c.xattrs(e, xattrs)
}

func (c *counter) xattrs(e *Entry, xattrs []handle.Xattr) {
	plain := false
	for _, x := range xattrs {
		switch {
		case SystemLabel(x.Name), strings.HasPrefix(x.Name, "system.posix_acl_"):
		case strings.HasPrefix(x.Name, "user."):
			plain = true
		case !c.m.o.Root:
			c.facts.Privileged.add(e.Path)
			return
		default:
			plain = true
		}
	}
	if plain {
		c.facts.WithXattrs++
	}
}

// SystemLabel reports an attribute that the system puts on every file by
// its own rules and place (a security label): it is not the folder's.
func SystemLabel(name string) bool {
	return name == "security.selinux" || name == "security.SMACK64"
}

func (m *measure) firstName(st *handle.Stat) bool {
	key := [2]uint64{st.Dev, st.Ino}
	m.mu.Lock()
	defer m.mu.Unlock()
	if m.seen[key] {
		return false
	}
	m.seen[key] = true
	return true
}

func (f *Facts) merge(o *Facts) {
	f.Files += o.Files
	f.Dirs += o.Dirs
	f.Links += o.Links
	f.Bytes += o.Bytes
	f.Allocated += o.Allocated
	f.Rounded += o.Rounded
	f.WithXattrs += o.WithXattrs
	f.LongestName = max(f.LongestName, o.LongestName)
	for _, p := range [][2]*Listing{
		{&f.Unreadable, &o.Unreadable}, {&f.Special, &o.Special}, {&f.Mounts, &o.Mounts},
		{&f.HardLinked, &o.HardLinked}, {&f.LeadOut, &o.LeadOut}, {&f.Foreign, &o.Foreign},
		{&f.Immutable, &o.Immutable}, {&f.Privileged, &o.Privileged}, {&f.Other, &o.Other},
	} {
		p[0].merge(*p[1])
	}
}

func roundUp(n, block int64) int64 { return (n + block - 1) / block * block }

// LeadsOut reports whether a symbolic link at the relative path, with this
// text, climbs out of the folder, so that it would mean something else once
// the folder lies elsewhere. It judges by the text alone; absolute links
// mean the same everywhere.
func LeadsOut(path, text string) bool {
	if strings.HasPrefix(text, "/") {
		return false
	}
	depth := strings.Count(path, "/")
	for part := range strings.SplitSeq(text, "/") {
		switch part {
		case "", ".":
		case "..":
			if depth--; depth < 0 {
				return true
			}
		default:
			depth++
		}
	}
	return false
}

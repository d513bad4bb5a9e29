package inventory

import (
	"context"
	"errors"
	"io"
	"runtime"
	"slices"
	"strings"
	"sync"
	"unicode/utf8"

	"nexlin/internal/handle"
	"nexlin/internal/hardlink"
	"nexlin/internal/junction"
	"nexlin/internal/macos"
)

// listed is how many paths of one kind a [Listing] keeps.
const listed = 5000

// A Listing counts entries of one kind and keeps the first of their paths,
// in the one order. Above five thousand the kept ones are some, not the first.
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

// Counts are how many entries of each kind there are.
type Counts struct {
	Files, Dirs, Links int64
	Nodes              int64 // FIFOs, sockets and devices
	HardLinks          int64 // names of files with more than one
}

// Facts are what is in a folder. Sizes are in bytes.
type Facts struct {
	Counts
	Bytes     int64 // of regular files, apparent; a hard-linked file once
	Allocated int64 // blocks in use; a hard-linked file once
	Rounded   int64 // what a drive with blocks of Options.Block would use

	Unreadable   Listing         // this account may not read them
	Sockets      Listing         // names of sockets
	Devices      Listing         // character and block devices
	Setuid       Listing         // programs that run with another account's rights
	Mounts       Listing         // other file systems inside
	HardOut      Listing         // files of which some names lie outside the folder
	LeadOut      Listing         // relative links that climb out of the folder
	Foreign      Listing         // owner or group that this account may not give
	Immutable    Listing         // marked immutable or append-only
	Unremovable  Listing         // their access list denies everybody removing them
	Privileged   Listing         // attributes only an administrator may set
	Other        Listing         // encrypted entries: reading them is not copying them
	Placeholders Listing         // their content is elsewhere: reading them fetches it
	OddLinks     Listing         // links of a kind that only their maker can follow
	Marked       Listing         // directories whose marks change what names mean, or whose quota it is
	Handled      Listing         // marked for how the file system is to treat them: not for dumps, compressed …
	OwnPath      Listing         // files that name the folder, or something in it, by its path
	Lost         [losses]Listing // what Options.Limits would take from them
}

// Entries is the number of inodes the folder takes.
func (f *Facts) Entries() int64 { return f.Files + f.Dirs + f.Links + f.Nodes }

// Options of a [Measure].
type Options struct {
	Block    int64                      // block size for Facts.Rounded; 0 means 4096
	MayGive  func(uid, gid uint32) bool // whether this account may give this owner; nil means always
	Root     bool                       // this account is the administrator
	SkipDeep bool                       // sizes only: no attributes, no tests of readability
	Limits   Limits                     // of the target: what the folder holds is held against them
	Scratch  string                     // directory for a table that outgrows memory
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
	m := &measure{ctx: ctx, o: o, root: st, at: root.Path(), jobs: make(chan job, 256), links: hardlink.New(o.Scratch)}
	defer m.links.Close()
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
	err = m.links.Outside(func(first string) { total.HardOut.add(first) })
	slices.SortFunc(total.HardOut.Paths, handle.Compare)
	return total, errors.Join(m.err, err, ctx.Err())
}

type job struct {
	dir  *handle.Dir
	path string
}

type measure struct {
	ctx     context.Context
	o       Options
	root    handle.Stat
	at      string // where it is
	jobs    chan job
	pending sync.WaitGroup
	links   *hardlink.Table
	mu      sync.Mutex
	err     error // of the table of hard links; the first one
}

type counter struct {
	m     *measure
	facts Facts
}

// dir counts what j holds and hands directories to idle workers, or goes
// into them itself when nobody is idle: the queue stays small.
func (c *counter) dir(j job) {
	defer j.dir.Release()
	before, beforeBytes := c.facts.Entries(), c.facts.Bytes
	if !c.m.o.SkipDeep {
		marks := j.dir.Marks()
		if marks.FoldsCase || marks.Project != 0 {
			c.facts.Marked.add(j.path)
		}
		if marks.Handling {
			c.facts.Handled.add(j.path)
		}
	}
	err := j.dir.EachStat(func(name []byte, st *handle.Stat, err error) error {
		if c.m.ctx.Err() != nil {
			return c.m.ctx.Err()
		}
		c.child(&j, name, st, err)
		return nil
	})
	if err == nil {
		err = c.m.o.Limits.collisions(j.dir, func(name string) { c.facts.Lost[LossCollide].add(join(j.path, name)) })
	}
	if err != nil && !gone(err) && c.m.ctx.Err() == nil {
		c.facts.Unreadable.add(j.path)
	}
	if p := c.m.o.Progress; p != nil {
		p(c.facts.Entries()-before, c.facts.Bytes-beforeBytes)
	}
}

func (c *counter) child(j *job, name []byte, st *handle.Stat, err error) {
	if err != nil {
		if !gone(err) {
			c.facts.Unreadable.add(join(j.path, string(name)))
		}
		return
	}
	if c.m.o.SkipDeep && st.Nlink == 1 && st.IsRegular() && !st.Elsewhere(&c.m.root) {
		c.file(st, true) // nothing of it needs a name
		return
	}
	e := Entry{Path: join(j.path, string(name)), Name: string(name), Stat: *st, Dir: j.dir}
	if e.Stat.Elsewhere(&c.m.root) {
		c.facts.Mounts.add(e.Path)
		return
	}
	c.entry(&e)
	if e.Stat.IsDir() {
		c.enter(&e)
	}
}

// file counts a regular file; once says that none of its names was counted.
func (c *counter) file(st *handle.Stat, once bool) {
	f := &c.facts
	f.Files++
	if once {
		f.Bytes += st.Size
		f.Allocated += st.Allocated
	}
	if once || c.m.o.Limits.NoHardLinks {
		f.Rounded += roundUp(c.taken(st), c.m.o.Block)
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
	once := true
	if !st.IsDir() && st.Nlink > 1 {
		once = c.firstName(e)
		f.HardLinks++
	}
	switch {
	case st.IsDir():
		f.Dirs++
		f.Rounded += c.m.o.Block
	case st.IsRegular():
		c.file(st, once)
	case st.IsSymlink():
		f.Links++
		f.Rounded += c.m.o.Block
	default:
		f.Nodes++
	}
	if once && !st.IsRegular() {
		f.Allocated += st.Allocated
	}
	if !c.m.o.SkipDeep {
		c.deep(e)
	}
}

// taken is the bytes a file needs on the target before rounding.
func (c *counter) taken(st *handle.Stat) int64 {
	if c.m.o.Limits.NoHoles || st.Attributes&handle.AttrCompressed != 0 {
		return st.Size
	}
	return min(st.Size, max(st.Allocated, 1))
}

// deep asks what only matters for a copy.
func (c *counter) deep(e *Entry) {
	f, st := &c.facts, &e.Stat
	c.standing(e)
	if st.IsSymlink() {
		c.link(e)
	}
	if st.IsRegular() && !c.m.o.Root {
		if err := e.Dir.Access(e.Name, handle.MayRead); err != nil {
			if !gone(err) {
				f.Unreadable.add(e.Path)
			}
			return
		}
	}
	c.kinds(e)
	c.m.o.Limits.lost(f, e)
	if l := &c.m.o.Limits; c.m.o.Root && !l.NoXattrs && !l.NoACLs && l.XattrBytes == 0 {
		return // whatever they are, they can be kept
	}
	xattrs, err := e.Dir.Xattrs(e.Name)
	if err != nil {
		if !gone(err) {
			f.Unreadable.add(e.Path)
		}
		return
	}
	c.m.o.Limits.lostXattrs(f, e, xattrs)
	if !c.m.o.Root {
		c.others(e, xattrs)
	}
}

// others lists what an administrator alone could bring over, or remove, by its attributes.
func (c *counter) others(e *Entry, xattrs []handle.Xattr) {
	f, any := &c.facts, func(is func(x handle.Xattr) bool) bool { return slices.ContainsFunc(xattrs, is) }
	if any(handle.KeepsFromRemoving) {
		f.Unremovable.add(e.Path)
	}
	if any(func(x handle.Xattr) bool { return handle.IsOwner(x.Name) }) {
		f.Foreign.add(e.Path)
	}
	if any(func(x handle.Xattr) bool {
		return !SystemLabel(x.Name) && !IsACL(x.Name) && handle.NeedsRights(x.Name)
	}) {
		f.Privileged.add(e.Path)
	}
}

// standing lists what keeps an entry from being copied or put aside, by what its
// file system says of it.
func (c *counter) standing(e *Entry) {
	f, st := &c.facts, &e.Stat
	if c.m.o.MayGive != nil && !c.m.o.MayGive(st.UID, st.GID) {
		f.Foreign.add(e.Path)
	}
	if st.Attributes&(handle.AttrImmutable|handle.AttrAppend) != 0 {
		f.Immutable.add(e.Path)
	}
	if st.Attributes&handle.AttrEncrypted != 0 {
		f.Other.add(e.Path)
	}
	if st.Attributes&handle.AttrPlaceholder != 0 {
		f.Placeholders.add(e.Path)
	}
	if st.Attributes&(handle.AttrNoDump|handle.AttrCompressed) != 0 || handled(e) {
		f.Handled.add(e.Path)
	}
	if namesItself(e, c.m.at) {
		f.OwnPath.add(e.Path)
	}
}

// selfNaming are files in which tools keep the path of the folder that they lie in: environments of
// Python, worktrees of Git and the repositories these belong to.
var selfNaming = []string{"pyvenv.cfg", "activate", ".git", "gitdir"}

// namesItself looks into such a file for the path of the folder that is measured.
func namesItself(e *Entry, root string) bool {
	const largest = 64 << 10
	if !slices.Contains(selfNaming, e.Name) || !e.Stat.IsRegular() || e.Stat.Size > largest ||
		e.Stat.Attributes&handle.AttrPlaceholder != 0 {
		return false
	}
	f, err := e.Dir.OpenFile(e.Name)
	if err != nil {
		return false // what can't be read is told as that
	}
	defer f.Close()
	b, err := io.ReadAll(io.LimitReader(f, largest))
	return err == nil && namesPath(string(b), root)
}

// namesPath reports whether a text has a path in it, whole or with more behind it.
func namesPath(text, path string) bool {
	for rest, found := text, true; ; {
		if _, rest, found = strings.Cut(rest, path); !found {
			return false
		}
		if rest == "" || strings.ContainsRune("/\\\"' \t\r\n:;)", rune(rest[0])) {
			return true
		}
	}
}

// handled asks a large file for marks that only an open file tells: an image of a disk
// that is to be written in place. To open every small one would cost more than it tells.
func handled(e *Entry) bool {
	if !e.Stat.IsRegular() || e.Stat.Size < 1<<20 || e.Stat.Attributes&handle.AttrPlaceholder != 0 {
		return false
	}
	f, err := e.Dir.OpenFile(e.Name)
	if err != nil {
		return false // what can't be read is told as that
	}
	defer f.Close()
	return f.Marks().Handling
}

// link looks at what a link says, and, on NTFS, what it is.
func (c *counter) link(e *Entry) {
	data, err := e.Dir.Reparse(e.Name)
	if tag := junction.TagOf(data); err == nil && tag != 0 {
		if !junction.IsLink(tag) {
			c.facts.Placeholders.add(e.Path) // a driver shows what it can't read as a link
			return
		}
		if !junction.Known(tag) {
			c.facts.OddLinks.add(e.Path)
			return
		}
		if c.m.o.Limits.NoJunctions {
			c.facts.Lost[LossSymlink].add(e.Path)
		}
	}
	text, err := e.Dir.Readlink(e.Name)
	if err == nil && LeadsOut(e.Path, text) {
		c.facts.LeadOut.add(e.Path)
	}
	if l := &c.m.o.Limits; err == nil && l.LinkText && !l.NoSymlinks && !utf8.ValidString(text) {
		c.facts.Lost[LossSymlink].add(e.Path)
	}
}

// kinds lists what a target has to be looked at for.
func (c *counter) kinds(e *Entry) {
	f, st := &c.facts, &e.Stat
	switch {
	case st.IsDevice():
		f.Devices.add(e.Path)
	case st.Type() == handle.TypeSocket:
		f.Sockets.add(e.Path)
	case st.IsRegular() && (st.Mode&handle.SetUID != 0 || st.Mode&handle.SetGID != 0 && st.Mode&0o010 != 0):
		f.Setuid.add(e.Path)
	}
}

// SystemLabel reports an attribute that the system puts on every file by
// its own rules and place (a security label, which program may open it), or shows a second time under
// another name (XFS, its ACLs): it is not the folder's.
func SystemLabel(name string) bool {
	return handle.OfWindows(name) || macos.Guarded(name) || name == "security.selinux" || name == "security.SMACK64" ||
		strings.HasPrefix(name, "trusted.SGI_ACL_")
}

func (c *counter) firstName(e *Entry) bool {
	first, _, err := c.m.links.Add(hardlink.ID(e.Stat.ID()), e.Stat.Nlink, e.Path, 0)
	if err != nil {
		c.m.mu.Lock()
		defer c.m.mu.Unlock()
		if c.m.err == nil {
			c.m.err = err
		}
	}
	return first == e.Path
}

func (f *Facts) merge(o *Facts) {
	f.Files += o.Files
	f.Dirs += o.Dirs
	f.Links += o.Links
	f.Bytes += o.Bytes
	f.Allocated += o.Allocated
	f.Rounded += o.Rounded
	f.Nodes += o.Nodes
	f.HardLinks += o.HardLinks
	for _, p := range [][2]*Listing{
		{&f.Unreadable, &o.Unreadable}, {&f.Sockets, &o.Sockets}, {&f.Devices, &o.Devices}, {&f.Setuid, &o.Setuid},
		{&f.Mounts, &o.Mounts}, {&f.HardOut, &o.HardOut}, {&f.LeadOut, &o.LeadOut},
		{&f.Placeholders, &o.Placeholders}, {&f.Foreign, &o.Foreign},
		{&f.Immutable, &o.Immutable}, {&f.Marked, &o.Marked}, {&f.Handled, &o.Handled},
		{&f.Privileged, &o.Privileged}, {&f.Other, &o.Other}, {&f.OddLinks, &o.OddLinks},
		{&f.Unremovable, &o.Unremovable}, {&f.OwnPath, &o.OwnPath},
	} {
		p[0].merge(*p[1])
	}
	for i := range f.Lost {
		f.Lost[i].merge(o.Lost[i])
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

package drive

import (
	"bytes"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"slices"
	"sort"
	"strings"
	"syscall"
	"time"

	"nexlin/internal/handle"
	"nexlin/internal/junction"
)

// Abilities is what a directory's file system can keep, as tried.
type Abilities struct {
	Symlinks  bool
	Junctions bool // NTFS alone has them
	HardLinks bool
	Nodes     bool // FIFOs and names of sockets
	Devices   bool // device nodes; tried as administrator only, false otherwise
	Modes     bool // all twelve bits
	FileMode  uint32
	DirMode   uint32 // what private files and directories get where modes are not kept
	Owners    bool   // tried as administrator; otherwise whether own files are own
	UID, GID  uint32 // whom files belong to where owners are not kept
	Xattrs    bool   // user.*
	ACLs      bool
	Exchange  bool // exchange of two entries in one act
	CaseSeen  bool // names that differ in case alone are two
	Composes  bool // names that differ in Unicode normalisation alone are one
	Holes     bool

	OnlyText  bool   // names have to be UTF-8
	BadBytes  string // of the bytes that some systems refuse, those refused here
	NoTrail   bool   // names can't end in a full stop or a space
	Reserved  bool   // names such as CON can't be used
	NameBytes int    // longest name in bytes; 0 if it is counted in UTF-16 units
	NameUnits int    // longest name in UTF-16 units; 0 if it is counted in bytes

	LinkBytes  int  // longest text of a symbolic link, in bytes
	LinkText   bool // texts of symbolic links have to be UTF-8
	XattrText  bool // names of attributes have to be UTF-8
	XattrUser  bool // only user.* attributes are kept; tried as administrator
	XattrBytes int  // largest attribute, in bytes; the tries end at 60 KiB

	TimeStep time.Duration // times are kept to this; 0 if they are not kept at all
	Oldest   int64         // seconds since 1970 of the earliest probe that was kept
	Newest   int64         // and of the latest
	MaxFile  int64         // largest file in bytes; 0 if no limit was met
}

// Bytes reports whether a name may hold any bytes.
func (a *Abilities) Bytes() bool { return !a.OnlyText && a.BadBytes == "" }

// Longest is how many letters of ASCII a name can have.
func (a *Abilities) Longest() int { return max(a.NameBytes, a.NameUnits) }

// Nanotimes reports whether times are kept exactly.
func (a *Abilities) Nanotimes() bool { return a.TimeStep == time.Nanosecond }

// TrialName is the beginning of the name of the trial directory.
const TrialName = ".nexlin-try-"

// Try finds out what the file system of d can keep, see [InTrial]. An error of the drive (no
// room, input/output) is an error, never "cannot keep".
func Try(d *handle.Dir) (a Abilities, err error) {
	err = InTrial(d, func(t *handle.Dir) (err error) {
		tr := trial{dir: t}
		a, err = tr.all()
		return err
	})
	return a, err
}

// InTrial calls f with a private directory in d, which it makes and takes away
// again; the times of d are put back. What a trial that was killed has left is
// taken away first.
func InTrial(d *handle.Dir, f func(t *handle.Dir) error) (err error) {
	before, err := d.Self()
	if err != nil {
		return err
	}
	defer func() {
		// Times can be set by the owner only; elsewhere they stay as they are.
		if e := d.SetTimes(before.Atime, before.Mtime); e != nil && !errors.Is(e, fs.ErrPermission) {
			err = errors.Join(err, e)
		}
	}()
	name, t, err := trialDir(d)
	if err != nil {
		return err
	}
	defer t.Release()
	defer func() {
		if unmade(d, name, t) != nil { // what fails once need not fail again, and else stays beside the folder
			err = errors.Join(err, unmade(d, name, t))
		}
	}()
	return f(t)
}

// unmade takes a trial directory away with all that is in it.
func unmade(d *handle.Dir, name string, t *handle.Dir) error {
	return handle.InOrder(func() error { return emptied(t) }, func() error { return d.Rmdir(name) })
}

// trialMark is an entry that a trial directory has, so that what one left behind is told from
// another directory of this account's, which somebody else has put under its name (I6).
const trialMark = "nexlin-trial"

// places is how many trials may go on in one directory under the usual names.
const places = 4

// trialDir makes the trial directory under the first name that is free, and
// locks it. One that is this account's and that nobody has locked was left by a
// trial that was killed: it is emptied and used.
func trialDir(d *handle.Dir) (name string, t *handle.Dir, err error) {
	for i := range places + 1 {
		if name = fmt.Sprintf("%s%d", TrialName, i); i == places {
			name = TrialName + NewID()[:8]
		}
		made := d.Mkdir(name, 0o700)
		if made != nil && (i == places || !errors.Is(made, fs.ErrExist)) {
			return "", nil, made
		}
		if t, err = d.Sub(name); err != nil {
			if made == nil && !handle.Missing(err) {
				return "", nil, errors.Join(err, handle.IgnoreMissing(d.Rmdir(name)))
			}
			continue // something else has the name, or another trial took it for one left behind
		}
		err := claim(d, name, t, made == nil)
		if err == nil && made != nil {
			err = emptied(t)
		}
		if err == nil {
			err = marked(t)
		}
		if err == nil {
			return name, t, nil
		}
		if made == nil && !errors.Is(err, syscall.EWOULDBLOCK) {
			err = errors.Join(err, unmade(d, name, t))
			t.Release()
			return "", nil, err
		}
		t.Release()
	}
	return "", nil, &fs.PathError{Op: "try", Path: d.Path(), Err: fs.ErrExist}
}

// claim wants the trial directory t, called name in d, to be this account's, and
// locks it. The error is EWOULDBLOCK if another trial is at work in it, or has just
// taken it away.
func claim(d *handle.Dir, name string, t *handle.Dir, fresh bool) error {
	// Whoever may write in d could have put another directory there meanwhile.
	// A file system that keeps no owners shows all of them as one: then there
	// is nothing to tell apart, and the modes tell that it keeps none.
	st, err := t.Self()
	if err == nil && st.UID != uint32(os.Geteuid()) && st.Perm() == 0o700 {
		err = &fs.PathError{Op: "try", Path: t.Path(), Err: fs.ErrPermission}
	}
	if err == nil {
		err = t.Lock(true)
	}
	if fresh && noLocks(err) {
		err = nil // a file system without locks: what is new is ours all the same
	}
	if err != nil {
		return err
	}
	is, err := d.Stat(name)
	if handle.Missing(err) || err == nil && !is.SameInode(&st) {
		return syscall.EWOULDBLOCK
	}
	return err
}

// DropTrials takes away what trials of this account that were killed have left in d.
// One that goes on is left.
func DropTrials(d *handle.Dir) error {
	for i := range places {
		name := fmt.Sprintf("%s%d", TrialName, i)
		t, err := d.Sub(name)
		if err != nil {
			continue // there is none, or something else has the name
		}
		st, err := t.Self()
		// else it is not for us to take away
		if err == nil && st.UID == uint32(os.Geteuid()) && claim(d, name, t, false) == nil {
			if err = unmade(d, name, t); errors.Is(err, fs.ErrExist) {
				err = nil // another directory than one of a trial
			}
		}
		t.Release()
		if err != nil {
			return err
		}
	}
	return nil
}

// noLocks reports what a file system without locks answers (flock(2)).
func noLocks(err error) bool {
	for _, e := range []error{syscall.EOPNOTSUPP, syscall.ENOSYS, syscall.ENOLCK, syscall.EINVAL} {
		if errors.Is(err, e) {
			return true
		}
	}
	return false
}

// marked has a trial directory say that it is one.
func marked(t *handle.Dir) error {
	f, err := t.Create(trialMark, 0o600)
	if err != nil {
		return err
	}
	return f.Close()
}

// emptied takes away what a trial has made, the mark last: nothing in it is a directory with
// entries. A directory with entries and without the mark is none.
func emptied(t *handle.Dir) error {
	names, err := t.Names()
	if err == nil && len(names) > 0 {
		i := slices.Index(names, trialMark)
		if i < 0 {
			return &fs.PathError{Op: "try", Path: t.Path(), Err: fs.ErrExist}
		}
		names = append(slices.Delete(names, i, i+1), trialMark)
	}
	for _, n := range names {
		if err == nil {
			if err = t.Unlink(n); err != nil {
				err = t.Rmdir(n)
			}
		}
	}
	return err
}

type trial struct {
	dir *handle.Dir
	err error
}

// no tells "this drive cannot" from a fault of the drive: these are what file
// systems answer to what they do not have. Everything else, such as a right
// that is missing (EACCES), fails the trial.
func (t *trial) no(err error) bool {
	if err == nil {
		return false
	}
	for _, cannot := range []error{
		syscall.EOPNOTSUPP, syscall.ENOSYS, syscall.EINVAL, syscall.EPERM, syscall.EILSEQ, syscall.ENAMETOOLONG,
		syscall.EEXIST,
	} {
		if errors.Is(err, cannot) {
			return true
		}
	}
	t.err = errors.Join(t.err, err)
	return true
}

func (t *trial) file(name string) error {
	f, err := t.dir.Create(name, 0o600)
	if err != nil {
		return err
	}
	return f.Close()
}

func (t *trial) all() (Abilities, error) {
	var a Abilities
	if err := t.file("a"); err != nil {
		return a, err
	}
	st, err := t.dir.Stat("a")
	if err != nil {
		return a, err
	}
	own, err := t.dir.Self()
	if err != nil {
		return a, err
	}
	a.FileMode, a.DirMode, a.UID, a.GID = st.Perm(), own.Perm(), st.UID, st.GID
	t.entries(&a)
	a.Modes, a.Owners = t.modes(), t.owners(&st)
	t.times(&a)
	a.Xattrs = t.xattr(handle.Xattr{Name: "user.nexlin", Value: []byte("x")})
	acl := handle.SampleACL()
	a.ACLs = acl.Name == "" || t.xattr(acl)
	a.XattrBytes = t.xattrSize(a.Xattrs)
	a.XattrText = a.Xattrs && !t.xattr(handle.Xattr{Name: "user.\xff", Value: []byte("x")})
	a.XattrUser = a.Xattrs && os.Geteuid() == 0 && !t.xattr(handle.Xattr{Name: "trusted.nexlin", Value: []byte("x")})
	a.Exchange = t.exchange()
	t.names(&a)
	t.sizes(&a)
	return a, t.err
}

// entries tries the kinds of entry.
func (t *trial) entries(a *Abilities) {
	if err := t.dir.Symlink("a", "link"); !t.no(err) {
		_, err := t.dir.Stat("link")
		a.Symlinks = !errors.Is(err, fs.ErrNotExist) && !t.no(err) // some say so and make none
	}
	for _, n := range []int{4095, 1023} {
		name := fmt.Sprintf("link-%d", n)
		if a.Symlinks && a.LinkBytes == 0 && !t.no(t.dir.Symlink(strings.Repeat("x", n), name)) {
			a.LinkBytes = n
		}
	}
	if a.Symlinks {
		const bytes = "\xff\xfe"
		err := t.dir.Symlink(bytes, "link-bytes")
		if err == nil {
			var got string
			got, err = t.dir.Readlink("link-bytes")
			a.LinkText = err != nil || got != bytes
		} else {
			a.LinkText = t.no(err)
		}
	}
	if err := t.dir.Symlink(handle.JunctionText+`C:\nexlin`, "junction"); !t.no(err) {
		// Where there are none it is a symbolic link with an odd text.
		data, err := t.dir.Reparse("junction")
		a.Junctions = !t.no(err) && junction.TagOf(data) == junction.Tag
	}
	if err := t.dir.Link("a", t.dir, "second"); !t.no(err) {
		x, err := t.dir.Stat("a")
		y, err2 := t.dir.Stat("second")
		a.HardLinks = !t.no(errors.Join(err, err2)) && x.SameInode(&y)
	}
	a.Nodes = t.node(handle.TypeFIFO) && t.node(handle.TypeSocket)
	// Whoever may not make device nodes does not learn whether the drive keeps them.
	a.Devices = os.Geteuid() == 0 && t.node(handle.TypeChar)
}

func (t *trial) node(kind uint32) bool {
	const name = "node"
	err := t.dir.Mknod(name, kind|0o600, handle.Device(1, 3))
	st, statErr := t.dir.Stat(name)
	// Some make a plain file and then say that it failed.
	if e := t.dir.Unlink(name); e != nil && !errors.Is(e, fs.ErrNotExist) {
		t.err = errors.Join(t.err, e)
	}
	if statErr != nil && !errors.Is(statErr, fs.ErrNotExist) {
		t.err = errors.Join(t.err, statErr)
	}
	if errors.Is(err, syscall.EIO) &&
		t.always(syscall.EIO, func() error { return t.dir.Mknod(name, kind|0o600, handle.Device(1, 3)) }) {
		return false // exFAT through FUSE calls it a fault
	}
	return !t.no(err) && statErr == nil && st.Type() == kind
}

// always tells a file system that answers with a fault to what it does not
// have from a drive that fails: the same answer again, while a plain file can
// be made and removed in between.
func (t *trial) always(what error, do func() error) bool {
	const name = "node"
	for range 2 {
		f, err := t.dir.Create(name, 0o600)
		if err == nil {
			err = errors.Join(f.Close(), t.dir.Unlink(name))
		}
		if err != nil || !errors.Is(do(), what) {
			return false
		}
		if err := t.dir.Unlink(name); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return false
		}
	}
	return true
}

// TimeStep finds out by trial how exactly the file system of dir keeps times;
// 1 ns where it keeps all that is given, 0 where that can't be told. It is tried on a file in a private
// directory called scratch, which is taken away again, also one that a killed
// trial left; the times of dir are put back where this account may do that.
func TimeStep(dir *handle.Dir, scratch string, plain bool) (step time.Duration, err error) {
	before, err := dir.Self()
	if err != nil {
		return 0, err
	}
	p, err := dir.Private(scratch, plain)
	if errors.Is(err, fs.ErrPermission) {
		// Nothing private can be made there, as on a drive that belongs to another
		// account as a whole. Only what is empty goes.
		if err := dir.Rmdir(scratch); err != nil && !errors.Is(err, fs.ErrNotExist) &&
			!errors.Is(err, fs.ErrPermission) {
			return 0, err
		}
		return 0, handle.IgnorePermission(dir.SetTimes(before.Atime, before.Mtime))
	}
	if err != nil {
		return 0, err
	}
	defer p.Release()
	f, err := p.Create(handle.InPrivate, 0o600)
	if err == nil {
		err = f.SetTimes(sampleTime, sampleTime)
		st, e := f.Stat()
		err = errors.Join(err, e, f.Close())
		step = stepOf(st.Mtime)
	}
	return step, errors.Join(err, dir.DropPrivate(scratch, p),
		handle.IgnorePermission(dir.SetTimes(before.Atime, before.Mtime)))
}

// sampleTime has nothing that a coarser step would keep.
var sampleTime = handle.Time{Sec: 1700000001, Nsec: 987654321}

// stepOf is the step to which sampleTime was rounded; 0 if it was not kept at
// all.
func stepOf(got handle.Time) time.Duration {
	for _, step := range []time.Duration{1, 100, time.Microsecond, time.Millisecond, 10 * time.Millisecond,
		time.Second, 2 * time.Second} {
		if got == handle.Rounded(sampleTime, step) {
			return step
		}
	}
	return 0
}

// times finds out how exactly times are kept, and between which years.
func (t *trial) times(a *Abilities) {
	kept := func(want handle.Time) (handle.Time, bool) {
		if t.no(t.dir.SetTimesEntry("a", want, want)) {
			return want, false
		}
		st, err := t.dir.Stat("a")
		return st.Mtime, !t.no(err)
	}
	if got, ok := kept(sampleTime); ok {
		a.TimeStep = stepOf(got)
	}
	for _, sec := range []int64{-1 << 31, 0, 315532800, 1 << 30, 1<<31 - 1, 1 << 31, 4354819198} {
		got, ok := kept(handle.Time{Sec: sec})
		if !ok || got != handle.Rounded(handle.Time{Sec: sec}, a.TimeStep) {
			continue
		}
		if a.Newest == 0 {
			a.Oldest = sec
		}
		a.Newest = max(a.Newest, sec, 1)
	}
}

// suspects are the bytes that file systems of other systems refuse in names.
var suspects = func() (s string) {
	for c := byte(1); c < ' '; c++ {
		s += string(c)
	}
	return s + "\"*:<>?\\|\x7f"
}()

// names finds out what a name may look like. A name counts as taken only if
// it is listed as it was given.
func (t *trial) names(a *Abilities) {
	var tried []string
	for _, c := range suspects {
		tried = append(tried, "n"+string(c))
	}
	tried = append(tried, "\xff\xfe", "t.", "t ", "CON", "aux.txt")
	long := func(unit string, n int) string { return strings.Repeat(unit, n) }
	tried = append(tried, long("a", 255), long("\u00e9", 255))
	ok := map[string]bool{}
	for _, n := range tried {
		ok[n] = t.name(n)
	}
	listed, err := t.dir.Names()
	if err != nil {
		t.err = errors.Join(t.err, err)
	}
	for n := range ok {
		ok[n] = ok[n] && slices.Contains(listed, n)
	}
	for _, c := range suspects {
		if !ok["n"+string(c)] {
			a.BadBytes += string(c)
		}
	}
	a.OnlyText = !ok["\xff\xfe"]
	a.NoTrail = !ok["t."] || !ok["t "]
	a.Reserved = !ok["CON"] || !ok["aux.txt"]
	switch {
	case ok[long("\u00e9", 255)]:
		a.NameUnits = 255
	case ok[long("a", 255)]:
		a.NameBytes = 255
	default: // the longest one that works, below that
		a.NameBytes = sort.Search(254, func(n int) bool { return !t.name(long("b", n+1)) })
	}
	a.CaseSeen = t.name("A")
	if t.name("n\u00e9") {
		_, err := t.dir.Stat("ne\u0301")
		a.Composes = err == nil
		if err != nil && !errors.Is(err, fs.ErrNotExist) {
			t.err = errors.Join(t.err, err)
		}
	}
}

// name tries a name; one that exists already, in other letters, is refused.
func (t *trial) name(n string) bool {
	err := t.file(n)
	return !errors.Is(err, fs.ErrNotExist) && !t.no(err)
}

// sizes finds out about holes and the largest file. Where there are no holes
// a large file would take long to make, unless it is refused at once.
func (t *trial) sizes(a *Abilities) {
	f, err := t.dir.Create("hole", 0o600)
	if t.no(err) {
		return
	}
	defer f.Close()
	if t.no(f.Truncate(4 << 20)) {
		return
	}
	st, err := f.Stat()
	a.Holes = !t.no(err) && st.Allocated < 1<<20
	if !a.Holes && !t.isFAT() {
		return
	}
	err = f.Truncate(1 << 32)
	if errors.Is(err, syscall.EFBIG) {
		a.MaxFile = 1<<32 - 1
		return
	}
	t.no(err)
}

func (t *trial) modes() bool {
	for _, m := range []uint32{0o7751, 0o4600, 0o440} {
		if t.no(t.dir.ChmodEntry("a", m)) {
			return false
		}
		if st, err := t.dir.Stat("a"); t.no(err) || st.Perm() != m {
			return false
		}
	}
	return !t.no(t.dir.ChmodEntry("a", 0o600))
}

func (t *trial) owners(made *handle.Stat) bool {
	if os.Geteuid() != 0 {
		return made.UID == uint32(os.Geteuid())
	}
	if t.no(t.dir.ChownEntry("a", 12345, 23456)) {
		return false
	}
	st, err := t.dir.Stat("a")
	return !t.no(err) && st.UID == 12345 && st.GID == 23456 && !t.no(t.dir.ChownEntry("a", 0, 0))
}

func (t *trial) xattr(x handle.Xattr) bool {
	if t.no(t.dir.SetXattr("a", x)) {
		return false
	}
	got, err := t.dir.Xattrs("a")
	if t.no(err) {
		return false
	}
	for _, g := range got {
		if g.Name == x.Name {
			return bytes.Equal(g.Value, x.Value)
		}
	}
	return false
}

// xattrSize finds out how large an attribute may be. That there is no room
// for one is no lack of room on the drive, if it is so each time.
func (t *trial) xattrSize(can bool) int {
	if !can {
		return 0
	}
	x := handle.Xattr{Name: "user.nexlin"}
	var refused error
	tooLarge := func(n int) bool {
		x.Value = make([]byte, n)
		err := t.dir.SetXattr("a", x)
		if errors.Is(err, syscall.ENOSPC) || errors.Is(err, syscall.E2BIG) || errors.Is(err, syscall.ERANGE) {
			refused = err
			return true
		}
		return t.no(err)
	}
	n := sort.Search(60<<10, func(n int) bool { return tooLarge(n + 1) })
	if n < 60<<10 && !tooLarge(n+1) || n > 0 && tooLarge(n) {
		t.err = errors.Join(t.err, refused)
	}
	t.no(t.dir.RemoveXattr("a", x.Name)) // room for the next
	return n
}

func (t *trial) exchange() bool {
	return !t.no(t.file("b")) && !t.no(t.dir.Exchange("a", t.dir, "b"))
}

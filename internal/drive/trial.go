package drive

import (
	"bytes"
	"errors"
	"io/fs"
	"os"
	"syscall"

	"golang.org/x/sys/unix"

	"nexlin/internal/handle"
)

// Abilities is what a directory's file system can keep, as tried.
type Abilities struct {
	Symlinks  bool
	Modes     bool // all twelve bits
	Owners    bool // tried as administrator; true otherwise, since own files stay own
	Nanotimes bool
	Xattrs    bool // user.*
	ACLs      bool
	NoReplace bool // rename that never replaces
	Exchange  bool // exchange of two entries in one act
	Bytes     bool // names of any bytes
	CaseSeen  bool // names that differ in case alone are two
	Holes     bool
}

// TrialName is the beginning of the name of the trial directory.
const TrialName = ".nexlin-try-"

// Try finds out what the file system of d can keep, in a directory it makes
// there and removes; the times of d are put back. An error of the drive (no
// room, input/output) is an error, never "cannot keep".
func Try(d *handle.Dir) (a Abilities, err error) {
	before, err := d.Self()
	if err != nil {
		return a, err
	}
	name := TrialName + NewID()[:8]
	if err := d.Mkdir(name, 0o700); err != nil {
		return a, err
	}
	defer func() {
		err = errors.Join(err, d.Rmdir(name))
		// Times can be set by the owner only; elsewhere they stay as they are.
		if e := d.SetTimes(before.Atime, before.Mtime); e != nil && !errors.Is(e, fs.ErrPermission) {
			err = errors.Join(err, e)
		}
	}()
	t, err := d.Sub(name)
	if err != nil {
		return a, err
	}
	defer t.Release()
	// Whoever may write in d could have put another directory there meanwhile.
	// A file system that keeps no owners shows all of them as one: then there
	// is nothing to tell apart, and the modes tell that it keeps none.
	st, err := t.Self()
	if err != nil {
		return a, err
	}
	if st.UID != uint32(os.Geteuid()) && st.Perm() == 0o700 {
		return a, &fs.PathError{Op: "try", Path: t.Path(), Err: fs.ErrPermission}
	}
	tr := trial{dir: t}
	defer tr.clean(&err)
	return tr.all()
}

type trial struct {
	dir  *handle.Dir
	made []string
	err  error
}

// no tells "this drive cannot" from a fault of the drive.
func (t *trial) no(err error) bool {
	if err == nil {
		return false
	}
	for _, cannot := range []error{
		unix.EOPNOTSUPP, unix.ENOSYS, unix.EINVAL, unix.EPERM, unix.EILSEQ, unix.EACCES, unix.ENAMETOOLONG, unix.EEXIST,
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
	t.made = append(t.made, name)
	return f.Close()
}

func (t *trial) clean(err *error) {
	for _, n := range t.made {
		if e := t.dir.Unlink(n); e != nil && !errors.Is(e, fs.ErrNotExist) {
			*err = errors.Join(*err, e)
		}
	}
}

func (t *trial) all() (Abilities, error) {
	var a Abilities
	d := t.dir
	if err := t.file("a"); err != nil {
		return a, err
	}
	if err := d.Symlink("a", "link"); !t.no(err) {
		t.made = append(t.made, "link")
		a.Symlinks = true
	}
	a.Modes, a.Owners = t.modes(), t.owners()
	want := handle.Time{Sec: 1700000001, Nsec: 123456789}
	if !t.no(d.SetTimesEntry("a", want, want)) {
		st, err := d.Stat("a")
		a.Nanotimes = !t.no(err) && st.Mtime == want
	}
	a.Xattrs = t.xattr(handle.Xattr{Name: "user.nexlin", Value: []byte("x")})
	// user::rw- user:1:r-- group::--- mask::r-- other::---, acl(5) as stored.
	a.ACLs = t.xattr(handle.Xattr{Name: "system.posix_acl_access", Value: []byte{
		2, 0, 0, 0, 1, 0, 6, 0, 255, 255, 255, 255, 2, 0, 4, 0, 1, 0, 0, 0, 4, 0, 0, 0, 255, 255, 255, 255,
		16, 0, 4, 0, 255, 255, 255, 255, 32, 0, 0, 0, 255, 255, 255, 255}})
	a.NoReplace, a.Exchange = t.renames()
	a.Bytes = !t.no(t.file("\xff\x01?*:"))
	a.CaseSeen = !t.no(t.file("A"))
	a.Holes = t.holes()
	return a, t.err
}

func (t *trial) modes() bool {
	for _, m := range []uint32{0o7751, 0o4600, 0o440} {
		if t.no(unix.Fchmodat(t.dir.Fd(), "a", m, 0)) {
			return false
		}
		if st, err := t.dir.Stat("a"); t.no(err) || st.Perm() != m {
			return false
		}
	}
	return !t.no(unix.Fchmodat(t.dir.Fd(), "a", 0o600, 0))
}

func (t *trial) owners() bool {
	if os.Geteuid() != 0 {
		return true
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

func (t *trial) renames() (noReplace, exchange bool) {
	if err := t.file("b"); t.no(err) {
		return false, false
	}
	noReplace = errors.Is(t.dir.Rename("a", t.dir, "b"), fs.ErrExist)
	return noReplace, !t.no(t.dir.Exchange("a", t.dir, "b"))
}

func (t *trial) holes() bool {
	f, err := t.dir.Create("hole", 0o600)
	if t.no(err) {
		return false
	}
	defer f.Close()
	t.made = append(t.made, "hole")
	if t.no(f.Truncate(4 << 20)) {
		return false
	}
	st, err := handle.StatFile(f)
	return !t.no(err) && st.Allocated < 1<<20
}

func deviceOf(fi os.FileInfo) uint64 { return fi.Sys().(*syscall.Stat_t).Dev }

package selftest

import (
	"crypto/sha256"
	"encoding/binary"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"sort"
	"strings"
	"time"

	"nexlin/internal/drive"
	"nexlin/internal/handle"
)

// The sizes of the folder that is moved: large enough that a kill meets it half-way, small
// enough for a slow drive.
const (
	smallFiles = 160
	smallDirs  = 8
	largeFile  = 16 << 20
	holeFile   = 4 << 20
	depth      = 12
)

// A tree makes the folder that is moved, with all that the two drives can keep. What one of them
// can't is left out, and named.
type tree struct {
	dir     *handle.Dir
	a, b    *drive.Abilities
	leftOut []string
}

// part makes one kind of entry if both drives can keep it.
func (t *tree) part(kind string, can bool, make func() error) error {
	if !can {
		t.leftOut = append(t.leftOut, kind)
		return nil
	}
	if err := make(); err != nil {
		return fmt.Errorf("%s: %w", kind, err)
	}
	return nil
}

func (t *tree) both(can func(*drive.Abilities) bool) bool { return can(t.a) && can(t.b) }

// make makes all of it.
func (t *tree) make() error {
	modes := t.both(func(a *drive.Abilities) bool { return a.Modes })
	return handle.InOrder(
		t.plain, t.names, t.links,
		func() error {
			return t.part("names of one file", t.both(func(a *drive.Abilities) bool { return a.HardLinks }),
				func() error { return t.dir.Link("plain", t.dir, "plain too") })
		},
		func() error {
			return t.part("a FIFO", t.both(func(a *drive.Abilities) bool { return a.Nodes }),
				func() error { return t.dir.Mknod("fifo", handle.TypeFIFO|0o600, 0) })
		},
		func() error {
			return t.part("a file with a hole", t.both(func(a *drive.Abilities) bool { return a.Holes }), t.hole)
		},
		func() error {
			return t.part("attributes", t.both(func(a *drive.Abilities) bool { return a.Xattrs }), t.attributes)
		},
		t.times,
		func() error { return t.part("permissions", modes, t.permissions) },
	)
}

// plain makes files of several sizes, and directories.
func (t *tree) plain() error {
	err := handle.InOrder(
		func() error { return t.file(t.dir, "plain", 5000) },
		func() error { return t.file(t.dir, "nothing in it", 0) },
		func() error { return t.file(t.dir, "large", largeFile) },
		func() error { return t.dir.Mkdir("nothing below", 0o755) },
	)
	for i := 0; i < smallDirs && err == nil; i++ {
		err = t.below(fmt.Sprintf("many %d", i), func(d *handle.Dir) (err error) {
			for k := 0; k < smallFiles/smallDirs && err == nil; k++ {
				err = t.file(d, fmt.Sprintf("file %d", k), int64(1+k*97))
			}
			return err
		})
	}
	if err == nil {
		err = t.deep(t.dir, depth)
	}
	return err
}

func (t *tree) deep(d *handle.Dir, levels int) error {
	if levels == 0 {
		return t.file(d, "at the bottom", 100)
	}
	return below(d, "deeper", func(sub *handle.Dir) error { return t.deep(sub, levels-1) })
}

func (t *tree) below(name string, f func(*handle.Dir) error) error { return below(t.dir, name, f) }

func below(d *handle.Dir, name string, f func(*handle.Dir) error) error {
	if err := d.Mkdir(name, 0o755); err != nil {
		return err
	}
	sub, err := d.Sub(name)
	if err != nil {
		return err
	}
	defer sub.Release()
	return f(sub)
}

// odd are kinds of names, with what a drive has to do to keep them and to tell them apart.
var odd = []struct {
	kind  string
	kept  func(*drive.Abilities) bool
	names []string
}{
	{"names with spaces, quotes and other scripts", func(*drive.Abilities) bool { return true },
		[]string{"it's a \u00ab name \u00bb", "\u00fcber", "\u6d77 \u9ce5", "\U0001f41a"}},
	{"names that differ in case alone", func(a *drive.Abilities) bool { return a.CaseSeen },
		[]string{"Gull", "gull"}},
	{"names that differ in how letters are composed", func(a *drive.Abilities) bool { return !a.Composes },
		[]string{"caf\u00e9", "cafe\u0301"}},
	{"names that end in a full stop", func(a *drive.Abilities) bool { return !a.NoTrail }, []string{"ends."}},
	{"names that are devices elsewhere", func(a *drive.Abilities) bool { return !a.Reserved }, []string{"aux.txt"}},
	{"names of any bytes", (*drive.Abilities).Bytes, []string{"\xff\xfe", "two\nlines", "a:b*c?", "back\\slash"}},
}

// names makes files whose names are kept by both drives, and one with the longest name.
func (t *tree) names() error {
	return t.below("names", func(d *handle.Dir) error {
		for _, o := range odd {
			for i, name := range o.names {
				if i > 0 && !t.both(o.kept) {
					break // it was said of the first
				}
				if err := t.part(o.kind, t.both(o.kept),
					func() error { return t.file(d, name, int64(len(name))) }); err != nil {
					return err
				}
			}
		}
		return t.file(d, strings.Repeat("l", min(t.a.Longest(), t.b.Longest())), 1)
	})
}

func (t *tree) links() error {
	return t.part("symbolic links", t.both(func(a *drive.Abilities) bool { return a.Symlinks }), func() error {
		return handle.InOrder(
			func() error { return t.dir.Symlink("plain", "leads to a file") },
			func() error { return t.dir.Symlink("names", "leads to a directory") },
			func() error { return t.dir.Symlink("nobody", "leads nowhere") },
		)
	})
}

func (t *tree) hole() error {
	f, err := t.dir.Create("hole", 0o644)
	if err != nil {
		return err
	}
	_, err = f.WriteAt([]byte("the end"), holeFile)
	return errors.Join(err, f.Close())
}

func (t *tree) attributes() error {
	x := handle.Xattr{Name: "user.nexlin-selftest", Value: []byte("a note")}
	return handle.InOrder(
		func() error { return t.dir.SetXattr("plain", x) },
		func() error { return t.dir.SetXattr("nothing below", x) },
	)
}

// times gives files times that both drives keep.
func (t *tree) times() error {
	for i, year := range []int{1970, 1981, 1999, 2037} {
		at := handle.Time{Sec: time.Date(year, 1, 2, 3, 4, 6, 0, time.UTC).Unix(), Nsec: 123_456_789}
		kept := t.both(func(a *drive.Abilities) bool {
			return a.TimeStep > 0 && a.Oldest <= at.Sec && at.Sec <= a.Newest
		})
		name := fmt.Sprintf("of %d", year)
		err := t.part(fmt.Sprintf("a time in %d", year), kept, func() error {
			if err := t.file(t.dir, name, int64(i)); err != nil {
				return err
			}
			return t.dir.SetTimesEntry(name, at, at)
		})
		if err != nil {
			return err
		}
	}
	return nil
}

func (t *tree) permissions() error {
	for _, mode := range []uint32{0o600, 0o444, 0o755, 0o400} {
		name := fmt.Sprintf("mode %o", mode)
		if err := t.file(t.dir, name, 10); err != nil {
			return err
		}
		if err := t.dir.ChmodEntry(name, mode); err != nil {
			return err
		}
	}
	return t.dir.ChmodEntry("many 0", 0o500)
}

// file makes a file with content that its name and size make.
func (t *tree) file(d *handle.Dir, name string, size int64) error {
	f, err := d.Create(name, 0o644)
	if err != nil {
		return err
	}
	return errors.Join(fill(f, name, size), f.Close())
}

func fill(w io.Writer, seed string, size int64) error {
	block := make([]byte, 0, 64<<10)
	for n := uint64(0); len(block) < cap(block); n++ {
		h := sha256.Sum256(binary.BigEndian.AppendUint64([]byte(seed), n))
		block = append(block, h[:]...)
	}
	for size > 0 {
		n := min(size, int64(len(block)))
		if _, err := w.Write(block[:n]); err != nil {
			return err
		}
		size -= n
	}
	return nil
}

// A picture is what a folder holds: for each path what can be seen of it.
type picture map[string]string

// A viewer takes pictures of a folder, of what both drives keep.
type viewer struct {
	step              time.Duration // times are compared to this; 0 is not at all
	modes, attributes bool
}

func viewerOf(a, b *drive.Abilities) *viewer {
	v := &viewer{step: max(a.TimeStep, b.TimeStep), modes: a.Modes && b.Modes, attributes: a.Xattrs && b.Xattrs}
	if a.TimeStep == 0 || b.TimeStep == 0 {
		v.step = 0
	}
	return v
}

// of takes the picture of the folder at a path; links on the way are followed.
func (v *viewer) of(path string) (picture, error) {
	d, err := handle.Open(path)
	if err != nil {
		return nil, err
	}
	defer d.Release()
	out := picture{}
	return out, v.dir(d, "", out)
}

func (v *viewer) dir(d *handle.Dir, at string, out picture) error {
	names, err := d.Names()
	if err != nil {
		return err
	}
	for _, name := range names {
		st, err := d.Stat(name)
		if err != nil {
			return err
		}
		seen, err := v.entry(d, name, &st)
		if err != nil {
			return err
		}
		out[at+name] = seen
		if !st.IsDir() {
			continue
		}
		sub, err := d.Sub(name)
		if err != nil {
			return err
		}
		err = v.dir(sub, at+name+"/", out)
		sub.Release()
		if err != nil {
			return err
		}
	}
	return nil
}

func (v *viewer) entry(d *handle.Dir, name string, st *handle.Stat) (string, error) {
	seen := fmt.Sprintf("%o", st.Type()>>12)
	if v.modes && !st.IsSymlink() {
		seen += fmt.Sprintf(" mode %o", st.Perm())
	}
	if v.step > 0 && !st.IsSymlink() {
		t := handle.Rounded(st.Mtime, v.step)
		seen += fmt.Sprintf(" time %d.%d", t.Sec, t.Nsec)
	}
	if v.attributes && !st.IsSymlink() {
		all, err := d.Xattrs(name)
		if err != nil {
			return "", err
		}
		for _, x := range all {
			if strings.HasPrefix(x.Name, "user.nexlin") {
				seen += fmt.Sprintf(" %s=%x", x.Name, x.Value)
			}
		}
	}
	switch {
	case st.IsSymlink():
		text, err := d.Readlink(name)
		return seen + " to " + text, err
	case st.IsRegular():
		sum, err := digest(d, name)
		return fmt.Sprintf("%s names %d size %d %s", seen, st.Nlink, st.Size, sum), err
	}
	return seen, nil
}

func digest(d *handle.Dir, name string) (string, error) {
	f, err := d.OpenFile(name)
	if err != nil {
		return "", err
	}
	defer f.Close()
	h := sha256.New()
	if _, err := io.Copy(h, f); err != nil {
		return "", err
	}
	return hex.EncodeToString(h.Sum(nil)[:16]), nil
}

// differs says what the first difference is between what should be and what is; empty if there is none.
func (p picture) differs(is picture) string {
	var paths []string
	for path := range p {
		paths = append(paths, path)
	}
	for path := range is {
		if _, both := p[path]; !both {
			paths = append(paths, path)
		}
	}
	sort.Strings(paths)
	for _, path := range paths {
		want, wanted := p[path]
		got, there := is[path]
		switch {
		case !there:
			return fmt.Sprintf("%q is missing", path)
		case !wanted:
			return fmt.Sprintf("%q is there and should not be", path)
		case want != got:
			return fmt.Sprintf("%q is %s and should be %s", path, got, want)
		}
	}
	return ""
}

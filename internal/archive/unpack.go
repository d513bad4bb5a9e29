package archive

import (
	"context"
	"errors"
	"io"
	"io/fs"
	"os"
	"path"
	"slices"
	"strings"
	"syscall"

	"nexlin/internal/handle"
	"nexlin/internal/inventory"
	"nexlin/internal/manifest"
)

// A Flaw is what a file system did not keep of an entry.
type Flaw struct{ Path, What string }

// A Builder makes the entries of an archive below a directory, which is empty
// and becomes the folder. Everything goes through its handle.
type Builder struct {
	root  *handle.Dir
	open  []openDir // from the root down
	buf   []byte
	Flaws []Flaw // the first of them; see Count
	Count int    // how many entries there are that are not as the archive has them
	Limit *Limit // what may be made; nil: all that is in the archive
	// Room is asked before so many bytes are written; its error ends the work. It
	// may be nil.
	Room func(bytes int64) error

	ctx    context.Context
	unmade int // of these, nodes that were not made at all
}

// A Limit is what may be made from an archive that nobody vouches for: no file
// has the bits that give its runner somebody's rights, there are no devices, and
// no attributes but those that any account may set.
type Limit struct {
	Own      func(name string) bool // names that no entry may have; nil: none
	Owned    bool                   // everything belongs to one account, whatever the archive says
	UID, GID uint32                 // which
}

// notVouched is said of what a [Limit] keeps out.
const notVouched = " (only from an archive that was packed here, or is the administrator's)"

// allowed is the entry as it may be made.
func (b *Builder) allowed(m *manifest.Entry) *manifest.Entry {
	if b.Limit == nil {
		return m
	}
	e := *m
	if b.Limit.Owned {
		e.UID, e.GID = b.Limit.UID, b.Limit.GID
	}
	if !isType(m.Mode, handle.TypeDir) && e.Mode&(handle.SetUID|handle.SetGID) != 0 {
		e.Mode &^= handle.SetUID | handle.SetGID
		b.note(m.Path, "the set-user-ID and set-group-ID bits"+notVouched)
	}
	e.Xattrs = slices.DeleteFunc(slices.Clone(m.Xattrs), func(x handle.Xattr) bool {
		return handle.NeedsRights(x.Name) && !handle.IsACL(x.Name) && !handle.OfWindows(x.Name)
	})
	if len(e.Xattrs) != len(m.Xattrs) {
		b.note(m.Path, "attributes that need rights"+notVouched)
	}
	return &e
}

func isDevice(mode uint32) bool {
	return isType(mode, handle.TypeChar) || isType(mode, handle.TypeBlock)
}

type openDir struct {
	path  string
	dir   *handle.Dir
	entry manifest.Entry
}

// maxFlaws is how many are listed.
const maxFlaws = 20

// NewBuilder makes entries below root, which stays the caller's, until ctx ends.
func NewBuilder(ctx context.Context, root *handle.Dir) *Builder {
	return &Builder{ctx: ctx, root: root, buf: make([]byte, chunk)}
}

// flaw notes what was not kept; other errors are passed on.
func (b *Builder) flaw(path, what string, err error) error {
	if errors.Is(err, fs.ErrPermission) || errors.Is(err, syscall.EOPNOTSUPP) || errors.Is(err, syscall.ENOSYS) ||
		errors.Is(err, syscall.EINVAL) {
		b.note(path, what)
		return nil
	}
	return err
}

// note remembers the first of what was not kept.
func (b *Builder) note(path, what string) {
	if len(b.Flaws) < maxFlaws {
		b.Flaws = append(b.Flaws, Flaw{path, what})
	}
}

// noted reports whether there is a word about an entry already.
func (b *Builder) noted(path string) bool {
	return slices.ContainsFunc(b.Flaws, func(f Flaw) bool { return f.Path == path })
}

// Make implements [Maker].
func (b *Builder) Make(m *manifest.Entry, content io.Reader, holes bool) error {
	if err := b.leave(m.Path); err != nil {
		return err
	}
	if m.Path == "." {
		b.open = []openDir{{".", b.root.Retain(), *m}}
		return nil
	}
	name := path.Base(m.Path)
	if b.Limit != nil && b.Limit.Own != nil && b.Limit.Own(name) {
		return &DamageError{Path: m.Path, What: "its name is one of Nexlin's own" + notVouched}
	}
	if len(b.open) == 0 || path.Dir(m.Path) != b.open[len(b.open)-1].path {
		return &DamageError{Path: m.Path, What: "its directory is missing"}
	}
	in := b.open[len(b.open)-1].dir
	switch {
	case m.Same != "":
		first, base, err := b.root.Parent(m.Same)
		if err != nil {
			return err
		}
		defer first.Release()
		return first.Link(base, in, name)
	case isType(m.Mode, handle.TypeDir):
		if err := in.Mkdir(name, 0o700); err != nil {
			return err
		}
		d, err := in.Beneath(name)
		if err != nil {
			return err
		}
		b.open = append(b.open, openDir{m.Path, d, *m})
		return nil
	case isType(m.Mode, handle.TypeSymlink):
		if err := in.Symlink(m.Link, name); err != nil {
			return err
		}
	case isType(m.Mode, handle.TypeRegular):
		if err := b.file(in, name, m, content, holes); err != nil {
			return err
		}
	case b.Limit != nil && isDevice(m.Mode):
		b.unmade++
		b.note(m.Path, "the device node"+notVouched)
		return nil
	default:
		if err := in.Mknod(name, m.Mode&handle.TypeMask|0o600, m.Rdev); err != nil {
			b.unmade++
			return b.flaw(m.Path, "it can't be made here", err)
		}
	}
	return b.dress(in, name, m)
}

func (b *Builder) file(in *handle.Dir, name string, m *manifest.Entry, content io.Reader, holes bool) (err error) {
	f, err := in.Create(name, 0o600)
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, f.Close()) }()
	if !holes {
		if err := b.room(m.Size); err != nil {
			return err
		}
		_, err = copyWith(b.ctx, f, content, b.buf)
		return err
	}
	written := int64(0)
	for at := int64(0); at < m.Size; {
		if err := b.ctx.Err(); err != nil {
			return err
		}
		k, err := io.ReadFull(content, b.buf[:min(int64(len(b.buf)), m.Size-at)])
		if err != nil {
			return err
		}
		for i := 0; i < k; i += 4096 {
			piece := b.buf[i:min(i+4096, k)]
			if strings.Trim(string(piece), "\x00") == "" {
				continue
			}
			if written%roomEvery == 0 {
				if err := b.room(roomEvery); err != nil {
					return err
				}
			}
			written += 4096
			if _, err := f.WriteAt(piece, at+int64(i)); err != nil {
				return err
			}
		}
		at += int64(k)
	}
	return f.Truncate(m.Size)
}

// roomEvery is after how much of a file with holes the room is asked for again,
// in bytes.
const roomEvery = 64 << 20

func (b *Builder) room(bytes int64) error {
	if b.Room == nil {
		return nil
	}
	return b.Room(bytes)
}

// dress gives an entry its owner, rights, attributes and times.
func (b *Builder) dress(in *handle.Dir, name string, m *manifest.Entry) error {
	m = b.allowed(m)
	if os.Geteuid() == 0 || m.UID != uint32(os.Geteuid()) || m.GID != uint32(os.Getegid()) {
		if err := b.flaw(m.Path, "its owner", in.ChownEntry(name, m.UID, m.GID)); err != nil {
			return err
		}
	}
	link := isType(m.Mode, handle.TypeSymlink)
	if !link {
		if err := b.flaw(m.Path, "its permissions", in.ChmodEntry(name, m.Mode&0o7777)); err != nil {
			return err
		}
	}
	for _, x := range m.Xattrs {
		if err := b.flaw(m.Path, "its attribute "+x.Name, in.SetXattr(name, x)); err != nil {
			return err
		}
	}
	return b.flaw(m.Path, "its time", in.SetTimesEntry(name, m.Mtime, m.Mtime))
}

// leave finishes the directories that the entry at path is not in: from now
// on nothing is made in them.
func (b *Builder) leave(path string) error {
	for len(b.open) > 1 {
		d := b.open[len(b.open)-1]
		if strings.HasPrefix(path, d.path+"/") {
			return nil
		}
		b.open = b.open[:len(b.open)-1]
		up := b.open[len(b.open)-1].dir
		d.dir.Release()
		if err := b.dress(up, d.entry.Path[strings.LastIndexByte(d.entry.Path, '/')+1:], &d.entry); err != nil {
			return err
		}
	}
	return nil
}

// Finish finishes what is open but for the folder itself, which stays private:
// see [Builder.FinishRoot]. It is called once, after the last entry.
func (b *Builder) Finish() error {
	if len(b.open) == 0 {
		return nil
	}
	if err := b.leave(""); err != nil {
		return err
	}
	return nil
}

// FinishRoot gives the folder itself its owner, rights, attributes and times, once
// all in it was verified.
func (b *Builder) FinishRoot() error {
	if len(b.open) == 0 {
		return nil
	}
	d := b.open[0]
	b.open = nil
	defer d.dir.Release()
	if err := b.dress(d.dir, ".", &d.entry); err != nil {
		return err
	}
	// What was not kept of it is told with the rest.
	st, err := d.dir.Self()
	if err != nil {
		return err
	}
	is, err := entryOf(&inventory.Entry{Path: ".", Name: ".", Stat: st, Dir: d.dir, Self: d.dir})
	if err == nil && !alike(&is, &d.entry) {
		b.Count++
		if !b.noted(".") {
			b.note(".", "its owner, permissions, times or attributes")
		}
	}
	return err
}

// Close releases what is open, also after a failure.
func (b *Builder) Close() {
	for _, d := range b.open {
		d.dir.Release()
	}
	b.open = nil
}

// Verify reads a folder back and holds it against the manifest at path. A
// *DamageError if content or an entry is not as it says; other differences
// are noted as flaws.
func (b *Builder) Verify(ctx context.Context, file string, p Progress) (Count, error) {
	f, err := os.Open(file)
	if err != nil {
		return Count{}, err
	}
	defer f.Close()
	b.Count = b.unmade
	v := &verifier{ctx: ctx, b: b, want: manifest.NewReader(f), digests: newDigester(), p: p}
	if err := inventory.Walk(ctx, b.root, v); err != nil {
		return v.n, err
	}
	var more manifest.Entry
	if err := v.want.Next(&more); !errors.Is(err, io.EOF) {
		return v.n, errors.Join(err, &DamageError{Path: more.Path, What: "it was not made"})
	}
	return v.n, nil
}

type verifier struct {
	ctx     context.Context
	b       *Builder
	want    *manifest.Reader
	digests *digester
	n       Count
	p       Progress
}

func (v *verifier) Leave(*inventory.Entry) error { return nil }

func (v *verifier) Visit(e *inventory.Entry) (bool, error) {
	is, err := entryOf(e)
	if err != nil {
		return false, err
	}
	var m manifest.Entry
	for {
		if err := v.want.Next(&m); err != nil {
			return false, &DamageError{Path: e.Path, What: "the manifest does not know it", Err: err}
		}
		if m.Path == is.Path || isType(m.Mode, handle.TypeRegular) || isType(m.Mode, handle.TypeDir) ||
			isType(m.Mode, handle.TypeSymlink) {
			break
		} // a node that could not be made here was noted
	}
	if m.Path != is.Path || m.Mode&handle.TypeMask != is.Mode&handle.TypeMask || m.Size != is.Size ||
		m.Link != is.Link {
		return false, &DamageError{Path: m.Path, What: "it reads back otherwise"}
	}
	if e.Stat.IsRegular() {
		sum, err := v.digests.file(v.ctx, e)
		if err != nil {
			return false, err
		}
		if sum != m.Digest {
			return false, &DamageError{Path: m.Path, What: "its content reads back otherwise"}
		}
		v.n.Files, v.n.Bytes = v.n.Files+1, v.n.Bytes+m.Size
		v.p.tell(v.n)
	}
	if e.Depth > 0 && !alike(&is, &m) {
		v.b.Count++
		if !v.b.noted(m.Path) {
			v.b.note(m.Path, "its owner, permissions, times or attributes")
		}
	}
	return true, nil
}

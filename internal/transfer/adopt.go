package transfer

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"runtime"
	"slices"
	"sync"
	"sync/atomic"

	"golang.org/x/sync/errgroup"

	"nexlin/internal/handle"
	"nexlin/internal/hardlink"
	"nexlin/internal/inventory"
)

// An Adoption takes a copy into records that somebody else made, or one whose
// records are lost.
type Adoption struct {
	Source         *handle.Dir // what it was made of; nil if that is gone: then the copy stands for both
	Copy           *handle.Dir
	Prove          bool   // the copy's content is read, too, and held against the source's; else it is only looked at
	Dir            string // where the spool goes
	N              int    // its pass; 0 writes none
	Digest         Digest
	SourceUnstable bool
	CopyUnstable   bool
	Progress       Progress // may be nil
	// Differs hears, one call at a time, of what the copy lacks or has
	// otherwise: content or metadata. It may be nil.
	Differs func(path, what string, content bool)
}

// An Adopted says what was taken in. The spool is nil if none was written.
type Adopted struct {
	Spool   *Spool
	Entries int64
	Files   int64
	Bytes   int64
	// LeadOut counts the files of the source that have further names outside it;
	// LeadOutPaths are the first of them, by one name each.
	LeadOut      int
	LeadOutPaths []string
}

// Adopt walks both sides, reads every file, and writes the spool as if a run
// had made the copy. The caller closes it.
func Adopt(ctx context.Context, a Adoption) (*Adopted, error) {
	v := &adopter{Adoption: a, ctx: ctx, links: hardlink.New(a.Dir)}
	v.readers.New = func() any { return NewDigester(a.Digest) }
	v.plain.New = func() any { return NewReader() }
	var err error
	if a.N > 0 {
		if v.out.Spool, err = CreateSpool(a.Dir, a.N); err != nil {
			return nil, err
		}
	}
	v.group, v.ctx = errgroup.WithContext(ctx)
	v.group.SetLimit(2 * runtime.GOMAXPROCS(0))
	base := a.Source
	if base == nil {
		base = a.Copy
	}
	err = inventory.Walk(v.ctx, base, v)
	if werr := v.group.Wait(); werr != nil {
		err = werr
	}
	if err == nil {
		err = v.links.Outside(func(first string) {
			if v.out.LeadOut++; v.out.LeadOut <= keptPaths {
				v.out.LeadOutPaths = append(v.out.LeadOutPaths, first)
			}
		})
	}
	err = errors.Join(err, v.links.Close())
	v.out.Files, v.out.Bytes = v.files.Load(), v.bytes.Load()
	if v.out.Spool != nil {
		if err == nil {
			err = v.out.Spool.Sync()
		}
		if err != nil {
			err = errors.Join(err, v.out.Spool.Close())
		}
	}
	return &v.out, err
}

type adopter struct {
	Adoption
	ctx          context.Context
	group        *errgroup.Group
	readers      sync.Pool // that take the digest, too
	plain        sync.Pool // that take sums only
	mu           sync.Mutex
	out          Adopted
	files, bytes atomic.Int64
	lost         string // the last directory that the copy lacks
	links        *hardlink.Table
}

func (v *adopter) differs(path, what string, content bool) {
	if v.Differs == nil {
		return
	}
	v.mu.Lock()
	defer v.mu.Unlock()
	v.Differs(path, what, content)
}

// Visit implements [inventory.Visitor].
func (v *adopter) Visit(e *inventory.Entry) (bool, error) {
	if err := e.ReadXattrs(); err != nil {
		return false, err
	}
	var in *handle.File // opened before it is recorded: what vanishes later can still be read
	if e.Stat.IsRegular() {
		var err error
		if in, err = e.Dir.OpenFile(e.Name); handle.Replaced(err) {
			err = fmt.Errorf("%w: %w", inventory.ErrGone, err)
		}
		if err != nil {
			return false, err
		}
	}
	descend, err := v.entry(e, in)
	if err != nil && in != nil {
		err = errors.Join(err, in.Close())
	}
	return descend, err
}

// entry records an entry; in, which it closes unless it fails, is nil for what
// is no file.
func (v *adopter) entry(e *inventory.Entry, in *handle.File) (bool, error) {
	rec := Record{Path: e.Path, Depth: e.Depth, Link: e.Link, Xattrs: e.Xattrs}
	if e.Stat.IsDevice() {
		rec.Rdev = e.Stat.Rdev
	}
	rec.Fact = Fact{Flags: Copied | Verified, Source: SnapOf(&e.Stat, e.Xattrs).On(v.SourceUnstable)}
	if v.Source == nil {
		rec.Fact.Copy = SnapOf(&e.Stat, e.Xattrs).On(v.CopyUnstable)
		rec.Fact.Source = rec.Fact.Copy
	}
	first, err := v.firstName(e)
	if err != nil {
		return false, err
	}
	other := v.other(e, &rec, first)
	v.out.Entries++
	if v.out.Spool != nil {
		if err := v.out.Spool.Append(&rec); err != nil {
			return false, err
		}
	}
	if !e.Stat.IsRegular() {
		if other != nil {
			other.Release()
		}
		return true, v.put(&rec)
	}
	seen := *e
	seen.Dir = seen.Dir.Retain()
	v.group.Go(func() error {
		defer seen.Dir.Release()
		if other != nil {
			defer other.Release()
		}
		err := v.content(&rec, &seen, in, other)
		if err = errors.Join(err, in.Close()); err != nil {
			return err
		}
		return v.put(&rec)
	})
	return true, nil
}

// firstName is the name under which a file with several was met first; empty
// for that name itself and for files with one.
func (v *adopter) firstName(e *inventory.Entry) (string, error) {
	if e.Stat.IsDir() || e.Stat.Nlink < 2 {
		return "", nil
	}
	first, _, err := v.links.Add(hardlink.ID(e.Stat.ID()), e.Stat.Nlink, e.Path, 0)
	if first == e.Path {
		first = ""
	}
	return first, err
}

// linked holds the names that a file has in the copy against those it has in
// the source.
func (v *adopter) linked(e *inventory.Entry, rec *Record, first string, made *handle.Stat) {
	switch {
	case e.Stat.IsDir():
	case first != "":
		dir, name, err := v.Copy.Parent(first)
		if err == nil {
			var st handle.Stat
			st, err = dir.Stat(name)
			dir.Release()
			if err == nil && st.SameInode(made) {
				rec.Same = first
				return
			}
		}
		v.differs(e.Path, "is a file of its own in the copy, and one with "+first+" here", false)
	case e.Stat.Nlink < 2 && made.Nlink > 1:
		v.differs(e.Path, "is one file with another in the copy", false)
	}
}

func (v *adopter) put(rec *Record) error {
	if v.out.Spool == nil {
		return nil
	}
	return v.out.Spool.Put(rec.Ord, &rec.Fact)
}

// other looks at the copy of an entry and gives the directory around it; nil
// if it is not there or its content is not to be read.
func (v *adopter) other(e *inventory.Entry, rec *Record, first string) *handle.Dir {
	if v.Source == nil {
		rec.Same = first
		return nil
	}
	if v.lost != "" && handle.Within(e.Path, v.lost) {
		return nil
	}
	missing := func() *handle.Dir {
		if e.Stat.IsDir() {
			v.lost = e.Path
		}
		v.differs(e.Path, "is not in the copy", true)
		return nil
	}
	dir, name, st, xattrs, err := v.inCopy(e.Path)
	if err != nil {
		return missing()
	}
	rec.Fact.Copy = SnapOf(&st, xattrs).On(v.CopyUnstable)
	var none Allow
	what := none.Differs(&rec.Fact.Source, &rec.Fact.Copy, e.Xattrs, xattrs)
	switch what {
	case "type", "size":
		v.differs(e.Path, "has another "+what+" in the copy", true)
	case "":
	default:
		v.differs(e.Path, "has another "+what+" in the copy", false)
	}
	if st.IsSymlink() && e.Stat.IsSymlink() {
		if text, err := dir.Readlink(name); err != nil || text != e.Link {
			rec.Made = text
			v.differs(e.Path, "leads elsewhere in the copy", true)
		}
	}
	if e.Stat.IsDevice() && st.IsDevice() && st.Rdev != e.Stat.Rdev {
		v.differs(e.Path, "is another device in the copy", true)
	}
	if what != "type" {
		v.linked(e, rec, first, &st)
	}
	if !v.Prove || !st.IsRegular() || !e.Stat.IsRegular() || what == "size" {
		dir.Release()
		return nil
	}
	return dir
}

// inCopy finds the copy of an entry, in the directory around it.
func (v *adopter) inCopy(path string) (dir *handle.Dir, name string, st handle.Stat, xattrs []handle.Xattr, err error) {
	if path == "." {
		dir, name = v.Copy.Retain(), "."
		st, err = dir.Self()
	} else if dir, name, err = v.Copy.Parent(path); err == nil {
		st, err = dir.Stat(name)
	}
	if err == nil {
		xattrs, err = dir.Xattrs(name)
	}
	if err != nil && dir != nil {
		dir.Release()
	}
	return dir, name, st, xattrs, err
}

// content takes digest and sum, and wants the copy to have the same.
func (v *adopter) content(rec *Record, e *inventory.Entry, in *handle.File, other *handle.Dir) (err error) {
	r := v.readers.Get().(*Reader)
	defer v.readers.Put(r)
	if rec.Fact.Sum, err = r.Sum(v.ctx, in, e.Stat.Size); err != nil {
		return err
	}
	rec.Fact.Digest = r.Digest()
	v.files.Add(1)
	v.bytes.Add(e.Stat.Size)
	if v.Progress != nil {
		v.Progress.Advance(1, e.Stat.Size)
	}
	if other == nil {
		return nil
	}
	p := v.plain.Get().(*Reader)
	defer v.plain.Put(p)
	sum, _, err := p.ReadBack(v.ctx, other, e.Name, e.Stat.Size)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		v.differs(e.Path, "is not in the copy", true)
	case handle.Damaged(err):
		v.differs(e.Path, "can't be read in the copy", true)
	case err != nil:
		return err
	case sum != rec.Fact.Sum:
		v.differs(e.Path, "has other content in the copy", true)
	}
	return nil
}

// Leave implements [inventory.Visitor].
func (v *adopter) Leave(*inventory.Entry) error { return nil }

// Beyond lists entries of a copy that its source has not; at most that many,
// and how many there are. What is below one of them is not counted.
func Beyond(ctx context.Context, source, copy *handle.Dir, most int) (n int, first []string, err error) {
	b := &beyond{source: source, most: most}
	err = inventory.Walk(ctx, copy, b)
	return b.n, slices.Clip(b.first), err
}

type beyond struct {
	source *handle.Dir
	most   int
	n      int
	first  []string
}

// Visit implements [inventory.Visitor].
func (b *beyond) Visit(e *inventory.Entry) (bool, error) {
	if e.Path == "." {
		return true, nil
	}
	dir, name, err := b.source.Parent(e.Path)
	if err == nil {
		_, err = dir.Stat(name)
		dir.Release()
	}
	if handle.Absent(err) {
		b.n++
		if len(b.first) < b.most {
			b.first = append(b.first, e.Path)
		}
		return false, nil
	}
	return true, err
}

// Leave implements [inventory.Visitor].
func (b *beyond) Leave(*inventory.Entry) error { return nil }

package transfer

import (
	"errors"
	"io/fs"

	"nexlin/internal/handle"
	"nexlin/internal/inventory"
	"nexlin/internal/junction"
)

// takeOff notes that a hard-linked file is on its way to a worker, and
// landed that it is copied: further names of it wait for that.
func (p *pass) takeOff(st *handle.Stat) {
	if st.Nlink > 1 && !p.Allow.Links {
		p.mu.Lock()
		p.flying[st.ID()] = make(chan struct{})
		p.mu.Unlock()
	}
}

func (p *pass) landed(st *handle.Stat) {
	if st.Nlink > 1 {
		p.mu.Lock()
		if c := p.flying[st.ID()]; c != nil {
			close(c)
			delete(p.flying, st.ID())
		}
		p.mu.Unlock()
	}
}

func (p *pass) wait(file handle.FileID) error {
	p.mu.Lock()
	c := p.flying[file]
	p.mu.Unlock()
	if c == nil {
		return nil
	}
	if err := p.hand(); err != nil {
		return err
	}
	select {
	case <-c:
		return nil
	case <-p.ctx.Done():
		return p.ctx.Err()
	}
}

// another makes a further name of a file that was met before in this walk,
// or finds it made.
func (p *pass) another(e *inventory.Entry, rec *Record, old *Fact, firstOrd int64) error {
	if err := p.wait(e.Stat.ID()); err != nil {
		return err
	}
	if err := p.New.FlushNames(); err != nil {
		return err
	}
	first, err := p.New.fact(firstOrd)
	if err != nil {
		return err
	}
	now := p.source(&e.Stat, e.Xattrs)
	f := Fact{Flags: first.Flags, Source: now, Digest: first.Digest, Sum: first.Sum}
	if !first.Source.Unchanged(&now, false) || first.Flags&Copied == 0 {
		f.Flags |= Again // the file changed between its names
	}
	if err := p.openAround(e.Path); err != nil {
		return err
	}
	dst := p.stack[e.Depth-1].dst
	dir, name, made, err := standing(p.Part.Dir, rec.Same)
	if dir == nil {
		if err != nil {
			return err
		}
		f.Flags = Again // its first name vanished before it was copied
		return p.New.Put(rec.Ord, &f)
	}
	defer dir.Release()
	var mine handle.Stat
	err = dst.StatInto(e.Name, &mine)
	switch {
	case err == nil && mine.SameInode(made):
	case err == nil || errors.Is(err, fs.ErrNotExist):
		if err == nil && old != nil {
			if err := p.clear(e, old); err != nil {
				return err
			}
		}
		p.tally.changed(e.Path)
		err = p.orAside(dst, e, func() error { return dir.Link(name, dst, e.Name) })
		if err == nil {
			err = dst.StatInto(e.Name, &mine)
		}
	}
	if err != nil {
		return err
	}
	f.Copy = p.made(&mine, e.Xattrs)
	p.advance(1, e.Stat.Size)
	return p.New.Put(rec.Ord, &f)
}

// orAside makes an entry in the part; what stands in its way is not ours and
// is put aside.
func (p *pass) orAside(dst *handle.Dir, e *inventory.Entry, make func() error) error {
	err := make()
	if errors.Is(err, fs.ErrExist) && p.Part != nil {
		if err = p.Part.moveOut(dst, e.Name, e.Path); err == nil {
			err = make()
		}
	}
	return err
}

// special copies what has no content: a symbolic link, a FIFO, the name of
// a socket, a device node.
func (p *pass) special(e *inventory.Entry, rec *Record, old *Record) error {
	now := p.source(&e.Stat, e.Xattrs)
	same := old != nil && old.Fact.Flags&Copied != 0 && old.Fact.Flags&Again == 0 &&
		old.Fact.Source.Unchanged(&now, false) &&
		old.LinkOf(Copy) == rec.LinkOf(Copy) && old.Rdev == rec.Rdev
	if same && p.doubts(&old.Fact) {
		var err error
		if same, err = p.Part.has(e.Path, &old.Fact.Copy); err != nil {
			return err
		}
	}
	if same {
		return p.New.Put(rec.Ord, &old.Fact)
	}
	if old != nil {
		if err := p.clear(e, &old.Fact); err != nil {
			return err
		}
	}
	p.tally.changed(e.Path)
	if err := handle.InOrder(p.New.FlushNames, func() error { return p.openAround(e.Path) }); err != nil {
		return err
	}
	dst := p.stack[e.Depth-1].dst
	f := Fact{Flags: Copied | Verified, Source: now}
	err := p.orAside(dst, e, func() (err error) {
		f.Copy, err = p.makeSpecial(dst, e.Name, e, rec.LinkOf(Copy))
		return err
	})
	if errors.Is(err, inventory.ErrGone) {
		f, err = Fact{Flags: Again, Source: now}, nil
	}
	if err != nil {
		return err
	}
	return p.New.Put(rec.Ord, &f)
}

// makeSpecial makes the entry under a name that is free, with its metadata.
func (p *pass) makeSpecial(dst *handle.Dir, name string, e *inventory.Entry, text string) (Snap, error) {
	var err error
	if e.Stat.IsSymlink() {
		err = makeLink(dst, name, e, text)
	} else {
		err = dst.Mknod(name, e.Stat.Type()|0o600, e.Stat.Rdev)
	}
	if err != nil {
		return Snap{}, err
	}
	return p.setEntry(dst, name, e)
}

// makeLink copies a link; one of Windows by its bytes, so that it stays what it
// is, unless it is to say something else.
func makeLink(dst *handle.Dir, name string, e *inventory.Entry, text string) error {
	data, err := e.Dir.Reparse(e.Name)
	if err != nil {
		return inventory.Vanished(err)
	}
	if junction.TagOf(data) != junction.SymlinkTag || text != e.Link {
		return dst.Symlink(text, name)
	}
	dir, err := e.Dir.LinksDir(e.Name)
	if err != nil {
		return inventory.Vanished(err)
	}
	if err = dst.MakeReparse(name, data, dir); errors.Is(err, fs.ErrPermission) {
		err = dst.Symlink(text, name) // with the developer mode alone, this way only
	}
	return err
}

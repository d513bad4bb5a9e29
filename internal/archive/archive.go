// Package archive packs a folder into one file and unpacks it again: tar
// (PAX, pax(1)) with zstd (RFC 8878), the manifest inside first.
//
// It streams: memory does not grow with the number of files, and nothing is
// written beside the archive but the manifest, in a directory of the
// caller's. The folder is read twice, for the manifest and for the archive; a
// file that changed between the two is an error. What is packed is read back
// to its end and held against the manifest before it counts.
//
// What is in an archive is hostile input: only entries that its manifest
// lists are made, in its order, and the manifest's reader refuses paths that
// lead out.
package archive

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"

	"nexlin/internal/handle"
	"nexlin/internal/hardlink"
	"nexlin/internal/inventory"
	"nexlin/internal/manifest"
)

// manifestName is the first entry of every archive.
const manifestName = ".nexlin/manifest.mtree"

// manifestLimit bounds a manifest that is read from an archive, in bytes.
const manifestLimit = 4 << 30

// A ChangedError reports an entry that changed while the folder was packed.
type ChangedError struct{ Path string }

func (e *ChangedError) Error() string {
	return fmt.Sprintf("%q changed while the folder was packed", e.Path)
}

// A DamageError reports an archive that does not hold what its manifest says.
type DamageError struct {
	Path string // the entry; empty where it is about the whole archive
	What string
	Err  error // may be nil
}

func (e *DamageError) Error() string {
	text := "the archive is damaged: " + e.What
	if e.Path != "" {
		text = fmt.Sprintf("the archive is damaged at %q: %s", e.Path, e.What)
	}
	if e.Err != nil {
		text += ": " + e.Err.Error()
	}
	return text
}
func (e *DamageError) Unwrap() error { return e.Err }

// A Count is what an archive holds: files and the bytes of their content.
type Count struct{ Files, Bytes int64 }

// Progress hears how far it got; nil hears nothing. Bytes of content.
type Progress func(files, bytes int64)

func (p Progress) tell(c Count) {
	if p != nil {
		p(c.Files, c.Bytes)
	}
}

// Describe writes the manifest of a folder to path, reading every file once.
// dir is a directory for what the names of one file need. Errors are those of
// reading; entries that the account can't read are among them.
func Describe(ctx context.Context, root *handle.Dir, path, dir string, p Progress) (n Count, err error) {
	out, err := os.OpenFile(path, os.O_WRONLY|os.O_CREATE|os.O_TRUNC, 0o600)
	if err != nil {
		return n, err
	}
	links := hardlink.New(dir)
	d := &describer{ctx: ctx, out: manifest.NewWriter(out), links: links, digests: newDigester(), p: p}
	err = inventory.Walk(ctx, root, d)
	if err == nil {
		err = d.out.Close()
	}
	if err == nil {
		err = out.Sync()
	}
	return d.n, errors.Join(err, out.Close(), links.Close())
}

type describer struct {
	ctx     context.Context
	out     *manifest.Writer
	links   *hardlink.Table
	digests *digester
	n       Count
	p       Progress
}

func (d *describer) Leave(*inventory.Entry) error { return nil }

func (d *describer) Visit(e *inventory.Entry) (bool, error) {
	m, err := entryOf(e)
	if err != nil {
		return false, err
	}
	if !e.Stat.IsDir() && e.Stat.Nlink > 1 {
		first, _, err := d.links.Add(hardlink.ID(e.Stat.ID()), e.Stat.Nlink, e.Path, 0)
		if err != nil {
			return false, err
		}
		if first != e.Path {
			m.Same = first
		}
	}
	if e.Stat.IsRegular() {
		if m.Digest, err = d.digests.file(d.ctx, e); err != nil {
			return false, err
		}
		d.n.Files, d.n.Bytes = d.n.Files+1, d.n.Bytes+e.Stat.Size
		d.p.tell(d.n)
	}
	return true, d.out.Write(&m)
}

// entryOf is what a manifest says of an entry, without its content.
func entryOf(e *inventory.Entry) (manifest.Entry, error) {
	s := &e.Stat
	m := manifest.Entry{Path: e.Path, Mode: s.Mode, UID: s.UID, GID: s.GID, Mtime: s.Mtime, Link: e.Link, Rdev: s.Rdev}
	if s.IsRegular() {
		m.Size = s.Size
	}
	if !s.IsDevice() {
		m.Rdev = 0
	}
	if err := e.ReadXattrs(); err != nil {
		return m, err
	}
	for _, x := range e.Xattrs {
		if !inventory.SystemLabel(x.Name) {
			m.Xattrs = append(m.Xattrs, x)
		}
	}
	return m, nil
}

// alike reports whether two descriptions say the same, but for the content.
func alike(a, b *manifest.Entry) bool {
	if a.Path != b.Path || a.Mode != b.Mode || a.UID != b.UID || a.GID != b.GID || a.Size != b.Size ||
		a.Mtime != b.Mtime ||
		a.Link != b.Link || a.Rdev != b.Rdev || len(a.Xattrs) != len(b.Xattrs) {
		return false
	}
	for i := range a.Xattrs {
		if a.Xattrs[i].Name != b.Xattrs[i].Name || string(a.Xattrs[i].Value) != string(b.Xattrs[i].Value) {
			return false
		}
	}
	return true
}

// AllOf reports whether every entry that the manifest at path lists belongs to
// one account.
func AllOf(path string, uid uint32) (bool, error) {
	f, err := os.Open(path)
	if err != nil {
		return false, err
	}
	defer f.Close()
	for r := manifest.NewReader(f); ; {
		var m manifest.Entry
		switch err := r.Next(&m); {
		case errors.Is(err, io.EOF):
			return true, nil
		case err != nil:
			return false, err
		case m.UID != uid:
			return false, nil
		}
	}
}

func isType(mode, t uint32) bool { return mode&handle.TypeMask == t }

// Package late holds a folder that is held against the records of its copy, and brings over
// what was written to it too late. It knows nothing of runs.
package late

import (
	"context"
	"errors"
	"fmt"
	"path/filepath"
	"slices"
	"strings"

	"nexlin/internal/finding"
	"nexlin/internal/handle"
	"nexlin/internal/inventory"
	"nexlin/internal/pathtext"
	"nexlin/internal/transfer"
)

// Writes holds a held original against its snapshot and brings over to
// the live folder what was written to it after it was copied, where nobody
// has touched the same entry there. Deletions are never brought over.
type Writes struct {
	Held, Live *handle.Dir
	LivePath   string
	Spool      *transfer.Spool
	Side       transfer.Side // which side of the spool the held original is
	LookOnly   bool          // find, but bring nothing over
	Job        *transfer.Job // how entries are brought over; nil with lookOnly
	Scratch    string        // name for what is being made in the live folder
	Unstable   bool          // inode numbers change where the held original is
	Erasing    bool          // Nexlin has begun to delete it, and opened directories for that

	links     map[handle.FileID]*transfer.Record // hard-linked files brought over
	busy      map[string]bool                    // open for writing in the live folder
	Changes   []transfer.Record
	Brought   []string
	Conflicts []string
	Gone      []string // the first entries that are not there any more
	lacks     []uint64 // all of them, a bit each, by ordinal of the spool
	newDir    string   // with lookOnly: the last directory that would be made
	Seen      int      // entries that really differ
	Touched   int      // files of which nothing but the ctime moved
}

// LetGo lets the handles go; what was found stays.
func (l *Writes) LetGo() {
	if l != nil {
		l.Held, l.Live, l.Spool = nil, nil, nil
	}
}

// Walk looks at every entry of the held original.
func (l *Writes) Walk(ctx context.Context) error {
	// A store into a mapped page shows in no time stamp until it is written back.
	if err := l.Held.SyncAll(); err != nil {
		return err
	}
	return transfer.Differences(ctx, l.Held, l.Side, l.Spool, func(d transfer.Difference) error {
		if d.Now == nil {
			l.Gone = append(l.Gone, d.Path)
			if len(l.Gone) > finding.Listed {
				l.Gone = l.Gone[:finding.Listed]
			}
			l.lack(d.Was.Ord)
			return nil
		}
		if l.busy == nil {
			var err error
			if l.busy, err = WrittenTo(ctx, l.LivePath); err != nil {
				return err
			}
		}
		if d.Now.Stat.IsDir() {
			return l.directory(d)
		}
		return l.entry(ctx, d)
	})
}

func (l *Writes) lack(ord int64) {
	if more := int(ord/64) + 1 - len(l.lacks); more > 0 {
		l.lacks = append(l.lacks, make([]uint64, more)...)
	}
	l.lacks[ord/64] |= 1 << (ord % 64)
}

// Lacks reports whether the held original has not any more what is recorded under an ordinal of
// the spool.
func (l *Writes) Lacks(ord int64) bool {
	return ord/64 < int64(len(l.lacks)) && l.lacks[ord/64]&(1<<(ord%64)) != 0
}

// snap is what the records say of an entry of the held original.
func (l *Writes) snap(e *inventory.Entry) transfer.Snap {
	return transfer.SnapOf(&e.Stat, e.Xattrs).On(l.Unstable)
}

func (l *Writes) conflict(path string) error {
	l.Seen++
	l.Conflicts = append(l.Conflicts, path)
	return nil
}

func (l *Writes) record(d transfer.Difference, f transfer.Fact) {
	r := transfer.Record{Path: d.Path, Link: d.Now.Link}
	if d.Was != nil && d.Was.Type() == d.Now.Stat.Type() {
		r = *d.Was
	}
	r.Xattrs, r.Fact = d.Now.Xattrs, f
	l.Changes = append(l.Changes, r)
}

// directory brings over a new directory, or new rights of one. Its times
// follow from what is brought into it; they are not a change by themselves.
func (l *Writes) directory(d transfer.Difference) error {
	now := l.snap(d.Now)
	if d.Was != nil && d.Was.IsDir() {
		was := *d.Was.Fact.Of(l.Side)
		if l.Erasing || was.Mode == now.Mode && was.UID == now.UID && was.GID == now.GID && was.Attrs == now.Attrs {
			f := d.Was.Fact
			*f.Of(l.Side) = now
			l.record(d, f)
			return nil
		}
	}
	l.Seen++
	if l.LookOnly {
		if d.Was == nil && !l.inNewDir(d.Path) {
			l.newDir = d.Path
		}
		l.Brought = append(l.Brought, d.Path)
		return nil
	}
	made, err := l.setDirectory(d)
	if errors.Is(err, errConflict) {
		return l.conflict(d.Path)
	}
	if err != nil {
		return l.orConflict(d.Path, err)
	}
	l.Brought = append(l.Brought, d.Path)
	f := transfer.Fact{Flags: transfer.Copied | transfer.Verified}
	*f.Of(l.Side), *f.Of(l.Side.Other()) = now, made
	l.record(d, f)
	return nil
}

var errConflict = errors.New("changed on both sides")

// orConflict keeps both sides where the place in the live folder is gone or
// is something else now.
func (l *Writes) orConflict(path string, err error) error {
	if handle.Absent(err) {
		return l.conflict(path)
	}
	return err
}

// Brings reports whether the entry at path is brought over; l may be nil.
func (l *Writes) Brings(path string) bool {
	if l == nil {
		return false
	}
	_, found := slices.BinarySearchFunc(l.Brought, path, handle.Compare)
	return found
}

// inNewDir reports that path lies below a directory that would be made, so
// that there is no place for it yet.
func (l *Writes) inNewDir(path string) bool {
	return l.newDir != "" && handle.Within(path, l.newDir)
}

// entry brings one file or link over: under a temporary name, then renamed.
func (l *Writes) entry(ctx context.Context, d transfer.Difference) error {
	if same, err := l.onlyTouched(ctx, d); err != nil || same {
		return err
	}
	dir, name, err := l.Live.Parent(d.Path)
	if handle.Missing(err) && l.inNewDir(d.Path) {
		l.Seen++
		l.Brought = append(l.Brought, d.Path)
		return nil
	}
	if err != nil {
		return l.orConflict(d.Path, err)
	}
	defer dir.Release()
	old, free, err := l.mayReplace(dir, name, d)
	if err == nil && !free && !l.busy[d.Path] {
		free, err = l.equal(ctx, dir, name, d.Now)
	}
	if err != nil {
		return err
	}
	if !free {
		return l.conflict(d.Path)
	}
	l.Seen++
	l.Brought = append(l.Brought, d.Path)
	if l.LookOnly {
		return nil
	}
	var rec *transfer.Record
	st, err := l.place(dir, name, old, func(private *handle.Dir, tmp string) (err error) {
		rec, err = l.bring(ctx, d.Now, private, tmp)
		return err
	})
	if errors.Is(err, handle.ErrReplaced) {
		l.Seen, l.Brought = l.Seen-1, l.Brought[:len(l.Brought)-1]
		return l.conflict(d.Path) // somebody wrote there just now
	}
	if errors.Is(err, transfer.ErrSourceGone) {
		return nil // deletions are never brought over
	}
	if err != nil {
		return err
	}
	held, made := l.snap(d.Now), transfer.SnapOf(&st, d.Now.Xattrs).On(l.Job.Unstable)
	*rec.Fact.Of(l.Side), *rec.Fact.Of(l.Side.Other()) = held, made
	l.Changes = append(l.Changes, *rec)
	return nil
}

// Findings says what was found; done tells whether it was brought over.
func (l *Writes) Findings(name, held string, done bool) []finding.Finding {
	about := finding.Subject{Name: name}
	var out []finding.Finding
	if n := len(l.Brought); n > 0 {
		f := finding.New(finding.LateWrite, filepath.Join(held, l.Brought[0]),
			"%s written to the held original after the switch", entriesWere(n)).About(about)
		if done {
			f.Severity, f.Remedy = finding.Info, "they were brought over to the target"
			f.Message = fmt.Sprintf("%s written to the folder after it was copied, and brought over", entriesWere(n))
		}
		out = append(out, f.Listing(n, PathsUnder(held, l.Brought)))
	}
	if n := len(l.Conflicts); n > 0 {
		out = append(out, finding.New(finding.LateConflict, filepath.Join(held, l.Conflicts[0]),
			"%s changed both in the held original and at the target; both are kept", entriesWere(n)).About(about).
			Listing(n, PathsUnder(held, l.Conflicts)))
	}
	return out
}

func PathsUnder(root string, rels []string) []string {
	var out []string
	for _, r := range rels[:min(len(rels), finding.Listed)] {
		out = append(out, strings.TrimSuffix(filepath.Join(root, r), "/."))
	}
	return slices.Clip(out)
}

func entriesWere(n int) string { return pathtext.Plural(n, "entry was", "entries were") }

// Package transfer copies a folder into a part, proves the copy, and catches
// up with what changed meanwhile.
//
// One [Pass] walks the source in the one order against the spool of the
// pass before: what is unchanged is carried over, what is new or changed is
// copied with its digest computed while the bytes pass, what is gone is
// taken out of the part. The first pass, a resumed one and a catch-up are
// the same act with another spool. [Verify] walks the part against the
// spool and reads every file back. [inventory.Walk] holds any later state of a folder
// against the spool.
//
// It deletes only what a spool says this run made (I4); what else lies in
// the part is put aside and named. It does not switch, does not know drives
// or redirects, and decides nothing about findings.
package transfer

import (
	"errors"
	"fmt"
	"io/fs"
	"strings"

	"nexlin/internal/handle"
)

// Progress hears how far the work is. Its methods are called from several
// goroutines.
type Progress interface {
	// Phase begins a phase with what it is expected to handle.
	Phase(name string, files, bytes int64)
	// Advance adds what was handled.
	Advance(files, bytes int64)
}

// A DiffError reports an entry of the part that is not what was copied.
type DiffError struct {
	Path string // relative to the folder; the first one
	What string // what differs, in words
	More int    // how many others differ
}

func (e *DiffError) Error() string {
	s := fmt.Sprintf("%s: the copy differs: %s", e.Path, e.What)
	if e.More > 0 {
		s += fmt.Sprintf(", and %d more entries", e.More)
	}
	return s
}

// SpoolError reports records of a run that can't be read or written.
type SpoolError struct {
	File string
	Err  error
}

func (e *SpoolError) Error() string { return fmt.Sprintf("records of the run, %s: %v", e.File, e.Err) }
func (e *SpoolError) Unwrap() error { return e.Err }

// A Part is the copy while it is being made: a private directory beside the
// place it will stand at.
type Part struct {
	Dir    *handle.Dir // the part itself
	Parent *handle.Dir // the directory it stands in
	Aside  string      // name, in Parent, of the directory for what is not ours
	Lender *Lender     // whom files of the part were taken from; nil as a rule
}

// moveOut moves the entry called name in dir out of the part. Nothing that
// Nexlin did not make is deleted (I4).
func (p *Part) moveOut(dir *handle.Dir, name, rel string) error {
	if err := p.Parent.Mkdir(p.Aside, 0o700); err != nil && !errors.Is(err, fs.ErrExist) {
		return err
	}
	aside, err := p.Parent.Sub(p.Aside)
	if err != nil {
		return err
	}
	defer aside.Release()
	flat := strings.ReplaceAll(rel, "/", "_")
	flat = flat[max(0, len(flat)-200):]
	for i := range 10000 {
		err = dir.Rename(name, aside, fmt.Sprintf("%04d-%s", i, flat))
		if !errors.Is(err, fs.ErrExist) {
			return err
		}
	}
	return err
}

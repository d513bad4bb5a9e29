package swap

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"

	"nexlin/internal/handle"
	"nexlin/internal/link"
	"nexlin/internal/pathtext"
)

// Where a file system can't exchange two entries (NTFS through FUSE, Windows),
// the link is made and read back under its own temporary name, the folder is
// renamed to its other name, and the link takes its place: between the two
// renames nothing stands at the link path. Both are journaled, neither replaces
// anything, and the first is taken back if the second can't be done.

// A BusyError reports a rename of the switch that somebody who holds the entry
// open kept from being done, for as long as it was tried. The folder is in its
// place.
type BusyError struct {
	Path string
	Err  error
}

func (e *BusyError) Error() string {
	err := e.Err
	var le *os.LinkError
	if errors.As(err, &le) {
		err = le.Err
	}
	return fmt.Sprintf("%s could not be renamed, because a program holds it: %v", pathtext.Show(e.Path), err)
}
func (e *BusyError) Unwrap() error { return e.Err }

// Rename is [handle.Dir.Rename], tried again while somebody holds the entry.
// A *[BusyError] if that lasts.
func Rename(from *handle.Dir, name string, to *handle.Dir, newName string) error {
	err := link.Patiently(func() error { return from.Rename(name, to, newName) })
	if handle.Passing(err) {
		return &BusyError{from.Join(name), err}
	}
	return err
}

func (s *Swap) act(ctx context.Context, name string, data any, do func() error) error {
	if s.Journal == nil {
		return do()
	}
	return s.Journal(ctx, name, data, do)
}

// linkInPlace gives the directory at the link path its other name, and puts the
// link in its place.
func (s *Swap) linkInPlace(ctx context.Context) error {
	ctx = context.WithoutCancel(ctx) // not in the gap
	if s.Text != "" {
		if err := s.makeTemp(s.Text); err != nil {
			return err
		}
	}
	err := s.act(ctx, "aside", s.Name, func() error {
		if away, err := s.isAway(); away || err != nil {
			return err // done before the stop
		}
		return handle.Flushed(Rename(s.Dir, s.Base, s.Away, s.Name), s.Dir, s.Away)
	})
	if s.Text == "" {
		return err
	}
	if err == nil {
		err = s.act(ctx, "link", s.Text, func() error {
			return handle.Flushed(s.takePlace(s.Dir, s.Temp), s.Dir)
		})
	}
	if err != nil {
		if back := s.outOfGap(); back != nil {
			err = fmt.Errorf("%w; and the way back: %w", err, back)
		}
	}
	return err
}

// outOfGap puts the folder back in its place if the link did not take it, so
// that nothing is missing there.
func (s *Swap) outOfGap() error {
	if done, err := s.Says(s.Text); done || err != nil {
		return err
	}
	away, err := s.isAway()
	if err != nil {
		return err
	}
	if away {
		if err := handle.Flushed(Rename(s.Away, s.Name, s.Dir, s.Base), s.Dir, s.Away); err != nil {
			return err
		}
	}
	return s.DropTemp(s.Text)
}

// folderInPlace is the other way round: the link at the link path goes, and the
// folder takes its place.
func (s *Swap) folderInPlace(ctx context.Context) error {
	ctx = context.WithoutCancel(ctx)
	err := s.act(ctx, "link-aside", s.Temp, func() error {
		if s.Text == "" {
			return nil
		}
		ours, err := s.Says(s.Text)
		if err != nil {
			return err
		}
		if !ours {
			return s.linkAside()
		}
		if err := s.DropTemp(s.Text); err != nil {
			return err
		}
		return Rename(s.Dir, s.Base, s.Dir, s.Temp)
	})
	if err != nil {
		return err
	}
	err = s.act(ctx, "folder", s.Name, func() error {
		return handle.Flushed(s.takePlace(s.Away, s.Name), s.Dir, s.Away)
	})
	if err == nil || s.Text == "" {
		return err
	}
	_, there := s.Away.Stat(s.Name)
	if ours, e := link.Is(s.Dir, s.Temp, s.Text); e == nil && ours && there == nil {
		return errors.Join(err, Rename(s.Dir, s.Temp, s.Dir, s.Base))
	}
	return err
}

// linkAside wants our link to have its temporary name already, from before a stop,
// or no link to have been made at all: else another thing stands in its place.
func (s *Swap) linkAside() error {
	done, err := link.Is(s.Dir, s.Temp, s.Text)
	if err != nil || done {
		return err
	}
	nothing, err := s.Nothing()
	if err == nil && !nothing {
		err = Broken(s.Path(), "it is not the link that Nexlin made any more")
	}
	return err
}

// takePlace gives an entry the name of the link path. What came to stand there
// in the gap is somebody else's: it is set aside, never removed, and told.
func (s *Swap) takePlace(from *handle.Dir, name string) error {
	for range 3 {
		err := Rename(from, name, s.Dir, s.Base)
		if !errors.Is(err, fs.ErrExist) {
			return err
		}
		spare, err := s.Spare()
		if err != nil {
			return err
		}
		err = Rename(s.Dir, s.Base, s.Dir, spare)
		if handle.IgnoreMissing(err) != nil {
			return err
		}
		if err == nil {
			s.SetAside(spare)
		}
	}
	return &BusyError{s.Path(), fs.ErrExist}
}

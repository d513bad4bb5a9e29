// Package swap has a folder and the link that leads to its copy change places,
// and has a link lead elsewhere.
//
// Every act looks at the disks first, may be called again after a stop anywhere in
// it, and replaces nothing that is not ours (I1, I3, I4). It knows names, texts and
// inode numbers. It does not know runs and redirects, nor what the folder holds.
package swap

import (
	"context"
	"errors"
	"fmt"

	"nexlin/internal/handle"
	"nexlin/internal/link"
	"nexlin/internal/pathtext"
)

// A State is where the disks say that link and folder are.
type State int

const (
	Folder  State = iota // the folder stands at the link path
	Between              // the folder has its other name, and our link no place: see gap.go
	Link                 // the link stands at the link path, the folder has its other name
)

// A Swap is a folder and a link that change places at a link path. The folder's
// other name and the link path lie on one drive.
type Swap struct {
	Place
	Text    string      // what the link says; empty: no link stands at the link path while the folder is away
	MayLack bool        // somebody may have taken the link away since, so that nothing at the link path is as good
	Away    *handle.Dir // where the folder has its other name
	Name    string      // and that name
	Ino     uint64      // the folder's; 0 where numbers do not stay, so that any directory is taken for it
	Gap     bool        // the file system can't exchange two entries: there are two renames

	// Journal does an act of a swap with a gap, and notes its name and data before
	// and after; nil notes nothing.
	Journal func(ctx context.Context, name string, data any, do func() error) error
	// Spare is a name beside the link that nothing has, for what came into the gap.
	// SetAside is told the name it got. Both are needed with a gap alone.
	Spare    func() (string, error)
	SetAside func(name string)
}

// A BrokenError reports disks in a state that no step leaves behind. Nothing was
// touched, or what was touched is as it was.
type BrokenError struct {
	Path  string
	Found string
}

// Broken is a [BrokenError] about a path.
func Broken(path, found string) *BrokenError { return &BrokenError{path, found} }

func (e *BrokenError) Error() string {
	return fmt.Sprintf("%s: %s; this is not what the run left behind, so nothing was touched",
		pathtext.Show(e.Path), e.Found)
}

// A TakenError reports that something else came to stand at the link path while the
// folder has its other name. Nothing was touched.
type TakenError struct {
	Path string
	Away string // where the folder is, whole
}

func (e *TakenError) Error() string {
	return fmt.Sprintf("something else stands at %s by now, and the folder is %s", pathtext.Show(e.Path),
		pathtext.Show(e.Away))
}

// Where judges by the disks where link and folder are. A *[TakenError] if something
// else has taken the link path; another state that no step leaves behind is a
// *[BrokenError].
func (s *Swap) Where() (State, error) {
	d, err := s.disks()
	if err != nil {
		return Folder, err
	}
	if d.away && !d.linked {
		if between, err := s.between(d.nothing); between || err != nil {
			return Between, err
		}
	}
	switch {
	case d.folder && !(d.away && s.Ino == 0): // two directories: the other one is ours
		return Folder, nil
	case d.away && (d.linked || d.nothing && s.MayLack):
		return Link, nil
	case d.away:
		return Folder, &TakenError{s.Path(), s.Away.Join(s.Name)}
	case d.nothing:
		return Folder, Broken(s.Path(), "nothing stands there")
	case d.linked:
		return Folder, Broken(s.Path(), "our link stands there, and the folder is not at "+
			pathtext.Show(s.Away.Join(s.Name)))
	}
	return Folder, Broken(s.Path(), "neither the folder nor our link stands there")
}

// disks is what stands where.
type disks struct {
	nothing bool // at the link path
	folder  bool // stands at the link path, or a directory, if it has no number
	linked  bool // our link stands at the link path, or nothing where none is to
	away    bool // the folder has its other name
}

func (s *Swap) disks() (d disks, err error) {
	st, err := s.Dir.Stat(s.Base)
	if handle.IgnoreMissing(err) != nil {
		return d, err
	}
	d.nothing = err != nil
	d.folder = !d.nothing && s.isFolder(&st)
	if d.away, err = s.isAway(); err != nil {
		return d, err
	}
	switch {
	case s.Text == "":
		d.linked = d.nothing
	case !d.nothing:
		d.linked, err = s.Says(s.Text)
	}
	return d, err
}

// between reports whether the link has no place yet, or no more, while the folder
// has its other name: a stop came between two renames, or somebody has taken the link
// away since. nothing says that nothing stands at the link path.
func (s *Swap) between(nothing bool) (bool, error) {
	if s.Text == "" {
		return false, nil
	}
	half, err := link.Is(s.Dir, s.Temp, s.Text)
	return half || nothing && !s.MayLack, err
}

func (s *Swap) isFolder(st *handle.Stat) bool { return st.IsDir() && (s.Ino == 0 || st.Ino == s.Ino) }

// isAway reports whether the folder has its other name.
func (s *Swap) isAway() (bool, error) {
	st, err := s.Away.Stat(s.Name)
	return err == nil && s.isFolder(&st), handle.IgnoreMissing(err)
}

// ToLink gives the folder its other name and puts the link in its place: in one act,
// or with a gap in two renames. Then it looks whether that is what happened, and
// takes it back if it met something else.
//
// Errors: *[BrokenError], *[TakenError], *[BusyError] and those of the calls. After an error the
// folder is at the link path or has its other name, whole; [Swap.Where] tells which.
func (s *Swap) ToLink(ctx context.Context) error {
	at, err := s.Where()
	if err != nil || at == Link {
		return handle.Flushed(err, s.Dir, s.Away)
	}
	switch {
	case s.Gap, at == Between:
		err = s.linkInPlace(ctx)
	case s.Text == "":
		err = handle.Flushed(Rename(s.Dir, s.Base, s.Away, s.Name), s.Away, s.Dir)
	default:
		err = s.linkAtOnce()
	}
	if err != nil {
		return err
	}
	return s.look(ctx, Link, s.folderBack)
}

// ToFolder gives the folder the link path again and takes the link away; it is
// [Swap.ToLink] the other way round.
func (s *Swap) ToFolder(ctx context.Context) error {
	at, err := s.Where()
	if err != nil {
		return err
	}
	if at != Folder {
		if err := s.folderBack(ctx); err != nil {
			return err
		}
		if err := s.look(ctx, Folder, s.linkBack); err != nil {
			return err
		}
	}
	return s.Tidy()
}

// Tidy takes away the link that has no place any more: under the folder's other
// name, or under its temporary one.
func (s *Swap) Tidy() error {
	if s.Text == "" {
		return nil
	}
	if err := link.Remove(s.Away, s.Name, s.Text); err != nil && !errors.Is(err, link.ErrNotOurs) {
		return err
	}
	return handle.Flushed(s.DropTemp(s.Text), s.Away)
}

// look wants the disks to say what was done; else it is taken back.
func (s *Swap) look(ctx context.Context, want State, back func(context.Context) error) error {
	at, err := s.Where()
	var broken *BrokenError
	var taken *TakenError
	switch {
	case err == nil && at == want:
		return nil
	case err != nil && !errors.As(err, &broken) && !errors.As(err, &taken):
		return err // the look has failed, which says nothing: the next one decides
	}
	met := Broken(s.Path(), "the exchange met another folder than the one inspected")
	if err := back(context.WithoutCancel(ctx)); err != nil {
		return fmt.Errorf("%w; and the exchange could not be taken back: %w", met, err)
	}
	met.Found += ", and was taken back"
	return met
}

// linkAtOnce makes the link under the folder's other name and exchanges the two.
func (s *Swap) linkAtOnce() error {
	if err := link.Remove(s.Away, s.Name, s.Text); err != nil {
		return err
	}
	if err := link.MakeFor(s.Away, s.Name, s.Text, s.Owner); err != nil {
		return err
	}
	if err := s.Away.Sync(); err != nil {
		return err
	}
	if err := link.Exchange(s.Dir, s.Base, s.Away, s.Name); err != nil {
		return errors.Join(err, link.Remove(s.Away, s.Name, s.Text))
	}
	return handle.Flushed(nil, s.Dir, s.Away)
}

// folderBack brings the folder to the link path; our link is left under another name.
func (s *Swap) folderBack(ctx context.Context) error {
	if s.Gap {
		return s.folderInPlace(ctx)
	}
	_, err := s.Dir.Stat(s.Base)
	switch {
	case handle.Missing(err):
		err = Rename(s.Away, s.Name, s.Dir, s.Base)
	case err == nil:
		err = link.Exchange(s.Dir, s.Base, s.Away, s.Name)
	}
	return handle.Flushed(err, s.Dir, s.Away)
}

// linkBack undoes [Swap.folderBack] that met something else than the folder.
func (s *Swap) linkBack(context.Context) error {
	ours, err := link.Is(s.Away, s.Name, s.Text)
	if err != nil {
		return err
	}
	if ours {
		return handle.Flushed(link.Exchange(s.Dir, s.Base, s.Away, s.Name), s.Dir, s.Away)
	}
	if err := Rename(s.Dir, s.Base, s.Away, s.Name); err != nil {
		return err
	}
	if ours, err = link.Is(s.Dir, s.Temp, s.Text); err == nil && ours {
		err = Rename(s.Dir, s.Temp, s.Dir, s.Base)
	}
	return handle.Flushed(err, s.Dir, s.Away)
}

package redirect

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"

	"nexlin/internal/finding"
	"nexlin/internal/handle"
	"nexlin/internal/link"
	"nexlin/internal/pathtext"
)

// Where a file system can't exchange two entries (NTFS through FUSE, Windows),
// the link is made and read back under its own temporary name, the folder is
// renamed to its held name, and the link takes its place: between the two
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

// exchange leads programs to the copy: the link takes the folder's place and
// the folder its held name, in one act where that can be done (I1). It looks at
// once whether that is what happened.
func (m *mover) exchange(ctx context.Context) error {
	var err error
	if m.p.Gap {
		err = m.linkInPlace(ctx, m.heldIn, m.p.Held)
	} else {
		err = m.exchangeAtOnce()
	}
	if err != nil {
		return err
	}
	at, err := m.whereMove()
	var broken *BrokenError
	switch {
	case err == nil && at == switched:
		return nil
	case err != nil && !errors.As(err, &broken):
		return err // the look has failed, which says nothing: the next one decides
	}
	if back := m.exchangeAgain(context.WithoutCancel(ctx)); back != nil {
		return fmt.Errorf("%w; and the exchange could not be taken back: %w", &BrokenError{m.p.Link, "the exchange met another folder than the one inspected"}, back)
	}
	return &BrokenError{m.p.Link, "the exchange met another folder than the one inspected, and was taken back"}
}

// backFromGap takes a switch back that was stopped between its two renames.
func (m *mover) backFromGap(ctx context.Context) (position, error) {
	if m.p.Kind == KindBringBack {
		return before, m.act(ctx, "switch-back", m.p.LinkText, func() error { return m.linkAgain(ctx) }, nil)
	}
	return placed, m.exchangeAgainAct(ctx)
}

// linkInPlace gives the directory at the link path the name away in to, and
// puts the link in its place. It may be called again after a stop anywhere in
// it.
func (m *mover) linkInPlace(ctx context.Context, to *handle.Dir, away string) error {
	ctx = context.WithoutCancel(ctx) // not in the gap
	tmp, text := tempName(m.p.Run), m.gapText()
	done, err := m.linked(text)
	if err != nil || done {
		return err
	}
	if text != "" {
		if err := m.makeTemp(tmp, text); err != nil {
			return err
		}
	}
	err = m.act(ctx, "aside", away, func() error {
		if _, err := to.Stat(away); err == nil || !handle.Missing(err) {
			return err // done before the stop
		}
		if err := m.rename(m.linkIn, m.base(), to, away); err != nil {
			return err
		}
		return flushed(m.linkIn.Sync(), to)
	}, nil)
	if err == nil && text != "" {
		err = m.act(ctx, "link", text, func() error {
			return flushed(m.takePlace(m.linkIn, tmp), m.linkIn)
		}, nil)
	}
	if err != nil && text != "" {
		if back := m.outOfGap(to, away, tmp, text); back != nil {
			err = fmt.Errorf("%w; and the way back: %w", err, back)
		}
	}
	return err
}

// outOfGap puts the folder back in its place if the link did not take it, so
// that nothing is missing there.
func (m *mover) outOfGap(to *handle.Dir, away, tmp, text string) error {
	if done, err := m.linked(text); done || err != nil {
		return err
	}
	if _, err := to.Stat(away); err == nil {
		if err := flushed(m.rename(to, away, m.linkIn, m.base()), m.linkIn); err != nil {
			return err
		}
	} else if !handle.Missing(err) {
		return err
	}
	return link.Remove(m.linkIn, tmp, text)
}

// gapText is the text of the link that takes the folder's place; empty where
// settings lead to the copy, since here no link can keep the place meanwhile.
func (m *mover) gapText() string {
	if m.p.Linkless() {
		return ""
	}
	return m.p.LinkText
}

// linked reports whether the switch was done: our link stands at the link path,
// or, without a link, nothing does.
func (m *mover) linked(text string) (bool, error) {
	if text != "" {
		return link.Is(m.linkIn, m.base(), text)
	}
	_, err := m.linkIn.Stat(m.base())
	return handle.Missing(err), handle.IgnoreMissing(err)
}

// makeTemp makes the link under its temporary name; one from before a stop is
// read again.
func (m *mover) makeTemp(tmp, text string) error {
	ours, err := link.Is(m.linkIn, tmp, text)
	if err != nil || ours {
		return err
	}
	if err := link.MakeFor(m.linkIn, tmp, text, m.owner()); err != nil {
		return err
	}
	return m.linkIn.Sync()
}

// folderInPlace is the other way round: the link at the link path goes, and
// what stands in from under the name back takes its place.
func (m *mover) folderInPlace(ctx context.Context, from *handle.Dir, back string) error {
	ctx = context.WithoutCancel(ctx)
	tmp, text := tempName(m.p.Run), m.p.LinkText
	if _, err := from.Stat(back); handle.Missing(err) {
		return m.dropTempLink() // done before the stop
	}
	err := m.act(ctx, "link-aside", tmp, func() error {
		ours, err := link.Is(m.linkIn, m.base(), text)
		if err != nil {
			return err
		}
		if !ours {
			return m.aside(tmp, text)
		}
		if err := m.dropTempLink(); err != nil {
			return err
		}
		return m.rename(m.linkIn, m.base(), m.linkIn, tmp)
	}, nil)
	if err != nil {
		return err
	}
	err = m.act(ctx, "folder", back, func() error {
		return flushed(m.takePlace(from, back), m.linkIn, from)
	}, nil)
	if err != nil {
		_, there := from.Stat(back)
		if ours, e := link.Is(m.linkIn, tmp, text); e == nil && ours && there == nil {
			return errors.Join(err, m.rename(m.linkIn, tmp, m.linkIn, m.base()))
		}
		return err
	}
	return m.dropTempLink()
}

// aside wants our link to have its temporary name already, from before a stop,
// or no link to have been made at all: else another thing stands in its place.
func (m *mover) aside(tmp, text string) error {
	done, err := link.Is(m.linkIn, tmp, text)
	if err != nil || done {
		return err
	}
	if _, err := m.linkIn.Stat(m.base()); !handle.Missing(err) {
		return errors.Join(&BrokenError{m.p.Link, "it is not the link that Nexlin made any more"}, err)
	}
	return nil
}

// rename is [handle.Dir.Rename], tried again while somebody holds the entry.
func (m *mover) rename(from *handle.Dir, name string, to *handle.Dir, newName string) error {
	err := link.Patiently(func() error { return from.Rename(name, to, newName) })
	if handle.Passing(err) {
		return &BusyError{from.Join(name), err}
	}
	return err
}

// takePlace gives an entry the name of the link path. What came to stand there
// in the gap is somebody else's: it is set aside, never removed, and told.
func (m *mover) takePlace(from *handle.Dir, name string) error {
	for range 3 {
		err := m.rename(from, name, m.linkIn, m.base())
		if !errors.Is(err, fs.ErrExist) {
			return err
		}
		aside, err := m.freeName("."+m.base(), ".gap-"+m.p.Run)
		if err == nil {
			err = m.rename(m.linkIn, m.base(), m.linkIn, aside)
		}
		if err != nil && !handle.Missing(err) {
			return err
		}
		if err == nil {
			m.out.Findings = append(m.out.Findings, finding.New(finding.GapFilled, m.linkIn.Join(aside),
				"something was made at %s in the moment of the switch, and is %s now", m.p.Link, m.linkIn.Join(aside)).Named(m.p.Name))
		}
	}
	return &BusyError{m.p.Link, fs.ErrExist}
}

// freeName is a name beside the link that nothing has.
func (m *mover) freeName(stem, end string) (string, error) {
	for i := 1; ; i++ {
		name := shorten(stem, end)
		if i > 1 {
			name = shorten(stem, fmt.Sprintf("%s-%d", end, i))
		}
		if _, err := m.linkIn.Stat(name); err != nil {
			return name, handle.IgnoreMissing(err)
		}
	}
}

// inGap reports whether a run stands between the two renames: what leaves has
// its other name, and the link is not in its place.
func (m *mover) inGap(to *handle.Dir, away string, id uint64) (bool, error) {
	if !m.p.Gap {
		return false, nil
	}
	st, err := to.Stat(away)
	if err != nil || !isDir(&st, id) {
		return false, handle.IgnoreMissing(err)
	}
	done, err := m.linked(m.gapText())
	return err == nil && !done, err
}

// aside is where the folder is, whole, while the run stands between the two
// renames.
func (p *Plan) aside() string {
	if p.Kind == KindBringBack {
		return p.From
	}
	return p.HeldPath()
}

// gapAhead says before a run that there will be a moment without the folder, as
// far as that can be known without making anything.
func (e *Engine) gapAhead(p *Plan) {
	if d := p.linkDrive(); d.Mount != "" && (d.Fuse || !handle.Exchanges) {
		p.Gap = true
		p.gap()
	}
}

func (p *Plan) gap() {
	link := p.Link
	p.find(finding.New(finding.SwitchGap, link, "for a moment nothing will stand at %s: its file system can't exchange link and folder in one act", link).Named(p.Name))
}

// hideHeld marks what is held as hidden, where a name that begins with a full
// stop is not.
func (m *mover) hideHeld(ctx context.Context) error {
	hidden, ok, err := m.heldIn.Hidden(m.p.Held)
	if err != nil || hidden || !ok {
		return ignorePermission(err)
	}
	return m.act(ctx, "hide", m.p.Held, func() error {
		return ignorePermission(m.heldIn.Hide(m.p.Held, true))
	}, nil)
}

// showHeld takes the mark away again, if this run has put it there: the folder
// is about to get its own name.
func (m *mover) showHeld() error {
	hid, err := m.lastData("hide", new(string))
	if err != nil || !hid {
		return err
	}
	return ignorePermission(handle.IgnoreMissing(m.heldIn.Hide(m.p.Held, false)))
}

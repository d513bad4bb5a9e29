package swap

import (
	"errors"

	"nexlin/internal/handle"
	"nexlin/internal/link"
)

// A Place is a link path, and how a link is put there.
type Place struct {
	Dir   *handle.Dir // around the link
	Base  string      // the link's name in it
	Temp  string      // what a link is called there while it has no place
	Owner link.Owner  // whom the link is made for
	// TwoActs: a link to a directory is replaced in two acts, since the system does
	// not do it in one, which is so on Windows.
	TwoActs bool
}

// Path is the link path, for messages.
func (p *Place) Path() string { return p.Dir.Join(p.Base) }

// Says reports whether a link with exactly this text stands at the link path; that
// nothing stands there is false without an error.
func (p *Place) Says(text string) (bool, error) { return link.Is(p.Dir, p.Base, text) }

// Nothing reports that nothing stands at the link path.
func (p *Place) Nothing() (bool, error) {
	_, err := p.Dir.Stat(p.Base)
	return handle.Missing(err), handle.IgnoreMissing(err)
}

// Lead has the link say text where it said old. It may be called again after a stop
// anywhere in it, on the way there or back. A *[BrokenError] if the link says neither.
func (p *Place) Lead(old, text string) error {
	half, err := p.Half(text, old)
	if err != nil {
		return err
	}
	if half {
		if err := Rename(p.Dir, p.Temp, p.Dir, p.Base); err != nil {
			return err
		}
	}
	done, err := p.Says(text)
	if err != nil {
		return err
	}
	if done {
		return handle.Flushed(p.DropTemp(old, text), p.Dir)
	}
	ours, err := p.Says(old)
	if err == nil && !ours {
		err = Broken(p.Path(), "the link was changed meanwhile")
	}
	if err != nil {
		return err
	}
	if link.IsJunction(old) && link.IsJunction(text) {
		return handle.Flushed(link.Lead(p.Dir, p.Base, text), p.Dir)
	}
	if err := p.DropTemp(old, text); err != nil {
		return err
	}
	if err := link.MakeFor(p.Dir, p.Temp, text, p.Owner); err != nil {
		return err
	}
	if p.TwoActs {
		if err := link.Remove(p.Dir, p.Base, old); err != nil {
			return err
		}
		return handle.Flushed(Rename(p.Dir, p.Temp, p.Dir, p.Base), p.Dir)
	}
	if err := p.Dir.Replace(p.Temp, p.Dir, p.Base); err != nil {
		return errors.Join(err, link.Remove(p.Dir, p.Temp, text))
	}
	return p.Dir.Sync()
}

// Half reports that a stop came between the old link and the new one: nothing stands
// at the link path, and a link that says one of the texts has its temporary name.
func (p *Place) Half(texts ...string) (bool, error) {
	if !p.TwoActs {
		return false, nil
	}
	if nothing, err := p.Nothing(); !nothing || err != nil {
		return false, err
	}
	for _, text := range texts {
		if half, err := link.Is(p.Dir, p.Temp, text); half || err != nil {
			return half, err
		}
	}
	return false, nil
}

// Make puts a link where nothing stands.
func (p *Place) Make(text string) error {
	return handle.Flushed(link.MakeFor(p.Dir, p.Base, text, p.Owner), p.Dir)
}

// Remove takes the link away if it says text; see [link.Remove].
func (p *Place) Remove(text string) error {
	return handle.Flushed(link.Remove(p.Dir, p.Base, text), p.Dir)
}

// DropTemp takes away the link under its temporary name if it says one of the texts.
func (p *Place) DropTemp(texts ...string) error {
	for _, text := range texts {
		ours, err := link.Is(p.Dir, p.Temp, text)
		if err != nil {
			return err
		}
		if ours {
			return p.Dir.Unlink(p.Temp)
		}
	}
	return nil
}

// makeTemp makes the link under its temporary name; one from before a stop is
// read again.
func (p *Place) makeTemp(text string) error {
	ours, err := link.Is(p.Dir, p.Temp, text)
	if err != nil || ours {
		return err
	}
	return handle.Flushed(link.MakeFor(p.Dir, p.Temp, text, p.Owner), p.Dir)
}

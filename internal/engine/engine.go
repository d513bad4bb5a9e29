// Package engine has what every run has at hand: the ledger, the drives, the cards, and the
// records of earlier runs.
package engine

import (
	"errors"
	"fmt"
	"io"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"nexlin/internal/card"
	"nexlin/internal/drive"
	"nexlin/internal/handle"
	"nexlin/internal/ledger"
	"nexlin/internal/manifest"
	"nexlin/internal/naming"
	"nexlin/internal/pathtext"
	"nexlin/internal/places"
	"nexlin/internal/plan"
	"nexlin/internal/run"
	"nexlin/internal/transfer"
	"nexlin/internal/typed"
)

// An Engine carries out runs. All fields but Progress are needed.
type Engine struct {
	*places.Places
	Progress transfer.Progress // may be nil
	Workers  int               // 0 follows the processors
	Ask      run.AskFunc       // asks a person to do what no command does; nil: nobody is there
	// CopyWithin is how old the newest archive of a target may be that is its
	// only copy otherwise; 0 stands for 30 days, and only tells.
	CopyWithin time.Duration
	// TagsBelow is a directory above which no drive tag is looked for, or made; empty is the
	// root of each drive.
	TagsBelow string
	Cards     []card.Card // the kinds of folder that are known; may be empty
	// CardFolders gives the folders of a card that are there; nil where no card can be named.
	CardFolders func(name string) ([]string, error)
	Env         []string // the environment of commands that cards name, as KEY=value

	// Managed is what an administrator has redirected for this account, as was published to
	// it: it is told, and changed by nobody but the administrator. May be empty.
	Managed []ledger.Redirect

	// What one look has remembered, see AtOnce; nil outside it.
	stopped func() ([]ledger.RunRow, error)
	packs   func() ([]ledger.Pack, error)
	below   *places.Memo[string, below]
}

// below is what the directory has in it that a drive is mounted on.
type below struct {
	entries int
	hidden  bool
}

// AtOnce gives an engine that looks at the drives once and remembers what it
// saw: for looking at many redirects in one moment, not for runs.
func (e *Engine) AtOnce() *Engine {
	c := *e
	c.Places = e.Places.AtOnce()
	c.stopped = sync.OnceValues(func() ([]ledger.RunRow, error) { return plan.Unfinished(e.Ledger) })
	c.packs, c.below = sync.OnceValues(e.Ledger.Packs), places.NewMemo[string, below]()
	return &c
}

// LastPack is the newest archive of a redirect; nil if none was made.
func (e *Engine) LastPack(r *ledger.Redirect) (*ledger.Pack, error) {
	all := e.packs
	if all == nil {
		all = e.Ledger.Packs
	}
	packs, err := all()
	if i := slices.IndexFunc(packs, func(p ledger.Pack) bool { return p.Holds(r) }); i >= 0 {
		return &packs[i], err
	}
	return nil, err
}

// BelowMount counts the entries of the directory itself that a drive is mounted on, or
// was; hidden says that it is. There are none where this account can't see them.
func (e *Engine) BelowMount(at string) (entries int, hidden bool) {
	b, _ := e.below.Of(at, func() (b below, err error) {
		open := handle.OpenReal
		if b.hidden = drive.Mounted(at); b.hidden {
			open = drive.Underneath
		}
		if dir, err := open(at); err == nil {
			if dir.EachName(func(string) error { b.entries++; return nil }) != nil {
				b.entries = 0
			}
			dir.Release()
		}
		return b, nil
	})
	return b.entries, b.hidden
}

// Unfinished lists the runs that were stopped, newest first.
func (e *Engine) Unfinished() ([]ledger.RunRow, error) {
	if e.stopped == nil {
		return plan.Unfinished(e.Ledger)
	}
	return e.stopped()
}

// placesOf gives the places where a stopped run goes on; none if its plan can't be
// read, which is told elsewhere.
func (e *Engine) placesOf(row ledger.RunRow) (out []places.Known) {
	plans, err := plan.AllOf(e.Ledger, row)
	if err != nil {
		return nil
	}
	for _, p := range plans {
		if p.Into != "" {
			out = append(out, places.Known{Name: p.Name, Drive: p.IntoDrive, Path: p.Copy()})
		}
		if p.HeldIn != "" {
			out = append(out, places.Known{Name: p.Name, Drive: p.FromDrive, Path: p.HeldPath()})
		}
	}
	return out
}

// CheckExpected adds the finding of [places.Places.Expected] to a plan. It reports whether all is
// well.
func (e *Engine) CheckExpected(p *plan.Plan, into, path string) (bool, error) {
	f, err := e.Expected(into, path)
	if f != nil {
		p.Add(*f)
	}
	return f == nil && err == nil, err
}

// Commands does what cards say.
func (e *Engine) Commands() *run.Commands { return &run.Commands{Env: e.Env, Ask: e.Ask} }

// SpoolOf opens the spool that describes what a run made. There are two only
// while one takes the other's place: then it is the one that the frozen
// manifest agrees with.
func (e *Engine) SpoolOf(id string) (*transfer.Spool, error) {
	dir := e.Ledger.RunDir(id)
	all := transfer.Spools(dir)
	if len(all) == 0 {
		return nil, &transfer.SpoolError{File: dir, Err: errors.New("there is none")}
	}
	for _, n := range slices.Backward(all[1:]) {
		s, err := transfer.OpenSpool(dir, n)
		if err != nil {
			return nil, err
		}
		if Agree(dir, s, func() {}) == nil {
			return s, nil
		}
		_ = s.Close() // only read
	}
	return transfer.OpenSpool(dir, all[0])
}

// SideOf tells which side of its run's spool a held original is.
func SideOf(h ledger.Held) transfer.Side {
	if h.Copy {
		return transfer.Copy
	}
	return transfer.Source
}

// Agree holds the frozen manifest of a run against a spool and calls each for
// every entry. That they disagree is a *transfer.SpoolError.
func Agree(runDir string, spool *transfer.Spool, each func()) error {
	f, err := handle.OpenRegular(filepath.Join(runDir, FrozenName))
	if err != nil {
		return err
	}
	defer f.Close()
	disagree := func(r *transfer.Record) error {
		return &transfer.SpoolError{File: f.Name(),
			Err: fmt.Errorf("the two records of this run disagree at %q", r.Path)}
	}
	m := manifest.NewReader(f)
	c := transfer.Read(spool)
	for {
		var e manifest.Entry
		switch err := m.Next(&e); {
		case err == io.EOF:
			return c.Rest(disagree)
		case err != nil:
			return err
		}
		r, err := c.To(e.Path, disagree)
		if err == nil && (r == nil || r.Fact.Digest != e.Digest || r.LinkOf(transfer.Copy) != e.Link ||
			r.Fact.Flags&transfer.Verified == 0) {
			err = disagree(&transfer.Record{Path: e.Path})
		}
		if err != nil {
			return err
		}
		each()
	}
}

// FrozenName is the manifest in the run's own directory, as it was at the
// switch.
const FrozenName = "frozen.mtree"

// Lookup finds a redirect by its name, or by the path of its link. The
// error is a *[plan.NameError] with near names, or a *[plan.ManagedError].
func (e *Engine) Lookup(arg, cwd string) (ledger.Redirect, error) {
	r, err := e.Ledger.Redirect(arg)
	if err == nil || !errors.Is(err, ledger.ErrNotFound) {
		return r, err
	}
	all, err := e.Redirects()
	if err != nil {
		return r, err
	}
	path, ofCard, err := e.ofCard(arg)
	if err != nil {
		return r, err
	}
	if !ofCard {
		path = places.Absolute(arg, cwd)
	}
	path = places.Resolved(path)
	near := &plan.NameError{Name: arg}
	for _, r := range all {
		if pathtext.Equal(r.Link, path) {
			return r, nil
		}
		if naming.Near(arg, r.Name) {
			near.Near = append(near.Near, r.Name)
		}
	}
	for _, r := range e.Managed {
		if r.Name == arg || pathtext.Equal(r.Link, path) {
			return r, &plan.ManagedError{Name: r.Name, Link: r.Link}
		}
	}
	return ledger.Redirect{}, near
}

// CardPrefix is what stands before the name of a card where a folder is named.
const CardPrefix = "card:"

// ofCard is the folder that card:NAME stands for, if arg is of that form. A *[typed.MistypedError]
// names the folders of a card that has several.
func (e *Engine) ofCard(arg string) (path string, is bool, err error) {
	name, is := strings.CutPrefix(arg, CardPrefix)
	if !is || e.CardFolders == nil {
		return "", false, nil
	}
	folders, err := e.CardFolders(name)
	switch {
	case err != nil:
		return "", true, err
	case len(folders) == 1:
		return folders[0], true, nil
	case len(folders) == 0:
		return "", true, &typed.MistypedError{What: "none of the folders of card " + name + " is there"}
	}
	more := &typed.MistypedError{What: fmt.Sprintf("card %s has %d folders here, and one is to be named", name,
		len(folders))}
	for _, f := range folders {
		more.Next = append(more.Next, pathtext.Quote(f))
	}
	return "", true, more
}

// PathOf is the path that a person has named: as it is written, the one folder of card:NAME,
// or LABEL:/path where nothing is called so. Errors are those of [drive.System.Place] and of
// the card.
func (e *Engine) PathOf(arg, cwd string) (string, error) {
	if path, is, err := e.ofCard(arg); is {
		return path, err
	}
	path := places.Absolute(arg, cwd)
	if _, _, named := drive.SplitRef(arg); named {
		if _, err := handle.Lstat(path); err != nil {
			return e.Drives.Place(arg, cwd)
		}
	}
	return path, nil
}

// New makes an engine that works with a ledger and drives.
func New(l *ledger.Ledger, drives *drive.System) *Engine {
	e := &Engine{Places: &places.Places{Ledger: l, Drives: drives}}
	e.Places.Stopped = e.placesOf
	return e
}

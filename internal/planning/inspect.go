package planning

import (
	"context"
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"syscall"

	"nexlin/internal/account"
	"nexlin/internal/engine"
	"nexlin/internal/finding"
	"nexlin/internal/handle"
	"nexlin/internal/inventory"
	"nexlin/internal/ledger"
	"nexlin/internal/link"
	"nexlin/internal/naming"
	"nexlin/internal/pathtext"
	"nexlin/internal/places"
	"nexlin/internal/plan"
	"nexlin/internal/preflight"
)

// A Look is what inspect says of one folder, whatever is then done with it.
type Look struct {
	Path     string      // as named, absolute
	Real     string      // with every link followed
	Chain    []link.Step // the links met on the way
	Plan     *plan.Plan  // the folder's side of a move; nil if nothing is there
	Redirect *ledger.Redirect
	Methods  []string // methods that fit
}

// Inspect looks at one path and changes nothing. progress may be nil.
func Inspect(ctx context.Context, e *engine.Engine, path string, progress func(entries, bytes int64)) (*Look, error) {
	l := &Look{Path: path}
	var err error
	l.Chain, l.Real, err = link.Chain(path)
	if err != nil && !handle.Missing(err) {
		return nil, err
	}
	at := places.Resolved(path)
	if r, err := e.ByLink(at); err != nil {
		return nil, err
	} else if r != nil {
		l.Redirect = r
	}
	p := &plan.Plan{
		Header: plan.Header{Kind: plan.KindMove},
		Route:  plan.Route{Link: at, From: at},
	}
	l.Plan = p
	if err := CheckFolder(ctx, e, p, progress); err != nil {
		return nil, err
	}
	KnownToCards(e, p)
	if p.FromIno != 0 && p.Blocked() == nil {
		if l.Methods, err = FitBy(e, at); err != nil {
			return nil, err
		}
	}
	return l, nil
}

// CheckThere looks at the folder. Of one that is not there it finds that, with names that are
// like its own beside it, and st is nil.
func CheckThere(p *plan.Plan) (st *handle.Stat, err error) {
	is, err := handle.Lstat(p.From)
	if err == nil {
		return &is, nil
	}
	if !handle.Missing(err) && !errors.Is(err, syscall.ENOTDIR) {
		return nil, err
	}
	f := finding.New(finding.SourceMissing, p.From, "there is nothing at %s", p.From)
	dir := filepath.Dir(p.From)
	d, err := handle.OpenReal(dir) // by a handle: it may be another account's, and anything by now
	if err != nil {
		p.Add(f)
		return nil, nil // what is beside it is only a help
	}
	defer d.Release()
	var near []string
	_ = d.EachName(func(name string) error { // those that can be read
		if len(near) < 3 && naming.Near(filepath.Base(p.From), name) {
			near = append(near, pathtext.Quote(filepath.Join(dir, name)))
		}
		return nil
	})
	if len(near) > 0 {
		f = f.Instead("did you mean " + strings.Join(near, " or ") + "?")
	}
	p.Add(f)
	return nil, nil
}

// CheckFolder inspects what is to be copied: that it is a folder, may be taken,
// and is kept whole by this version. It fills in the plan's facts.
func CheckFolder(ctx context.Context, e *engine.Engine, p *plan.Plan, progress func(entries, bytes int64)) error {
	path := p.From
	st, err := CheckThere(p)
	if st == nil || err != nil {
		return err
	}
	switch {
	case st.IsSymlink():
		text, err := os.Readlink(path)
		if err != nil {
			return err
		}
		p.Add(finding.New(finding.SourceIsLink, path, "%s is a link that leads to %s", path, text))
		return nil
	case !st.IsDir():
		p.Add(finding.New(finding.SourceNotFolder, path, "%s is no folder", path))
		return nil
	}
	if st.MountRoot {
		p.Add(finding.New(finding.SourceIsMount, path, "a drive is mounted at %s", path))
		return nil
	}
	if err := checkRemoval(p); err != nil {
		return err
	}
	p.FromIno, p.UID, p.GID = st.Ino, st.UID, st.GID
	p.Account, p.Private = account.Name(st.UID), st.Mode&0o055 == 0
	why, err := e.Protected(path)
	if err != nil {
		return err
	}
	if why != "" && p.Traits().First {
		f := finding.New(finding.Protected, path, "%s %s", path, why)
		if why == places.IsOurs {
			f = f.Instead("it stays where it is; `nexlin list --held` says what is held, and `nexlin " +
				"discard-original` deletes it once it is proven")
		}
		p.Add(f)
		return nil
	}
	own := p.Name
	if p.Traits().First {
		p.Add(preflight.Synced(own, path, preflight.SyncRoots(e.HomeOf(path)))...)
		own = "" // what has the name is another one
	}
	if err := p.Told(e.Nested(own, p.Link, path)); err != nil {
		return err
	}
	if p.FromNow, err = e.Drives.Of(path); err != nil {
		return err
	}
	p.FromDrive, p.FromUnstable = places.Ref(&p.FromNow), p.FromNow.UnstableInodes()
	if err := measureFolder(ctx, e, p, progress); err != nil {
		return err
	}
	return CheckUsers(ctx, p)
}

// checkRemoval asks, before anything is copied, whether the folder may be put aside at all.
func checkRemoval(p *plan.Plan) error {
	if !p.Traits().First {
		return nil
	}
	in, err := handle.OpenReal(filepath.Dir(p.From))
	if err != nil {
		return handle.IgnorePermission(err) // what that means is told with the folder
	}
	defer in.Release()
	f, err := preflight.CheckRemoval(in, filepath.Base(p.From))
	if f != nil {
		p.Add(*f)
	}
	return err
}

// measureFolder walks the folder once, in parallel, and turns what it finds into
// findings. Blocks are rounded for the target where it is known already.
func measureFolder(ctx context.Context, e *engine.Engine, p *plan.Plan, progress func(entries, bytes int64)) error {
	root, err := handle.OpenReal(p.From)
	if errors.Is(err, fs.ErrPermission) {
		p.Add(finding.New(finding.Unreadable, p.From, "this account may not look into %s", p.From))
		return nil
	}
	if err != nil {
		return err
	}
	defer root.Release()
	if err := CheckOwners(p, root); err != nil {
		return err
	}
	if !p.FromNow.ReadOnly && errors.Is(root.Access(".", handle.MayWrite), syscall.EROFS) {
		p.Add(finding.New(finding.Immutable, p.From, "%s can only be read, as a snapshot of a subvolume can", p.From).
			Instead("name a folder that can be written to; `btrfs property set -ts DIR ro false` makes a snapshot one"))
		return nil
	}
	p.Facts, err = preflight.Measure(ctx, root, inventory.Options{Block: p.IntoNow.Block, Progress: progress,
		Limits: p.Limits, Scratch: e.Ledger.Dir()})
	if err != nil {
		return err
	}
	f := &p.Facts
	p.Files, p.Bytes, p.Allocated, p.Entries = f.Files, f.Bytes, f.Allocated, f.Entries()
	if p.Bare {
		// Nothing of it goes anywhere, so nothing of it can be lost on the way.
		p.Files, p.Bytes, p.Entries, f.Rounded = 0, 0, 1, 0
		p.Add(preflight.MountsInside(p.From, f)...)
		p.Add(preflight.Sockets(p.From, f, toleranceOf(p))...)
		return nil
	}
	p.Add(preflight.Unkept(p.From, f, &p.Limits)...)
	if p.Traits().First {
		p.Add(preflight.NamedInside(p.From, f, p.Linkless())...)
	}
	p.Add(preflight.Losses(p.From, f, &p.Limits, &p.IntoNow)...)
	p.Add(preflight.Rights(p.From, f, &p.FromNow, &p.IntoNow)...)
	p.Add(preflight.Sockets(p.From, f, toleranceOf(p))...)
	if f := preflight.PointingIn(ctx, e.Homes, &preflight.Leaving{Name: p.Name, Link: p.Link,
		From: p.From, First: p.Traits().First}); f != nil {
		p.Add(*f)
	}
	return checkInnerLinks(e, p, root)
}

// CheckUsers looks for programs that have the folder open.
func CheckUsers(ctx context.Context, p *plan.Plan) (err error) {
	var found []finding.Finding
	p.InUse, found, err = preflight.Users(ctx, p.From, toleranceOf(p))
	p.Add(found...)
	return err
}

// toleranceOf is what the plan says of programs that use the folder.
func toleranceOf(p *plan.Plan) preflight.Tolerance {
	return preflight.Tolerance{WhileInUse: p.WhileInUse, Stops: p.Stops, WaitQuiet: p.WaitQuiet}
}

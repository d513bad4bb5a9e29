// Package survey says what takes the space, where it lies, and what could
// be moved: the first question before a move.
//
// It looks at the profile folders of a home and at the folders directly in
// the places it is given, each measured once, and changes nothing.
package survey

import (
	"cmp"
	"context"
	"errors"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"runtime"
	"slices"

	"golang.org/x/sync/errgroup"

	"nexlin/internal/drive"
	"nexlin/internal/engine"
	"nexlin/internal/handle"
	"nexlin/internal/inventory"
	"nexlin/internal/pathtext"
	"nexlin/internal/planning"
	"nexlin/internal/preflight"
	"nexlin/internal/setting"
)

// A Folder is one row: a folder that could be moved, or has been.
type Folder struct {
	Path      string
	Kind      string // a profile folder's kind; "folder" for others
	Bytes     int64  // apparent
	Allocated int64  // what moving it frees; 0 if it is redirected already
	Rounded   int64  // what a drive with 4 KiB blocks would need for it
	Files     int64
	Entries   int64
	Drive     string
	Redirect  string   // name of its redirect; empty if it has none
	Partial   bool     // this account can't see everything in it
	Card      string   // name of the card that knows it, or a folder in it; empty if none does
	Growth    float64  // by which factor the card wants room for it; 0 says nothing
	Takes     []string // what moving it by the card takes beside the copy, in words; may be empty

	unseen bool // it was not looked into
}

// Options of a survey.
type Options struct {
	Home     string // its profile folders are looked at; empty for none
	Dirs     []string
	Progress func(entries, bytes int64)
}

// shelves are directories in a home that are no folder of anybody's but
// hold one per program: their children are the rows.
var shelves = []string{
	".cache", ".config", ".local", ".local/share", ".local/state", ".var", ".var/app",
	"AppData", "AppData/Local", "AppData/LocalLow", "AppData/Roaming",
	"Library", "Library/Application Support", "Library/Caches", "Library/Containers",
}

// Survey lists folders, the one that frees most first.
func Survey(ctx context.Context, e *engine.Engine, o Options) ([]Folder, error) {
	rows := map[string]*Folder{}
	if o.Home != "" {
		profiles, err := setting.Profiles(o.Home)
		if err != nil {
			return nil, err
		}
		for _, p := range profiles {
			rows[p.Path] = &Folder{Path: p.Path, Kind: p.Kind}
		}
	}
	for _, dir := range o.Dirs {
		if err := children(dir, rows, dir); err != nil {
			return nil, err
		}
	}
	if err := redirected(e, rows, o); err != nil {
		return nil, err
	}
	ours, err := e.Ours()
	if err != nil {
		return nil, err
	}
	cards, err := cardsOf(e, o.Home)
	if err != nil {
		return nil, err
	}
	maps.DeleteFunc(rows, func(path string, _ *Folder) bool { return ours(path) })
	// Many small folders, each of which is one piece of work, are counted side by side.
	group, counting := errgroup.WithContext(ctx)
	group.SetLimit(2 * runtime.GOMAXPROCS(0))
	for _, f := range rows {
		group.Go(func() error { return count(counting, e, f, o.Progress) })
	}
	if err := group.Wait(); err != nil {
		return nil, err
	}
	var out []Folder
	of, known := e.Drives.Once(), slices.Sorted(maps.Keys(cards))
	for _, f := range rows {
		if f.unseen && !f.Partial && f.Redirect == "" {
			continue // it is gone
		}
		if at := cardFor(f.Path, known); at != "" {
			f.Card, f.Growth, f.Takes = cards[at].Card, cards[at].Growth, cards[at].Takes
		}
		if err := f.place(of); err != nil {
			return nil, err
		}
		out = append(out, *f)
	}
	slices.SortFunc(out, func(a, b Folder) int {
		return cmp.Or(cmp.Compare(b.Allocated, a.Allocated), cmp.Compare(b.Bytes, a.Bytes), cmp.Compare(a.Path, b.Path))
	})
	return out, nil
}

// One measures a folder by itself. The error is a *fs.PathError where there is none.
func One(ctx context.Context, e *engine.Engine, path string) (Folder, error) {
	f := Folder{Path: path, Kind: "folder"}
	st, err := os.Lstat(path)
	if err == nil && !st.IsDir() {
		err = &fs.PathError{Op: "survey", Path: path, Err: handle.ErrNotDir}
	}
	if err == nil {
		err = measure(ctx, e, &f, nil)
	}
	return f, err
}

// cardFor is the first of the folders that cards know which is a folder or lies in it: it is moved by that card.
// Empty if none is.
func cardFor(path string, known []string) string {
	for _, at := range known {
		if _, in := pathtext.Below(at, path); in {
			return at
		}
	}
	return ""
}

// cardsOf is what the cards know of folders of a home, by path.
func cardsOf(e *engine.Engine, home string) (map[string]*planning.Known, error) {
	out := map[string]*planning.Known{}
	if home == "" {
		return out, nil
	}
	for _, c := range e.Cards {
		u, err := planning.CardFor(c, home)
		if err != nil {
			return nil, err
		}
		maps.Copy(out, u.Known())
	}
	return out, nil
}

// children adds the folders directly in dir; shelves are opened up.
func children(dir string, rows map[string]*Folder, top string) error {
	names, err := os.ReadDir(dir)
	if errors.Is(err, fs.ErrPermission) && dir != top {
		return nil
	}
	if err != nil {
		return err
	}
	for _, n := range names {
		path := filepath.Join(dir, n.Name())
		if !n.IsDir() || rows[path] != nil {
			continue
		}
		rel, err := filepath.Rel(top, path)
		if err == nil && slices.Contains(shelves, filepath.ToSlash(rel)) {
			if err := children(path, rows, top); err != nil {
				return err
			}
			continue
		}
		rows[path] = &Folder{Path: path, Kind: "folder"}
	}
	return nil
}

// redirected marks what is a redirect, and adds redirects below the dirs.
func redirected(e *engine.Engine, rows map[string]*Folder, o Options) error {
	all, err := e.Ledger.Redirects(false)
	if err != nil {
		return err
	}
	for _, r := range all {
		under := slices.ContainsFunc(o.Dirs, func(d string) bool { return filepath.Dir(r.Link) == d })
		if rows[r.Link] == nil && under {
			rows[r.Link] = &Folder{Path: r.Link, Kind: "folder"}
		}
		if f := rows[r.Link]; f != nil {
			f.Redirect = r.Name
		}
	}
	return nil
}

// measure fills a row in.
func measure(ctx context.Context, e *engine.Engine, f *Folder, progress func(entries, bytes int64)) error {
	if err := count(ctx, e, f, progress); err != nil {
		return err
	}
	return f.place(e.Drives.Of)
}

// count fills in what a folder has in it.
func count(ctx context.Context, e *engine.Engine, f *Folder, progress func(entries, bytes int64)) error {
	root, err := handle.Open(f.Path)
	if errors.Is(err, fs.ErrNotExist) || errors.Is(err, handle.ErrNotDir) {
		f.unseen = true
		return nil
	}
	if errors.Is(err, fs.ErrPermission) {
		f.Partial, f.unseen = true, true
		return nil
	}
	if err != nil {
		return err
	}
	defer root.Release()
	facts, err := inventory.Measure(ctx, root,
		inventory.Options{SkipDeep: true, Progress: progress, Scratch: e.Ledger.Dir()})
	if err != nil {
		return err
	}
	f.Bytes, f.Files, f.Entries, f.Rounded = facts.Bytes, facts.Files, facts.Entries(), facts.Rounded
	f.Partial = facts.Unreadable.Count > 0
	if f.Redirect == "" {
		f.Allocated = facts.Allocated
	}
	return nil
}

// place fills in the drive that a folder lies on, where it was looked into.
func (f *Folder) place(of func(path string) (drive.Drive, error)) error {
	if f.unseen {
		return nil
	}
	d, err := of(f.Path)
	if err != nil && !errors.Is(err, drive.ErrNoDrive) {
		return err
	}
	f.Drive = d.Name()
	return nil
}

// A Need says how large a drive must be to take some folders.
type Need struct {
	Folders []Folder
	Bytes   int64 // what they take on a drive with 4 KiB blocks, manifests included
	Reserve int64 // what Nexlin leaves free on a drive of that size
	Total   int64
	Fits    []Fit
}

// A Fit says whether a drive that is here has the room.
type Fit struct {
	Drive string
	Free  int64
	Short int64 // bytes that lack; 0 if it has the room
}

// Needed adds up folders as inspect would, and holds the sum against the
// drives that are here.
func Needed(ctx context.Context, e *engine.Engine, paths []string, progress func(int64, int64)) (*Need, error) {
	n := &Need{}
	on := map[string]bool{}
	for _, path := range paths {
		st, err := os.Stat(path)
		if err != nil {
			return nil, err
		}
		if !st.IsDir() {
			return nil, &fs.PathError{Op: "survey", Path: path, Err: handle.ErrNotDir}
		}
		f := Folder{Path: path, Kind: "folder"}
		if err := measure(ctx, e, &f, progress); err != nil {
			return nil, err
		}
		on[f.Drive] = true
		n.Folders = append(n.Folders, f)
		n.Bytes += preflight.Need(f.Rounded, f.Entries, 4096)
	}
	// A drive of size s keeps s/50 free, so what it takes is 49/50 of it.
	n.Reserve = min(n.Bytes/49+1, 1<<30)
	n.Total = n.Bytes + n.Reserve
	drives, err := e.Drives.List(false)
	if err != nil {
		return nil, err
	}
	for _, d := range drives {
		if on[d.Name()] || d.ReadOnly {
			continue
		}
		n.Fits = append(n.Fits, Fit{d.Name(), d.Free, max(0, n.Bytes+d.Reserve()-d.Free)})
	}
	return n, nil
}

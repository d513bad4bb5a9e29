package survey

import (
	"cmp"
	"context"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"nexlin/internal/drive"
	"nexlin/internal/engine"
	"nexlin/internal/finding"
	"nexlin/internal/handle"
	"nexlin/internal/pathtext"
	"nexlin/internal/planning"
	"nexlin/internal/preflight"
	"nexlin/internal/redirect"
)

// A Place says what becomes of the room of a drive that folders would go to.
type Place struct {
	Drive drive.Drive
	After int64 // free once they are there, in bytes
	Short int64 // bytes that lack; 0 if it has the room
}

// Places holds folders that are to go together against the drives that are here and that none
// of them lies on, the one with most room afterwards first.
func Places(e *engine.Engine, fs []Folder) (out []Place, err error) {
	ds, err := e.Drives.List(false)
	if err != nil {
		return nil, err
	}
	for _, d := range ds {
		if d.ReadOnly || slices.ContainsFunc(fs, func(f Folder) bool { return f.Drive == d.Name() }) {
			continue
		}
		p := Place{Drive: d, After: d.Free}
		for _, f := range fs {
			p.After -= preflight.Need(f.Rounded, f.Entries, d.Block)
		}
		p.Short = max(0, d.Reserve()-p.After)
		out = append(out, p)
	}
	slices.SortStableFunc(out, func(a, b Place) int { return cmp.Compare(b.After, a.After) })
	return out, nil
}

// Directory proposes a directory on a drive that this account may make or write in: one called
// as the home, the drive itself, or the first directory there in which it may write; empty if
// there is none.
func (p *Place) Directory(home string) string {
	const may = handle.MayWrite | handle.MayEnter
	own := filepath.Join(p.Drive.Mount, filepath.Base(home))
	st, err := os.Stat(own)
	if err == nil && st.IsDir() && handle.Access(own, may) == nil {
		return own
	}
	if handle.Access(p.Drive.Mount, may) == nil {
		if err != nil && !pathtext.IsRoot(home) {
			return own
		}
		return p.Drive.Mount
	}
	names, _ := os.ReadDir(p.Drive.Mount) // one that can't be read proposes nothing
	for _, n := range names {
		at := filepath.Join(p.Drive.Mount, n.Name())
		if n.IsDir() && !strings.HasPrefix(n.Name(), ".") && handle.Access(at, may) == nil {
			return at
		}
	}
	return ""
}

// MayWrite says whether something may be made in a directory on the drive, or on the way to it.
func (p *Place) MayWrite(dir string) error {
	at, err := drive.Existing(filepath.Join(p.Drive.Mount, filepath.Clean("/"+dir)))
	if err == nil && handle.Access(at, handle.MayWrite|handle.MayEnter) != nil {
		err = fmt.Errorf("this account may not write in %s: name another directory", pathtext.Show(at))
	}
	return err
}

// Typed writes a directory on the drive the way a person names it, see [drive.System.Place].
func (p *Place) Typed(dir string) string {
	at := filepath.Join(p.Drive.Mount, filepath.Clean("/"+dir))
	if strings.ContainsAny(p.Drive.Label, "/:") {
		return at
	}
	if at == p.Drive.Mount && p.Drive.Label != "" {
		return p.Drive.Label + ":/"
	}
	return p.Drive.Display(at)
}

// A Room is the fewest folders whose moves free so much.
type Room struct {
	Moves []Move
	Frees int64 // once the originals are discarded, in bytes
	Short int64 // what lacks still with all that can be moved; 0 if it is enough
}

// Folders are those that move.
func (r *Room) Folders() (out []Folder) {
	for _, m := range r.Moves {
		out = append(out, m.Folder)
	}
	return out
}

// Places are the directories that the folders go into, each once.
func (r *Room) Places() (out []string) {
	for _, m := range r.Moves {
		if !slices.Contains(out, m.Into) {
			out = append(out, m.Into)
		}
	}
	return out
}

// Freed is what moving folders frees, in bytes, and the drive that the first of them lies on.
func Freed(fs []Folder) (on string, bytes int64) {
	for i, f := range fs {
		if i == 0 {
			on = f.Drive
		}
		bytes += f.Allocated
	}
	return on, bytes
}

// A Move is one of them, with the directory that it fits into.
type Move struct {
	Folder Folder
	Into   string
	Place  Place // as it is after this move and those before it
}

// MakeRoom proposes the fewest of the folders on the drive of home that free so many bytes,
// each with a place: of those that are enough together, the last is the smallest that does.
// Each is planned as a move would be, and one that could not be moved is not proposed.
func MakeRoom(ctx context.Context, e *engine.Engine, home string, fs []Folder, need int64) (*Room, error) {
	from, err := e.Drives.Of(home)
	if err != nil {
		return nil, err
	}
	var left []Folder
	for _, f := range fs {
		// What a card knows is moved by its card; crumbs make no room.
		if f.Drive == from.Name() && f.Redirect == "" && f.Card == "" && !f.Partial && f.Allocated > need/100 {
			left = append(left, f)
		}
	}
	slices.SortStableFunc(left, func(a, b Folder) int { return cmp.Compare(b.Allocated, a.Allocated) })
	r := &Room{}
	for len(left) > 0 && r.Frees < need {
		i := 0
		for i+1 < len(left) && r.Frees+left[i+1].Allocated >= need { // the smallest that is enough
			i++
		}
		f := left[i]
		left = slices.Delete(left, i, i+1)
		m, err := r.place(ctx, e, home, f)
		if err != nil {
			return nil, err
		}
		if m != nil {
			r.Moves, r.Frees = append(r.Moves, *m), r.Frees+f.Allocated
		}
	}
	r.Short = max(0, need-r.Frees)
	return r, nil
}

// place finds a drive that a folder fits on beside those that are proposed already; nil if
// there is none, or if it lies in one of them or can't be moved.
func (r *Room) place(ctx context.Context, e *engine.Engine, home string, f Folder) (*Move, error) {
	for _, m := range r.Moves {
		_, in := pathtext.Below(f.Path, m.Folder.Path)
		_, around := pathtext.Below(m.Folder.Path, f.Path)
		if in || around {
			return nil, nil
		}
	}
	places, err := Places(e, []Folder{f})
	if err != nil {
		return nil, err
	}
	for _, p := range places {
		for _, m := range r.Moves { // what is proposed takes its room first
			if m.Place.Drive.Same(&p.Drive) {
				p.After -= preflight.Need(m.Folder.Rounded, m.Folder.Entries, p.Drive.Block)
			}
		}
		into := p.Directory(home)
		if into == "" || p.After < p.Drive.Reserve() {
			continue
		}
		planned, err := redirect.PlanMove(ctx, e, planning.MoveOptions{Folder: f.Path, Into: into,
			Accept: []finding.Code{finding.TargetInMemory}})
		if err != nil {
			return nil, err
		}
		if planned.Blocked() == nil {
			return &Move{f, into, p}, nil
		}
	}
	return nil, nil
}

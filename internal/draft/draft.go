// Package draft writes the first version of a card from what is seen of a folder: who holds its files
// open, which settings near by name it, how fast it grows.
//
// A draft claims nothing that was not seen. What only a person knows stands in it as a question.
// Looking changes nothing.
package draft

import (
	"cmp"
	"context"
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"nexlin/internal/card"
	"nexlin/internal/handle"
	"nexlin/internal/inuse"
	"nexlin/internal/inventory"
	"nexlin/internal/pathtext"
	"nexlin/internal/setting"
)

// A Draft is what was seen of a folder.
type Draft struct {
	Name     string // of the card
	Folder   string // absolute
	Made     time.Time
	Bytes    int64          // of its files, as they are
	Recent   int64          // of these, written within the last half year
	Services []string       // units that hold files of it open
	Programs []string       // other programs that do, or have a directory of it as theirs
	Complete bool           // every program could be looked at
	Settings []card.Setting // those that name the folder, or something in it
	Looked   int            // settings files that were read
	vars     map[string]string
}

// Bounds of what is looked at near by: settings are small and few. Bytes, files, levels.
const (
	largest = 1 << 20
	most    = 3000
	deepest = 4
)

// halfYear is the time over which growth is looked at.
const halfYear = 182 * 24 * time.Hour

// Look looks at a folder of an account, given by its real path; vars are those of the account's cards
// ([card.Variables]). Nothing is followed that is a link. An error is one of the folder itself.
func Look(ctx context.Context, name, folder string, vars map[string]string, now time.Time) (*Draft, error) {
	d := &Draft{Name: name, Folder: folder, Made: now, vars: vars}
	root, err := handle.OpenReal(folder)
	if err != nil {
		return nil, err
	}
	defer root.Release()
	if err := d.measure(ctx, root); err != nil {
		return nil, err
	}
	report, err := inuse.Below(ctx, folder)
	if err != nil {
		return nil, err
	}
	d.Complete = report.Complete
	for _, h := range report.Holders {
		switch {
		case h.PID == 0: // the kernel itself: a mount, say
		case h.Service != "" && !slices.Contains(d.Services, h.Service):
			d.Services = append(d.Services, h.Service)
		case h.Service == "" && !slices.Contains(d.Programs, h.Program):
			d.Programs = append(d.Programs, h.Program)
		}
	}
	slices.Sort(d.Services)
	slices.Sort(d.Programs)
	return d, d.settings(ctx)
}

// measure adds up the folder, and what of it is new. What can't be read does not count.
func (d *Draft) measure(ctx context.Context, root *handle.Dir) error {
	since := d.Made.Add(-halfYear)
	err := inventory.Walk(ctx, root, inventory.VisitorFunc(func(e *inventory.Entry) error {
		if e.Stat.IsRegular() {
			d.Bytes += e.Stat.Size
			if e.Stat.Mtime.Std().After(since) {
				d.Recent += e.Stat.Size
			}
		}
		return nil
	}))
	if unread := (*fs.PathError)(nil); errors.As(err, &unread) {
		return ctx.Err() // the numbers are a hint
	}
	return err
}

// Growth is by which factor the folder would be larger in a year at the pace of the last half year,
// to a tenth; 0 if it does not grow, or is all new.
func (d *Draft) Growth() float64 {
	old := d.Bytes - d.Recent
	if d.Recent == 0 || old <= 0 {
		return 0
	}
	f := 1 + 2*float64(d.Recent)/float64(d.Bytes)
	return float64(int(f*10+0.5)) / 10
}

// settings looks for files near by that name the folder: where programs of this account have their
// settings, and not in the folder itself.
func (d *Draft) settings(ctx context.Context) error {
	var roots []string
	for _, name := range []string{"config", "data", "state"} {
		if at := d.vars[name]; at != "" && !slices.Contains(roots, at) {
			roots = append(roots, at)
		}
	}
	for _, at := range roots {
		dir, err := handle.OpenReal(at)
		if err != nil {
			continue // the account has no such directory, or may not look into it
		}
		err = d.settingsIn(ctx, dir, 1)
		dir.Release()
		if err != nil {
			return err
		}
	}
	slices.SortFunc(d.Settings, func(a, b card.Setting) int {
		return cmp.Or(cmp.Compare(a.File, b.File), cmp.Compare(a.At, b.At))
	})
	return nil
}

func (d *Draft) settingsIn(ctx context.Context, dir *handle.Dir, depth int) error {
	names, err := dir.Names()
	if err != nil {
		return ctx.Err()
	}
	slices.Sort(names)
	for _, name := range names {
		if err := ctx.Err(); err != nil || d.Looked >= most {
			return err
		}
		st, err := dir.Stat(name)
		at := dir.Join(name)
		switch {
		case err != nil || pathtext.Within(at, d.Folder):
		case st.IsDir() && depth < deepest && !st.MountRoot:
			if sub, err := dir.Beneath(name); err == nil {
				err = d.settingsIn(ctx, sub, depth+1)
				sub.Release()
				if err != nil {
					return err
				}
			}
		case st.IsRegular() && st.Size <= largest:
			d.settingsFile(dir, name)
		}
	}
	return nil
}

// settingsFile reads one file, if its name says what it is. What can't be read, or is none, says
// nothing.
func (d *Draft) settingsFile(dir *handle.Dir, name string) {
	formats := setting.FormatsOf(name)
	if len(formats) == 0 {
		return
	}
	f, err := setting.Read(dir, name)
	if err != nil {
		return
	}
	d.Looked++
	for _, format := range formats {
		found, err := setting.Naming(format, f.Data, d.Folder, d.vars["home"])
		if err != nil {
			continue
		}
		for _, at := range found {
			s := card.Setting{File: d.short(dir.Join(name)), Format: format, At: at}
			s.Optional = format == setting.Bookmarks
			d.Settings = append(d.Settings, s)
		}
		return
	}
}

// short writes a path with the variable that says most of it.
func (d *Draft) short(path string) string {
	best, name := "", ""
	for _, v := range []string{"home", "config", "data", "cache", "state"} {
		at := d.vars[v]
		if _, below := pathtext.Below(path, at); at != "" && below && len(at) > len(best) {
			best, name = at, v
		}
	}
	if best == "" {
		return path
	}
	rel, _ := pathtext.Below(path, best)
	if rel == "." {
		return "{" + name + "}"
	}
	return "{" + name + "}" + string(filepath.Separator) + rel
}

// Named is a card's name for a folder: its own, as far as a card's name may have its characters.
func Named(folder string) string {
	var b strings.Builder
	for _, r := range strings.ToLower(filepath.Base(folder)) {
		switch {
		case r >= 'a' && r <= 'z', r >= '0' && r <= '9':
			b.WriteRune(r)
		case b.Len() > 0 && !strings.HasSuffix(b.String(), "-"):
			b.WriteByte('-')
		}
	}
	name := strings.Trim(b.String(), "-")
	if len(name) > 40 {
		name = strings.Trim(name[:40], "-")
	}
	return cmp.Or(name, "folder")
}

// Write puts the draft into a directory of cards, which is made if it is not there, as NAME.yaml. What
// stands there already is never replaced: the error is a *fs.PathError then, [fs.ErrExist].
func (d *Draft) Write(dir string) (file string, err error) {
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return "", err
	}
	file = filepath.Join(dir, d.Name+".yaml")
	f, err := os.OpenFile(file, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600)
	if err != nil {
		return "", err
	}
	_, err = f.Write(d.Text())
	if err = errors.Join(err, f.Sync(), f.Close()); err != nil {
		err = errors.Join(err, os.Remove(file)) // half a card is none
	}
	return file, err
}

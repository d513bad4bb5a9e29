package setting

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"

	"nexlin/internal/handle"
	"nexlin/internal/pathtext"
)

// A Change is one value, or one list of values, in a settings file
// that a run changes so that it leads to another place.
type Change struct {
	File     string   `json:"file"` // the real one, no link to it
	Format   Format   `json:"format"`
	At       string   `json:"at"` // its address, see [Format]
	Key      string   `json:"key"`
	Optional bool     `json:"optional"`
	From     []string `json:"from"` // what it may name before
	To       string   `json:"to"`
	Home     string   `json:"home"` // of the account, for ~ and $HOME
	Back     *Record  `json:"back"` // what an earlier run changed, which this one takes back; nil for a change
}

// A Record is what a redirect has changed in a settings file: all that
// is needed to check it and to give it back.
type Record struct {
	Change
	Edits []Edit      `json:"edits"`
	Was   string      `json:"was"`  // digest of the file before; empty if there was none
	Now   string      `json:"now"`  // digest of the file as it was written
	Held  string      `json:"held"` // the file as it was before; empty if it may only be given back value by value
	Mtime handle.Time `json:"mtime"`
}

// A ChangeError stops a run at a settings file.
type ChangeError struct {
	File string
	At   string
	Err  error
}

func (e *ChangeError) Error() string {
	return fmt.Sprintf("the settings file %s at %s: %v", pathtext.Show(e.File), e.At, e.Err)
}
func (e *ChangeError) Unwrap() error { return e.Err }

// ErrDiffers reports a value that names neither the folder nor its new
// place.
var ErrDiffers = errors.New("it does not name the folder any more")

// Records reads what a redirect has changed in settings files, as its ledger has it; may be
// empty.
func Records(text []byte) (out []Record, err error) {
	if len(text) == 0 {
		return nil, nil
	}
	return out, pathtext.Unmarshal(text, &out)
}

// Read reads the settings file of a change, through its directory; that is nil
// for a value of the registry.
func (c *Change) Read(open func(dir string) (*handle.Dir, error)) (*File, *handle.Dir, error) {
	if c.Format == KnownFolder {
		f, err := ReadKnown(c.Key)
		return f, nil, err
	}
	dir, err := open(filepath.Dir(c.File))
	if err != nil {
		return nil, nil, err
	}
	f, err := Read(dir, filepath.Base(c.File))
	if err != nil {
		dir.Release()
	}
	return f, dir, err
}

// Foreign says why a settings file must not be written for an account. What an
// administrator writes for another account lies in a directory of that account
// and is its own: a link of its can't lead to a file of the system's (I6). The
// system's settings of a service are the administrator's, all the way from the root.
func Foreign(dir *handle.Dir, f *File, uid uint32) (string, error) {
	if dir == nil {
		return "", nil
	}
	if os.Geteuid() == 0 && uid != 0 {
		st, err := dir.Self()
		if err != nil {
			return "", err
		}
		system := st.UID != uid && ofSystem(dir.Path())
		if st.UID != uid && !system {
			return "lies in a directory of another account", nil
		}
		if f.Exists && f.Owner() != uid && !(system && f.Owner() == 0) {
			return "belongs to another account", nil
		}
	}
	if f.Exists && f.Names() > 1 {
		return "has several names (hard links), which a new file would part", nil
	}
	return "", nil
}

// ofSystem reports whether nobody but the administrator can have had a hand in the way to a directory: no link
// of an account's has led there then.
func ofSystem(dir string) bool {
	for {
		st, err := handle.Lstat(dir)
		if err != nil || !st.IsDir() || st.UID != 0 || st.Mode&0o022 != 0 {
			return false
		}
		if filepath.Dir(dir) == dir {
			return true
		}
		dir = filepath.Dir(dir)
	}
}

// Leads reports whether every path that the addressed values name leads to
// the new place already.
func (c *Change) Leads(f *File) bool {
	vs, err := Paths(c.Format, f.Data, c.At, c.Home)
	return err == nil && slices.ContainsFunc(vs, func(v Value) bool { return pathtext.Within(v.Text, c.To) })
}

// Compute gives the file as it will be. No edits mean that nothing there
// names a place that this change is about.
func (c *Change) Compute(f *File) ([]byte, []Edit, error) {
	if c.Back != nil {
		if c.Back.Held != "" && f.Sum() == c.Back.Now {
			b, err := handle.ReadRegular(c.Back.Held, Limit)
			if err != nil || Sum(b) != c.Back.Was && c.Back.Was != "" {
				return nil, nil, errors.Join(err, errors.New("the held settings file is damaged"))
			}
			return b, c.Back.Edits, nil
		}
		b, left, err := Revert(c.Format, f.Data, c.Back.Edits)
		if len(left) == len(c.Back.Edits) {
			return f.Data, nil, err
		}
		return b, c.Back.Edits, err
	}
	for _, from := range c.From {
		b, edits, err := Redirect(c.Format, f.Data, c.At, from, c.To, c.Home)
		if err != nil || len(edits) > 0 {
			return b, edits, err
		}
	}
	if c.Key == "" {
		return f.Data, nil, nil
	}
	if vs, err := Values(c.Format, f.Data, c.At); err != nil || len(vs) > 0 {
		return f.Data, nil, err
	}
	return Put(c.Format, f.Data, c.Key, c.To)
}

// Follow makes the record of a second change one of both: what comes back is
// what was there before the first.
func (r *Record) Follow(first *Record) {
	for i := range r.Edits {
		for _, e := range first.Edits {
			if e.At == r.Edits[i].At {
				r.Edits[i].Old, r.Edits[i].Add = e.Old, e.Add
			}
		}
	}
	r.From = first.From
	if first.Now == r.Was {
		r.Was, r.Held, r.Mtime = first.Was, first.Held, first.Mtime
	} else {
		r.Was, r.Held = "", ""
	}
}

// Drifted says how a setting does not lead to the target; empty if it does.
func (rec *Record) Drifted(target string) string {
	f, dir, err := rec.Read(handle.OpenReal)
	if err != nil {
		return "can't be looked at: " + handle.Cause(err).Error()
	}
	defer dir.Release()
	if !f.Exists {
		return "is gone"
	}
	if rec.Now == f.Sum() {
		return ""
	}
	vs, err := Paths(rec.Format, f.Data, rec.At, rec.Home)
	if err != nil {
		return "can't be read: " + err.Error()
	}
	leads := slices.ContainsFunc(vs, func(v Value) bool { return pathtext.Within(v.Text, target) })
	old := slices.IndexFunc(vs, func(v Value) bool {
		return slices.ContainsFunc(rec.From, func(p string) bool { return pathtext.Within(v.Text, p) })
	})
	switch {
	case old >= 0:
		return fmt.Sprintf("names %s again, not %s", pathtext.Show(vs[old].Text), pathtext.Show(target))
	case !leads && len(vs) == 1:
		return fmt.Sprintf("names %s, not %s", pathtext.Show(vs[0].Text), pathtext.Show(target))
	case !leads:
		return "does not name " + pathtext.Show(target) + " any more"
	}
	return ""
}

package redirect

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"nexlin/internal/finding"
	"nexlin/internal/handle"
	"nexlin/internal/ledger"
	"nexlin/internal/link"
	"nexlin/internal/naming"
	"nexlin/internal/pathtext"
	"nexlin/internal/preflight"
	"nexlin/internal/setting"
)

// A SettingChange is one value, or one list of values, in a settings file
// that a run changes so that it leads to another place.
type SettingChange struct {
	File     string         `json:"file"` // the real one, no link to it
	Format   setting.Format `json:"format"`
	At       string         `json:"at"` // its address, see [setting.Format]
	Key      string         `json:"key"`
	Optional bool           `json:"optional"`
	From     []string       `json:"from"` // what it may name before
	To       string         `json:"to"`
	Home     string         `json:"home"` // of the account, for ~ and $HOME
	Back     *SettingRecord `json:"back"` // what an earlier run changed, which this one takes back; nil for a change
}

// A SettingRecord is what a redirect has changed in a settings file: all that
// is needed to check it and to give it back.
type SettingRecord struct {
	SettingChange
	Edits []setting.Edit `json:"edits"`
	Was   string         `json:"was"`  // digest of the file before; empty if there was none
	Now   string         `json:"now"`  // digest of the file as it was written
	Held  string         `json:"held"` // the file as it was before; empty if it may only be given back value by value
	Mtime handle.Time    `json:"mtime"`
}

// A SettingError stops a run at a settings file.
type SettingError struct {
	File string
	At   string
	Err  error
}

func (e *SettingError) Error() string {
	return fmt.Sprintf("the settings file %s at %s: %v", pathtext.Show(e.File), e.At, e.Err)
}
func (e *SettingError) Unwrap() error { return e.Err }

// ErrSettingDiffers reports a value that names neither the folder nor its new
// place.
var ErrSettingDiffers = errors.New("it does not name the folder any more")

// records reads what a redirect has changed in settings files.
func records(r ledger.Redirect) ([]SettingRecord, error) {
	if len(r.Settings) == 0 {
		return nil, nil
	}
	var out []SettingRecord
	if err := pathtext.Unmarshal(r.Settings, &out); err != nil {
		return nil, fmt.Errorf("the settings of redirect %s can't be read: %w", r.Name, err)
	}
	return out, nil
}

// planSettings plans to change what the places of settings name from the folder to
// its target. A value that is not there or names another folder is a blocker.
func (e *Engine) planSettings(p *Plan, named []setting.Place, from ...string) error {
	home := e.HomeOf(p.Link)
	for _, at := range named {
		file, err := settingsFile(at)
		if err != nil {
			return err
		}
		c := SettingChange{
			File: file, Format: at.Format, At: at.At, Key: at.Key, Optional: at.Optional,
			From: from, To: p.Target, Home: home,
		}
		if use, err := e.fits(p, &c); err != nil {
			return err
		} else if use {
			p.Settings = append(p.Settings, c)
		}
	}
	return nil
}

// settingsFile is the real path of a settings file; the registry has none.
func settingsFile(at setting.Place) (string, error) {
	if at.Format == setting.KnownFolder {
		return at.File, nil
	}
	_, file, err := link.Chain(at.File)
	if handle.Missing(err) {
		return at.File, nil
	}
	return file, err
}

// read reads the settings file of a change, through its directory; that is nil
// for a value of the registry.
func (c *SettingChange) read(open func(dir string) (*handle.Dir, error)) (*setting.File, *handle.Dir, error) {
	if c.Format == setting.KnownFolder {
		f, err := setting.ReadKnown(c.Key)
		return f, nil, err
	}
	dir, err := open(filepath.Dir(c.File))
	if err != nil {
		return nil, nil, err
	}
	f, err := setting.Read(dir, filepath.Base(c.File))
	if err != nil {
		dir.Release()
	}
	return f, dir, err
}

// fits looks whether a change can be made now; what stands in the way is a
// finding. use is false for what is to be passed over.
func (e *Engine) fits(p *Plan, c *SettingChange) (use bool, err error) {
	about := finding.Subject{Name: p.Name}
	file := c.File
	say := func(code finding.Code, format string, args ...any) {
		f := finding.New(code, file, format, args...).About(about)
		if c.Back != nil { // the data comes back all the same
			f = f.As(finding.Warning).Instead("it is left as it is; look at it afterwards and set it by hand")
		}
		p.find(f)
	}
	var checkOwners *finding.Finding
	f, dir, err := c.read(func(path string) (*handle.Dir, error) {
		d, err := handle.OpenReal(path)
		if err == nil {
			if checkOwners, err = preflight.OthersDirectory(d); checkOwners != nil || err != nil {
				d.Release()
				return nil, errors.Join(err, fs.ErrPermission)
			}
		}
		return d, err
	})
	switch {
	case checkOwners != nil:
		p.find(*checkOwners)
		return false, nil
	case handle.Missing(err) && c.Optional:
		return false, nil
	case err != nil:
		say(finding.SettingUnusable, "the settings file %s can't be read: %v", pathtext.Show(file), handle.Cause(err))
		return false, nil
	}
	defer dir.Release()
	why, err := foreign(dir, f, p.UID)
	if err != nil {
		return false, err
	}
	if why != "" {
		say(finding.SettingUnusable, "the settings file %s %s", pathtext.Show(file), why)
		return false, nil
	}
	_, edits, err := c.compute(f)
	if err != nil {
		say(finding.SettingUnusable, "the settings file %s can't be changed at %s: %v", pathtext.Show(file), c.At, err)
		return false, nil
	}
	if len(edits) > 0 || c.Back != nil {
		return true, nil
	}
	if !c.Optional && !c.leads(f) {
		f := finding.New(finding.SettingDiffers, file, "%s at %s does not name %s", file, c.At, c.From[0]).About(about)
		p.find(f)
	}
	return false, nil
}

// foreign says why a settings file must not be written for an account. What an
// administrator writes for another account lies in a directory of that account
// and is its own: a link of its can't lead to a file of the system's (I6).
func foreign(dir *handle.Dir, f *setting.File, uid uint32) (string, error) {
	if dir == nil {
		return "", nil
	}
	if os.Geteuid() == 0 && uid != 0 {
		st, err := dir.Self()
		if err != nil {
			return "", err
		}
		if st.UID != uid {
			return "lies in a directory of another account", nil
		}
		if f.Exists && f.Owner() != uid {
			return "belongs to another account", nil
		}
	}
	if f.Exists && f.Names() > 1 {
		return "has several names (hard links), which a new file would part", nil
	}
	return "", nil
}

// leads reports whether every path that the addressed values name leads to
// the new place already.
func (c *SettingChange) leads(f *setting.File) bool {
	vs, err := setting.Paths(c.Format, f.Data, c.At, c.Home)
	return err == nil && slices.ContainsFunc(vs, func(v setting.Value) bool { return pathtext.Within(v.Text, c.To) })
}

// compute gives the file as it will be. No edits mean that nothing there
// names a place that this change is about.
func (c *SettingChange) compute(f *setting.File) ([]byte, []setting.Edit, error) {
	if c.Back != nil {
		if c.Back.Held != "" && f.Sum() == c.Back.Now {
			b, err := handle.ReadRegular(c.Back.Held, setting.Limit)
			if err != nil || setting.Sum(b) != c.Back.Was && c.Back.Was != "" {
				return nil, nil, errors.Join(err, errors.New("the held settings file is damaged"))
			}
			return b, c.Back.Edits, nil
		}
		b, left, err := setting.Revert(c.Format, f.Data, c.Back.Edits)
		if len(left) == len(c.Back.Edits) {
			return f.Data, nil, err
		}
		return b, c.Back.Edits, err
	}
	for _, from := range c.From {
		b, edits, err := setting.Redirect(c.Format, f.Data, c.At, from, c.To, c.Home)
		if err != nil || len(edits) > 0 {
			return b, edits, err
		}
	}
	if c.Key == "" {
		return f.Data, nil, nil
	}
	if vs, err := setting.Values(c.Format, f.Data, c.At); err != nil || len(vs) > 0 {
		return f.Data, nil, err
	}
	return setting.Put(c.Format, f.Data, c.Key, c.To)
}

// settingsOf plans what becomes of the settings of a redirect: they are given
// back, or, if not back, lead to its target again.
func (e *Engine) settingsOf(p *Plan, r ledger.Redirect, back bool) error {
	rs, err := records(r)
	if err != nil {
		return err
	}
	if p.Name == "" {
		p.Name, p.UID = r.Name, r.UID
	}
	for _, rec := range slices.Backward(rs) {
		c := rec.SettingChange
		c.Optional = true
		if back {
			c.Back = &rec
		} else {
			c.From, c.To = append(c.From, r.Target, r.Link), p.Target
		}
		if use, err := e.fits(p, &c); err != nil {
			return err
		} else if use {
			p.Settings = append(p.Settings, c)
		}
	}
	return nil
}

// settingData is the journal's word about one settings file.
type settingData struct {
	Was    string         `json:"was"`
	Now    string         `json:"now"`
	Exists bool           `json:"exists"`
	Mtime  handle.Time    `json:"mtime"`
	Edits  []setting.Edit `json:"edits"`
}

func settingAct(i int) string { return fmt.Sprintf("setting.%d", i) }

func (m *execution) heldSetting(i int) string { return filepath.Join(m.Run.Dir(), settingAct(i)) }

// changeSettings changes the settings of the plan, one after the other; each
// may be done already.
func (m *execution) changeSettings(ctx context.Context) error {
	for i := range m.p.Settings {
		if err := m.withSetting(i,
			func(c *SettingChange, f *setting.File) error { return m.changeSetting(ctx, i, c, f) }); err != nil {
			return err
		}
	}
	return nil
}

// withSetting reads a settings file. That no other run writes it between is seen
// when it is written: see [setting.ErrRewritten].
func (m *execution) withSetting(i int, do func(*SettingChange, *setting.File) error) error {
	c := &m.p.Settings[i]
	f, dir, err := c.read(m.openReal)
	if err != nil {
		return &SettingError{c.File, c.At, err}
	}
	defer dir.Release()
	if dir != nil {
		// What a write that was stopped left beside it is the run's own; an older
		// build left a file.
		if err = handle.IgnoreMissing(dir.Unlink(naming.TempLink(m.p.Run))); err == nil {
			err = m.dropScratch(dir)
		}
	}
	if err == nil {
		var why string
		if why, err = foreign(dir, f, m.p.UID); why != "" {
			err = errors.New("it " + why)
		}
	}
	if err == nil {
		err = do(c, f)
	}
	var known *SettingError
	if err != nil && !errors.As(err, &known) && !errors.Is(err, context.Canceled) {
		err = &SettingError{c.File, c.At, err}
	}
	return err
}

func (m *execution) changeSetting(ctx context.Context, i int, c *SettingChange, f *setting.File) error {
	var d settingData
	known, err := m.Last(settingAct(i), &d)
	if err != nil || known && f.Sum() == d.Now {
		return err
	}
	out, edits, err := c.compute(f)
	if err != nil {
		return err
	}
	if len(edits) == 0 {
		if known || c.Optional || c.Back != nil || c.leads(f) {
			return nil
		}
		return ErrSettingDiffers
	}
	d = settingData{Was: f.Sum(), Now: setting.Sum(out), Exists: f.Exists, Mtime: f.Mtime(), Edits: edits}
	if err := handle.WriteFile(m.heldSetting(i), 0o600, func(w io.Writer) error {
		_, err := w.Write(f.Data)
		return err
	}); err != nil {
		return err
	}
	w := m.writing()
	if c.Back != nil && f.Sum() == c.Back.Now && c.Back.Held != "" {
		w.Mtime = &c.Back.Mtime
	}
	return m.Act(ctx, settingAct(i), d, func() error {
		if c.Back != nil && c.Back.Was == "" && len(out) == 0 {
			return f.Remove(w) // there was no file
		}
		return f.Write(out, w)
	}, nil)
}

func (m *execution) writing() setting.Writing {
	return setting.Writing{Tmp: naming.Scratch(m.p.Run), UID: m.p.UID, GID: m.p.GID}
}

// settingsBack puts the settings of this run back: byte for byte where nobody
// has written the file since, else value by value. What is not ours any more
// is left and told.
func (m *execution) settingsBack(ctx context.Context) error {
	for i := range slices.Backward(m.p.Settings) {
		var d settingData
		known, err := m.Last(settingAct(i), &d)
		if err != nil {
			return err
		}
		if !known {
			continue
		}
		if err := m.withSetting(i,
			func(c *SettingChange, f *setting.File) error { return m.settingBack(ctx, i, c, &d, f) }); err != nil {
			return err
		}
	}
	return nil
}

func (m *execution) settingBack(ctx context.Context, i int, c *SettingChange, d *settingData, f *setting.File) error {
	if f.Sum() == d.Was {
		return nil // given back already, or not changed yet
	}
	out, w := f.Data, m.writing()
	gone := false
	switch {
	case f.Sum() == d.Now:
		held, err := handle.ReadRegular(m.heldSetting(i), setting.Limit)
		if err != nil {
			return err
		}
		out, gone, w.Mtime = held, !d.Exists, &d.Mtime
	case c.Back != nil:
		vs := c.Back.SettingChange
		vs.From = append(vs.From, m.p.Link)
		again, edits, err := vs.compute(f)
		if err != nil {
			return err
		}
		if out = again; len(edits) == 0 {
			return nil
		}
	default:
		back, left, err := setting.Revert(c.Format, f.Data, d.Edits)
		if err != nil {
			return err
		}
		if out = back; len(left) > 0 {
			m.out.Findings = append(m.out.Findings, finding.New(finding.SettingDrifted, c.File,
				"%s says something else at %s by now, and was left so", c.File,
				strings.Join(left, ", ")).Named(m.p.Name).Instead("look at it and set it by hand"))
			if len(left) == len(d.Edits) {
				return nil
			}
		}
	}
	return m.Act(ctx, settingAct(i)+".back", d, func() error {
		if gone {
			return f.Remove(m.writing())
		}
		return f.Write(out, w)
	}, nil)
}

// linkAway takes the link away from a folder to which programs are led by
// settings alone, once they are.
func (m *execution) linkAway(ctx context.Context) error {
	if !m.p.Linkless() || m.p.kind().back || m.p.kind().on {
		return nil
	}
	return m.Act(ctx, "link-away", m.p.LinkText, func() error { return m.linkPlace().Remove(m.p.LinkText) }, nil)
}

// methods are those of the redirect that the run makes.
func (m *execution) methods() []string {
	if len(m.p.Methods) == 0 {
		return []string{BySymlink}
	}
	return m.p.Methods
}

// settingRecords is what the redirect has changed in settings files once the
// run is done.
func (m *execution) settingRecords() (json.RawMessage, error) {
	if m.p.kind().back {
		return nil, nil
	}
	var old []SettingRecord
	if m.p.Before != nil {
		var err error
		if old, err = records(*m.p.Before); err != nil {
			return nil, err
		}
	}
	var out []SettingRecord
	for i, c := range m.p.Settings {
		var d settingData
		known, err := m.Last(settingAct(i), &d)
		if err != nil {
			return nil, err
		}
		if !known {
			continue
		}
		rec := SettingRecord{SettingChange: c, Edits: d.Edits, Was: d.Was, Now: d.Now, Held: m.heldSetting(i),
			Mtime: d.Mtime}
		for j, o := range old {
			if o.File == c.File && o.At == c.At {
				rec.follow(&o)
				old = slices.Delete(old, j, j+1)
				break
			}
		}
		out = append(out, rec)
	}
	if out = append(old, out...); len(out) == 0 {
		return nil, nil
	}
	return pathtext.Marshal(out)
}

// follow makes the record of a second change one of both: what comes back is
// what was there before the first.
func (r *SettingRecord) follow(first *SettingRecord) {
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

// CheckSettings tells which settings of a redirect do not lead to its target
// any more.
func (e *Engine) CheckSettings(r ledger.Redirect) ([]finding.Finding, error) {
	rs, err := records(r)
	if err != nil || r.State != ledger.Linked {
		return nil, err
	}
	var out []finding.Finding
	for _, rec := range rs {
		if why := rec.drifted(r.Target); why != "" {
			out = append(out, finding.New(finding.SettingDrifted, rec.File,
				"%s at %s %s", rec.File, rec.At, why).Named(r.Name))
		}
	}
	return out, nil
}

// drifted says how a setting does not lead to the target; empty if it does.
func (rec *SettingRecord) drifted(target string) string {
	f, dir, err := rec.read(handle.OpenReal)
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
	vs, err := setting.Paths(rec.Format, f.Data, rec.At, rec.Home)
	if err != nil {
		return "can't be read: " + err.Error()
	}
	leads := slices.ContainsFunc(vs, func(v setting.Value) bool { return pathtext.Within(v.Text, target) })
	old := slices.IndexFunc(vs, func(v setting.Value) bool {
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

// chooseMethods plans how programs are led to the target beside a link: by the
// system's own location setting where that was asked for, and by the places
// that a card names.
func (e *Engine) chooseMethods(p *Plan, o MoveOptions) error {
	p.Methods = e.by(p, o.By)
	if p.kind().on {
		// A redirect goes on as it is led.
		p.Methods = p.Before.Methods
		return e.settingsOf(p, *p.Before, false)
	}
	if p.FromIno == 0 {
		return nil
	}
	named := o.Places
	if slices.Contains(o.By, BySetting) && len(o.Places) == 0 {
		home := e.HomeOf(p.Link)
		_, own, ok, err := setting.Location(home, p.Link)
		if err != nil {
			return err
		}
		if home == "" || !ok {
			p.find(finding.New(finding.NoSetting, p.Link, "the system keeps no location setting for %s",
				p.Link).Named(p.Name))
			return nil
		}
		named = own
	}
	return e.planSettings(p, named, p.Link)
}

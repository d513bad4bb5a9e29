package redirect

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
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

// planSettings plans to change what the places of settings name from the folder to
// its target. A value that is not there or names another folder is a blocker.
func (e *Engine) planSettings(p *Plan, named []setting.Place, from ...string) error {
	home := e.HomeOf(p.Link)
	for _, at := range named {
		file, err := settingsFile(at)
		if err != nil {
			return err
		}
		c := setting.Change{
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

// fits looks whether a change can be made now; what stands in the way is a
// finding. use is false for what is to be passed over.
func (e *Engine) fits(p *Plan, c *setting.Change) (use bool, err error) {
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
	f, dir, err := c.Read(func(path string) (*handle.Dir, error) {
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
	why, err := setting.Foreign(dir, f, p.UID)
	if err != nil {
		return false, err
	}
	if why != "" {
		say(finding.SettingUnusable, "the settings file %s %s", pathtext.Show(file), why)
		return false, nil
	}
	_, edits, err := c.Compute(f)
	if err != nil {
		say(finding.SettingUnusable, "the settings file %s can't be changed at %s: %v", pathtext.Show(file), c.At, err)
		return false, nil
	}
	if len(edits) > 0 || c.Back != nil {
		return true, nil
	}
	if !c.Optional && !c.Leads(f) {
		f := finding.New(finding.SettingDiffers, file, "%s at %s does not name %s", file, c.At, c.From[0]).About(about)
		p.find(f)
	}
	return false, nil
}

// settingsBefore are what a redirect has changed in settings files.
func settingsBefore(r *ledger.Redirect) ([]setting.Record, error) {
	out, err := setting.Records(r.Settings)
	if err != nil {
		err = fmt.Errorf("the settings of redirect %s can't be read: %w", r.Name, err)
	}
	return out, err
}

// settingsOf plans what becomes of the settings of a redirect: they are given
// back, or, if not back, lead to its target again.
func (e *Engine) settingsOf(p *Plan, r ledger.Redirect, back bool) error {
	rs, err := settingsBefore(&r)
	if err != nil {
		return err
	}
	if p.Name == "" {
		p.Name, p.UID = r.Name, r.UID
	}
	for _, rec := range slices.Backward(rs) {
		c := rec.Change
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
			func(c *setting.Change, f *setting.File) error { return m.changeSetting(ctx, i, c, f) }); err != nil {
			return err
		}
	}
	return nil
}

// withSetting reads a settings file. That no other run writes it between is seen
// when it is written: see [setting.ErrRewritten].
func (m *execution) withSetting(i int, do func(*setting.Change, *setting.File) error) error {
	c := &m.p.Settings[i]
	f, dir, err := c.Read(m.openReal)
	if err != nil {
		return &setting.ChangeError{File: c.File, At: c.At, Err: err}
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
		if why, err = setting.Foreign(dir, f, m.p.UID); why != "" {
			err = errors.New("it " + why)
		}
	}
	if err == nil {
		err = do(c, f)
	}
	var known *setting.ChangeError
	if err != nil && !errors.As(err, &known) && !errors.Is(err, context.Canceled) {
		err = &setting.ChangeError{File: c.File, At: c.At, Err: err}
	}
	return err
}

func (m *execution) changeSetting(ctx context.Context, i int, c *setting.Change, f *setting.File) error {
	var d settingData
	known, err := m.Last(settingAct(i), &d)
	if err != nil || known && f.Sum() == d.Now {
		return err
	}
	out, edits, err := c.Compute(f)
	if err != nil {
		return err
	}
	if len(edits) == 0 {
		if known || c.Optional || c.Back != nil || c.Leads(f) {
			return nil
		}
		return setting.ErrDiffers
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
			func(c *setting.Change, f *setting.File) error { return m.settingBack(ctx, i, c, &d, f) }); err != nil {
			return err
		}
	}
	return nil
}

func (m *execution) settingBack(ctx context.Context, i int, c *setting.Change, d *settingData, f *setting.File) error {
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
		vs := c.Back.Change
		vs.From = append(vs.From, m.p.Link)
		again, edits, err := vs.Compute(f)
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
	var old []setting.Record
	if m.p.Before != nil {
		var err error
		if old, err = settingsBefore(m.p.Before); err != nil {
			return nil, err
		}
	}
	var out []setting.Record
	for i, c := range m.p.Settings {
		var d settingData
		known, err := m.Last(settingAct(i), &d)
		if err != nil {
			return nil, err
		}
		if !known {
			continue
		}
		rec := setting.Record{Change: c, Edits: d.Edits, Was: d.Was, Now: d.Now, Held: m.heldSetting(i),
			Mtime: d.Mtime}
		for j, o := range old {
			if o.File == c.File && o.At == c.At {
				rec.Follow(&o)
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

// CheckSettings tells which settings of a redirect do not lead to its target
// any more.
func (e *Engine) CheckSettings(r ledger.Redirect) ([]finding.Finding, error) {
	rs, err := settingsBefore(&r)
	if err != nil || r.State != ledger.Linked {
		return nil, err
	}
	var out []finding.Finding
	for _, rec := range rs {
		if why := rec.Drifted(r.Target); why != "" {
			out = append(out, finding.New(finding.SettingDrifted, rec.File,
				"%s at %s %s", rec.File, rec.At, why).Named(r.Name))
		}
	}
	return out, nil
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

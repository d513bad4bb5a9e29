package execute

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"path/filepath"
	"slices"
	"strings"

	"nexlin/internal/finding"
	"nexlin/internal/handle"
	"nexlin/internal/ledger"
	"nexlin/internal/link"
	"nexlin/internal/naming"
	"nexlin/internal/pathtext"
	"nexlin/internal/places"
	"nexlin/internal/plan"
	"nexlin/internal/setting"
)

// SettingsFile is the real path of a settings file; the registry has none.
func SettingsFile(at setting.Place) (string, error) {
	if at.Format == setting.KnownFolder {
		return at.File, nil
	}
	_, file, err := link.Chain(at.File)
	if handle.Missing(err) {
		return places.Resolved(at.File), nil // a directory on the way may be a link all the same
	}
	return file, err
}

// SettingsBefore are what a redirect has changed in settings files.
func SettingsBefore(r *ledger.Redirect) ([]setting.Record, error) {
	out, err := setting.Records(r.Settings)
	if err != nil {
		err = fmt.Errorf("the settings of redirect %s can't be read: %w", r.Name, err)
	}
	return out, err
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

func (m *describer) heldSetting(i int) string { return filepath.Join(m.Run.Dir(), settingAct(i)) }

// ChangeSettings changes the settings of the plan, one after the other; each
// may be done already.
func (m *settler) ChangeSettings(ctx context.Context) error {
	for i := range m.Plan.Settings {
		if err := m.withSetting(i,
			func(c *setting.Change, f *setting.File) error { return m.changeSetting(ctx, i, c, f) }); err != nil {
			return err
		}
	}
	return nil
}

// withSetting reads a settings file. That no other run writes it between is seen
// when it is written: see [setting.ErrRewritten].
func (m *settler) withSetting(i int, do func(*setting.Change, *setting.File) error) error {
	c := &m.Plan.Settings[i]
	f, dir, err := c.Read(m.OpenReal)
	if err != nil {
		return &setting.ChangeError{File: c.File, At: c.At, Err: err}
	}
	defer dir.Release()
	if dir != nil {
		// What a write that was stopped left beside it is the run's own; an older
		// build left a file.
		if err = handle.IgnoreMissing(dir.Unlink(naming.TempLink(m.Plan.Run))); err == nil {
			err = m.dropScratch(dir)
		}
	}
	if err == nil {
		var why string
		if why, err = setting.Foreign(dir, f, m.Plan.UID); why != "" {
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

func (m *settler) changeSetting(ctx context.Context, i int, c *setting.Change, f *setting.File) error {
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

func (m *describer) writing() setting.Writing {
	return setting.Writing{Tmp: naming.Scratch(m.Plan.Run), UID: m.Plan.UID, GID: m.Plan.GID}
}

// led reports whether settings lead to the copy already, where they do before the folder
// gets its held name.
func (m *settler) led() (bool, error) {
	if !m.Plan.SettingsFirst() {
		return false, nil
	}
	for i := range m.Plan.Settings {
		known, err := m.Last(settingAct(i), new(settingData))
		if err != nil {
			return false, err
		}
		c := &m.Plan.Settings[i]
		if !known {
			continue
		}
		f, dir, err := c.Read(m.OpenReal)
		if err != nil {
			return false, &setting.ChangeError{File: c.File, At: c.At, Err: err}
		}
		dir.Release()
		if c.Leads(f) {
			return true, nil
		}
	}
	return false, nil
}

// SettingsBack puts the settings of this run back: byte for byte where nobody
// has written the file since, else value by value. What is not ours any more
// is left and told.
func (m *settler) SettingsBack(ctx context.Context) error {
	for i := range slices.Backward(m.Plan.Settings) {
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

func (m *settler) settingBack(ctx context.Context, i int, c *setting.Change, d *settingData, f *setting.File) error {
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
		vs.From = append(vs.From, m.Plan.Link)
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
			m.Out.Findings = append(m.Out.Findings, finding.New(finding.SettingDrifted, c.File,
				"%s says something else at %s by now, and was left so", c.File,
				strings.Join(left, ", ")).Named(m.Plan.Name).Instead("look at it and set it by hand"))
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
func (m *switcher) linkAway(ctx context.Context) error {
	if !m.Plan.Linkless() || m.Plan.Traits().Back || m.Plan.Traits().Onward {
		return nil
	}
	return m.Act(ctx, "link-away", m.Plan.LinkText, func() error { return m.LinkPlace().Remove(m.Plan.LinkText) }, nil)
}

// methods are those of the redirect that the run makes.
func (m *describer) methods() []string {
	if len(m.Plan.Methods) == 0 {
		return []string{plan.BySymlink}
	}
	return m.Plan.Methods
}

// SettingRecords is what the redirect has changed in settings files once the
// run is done.
func (m *describer) SettingRecords() (json.RawMessage, error) {
	if m.Plan.Traits().Back {
		return nil, nil
	}
	var old []setting.Record
	if m.Plan.Before != nil {
		var err error
		if old, err = SettingsBefore(m.Plan.Before); err != nil {
			return nil, err
		}
	}
	var out []setting.Record
	for i, c := range m.Plan.Settings {
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

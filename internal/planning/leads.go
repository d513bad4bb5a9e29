package planning

import (
	"errors"
	"io/fs"
	"slices"

	"nexlin/internal/engine"
	"nexlin/internal/execute"
	"nexlin/internal/finding"
	"nexlin/internal/handle"
	"nexlin/internal/ledger"
	"nexlin/internal/pathtext"
	"nexlin/internal/plan"
	"nexlin/internal/preflight"
	"nexlin/internal/setting"
)

// CheckSettings tells which settings of a redirect do not lead to its target
// any more.
func CheckSettings(r ledger.Redirect) ([]finding.Finding, error) {
	rs, err := execute.SettingsBefore(&r)
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

// ChooseMethods plans how programs are led to the target beside a link: by the
// system's own location setting where that was asked for, and by the places
// that a card names.
func ChooseMethods(e *engine.Engine, p *plan.Plan, o MoveOptions) error {
	p.Methods = methodsAsked(p, o.By)
	if p.Traits().Onward {
		// A redirect goes on as it is led.
		p.Methods = p.Before.Methods
		return PlanSettingsOf(p, *p.Before, false)
	}
	if p.FromIno == 0 && !p.Traits().Ahead {
		return nil
	}
	named := o.Places
	if slices.Contains(o.By, plan.BySetting) && len(o.Places) == 0 {
		home := e.HomeOf(p.Link)
		_, own, ok, err := setting.Location(home, p.Link)
		if err != nil {
			return err
		}
		if home == "" || !ok {
			p.Add(finding.New(finding.NoSetting, p.Link, "the system keeps no location setting for %s",
				p.Link).Named(p.Name))
			return nil
		}
		named = own
	}
	return PlanSettings(e, p, named, p.Link)
}

// settingFits looks whether a change can be made now; what stands in the way is a
// finding. use is false for what is to be passed over.
func settingFits(p *plan.Plan, c *setting.Change) (use bool, err error) {
	about := finding.Subject{Name: p.Name}
	file := c.File
	say := func(code finding.Code, format string, args ...any) {
		f := finding.New(code, file, format, args...).About(about)
		if c.Back != nil { // the data comes back all the same
			f = f.As(finding.Warning).Instead("it is left as it is; look at it afterwards and set it by hand")
		}
		p.Add(f)
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
		p.Add(*checkOwners)
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
		p.Add(f)
	}
	return false, nil
}

// PlanSettings plans to change what the places of settings name from the folder to
// its target. A value that is not there or names another folder is a blocker.
func PlanSettings(e *engine.Engine, p *plan.Plan, named []setting.Place, from ...string) error {
	home := e.HomeOf(p.Link)
	for _, at := range named {
		file, err := execute.SettingsFile(at)
		if err != nil {
			return err
		}
		c := setting.Change{
			File: file, Format: at.Format, At: at.At, Key: at.Key, Optional: at.Optional,
			From: from, To: p.Target, Home: home,
		}
		if use, err := settingFits(p, &c); err != nil {
			return err
		} else if use {
			p.Settings = append(p.Settings, c)
		}
	}
	return nil
}

// PlanSettingsOf plans what becomes of the settings of a redirect: they are given
// back, or, if not back, lead to its target again.
func PlanSettingsOf(p *plan.Plan, r ledger.Redirect, back bool) error {
	rs, err := execute.SettingsBefore(&r)
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
		if use, err := settingFits(p, &c); err != nil {
			return err
		} else if use {
			p.Settings = append(p.Settings, c)
		}
	}
	return nil
}

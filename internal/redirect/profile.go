package redirect

import (
	"context"
	"fmt"
	"path/filepath"
	"slices"
	"time"

	"nexlin/internal/account"
	"nexlin/internal/engine"
	"nexlin/internal/execute"
	"nexlin/internal/finding"
	"nexlin/internal/handle"
	"nexlin/internal/ledger"
	"nexlin/internal/places"
	"nexlin/internal/plan"
	"nexlin/internal/planning"
	"nexlin/internal/setting"
)

// WithoutProfile finds kinds of folder that were asked for and have no setting.
func WithoutProfile(home string, kinds []string, profiles []setting.Profile) (out []finding.Finding) {
	for _, k := range kinds {
		if slices.Contains(planning.WithoutSetting, k) && !slices.Contains(setting.Kinds(), k) {
			out = append(out, finding.New(finding.NoSetting, home, "this system keeps no location setting for %s", k).
				Instead("if there is such a folder, move it by itself: `nexlin move FOLDER --into DIR --by "+
					"symlink`, and programs follow the link"))
		} else if !slices.Contains(kinds, planning.EveryProfile) && !slices.ContainsFunc(profiles,
			func(p setting.Profile) bool { return p.Kind == k }) {
			out = append(out, finding.New(finding.NoSetting, home,
				"%s is switched off: its setting names the home itself", k).Instead("leave it out"))
		}
	}
	return out
}

// KindFuture is a run that changes location settings and moves nothing.

// PlanFuture plans to change only where new things go: the location settings
// of the folders lead to directories of their names in into, which are made;
// the folders stay.
func PlanFuture(e *engine.Engine, home string, folders []string, o planning.MoveOptions) (*plan.Plan, error) {
	now := time.Now()
	p := &plan.Plan{
		Header: plan.Header{Run: ledger.NewRunID(now), Kind: plan.KindFuture, Made: now, Name: "location settings"},
		Route: plan.Route{Link: places.Resolved(folders[0]), Into: places.ResolvedDir(o.Into),
			Methods: []string{plan.BySetting}},
	}
	st, err := handle.Lstat(home)
	if err != nil {
		return nil, err
	}
	p.UID, p.GID, p.Account = st.UID, st.GID, account.Name(st.UID)
	for _, f := range folders {
		_, named, ok, err := setting.Location(places.Resolved(home), places.Resolved(f))
		if err != nil {
			return nil, err
		}
		if !ok {
			p.Add(finding.New(finding.NoSetting, f, "the system keeps no location setting for %s", f))
			continue
		}
		p.Target = filepath.Join(p.Into, filepath.Base(f))
		if err := planning.PlanSettings(e, p, named[:1], places.Resolved(f)); err != nil {
			return nil, err
		}
	}
	if err := futureTarget(e, p); err != nil {
		return nil, err
	}
	if len(p.Settings) == 0 && p.Blocked() == nil {
		p.Add(finding.New(finding.SettingDiffers, p.Link,
			"the location settings lead to the new place already").Instead("nothing needs doing"))
	}
	p.AcceptFound(o.Accept)
	p.Accepted = o.Accept
	return p, nil
}

// futureTarget looks at the drive that new things are to go to.
func futureTarget(e *engine.Engine, p *plan.Plan) error {
	q := *p
	q.Findings, q.Final = nil, "x"
	if err := planning.CheckTarget(e, &q); err != nil {
		return err
	}
	p.IntoNow, p.IntoDrive = q.IntoNow, q.IntoDrive
	p.FromNow, p.FromDrive = q.IntoNow, q.IntoDrive
	for _, f := range q.Findings {
		if f.Code != finding.TargetTaken {
			p.Add(f)
		}
	}
	return nil
}

// A steering has folders that do not exist yet begin at another place.
type steering struct{ execute.Basics }

func (m *steering) Open() error { return m.CheckDrive(m.Plan.Into, m.Plan.IntoDrive) }

func (m *steering) Forward(ctx context.Context) error {
	for i, s := range m.Plan.Settings {
		d, err := m.MakeDirs(ctx, fmt.Sprintf("dirs.%d", i), s.To, m.Plan.IntoDrive)
		if err != nil {
			return err
		}
		d.Release()
	}
	if err := m.ChangeSettings(ctx); err != nil {
		return err
	}
	return m.Run.Set(ledger.Done, "", nil)
}

// Back takes it back: the settings say what they said, and directories
// that were made go if nothing was put into them.
func (m *steering) Back(ctx context.Context) error {
	if err := m.SettingsBack(ctx); err != nil {
		return err
	}
	for i := range slices.Backward(m.Plan.Settings) {
		var made execute.ParentsData
		known, err := m.Last(fmt.Sprintf("dirs.%d", i), &made)
		if err != nil {
			return err
		}
		if known {
			if err := m.DropDirs(made); err != nil {
				return err
			}
		}
	}
	return m.Run.Set(ledger.Undone, "", nil)
}

package redirect

import (
	"context"
	"errors"
	"fmt"
	"path/filepath"
	"slices"
	"syscall"
	"time"

	"nexlin/internal/account"
	"nexlin/internal/finding"
	"nexlin/internal/handle"
	"nexlin/internal/ledger"
	"nexlin/internal/pathtext"
	"nexlin/internal/places"
	"nexlin/internal/setting"
)

// EveryProfile stands for all profile folders that are there.
const EveryProfile = "all"

// withoutSetting are folders that people count among their profile folders,
// and for which this system keeps no location setting.
var withoutSetting = []string{"contacts", "favorites", "links", "saved-games", "searches"}

// ProfileKinds lists what may be asked for.
func ProfileKinds() []string {
	out := append([]string{EveryProfile}, setting.Kinds()...)
	if len(out) == 1 { // a system without settings has the folders all the same
		out = append(out, "desktop", "documents", "downloads", "music", "pictures", "videos", "publicshare")
	}
	for _, k := range withoutSetting {
		if !slices.Contains(out, k) {
			out = append(out, k)
		}
	}
	return out
}

// ProfileMethods are those by which profile folders are led unless others are
// asked for: their settings, where the system keeps any, and a link.
func ProfileMethods() []string {
	switch {
	case len(setting.Kinds()) == 0:
		return []string{BySymlink}
	case handle.Windows:
		return []string{ByJunction, BySetting}
	}
	return []string{BySetting, BySymlink}
}

// PlanProfile inspects a move of profile folders of one home, as one: those
// of the kinds, or all. A folder that has no setting is told with what to do
// instead.
func (e *Engine) PlanProfile(ctx context.Context, home string, kinds []string, o MoveOptions) (*Together, error) {
	home = places.Resolved(home)
	profiles, err := setting.Profiles(home)
	if err != nil {
		return nil, err
	}
	var plans []*Plan
	var more []finding.Finding
	all := slices.Contains(kinds, EveryProfile)
	for _, p := range profiles {
		if !all && !slices.Contains(kinds, p.Kind) {
			continue
		}
		if all { // one that was asked for by name is not passed over
			passed, err := passedOver(p.Path, home)
			if err != nil {
				return nil, err
			}
			if passed != "" {
				more = append(more, finding.New(finding.PassedOver, p.Path, "%s, %s, %s", p.Kind, p.Path, passed))
				continue
			}
		}
		one := o
		one.Folder = p.Path
		plan, err := e.PlanMove(ctx, one)
		if err != nil {
			return nil, err
		}
		for i, f := range plan.Findings {
			if f.Code == finding.TargetTaken {
				plan.Findings[i].Remedy = "with `--per-account` each account's folders go into a directory of its " +
					"own; or name another directory"
			}
		}
		plans = append(plans, plan)
	}
	more = append(more, withoutProfile(home, kinds, profiles)...)
	if len(plans) == 0 && len(finding.Blockers(more)) == 0 {
		more = append(more, finding.New(finding.SourceMissing, home,
			"none of the profile folders is there to be moved"))
	}
	t := NewTogether(KindMoveTogether, "profile folders", plans)
	t.Findings = append(t.Findings, more...)
	return t, nil
}

// passedOver says why a folder that is one of all is none to move; empty if it is.
func passedOver(path, home string) (string, error) {
	st, err := handle.Lstat(path)
	switch {
	case handle.Missing(err):
		return "is not there", nil
	case err != nil:
		return "", err
	case st.IsSymlink():
		return "is a link already", nil
	case !pathtext.Within(path, home):
		return "lies outside the home already", nil
	}
	return "", nil
}

// withoutProfile finds kinds of folder that were asked for and have no setting.
func withoutProfile(home string, kinds []string, profiles []setting.Profile) (out []finding.Finding) {
	for _, k := range kinds {
		if slices.Contains(withoutSetting, k) && !slices.Contains(setting.Kinds(), k) {
			out = append(out, finding.New(finding.NoSetting, home, "this system keeps no location setting for %s", k).
				Instead("if there is such a folder, move it by itself: `nexlin move FOLDER --into DIR --by "+
					"symlink`, and programs follow the link"))
		} else if !slices.Contains(kinds, EveryProfile) && !slices.ContainsFunc(profiles,
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
func (e *Engine) PlanFuture(home string, folders []string, o MoveOptions) (*Plan, error) {
	now := time.Now()
	p := &Plan{
		Run: ledger.NewRunID(now), Kind: KindFuture, Made: now, Name: "location settings",
		Link: places.Resolved(folders[0]),
		Into: places.ResolvedDir(o.Into), Methods: []string{BySetting},
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
			p.find(finding.New(finding.NoSetting, f, "the system keeps no location setting for %s", f))
			continue
		}
		p.Target = filepath.Join(p.Into, filepath.Base(f))
		if err := e.planSettings(p, named[:1], places.Resolved(f)); err != nil {
			return nil, err
		}
	}
	if err := e.futureTarget(p); err != nil {
		return nil, err
	}
	if len(p.Settings) == 0 && p.Blocked() == nil {
		p.find(finding.New(finding.SettingDiffers, p.Link,
			"the location settings lead to the new place already").Instead("nothing needs doing"))
	}
	p.accept(o.Accept)
	p.Accepted = o.Accept
	return p, nil
}

// futureTarget looks at the drive that new things are to go to.
func (e *Engine) futureTarget(p *Plan) error {
	q := *p
	q.Findings, q.Final = nil, "x"
	if err := e.target(&q); err != nil {
		return err
	}
	p.IntoNow, p.IntoDrive = q.IntoNow, q.IntoDrive
	p.FromNow, p.FromDrive = q.IntoNow, q.IntoDrive
	for _, f := range q.Findings {
		if f.Code != finding.TargetTaken {
			p.find(f)
		}
	}
	return nil
}

// A steering has folders that do not exist yet begin at another place.
type steering struct{ basics }

func (m *steering) Open() error { return m.checkDrive(m.p.Into, m.p.IntoDrive) }

func (m *steering) Forward(ctx context.Context) error {
	for i, s := range m.p.Settings {
		d, err := m.makeDirs(ctx, fmt.Sprintf("dirs.%d", i), s.To, m.p.IntoDrive)
		if err != nil {
			return err
		}
		d.Release()
	}
	if err := m.changeSettings(ctx); err != nil {
		return err
	}
	return m.Run.Set(ledger.Done, "", nil)
}

// Back takes it back: the settings say what they said, and directories
// that were made go if nothing was put into them.
func (m *steering) Back(ctx context.Context) error {
	if err := m.settingsBack(ctx); err != nil {
		return err
	}
	for i := range slices.Backward(m.p.Settings) {
		var made parentsData
		known, err := m.Last(fmt.Sprintf("dirs.%d", i), &made)
		if err != nil {
			return err
		}
		if known {
			if err := m.dropDirs(made); err != nil {
				return err
			}
		}
	}
	return m.Run.Set(ledger.Undone, "", nil)
}

// dropDirs removes directories that a run has made, the innermost first; what
// is not empty stays.
func (m *execution) dropDirs(made parentsData) error {
	at := made.Anchor
	dirs := []string{}
	for _, n := range made.Names {
		dirs = append(dirs, at)
		at = filepath.Join(at, n)
	}
	for i, up := range slices.Backward(dirs) {
		d, err := m.openReal(up)
		if err != nil {
			continue
		}
		if made.Names[i] != "" {
			err = d.Rmdir(made.Names[i])
		}
		if e := m.dropScratch(d); err == nil {
			err = e
		}
		d.Release()
		if err != nil && !handle.Missing(err) && !errors.Is(err, syscall.ENOTEMPTY) && !errors.Is(err, syscall.EEXIST) {
			return err
		}
	}
	return nil
}

// FitBy lists the methods that fit a folder: a link always does, a setting
// where the system keeps one.
func (e *Engine) FitBy(path string) ([]string, error) {
	out := []string{BySymlink}
	if handle.Windows {
		out = append(out, ByJunction)
	}
	home := e.HomeOf(path)
	if home == "" {
		return out, nil
	}
	_, _, ok, err := setting.Location(home, path)
	if ok {
		out = append(out, BySetting, BySetting+"+"+BySymlink)
	}
	return out, err
}

// ProfileFolders gives the profile folders of the kinds, or all of them.
func ProfileFolders(home string, kinds []string) ([]string, error) {
	profiles, err := setting.Profiles(places.Resolved(home))
	var out []string
	for _, p := range profiles {
		if slices.Contains(kinds, EveryProfile) || slices.Contains(kinds, p.Kind) {
			out = append(out, p.Path)
		}
	}
	return out, err
}

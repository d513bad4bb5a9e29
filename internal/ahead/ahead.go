// Package ahead makes redirects of folders that are not there yet: the place on the drive,
// empty, and the way to it, so that whatever comes goes there from the start.
package ahead

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"path/filepath"
	"time"

	"nexlin/internal/account"
	"nexlin/internal/drive"
	"nexlin/internal/engine"
	"nexlin/internal/execute"
	"nexlin/internal/finding"
	"nexlin/internal/handle"
	"nexlin/internal/ledger"
	"nexlin/internal/naming"
	"nexlin/internal/note"
	"nexlin/internal/pathtext"
	"nexlin/internal/places"
	"nexlin/internal/plan"
	"nexlin/internal/planning"
	"nexlin/internal/preflight"
	"nexlin/internal/run"
	"nexlin/internal/transfer"
)

// MakePlan inspects a redirect of a folder that is not there, and changes nothing but a
// trial directory that it takes away again. All findings are in the plan, blockers too;
// errors are for what could not be looked at. The folder will belong to whom the directory
// belongs that it stands in, or will.
func MakePlan(ctx context.Context, e *engine.Engine, o planning.MoveOptions) (*plan.Plan, error) {
	now := time.Now()
	p := &plan.Plan{
		Header: plan.Header{Run: ledger.NewRunID(now), Kind: plan.KindAhead, Made: now, Accepted: o.Accept},
		Route:  plan.Route{Link: places.Resolved(o.Folder), Into: places.ResolvedDir(o.Into), Methods: o.By},
		Copying: plan.Copying{Digest: o.Digest.Or(),
			InnerLinks: cmp.Or(o.InnerLinks, plan.RewriteLinks)},
	}
	p.Final = cmp.Or(o.As, filepath.Base(p.Link))
	p.Target = p.Copy()
	if err := p.ByOthersLinks(preflight.Above(o.Folder), o.Into); err != nil {
		return nil, err
	}
	if err := planning.ChooseName(e, p, o.Name, filepath.Base(p.Link)); err != nil {
		return nil, err
	}
	if err := planAround(e, p); err != nil {
		return nil, err
	}
	if err := planning.CheckTarget(e, p); err != nil {
		return nil, err
	}
	if p.IntoNow.Mount != "" && p.FromNow.Mount == p.IntoNow.Mount {
		p.Add(finding.New(finding.SameDrive, p.Target, "%s lies on the drive of %s already", p.Target, p.Link))
	}
	if err := planning.CheckUnfinished(e, p); err != nil {
		return nil, err
	}
	if err := planning.CheckMountPoint(p); err != nil {
		return nil, err
	}
	if err := planning.ChooseMethods(e, p, o); err != nil {
		return nil, err
	}
	planning.ChooseText(p, o.Form, o.Seen)
	p.AcceptFound(o.Accept)
	p.AllowAccepted()
	return p, ctx.Err()
}

// planAround looks at the place where the link is to stand, and for whom.
func planAround(e *engine.Engine, p *plan.Plan) error {
	switch _, err := handle.Lstat(p.Link); {
	case err == nil:
		p.Add(finding.New(finding.OldPlaceTaken, p.Link, "something stands at %s already", p.Link).Named(p.Name))
	case !handle.Absent(err):
		return err
	}
	anchor, err := drive.Existing(filepath.Dir(p.Link))
	if err != nil {
		return err
	}
	dir, err := handle.OpenReal(anchor)
	if err != nil {
		p.Add(finding.New(finding.LinkImpossible, anchor, "%s can't be opened: %v", anchor, handle.Cause(err)))
		return nil
	}
	defer dir.Release()
	st, err := dir.Self()
	if err != nil {
		return err
	}
	p.UID, p.GID, p.Account = st.UID, st.GID, account.Name(st.UID)
	p.Private = st.Perm()&0o077 == 0
	if p.FromNow, err = e.Drives.Of(anchor); err != nil && !errors.Is(err, drive.ErrNoDrive) {
		return err
	}
	if err := planning.CheckOwners(p, dir); err != nil {
		return err
	}
	return p.Told(preflight.MayRename(p.UID, anchor))
}

// A making makes a target, and what leads there.
type making struct{ execute.Basics }

// Making is the job of a redirect that is made ahead.
func Making(m *execute.Execution) execute.Job { return &making{execute.Basics{Execution: m}} }

// Open wants the drive to be the one of the plan (I5).
func (m *making) Open() error {
	if err := m.CheckDrive(m.Plan.Into, m.Plan.IntoDrive); err != nil {
		return err
	}
	d, err := m.OpenReal(m.Plan.Into)
	if handle.Missing(err) {
		return nil // it is made
	}
	m.Into = d
	return err
}

// Try makes a link in small in the nearest directory that is there.
func (m *making) Try(context.Context) error {
	if m.Plan.Linkless() {
		return nil
	}
	anchor, err := drive.Existing(filepath.Dir(m.Plan.Link))
	if err != nil {
		return err
	}
	dir, err := m.OpenReal(anchor)
	if err != nil {
		return err
	}
	defer dir.Release()
	_, err = m.TryIn(dir)
	return err
}

// Forward makes the target and its records, and then what leads there; each may be there
// already.
func (m *making) Forward(ctx context.Context) error {
	err := handle.InOrder(func() error { return m.Parents(ctx) }, func() error { return m.Tag(ctx) },
		func() error { return m.target(ctx) }, func() error { return m.around(ctx) },
		func() error { return m.link(ctx) }, func() error { return m.ChangeSettings(ctx) },
		func() error { return m.TryMended(ctx) })
	if err != nil {
		return err
	}
	m.Switched = true
	r := m.LedgerRedirect()
	if r.Settings, err = m.SettingRecords(); err != nil {
		return err
	}
	return m.Run.Set(ledger.Done, "", func(t *ledger.Tx) error { return t.SaveRedirect(r) })
}

// target makes the target and what describes it.
func (m *making) target(ctx context.Context) error {
	mode := uint32(0o755)
	if m.Plan.Private {
		mode = 0o700
	}
	var made execute.Placement
	before, err := m.Last("target", &made)
	if err != nil {
		return err
	}
	err = m.Act(ctx, "target", execute.Placement{Part: m.Plan.Final}, func() error {
		d, err := m.Into.MkdirFor(m.Plan.Final, mode, m.Plan.UID, m.Plan.GID, naming.Scratch(m.Plan.Run),
			m.Plan.Allow.Owners)
		if errors.Is(err, fs.ErrExist) && (before || m.Plan.Empty != nil) {
			return nil
		}
		if err != nil {
			return err
		}
		defer d.Release()
		return handle.Flushed(d.Sync(), m.Into)
	}, nil)
	if err != nil {
		return err
	}
	live, err := m.Live()
	if err != nil {
		return err
	}
	defer live.Release()
	if err := transfer.RemoveSpools(m.Run.Dir()); err != nil {
		return err
	}
	a, err := transfer.Adopt(ctx, transfer.Adoption{Copy: live, Dir: m.Run.Dir(), N: 1, Digest: m.Plan.Digest,
		CopyUnstable: m.Plan.IntoUnstable()})
	if err != nil {
		return err
	}
	m.Spool = a.Spool
	if err := execute.ComposeFrozen(ctx, m.Run.Dir(), m.Spool, m.Plan.Digest); err != nil {
		return err
	}
	if err := run.Point(ctx, "records"); err != nil {
		return err
	}
	return m.Act(ctx, "notes", m.Plan.Name, func() error { return m.WriteNotes(note.Here) }, nil)
}

// around makes the directories that the link stands in, where the home lacks them.
func (m *making) around(ctx context.Context) (err error) {
	m.LinkIn, err = m.MakeDirs(ctx, "link-parents", filepath.Dir(m.Plan.Link), ledger.DriveRef{})
	return err
}

// link makes the link where nothing stands.
func (m *making) link(ctx context.Context) error {
	if m.Plan.Linkless() {
		return nil
	}
	return m.Act(ctx, "link", m.Plan.LinkText, m.LeadLink, nil)
}

// TryBack refuses once something lies at the target, or another link at the place of ours.
func (m *making) TryBack(context.Context) error {
	if m.Into == nil {
		return nil
	}
	live, err := m.Live()
	if handle.Missing(err) {
		return nil
	}
	if err != nil {
		return err
	}
	defer live.Release()
	if err := m.Untried(live); err != nil {
		return err
	}
	names, err := live.Names()
	if err != nil || len(names) == 0 {
		return err
	}
	return plan.Refused(finding.New(finding.ChangedSince, m.Plan.Copy(), "%s lie at %s by now",
		pathtext.Entries(len(names)), m.Plan.Copy()).Named(m.Plan.Name).As(finding.Blocker).
		Instead(fmt.Sprintf("`nexlin bring-back %s` brings them into a real folder at the old place",
			pathtext.Quote(m.Plan.Name))))
}

// Back takes away what leads to the target, and the target while it is empty.
func (m *making) Back(ctx context.Context) error {
	if err := m.unlink(ctx); err != nil {
		return err
	}
	if err := m.SettingsBack(ctx); err != nil {
		return err
	}
	var around execute.ParentsData
	if made, err := m.Last("link-parents", &around); err != nil {
		return err
	} else if made {
		if err := m.DropDirs(around); err != nil {
			return err
		}
	}
	if err := m.untarget(ctx); err != nil {
		return err
	}
	name := m.Plan.Name
	return m.Run.Set(ledger.Undone, "", func(t *ledger.Tx) error {
		if m.Plan.Ended != nil {
			return t.SaveRedirect(*m.Plan.Ended)
		}
		return t.RemoveRedirect(name)
	})
}

// unlink takes our link away, and no other.
func (m *making) unlink(ctx context.Context) error {
	var err error
	if m.LinkIn, err = m.OpenReal(filepath.Dir(m.Plan.Link)); err != nil {
		return handle.IgnoreMissing(err)
	}
	if err := m.DropOwn(m.LinkIn); err != nil {
		return err
	}
	ours, err := m.LinkPlace().Says(m.Plan.LinkText)
	if err != nil || !ours {
		return err
	}
	return m.Act(ctx, "unlink", m.Plan.LinkText, func() error { return m.LinkPlace().Remove(m.Plan.LinkText) }, nil)
}

// untarget takes the empty target away, and what the run made around it.
func (m *making) untarget(ctx context.Context) error {
	if m.Into == nil {
		return nil
	}
	if begun, err := m.Last("target", new(execute.Placement)); err != nil {
		return err
	} else if begun && m.Plan.Empty == nil {
		if err := execute.RmdirIfEmpty(m.Into, m.Plan.Final); err != nil {
			return err
		}
	}
	return m.ForgetRun(ctx)
}

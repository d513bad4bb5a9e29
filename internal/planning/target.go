// Package planning finds out what every kind of plan has to know: what is in the folder, who
// uses it, what the target is and keeps, how programs can be led there, and what a card
// says. It changes nothing; what stands in the way is a finding.
package planning

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"time"

	"nexlin/internal/drive"
	"nexlin/internal/engine"
	"nexlin/internal/execute"
	"nexlin/internal/finding"
	"nexlin/internal/handle"
	"nexlin/internal/ledger"
	"nexlin/internal/naming"
	"nexlin/internal/pathtext"
	"nexlin/internal/places"
	"nexlin/internal/plan"
	"nexlin/internal/preflight"
	"nexlin/internal/setting"
	"nexlin/internal/transfer"
)

// MoveOptions says what is to be moved where. Paths are absolute.
type MoveOptions struct {
	Folder     string // the folder, or the link of a redirect
	Into       string // the directory it goes into
	As         string // its name there; empty: its own
	Name       string // of the redirect; empty: made from the folder's
	Digest     transfer.Digest
	InnerLinks plan.InnerLinks
	WhileInUse bool
	Stops      bool            // a step before the copy stops the program
	WaitQuiet  time.Duration   // how long to wait for programs that write to it
	Discard    bool            // the original is discarded at the end
	By         []string        // the methods; nil: a symbolic link
	Places     []setting.Place // settings that name the folder, beside the system's own
	StartEmpty bool            // the target begins empty, what is in the folder is only held
	Merge      bool            // the target may have entries: the folder's go beside them
	Growth     float64         // by which factor it must be able to grow at the target; 0 says nothing
	Card       string          // the card it comes from; empty without one
	Form       TargetForm      // how a junction names its target; empty: by its letter
	Seen       string          // how Windows names the target, or the root of its drive; only for a junction
	Accept     []finding.Code
	Progress   func(entries, bytes int64) // of the inspection; may be nil
}

// CheckPresent says that the drive a redirect's data lies on is not here.
func CheckPresent(e *engine.Engine, p *plan.Plan, want ledger.DriveRef, path string) error {
	w, err := e.Whereabouts(want, path)
	if err != nil {
		return err
	}
	switch {
	case !w.Found:
		p.Add(e.Absence(&w, p.Name, want, path).As(finding.Blocker))
	case w.Drive.Mount != want.Mount:
		p.Add(places.Elsewhere(&w, p.Name, want, path))
	}
	return nil
}

// CheckLinkInPlace wants the link of a redirect that moves on to be there.
func CheckLinkInPlace(e *engine.Engine, p *plan.Plan, r ledger.Redirect) error {
	if away, err := e.LinkDriveAway(&r); away != nil || err != nil {
		if away != nil {
			p.Add(*away)
		}
		return err
	}
	r.State = ledger.Linked // a detached one has no link either, and needs one
	astray, err := LookAtLink(r)
	for _, f := range astray {
		p.Add(f.As(finding.Blocker))
	}
	return err
}

func ChooseName(e *engine.Engine, p *plan.Plan, name, base string) error {
	if !p.Traits().First && !p.Traits().Ahead {
		return nil
	}
	taken := func(n string) (bool, error) {
		_, err := e.Ledger.Redirect(n)
		if errors.Is(err, ledger.ErrNotFound) {
			return false, nil
		}
		return err == nil, err
	}
	if name != "" {
		if p.Name = name; wasHere(e, p) {
			return nil
		}
		used, err := taken(name)
		if used {
			p.Add(finding.New(finding.NameTaken, p.Link, "a redirect called %s is in the ledger already",
				name).Named(name))
		}
		return err
	}
	p.Name = naming.Default(base)
	if wasHere(e, p) {
		return nil
	}
	for i := 2; ; i++ {
		used, err := taken(p.Name)
		if err != nil || !used {
			return err
		}
		p.Name = fmt.Sprintf("%s-%d", naming.Default(base), i)
	}
}

// wasHere says that a folder was moved before under the plan's name and is real again, so
// that it keeps it.
func wasHere(e *engine.Engine, p *plan.Plan) bool {
	r, err := e.Ledger.Redirect(p.Name)
	if err != nil || r.State != ledger.Ended || r.Link != p.Link || p.From != p.Link && !p.Traits().Ahead {
		return false
	}
	p.Ended = &r
	return true
}

// CheckNotOurs refuses a place that is Nexlin's own for what is to be written there.
func CheckNotOurs(e *engine.Engine, p *plan.Plan) (bool, error) {
	ours, err := e.Ours()
	if err != nil {
		return false, err
	}
	at := p.Into
	if !ours(at) {
		if at = p.Copy(); !ours(at) || ours(p.From) { // a folder of that name is refused as what it is
			return true, nil
		}
	}
	p.Add(finding.New(finding.Protected, at, "%s %s", at, places.IsOurs).Instead("name another place"))
	return false, nil
}

// CheckTarget inspects the directory the copy goes into: that it is there or can
// be made, on which drive, and what that drive keeps.
func CheckTarget(e *engine.Engine, p *plan.Plan) error {
	into := p.Into
	if free, err := CheckNotOurs(e, p); !free || err != nil {
		return err
	}
	if err := p.Told(e.Shared(p.Name, p.Copy())); err != nil {
		return err
	}
	if well, err := e.CheckExpected(p, into, p.Copy()); !well || err != nil {
		return err
	}
	anchor, err := drive.Existing(into)
	if err != nil {
		p.Add(finding.New(finding.TargetNoWrite, into, "%s can't be used: %v", into, err))
		return nil
	}
	if p.IntoNow, err = e.Drives.Of(anchor); err != nil {
		if errors.Is(err, drive.ErrNoDrive) {
			p.Add(finding.New(finding.DriveAway, into, "the drive of %s is not here", into).OnDrive("the drive"))
			return nil
		}
		return err
	}
	d := &p.IntoNow
	p.IntoDrive = places.Ref(d)
	if d.Memory {
		p.Add(finding.New(finding.TargetInMemory, into, "%s lies in memory", into))
	}
	if d.Network {
		p.Add(finding.New(finding.NotKeptYet, into,
			"%s is a network file system (%s), on which this version can't yet prove what it keeps", d.Name(), d.FS))
	}
	if d.ReadOnly {
		p.Add(finding.New(finding.TargetNoWrite, into, "%s is mounted read-only", d.Name()))
		return nil
	}
	dir, err := handle.OpenReal(anchor)
	if err != nil {
		p.Add(finding.New(finding.TargetNoWrite, anchor, "%s can't be opened: %v", anchor, handle.Cause(err)))
		return nil
	}
	defer dir.Release()
	if err := CheckOwners(p, dir); err != nil {
		return err
	}
	if err := dir.Access(".", handle.MayWrite|handle.MayEnter); err != nil {
		p.Add(finding.New(finding.TargetNoWrite, anchor, "this account may not write in %s", anchor))
		return nil
	}
	if err := checkTaken(p, anchor); err != nil {
		return err
	}
	if err := ChooseTagPlace(e, p, anchor); err != nil {
		return err
	}
	return CheckAbilities(p, dir)
}

// CheckOwners finds a directory that lies in another account's hands.
func CheckOwners(p *plan.Plan, d *handle.Dir) error {
	f, err := preflight.OthersDirectory(d)
	if f != nil {
		p.Add(*f)
	}
	return err
}

// checkTaken looks at the place where the copy will stand.
func checkTaken(p *plan.Plan, anchor string) error {
	if anchor != p.Into {
		if fi, err := os.Lstat(anchor); err == nil && !fi.IsDir() {
			p.Add(finding.New(finding.TargetTaken, anchor, "%s is no directory", anchor))
		}
		return nil
	}
	target := p.Copy()
	st, err := handle.Lstat(target)
	if handle.Missing(err) {
		return nil
	}
	if err != nil {
		return err
	}
	f := finding.New(finding.TargetTaken, target, "something stands at %s already", target)
	if !st.IsDir() || st.MountRoot {
		p.Add(f)
		return nil
	}
	d, err := handle.OpenReal(target)
	if err != nil {
		return err
	}
	defer d.Release()
	names, err := d.Names()
	if err != nil {
		return err
	}
	if len(names) > 0 {
		f.Message = fmt.Sprintf("%s exists and is not empty: %s", pathtext.Show(target),
			pathtext.Entries(len(names)))
		f.Remedy += "; `--merge` brings the folder's entries over beside those that are there"
		p.Add(f)
		return nil
	}
	p.Empty = &plan.DirAttrs{Mode: st.Perm(), UID: st.UID, GID: st.GID, Mtime: st.Mtime}
	return nil
}

// ChooseTagPlace decides where the drive tag lies or will lie: in the drive's
// root if this account may write there, else in the highest directory on
// the way to the target where it may; not above the engine's TagsBelow.
func ChooseTagPlace(e *engine.Engine, p *plan.Plan, anchor string) error {
	d := &p.IntoNow
	way := []string{}
	for at := anchor; pathtext.Within(at, d.Mount); at = filepath.Dir(at) {
		way = append(way, at)
		if at == d.Mount || at == e.TagsBelow || pathtext.IsRoot(at) {
			break
		}
	}
	slices.Reverse(way)
	hidden := map[string]bool{}
	for _, at := range way {
		tag, err := drive.ReadTag(at)
		switch {
		case err == nil:
			p.IntoDrive.ID, p.IntoDrive.TagPlace = tag.ID, relative(d.Mount, at)
			p.TagIn = at
			w, err := e.Whereabouts(p.IntoDrive, p.Into)
			if err == nil && !w.Found {
				p.Add(e.Absence(&w, p.Name, p.IntoDrive, at).As(finding.Blocker))
			}
			return err
		case errors.Is(err, drive.ErrTag):
			p.Add(finding.New(finding.DriveDoubtful, at, "the drive tag in %s is damaged or of another version",
				at).OnDrive(d.Name()).
				Instead("unless a newer Nexlin wrote it, set the file aside under another name, and try again: it " +
					"is written anew"))
			return nil
		case errors.Is(err, fs.ErrPermission):
			hidden[at] = true // whether there is one is not for this account to know
		case !drive.NoTag(err):
			return err
		}
	}
	for _, at := range way {
		if hidden[at] {
			continue
		}
		if handle.Access(at, handle.MayWrite|handle.MayEnter) == nil {
			p.TagIn, p.NewTag = at, true
			p.IntoDrive.ID, p.IntoDrive.TagPlace = drive.NewID(), relative(d.Mount, at)
			if d.Standin {
				p.IntoDrive.ID = d.UUID
			}
			return nil
		}
	}
	return nil
}

func relative(mount, path string) string {
	rel, err := filepath.Rel(mount, path)
	if err != nil {
		return path
	}
	return rel
}

// checkExposed finds that a private folder would be open to others in dir.
func checkExposed(p *plan.Plan, dir *handle.Dir) error {
	if p.From == "" {
		return nil
	}
	from, err := handle.OpenReal(p.From)
	if err != nil {
		return nil // what that means is told with the folder
	}
	defer from.Release()
	f, err := preflight.Exposed(from, dir)
	if f != nil {
		p.Add(*f)
	}
	return err
}

// CheckAbilities tries what the target's file system keeps and holds it against
// what a move needs. In a directory that another account could have put there nothing is
// tried (I6): [CheckOwners] has said so.
func CheckAbilities(p *plan.Plan, dir *handle.Dir) error {
	var hands *handle.HandsError
	if errors.As(dir.Trusted(), &hands) && !slices.Contains(p.Accepted, finding.OthersHands) {
		return nil
	}
	a, err := drive.Try(dir)
	if err != nil {
		if errors.Is(err, syscall.ENOSPC) || errors.Is(err, syscall.EDQUOT) {
			p.Add(finding.New(finding.SpaceShort, dir.Path(), "%s has no room even for a trial file",
				p.IntoNow.Name()).OnDrive(p.IntoNow.Name()))
			return nil
		}
		if errors.Is(err, fs.ErrPermission) || errors.Is(err, syscall.EROFS) {
			p.Add(finding.New(finding.TargetNoWrite, dir.Path(), "nothing can be made in %s: %v", dir.Path(),
				handle.Cause(err)))
			return nil
		}
		return fmt.Errorf("trying what %s can keep: %w", p.IntoNow.Name(), err)
	}
	p.Limits, p.Exchange = preflight.Limits(&a), a.Exchange
	p.Limits.MaxNames, p.Limits.AllOwners = p.IntoNow.MaxNames(), p.IntoNow.NoOwners
	p.SetInto(&p.IntoNow)
	return checkExposed(p, dir)
}

// CheckPlaces finds folder and target that are not two places on two drives.
func CheckPlaces(p *plan.Plan) {
	p.Add(preflight.TwoPlaces(p.From, p.Copy())...)
	if !p.Traits().Merges || p.Fresh { // the halves of a redirect may lie on one drive
		p.Add(preflight.TwoDrives(p.From, p.Copy(), &p.FromNow, &p.IntoNow)...)
	}
}

// CheckSpace holds what the copy takes against what the drive has.
func CheckSpace(e *engine.Engine, p *plan.Plan) {
	if p.FromIno == 0 || p.IntoNow.Mount == "" {
		return
	}
	p.Need = preflight.Need(p.Facts.Rounded, p.Entries, p.IntoNow.Block)
	p.Add(elsewhere(e, p, preflight.RoomFor(p.Into, &p.IntoNow, p.Need, p.Entries, p.Growth))...)
	p.Add(preflight.RoomForRecords(e.Ledger.Dir(), p.Entries)...)
}

// elsewhere names the drives that have the room that a target lacks.
func elsewhere(e *engine.Engine, p *plan.Plan, fs []finding.Finding) []finding.Finding {
	at := slices.IndexFunc(fs, func(f finding.Finding) bool { return f.Code == finding.SpaceShort })
	if at < 0 || p.ComesBack() { // home is home
		return fs
	}
	all, err := e.Drives.List(false)
	if err != nil {
		return fs // it is only a help
	}
	var have []string
	for _, d := range all {
		if d.Label != "" && !d.ReadOnly && !d.Same(&p.IntoNow) && !d.Same(&p.FromNow) && d.Short(p.Need) == 0 {
			have = append(have, d.Name())
		}
	}
	if len(have) > 0 {
		fs[at].Message += "; " + strings.Join(have, ", ") +
			map[bool]string{true: " has room", false: " have room"}[len(have) == 1]
	}
	return fs
}

// CheckLinkPlace finds out whether this account may change the names in the
// directory around the folder. The trial itself comes with the run.
func CheckLinkPlace(p *plan.Plan) error {
	return p.Told(preflight.MayRename(p.UID, slices.Compact([]string{filepath.Dir(p.Link), p.HeldIn})...))
}

// CheckMountPoint adds what becomes of the target's mount point while its drive is not there,
// unless only another system follows the link.
func CheckMountPoint(p *plan.Plan) error {
	if p.IntoNow.Mount == "" || plan.ForOthersBy(p.Methods) {
		return nil
	}
	return p.Told(preflight.MountPoint(&p.IntoNow, p.Name))
}

// CheckUnfinished finds a stopped run that is about the same folder or place.
func CheckUnfinished(e *engine.Engine, p *plan.Plan) error {
	rows, err := e.Ledger.Unfinished()
	if err != nil {
		return err
	}
	under := plan.ToldUnder(rows)
	for _, row := range rows {
		plans, err := plan.AllOf(e.Ledger, row)
		if err != nil {
			return err
		}
		for _, o := range plans {
			overlaps := p.From != "" && (pathtext.Within(o.Link, p.From) || pathtext.Within(p.From, o.Link)) ||
				p.Into != "" && o.Copy() == p.Copy()
			if o.Name == p.Name || overlaps {
				row.ID = under(o)
				p.Add(execute.StoppedRun(e, row, o.Link).As(finding.Blocker))
			}
		}
	}
	return nil
}

// ForeseeGap says before a run that there will be a moment without the folder, as
// far as that can be known without making anything.
func ForeseeGap(p *plan.Plan) {
	if d := p.LinkDrive(); d.Mount != "" && (d.Fuse || !handle.Exchanges) {
		p.Gap = true
		p.AddGap()
	}
}

// CheckLinkDrive adds that finding to a plan.
func CheckLinkDrive(e *engine.Engine, p *plan.Plan, r *ledger.Redirect) error {
	f, err := e.LinkDriveAway(r)
	if f != nil {
		p.Add(*f)
	}
	return err
}

package accounts

import (
	"context"
	"errors"
	"path/filepath"
	"slices"
	"strings"

	"nexlin/internal/engine"
	"nexlin/internal/finding"
	"nexlin/internal/handle"
	"nexlin/internal/health"
	"nexlin/internal/ledger"
	"nexlin/internal/mend"
	"nexlin/internal/pathtext"
	"nexlin/internal/places"
	"nexlin/internal/plan"
	"nexlin/internal/preflight"
)

// A State says how what is there stands to what is declared.
type State string

// The states.
const (
	AsDeclared State = "as-declared"
	NotThere   State = "not-there"    // a folder that is passed over while it is missing
	ToMove     State = "to-move"      // a folder stands where the link belongs
	ToMake     State = "to-make"      // nothing stands there: target and link come in advance
	ToMoveOn   State = "to-move-on"   // it is redirected to another place
	ToRecord   State = "to-record"    // a link that Nexlin does not know leads there already
	ToMend     State = "to-mend"      // it is redirected, and something about it is amiss
	ToFinish   State = "to-finish"    // a run of it was stopped
	ToDiscard  State = "to-discard"   // it is as declared but for its original, which is still held
	Away       State = "drive-away"   // its drive is not here
	ForAPerson State = "for-a-person" // only a person can decide what is right
)

// An Item is one folder of one account: how it stands to what is declared.
type Item struct {
	*Want
	Part     *Part // nil if the want can't be made out
	State    State
	Says     string // what has drifted, and how; empty if nothing has
	Findings []finding.Finding
	Redirect *ledger.Redirect // nil if there is none
	run      ledger.RunRow    // of ToFinish
}

// Drifted says that it is not as declared. What waits for its drive, and may, has not
// drifted.
func (i *Item) Drifted() bool {
	return i.State != AsDeclared && i.State != NotThere && (i.State != Away || i.Wish.DriveAway != Wait)
}

// Able says that an apply can do something about it.
func (i *Item) Able() bool {
	return slices.Contains([]State{ToMove, ToMake, ToMoveOn, ToRecord, ToMend, ToFinish, ToDiscard}, i.State)
}

// moves says that a folder is to go to another drive, which takes room there.
func (i *Item) moves() bool { return i.State == ToMove || i.State == ToMoveOn }

// Withdrawable says that there is something to bring back.
func (i *Item) Withdrawable() bool {
	return i.Redirect != nil && i.Redirect.UID == i.Account.UID || i.State == ToFinish
}

// Link is the link path; the home where that is not known.
func (i *Item) Link() string {
	if i.Part == nil {
		return i.Account.Home
	}
	return i.Part.Link
}

// Look holds what a file declares against ledger and disks, and changes nothing. The items
// are in the order of the accounts' names and of the file; of all accounts, or those that are
// named in only. Errors are those of the ledger,
// and of ctx: what can't be looked at is an item for a person.
func Look(ctx context.Context, e *engine.Engine, f *File, only ...string) ([]*Item, error) {
	m, err := newMaker(e.AtOnce(), f)
	if err != nil {
		return nil, err
	}
	wants, err := m.wants(ctx, only)
	if err != nil {
		return nil, err
	}
	var out []*Item
	for _, w := range wants {
		items, err := m.look(ctx, w)
		if err != nil {
			return nil, err
		}
		out = append(out, items...)
	}
	return out, nil
}

// Undeclared is the first of some names that the file is about no account of; empty if there
// is none. Errors are those of [Look].
func Undeclared(ctx context.Context, e *engine.Engine, f *File, names []string) (string, error) {
	if len(names) == 0 {
		return "", nil
	}
	m, err := newMaker(e, f)
	if err != nil {
		return "", err
	}
	wants, err := m.wants(ctx, names)
	if err != nil {
		return "", err
	}
	for _, name := range names {
		if !slices.ContainsFunc(wants, func(w *Want) bool { return w.Account.Name == name }) {
			return name, nil
		}
	}
	return "", nil
}

// lookAgain is [Look] at one want, as it is by now.
func lookAgain(ctx context.Context, e *engine.Engine, f *File, w *Want) ([]*Item, error) {
	m, err := newMaker(e, f)
	if err != nil {
		return nil, err
	}
	return m.look(ctx, w)
}

func (m *maker) look(ctx context.Context, w *Want) (out []*Item, err error) {
	if w.homeless {
		return []*Item{{Want: w, State: NotThere, Says: "the account's home is not there yet"}}, nil
	}
	if len(w.Broken) > 0 {
		i := &Item{Want: w, State: ForAPerson, Findings: w.Broken, Says: w.Broken[0].Message}
		if len(w.Parts) > 0 {
			i.Part = &w.Parts[0]
		}
		return []*Item{i}, nil
	}
	for k := range w.Parts {
		if err := ctx.Err(); err != nil {
			return nil, err
		}
		i := &Item{Want: w, Part: &w.Parts[k], Redirect: m.byLink[w.Parts[k].Link]}
		if err := m.judge(ctx, i); err != nil {
			return nil, err
		}
		out = append(out, i)
	}
	return out, nil
}

// is gives an item its state and what it says of it.
func (i *Item) is(s State, says string) { i.State, i.Says = s, says }

// person leaves an item to a person, for what was found.
func (i *Item) person(fs ...finding.Finding) {
	i.Findings = fs
	i.is(ForAPerson, fs[0].Message)
}

// unseen is for what can't be looked at.
func (i *Item) unseen(err error) {
	i.person(finding.New(finding.Unseen, i.Link(), "%s can't be looked at: %v", i.Link(), handle.Cause(err)))
}

func (m *maker) judge(ctx context.Context, i *Item) error {
	if row, stopped := m.stopped[i.Part.Link]; stopped {
		i.run = row
		i.is(ToFinish, "run "+row.ID+" ("+row.Kind+") was stopped before its end")
		return nil
	}
	if i.Redirect == nil {
		m.unredirected(i)
		return nil
	}
	return m.redirected(ctx, i)
}

// away says that the drive is not here, if it is not.
func (i *Item) away() bool {
	if i.Into != "" {
		return false
	}
	i.Findings = []finding.Finding{finding.New(finding.DriveAway, i.Link(), "%s is not here", i.Drive).OnDrive(i.Drive)}
	i.is(Away, i.Drive+" is not here")
	return true
}

// unredirected judges a folder without a redirect.
func (m *maker) unredirected(i *Item) {
	p := i.Part
	if home := places.Resolved(i.Account.Home); i.Wish.Folder == "" && !pathtext.Within(p.Link, home) {
		i.person(finding.New(finding.OutsideHome, p.Link, "the account's own settings name %s, which lies outside of "+
			"its home", p.Link).As(finding.Blocker).Instead(
			"have the account set it back, or declare the folder by its path"))
		return
	}
	// A link above it may be the account's own doing, and lead anywhere.
	astray, err := preflight.OthersLinks(i.name(p), preflight.Above(p.named))
	if err != nil {
		i.unseen(err)
		return
	}
	if len(finding.Blockers(astray)) > 0 {
		i.person(finding.Blockers(astray)...)
		return
	}
	st, err := handle.Lstat(p.Link)
	switch {
	case handle.Absent(err):
		if i.Wish.Missing == Skip || p.folder != nil {
			i.is(NotThere, "")
		} else if !i.away() {
			i.is(ToMake, "nothing is there yet")
		}
	case err != nil:
		i.unseen(err)
	case st.IsSymlink():
		m.linked(i)
	case !st.IsDir():
		i.person(finding.New(finding.SourceNotFolder, p.Link, "%s is no folder", p.Link))
	case !i.away():
		i.is(ToMove, "it is a folder still")
	}
}

// linked judges a link that is no redirect.
func (m *maker) linked(i *Item) {
	text, err := textOf(i.Part.Link)
	switch {
	case err != nil:
		i.unseen(err)
	case i.Into != "" && text == i.Target(i.Part):
		i.is(ToRecord, "a link leads there already, and is not in the records")
	default:
		i.person(finding.New(finding.SourceIsLink, i.Part.Link, "%s is a link to %s, which is in no records",
			i.Part.Link,
			text))
	}
}

// textOf is what a link says.
func textOf(path string) (string, error) {
	dir, err := handle.OpenReal(filepath.Dir(path))
	if err != nil {
		return "", err
	}
	defer dir.Release()
	return dir.Readlink(filepath.Base(path))
}

// declared reports whether the data of a redirect lies where it is declared to lie, on the
// drive that it knows, wherever that is mounted now.
func (i *Item) declared() bool {
	r := i.Redirect
	if r.Target == i.Target(i.Part) {
		return true
	}
	named := i.Drive != "" && (i.Drive == r.Drive.Label || "UUID="+r.Drive.UUID == i.Drive ||
		strings.EqualFold(i.Drive, "UUID="+r.Drive.ID) || i.Drive == r.Drive.ID)
	rel, below := pathtext.Below(r.Target, r.Drive.Mount)
	return named && below && filepath.ToSlash(rel) == strings.TrimPrefix(filepath.ToSlash(filepath.Join(i.Rel,
		i.Part.Final)), "/")
}

// redirected judges a redirect.
func (m *maker) redirected(ctx context.Context, i *Item) error {
	r := i.Redirect
	want := i.Methods()
	switch {
	case r.UID != i.Account.UID:
		i.person(finding.New(finding.OtherAccount, r.Link, "redirect %s belongs to %s, not to %s", r.Name, r.Account,
			i.Account.Name))
		return nil
	case !i.declared() && i.away():
		return nil
	case !i.declared():
		i.is(ToMoveOn, "its data lies at "+pathtext.Show(r.Target)+", and is declared to lie at "+
			pathtext.Show(i.Shown(i.Part)))
		return nil
	case i.Wish.By != "" && slices.Contains(want, plan.BySymlink) != slices.Contains(r.Methods, plan.BySymlink):
		i.person(finding.New(finding.LedOtherwise, r.Link, "programs are led there by %s, and declared is %s",
			strings.Join(r.Methods, "+"), strings.Join(want, "+")).Named(r.Name))
		return nil
	}
	rep, err := health.CheckLead(ctx, m.Engine, *r)
	if err != nil {
		return err
	}
	i.reported(rep)
	switch {
	case i.State == ToMend:
		return i.mendable(ctx, m.Engine)
	case i.State == AsDeclared && i.Wish.Discard:
		for _, h := range rep.Held {
			if h.Run == r.Run {
				i.is(ToDiscard, "the original is still held, and declared to be deleted")
			}
		}
	}
	return nil
}

// reported judges by what health found.
func (i *Item) reported(rep *health.Report) {
	i.is(AsDeclared, "")
	for _, f := range rep.Findings {
		if f.Severity == finding.Info || f.Code == finding.SpaceLow || f.Code == finding.NoRoomToGrow {
			continue
		}
		i.Findings = append(i.Findings, f)
	}
	if i.Redirect.State == ledger.Detached {
		i.is(ToMend, "it is detached: nothing leads to its data")
	}
	if len(i.Findings) == 0 {
		return
	}
	if (&plan.RefusedError{Findings: blocking(i.Findings)}).OnlyAway() {
		i.is(Away, i.Findings[0].Message)
		return
	}
	i.is(ToMend, i.Findings[0].Message)
}

func blocking(fs []finding.Finding) (out []finding.Finding) {
	for _, f := range fs {
		out = append(out, f.As(finding.Blocker))
	}
	return out
}

// mendable leaves to a person what no mend puts right.
func (i *Item) mendable(ctx context.Context, e *engine.Engine) error {
	p, err := mend.MakePlan(ctx, e, *i.Redirect, mend.Options{Attach: true, Accept: i.options(i.Part).Accept})
	switch {
	case err != nil && errors.Is(err, ctx.Err()) && ctx.Err() != nil:
		return err
	case err != nil:
		i.unseen(err)
	case p == nil:
		i.State = ForAPerson
	case p.Blocked() != nil:
		i.person(finding.Blockers(p.Findings)...)
	}
	return nil
}

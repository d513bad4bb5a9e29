// Package restore makes the links again that the notes on a drive tell of, as on a new machine.
package restore

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"nexlin/internal/account"
	"nexlin/internal/drive"
	"nexlin/internal/engine"
	"nexlin/internal/finding"
	"nexlin/internal/handle"
	"nexlin/internal/ledger"
	"nexlin/internal/link"
	"nexlin/internal/merge"
	"nexlin/internal/note"
	"nexlin/internal/pathtext"
	"nexlin/internal/places"
	"nexlin/internal/plan"
	"nexlin/internal/planning"
)

// Options says how the links that a drive tells of are made again.
type Options struct {
	Accounts map[string]string // names on the machine that wrote the notes, and what they are here
	Accept   []finding.Code
	Below    string // only notes below this directory; empty: all of the drive
	Home     string // of this account, where it is another than the system says; may be empty
}

// A Restore is one redirect that a drive tells of.
type Restore struct {
	Note     note.Note
	Target   string // where its data lies
	Link     string // where its link belongs here
	Name     string // what it will be called
	Account  string // here
	Known    bool   // the ledger has it already
	Linked   bool   // and its link is there
	Findings []finding.Finding
	plan     *plan.Plan
}

// Blocked reports that it can't be made again as it is.
func (r *Restore) Blocked() bool { return len(finding.Blockers(r.Findings)) > 0 }

// Makes says that something is made of it: a record, a link, or both.
func (r *Restore) Makes() bool { return !r.Blocked() && !(r.Known && r.Linked) }

func (r *Restore) find(f finding.Finding) { r.Findings = append(r.Findings, f) }

// MakePlan reads what a drive says about itself: every target note on it.
// Nothing it says is trusted to name a path: a target is the directory of that
// name beside its note, and a link belongs into the account's home unless that
// is accepted otherwise. It changes nothing. hidden lists what could not be
// read: directories of other accounts, and notes that are damaged.
func MakePlan(ctx context.Context, e *engine.Engine, d *drive.Drive, o Options) (out []*Restore, hidden []string,
	err error) {
	below := cmp.Or(o.Below, d.Mount)
	root, err := handle.OpenReal(below)
	if err != nil {
		return nil, nil, err
	}
	defer root.Release()
	s := &noteSearch{ctx: ctx}
	if err := s.dir(root, below); err != nil {
		return nil, nil, err
	}
	e = e.AtOnce() // there may be hundreds of them
	names := map[string]bool{}
	for _, f := range s.found {
		r := &Restore{Note: f.note, Target: filepath.Join(f.dir, f.note.Target), Name: f.note.Name}
		if err := planRestore(ctx, e, d, r, o, f, names); err != nil {
			return nil, nil, err
		}
		names[r.Name] = true
		out = append(out, r)
	}
	return out, s.hidden, nil
}

// A noteSearch looks for record directories on a drive; into the targets that
// they tell of it does not look.
type noteSearch struct {
	ctx    context.Context
	found  []foundNote
	hidden []string // directories and notes that could not be read
}

type foundNote struct {
	note note.Note
	dir  string
}

func (s *noteSearch) dir(d *handle.Dir, path string) error {
	if err := s.ctx.Err(); err != nil {
		return err
	}
	targets, err := s.notes(d, path)
	if err != nil {
		return err
	}
	err = d.EachName(func(name string) error {
		if targets[name] || strings.HasPrefix(name, ".nexlin") {
			return nil
		}
		st, err := d.Stat(name)
		if err != nil {
			return handle.IgnoreMissing(err)
		}
		if !st.IsDir() || st.MountRoot {
			return nil
		}
		sub, err := d.Sub(name)
		if err != nil {
			return s.passOver(filepath.Join(path, name), err)
		}
		defer sub.Release()
		return s.dir(sub, filepath.Join(path, name))
	})
	return s.passOver(path, err)
}

// passOver notes a directory that is another account's, and its own to
// restore; to an administrator that is an error like any other.
func (s *noteSearch) passOver(path string, err error) error {
	if errors.Is(err, fs.ErrPermission) && os.Geteuid() != 0 {
		s.hidden = append(s.hidden, path)
		return nil
	}
	return handle.IgnoreMissing(err)
}

// notes reads the record directory in a directory, if there is one, and gives
// the names of the targets that it tells of.
func (s *noteSearch) notes(d *handle.Dir, path string) (map[string]bool, error) {
	rec, err := d.Beneath(drive.RecordDir)
	if handle.Absent(err) {
		return nil, nil
	}
	if err != nil {
		return nil, s.passOver(path, err)
	}
	defer rec.Release()
	names, err := rec.Names()
	if err != nil {
		return nil, s.passOver(rec.Path(), err)
	}
	targets := map[string]bool{}
	for _, n := range names {
		name, ok := strings.CutSuffix(n, ".json")
		if !ok || n == drive.TagFile {
			continue
		}
		said, err := note.Read(rec, name)
		if errors.Is(err, note.ErrBad) || err == nil && said.Name != name {
			s.hidden = append(s.hidden, rec.Join(n)) // damaged, or not ours
			continue
		}
		if err != nil {
			if err := s.passOver(rec.Join(n), err); err != nil {
				return nil, err
			}
			continue
		}
		targets[said.Target] = true
		if said.State == note.Here {
			s.found = append(s.found, foundNote{*said, path})
		}
	}
	return targets, nil
}

// planRestore finds out what one note means here.
func planRestore(ctx context.Context, e *engine.Engine, d *drive.Drive, r *Restore, o Options, f foundNote,
	names map[string]bool) error {
	about := finding.Subject{Name: r.Name, Drive: d.Name()}
	r.Account = r.Note.Account
	if to := o.Accounts[r.Account]; to != "" {
		r.Account = to
	}
	r.Link = r.Note.Link
	uid, home, ok := account.Of(r.Account)
	if !ok {
		r.find(finding.New(finding.AccountUnknown, r.Target, "there is no account %s here, whose %s this is",
			r.Account, r.Note.Link).About(about).
			Instead(fmt.Sprintf("`--account %s=NAME` says which account it is here", pathtext.Quote(r.Note.Account))))
		return nil
	}
	own := uid == uint32(os.Geteuid())
	if os.Geteuid() != 0 && !own {
		r.find(finding.New(finding.OtherAccount, r.Target, "%s belongs to %s", r.Target,
			r.Account).About(about).As(finding.Blocker))
		return nil
	}
	if o.Home != "" && own {
		home = o.Home
	}
	if was := r.Note.Home; was != "" && !pathtext.IsRoot(was) && home != "" && pathtext.Within(r.Link, was) &&
		!pathtext.Within(r.Link, home) {
		r.Link = filepath.Join(home, strings.TrimPrefix(r.Link, was))
	}
	if r.Link = filepath.Clean(r.Link); !filepath.IsAbs(r.Link) {
		r.find(finding.New(finding.OutsideHome, r.Target, "the note names no link path that could be used: %s",
			r.Link).About(about).Instead("nothing can be made of this note; `nexlin record` takes the data in by hand"))
		return nil
	}
	r.Link = places.Resolved(r.Link)
	if home == "" || !pathtext.Within(r.Link, places.ResolvedDir(home)) || r.Link == places.ResolvedDir(home) {
		f := finding.New(finding.OutsideHome, r.Link, "%s lies outside the home of %s", r.Link, r.Account).About(about)
		why, err := e.Protected(r.Link)
		if err != nil {
			return err
		}
		if slices.Contains(o.Accept, finding.OutsideHome) && why == "" {
			f = f.Accepted()
		}
		r.find(f)
	}
	if err := trustNote(ctx, e, r, d, f.dir, places.ResolvedDir(home), o); err != nil {
		return err
	}
	return planOfRestore(e, d, r, o, f.dir, uid, names)
}

func planOfRestore(e *engine.Engine, d *drive.Drive, r *Restore, o Options, dir string, uid uint32,
	names map[string]bool) error {
	now := time.Now()
	p := &plan.Plan{
		Header: plan.Header{Run: ledger.NewRunID(now), Kind: plan.KindRestore, Made: now, UID: uid,
			GID: account.Group(uid), Account: r.Account, Accepted: o.Accept},
		Route: plan.Route{Link: r.Link, Target: r.Target, LinkText: r.Target, Into: dir, Final: r.Note.Target,
			IntoDrive: places.Ref(d), FromDrive: places.Ref(d)},
		Copying: plan.Copying{Files: r.Note.Files, Bytes: r.Note.Bytes, Digest: digestOf(dir, &r.Note),
			InnerLinks: plan.RewriteLinks},
		Seen: plan.Seen{IntoNow: *d},
	}
	p.SetInto(d)
	r.plan = p
	planning.ChooseLink(p)
	if !r.Note.Created.IsZero() {
		p.Made = r.Note.Created
	}
	rows, err := e.Redirects()
	if err != nil {
		return err
	}
	used := taken(rows, names)
	for _, x := range rows {
		if x.State == ledger.Ended || x.Target != r.Target && x.Link != r.Link {
			continue
		}
		if err := r.knownAs(x); err != nil {
			return err
		}
	}
	for i := 2; !r.Known && used[r.Name]; i++ {
		r.Name = fmt.Sprintf("%s-%d", r.Note.Name, i)
	}
	p.Name = r.Name
	live, err := handle.OpenReal(r.Target)
	if err != nil {
		r.find(finding.New(finding.TargetMissing, r.Target, "the target %s can't be opened: %v", r.Target,
			handle.Cause(err)).Named(r.Name).As(finding.Blocker))
		return nil
	}
	defer live.Release()
	at := plan.Plan{
		Header: plan.Header{Name: r.Name},
		Route:  plan.Route{IntoDrive: p.IntoDrive, Into: p.Into},
		Seen:   plan.Seen{IntoNow: *d},
	}
	if _, err := e.CheckExpected(&at, filepath.Dir(r.Link), r.Link); err != nil {
		return err
	}
	if err := planning.CheckOwners(&at, live); err != nil {
		return err
	}
	if err := planning.ChooseTagPlace(e, &at, dir); err != nil {
		return err
	}
	p.IntoDrive, p.TagIn, p.NewTag = at.IntoDrive, at.TagIn, at.NewTag
	at.AcceptFound(p.Accepted)
	r.Findings = append(r.Findings, at.Findings...)
	r.inTheWay()
	return nil
}

// knownAs tells that the ledger has a redirect with that target, or that link.
func (r *Restore) knownAs(x ledger.Redirect) (err error) {
	r.Known, r.Name = x.Target == r.Target, x.Name
	f := finding.New(finding.KnownAlready, x.Link, "%s is the redirect %s already", x.Link, x.Name).Named(x.Name)
	if !r.Known {
		r.find(f.As(finding.Blocker).Instead("`nexlin show " + pathtext.Quote(x.Name) + "` says where it leads"))
		return nil
	}
	if r.Linked, err = linked(x); err != nil {
		return err
	}
	if !r.Linked {
		f.Message += ", and its link is not there"
		f = f.Instead("its link is made again")
	}
	r.find(f)
	return nil
}

// inTheWay finds what stands where the link belongs.
func (r *Restore) inTheWay() {
	if _, to, err := link.Chain(r.Link); err == nil && to != r.Link && to != r.Target {
		r.find(finding.New(finding.OldPlaceTaken, r.Link, "a link stands at %s, and leads to %s, which is there",
			r.Link, to).Named(r.Name))
	}
	if st, err := handle.Lstat(r.Link); err == nil && st.IsDir() {
		r.find(finding.New(finding.FolderInWay, r.Link, "a real folder stands at %s", r.Link).Named(r.Name))
	}
}

// PreviewFolder calls visit for every entry of the real folder that stands
// where the link of r belongs, with what becomes of it; for none if there is
// no such folder. It changes nothing.
func PreviewFolder(ctx context.Context, r *Restore, halves plan.Halves,
	visit func(merge.Entry) error) error {
	if r.plan == nil || !r.Makes() || !finding.Has(r.Findings, finding.FolderInWay) {
		return nil
	}
	p := *r.plan
	p.Kind, p.From, p.Halves = plan.KindMerge, p.Link, halves
	return merge.Preview(ctx, &p, visit)
}

// linked reports whether programs are led to the target of a redirect, as far as
// a link does that.
func linked(r ledger.Redirect) (bool, error) {
	if plan.Linkless(r.Methods) || plan.Owned(r) {
		return true, nil
	}
	r.State = ledger.Linked // a detached one has no link either
	astray, err := planning.LookAtLink(r)
	return len(astray) == 0, err
}

// taken gives the names that are in use.
func taken(rows []ledger.Redirect, more map[string]bool) map[string]bool {
	out := map[string]bool{}
	for _, r := range rows {
		out[r.Name] = true
	}
	for n := range more {
		out[n] = true
	}
	return out
}

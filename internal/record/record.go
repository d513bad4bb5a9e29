// Package record takes into the ledger what somebody else has moved, and writes manifests anew.
package record

import (
	"context"
	"errors"
	"io/fs"
	"path/filepath"
	"strings"
	"time"

	"nexlin/internal/account"
	"nexlin/internal/engine"
	"nexlin/internal/finding"
	"nexlin/internal/handle"
	"nexlin/internal/ledger"
	"nexlin/internal/link"
	"nexlin/internal/naming"
	"nexlin/internal/places"
	"nexlin/internal/plan"
	"nexlin/internal/planning"
	"nexlin/internal/preflight"
	"nexlin/internal/transfer"
)

// Options says what somebody made by hand. Paths are absolute.
type Options struct {
	Path     string // the link, or the folder that is still real
	Copy     string // where its copy lies; empty for a link: it leads there
	Original string // what the copy was made of; empty: the folder itself, or what is left over beside the link
	Name     string
	Accept   []finding.Code
	Progress transfer.Progress // may be nil
}

// leftOver are the endings people give a folder that they set aside.
var leftOver = []string{".old", ".orig", ".bak", ".backup", "-old", "_old", " old", ".save", "~"}

// MakePlan looks at a link that somebody made by hand, or a folder whose
// copy lies on the drive already. It reads no content; the run does, and
// takes nothing in if it does not match.
func MakePlan(e *engine.Engine, o Options) (*plan.Plan, error) {
	now := time.Now()
	p := &plan.Plan{
		Header:  plan.Header{Run: ledger.NewRunID(now), Kind: plan.KindRecord, Made: now, Accepted: o.Accept},
		Route:   plan.Route{Link: places.Resolved(o.Path)},
		Copying: plan.Copying{Digest: transfer.Best(), InnerLinks: plan.KeepLinks},
	}
	if r, err := e.ByLink(p.Link); err != nil {
		return nil, err
	} else if r != nil {
		p.Name = r.Name
		p.Add(finding.New(finding.KnownAlready, r.Link, "%s is the redirect %s already", r.Link,
			r.Name).Named(r.Name).As(finding.Blocker))
		return p, nil
	}
	if err := p.ByOthersLinks(preflight.Above(o.Path), o.Copy, o.Original); err != nil {
		return nil, err
	}
	p.HeldIn = filepath.Dir(p.Link)
	if err := chooseRecordName(e, p, o.Name); err != nil {
		return nil, err
	}
	copy, err := recordSides(e, p, o)
	p.AcceptFound(o.Accept)
	if err != nil || p.Blocked() != nil {
		return p, err
	}
	if err := p.Told(e.Shared(p.Name, copy)); err != nil {
		return nil, err
	}
	p.Target = copy
	p.Into, p.Final = filepath.Dir(copy), filepath.Base(copy)
	if p.LinkText == "" {
		p.LinkText = p.Target
		if p.From == p.Link {
			planning.ChooseLink(p)
		}
	}
	if well, err := e.CheckExpected(p, p.Into, p.Copy()); !well || err != nil {
		return p, err
	}
	err = recordTarget(e, p)
	if p.Methods != nil && !handle.Windows && p.IntoNow.Mount != "" {
		planning.WindowsName(p, "", link.Seen(p.LinkText)) // that it leads there
	}
	planning.ForeseeGap(p)
	p.AcceptFound(o.Accept)
	if err != nil || p.Blocked() != nil {
		return p, err
	}
	if err := recordRights(e, p); err != nil {
		return nil, err
	}
	if p.From != "" {
		planning.CheckPlaces(p)
	}
	if err := planning.CheckUnfinished(e, p); err != nil {
		return nil, err
	}
	p.AcceptFound(o.Accept)
	return p, nil
}

func chooseRecordName(e *engine.Engine, p *plan.Plan, name string) error {
	kind := p.Kind
	p.Kind = plan.KindMove // it takes a new name, as a move does
	defer func() { p.Kind = kind }()
	return planning.ChooseName(e, p, name, filepath.Base(p.Link))
}

// recordSides finds out what is link, copy and original, and gives the copy's
// resolved path.
func recordSides(e *engine.Engine, p *plan.Plan, o Options) (string, error) {
	at := p.Link
	st, err := handle.Lstat(at)
	switch {
	case handle.Missing(err):
		p.Add(finding.New(finding.SourceMissing, at, "there is nothing at %s", at))
		return "", nil
	case err != nil:
		return "", err
	case st.IsSymlink():
		return recordLink(p, o)
	case !st.IsDir() || st.MountRoot:
		p.Add(finding.New(finding.SourceNotFolder, at, "%s is neither a link nor a folder that could become one", at))
		return "", nil
	}
	if o.Copy == "" {
		f := finding.New(finding.SourceNotFolder, at, "%s is a real folder, and nothing says where its copy lies", at)
		p.Add(f.Instead("name the copy with `--copy DIR`, or move the folder: `nexlin move`"))
		return "", nil
	}
	why, err := e.Protected(at)
	if err != nil {
		return "", err
	}
	if why != "" {
		p.Add(finding.New(finding.Protected, at, "%s %s", at, why))
		return "", nil
	}
	p.From, p.FromIno = p.Link, st.Ino
	p.Held = naming.Held(filepath.Base(at), p.Run)
	return places.ResolvedDir(o.Copy), nil
}

// recordLink is [recordSides] for a link.
func recordLink(p *plan.Plan, o Options) (string, error) {
	at := p.Link
	steps, copy, err := link.Chain(at)
	if err != nil && o.Copy != "" && len(steps) > 0 && link.IsJunction(steps[0].Text) {
		copy, err = places.ResolvedDir(o.Copy), nil // only Windows knows its drive letters
	}
	if err != nil {
		p.Add(finding.New(finding.TargetMissing, at, "%s leads nowhere: %v", at,
			handle.Cause(err)).As(finding.Blocker))
		return "", nil
	}
	p.OldText = steps[len(steps)-1].Text
	for _, s := range steps {
		if s.Path == at {
			p.OldText = s.Text
		}
	}
	if text := p.OldText; link.IsJunction(text) {
		p.Methods, p.LinkText = []string{plan.ByJunction}, text
	}
	if o.Copy != "" && places.ResolvedDir(o.Copy) != copy {
		p.Add(finding.New(finding.LinkChanged, at, "%s leads to %s, not to %s", at, copy, o.Copy).As(finding.Blocker).
			Instead("leave out --copy, or name where the link leads"))
		return "", nil
	}
	original := o.Original
	if original == "" {
		found, err := originalsBeside(at)
		if err != nil {
			return "", err
		}
		switch len(found) {
		case 0:
			p.Add(finding.New(finding.NothingToProve, at, "no original lies beside %s", at))
			return copy, nil
		case 1:
			original = found[0]
		default:
			p.Add(finding.New(finding.SeveralLeft, found[0], "%d folders beside %s could be its original",
				len(found), at).Listing(len(found), found))
			return "", nil
		}
	}
	original = places.Resolved(original)
	st, err := handle.Lstat(original)
	if err != nil || !st.IsDir() {
		p.Add(finding.New(finding.SourceMissing, original, "there is no folder at %s", original))
		return "", handle.IgnoreMissing(err)
	}
	p.From, p.FromIno = original, st.Ino
	p.HeldIn, p.Held = filepath.Dir(original), filepath.Base(original)
	return copy, nil
}

// originalsBeside lists folders beside a link that could be its original.
func originalsBeside(at string) (found []string, err error) {
	for _, end := range leftOver {
		for _, name := range []string{filepath.Base(at) + end, "." + filepath.Base(at) + end} {
			path := filepath.Join(filepath.Dir(at), name)
			if st, err := handle.Lstat(path); err == nil && st.IsDir() {
				found = append(found, path)
			}
		}
	}
	if len(found) > 0 {
		return found, nil
	}
	return heldBesideOf(at)
}

// heldBesideOf lists what a Nexlin whose ledger is lost has held beside a link.
func heldBesideOf(at string) (found []string, err error) {
	d, err := handle.OpenReal(filepath.Dir(at))
	if err != nil {
		return nil, err
	}
	defer d.Release()
	names, err := d.Names()
	for _, n := range names {
		if naming.HeldLike.MatchString(n) && strings.HasPrefix(n, "."+filepath.Base(at)+".held-") {
			if st, err := d.Stat(n); err == nil && st.IsDir() {
				found = append(found, filepath.Join(filepath.Dir(at), n))
			}
		}
	}
	return found, err
}

// recordTarget looks at the copy and its drive.
func recordTarget(e *engine.Engine, p *plan.Plan) error {
	at := p.Target
	d, err := handle.OpenReal(at)
	if handle.Absent(err) {
		p.Add(finding.New(finding.TargetMissing, at, "there is no folder at %s", at).As(finding.Blocker))
		return nil
	}
	if errors.Is(err, fs.ErrPermission) {
		p.Add(finding.New(finding.Unreadable, at, "this account may not look into %s", at))
		return nil
	}
	if err != nil {
		return err
	}
	defer d.Release()
	st, err := d.Self()
	if err != nil {
		return err
	}
	p.UID, p.GID, p.Account, p.Private = st.UID, st.GID, account.Name(st.UID), st.Mode&0o055 == 0
	if err := planning.CheckOwners(p, d); err != nil {
		return err
	}
	if p.IntoNow, err = e.Drives.Of(at); err != nil {
		return err
	}
	if at == p.IntoNow.Mount {
		p.Add(finding.New(finding.SourceIsMount, at, "%s is a whole drive, not a folder on one", at))
		return nil
	}
	p.IntoDrive = places.Ref(&p.IntoNow)
	p.SetInto(&p.IntoNow)
	if p.IntoNow.Memory {
		p.Add(finding.New(finding.TargetInMemory, at, "%s lies in memory", at))
	}
	return planning.ChooseTagPlace(e, p, p.Into)
}

// recordRights looks at the drive of the link and at who may change it.
func recordRights(e *engine.Engine, p *plan.Plan) (err error) {
	at := p.Link
	if p.From != "" {
		at = p.From
	}
	if p.FromNow, err = e.Drives.Of(filepath.Dir(at)); err != nil {
		return err
	}
	p.FromDrive, p.FromUnstable = places.Ref(&p.FromNow), p.FromNow.UnstableInodes()
	if p.FromNow.Same(&p.IntoNow) {
		p.Add(finding.New(finding.SameDrive, p.Target, "%s and %s both lie on %s", at, p.Target, p.IntoNow.Name()))
	}
	if err := planning.CheckLinkPlace(p); err != nil {
		return err
	}
	if p.From != "" {
		return planning.CheckUsers(context.Background(), p)
	}
	return nil
}

package redirect

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"path/filepath"
	"slices"
	"time"

	"golang.org/x/sys/unix"

	"nexlin/internal/finding"
	"nexlin/internal/handle"
	"nexlin/internal/inventory"
	"nexlin/internal/ledger"
	"nexlin/internal/link"
	"nexlin/internal/pathtext"
	"nexlin/internal/transfer"
)

// RecordOptions says what somebody made by hand. Paths are absolute.
type RecordOptions struct {
	Path     string // the link, or the folder that is still real
	Copy     string // where its copy lies; empty for a link: it leads there
	Original string // what the copy was made of; empty: the folder itself, or what is left over beside the link
	Name     string
	Accept   []finding.Code
	Progress transfer.Progress // may be nil
}

// leftOver are the endings people give a folder that they set aside.
var leftOver = []string{".old", ".orig", ".bak", ".backup", "-old", "_old", " old", ".save", "~"}

// PlanRecord looks at a link that somebody made by hand, or a folder whose
// copy lies on the drive already. It reads no content; the run does, and
// takes nothing in if it does not match.
func (e *Engine) PlanRecord(o RecordOptions) (*Plan, error) {
	now := time.Now()
	p := &Plan{
		Run: ledger.NewRunID(now), Kind: KindRecord, Made: now, Link: pathtext.Path(real(o.Path)), Digest: transfer.SHA256,
		InnerLinks: KeepLinks, Accepted: o.Accept,
	}
	if r, err := e.byLink(string(p.Link)); err != nil {
		return nil, err
	} else if r != nil {
		p.Name = r.Name
		p.find(finding.New(finding.KnownAlready, r.Link, fmt.Sprintf("%s is the redirect %s already", pathtext.Show(r.Link), r.Name), subject(r.Name, "", "")).As(finding.Blocker))
		return p, nil
	}
	p.HeldIn = pathtext.Path(filepath.Dir(string(p.Link)))
	if err := e.chooseRecordName(p, o.Name); err != nil {
		return nil, err
	}
	copy, err := e.recordSides(p, o)
	p.accept(o.Accept)
	if err != nil || p.Blocked() != nil {
		return p, err
	}
	p.Target = pathtext.Path(copy)
	p.Into, p.Final, p.LinkText = pathtext.Path(filepath.Dir(copy)), pathtext.Path(filepath.Base(copy)), p.Target
	err = e.recordTarget(p)
	p.accept(o.Accept)
	if err != nil || p.Blocked() != nil {
		return p, err
	}
	if err := e.recordRights(p); err != nil {
		return nil, err
	}
	if p.From != "" {
		e.apart(p)
	}
	if err := e.unfinished(p); err != nil {
		return nil, err
	}
	p.accept(o.Accept)
	return p, nil
}

func (e *Engine) chooseRecordName(p *Plan, name string) error {
	kind := p.Kind
	p.Kind = KindMove // it takes a new name, as a move does
	defer func() { p.Kind = kind }()
	return e.chooseName(p, name, filepath.Base(string(p.Link)))
}

// recordSides finds out what is link, copy and original, and gives the copy's
// real path.
func (e *Engine) recordSides(p *Plan, o RecordOptions) (string, error) {
	at := string(p.Link)
	st, err := handle.Lstat(at)
	switch {
	case missing(err):
		p.find(finding.New(finding.SourceMissing, at, "there is nothing at "+pathtext.Show(at), subject("", "", "")))
		return "", nil
	case err != nil:
		return "", err
	case st.IsSymlink():
		return e.recordLink(p, o)
	case !st.IsDir() || st.MountRoot:
		p.find(finding.New(finding.SourceNotFolder, at, pathtext.Show(at)+" is neither a link nor a folder that could become one", subject("", "", "")))
		return "", nil
	}
	if o.Copy == "" {
		f := finding.New(finding.SourceNotFolder, at, pathtext.Show(at)+" is a real folder, and nothing says where its copy lies", subject("", "", ""))
		p.find(f.Instead("name the copy with `--copy DIR`, or move the folder: `nexlin move`"))
		return "", nil
	}
	if why := e.protected(at); why != "" {
		p.find(finding.New(finding.Protected, at, pathtext.Show(at)+" "+why, subject("", "", "")))
		return "", nil
	}
	p.From, p.FromIno = p.Link, st.Ino
	p.Held = pathtext.Path(heldName(filepath.Base(at), p.Run))
	return realDir(o.Copy), nil
}

// recordLink is [Engine.recordSides] for a link.
func (e *Engine) recordLink(p *Plan, o RecordOptions) (string, error) {
	at := string(p.Link)
	steps, copy, err := link.Chain(at)
	if err != nil {
		p.find(finding.New(finding.TargetMissing, at, fmt.Sprintf("%s leads nowhere: %v", pathtext.Show(at), cause(err)), subject("", "", "")).As(finding.Blocker))
		return "", nil
	}
	p.OldText = pathtext.Path(steps[len(steps)-1].Text)
	for _, s := range steps {
		if s.Path == at {
			p.OldText = pathtext.Path(s.Text)
		}
	}
	if o.Copy != "" && realDir(o.Copy) != copy {
		p.find(finding.New(finding.LinkChanged, at, fmt.Sprintf("%s leads to %s, not to %s", pathtext.Show(at), pathtext.Show(copy), pathtext.Show(o.Copy)), subject("", "", "")).As(finding.Blocker).
			Instead("leave out --copy, or name where the link leads"))
		return "", nil
	}
	original := o.Original
	if original == "" {
		var found []string
		for _, end := range leftOver {
			for _, name := range []string{filepath.Base(at) + end, "." + filepath.Base(at) + end} {
				path := filepath.Join(filepath.Dir(at), name)
				if st, err := handle.Lstat(path); err == nil && st.IsDir() {
					found = append(found, path)
				}
			}
		}
		switch len(found) {
		case 0:
			p.find(finding.New(finding.NothingToProve, at, "no original lies beside "+pathtext.Show(at), subject("", "", "")))
			return copy, nil
		case 1:
			original = found[0]
		default:
			p.find(finding.New(finding.SeveralLeft, found[0], fmt.Sprintf("%d folders beside %s could be its original", len(found), pathtext.Show(at)), subject("", "", "")).Listing(len(found), found))
			return "", nil
		}
	}
	original = real(original)
	st, err := handle.Lstat(original)
	if err != nil || !st.IsDir() {
		p.find(finding.New(finding.SourceMissing, original, "there is no folder at "+pathtext.Show(original), subject("", "", "")))
		return "", ignoreMissing(err)
	}
	p.From, p.FromIno = pathtext.Path(original), st.Ino
	p.HeldIn, p.Held = pathtext.Path(filepath.Dir(original)), pathtext.Path(filepath.Base(original))
	return copy, nil
}

// recordTarget looks at the copy and its drive.
func (e *Engine) recordTarget(p *Plan) error {
	copy := string(p.Target)
	d, err := handle.OpenReal(copy)
	if missing(err) || errors.Is(err, unix.ENOTDIR) || isLoop(err) {
		p.find(finding.New(finding.TargetMissing, copy, "there is no folder at "+pathtext.Show(copy), subject("", "", "")).As(finding.Blocker))
		return nil
	}
	if errors.Is(err, fs.ErrPermission) {
		p.find(finding.New(finding.Unreadable, copy, "this account may not look into "+pathtext.Show(copy), subject("", "", "")))
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
	p.UID, p.GID, p.Account, p.Private = st.UID, st.GID, accountName(st.UID), st.Mode&0o055 == 0
	if err := p.hands(d); err != nil {
		return err
	}
	if p.IntoNow, err = e.Drives.Of(copy); err != nil {
		return err
	}
	if copy == p.IntoNow.Mount {
		p.find(finding.New(finding.SourceIsMount, copy, pathtext.Show(copy)+" is a whole drive, not a folder on one", subject("", "", "")))
		return nil
	}
	p.IntoDrive, p.IntoFuse = ref(&p.IntoNow), p.IntoNow.Fuse
	if p.IntoNow.Memory {
		p.find(finding.New(finding.TargetInMemory, copy, pathtext.Show(copy)+" lies in memory", subject("", "", "")))
	}
	return e.tagPlace(p, string(p.Into))
}

// recordRights looks at the drive of the link and at who may change it.
func (e *Engine) recordRights(p *Plan) (err error) {
	at := string(p.Link)
	if p.From != "" {
		at = string(p.From)
	}
	if p.FromNow, err = e.Drives.Of(filepath.Dir(at)); err != nil {
		return err
	}
	p.FromDrive, p.FromFuse = ref(&p.FromNow), p.FromNow.Fuse
	if p.FromNow.Same(&p.IntoNow) {
		p.find(finding.New(finding.SameDrive, string(p.Target), fmt.Sprintf("%s and %s both lie on %s", pathtext.Show(at), pathtext.Show(string(p.Target)), p.IntoNow.Name()), subject("", "", "")))
	}
	if err := e.linkPlace(p); err != nil {
		return err
	}
	if p.From != "" {
		return e.users(context.Background(), p)
	}
	return nil
}

// Compare holds the original against the copy without taking anything in, and
// adds what it finds to the plan.
func (e *Engine) Compare(ctx context.Context, p *Plan) error {
	m := &mover{Engine: e, p: p, out: &Outcome{}}
	defer m.close()
	if err := m.openRecord(); err != nil {
		return err
	}
	_, err := m.adopt(ctx, 0)
	p.Findings = append(p.Findings, m.out.Findings...)
	return err
}

// Record takes in what the plan of [Engine.PlanRecord] is about. Its errors
// are those of [Engine.Run]; a *RefusedError also says that the copy is not
// equal: then nothing was taken.
func (e *Engine) Record(ctx context.Context, p *Plan) (*Outcome, error) {
	if err := p.Blocked(); err != nil {
		return nil, err
	}
	m := e.mover(p)
	return m.conduct(func() error {
		if err := m.openRecord(); err != nil || p.From != p.Link {
			return err
		}
		return m.tryLink()
	}, func() error { return m.recorded(m.record(ctx)) })
}

// recorded ends a run that took nothing in as refused, not as stopped.
func (m *mover) recorded(err error) error {
	if refused := (*RefusedError)(nil); errors.As(err, &refused) {
		return errors.Join(err, m.run.Set(ledger.Refused, refused.Error(), nil))
	}
	return m.stopped(err)
}

// openRecord takes the handles and locks of a record.
func (m *mover) openRecord() error {
	err := m.openAround()
	if err != nil {
		return err
	}
	if m.into, err = m.openReal(string(m.p.Into)); err != nil {
		return err
	}
	if err := m.lockCopy(); err != nil {
		return err
	}
	if m.p.From == "" {
		return nil
	}
	if m.from, err = m.findFrom(); err != nil {
		return err
	}
	if m.from == nil {
		return &BrokenError{string(m.p.From), "the original is not there"}
	}
	return m.lock(m.from)
}

// adopt compares original and copy and writes the records of pass n; 0
// writes none. Differences that were not accepted are a *RefusedError.
func (m *mover) adopt(ctx context.Context, n int) (*transfer.Adopted, error) {
	live := m.locks[0]
	if err := live.SyncAll(); err != nil {
		return nil, err
	}
	if m.Progress != nil {
		m.Progress.Phase("compare", 0, 0)
	}
	dir := ""
	if n > 0 {
		dir = m.run.Dir()
	}
	var content, meta differing
	a, err := transfer.Adopt(ctx, transfer.Adoption{
		Source: m.from, Copy: live, Prove: true, Dir: dir, N: n, Digest: m.p.Digest, SourceFuse: m.p.FromFuse, CopyFuse: m.p.IntoFuse, Progress: m.Progress,
		Differs: func(path, what string, isContent bool) {
			if isContent {
				content.add(path, what)
			} else {
				meta.add(path, what)
			}
		},
	})
	if err != nil {
		return nil, err
	}
	m.p.Files, m.p.Bytes, m.p.Entries = a.Files, a.Bytes, a.Entries
	found := slices.Concat(content.finding(finding.CopyDiffers, m.p), meta.finding(finding.MetaDiffers, m.p))
	if m.from != nil {
		more, first, err := transfer.Beyond(ctx, m.from, live, firstListed)
		if err != nil {
			return a, err
		}
		if more > 0 {
			found = append(found, finding.New(finding.MoreInCopy, filepath.Join(m.p.Copy(), first[0]), fmt.Sprintf("%s in %s that %s has not", entryCount(int64(more)), pathtext.Show(m.p.Copy()), pathtext.Show(string(m.p.From))), subject(m.p.Name, "", "")).
				Listing(more, under(m.p.Copy(), first)))
		}
	}
	check := Plan{Findings: found, Kind: KindRecord}
	check.accept(m.p.Accepted)
	m.out.Findings = append(m.out.Findings, check.Findings...)
	return a, check.Blocked()
}

// differing gathers what an original and its copy do not have alike.
type differing struct {
	n            int
	paths, whats []string
}

func (d *differing) add(path, what string) {
	d.n++
	if len(d.paths) < firstListed {
		d.paths, d.whats = append(d.paths, path), append(d.whats, what)
	}
}

func (d *differing) finding(code finding.Code, p *Plan) []finding.Finding {
	if d.n == 0 {
		return nil
	}
	f := finding.New(code, filepath.Join(string(p.From), d.paths[0]), fmt.Sprintf("%s in %s differ in %s", entryCount(int64(d.n)), pathtext.Show(string(p.From)), pathtext.Show(p.Copy())), subject(p.Name, "", ""))
	f = f.Listing(d.n, under(string(p.From), d.paths))
	f.Details = d.whats
	return []finding.Finding{f}
}

// record proves the copy and takes it in; each step may be done already.
func (m *mover) record(ctx context.Context) error {
	at, err := m.whereRecord()
	if err != nil {
		return err
	}
	if at != switched {
		if err := m.prove(ctx); err != nil {
			return err
		}
		if err := m.tag(ctx); err != nil {
			return err
		}
		if err := m.begin("switch", 0, 0); err != nil {
			return err
		}
		if err := m.act(ctx, "switch", m.p.LinkText, m.recordSwitch, nil); err != nil {
			return err
		}
	}
	m.switched = true
	if m.spool == nil {
		if m.spool, err = m.spoolOf(m.p.Run); err != nil {
			return err
		}
	}
	m.count()
	if err := m.begin("try", 0, 0); err != nil {
		return err
	}
	if err := m.tryMended(ctx); err != nil {
		return err
	}
	if err := m.begin("finish", 0, 0); err != nil {
		return err
	}
	if m.from != nil {
		if err := m.act(ctx, "late-writes", pathtext.Path(m.p.HeldPath()), func() error { return m.late(ctx) }, nil); err != nil {
			return err
		}
	}
	if err := m.act(ctx, "notes", m.p.Name, func() error { return m.describe(NoteHere) }, nil); err != nil {
		return err
	}
	if err := m.end(ledger.Done); err != nil {
		return err
	}
	held, err := m.recordHeld(ctx)
	if err != nil {
		return err
	}
	r := m.ledgerRedirect()
	return m.run.Set(ledger.Done, "", func(t *ledger.Tx) error {
		if err := t.SaveRedirect(r); err != nil || held == nil {
			return err
		}
		return t.AddHeld(*held)
	})
}

// count takes the numbers of what was taken in from the records.
func (m *mover) count() {
	m.p.Files, m.p.Bytes, m.p.Entries = 0, 0, 0
	for c := transfer.Read(m.spool); c.Peek() != nil; c.Next() {
		m.p.Entries++
		if c.Peek().IsRegular() {
			m.p.Files++
			m.p.Bytes += c.Peek().Fact.Source.Size
		}
	}
}

// recordHeld is the original as a held one; nil if there is none.
func (m *mover) recordHeld(ctx context.Context) (*ledger.Held, error) {
	if m.from == nil {
		return nil, nil
	}
	h := m.held()
	if m.p.FromFuse {
		h.Ino = 0
	}
	facts, err := inventory.Measure(ctx, m.from, inventory.Options{SkipDeep: true, Scratch: m.run.Dir()})
	h.Bytes, h.Files = facts.Allocated, facts.Files
	return &h, err
}

// prove compares the two sides and freezes what was found equal.
func (m *mover) prove(ctx context.Context) error {
	if err := m.begin("compare", 0, 0); err != nil {
		return err
	}
	for _, n := range transfer.Spools(m.run.Dir()) {
		if err := transfer.RemoveSpool(m.run.Dir(), n); err != nil {
			return err
		}
	}
	a, err := m.adopt(ctx, 1)
	if a != nil && a.Spool != nil {
		m.spool = a.Spool
	}
	if err != nil {
		return err
	}
	m.out.Verified = Count{Files: a.Files, Bytes: a.Bytes}
	if err := composeFrozen(m.run.Dir(), m.spool, m.p.Digest); err != nil {
		return err
	}
	return step(ctx, "proven")
}

// whereRecord tells whether the link leads to the copy already.
func (m *mover) whereRecord() (position, error) {
	ours, err := link.Is(m.linkIn, m.base(), string(m.p.LinkText))
	if err != nil || !ours {
		return before, err
	}
	if m.p.From == m.p.Link {
		return m.whereMove()
	}
	// The link may have been so from the start: then nothing is proven yet.
	if m.finished("switch") {
		return switched, nil
	}
	return before, nil
}

// recordSwitch puts our link in the place of the folder or of the link that
// somebody made.
func (m *mover) recordSwitch() error {
	if m.p.From == m.p.Link {
		return m.exchange()
	}
	if done, err := link.Is(m.linkIn, m.base(), string(m.p.LinkText)); done || err != nil {
		return errors.Join(err, m.dropTempLink(), m.dropScratch(m.linkIn))
	}
	return m.setLink(string(m.p.OldText), string(m.p.LinkText))
}

// unrecord takes a record back: link and folder are as they were, and the
// ledger forgets both.
func (m *mover) unrecord(ctx context.Context) error {
	err := m.act(ctx, "switch-back", m.p.OldText, func() error {
		ours, err := link.Is(m.linkIn, m.base(), string(m.p.LinkText))
		if err != nil {
			return err
		}
		switch {
		case m.p.From == m.p.Link && ours:
			return m.exchangeAgain()
		case m.p.From == m.p.Link:
			return link.Remove(m.heldIn, string(m.p.Held), string(m.p.LinkText))
		case ours && m.p.OldText != m.p.LinkText:
			return m.setLink(string(m.p.LinkText), string(m.p.OldText))
		}
		return nil
	}, nil)
	if err != nil {
		return err
	}
	m.switched = false
	if err := m.untried(m.locks[0]); err != nil {
		return err
	}
	if err := errors.Join(m.dropTempLink(), m.dropScratch(m.linkIn), m.dropScratch(m.heldIn)); err != nil {
		return err
	}
	if err := m.forget(); err != nil {
		return err
	}
	return m.run.Set(ledger.Undone, "", func(t *ledger.Tx) error {
		if err := t.HeldGone(m.p.Run, m.p.HeldPath()); err != nil {
			return err
		}
		return t.RemoveRedirect(m.p.Name)
	})
}

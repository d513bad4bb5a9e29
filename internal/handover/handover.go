// Package handover has an engine that owns a store move it, and proves that it did.
package handover

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"nexlin/internal/archive"
	"nexlin/internal/card"
	"nexlin/internal/drive"
	"nexlin/internal/engine"
	"nexlin/internal/execute"
	"nexlin/internal/finding"
	"nexlin/internal/handle"
	"nexlin/internal/inventory"
	"nexlin/internal/ledger"
	"nexlin/internal/naming"
	"nexlin/internal/pathtext"
	"nexlin/internal/places"
	"nexlin/internal/plan"
	"nexlin/internal/planning"
	"nexlin/internal/preflight"
	"nexlin/internal/run"
	"nexlin/internal/swap"
)

// KindHandover is a run in which the engine that owns a registered store moves
// it: it is carried out to an archive, signed off, and carried in elsewhere.
// The engine deletes the store when it is signed off, so the archive is proven
// before that, and is held until a person discards it.

// A LockedError reports a store of which a file stays locked: after a restart
// of the machine the run can go on.
type LockedError struct{ Store, Says string }

func (e *LockedError) Error() string {
	return fmt.Sprintf("a file of %s stays locked: %s", pathtext.Show(e.Store), pathtext.Show(e.Says))
}

// Stores asks an engine what it has registered.
func Stores(ctx context.Context, e *engine.Engine, u *planning.CardUse) ([]plan.Store, error) {
	h := u.Card.Handover
	return listStores(ctx, e, u.For, u.Command(&h.List), h.Stay)
}

func listStores(ctx context.Context, e *engine.Engine, who run.Actor, list run.Step, stay []string) ([]plan.Store,
	error) {
	out, err := e.Commands().Run(ctx, who, list.Args, list.Within)
	if err != nil {
		return nil, &run.StepError{Step: list.String(), Err: err}
	}
	var stores []plan.Store
	for line := range strings.SplitSeq(out, "\n") {
		w := strings.Split(strings.TrimRight(line, "\r"), "\t")
		if len(w) < 3 || w[0] == "" {
			continue
		}
		stores = append(stores, plan.Store{Name: w[0], State: w[1], Place: w[2], Stays: slices.Contains(stay, w[0])})
	}
	return stores, nil
}

// PlanHandover inspects the move of one registered store into a directory.
// Like [redirect.PlanMove] it returns all findings in the plan.
func PlanHandover(ctx context.Context, e *engine.Engine, u *planning.CardUse, store string,
	o planning.MoveOptions) (*plan.Plan, error) {
	p, s, err := planHandover(ctx, e, u, store, o)
	if err != nil || s == nil {
		return p, err
	}
	p.Into = places.ResolvedDir(o.Into)
	if err := p.ByOthersLinks(o.Into); err != nil {
		return nil, err
	}
	p.Final = filepath.Base(s.Place)
	if as := card.Expand(u.Card.Handover.As, map[string]string{"store": s.Name}); pathtext.IsName(as) {
		p.Final = as
	}
	if o.As != "" {
		p.Final = o.As
	}
	p.Link, p.From, p.Target = s.Place, s.Place, p.Copy()
	p.Store.From, p.Store.To = p.From, p.Target
	if r, err := e.Ledger.Redirect(p.Name); err == nil {
		switch {
		case r.State != ledger.Ended && r.Target == s.Place:
			p.Before, p.Link = &r, r.Link // on to a third drive
		case r.State == ledger.Ended && r.Link == s.Place:
			p.Ended = &r // it was away before
		default:
			p.Add(finding.New(finding.NameTaken, s.Place, "a redirect called %s is in the ledger already",
				p.Name).Named(p.Name))
		}
	}
	return p, planPlaces(ctx, e, p, o)
}

// PlanHandoverBack inspects the way back of a store to where it was.
func PlanHandoverBack(ctx context.Context, e *engine.Engine, r ledger.Redirect, o planning.BackOptions) (*plan.Plan,
	error) {
	made, err := plan.OfRun(e.Ledger, r.Run)
	if err != nil {
		return nil, err
	}
	if made.Store == nil {
		return nil, fmt.Errorf("redirect %s has no record of its store", r.Name)
	}
	c, err := planning.FindCard(e, r.Card)
	if err != nil {
		return nil, err
	}
	u, err := planning.CardFor(c, made.Store.For.Home)
	if err != nil {
		return nil, err
	}
	mo := planning.MoveOptions{Name: r.Name, Accept: o.Accept, Progress: o.Progress}
	p, s, err := planHandover(ctx, e, u, made.Store.Store, mo)
	if err != nil || s == nil {
		return p, err
	}
	if s.Place != r.Target {
		p.Add(finding.New(finding.StoreElsewhere, s.Place, "the engine has %s at %s, not at %s", s.Name, s.Place,
			r.Target).Named(r.Name).As(finding.Blocker))
	}
	p.Before, p.Store.Home = &r, true
	p.Link, p.From, p.Target = r.Link, s.Place, r.Link
	p.Into, p.Final = filepath.Dir(r.Link), filepath.Base(r.Link)
	p.Store.From, p.Store.To = p.From, p.Link
	return p, planPlaces(ctx, e, p, mo)
}

// planHandover begins the plan and looks the store up; nil if it can't be moved.
func planHandover(ctx context.Context, e *engine.Engine, u *planning.CardUse, store string,
	o planning.MoveOptions) (*plan.Plan, *plan.Store,
	error) {
	now := time.Now()
	h := u.Card.Handover
	vars := map[string]string{"store": store}
	for k, v := range u.Vars {
		vars[k] = v
	}
	with := planning.CardUse{Card: u.Card, Vars: vars, For: u.For}
	sp := &plan.StorePlan{
		Store: store, For: u.For, List: with.Command(&h.List), CarryOut: with.Command(&h.CarryOut),
		SignOff: with.Command(&h.SignOff), CarryIn: with.Command(&h.CarryIn),
		Resting: h.Resting, Locked: h.Locked, Before: with.Steps(u.Card.Before), After: with.Steps(u.Card.After),
		Facts: with.Facts(),
	}
	if h.Verify != nil {
		v := with.Command(h.Verify)
		sp.Verify = &v
	}
	p := &plan.Plan{
		Header: plan.Header{Run: ledger.NewRunID(now), Kind: plan.KindHandover, Made: now, Name: o.Name,
			Card: u.Card.Name, UID: u.For.UID, GID: u.For.GID, Account: u.For.Name, Accepted: o.Accept},
		Route: plan.Route{Methods: []string{plan.ByHandover}},
		Store: sp,
	}
	if p.Name == "" {
		p.Name = naming.Default(store)
	}
	var err error
	if sp.Stores, err = listStores(ctx, e, u.For, sp.List, h.Stay); err != nil {
		return nil, nil, err
	}
	about := finding.Subject{Name: p.Name}
	i := slices.IndexFunc(sp.Stores, func(s plan.Store) bool { return s.Name == store })
	if i < 0 {
		var near []string
		for _, s := range sp.Stores {
			if naming.Near(store, s.Name) || strings.HasPrefix(s.Name, store) || strings.HasPrefix(store, s.Name) {
				near = append(near, s.Name)
			}
		}
		f := finding.New(finding.NoStore, "", "the engine has no store called %s", store).About(about)
		if len(near) > 0 {
			f = f.Instead("names must match exactly; did you mean " + strings.Join(near, " or ") + "?")
		}
		p.Add(f)
		return p, nil, nil
	}
	s := sp.Stores[i]
	switch {
	case s.Stays:
		p.Add(finding.New(finding.MustStay, s.Place, "%s is the engine's own and must stay where it is (card %s)",
			s.Name, u.Card.Name).About(about))
		return p, nil, nil
	case !filepath.IsAbs(s.Place):
		p.Add(finding.New(finding.NoStore, s.Place, "the engine does not say where %s lies: %q", s.Name,
			s.Place).About(about))
		return p, nil, nil
	case s.State != h.Resting:
		p.Add(finding.New(finding.ProgramRuns, s.Place, "%s is %s, and must be %s", s.Name, s.State,
			h.Resting).About(about))
	}
	return p, &s, nil
}

// planPlaces looks at both drives: the archive and the store need room.
func planPlaces(ctx context.Context, e *engine.Engine, p *plan.Plan, o planning.MoveOptions) error {
	st, err := handle.Lstat(p.From)
	if err != nil {
		p.Add(finding.New(finding.SourceMissing, p.From, "the engine says that the store lies at %s: %v", p.From,
			handle.Cause(err)).Named(p.Name))
		return nil
	}
	p.FromIno = st.Ino
	if p.FromNow, err = e.Drives.Of(p.From); err != nil {
		return err
	}
	p.FromDrive = places.Ref(&p.FromNow)
	p.HeldIn = archivesIn(p)
	p.Held = string(naming.Held(p.Final, p.Run) + ".archive")
	if err := planning.CheckTarget(e, p); err != nil {
		return err
	}
	root, err := handle.OpenReal(p.From)
	if err != nil {
		return err
	}
	defer root.Release()
	if err := planning.CheckOwners(p, root); err != nil {
		return err
	}
	p.Facts, err = preflight.Measure(ctx, root, inventory.Options{Block: max(p.IntoNow.Block, 1),
		Progress: o.Progress, Scratch: e.Ledger.Dir()})
	if err != nil {
		return err
	}
	p.Files, p.Bytes, p.Allocated, p.Entries = p.Facts.Files, p.Facts.Bytes, p.Facts.Allocated, p.Facts.Entries()
	planning.CheckPlaces(p)
	planning.CheckSpace(e, p)
	checkArchiveRoom(e, p)
	if around := filepath.Dir(p.From); p.Before == nil && pathtext.Within(p.Into, around) {
		p.Add(finding.New(finding.TargetInSource, p.Into, "%s lies in %s, which is the engine's own: what is there it "+
			"may delete with the store", p.Into, around).Named(p.Name))
	}
	p.AcceptFound(o.Accept)
	return planning.CheckUnfinished(e, p)
}

// checkArchiveRoom wants room for the archive, too, which lies there until it is discarded. On the way home it lies
// in the account's home where the drive that the store leaves has no room for both.
func checkArchiveRoom(e *engine.Engine, p *plan.Plan) {
	short := func(d *drive.Drive, need int64) int64 {
		if d.Mount == "" {
			return 0 // that is another finding
		}
		return d.Short(need)
	}
	if p.Store.Home {
		lacks, home := short(&p.FromNow, p.Bytes), p.Store.For.Home
		if lacks == 0 {
			return
		}
		on, err := e.Drives.Of(home)
		if err == nil && !pathtext.Within(home, p.Into) && on.Same(&p.IntoNow) && short(&on, p.Need+p.Bytes) == 0 {
			p.HeldIn, p.Need = home, p.Need+p.Bytes
			return
		}
		noRoom(p, &p.FromNow, "the store's archive", p.Bytes, lacks)
		return
	}
	p.Need += p.Bytes
	if lacks := short(&p.IntoNow, p.Need); lacks > 0 && !finding.Has(p.Findings, finding.SpaceShort) {
		noRoom(p, &p.IntoNow, "the store and its archive", p.Need, lacks)
	}
}

func noRoom(p *plan.Plan, on *drive.Drive, what string, need, lacks int64) {
	p.Add(finding.New(finding.SpaceShort, p.HeldIn, "%s has too little room for %s: needed %s, free %s, short by %s",
		on.Name(), what, pathtext.Size(need), pathtext.Size(on.Free), pathtext.Size(lacks)).OnDrive(on.Name()))
}

// A handingOver moves a store by the engine that owns it.
type handingOver struct{ execute.Basics }

func (m *handingOver) Open() error {
	if err := m.CheckDrive(m.Plan.Into, m.Plan.IntoDrive); err != nil {
		return err
	}
	at, err := m.OpenReal(m.Plan.Into)
	if err == nil {
		m.Into = at
	}
	if handle.IgnoreMissing(err) != nil { // it is made when the run begins
		return err
	}
	return m.openArchives()
}

// openArchives opens the directory that archives lie in, once there is one: see [archivesIn].
func (m *handingOver) openArchives() error {
	p := m.Plan
	if m.HeldIn != nil || p.HeldIn == p.Into && m.Into == nil {
		return nil
	}
	if p.HeldIn == p.Into {
		m.HeldIn = m.Into.Retain()
		return nil
	}
	err := m.CheckDrive(p.HeldIn, archivesOn(p))
	if err == nil {
		m.HeldIn, err = m.OpenReal(p.HeldIn)
	}
	return err
}

// archivesOn is the drive of that directory.
func archivesOn(p *plan.Plan) ledger.DriveRef {
	if p.HeldIn == filepath.Dir(p.From) && p.HeldIn != p.Into {
		return p.FromDrive
	}
	return p.IntoDrive
}

// archivesIn is where the archives of a run lie: in the directory that a person has named for the store, be it on
// its way there or home. The one around its old home is the engine's own, and with a store an engine may delete
// all of what is its own.
func archivesIn(p *plan.Plan) string {
	if p.Store.Home {
		return filepath.Dir(p.From)
	}
	return p.Into
}

// StandsAt a store is, as the engine lists it; nil if it lists none of the name.
func (m *handingOver) store(ctx context.Context) (*plan.Store, error) {
	all, err := listStores(ctx, m.Engine, m.Plan.Store.For, m.Plan.Store.List, nil)
	for i := range all {
		if all[i].Name == m.Plan.Store.Store {
			return &all[i], err
		}
	}
	return nil, err
}

func (m *handingOver) Forward(ctx context.Context) error {
	sp := m.Plan.Store
	err := handle.InOrder(func() error { return m.Parents(ctx) }, m.openArchives, func() error { return m.Tag(ctx) })
	if err != nil {
		return err
	}
	for i, s := range sp.Before {
		if err := m.Once(ctx, fmt.Sprintf("before.%d", i), s,
			func() error { return m.Commands().Do(ctx, sp.For, s) }); err != nil {
			return err
		}
	}
	facts, err := m.storeFacts(ctx)
	if err != nil {
		return err
	}
	if err := m.carry(ctx, "", sp.From, sp.To); err != nil {
		return err
	}
	if err := m.Begin("finish", 0, 0); err != nil {
		return err
	}
	if err := m.storeFactsAgain(ctx, facts); err != nil {
		return err
	}
	for i, s := range sp.After {
		if err := m.Once(ctx, fmt.Sprintf("after.%d", i), s,
			func() error { return m.Commands().Do(ctx, sp.For, s) }); err != nil {
			return err
		}
	}
	if err := m.End(ledger.Done); err != nil {
		return err
	}
	r := m.LedgerRedirect()
	if r.Created = m.Plan.Made; m.Plan.Before != nil {
		r.Created = m.Plan.Before.Created
	}
	if sp.Home {
		r.State, r.Target, r.Drive = ledger.Ended, m.Plan.Before.Target, m.Plan.Before.Drive
	}
	held, err := m.heldArchive("")
	if err != nil {
		return err
	}
	err = m.Run.Set(ledger.Done, "", func(t *ledger.Tx) error {
		if err := t.SaveRedirect(r); err != nil {
			return err
		}
		return t.AddHeld(held)
	})
	m.MeasureAfter()
	return err
}

// carry moves the store by the engine's three steps. way tells the way there
// from the way back of one run. Each step looks at the engine first.
func (m *handingOver) carry(ctx context.Context, way, from, to string) error {
	sp := m.Plan.Store
	s, err := m.store(ctx)
	if err != nil {
		return err
	}
	if s != nil && s.Place == to {
		return m.carriedBefore(ctx, way, to)
	}
	if s != nil && s.Place != from {
		return swap.Broken(s.Place, "the engine has the store there, and not where the run left it")
	}
	if s != nil {
		if err := m.signOff(ctx, s, way, to); err != nil {
			return err
		}
	}
	if err := m.Begin("carry in", m.Out.Contents.Files, m.Out.Contents.Bytes); err != nil {
		return err
	}
	err = m.Act(ctx, "carry-in"+way, sp.Store, func() error { return m.carryIn(ctx, way, to) }, nil)
	if err == nil || ctx.Err() != nil || run.Injected(err) {
		return err
	}
	// The engine does not take it there, or not whole: it goes back where it was.
	if other := (*CarriedError)(nil); errors.As(err, &other) {
		if e := m.Act(ctx, "sign-off-again"+way, sp.Store,
			func() error { return m.engineStep(ctx, sp.SignOff, way, to) }, nil); e != nil {
			return errors.Join(err, e)
		}
	}
	again := m.Act(ctx, "carry-back"+way, sp.Store, func() error { return m.carryIn(ctx, way, from) }, nil)
	if again != nil {
		return errors.Join(err, again)
	}
	facts, ferr := m.storeFacts(ctx)
	if ferr == nil {
		ferr = m.storeFactsAgain(ctx, facts)
	}
	return errors.Join(&plan.TakenBackError{Run: m.Plan.Run, At: from, Err: err}, ferr)
}

// signOff carries a store out of where it is, which is proven, and has the engine let go
// of it.
func (m *handingOver) signOff(ctx context.Context, s *plan.Store, way, to string) error {
	sp, from := m.Plan.Store, s.Place
	if s.State != sp.Resting {
		return fmt.Errorf("%s is %s, and must be %s", pathtext.Show(s.Name), pathtext.Show(s.State), sp.Resting)
	}
	if err := m.carryOutWhole(ctx, way, from); err != nil {
		return err
	}
	s, err := m.store(ctx)
	if err != nil {
		return err
	}
	if s == nil || s.Place != from || s.State != sp.Resting {
		return fmt.Errorf("%s is not at rest any more: something uses it", pathtext.Show(sp.Store))
	}
	err = m.Act(ctx, "sign-off"+way, sp.Store, func() error { return m.engineStep(ctx, sp.SignOff, way, to) }, nil)
	if err != nil {
		return err
	}
	if s, err = m.store(ctx); err != nil {
		return err
	}
	if s != nil {
		return fmt.Errorf("the engine still lists %s after it was signed off", pathtext.Show(sp.Store))
	}
	return nil
}

// archiveName is what the archive of one way is called.
func (m *handingOver) archiveName(way string) string { return m.Plan.Held + way }

func (m *handingOver) archivePath(way string) string {
	return filepath.Join(m.Plan.HeldIn, m.archiveName(way))
}

type archiveData struct {
	Bytes  int64  `json:"bytes"`
	Digest string `json:"sha256"`
	Files  int64  `json:"files"`   // in it; -1 if that can't be told
	Stored int64  `json:"content"` // bytes in it; -1 if that can't be told
}

// carryOut has the engine write the archive, and proves it: flushed, read to
// its end, and not smaller than what the store holds.
func (m *handingOver) carryOut(ctx context.Context, way, from string) error {
	sp := m.Plan.Store
	var d archiveData
	known, err := m.Last("archive"+way, &d)
	if err != nil {
		return err
	}
	if known {
		switch _, err := m.HeldIn.Stat(m.archiveName(way)); {
		case err == nil:
			return m.proveArchive(ctx, way, &d)
		case !handle.Missing(err):
			return err
		}
	}
	if err := m.Begin("carry out", m.Plan.Files, m.Plan.Bytes); err != nil {
		return err
	}
	part := naming.Part(m.Plan.Run) + way
	if err := handle.IgnoreMissing(m.HeldIn.Unlink(part)); err != nil {
		return err
	}
	file := filepath.Join(m.Plan.HeldIn, part)
	err = m.Act(ctx, "carry-out"+way, part, func() error {
		_, err := m.Commands().Run(ctx, sp.For, with(sp.CarryOut.Args, "{archive}", file), sp.CarryOut.Within)
		return err
	}, nil)
	if err != nil {
		return err
	}
	if err := m.Begin("read back", 0, 0); err != nil {
		return err
	}
	if d, err = m.readStoreArchive(ctx, part, file); err != nil {
		return err
	}
	if err := m.asLargeAs(ctx, from, &d); err != nil {
		return err
	}
	return m.Act(ctx, "archive"+way, d, func() error {
		return handle.Flushed(m.HeldIn.Rename(part, m.HeldIn, m.archiveName(way)), m.HeldIn)
	}, nil)
}

func with(args []string, pairs ...string) []string {
	var out []string
	for _, a := range args {
		out = append(out, strings.NewReplacer(pairs...).Replace(a))
	}
	return out
}

// readStoreArchive flushes an archive and reads it to its end.
func (m *handingOver) readStoreArchive(ctx context.Context, name, path string) (d archiveData, err error) {
	f, err := m.HeldIn.OpenFile(name)
	if err != nil {
		return d, fmt.Errorf("the engine said that it had carried the store out, and there is no archive: %w", err)
	}
	defer f.Close()
	if err := f.Sync(); err != nil {
		return d, err
	}
	sum := sha256.New()
	counted := &archive.Counter{W: sum}
	n, known, err := archive.Content(ctx, io.TeeReader(f, counted))
	if err == nil {
		_, err = io.Copy(counted, f)
	}
	if err != nil {
		return d, err
	}
	d = archiveData{counted.N, hex.EncodeToString(sum.Sum(nil)), n.Files, n.Bytes}
	if !known {
		d.Files, d.Stored = -1, -1
	}
	if v := m.Plan.Store.Verify; v != nil {
		out, err := m.Commands().Run(ctx, m.Plan.Store.For, with(v.Args, "{archive}", path), v.Within)
		if err == nil && v.Answer != "" && !strings.Contains(out, v.Answer) {
			err = run.ErrAnswer
		}
		if err != nil {
			return d, &archive.DamageError{What: "the engine does not read it to its end", Err: err}
		}
	} else if !known {
		return d, &archive.DamageError{What: "it is of a kind that can't be read here, and the card has no command " +
			"to verify it"}
	}
	return d, nil
}

// asLargeAs wants the archive to hold what the store holds.
func (m *handingOver) asLargeAs(ctx context.Context, place string, d *archiveData) error {
	root, err := m.OpenReal(place)
	if err != nil {
		return err
	}
	defer root.Release()
	facts, err := preflight.Measure(ctx, root, inventory.Options{Block: 1, Scratch: m.Ledger.Dir()})
	if err != nil {
		return err
	}
	if n := facts.Unreadable; n.Count > 0 {
		return &fs.PathError{Op: "read", Path: filepath.Join(place, n.Paths[0]),
			Err: errors.New("it can't be looked at")}
	}
	m.Out.Contents = plan.Count{Files: facts.Files, Bytes: facts.Bytes}
	switch {
	case d.Bytes == 0 && facts.Bytes > 0:
		return &archive.DamageError{What: "it is empty"}
	case d.Stored >= 0 && d.Stored < facts.Bytes:
		return &archive.DamageError{What: fmt.Sprintf("it holds %s, and the store has %s", pathtext.Size(d.Stored),
			pathtext.Size(facts.Bytes))}
	}
	return nil
}

// proveArchive wants the archive to be the one that was proven before.
func (m *handingOver) proveArchive(ctx context.Context, way string, d *archiveData) error {
	is, err := m.readStoreArchive(ctx, m.archiveName(way), m.archivePath(way))
	if err != nil {
		return err
	}
	if is != *d {
		return &archive.DamageError{Path: m.archivePath(way), What: "it is not the one that was proven"}
	}
	return nil
}

// engineStep runs a step of the engine; a file that stays locked is tried
// again for a while.
func (m *handingOver) engineStep(ctx context.Context, s run.Step, way, place string) error {
	args := with(s.Args, "{archive}", m.archivePath(way), "{place}", place)
	for wait := lockedFirst; ; wait *= 2 {
		out, err := m.Commands().Run(ctx, m.Plan.Store.For, args, s.Within)
		if err == nil && s.Answer != "" && !strings.Contains(out, s.Answer) {
			err = &run.StepError{Step: strings.Join(args, " "),
				Err: fmt.Errorf("%w: %q", run.ErrAnswer, pathtext.Show(out))}
		}
		if err == nil || m.Plan.Store.Locked == "" || !strings.Contains(err.Error(), m.Plan.Store.Locked) {
			return err
		}
		if wait > lockedLast {
			return &LockedError{m.Plan.Store.Store, err.Error()}
		}
		select {
		case <-time.After(wait):
		case <-ctx.Done():
			return ctx.Err()
		}
	}
}

// How long a locked store is waited for: twice as long each time.
const (
	lockedFirst = 250 * time.Millisecond
	lockedLast  = 2 * time.Second
)

// carryIn has the engine carry the proven archive in, and looks whether it
// lists the store there.
func (m *handingOver) carryIn(ctx context.Context, way, place string) error {
	var d archiveData
	known, err := m.Last("archive"+way, &d)
	if err != nil {
		return err
	}
	if !known {
		return swap.Broken(m.archivePath(way), "the store is signed off, and no archive of it is known")
	}
	if err := m.proveArchive(ctx, way, &d); err != nil {
		return err
	}
	if s, err := m.store(ctx); err != nil || s != nil && s.Place == place {
		return err
	}
	if err := m.engineStep(ctx, m.Plan.Store.CarryIn, way, place); err != nil {
		return err
	}
	s, err := m.store(ctx)
	if err == nil && (s == nil || s.Place != place) {
		err = fmt.Errorf("the engine does not list %s at %s after it was carried in", pathtext.Show(m.Plan.Store.Store),
			pathtext.Show(place))
	}
	if err != nil {
		return err
	}
	return m.carriedWhole(ctx, way, place)
}

// storeFacts reads the facts before the store is touched, once in a run.
func (m *handingOver) storeFacts(ctx context.Context) (map[string]string, error) {
	return m.FactsOnce(ctx, m.Commands(), m.Plan.Store.For, m.Plan.Store.Facts)
}

// storeFactsAgain compares the facts and sets back what the engine has reset.
func (m *handingOver) storeFactsAgain(ctx context.Context, before map[string]string) error {
	var err error
	m.Out.Facts, err = m.Commands().SameFacts(ctx, m.Plan.Store.For, m.Plan.Store.Facts, before)
	return err
}

// heldArchive is the archive of one way as a held entry.
func (m *handingOver) heldArchive(way string) (ledger.Held, error) {
	var d archiveData
	if _, err := m.Last("archive"+way, &d); err != nil {
		return ledger.Held{}, err
	}
	st, err := m.HeldIn.Stat(m.archiveName(way))
	if err != nil {
		return ledger.Held{}, err
	}
	h := m.HeldRow()
	h.Path, h.Drive, h.Ino, h.Bytes, h.Files = m.archivePath(way), archivesOn(m.Plan), st.Ino, st.Allocated, 1
	return h, nil
}

// Ended knows of a handover that was taken back as a whole.
func (m *handingOver) Ended(err error) error {
	var back *plan.TakenBackError
	if errors.As(err, &back) {
		m.Out.State = ledger.Undone
		return errors.Join(err, m.Run.Set(ledger.Undone, back.Err.Error(), nil))
	}
	return m.SetStopped(err)
}

// Back takes a handover back: the store comes to its old place again,
// by a new archive if the engine has it at the new place already.
func (m *handingOver) Back(ctx context.Context) error {
	sp := m.Plan.Store
	s, err := m.store(ctx)
	if err != nil {
		return err
	}
	facts, err := m.storeFacts(ctx)
	if err != nil {
		return err
	}
	switch {
	case s != nil && s.Place == sp.From:
	case s != nil && s.Place == sp.To:
		if m.HeldIn == nil {
			return swap.Broken(m.Plan.HeldIn, "the directory around the store is not there")
		}
		if err := m.carry(ctx, "-back", sp.To, sp.From); err != nil {
			return err
		}
	case s == nil:
		if err := m.Act(ctx, "carry-back", sp.Store, func() error { return m.carryIn(ctx, "", sp.From) },
			nil); err != nil {
			return err
		}
	default:
		return swap.Broken(s.Place, "the engine has the store there, and not where the run left it")
	}
	if err := m.storeFactsAgain(ctx, facts); err != nil {
		return err
	}
	held, err := m.archivesLeft(ctx)
	if err != nil {
		return err
	}
	ended := m.LedgerRedirect()
	ended.State = ledger.Ended
	return m.Run.Set(ledger.Undone, "", func(t *ledger.Tx) error {
		for _, h := range held {
			if err := t.AddHeld(h); err != nil {
				return err
			}
		}
		switch {
		case m.Plan.Before != nil:
			return t.SaveRedirect(*m.Plan.Before)
		case len(held) > 0:
			return t.SaveRedirect(ended) // kept for its archives
		}
		return t.RemoveRedirect(m.Plan.Name)
	})
}

// archivesLeft are the archives that stay held. Without any, nothing
// of the run stays there.
func (m *handingOver) archivesLeft(ctx context.Context) (held []ledger.Held, err error) {
	if m.HeldIn == nil {
		return nil, nil
	}
	if err := handle.IgnoreMissing(m.HeldIn.Unlink(naming.Part(m.Plan.Run))); err != nil {
		return nil, err
	}
	for _, way := range []string{"", "-back"} {
		_, err := m.HeldIn.Stat(m.archiveName(way))
		if handle.IgnoreMissing(err) != nil {
			return nil, err
		}
		if err == nil {
			h, err := m.heldArchive(way)
			if err != nil {
				return nil, err
			}
			held = append(held, h)
		}
	}
	if len(held) == 0 {
		return nil, m.ForgetRun(ctx)
	}
	return held, nil
}

// CheckStore tells whether the engine still has the store of a redirect where
// it was carried in.
func CheckStore(ctx context.Context, e *engine.Engine, r ledger.Redirect) ([]finding.Finding, error) {
	if !plan.Owned(r) || r.State != ledger.Linked {
		return nil, nil
	}
	p, err := plan.OfRun(e.Ledger, r.Run)
	if err != nil || p.Store == nil {
		return nil, err
	}
	about := finding.Subject{Name: r.Name}
	all, err := listStores(ctx, e, p.Store.For, p.Store.List, nil)
	if err != nil {
		return []finding.Finding{finding.New(finding.StoreElsewhere, r.Target,
			"the engine does not say what it has: %s", err).About(about)}, nil
	}
	for _, s := range all {
		if s.Name == p.Store.Store && s.Place == r.Target {
			return nil, nil
		}
		if s.Name == p.Store.Store {
			return []finding.Finding{finding.New(finding.StoreElsewhere, s.Place,
				"the engine has %s at %s, not at %s", s.Name, s.Place, r.Target).About(about)}, nil
		}
	}
	return []finding.Finding{finding.New(finding.StoreElsewhere, r.Target, "the engine does not list %s any more",
		p.Store.Store).About(about)}, nil
}

// HandingOver is the job of a handover.
func HandingOver(m *execute.Execution) execute.Job { return &handingOver{execute.Basics{Execution: m}} }

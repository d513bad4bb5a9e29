package redirect

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"nexlin/internal/drive"
	"nexlin/internal/finding"
	"nexlin/internal/handle"
	"nexlin/internal/inuse"
	"nexlin/internal/ledger"
	"nexlin/internal/link"
	"nexlin/internal/pathtext"
	"nexlin/internal/transfer"
)

// maxPasses bounds how often a run looks for changes before it says that
// the folder does not come to rest.
const maxPasses = 5

// A mover carries out one plan. Every step looks at the disks first, so that
// it may be called again after a stop at any moment (I3).
type mover struct {
	*Engine
	p   *Plan
	run *ledger.Run
	out *Outcome

	from     *handle.Dir // the folder that is copied, by inode
	heldIn   *handle.Dir // the directory it stands in
	into     *handle.Dir // the directory the copy goes into
	linkIn   *handle.Dir // the directory the link stands in
	locks    []*handle.Dir
	part     *transfer.Part
	spool    *transfer.Spool
	pass     int
	phase    string
	phaseSeq int64
	switched bool
	room     []room
}

// room is a drive and what was free on it before the run.
type room struct {
	drive  drive.Drive
	before int64
}

// Run carries out a plan that nothing blocks. The error is a *RefusedError
// before anything has changed, a *StoppedError afterwards.
func (e *Engine) Run(ctx context.Context, p *Plan) (*Outcome, error) {
	if err := p.Blocked(); err != nil {
		return nil, err
	}
	m := &mover{Engine: e, p: p, out: &Outcome{Run: p.Run, Kind: p.Kind, Plan: p, Findings: p.Findings}}
	defer m.close()
	// What can refuse without a trace comes before the run is in the ledger.
	if err := m.open(); err != nil {
		return nil, err
	}
	if err := m.tryLink(); err != nil {
		return nil, err
	}
	var err error
	if m.run, err = e.Ledger.Begin(p.Run, p.Kind, p.Name, p); err != nil {
		return nil, err
	}
	defer m.run.Release()
	return m.out, m.stopped(m.forward(ctx))
}

// stopped records that a run ended before its end, and why.
func (m *mover) stopped(err error) error {
	if err == nil {
		m.out.State = ledger.Done
		return nil
	}
	m.out.State = ledger.Stopped
	s := &StoppedError{Run: m.p.Run, Kind: m.p.Kind, Phase: m.phase, Link: string(m.p.Link), Switched: m.switched, Err: err}
	if errors.Is(err, ErrStillChanging) {
		s.Writers = m.writers()
	}
	// That the ledger can't take the word is one more thing to say; the run
	// counts as stopped all the same, since nobody holds its lock.
	return joinErr(s, m.run.Set(ledger.Stopped, err.Error(), nil))
}

func joinErr(err error, more error) error {
	if more == nil {
		return err
	}
	return errors.Join(err, more)
}

func (m *mover) writers() []string {
	r, err := inuse.Below(context.Background(), string(m.p.From))
	if err != nil {
		return nil
	}
	var out []string
	for _, h := range r.Writers() {
		out = append(out, fmt.Sprintf("%s (process %d): %s", pathtext.Show(h.Program), h.PID, pathtext.Show(h.Path)))
	}
	return out
}

func (m *mover) close() {
	if m.part != nil {
		m.part.Close()
	}
	_ = m.spool.Close() // read again from the start by whoever needs it
	for _, d := range append(m.locks, m.from, m.heldIn, m.into, m.linkIn) {
		d.Release()
	}
}

// open takes the handles that all later acts go through, checks that the
// drives are the ones of the plan (I5), and locks (I7).
func (m *mover) open() error {
	var err error
	if m.linkIn, err = handle.OpenReal(filepath.Dir(string(m.p.Link))); err != nil {
		return err
	}
	if m.heldIn, err = handle.OpenReal(string(m.p.HeldIn)); err != nil {
		return err
	}
	if err := m.checkDrives(); err != nil {
		return err
	}
	if m.from, err = m.findFrom(); err != nil {
		return err
	}
	if m.from != nil {
		if err := m.lock(m.from); err != nil {
			return err
		}
	}
	if d, err := handle.OpenReal(string(m.p.Into)); err == nil {
		m.into = d
	} else if !missing(err) {
		return err
	}
	return nil
}

func (m *mover) checkDrives() error {
	for path, want := range map[string]ledger.DriveRef{string(m.p.HeldIn): m.p.FromDrive, string(m.p.Into): m.p.IntoDrive} {
		at, err := drive.Existing(path)
		if err != nil {
			return err
		}
		d, err := m.Drives.Of(at)
		if err != nil && !errors.Is(err, drive.ErrNoDrive) {
			return err
		}
		if err != nil || d.UUID != want.UUID || !within(path, d.Mount) || pathtext.Path(d.Mount) != want.Mount {
			return &RefusedError{[]finding.Finding{finding.New(finding.DriveAway, path,
				fmt.Sprintf("%s is not where it was: %s", want.Label, pathtext.Show(string(want.Mount))), subject(m.p.Name, want.Label, ""))}}
		}
	}
	return nil
}

// findFrom opens the folder that is copied, under its own or its held name.
// Nil if it is under neither.
func (m *mover) findFrom() (*handle.Dir, error) {
	for _, name := range []string{filepath.Base(string(m.p.From)), string(m.p.Held)} {
		d, err := m.heldIn.Beneath(name)
		if errors.Is(err, os.ErrNotExist) || errors.Is(err, handle.ErrNotDir) || isLoop(err) {
			continue
		}
		if err != nil {
			return nil, err
		}
		if st, err := d.Self(); err == nil && st.Ino == m.p.FromIno {
			return d, nil
		}
		d.Release()
	}
	return nil, nil
}

// lock takes the folder exclusively and its ancestors shared. A nested run
// holds one of ours, or we one of its: either way the second one refuses.
func (m *mover) lock(d *handle.Dir) error {
	busy := func(path string) error {
		return &RefusedError{[]finding.Finding{finding.New(finding.FolderBusy, path,
			"another Nexlin is at work on "+pathtext.Show(path)+", or on a folder above or inside it", subject(m.p.Name, "", ""))}}
	}
	if err := d.Lock(true); err != nil {
		if isBusy(err) {
			return busy(d.Path())
		}
		return err
	}
	for _, start := range []string{filepath.Dir(string(m.p.From)), string(m.p.Into)} {
		for at := start; ; at = filepath.Dir(at) {
			a, err := handle.OpenReal(at)
			if err == nil {
				m.locks = append(m.locks, a)
				if err := a.Lock(false); isBusy(err) {
					return busy(at)
				}
			}
			if at == "/" {
				break
			}
		}
	}
	return nil
}

// tryLink does the switch in small beside the folder, before a byte is
// copied: a right that is missing shows now.
func (m *mover) tryLink() error {
	err := link.TryBeside(m.linkIn, tempName(m.p.Run)+"-")
	if err == nil {
		return nil
	}
	code := finding.LinkImpossible
	if errors.Is(err, link.ErrNoExchange) {
		code = finding.NotKeptYet
	}
	return &RefusedError{[]finding.Finding{finding.New(code, m.linkIn.Path(),
		fmt.Sprintf("a trial link in %s failed: %v", pathtext.Show(m.linkIn.Path()), cause(err)), subject(m.p.Name, "", ""))}}
}

// act journals an intent, does the act, and journals that it is done.
func (m *mover) act(ctx context.Context, name string, data any, do func() error, also func(*ledger.Tx) error) error {
	seq, err := m.run.Intend(name, data)
	if err != nil {
		return err
	}
	if err := step(ctx, name+".intent"); err != nil {
		return err
	}
	if err := do(); err != nil {
		return err
	}
	if err := step(ctx, name+".act"); err != nil {
		return err
	}
	if err := m.run.Did(seq, also); err != nil {
		return err
	}
	return step(ctx, name+".done")
}

func (m *mover) begin(name string, files, bytes int64) error {
	if err := m.end(ledger.Done); err != nil {
		return err
	}
	seq, err := m.run.Intend("phase", map[string]string{"name": name})
	if err != nil {
		return err
	}
	m.phase, m.phaseSeq = name, seq
	m.out.Phases = append(m.out.Phases, Phase{Name: name, State: ledger.Going, Started: time.Now()})
	if m.Progress != nil {
		m.Progress.Phase(name, files, bytes)
	}
	return nil
}

func (m *mover) end(state string) error {
	if m.phaseSeq == 0 {
		return nil
	}
	last := &m.out.Phases[len(m.out.Phases)-1]
	last.State, last.Ended = state, time.Now()
	seq := m.phaseSeq
	m.phaseSeq = 0
	return m.run.Did(seq, nil)
}

// forward carries the run from wherever it stands to its end.
func (m *mover) forward(ctx context.Context) error {
	at, err := m.where()
	if err != nil {
		return err
	}
	if at != switched {
		if err := m.prepare(ctx, at); err != nil {
			return err
		}
		if err := m.copyAll(ctx); err != nil {
			return err
		}
		if err := m.seal(ctx); err != nil {
			return err
		}
		if err := m.begin("switch", 0, 0); err != nil {
			return err
		}
		if err := m.switchOver(ctx); err != nil {
			return err
		}
	}
	m.switched = true
	return m.after(ctx)
}

// prepare makes everything that the copy needs around it.
func (m *mover) prepare(ctx context.Context, at position) error {
	if at == placed {
		if err := m.unplace(ctx); err != nil {
			return err
		}
	}
	if err := m.run.Reserve(ledgerRoom); err != nil {
		return err
	}
	if err := m.parents(ctx); err != nil {
		return err
	}
	if m.p.Kind != KindBringBack {
		if err := m.tag(ctx); err != nil {
			return err
		}
	}
	return m.act(ctx, "part", map[string]any{"name": partName(m.p.Run)}, func() error {
		part, err := transfer.OpenPart(m.into, partName(m.p.Run), asideName(m.p.Run))
		if err != nil {
			return err
		}
		m.part = part
		return part.Dir.Lock(true)
	}, nil)
}

// parents makes the directories on the way to the target, each owned like
// the folder, and journals which.
func (m *mover) parents(ctx context.Context) error {
	if m.into != nil {
		return nil
	}
	anchor, err := drive.Existing(string(m.p.Into))
	if err != nil {
		return err
	}
	names := strings.Split(strings.Trim(strings.TrimPrefix(string(m.p.Into), anchor), "/"), "/")
	return m.act(ctx, "parents", parentsData{pathtext.Path(anchor), asPaths(names)}, func() error {
		at, err := handle.OpenReal(anchor)
		for _, name := range names {
			if err != nil {
				return err
			}
			err = m.parent(&at, name)
		}
		if err != nil {
			return err
		}
		m.into = at
		return nil
	}, nil)
}

type parentsData struct {
	Anchor pathtext.Path   `json:"anchor"`
	Names  []pathtext.Path `json:"names"`
}

func asPaths(in []string) []pathtext.Path {
	var out []pathtext.Path
	for _, s := range in {
		out = append(out, pathtext.Path(s))
	}
	return out
}

func (m *mover) parent(at **handle.Dir, name string) error {
	up := *at
	defer up.Release()
	err := up.Mkdir(name, 0o755)
	if err != nil && !errors.Is(err, os.ErrExist) {
		return err
	}
	made := err == nil
	sub, err := up.Beneath(name)
	if err != nil {
		return err
	}
	if made && os.Geteuid() == 0 {
		err = sub.Chown(m.p.UID, m.p.GID)
	}
	if err = errors.Join(err, sub.Sync(), up.Sync()); err != nil {
		sub.Release()
		return err
	}
	*at = sub
	return nil
}

// tag writes the drive tag, or raises its counter.
func (m *mover) tag(ctx context.Context) error {
	if m.p.TagIn == "" {
		return nil
	}
	return m.act(ctx, "tag", map[string]any{"in": m.p.TagIn, "new": m.p.NewTag}, func() error {
		d, err := handle.OpenReal(string(m.p.TagIn))
		if err != nil {
			return err
		}
		defer d.Release()
		st, err := d.Self()
		if err != nil {
			return err
		}
		t, err := drive.ReadTagIn(d)
		switch {
		case missing(err):
			t = &drive.Tag{Version: 1, ID: m.p.IntoDrive.ID, Label: m.p.IntoNow.Label, Made: time.Now().UTC().Truncate(time.Second)}
		case err != nil:
			return err
		case t.ID != m.p.IntoDrive.ID:
			return &BrokenError{d.Path(), "the drive tag is another one than at inspection"}
		}
		t.Counter++
		err = drive.WriteTag(d, *t, st.UID, st.GID)
		if errors.Is(err, os.ErrPermission) && !m.p.NewTag {
			return nil // another account's tag identifies the drive for us, too
		}
		return err
	}, nil)
}

// copyAll copies, flushes, reads back, and catches up until a pass finds
// nothing changed.
func (m *mover) copyAll(ctx context.Context) error {
	if err := m.begin("copy", m.p.Files, m.p.Bytes); err != nil {
		return err
	}
	old := m.oldSpools()
	defer func() {
		for _, s := range old {
			_ = s.Close() // only read
		}
	}()
	before := int64(-1)
	for i := 1; ; i++ {
		tally, err := m.onePass(ctx, old)
		if err != nil {
			return err
		}
		for _, s := range old {
			_ = s.Close() // only read
		}
		if err := m.dropSpools(); err != nil {
			return err
		}
		old = []*transfer.Spool{m.spool}
		if i > 1 && tally.Changed == 0 {
			old = nil
			m.out.Copied.Files, m.out.Copied.Bytes = tally.Files, tally.Bytes
			return nil
		}
		// What is left has to shrink, or nobody can say when it ends.
		if i == maxPasses || i > 2 && tally.Changed >= before {
			return fmt.Errorf("%w: in pass %d still %d entries, %s among them", ErrStillChanging, i, tally.Changed, firstPath(tally))
		}
		before = tally.Changed
		if err := m.readBack(ctx, tally); err != nil {
			return err
		}
		if i == 1 {
			if err := m.begin("catch-up", tally.Files, tally.Bytes); err != nil {
				return err
			}
		}
	}
}

func firstPath(t *transfer.Tally) string {
	if len(t.ChangedPaths) == 0 {
		return "some"
	}
	return pathtext.Show(t.ChangedPaths[0])
}

func (m *mover) onePass(ctx context.Context, old []*transfer.Spool) (*transfer.Tally, error) {
	began := time.Now()
	// Stores into mapped pages show in no time stamp until they are written back.
	if err := m.from.SyncAll(); err != nil {
		return nil, err
	}
	writing, err := m.writing(ctx)
	if err != nil {
		return nil, err
	}
	m.pass++
	if m.spool, err = transfer.CreateSpool(m.run.Dir(), m.pass); err != nil {
		return nil, err
	}
	tally, err := transfer.Pass(ctx, transfer.Job{
		Source: m.from, Part: m.part, Old: old, New: m.spool, Writing: writing, Workers: m.Workers, Progress: m.Progress,
	})
	m.out.Copied.Seconds += time.Since(began).Seconds()
	if err == nil {
		err = step(ctx, fmt.Sprintf("pass-%d", m.pass))
	}
	return tally, err
}

// oldSpools opens what earlier passes of this run left, newest first.
func (m *mover) oldSpools() []*transfer.Spool {
	var out []*transfer.Spool
	for _, n := range slices.Backward(transfer.Spools(m.run.Dir())) {
		// One that can't be opened is not known: what it said is copied anew.
		if s, err := transfer.OpenSpool(m.run.Dir(), n); err == nil {
			out = append(out, s)
		}
		m.pass = max(m.pass, n)
	}
	return out
}

// dropSpools removes the spools before the one of the last whole pass.
func (m *mover) dropSpools() error {
	for _, n := range transfer.Spools(m.run.Dir()) {
		if n < m.pass {
			if err := transfer.RemoveSpool(m.run.Dir(), n); err != nil {
				return err
			}
		}
	}
	return nil
}

func (m *mover) writing(ctx context.Context) (map[string]bool, error) {
	r, err := inuse.Below(ctx, m.fromPath())
	if err != nil {
		return nil, err
	}
	out := map[string]bool{}
	for _, h := range r.Writers() {
		if rel, err := filepath.Rel(m.fromPath(), h.Path); err == nil {
			out[rel] = true
		}
	}
	return out, nil
}

// fromPath is where the copied folder stands now, as processes see it.
func (m *mover) fromPath() string {
	if p, err := os.Readlink(fmt.Sprintf("/proc/self/fd/%d", m.from.Fd())); err == nil {
		return p
	}
	return string(m.p.From)
}

// readBack flushes the copy and reads what is new in it from the device (I2).
func (m *mover) readBack(ctx context.Context, tally *transfer.Tally) error {
	if m.phase == "copy" {
		if err := m.begin("verify", tally.Files, tally.Bytes); err != nil {
			return err
		}
	}
	began := time.Now()
	if err := m.part.Dir.SyncAll(); err != nil {
		return err
	}
	got, err := transfer.Verify(ctx, m.part, m.spool, m.Workers, m.Progress)
	m.out.Verified.Seconds += time.Since(began).Seconds()
	if got != nil {
		m.out.Verified.Files += got.ReadBack
		m.out.Device = m.out.Device || got.ReadBack > 0
		m.out.Device = m.out.Device && got.FromDevice == got.ReadBack && !m.p.IntoNow.Memory && !m.p.IntoNow.Loop && !m.p.IntoNow.Fuse
		m.stranger(got.Aside)
	}
	if err != nil {
		return err
	}
	m.out.Verified.Bytes = tally.Bytes
	return step(ctx, fmt.Sprintf("verified-%d", m.pass))
}

func (m *mover) stranger(aside []string) {
	if len(aside) == 0 {
		return
	}
	m.out.Aside = append(m.out.Aside, aside...)
	path := m.into.Join(asideName(m.p.Run))
	m.out.Findings = append(m.out.Findings, finding.New(finding.Stranger, path,
		fmt.Sprintf("%d entries that Nexlin did not make lay in its part; they are in %s", len(aside), pathtext.Show(path)),
		subject(m.p.Name, "", "")).Listing(len(aside), aside))
}

// lastData reads the data of the newest act of that name, done or not.
func (m *mover) lastData(name string, out any) (bool, error) {
	acts, err := m.Ledger.Acts(m.p.Run)
	if err != nil {
		return false, err
	}
	for _, a := range slices.Backward(acts) {
		if a.Name == name {
			return true, json.Unmarshal(a.Data, out)
		}
	}
	return false, nil
}

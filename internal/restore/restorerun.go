package restore

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"io"
	"io/fs"
	"path/filepath"
	"strings"

	"nexlin/internal/drive"
	"nexlin/internal/engine"
	"nexlin/internal/execute"
	"nexlin/internal/finding"
	"nexlin/internal/handle"
	"nexlin/internal/inventory"
	"nexlin/internal/ledger"
	"nexlin/internal/manifest"
	"nexlin/internal/naming"
	"nexlin/internal/note"
	"nexlin/internal/pathtext"
	"nexlin/internal/places"
	"nexlin/internal/plan"
	"nexlin/internal/run"
	"nexlin/internal/transfer"
)

// ToRun is the plan of the run that takes a redirect into the ledger as the drive tells of
// it, detached as yet; a mend then makes the link.
func (r *Restore) ToRun() *plan.Plan {
	r.plan.Findings = r.Findings
	return r.plan
}

// Unlink takes the records of a restore out again whose link could not be
// made; why is that error. A mend that stopped half-way keeps them: it can be
// gone on with.
func Unlink(ctx context.Context, e *engine.Engine, id string, why error) error {
	var stopped *plan.StoppedError
	if errors.As(why, &stopped) {
		return nil
	}
	row, err := e.Ledger.Run(id)
	if err != nil {
		return err
	}
	_, err = execute.Undo(context.WithoutCancel(ctx), e, row)
	return err
}

// A restoring takes a redirect in as its drive tells of it.
type restoring struct{ execute.Basics }

func (m *restoring) Open() (err error) {
	if err := m.CheckDrive(m.Plan.Into, m.Plan.IntoDrive); err != nil {
		return err
	}
	m.Into, err = m.OpenReal(m.Plan.Into)
	return err
}

// Forward writes the records of a redirect from what lies on the drive.
func (m *restoring) Forward(ctx context.Context) error {
	if err := m.linkParents(ctx); err != nil {
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
	held, err := m.heldBeside()
	if err != nil {
		return err
	}
	if held != nil {
		defer held.Release()
		a, err := transfer.Adopt(ctx, transfer.Adoption{Source: held, Copy: live, Dir: m.Run.Dir(), N: 1,
			Digest: m.Plan.Digest, CopyUnstable: m.Plan.IntoUnstable(), Progress: m.Progress})
		if err != nil {
			return err
		}
		m.Spool = a.Spool
	} else if m.Spool, err = m.spoolFromDrive(ctx, live); err != nil {
		return err
	}
	if err := execute.ComposeFrozen(ctx, m.Run.Dir(), m.Spool, m.Plan.Digest); err != nil {
		return err
	}
	if err := run.Point(ctx, "records"); err != nil {
		return err
	}
	row := m.LedgerRedirect()
	row.State = ledger.Detached
	var h *ledger.Held
	if held != nil {
		if h, err = m.restoredHeld(ctx, held); err != nil {
			return err
		}
	}
	return m.Run.Set(ledger.Done, "", func(t *ledger.Tx) error {
		if err := t.SaveRedirect(row); err != nil || h == nil {
			return err
		}
		return t.AddHeld(*h)
	})
}

// linkParents makes the directories around the link that a fresh home lacks.
func (m *restoring) linkParents(ctx context.Context) error {
	dir := filepath.Dir(m.Plan.Link)
	if anchor, err := drive.Existing(dir); err != nil || anchor == dir {
		return err
	}
	made, err := m.MakeDirs(ctx, "link-parents", dir, ledger.DriveRef{})
	made.Release()
	return err
}

// heldBeside opens the original that the run which made the target holds
// beside the link, on the machine it was made on; nil if there is none.
func (m *restoring) heldBeside() (*handle.Dir, error) {
	said, err := m.noteOnDrive()
	if err != nil || said == nil || said.Run == "" || strings.ContainsAny(said.Run, "/\x00") {
		return nil, err
	}
	parent, err := m.OpenReal(filepath.Dir(m.Plan.Link))
	if err != nil {
		return nil, handle.IgnoreMissing(err)
	}
	defer parent.Release()
	name := naming.Held(filepath.Base(m.Plan.Link), said.Run)
	d, err := m.Trusted(parent.Beneath(name))
	if handle.Absent(err) {
		return nil, nil
	}
	return d, err
}

func (m *restoring) noteOnDrive() (*note.Note, error) {
	rec, err := m.Into.Beneath(drive.RecordDir)
	if err != nil {
		return nil, err
	}
	defer rec.Release()
	names, err := rec.Names()
	if err != nil {
		return nil, err
	}
	for _, n := range names {
		name, ok := strings.CutSuffix(n, ".json")
		if !ok || n == drive.TagFile {
			continue
		}
		said, err := note.Read(rec, name)
		if err == nil && said.Target == m.Plan.Final && said.State == note.Here {
			return said, nil
		}
	}
	return nil, nil
}

func (m *restoring) restoredHeld(ctx context.Context, held *handle.Dir) (*ledger.Held, error) {
	st, err := held.Self()
	if err != nil {
		return nil, err
	}
	d, err := m.Drives.Of(filepath.Dir(held.Path()))
	if err != nil {
		return nil, err
	}
	facts, err := inventory.Measure(ctx, held, inventory.Options{SkipDeep: true, Scratch: m.Run.Dir()})
	if err != nil {
		return nil, err
	}
	h := ledger.Held{
		Redirect: m.Plan.Name, Run: m.Plan.Run, Path: held.Path(), Ino: st.Ino, Bytes: facts.Allocated,
		Files: facts.Files, Drive: places.Ref(&d), Since: m.Plan.Made,
	}
	return &h, nil
}

// spoolFromDrive makes the records from the manifest on the drive, if it is
// the one that the note speaks of; else from what is at the target now.
func (m *restoring) spoolFromDrive(ctx context.Context, live *handle.Dir) (*transfer.Spool, error) {
	said, err := m.noteOnDrive()
	if err != nil {
		return nil, err
	}
	if said != nil {
		spool, err := m.spoolFromManifest(ctx, live, said)
		if err == nil || !errors.Is(err, errManifest) {
			return spool, err
		}
	}
	m.Out.Findings = append(m.Out.Findings,
		finding.New(finding.RecordLost, m.Plan.Copy(), "the manifest of %s can't be used",
			m.Plan.Copy()).Named(m.Plan.Name))
	a, err := transfer.Adopt(ctx, transfer.Adoption{Copy: live, Dir: m.Run.Dir(), N: 1, Digest: m.Plan.Digest,
		CopyUnstable: m.Plan.IntoUnstable(), Progress: m.Progress})
	return a.Spool, err
}

// errManifest reports a manifest on a drive that is not to be used.
var errManifest = errors.New("the manifest on the drive can't be used")

func (m *restoring) spoolFromManifest(ctx context.Context, live *handle.Dir, said *note.Note) (*transfer.Spool,
	error) {
	rec, err := m.Into.Beneath(drive.RecordDir)
	if err != nil {
		return nil, err
	}
	defer rec.Release()
	f, err := rec.OpenFile(said.Name + ".mtree")
	if err != nil {
		return nil, errors.Join(errManifest, err)
	}
	defer f.Close()
	sum := sha256.New()
	if _, err := io.Copy(sum, io.LimitReader(f, note.ManifestLimit)); err != nil {
		return nil, errors.Join(errManifest, err)
	}
	if hex.EncodeToString(sum.Sum(nil)) != said.Manifest {
		return nil, errManifest
	}
	in, err := rec.OpenFile(said.Name + ".mtree")
	if err != nil {
		return nil, errors.Join(errManifest, err)
	}
	defer in.Close()
	r := manifest.NewReader(in)
	spool, err := transfer.Compose(m.Run.Dir(), 1, func(put func(*transfer.Record) error) error {
		for {
			if err := ctx.Err(); err != nil {
				return err
			}
			var e manifest.Entry
			err := r.Next(&e)
			if err == io.EOF {
				return nil
			}
			if err != nil {
				return errors.Join(errManifest, err)
			}
			if e.Mode&handle.TypeMask == handle.TypeRegular && e.BLAKE3 != (m.Plan.Digest == transfer.BLAKE3) {
				return errManifest // another one than was planned with, or of two kinds
			}
			rec, err := m.recordOf(live, &e)
			if err != nil {
				return err
			}
			if err := put(rec); err != nil {
				return err
			}
		}
	})
	return spool, err
}

// recordOf makes a record of a manifest's entry and of what the target has
// there now. Its sum is not known: that takes reading the file.
func (m *restoring) recordOf(live *handle.Dir, e *manifest.Entry) (*transfer.Record, error) {
	rec := &transfer.Record{Path: e.Path, Link: e.Link, Origin: e.Was, Same: e.Same, Rdev: e.Rdev, Xattrs: e.Xattrs}
	rec.Fact = transfer.Fact{
		Flags: transfer.Copied | transfer.Verified, Digest: e.Digest,
		Source: transfer.Snap{Mode: e.Mode, UID: e.UID, GID: e.GID, Size: e.Size, Mtime: e.Mtime},
	}
	st, err := statBeneath(live, e.Path)
	if err == nil {
		rec.Fact.Copy = transfer.SnapOf(&st, e.Xattrs).On(m.Plan.IntoUnstable())
	} else if handle.Absent(err) || errors.Is(err, fs.ErrPermission) {
		err = nil // a person's work, or another account's
	}
	return rec, err
}

// statBeneath looks at an entry below a directory.
func statBeneath(d *handle.Dir, path string) (handle.Stat, error) {
	if path == "." {
		return d.Self()
	}
	dir, name, err := d.Parent(path)
	if err != nil {
		return handle.Stat{}, err
	}
	defer dir.Release()
	return dir.Stat(name)
}

// Back forgets a redirect again whose link was not made yet, or was
// taken away.
func (m *restoring) Back(context.Context) error {
	if parent, err := m.OpenReal(filepath.Dir(m.Plan.Link)); err == nil {
		defer parent.Release()
		ours, err := m.PlaceIn(parent).Says(m.Plan.LinkText)
		if err != nil {
			return err
		}
		if ours {
			return plan.Refused(finding.New(finding.KnownAlready, m.Plan.Link,
				"the link of %s is there; detach it first", m.Plan.Name).Named(m.Plan.Name).As(finding.Blocker).
				Instead("`nexlin detach " + pathtext.Quote(m.Plan.Name) + "`"))
		}
	}
	held, err := m.Ledger.HeldOf(m.Plan.Name)
	if err != nil {
		return err
	}
	return m.Run.Set(ledger.Undone, "", func(t *ledger.Tx) error {
		for _, h := range held {
			if h.Run == m.Plan.Run {
				if err := t.HeldGone(h.Run, h.Path); err != nil {
					return err
				}
			}
		}
		return t.RemoveRedirect(m.Plan.Name)
	})
}

// Restoring is the job of links that are restored.
func Restoring(m *execute.Execution) execute.Job { return &restoring{execute.Basics{Execution: m}} }

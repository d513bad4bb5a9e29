package redirect

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"io"
	"os"
	"path/filepath"
	"strings"
	"time"

	"nexlin/internal/account"
	"nexlin/internal/drive"
	"nexlin/internal/engine"
	"nexlin/internal/handle"
	"nexlin/internal/inventory"
	"nexlin/internal/ledger"
	"nexlin/internal/manifest"
	"nexlin/internal/naming"
	"nexlin/internal/note"
	"nexlin/internal/pathtext"
	"nexlin/internal/run"
	"nexlin/internal/transfer"
)

// seal composes the manifest from the spool, freezes a copy of it beside
// the ledger, writes manifest and note to the drive, and gives the part its
// last metadata. All of it is flushed: nothing after this waits for data.
func (m *copier) seal(ctx context.Context) error {
	if err := composeFrozen(m.Run.Dir(), m.spool, m.plan.Digest); err != nil {
		return err
	}
	if !m.plan.Traits().Back && !m.plan.Traits().Merges {
		if err := m.Act(ctx, "note", map[string]any{"in": m.plan.Into, "name": m.plan.Name}, func() error {
			return m.writeNotes(note.Arriving)
		}, nil); err != nil {
			return err
		}
	}
	err := m.Act(ctx, "dress", naming.Part(m.plan.Run), func() error { return m.part.Finish(m.spool, &m.plan.Allow) }, nil)
	if err != nil {
		return err
	}
	m.sealed = time.Now()
	if err := m.flush(); err != nil {
		return err
	}
	// From here on the ledger needs its room itself.
	if err := m.Run.Unreserve(); err != nil {
		return err
	}
	return run.Point(ctx, "sealed")
}

// composeFrozen writes the frozen manifest of a run, whole or not at all.
func composeFrozen(runDir string, spool *transfer.Spool, digest transfer.Digest) error {
	return handle.WriteFile(filepath.Join(runDir, engine.FrozenName), 0o600, func(w io.Writer) error {
		return compose(spool, digest, w)
	})
}

// compose writes the manifest of what a spool describes: the source as it
// was copied, with the digests that were verified.
func compose(spool *transfer.Spool, digest transfer.Digest, w io.Writer) error {
	mw := manifest.NewWriter(w)
	for c := transfer.Read(spool); c.Peek() != nil; c.Next() {
		r := c.Peek()
		s := &r.Fact.Source
		e := manifest.Entry{
			Path: r.Path, Mode: s.Mode, UID: s.UID, GID: s.GID, Mtime: s.Mtime,
			Link: r.LinkOf(transfer.Copy), Was: r.Origin, Same: r.Same, Rdev: r.Rdev, Digest: r.Fact.Digest,
		}
		if s.Mode&0o170000 == 0o100000 {
			e.Size, e.BLAKE3 = s.Size, digest == transfer.BLAKE3
		}
		for _, x := range r.Xattrs {
			if !inventory.SystemLabel(x.Name) {
				e.Xattrs = append(e.Xattrs, x)
			}
		}
		if err := mw.Write(&e); err != nil {
			return err
		}
	}
	return mw.Close()
}

// writeNotes writes note and manifest into the record directory beside the
// target.
func (m *describer) writeNotes(state string) error {
	n := note.Note{
		Name: m.plan.Name, Link: m.plan.Link, Target: m.plan.Final, Account: m.plan.Account, State: state,
		Run: m.plan.Run, Bytes: m.plan.Bytes, Files: m.plan.Files, Created: m.ledgerRedirect().Created,
	}
	return m.writeNotesFrom(m.Run.Dir(), n)
}

// writeNotesFrom writes a note, and the manifest frozen in a run's directory.
// They belong to the account that owns the target, and are readable by it
// alone where the folder's names are private.
func (m *describer) writeNotesFrom(runDir string, n note.Note) error {
	rec, err := drive.RecordIn(m.into, m.maker())
	if err != nil {
		return err
	}
	defer rec.Release()
	f, err := handle.OpenRegular(filepath.Join(runDir, engine.FrozenName))
	if err != nil {
		return err
	}
	defer f.Close()
	sum := sha256.New()
	if err := m.writeRecord(rec, n.Name+".mtree", io.TeeReader(f, sum)); err != nil {
		return err
	}
	if n.Machine, err = os.Hostname(); err != nil {
		return err
	}
	n.Version, n.Manifest, n.Made = 1, hex.EncodeToString(sum.Sum(nil)), time.Now().UTC()
	_, home, _ := account.Of(n.Account)
	n.Home = home
	return m.writeNote(rec, n)
}

func (m *describer) writeNote(rec *handle.Dir, n note.Note) error {
	b, err := pathtext.MarshalIndent(n, "  ")
	if err != nil {
		return err
	}
	return m.writeRecord(rec, n.Name+".json", strings.NewReader(string(b)+"\n"))
}

// maker says that what is put beside the target belongs to the account that
// owns the folder.
func (m *opener) maker() drive.Maker {
	return drive.Maker{Owner: m.plan.UID, Group: m.plan.GID, Scratch: naming.Scratch(m.plan.Run), Plain: m.plan.Allow.Owners}
}

func (m *describer) writeRecord(rec *handle.Dir, name string, r io.Reader) error {
	mode := uint32(0o644)
	if m.plan.Private {
		mode = 0o600
	}
	return drive.WriteRecord(rec, name, mode, m.maker(), r)
}

// renote changes the state in the note of a target that lies in dir. A note
// that is gone is left so: it is a help, not a condition.
func (m *describer) renote(dir *handle.Dir, name, state string) error {
	rec, err := dir.Beneath(drive.RecordDir)
	if handle.Missing(err) {
		return nil
	}
	if err != nil {
		return err
	}
	defer rec.Release()
	n, err := note.Read(rec, name)
	if handle.Missing(err) || errors.Is(err, note.ErrBad) {
		return nil
	}
	if err != nil {
		return err
	}
	n.State = state
	return m.writeNote(rec, *n)
}

// ledgerRedirect is the redirect as the ledger will have it after the run.
func (m *describer) ledgerRedirect() ledger.Redirect {
	r := ledger.Redirect{
		Name: m.plan.Name, State: ledger.Linked, Link: m.plan.Link, Target: m.plan.Target, Methods: m.methods(),
		Account: m.plan.Account, UID: m.plan.UID, Drive: m.plan.IntoDrive, Bytes: m.plan.Bytes, Files: m.plan.Files,
		Created: m.plan.Made, Run: m.plan.Run, Card: m.plan.Card,
	}
	if m.plan.LinkText != m.plan.Target {
		r.Text = m.plan.LinkText
	}
	if m.plan.Before != nil {
		r.Created = m.plan.Before.Created
	}
	r.LinkDrive = m.linkDriveNow()
	if m.plan.TagIn != "" {
		if t, err := drive.ReadTag(m.plan.TagIn); err == nil && t.ID == r.Drive.ID {
			r.Drive.Counter = t.Counter // as it is now: the run has raised it
		}
	}
	if m.plan.Traits().Back {
		r.State, r.Drive, r.Target = ledger.Ended, m.plan.Before.Drive, m.plan.Before.Target
		r.Text = m.plan.Before.Text
	}
	return r
}

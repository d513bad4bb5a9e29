package execute

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
	if err := ComposeFrozen(m.Run.Dir(), m.Spool, m.Plan.Digest); err != nil {
		return err
	}
	if !m.Plan.Traits().Back && !m.Plan.Traits().Merges {
		if err := m.Act(ctx, "note", map[string]any{"in": m.Plan.Into, "name": m.Plan.Name}, func() error {
			return m.WriteNotes(note.Arriving)
		}, nil); err != nil {
			return err
		}
	}
	err := m.Act(ctx, "dress", naming.Part(m.Plan.Run), func() error { return m.Part.Finish(m.Spool, &m.Plan.Allow) },
		nil)
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

// ComposeFrozen writes the frozen manifest of a run, whole or not at all.
func ComposeFrozen(runDir string, spool *transfer.Spool, digest transfer.Digest) error {
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

// WriteNotes writes note and manifest into the record directory beside the
// target.
func (m *describer) WriteNotes(state string) error {
	n := note.Note{
		Name: m.Plan.Name, Link: m.Plan.Link, Target: m.Plan.Final, Account: m.Plan.Account, State: state,
		Run: m.Plan.Run, Bytes: m.Out.Contents.Bytes, Files: m.Out.Contents.Files, Created: m.LedgerRedirect().Created,
	}
	return m.WriteNotesFrom(m.Run.Dir(), n)
}

// WriteNotesFrom writes a note, and the manifest frozen in a run's directory.
// They belong to the account that owns the target, and are readable by it
// alone where the folder's names are private.
func (m *describer) WriteNotesFrom(runDir string, n note.Note) error {
	rec, err := drive.RecordIn(m.Into, m.Maker())
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

// Maker says that what is put beside the target belongs to the account that
// owns the folder.
func (m *opener) Maker() drive.Maker {
	return drive.Maker{Owner: m.Plan.UID, Group: m.Plan.GID, Scratch: naming.Scratch(m.Plan.Run),
		Plain: m.Plan.Allow.Owners}
}

func (m *describer) writeRecord(rec *handle.Dir, name string, r io.Reader) error {
	mode := uint32(0o644)
	if m.Plan.Private {
		mode = 0o600
	}
	return drive.WriteRecord(rec, name, mode, m.Maker(), r)
}

// Renote changes the state in the note of a target that lies in dir. A note
// that is gone is left so: it is a help, not a condition.
func (m *describer) Renote(dir *handle.Dir, name, state string) error {
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

// LedgerRedirect is the redirect as the ledger will have it after the run.
func (m *describer) LedgerRedirect() ledger.Redirect {
	r := ledger.Redirect{
		Name: m.Plan.Name, State: ledger.Linked, Link: m.Plan.Link, Target: m.Plan.Target, Methods: m.methods(),
		Account: m.Plan.Account, UID: m.Plan.UID, Drive: m.Plan.IntoDrive, Bytes: m.Out.Contents.Bytes,
		Files: m.Out.Contents.Files, Created: m.Plan.Made, Run: m.Plan.Run, Card: m.Plan.Card,
	}
	if m.Plan.LinkText != m.Plan.Target {
		r.Text = m.Plan.LinkText
	}
	if m.Plan.Before != nil {
		r.Created = m.Plan.Before.Created
	}
	r.LinkDrive = m.linkDriveNow()
	if m.Plan.TagIn != "" {
		if t, err := drive.ReadTag(m.Plan.TagIn); err == nil && t.ID == r.Drive.ID {
			r.Drive.Counter = t.Counter // as it is now: the run has raised it
		}
	}
	if m.Plan.Traits().Back {
		r.State, r.Drive, r.Target = ledger.Ended, m.Plan.Before.Drive, m.Plan.Before.Target
		r.Text = m.Plan.Before.Text
	}
	return r
}

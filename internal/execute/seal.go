package execute

import (
	"context"
	"errors"
	"io"
	"os"
	"strings"
	"time"

	"nexlin/internal/account"
	"nexlin/internal/drive"
	"nexlin/internal/handle"
	"nexlin/internal/ledger"
	"nexlin/internal/naming"
	"nexlin/internal/note"
	"nexlin/internal/pathtext"
	"nexlin/internal/run"
)

// seal composes the manifest from the spool, freezes a copy of it beside
// the ledger, gives the part its last metadata, and writes manifest and note to the
// drive: the while that this takes, [copier.restCopy] need not wait any more. All of it is
// flushed: nothing after this waits for data.
func (m *copier) seal(ctx context.Context) (err error) {
	if m.frozen == nil {
		if m.frozen, err = composeFrozen(ctx, m.Run.Dir(), m.Spool, m.Plan.Digest); err != nil {
			return err
		}
	}
	err = m.Act(ctx, "dress", naming.Part(m.Plan.Run), func() error { return m.Part.Finish(m.Spool, &m.Plan.Allow) },
		nil)
	if err != nil {
		return err
	}
	m.sealed = time.Now()
	if !m.Plan.Traits().Back && !m.Plan.Traits().Merges {
		if err := m.Act(ctx, "note", map[string]any{"in": m.Plan.Into, "name": m.Plan.Name}, func() error {
			return m.WriteNotes(note.Arriving)
		}, nil); err != nil {
			return err
		}
	}
	if err := m.flush(); err != nil {
		return err
	}
	// From here on the ledger needs its room itself.
	if err := m.Run.Unreserve(); err != nil {
		return err
	}
	return run.Point(ctx, "sealed")
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
	if n.Manifest, err = m.writeManifest(rec, n.Name+".mtree", runDir); err != nil {
		return err
	}
	if n.Machine, err = os.Hostname(); err != nil {
		return err
	}
	n.Version, n.Made = 1, time.Now().UTC()
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

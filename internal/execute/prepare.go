package execute

import (
	"context"
	"errors"
	"os"
	"strings"
	"time"

	"nexlin/internal/drive"
	"nexlin/internal/handle"
	"nexlin/internal/ledger"
	"nexlin/internal/naming"
	"nexlin/internal/plan"
	"nexlin/internal/preflight"
	"nexlin/internal/swap"
	"nexlin/internal/transfer"
)

// prepare makes everything that the copy needs around it.
func (m *copier) prepare(ctx context.Context, at plan.Position) error {
	if at == plan.Placed {
		if err := m.unplace(ctx); err != nil {
			return err
		}
	}
	if err := m.unaside(ctx); err != nil {
		return err
	}
	if err := m.Run.Reserve(preflight.LedgerRoom); err != nil {
		return err
	}
	if m.Plan.Traits().Merges && m.Into == nil {
		return swap.Broken(m.Plan.Into, "the directory around the target is not there")
	}
	if err := m.Parents(ctx); err != nil {
		return err
	}
	if !m.Plan.Traits().Back {
		if err := m.Tag(ctx); err != nil {
			return err
		}
	}
	return m.preparePart(ctx)
}

// preparePart makes the part, or finds it again.
func (m *copier) preparePart(ctx context.Context) error {
	kind := m.Job.(copyJob)
	again, err := kind.FindPart()
	if err != nil {
		return err
	}
	var known Placement
	before, err := m.Last("part-made", &known)
	if err != nil {
		return err
	}
	// Without inode numbers the journal has to do for knowing the part again.
	allow := m.Plan.Allow
	allow.Owners = allow.Owners || m.Plan.IntoUnstable() && before
	err = m.Act(ctx, "part", naming.Part(m.Plan.Run), func() error {
		part, err := transfer.OpenPart(m.Into, naming.Part(m.Plan.Run), naming.Strangers(m.Plan.Run), known.Ino, &allow)
		if err != nil {
			return err
		}
		m.Part = part
		if m.taking() {
			part.Lender = m.lender
		}
		return part.Dir.Lock(true)
	}, nil)
	if err == nil && again {
		err = kind.StartOver(ctx)
	}
	if err != nil {
		return err
	}
	st, err := m.Part.Dir.Self()
	if err != nil {
		return err
	}
	made := m.placementOf(&st)
	if before && made.Ino == known.Ino { // an undo that was stopped may have taken it away
		return nil
	}
	return m.Act(ctx, "part-made", made, func() error { return nil }, nil)
}

// Parents makes the directories on the way to the target, each owned like
// the folder, and journals which.
func (m *copier) Parents(ctx context.Context) error {
	if m.Into != nil {
		return nil
	}
	var err error
	m.Into, err = m.MakeDirs(ctx, "parents", m.Plan.Into, m.Plan.IntoDrive)
	return err
}

// MakeDirs makes a directory and what is missing on the way to it, each owned
// like the folder, and opens it. The act of that name says which were made. They
// are made on that drive, see [opener.OpenOn].
func (m *opener) MakeDirs(ctx context.Context, act, dir string, on ledger.DriveRef) (at *handle.Dir, err error) {
	anchor, err := drive.Existing(dir)
	if err != nil {
		return nil, err
	}
	names := strings.FieldsFunc(strings.TrimPrefix(dir, anchor),
		func(r rune) bool { return r < 0x80 && os.IsPathSeparator(uint8(r)) })
	err = m.Act(ctx, act, ParentsData{anchor, names}, func() error {
		up, err := m.OpenOn(anchor, on)
		for _, name := range names {
			if err != nil {
				return err
			}
			err = m.parent(&up, name)
		}
		if err == nil {
			at = up
		}
		return err
	}, nil)
	return at, err
}

type ParentsData struct {
	Anchor string   `json:"anchor"`
	Names  []string `json:"names"`
}

func (m *opener) parent(at **handle.Dir, name string) error {
	up := *at
	defer up.Release()
	sub, err := up.MkdirFor(name, 0o755, m.Plan.UID, m.Plan.GID, naming.Scratch(m.Plan.Run), m.Plan.Allow.Owners)
	if errors.Is(err, os.ErrExist) {
		sub, err = m.Trusted(up.Beneath(name)) // not the administrator's, put there meanwhile
	}
	if err != nil {
		return err
	}
	if err = handle.Flushed(sub.Sync(), up); err != nil {
		sub.Release()
		return err
	}
	*at = sub
	return nil
}

// OpenForTag opens the directory that a drive tag lies in, on its drive, and says for whom
// the tag is made: whoever owns that directory. Errors: those of [opener.OpenOn].
func (m *opener) OpenForTag(place string, on ledger.DriveRef) (*handle.Dir, drive.Maker, error) {
	by := m.Maker()
	d, err := m.OpenOn(place, on)
	if err != nil {
		return nil, by, err
	}
	st, err := d.Self()
	if err != nil {
		d.Release()
		return nil, by, err
	}
	by.Owner, by.Group = st.UID, st.GID
	return d, by, nil
}

// Tag writes the drive tag, or raises its counter.
func (m *copier) Tag(ctx context.Context) error {
	if m.Plan.TagIn == "" {
		return nil
	}
	again, err := m.Last("tag", new(map[string]any))
	if err != nil {
		return err
	}
	return m.Act(ctx, "tag", map[string]any{"in": m.Plan.TagIn, "new": m.Plan.NewTag}, func() error {
		d, by, err := m.OpenForTag(m.Plan.TagIn, m.Plan.IntoDrive)
		if err != nil {
			return err
		}
		defer d.Release()
		err = drive.ChangeTag(d, by, func(now *drive.Tag) (*drive.Tag, error) {
			if now == nil {
				now = &drive.Tag{Version: 1, ID: m.Plan.IntoDrive.ID, Label: m.Plan.IntoNow.Label,
					Made: time.Now().UTC().Truncate(time.Second)}
			} else if err := m.knownTag(now); err != nil {
				return nil, err
			} else if again || m.Plan.TagMade {
				return nil, nil // it counts runs, and counted this one before it was stopped
			}
			now.Counter++
			return now, nil
		})
		if !errors.Is(err, os.ErrPermission) || m.Plan.NewTag {
			return err
		}
		// Another account's tag identifies the drive for us, too.
		now, err := drive.ReadTagIn(d)
		if err == nil {
			err = m.knownTag(now)
		}
		return err
	}, nil)
}

// knownTag wants the tag that is there to be the one of the plan. Where there
// was none at inspection, another run has made one meanwhile: it is the drive's.
func (m *copier) knownTag(t *drive.Tag) error {
	if t.ID == m.Plan.IntoDrive.ID {
		return nil
	}
	if !m.Plan.NewTag {
		return swap.Broken(m.Plan.TagIn, "the drive tag is another one than at inspection")
	}
	m.Plan.IntoDrive.ID, m.Plan.NewTag = t.ID, false
	return m.Run.SetPlan(m.Plan)
}

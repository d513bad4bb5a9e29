package handover

import (
	"context"
	"encoding/json"
	"fmt"

	"nexlin/internal/archive"
	"nexlin/internal/handle"
	"nexlin/internal/pathtext"
	"nexlin/internal/plan"
)

// What an engine says of its archive is not believed: before a store is signed
// off, its names and contents are held against the archive, and after it was
// carried in, the new one's are. An archive of a kind that can't be read here has
// the card's own command that verifies it.

// A CarriedError reports a store that the engine has carried in otherwise than it
// stands in the archive.
type CarriedError struct {
	Store, Place string
	Archive      string // which has all of it
	Lost         int64  // files and links that are not there
	Other        int64  // that are there with other content
	First        string // the first of these, relative to the store; may be empty
}

func (e *CarriedError) Error() string {
	what := fmt.Sprintf("%d files of the archive are missing at %s", e.Lost, pathtext.Show(e.Place))
	if e.Other > 0 {
		what = fmt.Sprintf("%d files at %s have other content than in the archive, %s among them", e.Other,
			pathtext.Show(e.Place), pathtext.Show(e.First))
	}
	return fmt.Sprintf("the engine has not carried %s in whole: %s; the archive is kept at %s",
		pathtext.Show(e.Store), what, pathtext.Show(e.Archive))
}

// comparedData is the journal's word about an archive that was held against a
// store: how many files and links of it the store did not have.
type comparedData struct {
	More int64 `json:"more"` // notCompared if it was older than the store
}

const notCompared = -1

// compareStore holds a store against the archive of one way. known is false where
// that can't be done.
func (m *handingOver) compareStore(ctx context.Context, way, place string) (h archive.Holding, known bool, err error) {
	f, err := m.HeldIn.OpenFile(m.archiveName(way))
	if err != nil {
		return h, false, err
	}
	defer f.Close()
	x, known, err := archive.IndexOf(ctx, f, m.Run.Dir())
	if err != nil || !known {
		return h, known, err
	}
	defer x.Close()
	root, err := m.OpenReal(place)
	if err != nil {
		return h, true, err
	}
	defer root.Release()
	h, err = x.Compare(ctx, root)
	return h, true, err
}

// carryOuts is how often a store that changes is carried out before the run says
// that it does not come to rest.
const carryOuts = 3

// carryOutWhole carries the store out, and holds it against the archive directly
// before it is signed off: what was written since is carried out again.
func (m *handingOver) carryOutWhole(ctx context.Context, way, from string) error {
	var last archive.Holding
	for range carryOuts {
		if err := m.carryOut(ctx, way, from); err != nil {
			return err
		}
		if err := m.Begin("sign off", 0, 0); err != nil {
			return err
		}
		h, known, err := m.compareStore(ctx, way, from)
		if err != nil {
			return err
		}
		if !known {
			return nil // the card's command has verified it
		}
		var before comparedData
		compared, err := m.Last("compared-out"+way, &before)
		if err != nil {
			return err
		}
		if h.Lacks == 0 && (!compared || before.More == notCompared || before.More == h.More) {
			return m.Act(ctx, "compared-out"+way, comparedData{h.More}, func() error { return nil }, nil)
		}
		last = h
		// It is older than the store.
		if err := m.Act(ctx, "compared-out"+way, comparedData{notCompared}, func() error {
			return handle.IgnoreMissing(m.HeldIn.Unlink(m.archiveName(way)))
		}, nil); err != nil {
			return err
		}
	}
	if last.First == "" {
		return fmt.Errorf("%w: what the engine carries out of %s is never what is in it", plan.ErrStillChanging,
			pathtext.Show(m.Plan.Store.Store))
	}
	return &archive.DamageError{Path: last.First, What: "the engine's archive does not have it as the store has it"}
}

// carriedWhole holds the new store against the archive that it was made from.
func (m *handingOver) carriedWhole(ctx context.Context, way, place string) error {
	var out comparedData
	if known, err := m.Last("compared-out"+way, &out); err != nil || !known {
		return err // of a kind that only the card's command verifies
	}
	h, known, err := m.compareStore(ctx, way, place)
	if err != nil || !known {
		return err
	}
	// What the archive had beside the old store is the engine's own.
	if lost := h.More - out.More; lost > 0 || h.Changed > 0 {
		return &CarriedError{Store: m.Plan.Store.Store, Place: place, Archive: m.archivePath(way), Lost: max(lost, 0),
			Other: h.Changed, First: h.First}
	}
	return m.Act(ctx, "compared-in"+way, comparedData{h.More}, func() error { return nil }, nil)
}

// carriedBefore is for a store that is at its new place already: if that was not
// held against the archive when the run was stopped, it is now.
func (m *handingOver) carriedBefore(ctx context.Context, way, place string) error {
	done, err := m.Last("compared-in"+way, new(json.RawMessage))
	if err != nil || done || m.HeldIn == nil {
		return err
	}
	if _, err := m.HeldIn.Stat(m.archiveName(way)); err != nil {
		return handle.IgnoreMissing(err) // this run has carried nothing there
	}
	return m.carriedWhole(ctx, way, place)
}

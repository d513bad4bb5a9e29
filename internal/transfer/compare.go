package transfer

import (
	"context"
	"errors"
	"hash/maphash"

	"nexlin/internal/handle"
	"nexlin/internal/inventory"
)

// A Side says which snaps of a spool a folder is held against.
type Side int

// Source is the folder that was copied, Copy the target as it was made.
const (
	Source Side = iota
	Copy
)

// Other is the side across.
func (s Side) Other() Side { return Copy - s }

// Of gives the snap of one side.
func (f *Fact) Of(s Side) *Snap {
	if s == Copy {
		return &f.Copy
	}
	return &f.Source
}

// A Difference is one entry that is not as a spool has it. Now is nil if it
// is gone, Was is nil if it is new; both are valid during the call.
type Difference struct {
	Path string
	Was  *Record
	Now  *inventory.Entry
}

// Match walks a folder and a spool side by side and calls visit for every
// entry that either has, in the one order: rec is nil for what only the
// folder has, now for what only the spool has. Both are valid during the
// call; of an entry that both have, the attributes are not read yet. Nothing
// is read but metadata.
func Match(ctx context.Context, root *handle.Dir, spool *Spool,
	visit func(rec *Record, now *inventory.Entry) error) error {
	h := &matcher{cur: Read(spool), visit: visit}
	if err := inventory.Walk(ctx, root, h); err != nil {
		return err
	}
	return h.cur.Rest(h.gone)
}

// Differences is [Match] for the entries that are not as the spool has them
// on one side. A directory whose own times tell of a change below it is one,
// too, and so is a file that was recorded so soon after a change that its times
// could not tell of another one.
func Differences(ctx context.Context, root *handle.Dir, side Side, spool *Spool, visit func(Difference) error) error {
	return Match(ctx, root, spool, func(rec *Record, now *inventory.Entry) error {
		if rec != nil && now != nil {
			if side == Source && rec.sureOf(now) {
				return nil
			}
			if err := now.ReadXattrs(); errors.Is(err, inventory.ErrGone) {
				return visit(Difference{Path: rec.Path, Was: rec})
			} else if err != nil {
				return err
			}
			was := rec.Fact.Of(side)
			is := SnapOf(&now.Stat, now.Xattrs)
			same := was.Unchanged
			if side == Copy {
				same = was.Still
			}
			if same(&is, now.Depth == 0) && rec.LinkOf(side) == now.Link && !rec.young(side) {
				return nil
			}
		} else if now != nil {
			if err := now.ReadXattrs(); err != nil {
				return err // gone: the walk never met it
			}
		}
		return visit(Difference{Path: pathOf(rec, now), Was: rec, Now: now})
	})
}

// pathOf is the path of what [Match] tells of, which one of the two has.
func pathOf(rec *Record, now *inventory.Entry) string {
	if rec != nil {
		return rec.Path
	}
	return now.Path
}

// young reports a file of which the record alone can't say that it is unchanged.
func (r *Record) young(side Side) bool {
	return side == Source && r.IsRegular() && r.Fact.Flags&(Copied|Recent) == Copied|Recent
}

// SameNames reports whether a directory holds the names that the spool has at
// the top of the folder, and no others. Nothing below them is looked at.
func (s *Spool) SameNames(dir *handle.Dir) (bool, error) {
	seed := maphash.MakeSeed()
	var recorded, found uint64 // sums of the names' hashes: the order does not matter
	for c := Read(s); c.Peek() != nil; c.Next() {
		if r := c.Peek(); r.Depth == 1 {
			recorded += maphash.String(seed, r.Path)
		}
	}
	err := dir.EachStat(func(name []byte, _ *handle.Stat, err error) error {
		found += maphash.Bytes(seed, name)
		return err
	})
	return recorded == found, err
}

type matcher struct {
	cur   *Cursor
	visit func(*Record, *inventory.Entry) error
}

func (h *matcher) gone(r *Record) error { return h.visit(r, nil) }

// Visit implements [inventory.Visitor].
func (h *matcher) Visit(e *inventory.Entry) (bool, error) {
	rec, err := h.cur.To(e.Path, h.gone)
	if err != nil {
		return false, err
	}
	return true, h.visit(rec, e)
}

// Leave implements [inventory.Visitor].
func (h *matcher) Leave(*inventory.Entry) error { return nil }

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
			switch same, err := rec.still(side, now); {
			case errors.Is(err, inventory.ErrGone):
				return visit(Difference{Path: rec.Path, Was: rec})
			case err != nil || same && !rec.young(side):
				return err
			}
		} else if now != nil {
			if err := now.ReadXattrs(); err != nil {
				return err // gone: the walk never met it
			}
		}
		return visit(Difference{Path: pathOf(rec, now), Was: rec, Now: now})
	})
}

// still reports whether an entry is as the record has it on one side, as far as its metadata
// and its link text tell. Its attributes are read for that, unless its stat alone says so.
// [inventory.ErrGone] if it went meanwhile.
func (r *Record) still(side Side, now *inventory.Entry) (bool, error) {
	if side == Source && r.sureOf(now) {
		return true, nil
	}
	if err := now.ReadXattrs(); err != nil {
		return false, err
	}
	same := r.Fact.Of(side).Unchanged
	if side == Copy {
		same = r.Fact.Of(side).Still
	}
	is := SnapOf(&now.Stat, now.Xattrs)
	return same(&is, now.Depth == 0) && r.LinkOf(side) == now.Link, nil
}

var errMoved = errors.New("it is not as the last pass found it")

// AtRest reports whether the source is as the last pass found it, whose spool is the job's New,
// and whether that pass left nothing to a further one: then that would find nothing. Nothing
// is read but metadata, so files that programs may write to are the caller's concern. It may
// run beside [Verify]; a record that is being written just then counts as unknown, and the
// answer is no. Errors: of the walk, of ctx.
func AtRest(ctx context.Context, j *Job) (bool, error) {
	err := Match(ctx, j.Source, j.New, func(rec *Record, now *inventory.Entry) error {
		if rec == nil || now == nil || rec.Fact.Flags&(Copied|Again|Recent) != Copied {
			return errMoved
		}
		same, err := rec.still(Source, now)
		if err == nil && !same {
			err = errMoved
		}
		return err
	})
	if errors.Is(err, errMoved) || errors.Is(err, inventory.ErrGone) {
		return false, nil
	}
	return err == nil, err
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

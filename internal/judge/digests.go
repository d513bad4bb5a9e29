package judge

import (
	"context"
	"errors"
	"fmt"

	"nexlin/internal/engine"
	"nexlin/internal/finding"
	"nexlin/internal/handle"
	"nexlin/internal/ledger"
	"nexlin/internal/pathtext"
	"nexlin/internal/plan"
	"nexlin/internal/transfer"
)

// A ChangedError reports files at a target that are not as the manifest has them.
type ChangedError struct {
	Name  string // of the redirect
	N     int
	First string // path of the first of them, relative to the target
}

func (e *ChangedError) Error() string {
	return fmt.Sprintf("of the files at the target of %s, %s not as the manifest has it, and left out of the list: %s "+
		"is the first", pathtext.Show(e.Name), pathtext.Plural(e.N, "is", "are"), pathtext.Show(e.First))
}

// EachDigest calls f for every regular file of a redirect's manifest, in its order, with its
// digest of that kind. Where the manifest has the other kind, every file is read at the target,
// held against the manifest, and its digest taken then; what is not as the manifest has it is
// left out. Errors: a *[ChangedError] at the end if anything was, a *[plan.RefusedError] where
// the drive is not here, those of f.
func EachDigest(ctx context.Context, e *engine.Engine, r ledger.Redirect, kind transfer.Digest,
	f func(path string, digest [32]byte) error) error {
	err := e.EachFile(r, kind, f)
	if !errors.Is(err, engine.ErrOtherDigest) {
		return err
	}
	w, err := e.Whereabouts(r.Drive, r.Target)
	if err != nil {
		return err
	}
	if !w.Found {
		return plan.Refused(e.Absence(&w, r.Name, r.Drive, r.Target).As(finding.Blocker))
	}
	target, err := handle.OpenReal(w.Path(r.Drive, r.Target))
	if err != nil {
		return err
	}
	defer target.Release()
	has := transfer.SHA256
	if kind == has {
		has = transfer.BLAKE3
	}
	known, wanted := transfer.NewDigester(has), transfer.NewDigester(kind)
	changed := &ChangedError{Name: r.Name}
	err = e.EachFile(r, has, func(path string, digest [32]byte) error {
		if err := ctx.Err(); err != nil {
			return err
		}
		same, err := both(ctx, target, path, digest, known, wanted)
		switch {
		case err != nil:
			return err
		case same:
			return f(path, wanted.Digest())
		case changed.N == 0:
			changed.First = path
		}
		changed.N++
		return nil
	})
	if err == nil && changed.N > 0 {
		return changed
	}
	return err
}

// both takes two digests of a file, and reports whether the first is the one that is known of it.
func both(ctx context.Context, target *handle.Dir, path string, digest [32]byte,
	known, wanted *transfer.Reader) (bool, error) {
	file, err := target.OpenBeneath(path)
	if handle.Absent(err) || handle.Replaced(err) {
		return false, nil
	}
	if err != nil {
		return false, err
	}
	defer file.Close()
	before, err := file.Stat()
	if err != nil || !before.IsRegular() {
		return false, err
	}
	if _, err := known.Sum(ctx, file, before.Size); err != nil || known.Digest() != digest {
		return false, err
	}
	if _, err := wanted.Sum(ctx, file, before.Size); err != nil {
		return false, err
	}
	after, err := file.Stat()
	return after == before, err // what is written meanwhile has neither
}

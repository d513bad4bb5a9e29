package execute

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"io"
	"path/filepath"

	"nexlin/internal/engine"
	"nexlin/internal/handle"
	"nexlin/internal/inventory"
	"nexlin/internal/manifest"
	"nexlin/internal/transfer"
)

// A frozen is the manifest in the run's own directory, as this process composed it.
type frozen struct {
	as  transfer.Snap // the file
	sum string        // SHA-256 of its content, in hexadecimal digits
}

// A noted is a manifest that this process wrote to the drive.
type noted struct {
	from, as transfer.Snap // what it was written from; the file there
	sum      string
}

// ComposeFrozen writes the frozen manifest of a run, whole or not at all.
func ComposeFrozen(ctx context.Context, runDir string, spool *transfer.Spool, digest transfer.Digest) error {
	_, err := composeFrozen(ctx, runDir, spool, digest)
	return err
}

func composeFrozen(ctx context.Context, runDir string, spool *transfer.Spool, digest transfer.Digest) (*frozen, error) {
	path, h := filepath.Join(runDir, engine.FrozenName), sha256.New()
	err := handle.WriteFile(path, 0o600, func(w io.Writer) error {
		return compose(ctx, runDir, spool, digest, io.MultiWriter(w, h))
	})
	if err != nil {
		return nil, err
	}
	st, err := handle.Lstat(path)
	return &frozen{transfer.SnapOf(&st, nil), hex.EncodeToString(h.Sum(nil))}, err
}

// compose writes the manifest of what a spool describes: the source as it
// was copied, with the digests that were verified.
// An entry of which nothing is recorded is a *[transfer.SpoolError].
func compose(ctx context.Context, runDir string, spool *transfer.Spool, digest transfer.Digest, w io.Writer) error {
	mw := manifest.NewWriter(w)
	for c := transfer.Read(spool); c.Peek() != nil; c.Next() {
		r := c.Peek()
		if err := ctx.Err(); err != nil {
			return err
		}
		if r.Fact.Flags == 0 {
			return &transfer.SpoolError{File: runDir, Err: fmt.Errorf("nothing is recorded of %q", r.Path)}
		}
		s := &r.Fact.Source
		e := manifest.Entry{
			Path: r.Path, Mode: s.Mode, UID: s.UID, GID: s.GID, Mtime: s.Mtime,
			Link: r.LinkOf(transfer.Copy), Was: r.Origin, Same: r.Same, Rdev: r.Rdev, Digest: r.Fact.Digest,
		}
		if r.IsRegular() {
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

// writeManifest writes the manifest frozen in a run's directory to the drive, and gives its
// sum. What this process wrote there already, and stands there still, is not written again.
func (m *describer) writeManifest(rec *handle.Dir, name, runDir string) (sum string, err error) {
	path := filepath.Join(runDir, engine.FrozenName)
	f, err := handle.OpenRegular(path)
	if err != nil {
		return "", err
	}
	defer f.Close()
	st, err := handle.Lstat(path)
	if err != nil {
		return "", err
	}
	from := transfer.SnapOf(&st, nil)
	there, err := rec.Stat(name)
	if err == nil && m.noted != nil && m.noted.from == from && m.noted.as == transfer.SnapOf(&there, nil) {
		return m.noted.sum, nil
	}
	m.noted = nil
	if m.frozen != nil && m.frozen.as == from {
		sum, err = m.frozen.sum, m.writeRecord(rec, name, f)
	} else {
		h := sha256.New()
		err = m.writeRecord(rec, name, io.TeeReader(f, h))
		sum = hex.EncodeToString(h.Sum(nil))
	}
	if err != nil {
		return "", err
	}
	if there, err = rec.Stat(name); err == nil {
		m.noted = &noted{from, transfer.SnapOf(&there, nil), sum}
	}
	return sum, err
}

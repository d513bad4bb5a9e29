package engine

import (
	"errors"
	"fmt"
	"io"
	"path/filepath"

	"nexlin/internal/handle"
	"nexlin/internal/ledger"
	"nexlin/internal/manifest"
	"nexlin/internal/pathtext"
	"nexlin/internal/transfer"
)

// OpenManifest opens the manifest of a redirect's data as it was frozen at
// the last switch. The caller closes it.
func (e *Engine) OpenManifest(r ledger.Redirect) (io.ReadCloser, error) {
	f, err := handle.OpenRegular(filepath.Join(e.Ledger.RunDir(r.Run), FrozenName))
	if err != nil {
		return nil, fmt.Errorf("the manifest of %s: %w", pathtext.Show(r.Name), err)
	}
	return f, nil
}

// ErrOtherDigest reports a manifest with another digest than was asked for.
var ErrOtherDigest = errors.New("the manifest has another digest")

// EachFile calls f for every regular file of that manifest, in its order,
// with its digest of that kind. ErrOtherDigest if it has another one.
func (e *Engine) EachFile(r ledger.Redirect, kind transfer.Digest, f func(path string, digest [32]byte) error) error {
	in, err := e.OpenManifest(r)
	if err != nil {
		return err
	}
	defer in.Close()
	m := manifest.NewReader(in)
	for {
		var entry manifest.Entry
		switch err := m.Next(&entry); {
		case err == io.EOF:
			return nil
		case err != nil:
			return err
		}
		if entry.Mode&handle.TypeMask != handle.TypeRegular {
			continue
		}
		if entry.BLAKE3 != (kind == transfer.BLAKE3) {
			return ErrOtherDigest
		}
		if err := f(entry.Path, entry.Digest); err != nil {
			return err
		}
	}
}

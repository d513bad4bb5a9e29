package redirect

import (
	"fmt"
	"io"
	"os"
	"path/filepath"

	"golang.org/x/sys/unix"

	"nexlin/internal/ledger"
	"nexlin/internal/manifest"
	"nexlin/internal/pathtext"
)

// OpenManifest opens the manifest of a redirect's data as it was frozen at
// the last switch. The caller closes it.
func (e *Engine) OpenManifest(r ledger.Redirect) (io.ReadCloser, error) {
	f, err := os.Open(filepath.Join(e.Ledger.RunDir(r.Run), frozenName))
	if err != nil {
		return nil, fmt.Errorf("the manifest of %s: %w", pathtext.Show(r.Name), err)
	}
	return f, nil
}

// EachFile calls f for every regular file of that manifest, in its order.
func (e *Engine) EachFile(r ledger.Redirect, f func(path string, digest [32]byte) error) error {
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
		if entry.Mode&unix.S_IFMT != unix.S_IFREG {
			continue
		}
		if err := f(entry.Path, entry.Digest); err != nil {
			return err
		}
	}
}

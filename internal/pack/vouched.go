package pack

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"io"
	"os"
	"path/filepath"
	"slices"

	"nexlin/internal/account"
	"nexlin/internal/archive"
	"nexlin/internal/handle"
	"nexlin/internal/naming"
	"nexlin/internal/swap"
)

// limitFor says what an archive may have made; nil: all that is in it. An
// administrator vouches for one that is his own, and whoever packed it for one
// with a digest in his ledger. From any other come no programs that run with
// somebody's rights, no devices and no attributes that need rights; to an
// administrator it gives what belongs to the account that owns it, and nothing
// else. Where the ledger vouches, what is unpacked has to have that digest, too.
func (m *packing) limitFor(ctx context.Context, in *handle.File) (limit *archive.Limit, digest string, err error) {
	st, err := in.Stat()
	if err != nil {
		return nil, "", err
	}
	root := os.Geteuid() == 0
	if root && st.AdministratorsAlone() {
		return nil, "", nil
	}
	known, err := m.Ledger.PackDigests(st.Size)
	if err != nil {
		return nil, "", err
	}
	if len(known) > 0 {
		sum := sha256.New()
		if _, err := io.Copy(sum, &withContext{ctx, io.NewSectionReader(in, 0, st.Size)}); err != nil {
			return nil, "", err
		}
		if digest = hex.EncodeToString(sum.Sum(nil)); slices.Contains(known, digest) {
			return nil, digest, nil
		}
	}
	limit = &archive.Limit{Own: naming.IsOwn}
	if root {
		limit.Owned, limit.UID, limit.GID = true, st.UID, account.Group(st.UID)
	}
	return limit, "", nil
}

// openArchive opens the archive that is to be unpacked, which is a regular file.
func (m *packing) openArchive() (*handle.File, error) {
	path, err := handle.Real(m.Plan.From)
	if err != nil {
		return nil, err
	}
	dir, err := handle.Open(filepath.Dir(path))
	if err != nil {
		return nil, err
	}
	defer dir.Release()
	f, err := dir.OpenFile(filepath.Base(path))
	if err != nil {
		return nil, err
	}
	st, err := f.Stat()
	if err == nil && !st.IsRegular() {
		err = swap.Broken(path, "it is no file any more")
	}
	if err != nil {
		return nil, errors.Join(err, f.Close())
	}
	return f, nil
}

// withContext ends a long reading with its context.
type withContext struct {
	ctx context.Context
	io.Reader
}

func (r *withContext) Read(b []byte) (int, error) {
	if err := r.ctx.Err(); err != nil {
		return 0, err
	}
	return r.Reader.Read(b)
}

// Package published tells accounts what an administrator has redirected for them: a file for
// each, which that account alone can read. It is told, and nothing is done by it: an
// administrator never reads it back.
package published

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strconv"
	"strings"

	"nexlin/internal/handle"
	"nexlin/internal/ledger"
	"nexlin/internal/pathtext"
)

// Dir is where they lie, unless a test says otherwise.
const Dir = "/var/lib/nexlin-published"

// limit bounds what is read of a file, in bytes.
const limit = 8 << 20

// A document is one account's file.
type document struct {
	Version   int               `json:"nexlin_published"`
	Redirects []ledger.Redirect `json:"redirects"`
}

// Write publishes redirects to the accounts that they belong to, but for the
// administrator's own, and takes away what there was for accounts that have none any more.
// Files that would not change are left.
func Write(dir string, all []ledger.Redirect) error {
	by := map[uint32][]ledger.Redirect{}
	for _, r := range all {
		if r.UID != 0 {
			by[r.UID] = append(by[r.UID], r)
		}
	}
	if _, err := os.Stat(dir); errors.Is(err, fs.ErrNotExist) && len(by) == 0 {
		return nil
	}
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return err
	}
	if err := checkDir(dir); err != nil {
		return err
	}
	names, err := os.ReadDir(dir)
	if err != nil {
		return err
	}
	for _, n := range names {
		uid, err := strconv.ParseUint(strings.TrimSuffix(n.Name(), ".json"), 10, 32)
		if err == nil && by[uint32(uid)] == nil {
			if err := os.Remove(filepath.Join(dir, n.Name())); err != nil {
				return err
			}
		}
	}
	for uid, rs := range by {
		if err := write(dir, uid, rs); err != nil {
			return err
		}
	}
	return nil
}

// file is that of an account.
func file(dir string, uid uint32) string {
	return filepath.Join(dir, strconv.FormatUint(uint64(uid), 10)+".json")
}

func write(dir string, uid uint32, rs []ledger.Redirect) error {
	text, err := pathtext.Marshal(document{1, rs})
	if err != nil {
		return err
	}
	at := file(dir, uid)
	st, err := handle.Lstat(at)
	if was, rerr := handle.ReadRegular(at, limit); err == nil && rerr == nil && st.UID == uid &&
		bytes.Equal(was, text) {
		return nil
	}
	if err := handle.WriteFile(at, 0o400, func(w io.Writer) error {
		_, err := w.Write(text)
		return err
	}); err != nil {
		return err
	}
	// Nobody else can write in dir, so that it is this file that is given.
	return os.Lchown(at, int(uid), -1)
}

// checkDir wants a directory that the administrator alone can write in.
func checkDir(dir string) error {
	st, err := handle.Lstat(dir)
	if err != nil {
		return err
	}
	if !st.IsDir() || !st.AdministratorsAlone() {
		return fmt.Errorf("%s is not the administrator's alone", pathtext.Show(dir))
	}
	return nil
}

// Read gives what was published to an account; nothing, where nothing was.
func Read(dir string, uid uint32) ([]ledger.Redirect, error) {
	text, err := handle.ReadRegular(file(dir, uid), limit)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	if err := checkDir(dir); err != nil {
		return nil, err
	}
	var d document
	if err := pathtext.Unmarshal(text, &d); err != nil {
		return nil, fmt.Errorf("%s can't be read: %w", pathtext.Show(file(dir, uid)), err)
	}
	return d.Redirects, nil
}

package redirect

import (
	"errors"
	"path/filepath"

	"github.com/dustin/go-humanize"

	"nexlin/internal/drive"
	"nexlin/internal/ledger"
)

// Locate finds out whether the drive of a redirect is here, and where it is
// mounted. path is where the data is expected. A drive is known again by its
// tag; where it has none, by the UUID of its file system (safety: any
// mismatch is doubtful, and doubtful is not found).
func (e *Engine) Locate(want ledger.DriveRef, path string) (mount string, found bool, err error) {
	at, err := drive.Existing(path)
	if err == nil {
		d, err := e.Drives.Of(at)
		ours := false
		if err == nil {
			ours, err = matches(&d, want)
		}
		if ours {
			return d.Mount, true, nil
		}
		if err != nil && !errors.Is(err, drive.ErrNoDrive) {
			return "", false, err
		}
	}
	all, err := e.Drives.List(e.Drives.File == "")
	if err != nil {
		return "", false, err
	}
	for i := range all {
		// One that can't be read is another one's trouble.
		if ours, err := matches(&all[i], want); ours && err == nil {
			return all[i].Mount, true, nil
		}
	}
	return "", false, nil
}

func matches(d *drive.Drive, want ledger.DriveRef) (bool, error) {
	if d.UUID != want.UUID {
		return false, nil
	}
	if want.ID == "" && want.UUID == "" {
		// A drive without any identity is only ever one that data was moved off
		// (a target gets a tag): it is the one at its place.
		return d.Mount == string(want.Mount), nil
	}
	tag, err := drive.ReadTag(filepath.Join(d.Mount, string(want.TagPlace)))
	if err == nil {
		return tag.ID == want.ID, nil
	}
	if !noTag(err) && !errors.Is(err, drive.ErrTag) {
		return false, err
	}
	// Without a tag the UUID alone has to do, and none is no identity.
	return missing(err) && want.UUID != "" && want.UUID == d.UUID, nil
}

// size writes bytes the way people read them, IEC.
func size(n int64) string { return humanize.IBytes(uint64(max(n, 0))) }

package accounts

import (
	"errors"
	"os"
	"path/filepath"
	"slices"

	"nexlin/internal/finding"
	"nexlin/internal/handle"
	"nexlin/internal/pathtext"
	"nexlin/internal/plan"
	"nexlin/internal/strict"
)

// Read reads an accounts file. Where an administrator does, nobody else may be able to write
// it, or a directory on the way to it: who writes it decides what is done with an
// administrator's rights (I6). The error is a *[plan.RefusedError] then, and a
// *[strict.MistakeError] about what it says.
func Read(path string) (*File, error) {
	return read(path, os.Geteuid() == 0)
}

// Understand reads an accounts file that nothing is done by; errors are those of [Read].
func Understand(path string) (*File, error) { return read(path, false) }

func read(path string, trusted bool) (*File, error) {
	path, err := filepath.Abs(path)
	if err != nil {
		return nil, err
	}
	real, err := handle.Real(path)
	if handle.Missing(err) {
		return nil, plan.Refused(finding.New(finding.SourceMissing, path, "there is no accounts file at %s", path).
			Instead("`nexlin accounts example` prints one"))
	}
	if err != nil {
		return nil, err
	}
	if trusted {
		for _, at := range slices.Concat(wayTo(path), wayTo(real)) {
			if err := administrators(at); err != nil {
				return nil, err
			}
		}
	}
	data, err := handle.ReadRegular(real, FileLimit)
	if errors.Is(err, handle.ErrNotFile) || errors.Is(err, handle.ErrTooLarge) {
		return nil, &strict.MistakeError{File: path, What: "it is no file, or too large for an accounts file"}
	}
	if err != nil {
		return nil, err
	}
	return Parse(path, data)
}

// wayTo is a path and every directory above it.
func wayTo(path string) (out []string) {
	for at := path; ; at = filepath.Dir(at) {
		out = append(out, at)
		if pathtext.IsRoot(at) {
			return out
		}
	}
}

// administrators wants an entry to be the administrator's, and to be written by nobody else.
func administrators(path string) error {
	st, err := handle.Lstat(path)
	if err != nil {
		return err
	}
	if st.AdministratorsAlone() || st.UID == 0 && st.IsSymlink() {
		return nil
	}
	return plan.Refused(finding.New(finding.OthersHands, path, "%s can be written by another account", path).
		As(finding.Blocker).Instead("put the accounts file where the administrator alone may write, such as " +
		"/etc/nexlin, or take that right away from the others"))
}

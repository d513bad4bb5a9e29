package execute

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"time"

	"nexlin/internal/drive"
	"nexlin/internal/handle"
	"nexlin/internal/ledger"
	"nexlin/internal/plan"
)

// probeName is the beginning of the name of a probe file.
const probeName = ".nexlin-probe-"

// A TrialError says how the proof through both paths failed.
type TrialError struct {
	Path string
	What string
	Err  error // may be nil
}

func (e *TrialError) Error() string {
	if e.Err != nil {
		return fmt.Sprintf("%s: %s: %v", e.Path, e.What, handle.Cause(e.Err))
	}
	return fmt.Sprintf("%s: %s", e.Path, e.What)
}
func (e *TrialError) Unwrap() error { return e.Err }

// probeNames are the names of the two probe files of one trial.
func probeNames() [2]string { return [2]string{probeName + drive.NewID(), probeName + drive.NewID()} }

// Try proves that programs are led to the directory target, that of the
// redirect r, the way people prove it: a file saved through the link, or where
// settings alone lead through the target's path, shows up at the target, and
// the other way round. The probe files are taken away and the directory's times
// put back. Where this account may not write, it is only looked at that both
// are one directory. byBytes says that the link is a junction which this system
// can't follow: what it says was compared, and no file was saved through it.
//
// The error is a *TrialError.
func Try(r ledger.Redirect, target *handle.Dir) (byBytes bool, err error) {
	via := r.Target
	if !plan.Linkless(r.Methods) {
		at, err := handle.OpenReal(filepath.Dir(r.Link))
		if err != nil {
			return false, &TrialError{r.Link, "it can't be reached", err}
		}
		defer at.Release()
		if via, byBytes, err = way(at, filepath.Base(r.Link), r.LinkText(), target); err != nil {
			return byBytes, err
		}
	}
	if target.Trusted() != nil {
		return byBytes, lookThrough(via, target)
	}
	names, err := checkNames(target)
	if err != nil {
		return byBytes, &TrialError{target.Path(), "it can't be looked at", err}
	}
	return byBytes, try(via, target, names)
}

// probeTakes is longer than a probe stands there.
const probeTakes = time.Minute

// checkNames are the names of the probes of a check: always the same, so that the
// next one clears what one that was killed has left. While another check is at
// work they are others.
func checkNames(target *handle.Dir) ([2]string, error) {
	names := [2]string{probeName + "check-1", probeName + "check-2"}
	for _, n := range names {
		st, err := target.Stat(n)
		switch {
		case handle.Missing(err):
		case err != nil:
			return names, err
		case time.Since(st.Mtime.Std()) < probeTakes:
			return probeNames(), nil
		default:
			if err := dropProbe(target, n); err != nil && !errors.Is(err, fs.ErrPermission) {
				return names, err
			}
			if _, err := target.Stat(n); err == nil {
				return probeNames(), nil // something else bears the name
			}
		}
	}
	return names, nil
}

// lookThrough wants a path to lead to the directory target, and makes nothing.
func lookThrough(path string, target *handle.Dir) error {
	via, _, err := through(path, target)
	via.Release()
	return err
}

// through opens the path, which has to lead to the directory target. The handle is nil with
// an error. now is what the target has.
func through(path string, target *handle.Dir) (via *handle.Dir, now handle.Stat, err error) {
	if via, err = handle.Open(path); err != nil {
		return nil, now, &TrialError{path, "it can't be opened as a folder", err}
	}
	led, err := via.Self()
	if err != nil {
		err = &TrialError{path, "it can't be looked at", err}
	} else if now, err = target.Self(); err != nil {
		err = &TrialError{target.Path(), "it can't be looked at", err}
	} else if !led.SameInode(&now) {
		err = &TrialError{path, "it leads to another folder than " + target.Path(), nil}
	}
	if err != nil {
		via.Release()
		via = nil
	}
	return via, now, err
}

func try(path string, target *handle.Dir, names [2]string) (err error) {
	via, b, err := through(path, target)
	if err != nil {
		return err
	}
	defer via.Release()
	if target.Access(".", handle.MayWrite|handle.MayEnter) != nil {
		return nil
	}
	defer func() {
		if e := target.SetTimes(b.Atime, b.Mtime); e != nil && !errors.Is(e, fs.ErrPermission) && err == nil {
			err = &TrialError{target.Path(), "its times can't be put back", e}
		}
	}()
	if err := probe(names[0], via, target); err != nil {
		return err
	}
	return probe(names[1], target, via)
}

// dropProbe removes a probe file that a trial had to leave behind. Its name
// is nobody else's; what is no probe under it stays.
func dropProbe(dir *handle.Dir, name string) error {
	st, err := dir.Stat(name)
	if handle.Missing(err) {
		return nil
	}
	if err != nil || !st.IsRegular() || st.UID != uint32(os.Geteuid()) || st.Size > int64(len(name)) {
		return err
	}
	return dir.Unlink(name)
}

// probe saves a file through one directory handle and looks for it through
// the other.
func probe(name string, save, see *handle.Dir) (err error) {
	f, err := save.Create(name, 0o600)
	if err != nil {
		return &TrialError{save.Path(), "no test file can be saved", err}
	}
	defer func() {
		if see.Unlink(name) == nil {
			return
		}
		if e := save.Unlink(name); e != nil && err == nil {
			err = &TrialError{see.Path(), "the test file " + name + " can't be removed", e}
		}
	}()
	_, err = f.WriteString(name)
	if err = errors.Join(err, f.Close()); err != nil {
		return &TrialError{save.Path(), "the test file can't be written", err}
	}
	got, err := see.OpenFile(name)
	if err != nil {
		return &TrialError{see.Path(), "a test file saved through " + save.Path() + " does not show up", err}
	}
	defer got.Close()
	buf := make([]byte, len(name)+1)
	if n, _ := got.Read(buf); string(buf[:n]) != name {
		return &TrialError{see.Path(), "the test file reads back different", os.ErrInvalid}
	}
	return nil
}

package standin

import (
	"errors"
	"os"
	"path/filepath"
	"strings"

	"golang.org/x/sys/unix"
)

// BuildReal makes the scene on loop-mounted ext4 file systems: it needs an
// administrator, and mkfs.ext4 and mount. Close takes the mounts away, also
// after an error here.
func BuildReal(dir string, amount Amount) (s *Scene, err error) {
	if err := emptyDir(dir); err != nil {
		return nil, err
	}
	s = &Scene{Dir: dir, State: filepath.Join(dir, "state"), places: map[string]string{}}
	defer func() {
		if err != nil {
			_ = s.Close() // the first error is the one to tell
		}
	}()
	// A trial in a folder tells how large the small drive must be.
	trial := filepath.Join(dir, "trial")
	if err := s.furnish(trial, amount); err != nil {
		return s, err
	}
	used, err := bytesIn(trial)
	if err == nil {
		err = os.RemoveAll(trial)
	}
	if err != nil {
		return s, err
	}
	mib := used>>20 + 1
	for label, size := range map[string]int64{"SKERRY": mib*5/4 + 12, "BASALT": mib*6 + 24, "DUNE": mib*3 + 24} {
		if err := s.mount(label, size); err != nil {
			return s, err
		}
	}
	skerry := filepath.Join(dir, "skerry")
	if err := s.furnish(skerry, amount); err != nil {
		return s, err
	}
	return s, fill(filepath.Join(skerry, "swap"), used/24+1<<20)
}

// fill takes the rest of a drive, so that it is as full as the story says.
func fill(path string, leave int64) error {
	f, err := os.OpenFile(path, os.O_CREATE|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	var st unix.Statfs_t
	if err = unix.Fstatfs(int(f.Fd()), &st); err == nil {
		err = unix.Fallocate(int(f.Fd()), 0, 0, int64(st.Bavail)*st.Frsize-leave)
	}
	return errors.Join(err, f.Close())
}

func (s *Scene) mount(label string, mib int64) error {
	img, at := filepath.Join(s.Dir, strings.ToLower(label)+".img"), filepath.Join(s.Dir, strings.ToLower(label))
	f, err := os.Create(img)
	if err != nil {
		return err
	}
	if err := f.Truncate(mib << 20); err != nil {
		f.Close()
		return err
	}
	if err := f.Close(); err != nil {
		return err
	}
	if err := os.Mkdir(at, 0o755); err != nil {
		return err
	}
	if err := tool("mkfs.ext4", "-q", "-F", "-m", "0", "-L", label, "-U", driveIDs[label], img); err != nil {
		return err
	}
	if err := tool("mount", "-o", "loop", img, at); err != nil {
		return err
	}
	s.places[label] = at
	return nil
}

//go:build linux

// Package lab is the drive lab of the tests: real file systems in files,
// prints of whole trees to compare, and the built program. It shares no code
// with what it tests.
package lab

import (
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"
)

// Skip skips a test and notes it where `make test` counts what was skipped.
func Skip(t testing.TB, why string) {
	t.Helper()
	if file := os.Getenv("NEXLIN_SKIPS"); file != "" {
		if f, err := os.OpenFile(file, os.O_APPEND|os.O_CREATE|os.O_WRONLY, 0o644); err == nil {
			fmt.Fprintf(f, "%s: %s\n", t.Name(), why)
			f.Close()
		}
	}
	t.Skip(why)
}

// Root skips a test that needs an administrator.
func Root(t testing.TB) {
	t.Helper()
	if os.Geteuid() != 0 {
		Skip(t, "mounting drives needs root")
	}
}

// Run runs a command of the system's and fails the test if it fails.
func Run(t testing.TB, name string, args ...string) string {
	t.Helper()
	out, err := exec.Command(name, args...).CombinedOutput()
	if err != nil {
		t.Fatalf("%s %s: %v\n%s", name, strings.Join(args, " "), err, out)
	}
	return string(out)
}

// Drive makes a file system of a kind (ext4, xfs, btrfs) in a file of some
// MiB and mounts it; the file is reached as the mount point's path with .img.
// Mount and loop go away with the test, by their own path.
func Drive(t testing.TB, kind, label string, mib int64, mkfs ...string) string {
	t.Helper()
	Root(t)
	if _, err := exec.LookPath("mkfs." + kind); err != nil {
		Skip(t, "mkfs."+kind+" is not installed")
	}
	dir := t.TempDir()
	img, at := filepath.Join(Scratch(t), label+".img"), filepath.Join(dir, label)
	if err := errors.Join(os.WriteFile(img, nil, 0o600), os.Truncate(img, mib<<20),
		os.Symlink(img, at+".img")); err != nil {
		t.Fatal(err)
	}
	args := append([]string{"-q", "-L", label}, mkfs...)
	if kind == "ext4" {
		args = append(args, "-F", "-m", "0")
	}
	Run(t, "mkfs."+kind, append(args, img)...)
	if err := os.Mkdir(at, 0o755); err != nil {
		t.Fatal(err)
	}
	Mount(t, at, "-o", "loop", img)
	Open(t, dir)
	return at
}

// FuseDrive makes an NTFS or exFAT file system in a file of some MiB and
// mounts it through FUSE. remount plugs it out and in again.
func FuseDrive(t testing.TB, kind, label string, mib int64) (at string, remount func()) {
	t.Helper()
	Root(t)
	mount := map[string]string{"ntfs": "ntfs-3g", "exfat": "mount.exfat-fuse"}[kind]
	for _, tool := range []string{"mkfs." + kind, mount, "losetup"} {
		if _, err := exec.LookPath(tool); err != nil {
			Skip(t, tool+" is not installed")
		}
	}
	img := filepath.Join(Scratch(t), label+".img")
	at = filepath.Join(t.TempDir(), label)
	if err := errors.Join(os.WriteFile(img, nil, 0o600), os.Truncate(img, mib<<20), os.Mkdir(at, 0o755)); err != nil {
		t.Fatal(err)
	}
	args := []string{"-L", label, img}
	if kind == "ntfs" {
		args = append([]string{"-q", "-F"}, args...)
	}
	Run(t, "mkfs."+kind, args...)
	loop := strings.TrimSpace(Run(t, "losetup", "-f", "--show", img))
	t.Cleanup(func() { Run(t, "losetup", "-d", loop) })
	Run(t, mount, loop, at)
	t.Cleanup(func() {
		if out, err := exec.Command("umount", at).CombinedOutput(); err != nil {
			Run(t, "umount", "-l", at)
			t.Logf("umount %s: %v %s", at, err, out)
		}
	})
	return at, func() {
		t.Helper()
		Unmount(t, at)
		Run(t, mount, loop, at)
	}
}

// Unmount unmounts. It tries again for a while when the drive is busy: every Nexlin
// that looks at the drives, of other tests too, has each of them open for a moment.
func Unmount(t testing.TB, at string) {
	t.Helper()
	for end := time.Now().Add(10 * time.Second); ; time.Sleep(50 * time.Millisecond) {
		out, err := exec.Command("umount", at).CombinedOutput()
		if err == nil {
			return
		}
		if time.Now().After(end) {
			t.Fatalf("umount %s: %v %s", at, err, out)
		}
	}
}

// Mount mounts, and unmounts with the test or when the function it returns
// is called, once.
func Mount(t testing.TB, at string, args ...string) (unmount func()) {
	t.Helper()
	Run(t, "mount", append(args, at)...)
	unmount = sync.OnceFunc(func() {
		if out, err := exec.Command("umount", at).CombinedOutput(); err != nil {
			// A process of a failed test may still be there; the mount must not stay.
			if out2, err2 := exec.Command("umount", "-l", at).CombinedOutput(); err2 != nil {
				t.Errorf("umount %s: %v %s; %v %s", at, err, out, err2, out2)
			}
		}
	})
	t.Cleanup(unmount)
	return unmount
}

var builds built

// built is what has been built for the tests, by name, in a directory of its own.
type built struct {
	sync.Mutex
	done map[string]string
	dir  string
}

// begin makes the directory, once.
func (b *built) begin() error {
	if b.dir != "" {
		return nil
	}
	dir, err := os.MkdirTemp("", "nexlin-built-")
	if err != nil {
		return err
	}
	b.dir, b.done = dir, map[string]string{}
	// An ordinary account has to be able to run it, too.
	return os.Chmod(dir, 0o755)
}

// Program builds the program once for each set of build tags and returns
// its path. With the race detector on in the tests, or NEXLIN_TEST_RACE set, it is
// on in the program.
func Program(tags string) (string, error) {
	return build(tags, raceOn || os.Getenv("NEXLIN_TEST_RACE") != "")
}

// PlainProgram is [Program] without the race detector, which takes longer to
// start than most commands to end.
func PlainProgram(tags string) (string, error) { return build(tags, false) }

func build(tags string, race bool) (string, error) {
	builds.Lock()
	defer builds.Unlock()
	name := "nexlin" + tags
	if race {
		name += "-race"
	}
	if p, ok := builds.done[name]; ok {
		return p, nil
	}
	if dir := os.Getenv("NEXLIN_TEST_BUILT"); dir != "" { // it was built for several tests
		if p := filepath.Join(dir, name, "nexlin"); Exists(p) {
			return p, nil
		}
	}
	if err := builds.begin(); err != nil {
		return "", err
	}
	path := filepath.Join(builds.dir, name, "nexlin")
	args := []string{"build", "-o", path}
	if race {
		args = append(args, "-race")
	}
	if tags != "" {
		args = append(args, "-tags", tags)
	}
	cmd := exec.Command("go", append(args, "nexlin/cmd/nexlin")...)
	cmd.Env = append(os.Environ(), "CGO_ENABLED=0")
	if race {
		cmd.Env = append(os.Environ(), "CGO_ENABLED=1")
	}
	if out, err := cmd.CombinedOutput(); err != nil {
		return "", fmt.Errorf("go build: %w\n%s", err, out)
	}
	builds.done[name] = path
	return path, nil
}

// CleanPrograms removes what Program built.
func CleanPrograms() {
	if builds.dir != "" {
		os.RemoveAll(builds.dir)
	}
}

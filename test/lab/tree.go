//go:build linux

package lab

import (
	"bytes"
	"crypto/sha256"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"sort"
	"strings"
	"testing"

	"golang.org/x/sys/unix"
)

// Print writes down every entry of a folder: type, mode, owner, size,
// modification time to the nanosecond, link text, device number, extended
// attributes with access lists, digest, holes, and which names are one file.
func Print(t testing.TB, dir string) string {
	t.Helper()
	p, err := PrintTree(dir)
	if err != nil {
		t.Fatal(err)
	}
	return p
}

// Changes lists the lines of two prints that are in one of them only, each
// with its side; nil if they are equal.
func Changes(before, after string) (out []string) {
	count := map[string]int{}
	for _, line := range strings.Split(before, "\n") {
		count[line]++
	}
	for _, line := range strings.Split(after, "\n") {
		if count[line]--; count[line] < 0 {
			out = append(out, "now "+line)
		}
	}
	for line, n := range count {
		if n > 0 {
			out = append(out, "was "+line)
		}
	}
	sort.Strings(out)
	return out
}

// PrintTree is [Print] outside a test. What a FUSE driver keeps of a file that was deleted while it is open is
// left out: it goes by itself.
func PrintTree(dir string) (string, error) {
	var b strings.Builder
	first := map[[2]uint64]string{}
	err := filepath.WalkDir(dir, func(path string, _ fs.DirEntry, err error) error {
		if err != nil || strings.HasPrefix(filepath.Base(path), ".fuse_hidden") {
			return err
		}
		rel, err := filepath.Rel(dir, path)
		if err != nil {
			return err
		}
		line, err := printEntry(path, rel, first)
		b.WriteString(line + "\n")
		return err
	})
	return b.String(), err
}

func printEntry(path, rel string, first map[[2]uint64]string) (string, error) {
	var st unix.Stat_t
	if err := unix.Lstat(path, &st); err != nil {
		return "", err
	}
	line := fmt.Sprintf("%q %06o %d:%d %d.%09d", rel, st.Mode, st.Uid, st.Gid, st.Mtim.Sec, st.Mtim.Nsec)
	switch st.Mode & unix.S_IFMT {
	case unix.S_IFREG:
		content, err := os.ReadFile(path)
		if err != nil {
			return "", err
		}
		line += fmt.Sprintf(" %d %x", st.Size, sha256.Sum256(content))
		if st.Size >= 64<<10 && st.Blocks*512 < st.Size/2 {
			line += " with holes"
		}
	case unix.S_IFLNK:
		text, err := os.Readlink(path)
		if err != nil {
			return "", err
		}
		line += fmt.Sprintf(" -> %q", text)
	case unix.S_IFCHR, unix.S_IFBLK:
		line += fmt.Sprintf(" device %d:%d", unix.Major(st.Rdev), unix.Minor(st.Rdev))
	}
	if st.Mode&unix.S_IFMT != unix.S_IFDIR && st.Nlink > 1 {
		key := [2]uint64{uint64(st.Dev), st.Ino}
		if first[key] == "" {
			first[key] = rel
		}
		line += fmt.Sprintf(" same as %q", first[key])
	}
	xattrs, err := printXattrs(path)
	return line + xattrs, err
}

func printXattrs(path string) (string, error) {
	buf := make([]byte, 64<<10)
	n, err := unix.Llistxattr(path, buf)
	if err == unix.ENOTSUP {
		return "", nil
	}
	if err != nil {
		return "", err
	}
	var out []string
	for _, name := range bytes.Split(bytes.TrimSuffix(buf[:n], []byte{0}), []byte{0}) {
		if len(name) == 0 || bytes.HasPrefix(name, []byte("trusted.SGI_ACL_")) {
			continue // XFS shows its ACLs a second time under this name
		}
		value := make([]byte, 64<<10)
		k, err := unix.Lgetxattr(path, string(name), value)
		if err != nil {
			return "", err
		}
		out = append(out, fmt.Sprintf(" %s=%q", name, value[:k]))
	}
	sort.Strings(out)
	return strings.Join(out, ""), nil
}

// A Tree describes a folder, one entry a line, in the order they are made:
//
//	"dir/"            a directory
//	"file: content"   a regular file
//	"name => text"    a symbolic link
//
// Everything gets a time of its own in the past, to the nanosecond.
type Tree []string

// Make makes the tree below dir.
func (tr Tree) Make(t testing.TB, dir string) {
	t.Helper()
	if err := os.MkdirAll(dir, 0o755); err != nil {
		t.Fatal(err)
	}
	for _, line := range tr {
		var err error
		if name, ok := strings.CutSuffix(line, "/"); ok {
			err = os.MkdirAll(filepath.Join(dir, name), 0o755)
		} else if name, text, ok := strings.Cut(line, " => "); ok {
			err = os.Symlink(text, filepath.Join(dir, name))
		} else if name, content, ok := strings.Cut(line, ": "); ok {
			if err = os.MkdirAll(filepath.Dir(filepath.Join(dir, name)), 0o755); err == nil {
				err = os.WriteFile(filepath.Join(dir, name), []byte(content), 0o644)
			}
		} else {
			t.Fatalf("not a line of a tree: %q", line)
		}
		if err != nil {
			t.Fatal(err)
		}
	}
	if err := AgeTree(dir); err != nil {
		t.Fatal(err)
	}
}

// AgeTree gives every entry a modification time of its own, long ago.
func AgeTree(dir string) error {
	var paths []string
	err := filepath.WalkDir(dir, func(path string, _ fs.DirEntry, err error) error {
		paths = append(paths, path)
		return err
	})
	if err != nil {
		return err
	}
	for i := len(paths) - 1; i >= 0; i-- {
		ts := []unix.Timespec{{Sec: 1750000000, Nsec: 1},
			{Sec: 1750000000 + int64(i)*61, Nsec: int64(100000007*(i+1)) % 1e9}}
		if err := unix.UtimesNanoAt(unix.AT_FDCWD, paths[i], ts, unix.AT_SYMLINK_NOFOLLOW); err != nil {
			return err
		}
	}
	return nil
}

// Allocated is how many bytes of blocks a file takes.
func Allocated(t testing.TB, path string) int64 {
	t.Helper()
	var st unix.Stat_t
	if err := unix.Lstat(path, &st); err != nil {
		t.Fatal(err)
	}
	return st.Blocks * 512
}

// Exists reports whether something stands at path.
func Exists(path string) bool {
	_, err := os.Lstat(path)
	return err == nil
}

package drive

import (
	"bufio"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strings"

	"nexlin/internal/handle"
)

// A line of fstab(5).
type fstabLine struct {
	source, mount string
	options       []string
}

// fstabLines reads a file in the format of fstab(5); one that can't be read
// has none.
func fstabLines(file string) []fstabLine {
	f, err := os.Open(file)
	if err != nil {
		return nil
	}
	defer f.Close()
	return parseFstab(f)
}

// Blanks stand in fstab(5) as numbers.
var (
	fstabPlain = strings.NewReplacer(`\040`, " ", `\011`, "\t", `\134`, `\`)
	fstabField = strings.NewReplacer(`\`, `\134`, " ", `\040`, "\t", `\011`)
)

// parseFstab reads lines of fstab(5); those that are none are passed over.
func parseFstab(r io.Reader) []fstabLine {
	var out []fstabLine
	for s := bufio.NewScanner(r); s.Scan(); {
		w := strings.Fields(s.Text())
		if len(w) < 3 || strings.HasPrefix(w[0], "#") {
			continue
		}
		l := fstabLine{source: fstabPlain.Replace(w[0]), mount: fstabPlain.Replace(w[1])}
		if len(w) > 3 {
			l.options = strings.Split(w[3], ",")
		}
		out = append(out, l)
	}
	return out
}

// Expected gives the mount point in fstab(5) that path lies below although
// nothing is mounted there: data written there would land on the wrong
// drive (I5). Empty if all is well.
func Expected(path, fstab string, mounted func(string) bool) string {
	for _, l := range fstabLines(fstab) {
		at := l.mount
		if at != "/" && at != "none" && (path == at || strings.HasPrefix(path, at+"/")) && !mounted(at) {
			return at
		}
	}
	return ""
}

// Unmounted is [Expected] for this machine.
func Unmounted(path string) string {
	return Expected(path, "/etc/fstab", Mounted)
}

// Mounted reports whether another file system is mounted at path.
func Mounted(path string) bool {
	here, err := handle.Lstat(path)
	return err == nil && here.MountRoot
}

// A Start says what mounts a drive after the machine was started.
type Start int

// What there is. StartUnknown is for drives that nothing can be said of.
const (
	StartUnknown Start = iota
	StartAlways        // the system itself
	StartLogin         // a desktop, once somebody has logged in
	StartNever         // nobody
)

// AtStart finds out what mounts the drive at the next start: a line in the
// fstab(5) below the directory etc, a mount unit (systemd.mount(5)) there that
// is wanted by something, or a desktop's place for what is plugged in.
func (d *Drive) AtStart(etc string) Start {
	if runtime.GOOS != "linux" { // the others mount what they know by themselves
		return StartUnknown
	}
	if d.Standin || d.Memory || d.Network || d.System() || d.Fuse && !strings.HasPrefix(d.Source, "/dev/") {
		return StartUnknown
	}
	for _, l := range fstabLines(filepath.Join(etc, "fstab")) {
		if l.mount == d.Mount && d.named(l.source) {
			if slices.Contains(l.options, "noauto") && !slices.Contains(l.options, "x-systemd.automount") {
				return StartNever
			}
			return StartAlways
		}
	}
	if d.unit(filepath.Join(etc, "systemd/system")) {
		return StartAlways
	}
	if strings.HasPrefix(d.Mount, "/run/media/") || strings.HasPrefix(d.Mount, "/media/") {
		return StartLogin
	}
	return StartNever
}

// unit reports whether something wants a mount unit of the drive's.
func (d *Drive) unit(dir string) bool {
	for _, pattern := range []string{"*.wants/*.mount", "*.requires/*.mount", "*.wants/*.automount"} {
		units, _ := filepath.Glob(filepath.Join(dir, pattern)) // the pattern is whole
		for _, u := range units {
			b, err := os.ReadFile(u)
			if err != nil {
				continue
			}
			for line := range strings.SplitSeq(string(b), "\n") {
				key, value, ok := strings.Cut(line, "=")
				if ok && strings.TrimSpace(key) == "Where" && filepath.Clean(strings.TrimSpace(value)) == d.Mount {
					return true
				}
			}
		}
	}
	return false
}

// named reports whether the source of a line in fstab(5) means this drive.
// What it can't tell, it takes for it.
func (d *Drive) named(source string) bool {
	key, value, ok := strings.Cut(source, "=")
	value = strings.Trim(value, `"`)
	switch {
	case ok && key == "UUID":
		return strings.EqualFold(value, d.UUID)
	case ok && key == "LABEL":
		return value == d.Label
	}
	return true
}

// FstabLine is a line for fstab(5) that has the drive mounted where it is, and the start go on
// without it. What is behind FUSE is found out at each mount, so its helper is taken that is
// installed then; a file system without owners belongs to whom it belongs now.
func (d *Drive) FstabLine() string {
	source, options, pass := d.Source, "defaults,nofail", 0
	if d.UUID != "" {
		source = "UUID=" + d.UUID
	}
	fs := d.FS
	if d.Fuse {
		fs = "auto"
	}
	if slices.Contains([]string{"ext2", "ext3", "ext4"}, d.fileSystem()) {
		pass = 2 // the others have no fsck(8) to run at the start
	}
	if d.ForWindows() {
		if st, err := handle.Lstat(d.Mount); err == nil {
			options += fmt.Sprintf(",uid=%d,gid=%d", st.UID, st.GID)
		}
	}
	return fmt.Sprintf("%s %s %s %s 0 %d", source,
		fstabField.Replace(d.Mount), fs, options, pass)
}

// ErrUnseen reports a mount point that can't be looked at below the drive
// that is mounted there: that takes an administrator.
var ErrUnseen = errors.New("what lies below a mount can't be seen by this account")

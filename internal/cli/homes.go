package cli

import (
	"bufio"
	"os"
	"path/filepath"
	"runtime"
	"strconv"
	"strings"

	"nexlin/internal/handle"
)

// homes lists the home directories of this machine's accounts (passwd(5))
// and the one of whoever runs this: none of them may be moved.
func homes(own string) []string {
	var out []string
	if own != "" {
		out = append(out, own)
		if real, err := handle.Real(own); err == nil && real != own {
			out = append(out, real)
		}
	}
	if runtime.GOOS != "linux" {
		return append(out, beside(own)...)
	}
	for _, a := range accounts() {
		out = append(out, a.home)
	}
	return out
}

// An account is a line of passwd(5).
type account struct {
	name     string
	uid, gid uint32
	home     string // absolute and clean
}

// accounts lists the accounts of this machine that have a home.
func accounts() (out []account) {
	f, err := os.Open("/etc/passwd")
	if err != nil {
		return nil
	}
	defer f.Close()
	lines := bufio.NewScanner(f)
	for lines.Scan() {
		w := strings.Split(lines.Text(), ":")
		if len(w) < 6 || !filepath.IsAbs(w[5]) {
			continue
		}
		uid, err := strconv.ParseUint(w[2], 10, 32)
		if err != nil {
			continue
		}
		gid, err := strconv.ParseUint(w[3], 10, 32)
		if err == nil {
			out = append(out, account{w[0], uint32(uid), uint32(gid), filepath.Clean(w[5])})
		}
	}
	return out
}

// beside lists the directories that lie where one's own home does: C:\Users or
// /Users has one for each account.
func beside(own string) (out []string) {
	all, err := os.ReadDir(filepath.Dir(own))
	if err != nil || own == "" {
		return nil
	}
	for _, e := range all {
		if e.IsDir() {
			out = append(out, filepath.Join(filepath.Dir(own), e.Name()))
		}
	}
	return out
}

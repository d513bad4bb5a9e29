package inuse

import (
	"bytes"
	"context"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
)

// Called lists the processes of an account whose command or program has one
// of the names; of all accounts if any is set. This process is left out.
func Called(ctx context.Context, names []string, uid uint32, any bool) ([]Holder, error) {
	var out []Holder
	err := eachProcess(ctx, func(pid int, dir string) {
		fi, err := os.Stat(dir)
		if err != nil {
			return // it has ended
		}
		if st, ok := fi.Sys().(*syscall.Stat_t); !ok || !any && st.Uid != uid {
			return
		}
		comm, err := os.ReadFile(dir + "/comm")
		if err != nil {
			return
		}
		is := []string{strings.TrimSpace(string(comm))}
		if exe, err := os.Readlink(dir + "/exe"); err == nil {
			is = append(is, filepath.Base(exe))
		}
		// The kernel keeps 15 bytes of a name.
		hit := slices.ContainsFunc(names, func(n string) bool {
			return slices.Contains(is, n) || len(n) > 15 && is[0] == n[:15]
		})
		if state, err := os.ReadFile(dir + "/stat"); err == nil && bytes.Contains(state, []byte(") Z ")) {
			return // it has ended, and nobody has asked
		}
		if hit {
			out = append(out, Holder{PID: pid, Program: is[0], How: Running})
		}
	})
	if err != nil {
		return nil, err
	}
	return out, nil
}

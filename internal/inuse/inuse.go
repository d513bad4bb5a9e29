// Package inuse knows who has a folder open: programs with open or mapped
// files below it, or with their working directory there; on Linux also mounts
// that show a part of it elsewhere, in any namespace, and loop devices and swap
// whose file lies in it.
//
// It asks what the system tells: proc(5) on Linux, the restart manager on
// Windows, lsof(8) on macOS. An ordinary account may see its own programs
// only, and the answer says so. It stops nothing and waits for nobody.
package inuse

import (
	"fmt"
	"slices"
	"strings"

	"nexlin/internal/handle"
	"nexlin/internal/pathtext"
)

// How a program holds a path.
type How string

// The ways; Writing stands for open for writing and for writable shared maps.
const (
	Writing   How = "open for writing"
	Reading   How = "open"
	Mapped    How = "mapped"
	Directory How = "open directory"
	Working   How = "working directory"
	Running   How = "running from here"
	Somehow   How = "open, perhaps for writing" // where the system does not tell how
	Mounted   How = "mounted elsewhere"         // or a layer of an overlay
	Loop      How = "the file behind a loop device"
	Swap      How = "swap"
)

// A Holder is one hold of one program on one path.
type Holder struct {
	PID     int    // 0 where no program holds it but the kernel itself
	Program string // name of the command, as the kernel keeps it; without a program, what it is that holds
	Path    string // in the folder; of a mount, where it is mounted
	How     How
	Service string // the unit of the service manager that runs it; empty if none does
}

// String names the holder for people, without the path.
func (h Holder) String() string {
	switch {
	case h.PID == 0:
		return h.Program
	case h.Service != "":
		return fmt.Sprintf("%s (process %d of %s)", pathtext.Show(h.Program), h.PID, pathtext.Show(h.Service))
	}
	return fmt.Sprintf("%s (process %d)", pathtext.Show(h.Program), h.PID)
}

// A Report is what could be seen.
type Report struct {
	Holders  []Holder
	Complete bool // false if some programs could not be looked at
}

// Writers picks those that may still change something, or, on Windows, that keep the folder from being
// renamed by having a directory in it open.
func (r Report) Writers() []Holder {
	counts := []How{Writing, Somehow, Mounted, Loop, Swap}
	if handle.Windows {
		counts = append(counts, Directory)
	}
	return slices.DeleteFunc(slices.Clone(r.Holders), func(h Holder) bool { return !slices.Contains(counts, h.How) })
}

// Programs names the programs among holders, each once.
func Programs(hs []Holder) string {
	var names []string
	for _, h := range hs {
		n := h.String()
		if !slices.Contains(names, n) {
			names = append(names, n)
		}
	}
	if len(names) > 5 {
		return fmt.Sprintf("%s and %d more", strings.Join(names[:5], ", "), len(names)-5)
	}
	return strings.Join(names, ", ")
}

// Package inuse knows who has a folder open: programs with open or mapped
// files below it, or with their working directory there.
//
// It asks what the system tells: proc(5) on Linux, the restart manager on
// Windows, lsof(8) on macOS. An ordinary account may see its own programs
// only, and the answer says so. It stops nothing and waits for nobody.
package inuse

import "slices"

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
)

// A Holder is one hold of one program on one path.
type Holder struct {
	PID     int
	Program string // name of the command, as the kernel keeps it
	Path    string
	How     How
	Service string // the unit of the service manager that runs it; empty if none does
}

// A Report is what could be seen.
type Report struct {
	Holders  []Holder
	Complete bool // false if some programs could not be looked at
}

// Writers picks those that may still change something.
func (r Report) Writers() []Holder {
	return slices.DeleteFunc(slices.Clone(r.Holders), func(h Holder) bool { return h.How != Writing && h.How != Somehow })
}

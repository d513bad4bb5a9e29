// Package restart has a stopped run go on by itself once, when the machine was restarted.
package restart

import "strings"

// A Continuation has a run go on once, when the machine was restarted, and
// takes itself away: a unit of the service manager (systemd.unit(5)) on Linux,
// a RunOnce value on Windows.
type Continuation struct {
	Run      string
	Program  string // the path of Nexlin
	StateDir string
	Home     string // of the account; used where it is not the system's
	System   bool   // the system's manager, not the account's
}

func validRun(id string) bool {
	return id != "" && strings.Trim(id, "0123456789abcdefghijklmnopqrstuvwxyz-") == ""
}

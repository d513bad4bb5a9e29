//go:build !linux

package selftest

import "os/exec"

// endsWithUs: a command goes on here when this process is killed; whoever clears up waits
// for it.
func endsWithUs(*exec.Cmd) {}

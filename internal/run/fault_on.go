//go:build faults

package run

import (
	"errors"
	"fmt"
	"os"
	"strconv"
	"strings"
	"syscall"
	"time"
)

// OnPoint, if it is not nil, is asked at each step what becomes of it. For tests in
// process, one at a time.
var OnPoint func(name string) error

// met is how often the step of the fault was met.
var met int

// fault acts at the named step as NEXLIN_FAULT says: "kill:NAME" ends the
// process at once, "error:NAME" fails the step, "wait:NAME" pauses it until
// the file NEXLIN_FAULT_GO is there. NAME#N is the Nth time that the step is
// met. "list" writes the names to standard
// error. Only programs built with the tag faults have this.
func fault(name string) error {
	if OnPoint != nil {
		if err := OnPoint(name); err != nil {
			return err
		}
	}
	how, at, _ := strings.Cut(os.Getenv("NEXLIN_FAULT"), ":")
	if how == "list" {
		fmt.Fprintln(os.Stderr, "step", name)
	}
	at, nth, counted := strings.Cut(at, "#")
	if at != name {
		return nil
	}
	met++
	if n, err := strconv.Atoi(nth); counted && (err != nil || n != met) {
		return nil
	}
	switch how {
	case "kill":
		_ = syscall.Kill(os.Getpid(), syscall.SIGKILL)
		select {}
	case "error":
		return &faultError{name}
	case "wait":
		if err := os.WriteFile(os.Getenv("NEXLIN_FAULT_GO")+".waiting", nil, 0o600); err != nil {
			return err
		}
		for {
			if _, err := os.Stat(os.Getenv("NEXLIN_FAULT_GO")); err == nil {
				return nil
			}
			time.Sleep(5 * time.Millisecond)
		}
	}
	return nil
}

type faultError struct{ at string }

func (e *faultError) Error() string { return "fault at " + e.at }

// Injected tells a fault of the tests from a failure of a program.
func Injected(err error) bool {
	var f *faultError
	return errors.As(err, &f)
}

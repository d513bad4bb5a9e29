//go:build !linux && !windows

package restart

import "errors"

// Continues says that [Continuation.Install] has a way on this system.
const Continues = false

// Install has no way on this system: always an error.
func (c Continuation) Install() (string, error) {
	return "", errors.New("this system has nothing that goes on with a run by itself: `nexlin resume` does it")
}

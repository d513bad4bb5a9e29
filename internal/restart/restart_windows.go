package restart

import (
	"fmt"
	"strings"

	"golang.org/x/sys/windows"
	"golang.org/x/sys/windows/registry"
)

// Continues says that [Continuation.Install] has a way on this system.
const Continues = true

// Install writes the value that has the command run when this account logs in
// next; the system removes it then. It gives the value's path.
func (c Continuation) Install() (string, error) {
	if !validRun(c.Run) {
		return "", fmt.Errorf("%q is no run", c.Run)
	}
	const key = `Software\Microsoft\Windows\CurrentVersion\RunOnce`
	k, _, err := registry.CreateKey(registry.CURRENT_USER, key, registry.SET_VALUE)
	if err != nil {
		return "", err
	}
	defer k.Close()
	var words []string
	for _, w := range []string{c.Program, "--state-dir", c.StateDir, "--yes", "resume", c.Run} {
		words = append(words, windows.EscapeArg(w))
	}
	name := "nexlin-resume-" + c.Run
	return `HKEY_CURRENT_USER\` + key + `\` + name, k.SetStringValue(name, strings.Join(words, " "))
}

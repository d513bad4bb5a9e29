package restart

import (
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"

	"nexlin/internal/handle"
)

func (c Continuation) dir() string {
	if c.System {
		return "/etc/systemd/system"
	}
	return filepath.Join(c.Home, ".config", "systemd", "user")
}

func (c Continuation) name() string { return "nexlin-resume-" + c.Run + ".service" }

func (c Continuation) target() string {
	if c.System {
		return "multi-user.target.wants"
	}
	return "default.target.wants"
}

// Continues says that [Continuation.Install] has a way on this system.
const Continues = true

// Install writes the unit and has it started with the others; it gives the
// unit's path.
func (c Continuation) Install() (string, error) {
	if !validRun(c.Run) {
		return "", fmt.Errorf("%q is no run", c.Run)
	}
	wants := filepath.Join(c.dir(), c.target())
	if err := os.MkdirAll(wants, 0o755); err != nil {
		return "", err
	}
	file, wanted := filepath.Join(c.dir(), c.name()), filepath.Join(wants, c.name())
	err := handle.WriteFile(file, 0o600, func(w io.Writer) error {
		_, err := fmt.Fprintf(w, "[Unit]\nDescription=Goes on with a run of "+
			"Nexlin\nAfter=local-fs.target\n\n[Service]\nType=oneshot\nExecStartPre=/bin/rm -f -- %s "+
			"%s\nExecStart=%s --state-dir %s --yes resume %s\n\n[Install]\nWantedBy=%s\n",
			unitWord(wanted), unitWord(file), unitWord(c.Program), unitWord(c.StateDir), c.Run,
			strings.TrimSuffix(c.target(), ".wants"))
		return err
	})
	if err != nil {
		return "", err
	}
	if err := os.Chmod(file, 0o644); err != nil {
		return "", err
	}
	if err := os.Symlink(file, wanted); err != nil && !errors.Is(err, os.ErrExist) {
		return "", err
	}
	return file, nil
}

// unitWord is one word of a command line in a unit: quoted, with what the
// manager would expand doubled.
func unitWord(s string) string {
	return "\"" + strings.NewReplacer("\\", "\\\\", "\"", "\\\"", "%", "%%", "$", "$$").Replace(s) + "\""
}

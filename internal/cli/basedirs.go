package cli

import (
	"os"
	"path/filepath"
	"runtime"
)

// configHome and stateHome are the directories of the XDG Base Directory
// Specification: what its variable says if that is an absolute path, else the
// usual place of the system. No file is read for that.
func (a *app) configHome() string { return baseDir("XDG_CONFIG_HOME", a.Home, ".config") }
func (a *app) stateHome() string  { return baseDir("XDG_STATE_HOME", a.Home, ".local/state") }

func baseDir(variable, home, usual string) string {
	if dir := os.Getenv(variable); filepath.IsAbs(dir) {
		return filepath.Clean(dir)
	}
	switch runtime.GOOS {
	case "windows":
		if dir, err := os.UserCacheDir(); err == nil { // %LocalAppData%
			return dir
		}
	case "darwin":
		return filepath.Join(home, "Library", "Application Support")
	}
	return filepath.Join(home, filepath.FromSlash(usual))
}

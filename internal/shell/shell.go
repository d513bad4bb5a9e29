// Package shell writes the commands of the system that a remedy names, so that what is shown can be
// typed as it stands. It runs none of them.
package shell

import (
	"fmt"
	"runtime"
	"strings"

	"nexlin/internal/pathtext"
)

// A System has the commands of one operating system, by the name that Go gives it; all that is not
// macOS or Windows is taken for Linux.
type System string

// Here is the system that this program runs on.
const Here = System(runtime.GOOS)

func (s System) quoted(word string) string {
	if s == "windows" {
		return pathtext.QuoteWindows(word)
	}
	return pathtext.QuotePOSIX(word)
}

// by fills the words into the command of the system.
func (s System) by(linux, darwin, windows string, words ...string) string {
	form := map[System]string{"darwin": darwin, "windows": windows}[s]
	if s != "darwin" && s != "windows" {
		form = linux
	}
	if form == "" {
		return ""
	}
	quoted := make([]any, len(words))
	for i, w := range words {
		quoted[i] = s.quoted(w)
	}
	return fmt.Sprintf(form, quoted...)
}

// Rename gives an entry another name and replaces nothing.
func (s System) Rename(path, to string) string {
	return s.by("mv -nT -- %s %s", "mv -n -- %s %s", "move /-Y %s %s", path, to)
}

// Copy copies a folder to where nothing is yet.
func (s System) Copy(path, to string) string {
	return s.by("cp -anT -- %s %s", "ditto %s %s", "robocopy %s %s /E /COPY:DAT /DCOPY:DAT", path, to)
}

// MakeDir makes a directory.
func (s System) MakeDir(path string) string {
	return s.by("mkdir -- %s", "mkdir -- %s", "mkdir %s", path)
}

// Unmount takes a drive out of use.
func (s System) Unmount(mount string) string {
	return s.by("umount %s", "diskutil unmount %s", "mountvol %s /P", mount)
}

// Mount mounts a drive, known by the identity of its file system, at its place; empty where the
// system has no command for that.
func (s System) Mount(uuid, mount string) string {
	return s.by("mount UUID=%s %s", "diskutil mount %s%.0s", "", uuid, mount)
}

// Writable has a drive that can only be read be written to; empty as with [System.Mount].
func (s System) Writable(mount string) string {
	return s.by("mount -o remount,rw %s", "mount -u -w %s", "", mount)
}

// StopService stops a service.
func (s System) StopService(name string) string {
	return s.by("systemctl stop %s", "launchctl bootout %s", "net stop %s", name)
}

// Then has commands follow each other, each only after the one before; empty ones are left out.
func (s System) Then(commands ...string) string {
	var all []string
	for _, c := range commands {
		if c != "" {
			all = append(all, c)
		}
	}
	if s == "windows" { // whose two shells have no sign in common for that
		return strings.Join(all, "`, then `")
	}
	return strings.Join(all, " && ")
}

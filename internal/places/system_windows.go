package places

import (
	"path/filepath"

	"golang.org/x/sys/windows"
)

// systemPlaces are directories that the system needs where they are, and those
// in which nothing at all may be moved.
func systemPlaces() (needed, whole []string) {
	system, err := windows.GetSystemWindowsDirectory()
	if err != nil {
		system = `C:\Windows`
	}
	root := filepath.VolumeName(system) + `\`
	for _, name := range []string{"Users", "Program Files", "Program Files (x86)", "ProgramData", `Users\Public`,
		`Users\Default`} {
		needed = append(needed, root+name)
	}
	whole = []string{system}
	for _, name := range []string{"$Recycle.Bin", "System Volume Information", "Recovery", "Boot",
		`Program Files\WindowsApps`} {
		whole = append(whole, root+name)
	}
	return needed, whole
}

package screen

import (
	"os"

	"golang.org/x/sys/windows"
)

// takesColours has a console take what colours are written with. An older one does not, and would show
// it; what is no console is judged by others.
func takesColours(f *os.File) bool {
	var mode uint32
	h := windows.Handle(f.Fd())
	if windows.GetConsoleMode(h, &mode) != nil {
		return true
	}
	return windows.SetConsoleMode(h, mode|windows.ENABLE_VIRTUAL_TERMINAL_PROCESSING) == nil
}

//go:build !windows

package screen

import "os"

// takesColours: here the terminal's name says so, which others look at.
func takesColours(*os.File) bool { return true }

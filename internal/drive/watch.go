package drive

import (
	"fmt"
	"os"
)

// standinsHere says in one text which stand-in drives are here, and where.
func (s *System) standinsHere() string {
	if s.File == "" {
		return ""
	}
	now, err := WithStandins(s.File)
	if err != nil {
		return "" // it is being written
	}
	text := "here"
	for i := range now.standins {
		if _, err := os.Stat(now.standins[i].Path); err == nil {
			text += fmt.Sprintf("\x00%s %t", now.standins[i].Path, now.standins[i].Locked)
		}
	}
	return text
}

// Reload reads the stand-in file again, if one is in force.
func (s *System) Reload() error {
	if s.File == "" {
		return nil
	}
	now, err := WithStandins(s.File)
	if err == nil {
		s.standins = now.standins
	}
	return err
}

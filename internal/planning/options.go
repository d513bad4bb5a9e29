package planning

import (
	"time"

	"nexlin/internal/finding"
)

// BackOptions says how a redirect is to be brought back.
type BackOptions struct {
	WhileInUse bool
	WaitQuiet  time.Duration
	Stops      bool // a step before the copy stops the program
	UseHeld    bool // take what is equal out of the held original instead of copying it
	Accept     []finding.Code
	Progress   func(entries, bytes int64) // of the inspection; may be nil
}

package mend

import (
	"slices"

	"nexlin/internal/finding"
)

// mendable are the findings that a mend puts right.
var mendable = []finding.Code{finding.DriveElsewhere, finding.LinkMissing, finding.LinkChanged, finding.LinkLoop,
	finding.LinkIndirect,
	finding.FolderSplit, finding.TagMissing, finding.NoteMissing, finding.SettingDrifted}

// Mends reports whether a mend is what puts right what was found.
func Mends(f finding.Finding) bool { return slices.Contains(mendable, f.Code) }

package screen

import (
	"nexlin/internal/accounts"
	"nexlin/internal/finding"
	"nexlin/internal/health"
)

// CheckExit is 4 for anything wrong, 7 if it is only that the drive is away.
func CheckExit(r *health.Report) int {
	code := ExitDone
	for _, f := range r.Findings {
		away := f.Code == finding.DriveAway || f.Code == finding.DriveSwapped || f.Code == finding.Covered
		switch {
		case f.Severity == finding.Info:
		case !away:
			return ExitProblems
		default:
			code = ExitAway
		}
	}
	return code
}

// Gravest is the exit status of several reports. One drive that is away is the single cause of
// all that lies on it.
func Gravest(reports []*health.Report) int {
	worst := ExitDone
	for _, r := range reports {
		if c := CheckExit(r); c == ExitProblems || c == ExitAway && worst == ExitDone {
			worst = c
		}
	}
	return worst
}

// DriftExit is 4 if anything has drifted, 7 if it is only that drives are away.
func DriftExit(items []*accounts.Item) int {
	code := ExitDone
	for _, i := range items {
		switch {
		case !i.Drifted():
		case i.State != accounts.Away:
			return ExitProblems
		default:
			code = ExitAway
		}
	}
	return code
}

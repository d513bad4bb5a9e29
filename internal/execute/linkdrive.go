package execute

import (
	"path/filepath"

	"nexlin/internal/drive"
	"nexlin/internal/ledger"
	"nexlin/internal/places"
	"nexlin/internal/plan"
)

// wantLinkDrive refuses a run, its resume or its undo while the drive is away
// on which the link is to be changed.
func (m *opener) wantLinkDrive() error {
	if m.Plan.Before == nil || m.Plan.Traits().NoLink || m.Plan.Mend != nil && m.Plan.Into == "" {
		return nil // it touches no link
	}
	f, err := m.LinkDriveAway(m.Plan.Before, m.Plan.LinkText, m.Plan.OldText)
	if f != nil {
		err = plan.Refused(*f)
	}
	return err
}

// linkDriveNow is the drive that the link of the run stands on.
func (m *opener) linkDriveNow() ledger.DriveRef {
	at, err := drive.Existing(filepath.Dir(m.Plan.Link))
	if err == nil {
		if d, err := m.Drives.Of(at); err == nil {
			return places.Ref(&d)
		}
	}
	if m.Plan.Before != nil {
		return m.Plan.Before.LinkDrive // an engine's store may have no directory around it any more
	}
	return ledger.DriveRef{}
}

package preflight

import (
	"fmt"
	"time"

	"nexlin/internal/drive"
	"nexlin/internal/finding"
	"nexlin/internal/inventory"
	"nexlin/internal/pathtext"
)

// Limits are what the target can't keep, as the walk over the folder wants
// them.
func Limits(a *drive.Abilities) inventory.Limits {
	return inventory.Limits{
		NoSymlinks: !a.Symlinks, NoJunctions: !a.Junctions, NoHardLinks: !a.HardLinks, NoNodes: !a.Nodes,
		NoDevices: !a.Devices,
		NoXattrs:  !a.Xattrs, NoACLs: !a.ACLs, NoHoles: !a.Holes, LinkBytes: a.LinkBytes, LinkText: a.LinkText,
		XattrText: a.XattrText, XattrUser: a.XattrUser, XattrBytes: a.XattrBytes,
		FixedOwner: !a.Owners, UID: a.UID, GID: a.GID,
		FixedMode: !a.Modes, FileMode: a.FileMode, DirMode: a.DirMode,
		BadBytes: a.BadBytes, OnlyText: a.OnlyText, NoTrail: a.NoTrail, Reserved: a.Reserved,
		NameBytes: a.NameBytes, NameUnits: a.NameUnits, Folds: !a.CaseSeen, Composes: a.Composes,
		MaxFile: a.MaxFile, TimeStep: a.TimeStep, NoTimes: a.TimeStep == 0, Oldest: a.Oldest, Newest: a.Newest,
	}
}

// lossCodes says by which finding each loss is told, and how.
var lossCodes = []struct {
	loss inventory.Loss
	code finding.Code
	what string
}{
	{inventory.LossName, finding.NamesRefused, "have a name that %s can't keep"},
	{inventory.LossCollide, finding.NamesCollide, "have names that are one and the same on %s"},
	{inventory.LossSymlink, finding.LinksLost, "are symbolic links that %s can't keep"},
	{inventory.LossNode, finding.SpecialFiles, "are FIFOs, sockets or devices, which can't be made on %s"},
	{inventory.LossSize, finding.FileTooLarge, "are larger than a file on %s can be"},
	{inventory.LossYear, finding.TimesLost, "have a time that %s can't keep"},
	{inventory.LossPrivate, finding.PrivateExposed, "are private and would be readable for others on %s"},
	{inventory.LossHardLink, finding.HardLinksSplit,
		"are names of files with several names; on %s each becomes a file of its own"},
	{inventory.LossOwner, finding.OwnersLost, "belong to accounts or groups that %s doesn't keep"},
	{inventory.LossMode, finding.ModesLost, "have permissions that %s doesn't keep"},
	{inventory.LossACL, finding.ACLsLost, "have access control lists, which %s doesn't keep"},
	{inventory.LossXattr, finding.AttributesLost, "have extended attributes, which %s doesn't keep"},
	{inventory.LossXattrFit, finding.AttributesFit, "have extended attributes that do not fit on %s"},
	{inventory.LossPath, finding.PathTooLong, "have a path inside the folder that is too long to be reached on %s"},
	{inventory.LossTime, finding.TimesRounded, "have a time that %s rounds"},
	{inventory.LossHole, finding.HolesFilled, "have holes, which take room on %s"},
}

// Losses holds what the folder has against what the target keeps.
func Losses(root string, f *inventory.Facts, l *inventory.Limits, into *drive.Drive) (out []finding.Finding) {
	drv := pathtext.Show(into.Name())
	for _, c := range lossCodes {
		what := c.what
		if c.loss == inventory.LossTime {
			what += " to " + StepText(l.TimeStep)
		}
		out = append(out, Entries(root, c.code, f.Lost[c.loss], fmt.Sprintf(what, drv))...)
	}
	return out
}

// StepText is how exactly times are kept, in words.
func StepText(d time.Duration) string {
	switch {
	case d >= time.Second:
		return fmt.Sprintf("%d s", d/time.Second)
	case d >= time.Millisecond:
		return fmt.Sprintf("%d ms", d/time.Millisecond)
	}
	return fmt.Sprintf("%d ns", d)
}

// Rights finds entries that would give somebody more rights on the target
// than where they are: a mount without nosuid or nodev wakes what slept.
func Rights(root string, f *inventory.Facts, from, into *drive.Drive) (out []finding.Finding) {
	sleeps := func(option string) bool {
		return from.Option(option) && into.Mount != "" && !into.Option(option)
	}
	drv := pathtext.Show(into.Name())
	if sleeps("nosuid") {
		out = append(out, Entries(root, finding.RightsGrow, f.Setuid, "are programs that would run with another "+
			"account's rights on "+drv+", and do not where they are")...)
	}
	if sleeps("nodev") {
		out = append(out, Entries(root, finding.RightsGrow, f.Devices, "are device nodes that would open devices on "+
			drv+", and do not where they are")...)
	}
	return out
}

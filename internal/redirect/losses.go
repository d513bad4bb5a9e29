package redirect

import (
	"fmt"
	"os"
	"time"

	"nexlin/internal/drive"
	"nexlin/internal/finding"
	"nexlin/internal/inventory"
	"nexlin/internal/pathtext"
)

// limits are what the target can't keep, as the walk over the folder wants
// them.
func limits(a *drive.Abilities) inventory.Limits {
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

// losses holds what the folder has against what the target keeps.
func (p *Plan) losses() {
	drv := pathtext.Show(p.IntoNow.Name())
	for _, c := range lossCodes {
		what := c.what
		if c.loss == inventory.LossTime {
			what += " to " + stepText(p.limits.TimeStep)
		}
		entries(p, c.code, p.Facts.Lost[c.loss], fmt.Sprintf(what, drv))
	}
}

func stepText(d time.Duration) string {
	switch {
	case d >= time.Second:
		return fmt.Sprintf("%d s", d/time.Second)
	case d >= time.Millisecond:
		return fmt.Sprintf("%d ms", d/time.Millisecond)
	}
	return fmt.Sprintf("%d ns", d)
}

// allow turns what was accepted into what verification lets pass: nothing
// that was not found.
func (p *Plan) allow() {
	for _, f := range p.Findings {
		if f.Severity == finding.Blocker {
			continue
		}
		switch f.Code {
		case finding.OwnersLost, finding.OwnerRights:
			p.Allow.Owners = true
		case finding.ModesLost:
			p.Allow.Modes = true
		case finding.ACLsLost:
			p.Allow.ACLs = true
		case finding.AttributesLost:
			p.Allow.Xattrs = true
		case finding.HardLinksSplit:
			p.Allow.Links = true
		case finding.TimesRounded:
			p.Allow.TimeStep = p.limits.TimeStep
		}
	}
	// A drive without owners or modes of its own is not asked to change them,
	// also where nothing is lost by that.
	p.Allow.Owners = p.Allow.Owners || p.limits.FixedOwner && os.Geteuid() == 0
	p.Allow.Modes = p.Allow.Modes || p.limits.FixedMode
}

// rights finds entries that would give somebody more rights on the target
// than where they are: a mount without nosuid or nodev wakes what slept.
func (p *Plan) rights() {
	sleeps := func(option string) bool {
		return p.FromNow.Option(option) && p.IntoNow.Mount != "" && !p.IntoNow.Option(option)
	}
	drv := pathtext.Show(p.IntoNow.Name())
	if sleeps("nosuid") {
		entries(p, finding.RightsGrow, p.Facts.Setuid, "are programs that would run with another account's rights on "+
			drv+", and do not where they are")
	}
	if sleeps("nodev") {
		entries(p, finding.RightsGrow, p.Facts.Devices, "are device nodes that would open devices on "+drv+
			", and do not where they are")
	}
}

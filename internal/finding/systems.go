package finding

import "runtime"

// onSystem has, for systems other than Linux, the remedies that name commands which only Linux
// has.
var onSystem = map[string]map[Code]string{
	"darwin": {
		Immutable: "`chflags -R nouchg,nouappnd` and the folder takes the marks away; `schg` and `sappnd` are the " +
			"system's",
		Unreadable: "where permissions allow it and the system still refuses, the folder is guarded: allow this " +
			"terminal Full Disk Access in the system's settings, under Privacy & Security; then start the terminal " +
			"anew",
		HandlingLost: "nothing has to be done: the copy is read in the same way",
		PrivateExposed: "have the drive keep owners: in what the desktop shows as information on it, take the mark " +
			"away from \"Ignore ownership on this volume\"; or, if nobody else uses this machine, `--accept " +
			"private-exposed`",
		RightsGrow: "mount the target with nosuid,nodev (`mount -u -o nosuid,nodev`); or, if they are known good, " +
			"`--accept rights-would-grow`",
		MountOpen: "remove the empty directory in /Volumes while the drive is away: the system makes it again",
	},
	"windows": {
		OwnerRights: "run it from a terminal that was opened as administrator; or, if they may all become this " +
			"account's: `--accept owner-needs-rights`",
		AttributesRights: "run it from a terminal that was opened as administrator",
		RightsShrink:     "let the others in by the security page of the directories on the way there, or by `icacls`",
		HandlingLost: "set the marks of the copy after the move: `compact /c`, `attrib`, `fsutil file " +
			"setCaseSensitiveInfo`",
		Immutable:     "the drive can only be read: take the mark away with `attrib` or the disk tool",
		RemovalDenied: "let this account delete the folder, on its security page or by `icacls`, and try again",
		PrivateExposed: "have the directory be yours alone, on a drive with NTFS: `icacls DIR /inheritance:r " +
			"/grant:r \"%USERNAME%:(OI)(CI)F\"`; or, if nobody else uses this machine, `--accept private-exposed`",
		RightsGrow: "if they are known good, `--accept rights-would-grow`",
		MountOpen:  "give the drive its letter alone, and no folder as a mount point",
	},
}

// remedy is what to do about a code, in the words of the system that it runs on.
func remedy(code Code, system string) string {
	if r, ok := onSystem[system][code]; ok {
		return r
	}
	return kinds[code].Remedy
}

// here is the system that this program runs on.
const here = runtime.GOOS

package finding

// The codes, in the order of the work.
const (
	// inspect: the folder
	SourceMissing    Code = "folder-missing"
	SourceNotFolder  Code = "not-a-folder"
	SourceIsLink     Code = "already-a-link"
	SourceIsMount    Code = "is-a-mount-point"
	Protected        Code = "protected-place"
	InsideRedirect   Code = "inside-a-redirect"
	HoldsRedirect    Code = "holds-a-redirect"
	Unreadable       Code = "unreadable-entries"
	SpecialFiles     Code = "special-files"
	LinksLeadOut     Code = "links-lead-out"
	LinksPointIn     Code = "links-point-in"
	HardLinksOut     Code = "hard-links-lead-out"
	SocketsLive      Code = "socket-in-use"
	MountInside      Code = "mount-inside"
	NotKeptYet       Code = "not-kept-yet"
	OwnerRights      Code = "owner-needs-rights"
	AttributesRights Code = "attributes-need-rights"
	RightsShrink     Code = "rights-would-shrink"
	FlagsLost        Code = "marks-not-kept"
	HandlingLost     Code = "handling-not-kept"
	Immutable        Code = "immutable-entries"
	RemovalDenied    Code = "removal-denied"
	InUse            Code = "in-use"
	InUseUnknown     Code = "in-use-unknown"

	// inspect: the way and the target
	SameDrive      Code = "same-drive"
	TargetInSource Code = "target-inside-folder"
	SourceInTarget Code = "folder-inside-target"
	TargetTaken    Code = "target-taken"
	TargetNoWrite  Code = "target-not-writable"
	SpaceShort     Code = "space-short"
	InodesShort    Code = "inodes-short"
	LedgerRoom     Code = "no-ledger-room"
	LinkImpossible Code = "link-not-possible"
	TargetInMemory Code = "target-in-memory"
	NameTaken      Code = "name-taken"
	DriveDoubtful  Code = "drive-doubtful"
	DriveUnmounted Code = "drive-not-mounted"
	OldPlaceTaken  Code = "old-place-taken"
	BackupReminder Code = "only-copy"
	RightsGrow     Code = "rights-would-grow"
	OthersHands    Code = "in-others-hands"
	SwitchGap      Code = "switch-gap"
	WindowsUnseen  Code = "unseen-by-windows"
	SeenMissing    Code = "as-seen-missing"
	SeenDiffers    Code = "as-seen-differs"
	JunctionTaken  Code = "junction-instead"
	Placeholders   Code = "placeholder-files"
	SyncedFolder   Code = "synced-folder"
	PathInside     Code = "path-inside"
	LinksOdd       Code = "links-of-another-kind"

	// inspect: what the target can't keep
	NamesRefused   Code = "names-not-kept"
	NamesCollide   Code = "names-collide"
	LinksLost      Code = "links-not-kept"
	FileTooLarge   Code = "file-too-large"
	TimesLost      Code = "times-not-kept"
	PrivateExposed Code = "private-exposed"
	HardLinksSplit Code = "hard-links-split"
	OwnersLost     Code = "owners-not-kept"
	ModesLost      Code = "modes-not-kept"
	ACLsLost       Code = "acls-not-kept"
	AttributesLost Code = "attributes-not-kept"
	AttributesFit  Code = "attributes-do-not-fit"
	PathTooLong    Code = "path-too-long"
	TimesRounded   Code = "times-rounded"
	HolesFilled    Code = "holes-filled"
	NotComingBack  Code = "not-coming-back"
	HeldNotUsable  Code = "held-not-usable"

	FolderBusy Code = "busy"

	// check
	DriveAway      Code = "drive-away"
	DriveElsewhere Code = "drive-elsewhere"
	LinkMissing    Code = "link-missing"
	LinkChanged    Code = "link-changed"
	FolderSplit    Code = "folder-split"
	TargetMissing  Code = "target-missing"
	TrialFailed    Code = "trial-failed"
	SpaceLow       Code = "space-low"
	HeldMissing    Code = "held-missing"
	NoteMissing    Code = "target-note-missing"
	RunStopped     Code = "run-stopped"
	Covered        Code = "covered-by-a-mount"
	Unseen         Code = "could-not-look"
	PlanOld        Code = "changed-meanwhile"
	TargetShared   Code = "target-of-another"
	LedgerBroken   Code = "record-unreadable"
	DriveSwapped   Code = "another-drive"
	DriveTwice     Code = "drive-here-twice"
	OlderClone     Code = "older-clone"
	DriveReadOnly  Code = "drive-read-only"
	TagMissing     Code = "drive-tag-missing"
	LinkLoop       Code = "link-leads-to-itself"
	LinkIndirect   Code = "link-by-way-of-links"
	TargetUnread   Code = "target-unreadable"
	HeldWaiting    Code = "held-waiting"
	NotAtStart     Code = "not-there-at-start"
	MountOpen      Code = "mount-point-open"
	BelowMount     Code = "below-mount-point"

	// after a switch, and discarding
	LateWrite    Code = "late-write"
	LateConflict Code = "late-write-conflict"
	ChangedSince Code = "changed-since"
	ChangedQuiet Code = "changed-quietly"
	GoneAtTarget Code = "gone-at-target"
	NeverCopied  Code = "never-copied"
	Rot          Code = "rot"
	Stranger     Code = "foreign-entry"
	HeldInUse    Code = "held-in-use"
	HeldChanged  Code = "held-changed"
	OlderAside   Code = "replaced-set-aside"
	GapFilled    Code = "gap-filled"
	ArchiveKept  Code = "archive-not-given"

	// record and restore-links
	CopyDiffers    Code = "copy-differs"
	MetaDiffers    Code = "metadata-differs"
	MoreInCopy     Code = "more-in-copy"
	NothingToProve Code = "nothing-to-prove-by"
	SeveralLeft    Code = "several-left-over"
	KnownAlready   Code = "known-already"
	AccountUnknown Code = "account-unknown"
	OtherAccount   Code = "other-account"
	DeclaredTwice  Code = "declared-twice"
	LedOtherwise   Code = "led-otherwise"
	HiddenPlace    Code = "hidden-place"
	NoteUnproven   Code = "note-unproven"
	OutsideHome    Code = "outside-home"
	RecordLost     Code = "manifest-unusable"
	FolderInWay    Code = "folder-in-the-way"

	// Settings.
	NoSetting       Code = "no-location-setting"
	SettingUnusable Code = "setting-not-usable"
	SettingDiffers  Code = "setting-names-another"
	SettingDrifted  Code = "setting-drifted"
	PassedOver      Code = "passed-over"

	// Programs and cards.
	ProgramRuns  Code = "program-running"
	StepFailed   Code = "step-failed"
	MustStay     Code = "must-stay"
	OnDemand     Code = "fetched-on-demand"
	CardKnown    Code = "card-known"
	SandboxCut   Code = "sandbox-cut-off"
	SandboxGrant Code = "sandbox-still-sees"

	NoRoomToGrow  Code = "no-room-to-grow"
	MergeConflict Code = "both-have-it"

	// Registered stores.
	NoStore        Code = "no-such-store"
	StoreElsewhere Code = "store-elsewhere"

	// Copies elsewhere.
	PackSameDrive Code = "same-drive-archive"
	NoOtherCopy   Code = "no-copy-elsewhere"
)

var kinds = func() map[Code]Kind {
	m := map[Code]Kind{}
	for _, k := range list {
		m[k.Code] = k
	}
	return m
}()

var list = []Kind{
	{SourceMissing, Blocker, "There is nothing at this path.",
		"look at the path again; `nexlin survey` lists the folders that are there", false},
	{SourceNotFolder, Blocker, "What stands at this path is no folder.", "name a folder", false},
	{SourceIsLink, Blocker, "The path is a link already: its data lies elsewhere.",
		"`nexlin inspect` shows where it leads; name the folder it leads to if that is meant", false},
	{SourceIsMount, Blocker, "A drive is mounted at this very path, so its data lies on that drive already.",
		"name a folder on the drive", false},
	{Protected, Blocker, "Moving this place would break the account, the system or Nexlin itself.",
		"name a folder inside it", false},
	{InsideRedirect, Blocker, "The folder lies inside one that is redirected already.",
		"bring the outer one back first: `nexlin bring-back NAME`, or move the outer one on", false},
	{HoldsRedirect, Blocker, "The folder holds a link that is a redirect.",
		"bring the inner one back first: `nexlin bring-back NAME`", false},
	{Unreadable, Blocker, "This account may not read everything in the folder, so a copy would not be whole.",
		"run as the account that owns them, or as administrator", false},
	{SpecialFiles, Blocker, "The folder holds FIFOs, sockets or device nodes that can't be made on the target: " +
		"device nodes need an administrator, and not every drive keeps them.",
		"quit the program that made them; what stays can be removed if nothing needs it", false},
	{LinksLeadOut, Blocker, "Relative links lead out of the folder and would mean something else once it lies " +
		"elsewhere.", "`--inner-links rewrite` has them say the absolute path they meant", false},
	{LinksPointIn, Warning, "Links elsewhere lead into the folder by a way that the move breaks.",
		"make them anew by the folder's own path, which stays the same", false},
	{HardLinksOut, Blocker, "Files in the folder have further names outside it: after the move these are two files, " +
		"and less room is freed.", "if that is meant: `--accept hard-links-lead-out`", true},
	{SocketsLive, Blocker, "A program waits for connections at a socket in the folder; a copy of the socket would " +
		"lead to nobody.", "quit the program and try again", false},
	{MountInside, Blocker, "Another file system is mounted inside the folder, or it holds a subvolume.",
		"unmount it, or name a folder that does not hold it", false},
	{NotKeptYet, Blocker, "This version of Nexlin can't keep this, and refuses instead of losing it.",
		"leave the folder where it is, or take these entries out of it", false},
	{OwnerRights, Blocker, "Entries belong to other accounts or groups, and only an administrator may give them " +
		"their owner on the new drive.", "run as administrator: `sudo nexlin` and the same words; or, if they may " +
		"all become this account's: `--accept owner-needs-rights`", true},
	{AttributesRights, Blocker, "Entries have attributes that only an administrator may set.",
		"run as administrator: `sudo nexlin` and the same words", false},
	{RightsShrink, Warning, "Other accounts can reach the folder where it is, and could not reach it where it goes.",
		"open the directories on the way there (`chmod o+x`), or name another directory, if others are to use the " +
			"folder", false},
	{FlagsLost, Blocker, "Directories have marks of their file system that the copy would not have: names without " +
		"regard to case, a project for quotas.", "if nothing depends on that: `--accept marks-not-kept`", true},
	{HandlingLost, Warning, "Entries are marked for how their file system treats them: left out of dumps, " +
		"compressed, written in place or at once, read without noting when. Their content and names do not depend " +
		"on it.",
		"mark the copy after the move, where its file system knows such marks: `chattr` (`lsattr -R` shows them)",
		false},
	{Immutable, Blocker, "Entries are marked as not to be changed, so the folder can't be put aside.",
		"`chattr -i -a` takes the marks away (as administrator)", false},
	{RemovalDenied, Blocker, "An access list denies deleting the folder or what is in it to everybody, its owner " +
		"too, so it can't be put aside. Some systems give such a list to the folders of a home.",
		"take that entry out of the lists, and try again: `chmod -R -a \"group:everyone deny delete\"` and the folder",
		false},
	{InUse, Blocker, "A program has files of this folder open for writing.",
		"quit the program and try again; `--while-in-use` goes on knowingly", false},
	{InUseUnknown, Info, "Some programs, those of other accounts as a rule, can't be looked at, so one of them may " +
		"use the folder.", "quit programs that use the folder; an administrator sees them all", false},
	{SameDrive, Blocker, "Folder and target lie on one drive: moving frees nothing.",
		"name a directory on another drive; `nexlin drives` lists them", false},
	{TargetInSource, Blocker, "The target lies inside the folder itself.", "name a directory outside the folder",
		false},
	{SourceInTarget, Blocker, "The folder lies inside the target.",
		"name another directory, or another name with `--as`", false},
	{TargetTaken, Blocker, "Something stands at the target already.",
		"choose another name with `--as`, or another directory", false},
	{TargetNoWrite, Blocker, "This account may not write there.",
		"choose a directory this account may write to, or have an administrator make one", false},
	{SpaceShort, Blocker, "The drive has too little room.", "free room there, or name another drive with `--into`",
		false},
	{InodesShort, Blocker, "The drive has too few inodes left for so many files.",
		"remove files there, or name another drive with `--into`", false},
	{LedgerRoom, Blocker, "The drive with Nexlin's records has no room for the records of this run.",
		"free a little room there, or keep the records elsewhere with `--state-dir`", false},
	{LinkImpossible, Blocker, "This account can't put a link where the folder is.",
		"run as the account that owns the parent directory, or as administrator", false},
	{TargetInMemory, Blocker, "The target lies in memory: what is there is gone when the machine stops.",
		"name a directory on a drive; `--accept target-in-memory` goes on knowingly", true},
	{NameTaken, Blocker, "Another redirect has this name.", "choose another with `--name`", false},
	{DriveDoubtful, Blocker, "The drive does not prove to be the one it was.",
		"look at `nexlin drives`; plug the right drive in", false},
	{DriveUnmounted, Blocker, "The path lies where a drive is to be mounted, and the drive is not there.",
		"mount the drive and try again", false},
	{OldPlaceTaken, Blocker, "Something stands at the old place that Nexlin did not make.",
		"look at it, set it aside under another name, and try again", false},
	{BackupReminder, Info, "After `discard-original` the only copy lies on the other drive.",
		"keep a backup of that drive", false},
	{RightsGrow, Blocker, "Programs or devices in the folder are without effect where they are and would have one " +
		"on the target.",
		"mount the target with nosuid,nodev; or, if they are known good, `--accept rights-would-grow`", true},
	{OthersHands, Blocker, "A directory belongs to one account and lies in another one's, who could have put it " +
		"there to mislead an administrator.",
		"run as the account it belongs to; or, if it is where it should be, `--accept in-others-hands`", true},
	{SwitchGap, Warning, "Link and folder can't be exchanged in one act here: for a moment nothing stands at the " +
		"link path.", "quit the programs that use the folder; `--accept switch-gap` says that this is known", true},
	{WindowsUnseen, Blocker, "Windows could not follow the link that would be made: on NTFS it follows junctions, " +
		"and they lead to drives that it reads.", "`--by junction` where folder and target lie on drives of " +
		"Windows; `--accept unseen-by-windows` if only this system is to follow it", true},
	{SeenMissing, Blocker, "A junction says where its target is as Windows names it, and only Windows knows its " +
		"drive letters.", "`--as-seen 'D:\\'` says which letter the drive has there", false},
	{SeenDiffers, Blocker, "What --as-seen says is not the place of the target on its drive.",
		"give the drive's root alone, as in `--as-seen 'D:\\'`: the rest is known", false},
	{JunctionTaken, Info, "This account may not make symbolic links, so a junction is left behind.",
		"an administrator may, and everybody with the developer mode on; a junction does the same for folders", false},
	{LinksOdd, Blocker, "Entries are links that are neither symbolic links nor junctions: what they say, only the " +
		"system or the program that made them knows, so they can't be made anew.",
		"have what made them take them away or turn them into files, or leave them out of the folder", false},
	{Placeholders, Blocker, "Files here are placeholders of a sync client: reading them would fetch them all.",
		"have the client keep everything on this computer, or take them out of the folder", false},
	{PathInside, Info, "Files in the folder name it by its own path.",
		"with a link nothing needs doing; without one, leave a link behind (`--by setting+symlink`), or make the " +
			"environments anew at the new place (`git worktree repair` for worktrees) and `--accept path-inside`",
		true},
	{SyncedFolder, Blocker, "A sync provider keeps this folder in step with what it has elsewhere: for it, what is " +
		"moved away was deleted, and it may delete it there and on every other machine.",
		"end the backup or syncing of this folder in the provider's program, and keep its files on this computer; or " +
			"move all that it keeps by its own setting. If it is known to be at rest: `--accept synced-folder`", true},
	{NamesRefused, Blocker, "The target can't keep these names.",
		"rename them, or choose a drive with another file system", false},
	{NamesCollide, Blocker, "Names differ only in what the target does not tell apart, so that one would replace " +
		"the other.", "rename one of each, or choose a drive with another file system", false},
	{LinksLost, Blocker, "The target can't keep symbolic links.",
		"choose a drive with another file system, or take the links out of the folder", false},
	{FileTooLarge, Blocker, "A file is larger than the target's file system allows.",
		"choose a drive with another file system", false},
	{TimesLost, Blocker, "Times of some entries lie outside the years that the target can keep.",
		"give them another time with `touch`, or choose a drive with another file system", false},
	{PrivateExposed, Blocker, "The target has no permissions of its own: what is private here could be read by " +
		"every account there.", "mount the drive for one account alone (umask=077), or, if nobody else uses this " +
		"machine, `--accept private-exposed`", true},
	{HardLinksSplit, Blocker, "The target can't keep several names of one file: each becomes a file of its own, " +
		"which takes more room, and a change of one is none of the others.",
		"if that is all right: `--accept hard-links-split`", true},
	{OwnersLost, Blocker, "The target does not keep who owns an entry.",
		"if that is all right: `--accept owners-not-kept`", true},
	{ModesLost, Blocker, "The target does not keep permissions.", "if that is all right: `--accept modes-not-kept`",
		true},
	{ACLsLost, Blocker, "The target does not keep access control lists; the owning group gets what the list's mask " +
		"allows.", "if that is all right: `--accept acls-not-kept`", true},
	{AttributesLost, Blocker, "The target does not keep extended attributes.",
		"if that is all right: `--accept attributes-not-kept`", true},
	{AttributesFit, Blocker, "Extended attributes of an entry are larger than the target allows for one entry, or " +
		"of a kind that it does not keep.",
		"take attributes away with `setfattr -x`, or choose a drive with another file system", false},
	{PathTooLong, Blocker, "A path inside the folder is longer than the system can be asked for.",
		"shorten the names of directories on the way to it", false},
	{TimesRounded, Blocker, "The target keeps times less exactly.", "if that is all right: `--accept times-rounded`",
		true},
	{NotComingBack, Info, "What the drive did not keep, as it was accepted, does not come back from it.",
		"`nexlin show NAME --manifest mtree` has what it was: permissions, owners and times", false},
	{HeldNotUsable, Blocker, "There is no held original at the old place that could be used.",
		"free room there, and bring it back without `--use-held`", false},
	{HolesFilled, Info, "The target keeps no holes: files with holes take their full size there.",
		"the room for them is counted already", false},
	{FolderBusy, Blocker, "Another Nexlin is at work on this folder, one above it, or one inside it.",
		"wait until it has ended; `nexlin history` shows it", false},
	{DriveAway, Blocker, "The drive is not here.", "plug in and mount DRIVE; no data is lost", false},
	{DriveElsewhere, Warning, "The drive is here, but at another place than the link expects.",
		"`nexlin mend NAME` points the link at the drive's new place", false},
	{DriveSwapped, Warning, "Another drive is mounted where this one is expected.",
		"take the other drive away and mount DRIVE; no data is lost", false},
	{DriveTwice, Blocker, "Two drives here say that they are this one: one is a copy of the other.",
		"unmount the copy: `nexlin drives` shows both", false},
	{OlderClone, Blocker, "The drive is an older copy of the one that was written to last, a clone or an image put " +
		"back.", "plug the other drive in; if that one is lost, `nexlin mend NAME --accept older-clone` goes on " +
		"with this one", true},
	{LinkMissing, Warning, "The link is gone; the data is still at the target.", "`nexlin mend NAME` makes it again",
		false},
	{LinkChanged, Warning, "The link leads somewhere else than recorded.", "`nexlin mend NAME` puts it back", false},
	{LinkLoop, Warning, "The link leads round to itself, so it leads nowhere.", "`nexlin mend NAME` puts it back",
		false},
	{LinkIndirect, Warning, "The link leads to the target by way of other links, each of which can go.",
		"`nexlin mend NAME` makes it lead there straight", false},
	{FolderSplit, Warning, "A real folder stands where the link was: new files go there, the old ones are at the " +
		"target.", "`nexlin mend NAME` merges the two halves", false},
	{TargetMissing, Warning, "The drive is here, but the target is not on it.", "look for it on the drive; if it is " +
		"really gone, the held original is the copy to use: `nexlin list --held`", false},
	{TargetUnread, Warning, "The target can't be opened, and not because it is gone.",
		"see the message; look after the drive's cable and health before anything else", false},
	{DriveReadOnly, Warning, "The drive is mounted read-only, so nothing can be saved there.",
		"if it was mounted so on purpose, nothing needs doing; a drive that turned so by itself had an error: " +
			"`dmesg` tells", false},
	{TagMissing, Warning, "The drive tag is gone, so the drive is known by its file system alone.",
		"`nexlin mend NAME` writes it anew", false},
	{HeldWaiting, Info, "A held original waits to be discarded.",
		"`nexlin discard-original NAME` frees the room once you are sure", false},
	{NotAtStart, Info, "Nothing mounts the drive when the machine starts.",
		"a line in /etc/fstab has it mounted at every start", false},
	{MountOpen, Warning, "The mount point can be written to while the drive is not there, so a program could fill " +
		"the wrong drive.", "close the empty mount point with `chattr +i` while the drive is unmounted", false},
	{BelowMount, Warning, "Data was written into the empty mount point, on the wrong drive.",
		"set it aside, so that it does not vanish below the drive when that is mounted", false},
	{TrialFailed, Warning, "A test file did not pass through the link and back.",
		"see the message; `nexlin try NAME` does it again", false},
	{SpaceLow, Warning, "The drive with the data is nearly full.",
		"free room there, or `nexlin move NAME --into DIR` on a larger drive", false},
	{HeldMissing, Warning, "The held original is not where it was put.",
		"if somebody deleted it, `nexlin discard-original NAME` closes the record", false},
	{NoteMissing, Warning,
		"The target note on the drive is gone or unreadable, so the drive does not explain itself.",
		"`nexlin mend NAME` writes it anew", false},
	{Covered, Warning, "Something is mounted over the place where the data lies, and hides it.",
		"unmount what is mounted there; the data is below it", false},
	{Unseen, Warning, "Nexlin could not look at this, so nothing is known about it.",
		"see the message; then `nexlin check NAME` again", false},
	{TargetShared, Blocker, "The place is the target of another redirect already: two can't be brought back from " +
		"one place.", "name another place, or another name there with `--as`; or bring the other one back first: " +
		"`nexlin bring-back NAME`", false},
	{PlanOld, Blocker, "Another command was quicker: what the ledger says has changed since this one looked.",
		"give the command again; it looks anew", false},
	{RunStopped, Warning, "A run was stopped before its end.",
		"`nexlin resume RUN` finishes it, `nexlin undo RUN` takes it back", false},
	{LedgerBroken, Blocker, "Nexlin's own record of the copy can't be read, so nothing can be proven.",
		"keep both sides; compare them by hand with `diff -r`", false},
	{LateWrite, Warning, "Something was written to the held original after the switch.",
		"`nexlin discard-original NAME` brings it over to the target before it deletes anything", false},
	{LateConflict, Blocker, "Held original and target were both changed after the switch; both are kept.",
		"compare the two files, keep what is right in the target, then remove the held one yourself", false},
	{ChangedSince, Warning, "The target has changed since the switch, as it does when people work.",
		"if that is your work: `--accept changed-since`", true},
	{ChangedQuiet, Warning, "Content changed without a newer modification time (mapped writes, or a program that " +
		"keeps times).", "if that is your work: `--accept changed-since`", true},
	{GoneAtTarget, Warning, "Entries of the held original are no longer at the target.",
		"if you deleted them: `--accept gone-at-target`", true},
	{Rot, Blocker, "A file at the target has other content than was verified, and nothing says that anybody wrote " +
		"to it.", "the held original still has the right content: copy these files back from it", false},
	{Stranger, Warning, "Entries that Nexlin did not make lie in its working directory; they are left there.",
		"look at them and put them where they belong", false},
	{ArchiveKept, Info, "An archive that the administrator made holds entries of other accounts than the folder's, " +
		"so it was not given to that account.",
		"nothing needs doing; give it away yourself only if that account may read all of it", false},
	{OlderAside, Info, "A merge replaced entries of the target; they were set aside on the drive.",
		"they are yours to look at and to delete", false},
	{GapFilled, Warning, "Something was made at the link path between the two renames of the switch; it was set " +
		"aside, not deleted.", "look at it, and put what you need of it into the folder", false},
	{CopyDiffers, Blocker, "The copy is not what the original is, so it is not taken in.",
		"make the two equal, and try again; nothing was changed", false},
	{NeverCopied, Warning,
		"The move began with an empty target: what is held was never copied, and is the only copy.",
		"if you do not need it any more: `--accept never-copied`", true},
	{HeldChanged, Blocker, "The held original is not as it was held: something of it is gone, or was changed.",
		"`nexlin bring-back NAME` brings the data back as it is now at the target", false},
	{MetaDiffers, Blocker, "The copy has other permissions, owners, attributes, hard links or, where they are asked " +
		"for, times than the original.", "if that is all right: `--accept metadata-differs`", true},
	{MoreInCopy, Info, "The copy has entries that the original has not, as it has when people work there.",
		"nothing needs doing", false},
	{NothingToProve, Warning, "There is no original to hold the data against: it is taken as it is.",
		"name one with `--original DIR` if there is one", false},
	{SeveralLeft, Blocker, "More than one folder beside the link could be its original.",
		"name the right one with `--original DIR`", false},
	{KnownAlready, Info, "The ledger knows this redirect.", "nothing needs doing", false},
	{AccountUnknown, Blocker, "The account that the data belongs to is not on this machine.",
		"`--account OLD=NEW` says which account it is here", false},
	{DeclaredTwice, Blocker, "An accounts file wants two things of one place.",
		"change the file, so that each folder and each place on a drive stands in it once", false},
	{LedOtherwise, Blocker, "Programs are led to the data by another method than the accounts file declares.",
		"write the method that there is into the file; or `nexlin accounts withdraw FILE` and then apply it", false},
	{OtherAccount, Info, "The data belongs to another account.", "run as that account, or as administrator", false},
	{HiddenPlace, Blocker, "The drive says that the link belongs into a hidden place of the home, where what is on " +
		"the drive would take effect as settings, keys or programs.",
		"if you moved that folder there yourself: `--accept hidden-place`", true},
	{NoteUnproven, Blocker, "A note on the drive does not fit the manifest beside it, and no run here wrote it.",
		"if you know the drive and the folder: `--accept note-unproven`; `nexlin record` proves what it takes in",
		true},
	{OutsideHome, Blocker, "The drive says that the link belongs outside the account's home.",
		"if that is right: `--accept outside-home`", true},
	{RecordLost, Warning, "The manifest on the drive can't be used, so what is at the target is taken as it is.",
		"compare with a backup if you doubt it", false},
	{FolderInWay, Info, "A real folder stands where the link belongs.",
		"it is merged into the target and held; `--folders hold` holds it as it is", false},
	{HeldInUse, Blocker, "A program still has the held original open.", "quit the program and try again", false},
	{ProgramRuns, Blocker, "The program that owns the folder is at work.", "quit it and try again", false},
	{SandboxCut, Warning, "Programs in sandboxes or confined by a profile see the folder where it is, and would not " +
		"see it where it goes: they can't follow the link.",
		"give them the permission to see the new place; without `removable-media` a snap can't have it", false},
	{SandboxGrant, Info, "Programs in sandboxes were given the permission to see the place that the folder leaves.",
		"take it back, unless they need something else there", false},
	{CardKnown, Info, "A card knows this folder: it stops the program and changes its settings, too.",
		"name it as card:CARD", false},
	{NoStore, Blocker, "The engine has registered no store of this name.",
		"names must match exactly; the preview lists what the engine has", false},
	{StoreElsewhere, Warning, "The engine does not have the store where it was carried in.",
		"ask the engine what it has; if somebody moved the store on, `nexlin detach NAME` ends the record", false},
	{PackSameDrive, Warning, "The archive lies on the same drive as the folder, and would be lost with it.",
		"name a file on another drive", false},
	{NoOtherCopy, Info,
		"The target is the only copy: nothing is held any more, and no archive of it was made lately.",
		"`nexlin pack NAME --output FILE` makes one on another drive", false},
	{MergeConflict, Blocker, "Folder and target both have entries of a name, with other content.",
		"rename one of each, or `--accept both-have-it`: then the target's keep their names, and the folder's go " +
			"beside them under another", true},
	{NoRoomToGrow, Warning, "The drive has too little room for the folder to grow as it does.",
		"free room there, or choose a larger drive; `--accept no-room-to-grow` goes on", true},
	{StepFailed, Warning, "A step that a card has for after the run failed.",
		"start the program by hand and look at what it says", false},
	{MustStay, Blocker, "This place must not be moved.", "see the reason in the message; name another folder", false},
	{OnDemand, Blocker, "The program keeps only what was opened last and fetches the rest when it is needed: this " +
		"is no whole copy, but a cache.", "set the program to keep everything on this computer, or to keep nothing " +
		"here; `--accept fetched-on-demand` moves what is there", true},
	{NoSetting, Blocker, "The system keeps no location setting for this folder, so there is none to change.",
		"`--by symlink` leaves a link behind, which programs follow without a setting", false},
	{SettingUnusable, Blocker, "A settings file can't be read or may not be changed.",
		"see the message; quit the program that owns the file, or run as the account that owns it", false},
	{SettingDiffers, Blocker, "A settings file does not name the folder where it should, so changing it would lead " +
		"the program elsewhere.", "look at the value: start the program once if it has not written it yet, or " +
		"correct the address in the card", false},
	{PassedOver, Info, "A profile folder is not moved with the others.", "nothing needs doing", false},
	{SettingDrifted, Warning, "A setting does not lead to the target any more: a program or a person has changed it.",
		"`nexlin mend NAME` sets it again", false},
}

// shows is what programs that use the folder probably show, by cause.
var shows = map[Code]string{
	DriveAway: "\"file not found\", an empty library, or a question where the folder is; some make a new, " +
		"empty folder",
	Covered:        "\"file not found\", an empty library, or other files than yours",
	DriveSwapped:   "\"file not found\", or that their data is damaged",
	DriveElsewhere: "\"file not found\", or that their data is damaged, although it is whole",
	DriveReadOnly:  "\"can't save\", \"access denied\", or a full drive",
	LinkMissing:    "an empty library, or a start as if for the first time",
	LinkChanged:    "other files than yours, or none",
	LinkLoop:       "\"too many levels of symbolic links\"",
	SettingDrifted: "an empty library, gaps, or the old place in its settings",
	FolderSplit:    "only what is new; what is old seems to be gone",
	TargetMissing:  "\"file not found\", or an empty library",
	TargetUnread:   "input/output errors, or that they hang",
	TargetNoWrite:  "\"access denied\"; backups of devices stop in the middle",
	SpaceLow:       "that the drive is full; backups of devices stop in the middle",
	BelowMount:     "only what is new; what is old seems to be gone",
}

// Package preflight looks at what could go wrong before something changes, and tells it
// as findings. It changes nothing, and does not know what is going to be done.
package preflight

import (
	"context"
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"sync"

	"nexlin/internal/finding"
	"nexlin/internal/handle"
	"nexlin/internal/inventory"
	"nexlin/internal/pathtext"
)

// Entries gives one finding about the entries of a listing in the folder root, if there
// are any.
func Entries(root string, code finding.Code, l inventory.Listing, what string) []finding.Finding {
	if l.Count == 0 {
		return nil
	}
	var paths []string
	for _, rel := range l.Paths {
		paths = append(paths, filepath.Join(root, rel))
	}
	noun := "entries"
	if l.Count == 1 {
		noun = "entry"
		what = singular(what)
	}
	return []finding.Finding{finding.New(code, paths[0], "%d %s in %s %s", l.Count, noun, root, what).Listing(l.Count,
		paths)}
}

// singular turns what is said of many entries into what is said of one.
func singular(what string) string {
	for _, p := range [][2]string{
		{"are other file systems", "is another file system"},
		{"are FIFOs, sockets or devices", "is a FIFO, socket or device"},
		{"are device nodes", "is a device node"}, {"are symbolic links", "is a symbolic link"},
		{"are programs", "is a program"},
		{"are names of files", "is a name of a file"}, {"have names that are", "has a name that is"},
		{"have further names", "has further names"}, {"are larger", "is larger"}, {"are ", "is "},
		{"belong ", "belongs "}, {"have ", "has "},
	} {
		if rest, ok := strings.CutPrefix(what, p[0]); ok {
			return p[1] + rest
		}
	}
	return what
}

// MountsInside finds what is mounted inside a folder.
func MountsInside(root string, f *inventory.Facts) []finding.Finding {
	return Entries(root, finding.MountInside, f.Mounts,
		"are other file systems mounted inside the folder, or subvolumes of their own")
}

// Unkept finds entries of a folder that this account, or this version, can't bring
// over as they are, whatever the drive keeps.
func Unkept(root string, f *inventory.Facts, l *inventory.Limits) (out []finding.Finding) {
	say := func(code finding.Code, l inventory.Listing, what string) {
		out = append(out, Entries(root, code, l, what)...)
	}
	say(finding.Unreadable, f.Unreadable, "can't be read by this account")
	out = append(out, MountsInside(root, f)...)
	say(finding.FlagsLost, f.Marked, "have marks of their file system: names without regard to case, or a project")
	say(finding.HandlingLost, f.Handled, "have marks for the file system, which the copy will not have: not for "+
		"dumps, compressed, written in place or at once, or read without noting when")
	if !handle.Administrator() {
		if !l.FixedOwner {
			say(finding.OwnerRights, f.Foreign, "belong to accounts or groups that this account can't give them to")
		}
		say(finding.SpecialFiles, f.Devices, "are device nodes, which only an administrator can make")
	}
	say(finding.AttributesRights, f.Privileged, "have attributes that only an administrator may set")
	say(finding.Immutable, f.Immutable, "are marked as not to be changed")
	for _, denied := range Entries(root, finding.RemovalDenied, f.Unremovable,
		"have an access list that denies everybody removing them") {
		out = append(out, allowRemoval(denied, root))
	}
	say(finding.HardLinksOut, f.HardOut, "have further names outside the folder")
	say(finding.NotKeptYet, f.Other, "are encrypted by the file system, entry by entry")
	say(finding.LinksOdd, f.OddLinks, "are links of a kind that only what made them can follow")
	say(finding.Placeholders, f.Placeholders, "are placeholders, whose content is elsewhere")
	return out
}

// NamedInside finds files in a folder that name it by its path: what made them follows the link, and
// nothing where there is none.
func NamedInside(root string, f *inventory.Facts, linkless bool) []finding.Finding {
	what := "name the folder by its path, as environments of Python and worktrees of Git do"
	if linkless {
		what += ", and no link will be there"
	} else {
		what += ": the link leads them"
	}
	found := Entries(root, finding.PathInside, f.OwnPath, what)
	for i := range found {
		if linkless {
			found[i] = found[i].As(finding.Blocker)
		}
	}
	return found
}

// CheckRemoval asks whether the folder called name in dir may be put aside, before anything is
// copied; nil if it may.
func CheckRemoval(dir *handle.Dir, name string) (*finding.Finding, error) {
	err := dir.MayRemove(name)
	if !errors.Is(err, fs.ErrPermission) {
		return nil, err
	}
	at := dir.Join(name)
	f := allowRemoval(finding.New(finding.RemovalDenied, at, "an access list denies deleting or renaming %s", at), at)
	return &f, nil
}

// Exposed asks, where access lists and not modes say it, whether a private folder would be open
// to other accounts in a directory: what is made there takes the directory's list. nil if not.
func Exposed(from, into *handle.Dir) (*finding.Finding, error) {
	open, _, err := from.OpenToOthers()
	if err != nil || open {
		return nil, err
	}
	if _, open, err = into.OpenToOthers(); err != nil || !open {
		return nil, err
	}
	f := finding.New(finding.PrivateExposed, into.Path(),
		"%s is private, and other accounts may read what is made in %s", from.Path(), into.Path())
	return &f, nil
}

// allowRemoval gives a finding the command that takes the denial away, where there is one.
func allowRemoval(f finding.Finding, folder string) finding.Finding {
	if handle.Windows {
		return f
	}
	return f.Instead("`chmod -R -a \"group:everyone deny delete\" " + pathtext.Quote(folder) + "` takes that entry " +
		"out of the access lists; then give this command again")
}

// ownGroups are the groups this account may give to its files.
var ownGroups = sync.OnceValue(func() map[uint32]bool {
	groups := map[uint32]bool{uint32(os.Getegid()): true}
	if more, err := os.Getgroups(); err == nil {
		for _, g := range more {
			groups[uint32(g)] = true
		}
	}
	return groups
})

// mayGive tells whether any account could give this owner to its files; an
// administrator may give others where the drive keeps them, as tried.
func mayGive(uid, gid uint32) bool { return uid == uint32(os.Geteuid()) && ownGroups()[gid] }

// Measure is [inventory.Measure] of a folder that is to be brought over by this account.
func Measure(ctx context.Context, root *handle.Dir, o inventory.Options) (inventory.Facts, error) {
	o.MayGive, o.Root = mayGive, handle.Administrator()
	return inventory.Measure(ctx, root, o)
}

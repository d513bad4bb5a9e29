package preflight

import (
	"os"
	"path/filepath"

	"nexlin/internal/drive"
	"nexlin/internal/finding"
	"nexlin/internal/handle"
	"nexlin/internal/ledger"
	"nexlin/internal/pathtext"
)

const (
	// ledgerRoom is kept free for the journal of a run, in bytes.
	LedgerRoom = 4 << 20
	// recordSize is what one entry takes in a spool with the two passes that
	// may lie there at once, and in the frozen manifest; bytes, generous.
	recordSize = 900
	// manifestSize is what one entry takes in the manifest on the drive.
	manifestSize = 300
)

// TwoPlaces finds a folder and its target that lie in one another.
func TwoPlaces(from, to string) []finding.Finding {
	switch {
	case pathtext.Within(to, from):
		return []finding.Finding{finding.New(finding.TargetInSource, to, "%s lies inside %s", to, from)}
	case pathtext.Within(from, to):
		return []finding.Finding{finding.New(finding.SourceInTarget, from, "%s lies inside %s", from, to)}
	}
	return nil
}

// TwoDrives finds a folder and its target on one drive; one that is not known is another.
func TwoDrives(from, to string, fromNow, intoNow *drive.Drive) []finding.Finding {
	if fromNow.Mount == "" || intoNow.Mount == "" || !fromNow.Same(intoNow) {
		return nil
	}
	return []finding.Finding{finding.New(finding.SameDrive, to, "%s and %s both lie on %s", from, filepath.Dir(to),
		intoNow.Name())}
}

// Need is what a copy takes on a drive, in bytes: content rounded to its
// blocks, the manifest, the note and the tag.
func Need(rounded, entries, block int64) int64 { return rounded + entries*manifestSize + 2*block }

// RoomFor holds what a copy needs, in bytes and entries, against what the drive of its
// directory has; it must be able to grow there by a factor, of which 0 says nothing.
func RoomFor(into string, d *drive.Drive, need, entries int64, growth float64) (out []finding.Finding) {
	grown := need
	if growth > 1 {
		grown = int64(float64(need) * growth)
	}
	if short := d.Short(need); short > 0 {
		out = append(out, finding.New(finding.SpaceShort, into, "%s has too little room: needed %s and a reserve of "+
			"%s, free %s, short by %s", d.Name(), pathtext.Size(need), pathtext.Size(d.Reserve()),
			pathtext.Size(d.Free), pathtext.Size(short)).OnDrive(d.Name()))
	}
	if short := d.Short(grown); short > 0 && d.Short(need) == 0 {
		out = append(out, finding.New(finding.NoRoomToGrow, into, "%s has room for the folder as it is, and not for "+
			"what it becomes: %s with room to grow by the factor %g, free %s, short by %s", d.Name(),
			pathtext.Size(grown), growth, pathtext.Size(d.Free),
			pathtext.Size(short)).OnDrive(d.Name()).As(finding.Blocker))
	}
	if d.Inodes >= 0 && entries+16 > d.Inodes {
		out = append(out, finding.New(finding.InodesShort, into, "%s has %d inodes left, and the folder has %d entries",
			d.Name(), d.Inodes, entries).OnDrive(d.Name()))
	}
	return out
}

// RoomForRecords holds what the records of a run with so many entries need against
// what the drive of the ledger has.
func RoomForRecords(dir string, entries int64) []finding.Finding {
	need := LedgerRoom + entries*recordSize
	free, err := ledger.CheckRoom(dir)
	if err != nil || free >= need {
		return nil
	}
	return []finding.Finding{finding.New(finding.LedgerRoom, dir, "the records of this run need %s, and the drive of "+
		"%s has %s free", pathtext.Size(need), dir, pathtext.Size(free))}
}

// MayRename finds directories in which this account may not rename the entries of an
// account; what is not there is passed over.
func MayRename(uid uint32, dirs ...string) (out []finding.Finding, err error) {
	for _, at := range dirs {
		d, err := handle.OpenReal(at)
		if handle.Missing(err) {
			continue
		}
		if err != nil {
			out = append(out, finding.New(finding.LinkImpossible, at, "%s can't be opened: %v", at, handle.Cause(err)))
			continue
		}
		st, err := d.Self()
		denied := d.Access(".", handle.MayWrite|handle.MayEnter) != nil
		d.Release()
		if err != nil {
			return out, err
		}
		me := uint32(os.Geteuid())
		sticky := st.Mode&handle.Sticky != 0 && me != 0 && st.UID != me && uid != me
		if denied || sticky {
			out = append(out, finding.New(finding.LinkImpossible, at, "this account may not rename entries in %s", at))
		}
	}
	return out, nil
}

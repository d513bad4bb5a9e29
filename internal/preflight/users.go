package preflight

import (
	"context"
	"fmt"
	"slices"
	"time"

	"nexlin/internal/finding"
	"nexlin/internal/inuse"
	"nexlin/internal/inventory"
	"nexlin/internal/pathtext"
	"nexlin/internal/shell"
)

// Sockets finds programs that wait at a socket of the folder.
func Sockets(root string, facts *inventory.Facts, t Tolerance) []finding.Finding {
	if facts.Sockets.Count == 0 {
		return nil
	}
	live := inuse.Listening(root)
	if len(live) == 0 {
		return nil // names that a program left behind: kept as they are
	}
	f := finding.New(finding.SocketsLive, live[0], "a program waits for connections at %s", live[0])
	if t.WhileInUse || t.Stops {
		f.Severity = finding.Warning
	}
	return []finding.Finding{f.Listing(len(live), live)}
}

// A Tolerance is what a person allows programs that use a folder.
type Tolerance struct {
	WhileInUse bool          // they may go on
	Stops      bool          // a step before the copy stops them
	WaitQuiet  time.Duration // how long to wait until they write no more; 0 waits for none
}

// Users looks for programs that have a folder open.
func Users(ctx context.Context, root string, t Tolerance) (report inuse.Report, out []finding.Finding, err error) {
	if report, err = inuse.Below(ctx, root); err != nil {
		return report, nil, err
	}
	if !report.Complete {
		out = append(out, finding.New(finding.InUseUnknown, root,
			"not every program can be looked at, so one may have the folder open unseen"))
	}
	if len(report.Holders) == 0 {
		return report, out, nil
	}
	writers := report.Writers()
	f := finding.New(finding.InUse, root, "%s is open in %s", root, inuse.Programs(report.Holders))
	f = f.Listing(len(report.Holders), Paths(report.Holders))
	switch {
	case len(writers) == 0:
		f.Severity = finding.Warning
		f.Remedy = "quit them if they are going to write there"
	case t.WhileInUse:
		f.Severity = finding.Warning
		f.Remedy = "what they write during the switch is looked for and brought over"
	case t.Stops:
		f.Severity = finding.Warning
		f.Remedy = "it is stopped first, and whether it has is looked at"
	case t.WaitQuiet > 0:
		f.Severity = finding.Warning
		f.Remedy = "the run waits for up to " + t.WaitQuiet.String() + " until they are done"
	default:
		f.Message = fmt.Sprintf("%s has files open for writing in %s", inuse.Programs(writers), pathtext.Show(root))
		if s := writers[0].Service; s != "" {
			f.Remedy = "it is a service: `" + shell.Here.StopService(s) +
				"`, with --user for one of your own; `--while-in-use` goes on knowingly"
		}
	}
	return report, append(out, f), nil
}

// Paths are the first of the paths that holders have, for a finding to list.
func Paths(hs []inuse.Holder) []string {
	var out []string
	for _, h := range hs[:min(len(hs), finding.Listed)] {
		out = append(out, h.Path)
	}
	return slices.Compact(out)
}

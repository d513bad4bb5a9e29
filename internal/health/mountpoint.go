package health

import (
	"context"
	"fmt"
	"slices"

	"nexlin/internal/drive"
	"nexlin/internal/engine"
	"nexlin/internal/finding"
	"nexlin/internal/handle"
	"nexlin/internal/inventory"
	"nexlin/internal/pathtext"
	"nexlin/internal/plan"
	"nexlin/internal/shell"
)

// mountPoint looks at the directory that the drive is mounted on: whether it
// will be again at the next start, and whether somebody wrote into it while
// the drive was not there.
func (r *Report) mountPoint(e *engine.Engine) error {
	at := r.Redirect.Drive.Mount
	if plan.ForOthers(r.Redirect) {
		return nil
	}
	if r.inPlace() {
		r.nextStart()
	}
	if pathtext.IsRoot(at) || e.Drives.File != "" {
		return nil
	}
	if r.inPlace() && !drive.Mounted(at) {
		return nil // a part of a drive that is mounted higher up
	}
	entries, hidden := e.BelowMount(at)
	if entries == 0 {
		return nil
	}
	if known, err := e.KnownBelow(at, r.Redirect.Drive); known || err != nil {
		return err // it is data of another redirect, whose own look tells what hides it
	}
	aside := []string{shell.Here.Rename(at, at+".stray-"+drive.NewID()[:8]), shell.Here.MakeDir(at)}
	label := pathtext.Show(r.Redirect.Drive.Label)
	f := r.find(finding.BelowMount, at, "the mount point %s itself holds something (%d), on another drive than %s",
		at, entries, label)
	if !hidden {
		r.add(f.Instead(fmt.Sprintf("set it aside before %s is mounted over it: `%s`", label,
			shell.Here.Then(aside...))))
		return nil
	}
	f.Message += ", hidden while " + label + " is mounted"
	again := ""
	if id := r.Redirect.Drive.UUID; id != "" {
		again = shell.Here.Mount(id, at)
	}
	r.add(f.Instead("set it aside: `" +
		shell.Here.Then(slices.Concat([]string{shell.Here.Unmount(at)}, aside, []string{again})...) + "`"))
	return nil
}

func (r *Report) nextStart() {
	d := r.Drive
	label := pathtext.Show(d.Name())
	switch r.Start {
	case drive.StartLogin:
		r.add(r.find(finding.NotAtStart, d.Mount, "%s is mounted only once somebody has logged in at the desktop",
			label).
			Instead("programs that start by themselves find it too late; a line in /etc/fstab mounts it at every " +
				"start: `" + d.FstabLine() + "`"))
	case drive.StartNever:
		r.add(r.find(finding.NotAtStart, d.Mount, "nothing mounts %s when the machine starts", label).
			Instead("that is usual for a portable drive; for one that stays, a line in /etc/fstab: `" + d.FstabLine() +
				"`"))
	}
}

// halves tells how much stands on either side where a real folder took the
// link's place.
func (r *Report) halves(ctx context.Context) error {
	for i, f := range r.Findings {
		if f.Code != finding.FolderSplit {
			continue
		}
		half, err := handle.OpenReal(r.Redirect.Link)
		if err != nil {
			return nil // it went meanwhile, or is not for this account to look at
		}
		defer half.Release()
		facts, err := inventory.Measure(ctx, half, inventory.Options{SkipDeep: true})
		if err != nil {
			return err
		}
		r.Findings[i].Message += fmt.Sprintf(": %s in it, and %d went to the target when it was moved",
			pathtext.Files(facts.Files), r.Redirect.Files)
	}
	return nil
}

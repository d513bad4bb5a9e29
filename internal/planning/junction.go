package planning

import (
	"path/filepath"
	"slices"
	"strings"

	"nexlin/internal/drive"
	"nexlin/internal/execute"
	"nexlin/internal/finding"
	"nexlin/internal/handle"
	"nexlin/internal/junction"
	"nexlin/internal/ledger"
	"nexlin/internal/link"
	"nexlin/internal/plan"
)

// A TargetForm says how a junction names its target.
type TargetForm string

// A drive's letter is what people know; the volume's own name stays when the
// letter changes.
const (
	ByLetter TargetForm = "letter"
	ByVolume TargetForm = "volume"
)

// ChooseText decides what the link of the plan says: the target's path, or, for
// a junction, the target as Windows names it. What it can't say is a finding.
func ChooseText(p *plan.Plan, form TargetForm, seen string) {
	p.LinkText = p.Target
	if !slices.Contains(p.Methods, plan.ByJunction) {
		checkForWindows(p)
		return
	}
	if p.IntoNow.Mount == "" {
		return // it is not known where it leads
	}
	place, ok := WindowsName(p, form, seen)
	if !ok {
		return
	}
	text, err := link.JunctionTo(place)
	if err != nil {
		p.Add(finding.New(finding.LinkImpossible, p.Link, "%s", err).Named(p.Name).
			Instead("a junction leads to a directory on a drive of the machine, such as `D:\\ines\\Documents`"))
		return
	}
	p.LinkText = text
	for _, d := range []struct {
		drive *drive.Drive
		path  string
	}{{p.LinkDrive(), p.Link}, {&p.IntoNow, p.Target}} {
		if d.drive.Mount != "" && !d.drive.ForWindows() {
			p.Add(finding.New(finding.WindowsUnseen, d.path, "%s lies on %s (%s), which Windows can't read", d.path,
				d.drive.Name(), d.drive.FS).Named(p.Name))
		}
	}
}

// checkForWindows warns about a link that only this system would follow, where
// Windows is at home.
func checkForWindows(p *plan.Plan) {
	if d := p.LinkDrive(); !handle.Windows && d.NTFS() && !p.Linkless() {
		p.Add(finding.New(finding.WindowsUnseen, p.Link, "%s lies on a drive of Windows, which does not follow the "+
			"links that this system makes", p.Link).Named(p.Name))
	}
}

// WindowsName is the target as Windows names it; false if that can't be known,
// which is a finding.
func WindowsName(p *plan.Plan, form TargetForm, seen string) (string, bool) {
	target := p.Target
	if handle.Windows && seen == "" {
		if form != ByVolume {
			return target, true
		}
		name := drive.VolumeName(p.IntoNow.Mount)
		if name == "" {
			p.Add(finding.New(finding.LinkImpossible, target, "%s has no volume name",
				p.IntoNow.Name()).Named(p.Name).Instead("`--target-form letter`"))
			return "", false
		}
		return name + strings.TrimPrefix(target, filepath.VolumeName(target)+`\`), true
	}
	if seen == "" {
		p.Add(finding.New(finding.SeenMissing, target, "a junction has to name the target as Windows does, and "+
			"this system does not know how that is").Named(p.Name))
		return "", false
	}
	place, err := junction.Clean(execute.WithRoot(seen))
	if err != nil {
		p.Add(finding.New(finding.SeenDiffers, seen, "%s", err).Named(p.Name))
		return "", false
	}
	rel := strings.ReplaceAll(relative(p.IntoNow.Mount, target), "/", `\`)
	if junction.IsRoot(place) {
		return strings.TrimSuffix(place, `\`) + `\` + rel, true
	}
	if !strings.HasSuffix(strings.ToLower(place), `\`+strings.ToLower(rel)) {
		p.Add(finding.New(finding.SeenDiffers, place, "%s does not end in the target's path on %s, %s", place,
			p.IntoNow.Name(), rel).Named(p.Name))
		return "", false
	}
	return place, true
}

// TextFor is what the link of a redirect says once its target lies at a path
// on the same drive: a junction's text follows the drive's letter on Windows,
// and stays where it names the volume, or another system's letter.
func TextFor(r *ledger.Redirect, target string) string {
	if r.Text == "" || !handle.Windows || strings.HasPrefix(r.Text, handle.JunctionText+"Volume{") {
		return r.Text
	}
	text, err := link.JunctionTo(target)
	if err != nil {
		return r.Text
	}
	return text
}

// methodsAsked gives the methods of a move: those that were asked for, else a link.
// Where this account may not make symbolic links on Windows, that is a junction.
func methodsAsked(p *plan.Plan, asked []string) []string {
	if len(asked) > 0 || !handle.Windows || !p.Limits.NoSymlinks || !p.IntoNow.NTFS() {
		return asked
	}
	p.Add(finding.New(finding.JunctionTaken, p.Link, "this account may not make symbolic links").Named(p.Name))
	return []string{plan.ByJunction}
}

// ChooseLink decides how a link is made of which nobody said how: on Windows as a
// junction, which needs no right of its own.
func ChooseLink(p *plan.Plan) {
	if handle.Windows {
		p.Methods = []string{plan.ByJunction}
		ChooseText(p, ByLetter, "")
	}
}

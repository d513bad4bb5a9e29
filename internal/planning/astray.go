package planning

import (
	"errors"
	"fmt"
	"io/fs"
	"path/filepath"
	"syscall"

	"nexlin/internal/drive"
	"nexlin/internal/engine"
	"nexlin/internal/finding"
	"nexlin/internal/handle"
	"nexlin/internal/ledger"
	"nexlin/internal/link"
	"nexlin/internal/note"
	"nexlin/internal/pathtext"
	"nexlin/internal/plan"
	"nexlin/internal/transfer"
)

// LookAtLink tells what is wrong with what stands at the link path of a
// redirect; nothing if it is its link, or if it is not this account's to look
// at.
func LookAtLink(r ledger.Redirect) ([]finding.Finding, error) {
	if plan.Owned(r) {
		return nil, nil // the engine knows where its store is; what it keeps at the old place is its own
	}
	one := func(code finding.Code, text string) ([]finding.Finding, error) {
		return []finding.Finding{astray(&r, code, text)}, nil
	}
	shown := pathtext.Show(r.Link)
	parent, err := handle.OpenReal(filepath.Dir(r.Link))
	if errors.Is(err, fs.ErrPermission) {
		return nil, nil
	}
	if handle.Absent(err) {
		return []finding.Finding{astray(&r, finding.LinkMissing, "the directory of the link is gone, or is a link "+
			"itself: "+pathtext.Show(filepath.Dir(r.Link))).Instead("make the directory again, then `nexlin mend " +
			pathtext.Quote(r.Name) + "`")}, nil
	}
	if err != nil {
		return nil, err
	}
	defer parent.Release()
	st, err := parent.Stat(filepath.Base(r.Link))
	switch {
	case r.State == ledger.Detached && err == nil && st.IsDir():
		return []finding.Finding{astray(&r, finding.FolderInWay, "a real folder stands at "+shown+
			", where the link was before it was taken away").Instead("nothing needs doing; `nexlin mend " +
			pathtext.Quote(r.Name) + " --attach` merges it into the target and makes the link again")}, nil
	case r.State == ledger.Detached && (err == nil || handle.Missing(err)):
		return nil, nil // whatever stands there, it is somebody's own
	case handle.Missing(err) && plan.Linkless(r.Methods):
		return nil, nil
	case handle.Missing(err):
		return one(finding.LinkMissing, "the link "+shown+" is gone")
	case err != nil:
		return nil, err
	case st.IsDir():
		return one(finding.FolderSplit, "a real folder stands at "+shown+", where the link was")
	case !st.IsSymlink():
		return []finding.Finding{astray(&r, finding.LinkChanged, shown+" is no link any more, but a file").
			Instead(fmt.Sprintf("look at it, set it aside under another name, then `nexlin mend %s`",
				pathtext.Quote(r.Name)))}, nil
	}
	text, err := parent.Readlink(filepath.Base(r.Link))
	if err != nil || text == r.LinkText() {
		return nil, err
	}
	return one(leadsElsewhere(&r, text))
}

// astray is a finding about the link of a redirect.
func astray(r *ledger.Redirect, code finding.Code, text string) finding.Finding {
	return finding.New(code, r.Link, "%s", text).About(finding.Subject{Name: r.Name, Drive: r.Drive.Label})
}

// leadsElsewhere is what is wrong with a link that says another text.
func leadsElsewhere(r *ledger.Redirect, text string) (finding.Code, string) {
	shown, says, target := pathtext.Show(r.Link), pathtext.Show(text), pathtext.Show(r.Target)
	_, resolved, err := link.Chain(r.Link)
	switch {
	case link.IsJunction(text) || r.Text != "":
		return finding.LinkChanged, fmt.Sprintf("%s leads to %s, not to %s", shown, pathtext.Show(link.Seen(text)),
			pathtext.Show(link.Seen(r.LinkText())))
	case errors.Is(err, syscall.ELOOP):
		return finding.LinkLoop, fmt.Sprintf("%s leads to %s and so round to itself, not to %s", shown, says, target)
	case err == nil && resolved == r.Target:
		return finding.LinkIndirect, fmt.Sprintf("%s leads to %s, and only from there to %s", shown, says, target)
	}
	return finding.LinkChanged, fmt.Sprintf("%s leads to %s, not to %s", shown, says, target)
}

// LookForNote reads the target note of a redirect. One that this account may
// not see is no error.
func LookForNote(r ledger.Redirect) error {
	_, err := noteBeside(r)
	return err
}

// noteBeside reads the note of a redirect; nil if this account may not, or if
// there is no directory to look in.
func noteBeside(r ledger.Redirect) (*note.Note, error) {
	parent, err := handle.OpenReal(filepath.Dir(r.Target))
	if err != nil {
		return nil, nil // that is another finding
	}
	defer parent.Release()
	rec, err := parent.Beneath(drive.RecordDir)
	var n *note.Note
	if err == nil {
		defer rec.Release()
		n, err = note.Read(rec, r.Name)
	}
	if errors.Is(err, fs.ErrPermission) {
		return nil, nil
	}
	return n, err
}

// StaleNote reports a note that is gone, or speaks of another machine's link.
func StaleNote(r ledger.Redirect) bool {
	n, err := noteBeside(r)
	return err != nil || n != nil && (n.Link != r.Link || n.Account != r.Account || n.Run != r.Run)
}

// RenamedTarget looks beside a target that is gone for the same directory
// under another name. Empty if there is none.
func RenamedTarget(e *engine.Engine, r ledger.Redirect) (string, error) {
	spool, err := e.SpoolOf(r.Run)
	if err != nil {
		return "", nil // without a record it can't be known again
	}
	defer spool.Close()
	root := transfer.Read(spool).Peek()
	if root == nil || root.Fact.Copy.Ino == 0 {
		return "", nil
	}
	parent, err := handle.OpenReal(filepath.Dir(r.Target))
	if err != nil {
		return "", nil // that is another finding
	}
	defer parent.Release()
	found := ""
	err = parent.EachName(func(name string) error {
		st, err := parent.Stat(name)
		if err == nil && st.IsDir() && st.Ino == root.Fact.Copy.Ino {
			found = parent.Join(name)
		}
		return nil
	})
	return found, err
}

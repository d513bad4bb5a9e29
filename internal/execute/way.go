package execute

import (
	"strings"

	"nexlin/internal/handle"
	"nexlin/internal/link"
)

// way is the path that a trial goes through: that of the link, or the target's
// where this system can't follow the junction. Then byBytes says that only its
// bytes were compared; the error is a *TrialError if they are others.
func way(at *handle.Dir, name, text string, target *handle.Dir) (path string, byBytes bool, err error) {
	path = at.Join(name)
	st, err := target.Self()
	if err != nil || follows(path, text, func(via *handle.Stat) bool { return via.SameInode(&st) }) {
		return path, false, err
	}
	ours, err := link.Is(at, name, text)
	if err == nil && !ours {
		err = link.ErrNotOurs
	}
	if err != nil {
		return path, true, &TrialError{path, "the junction does not read back as it was made", err}
	}
	return target.Path(), true, nil
}

// follows reports whether a trial can go through a link with this text: this
// system does not know the drive letters that a junction may name.
func follows(path, text string, same func(*handle.Stat) bool) bool {
	if handle.Windows || !link.IsJunction(text) {
		return true
	}
	via, err := handle.Open(path)
	if err != nil {
		return false
	}
	defer via.Release()
	st, err := via.Self()
	return err == nil && same(&st)
}

// WithRoot takes D: and a volume's name without the separator at the end for
// the roots they stand for.
func WithRoot(seen string) string {
	if strings.HasSuffix(seen, ":") || strings.HasSuffix(seen, "}") {
		return seen + `\`
	}
	return seen
}

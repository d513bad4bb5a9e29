package plan

import (
	"fmt"
	"hash/fnv"
	"path/filepath"
	"strings"

	"nexlin/internal/handle"
	"nexlin/internal/ledger"
	"nexlin/internal/naming"
)

// Halves says what becomes of entries that both halves have, with other
// content.
type Halves string

// A Choice is what a person wants of one path that both halves have.
type Choice struct {
	Path string `json:"path"` // relative
	Keep Keep   `json:"keep"`
}

// Keep names what a person keeps.
type Keep string

// What there is to choose. KeepHalf and KeepTarget keep one in use, and the
// other as with Newer.
const (
	KeepBothOf Keep = "both"
	KeepHalf   Keep = "half"
	KeepTarget Keep = "target"
)

// KeepBoth gives the name to the younger and keeps the other beside it.
// Newer keeps only the younger in use; the other stays held, or is set aside
// beside the target.
const (
	KeepBoth Halves = "keep-both"
	Newer    Halves = "newer"
	// Beside leaves every entry of the target as it is: what differs goes beside.
	Beside Halves = "beside"
	// HoldAll brings nothing over: the half is only held.
	HoldAll Halves = "hold"
)

// Whose entry is kept beside another.
const (
	OfHalf   = "half"
	OfTarget = "target"
)

// Beside is the name under which one of two entries of a name is kept: whose says which, and
// the ending stays, so that programs still know the kind.
func (p *Plan) Beside(name, whose string) string {
	mark := whose + "-" + p.Run + " "
	if len(mark)+len(name) <= naming.Max {
		return mark + name
	}
	h := fnv.New32a()
	h.Write([]byte(name))
	ext := filepath.Ext(name)
	if len(ext) > 16 {
		ext = ""
	}
	return naming.Shorten(mark+strings.TrimSuffix(name, ext), fmt.Sprintf(" %08x%s", h.Sum32(), ext))
}

// BesidePath is where an entry of the half lies in the target if it, or a
// directory above it, had to go beside another; path itself if none had to.
func (p *Plan) BesidePath(live *handle.Dir, path string) string {
	if !p.Traits().Merges {
		return path
	}
	at := "."
	for rest := path; rest != ""; {
		name, more, _ := cutPath(rest)
		beside := filepath.Join(at, p.Beside(name, OfHalf))
		if dir, base, err := live.Parent(beside); err == nil {
			_, err = dir.Stat(base)
			dir.Release()
			if err == nil {
				return filepath.Join(beside, more)
			}
		}
		at, rest = filepath.Join(at, name), more
	}
	return path
}

func cutPath(path string) (first, rest string, more bool) {
	for i := range len(path) {
		if path[i] == '/' {
			return path[:i], path[i+1:], true
		}
	}
	return path, "", false
}

// HalfOf opens the folder that a copy was made of which was set aside when its
// merge was taken back, if that stands there as a real folder again; nil
// otherwise.
func (p *Plan) HalfOf(h ledger.Held) *handle.Dir {
	if !p.Traits().Merges || !h.Copy {
		return nil
	}
	d, err := handle.OpenReal(p.Link)
	if err != nil {
		return nil // the link stands there again, and leads to the target
	}
	return d
}

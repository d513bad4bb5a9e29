package late

import (
	"context"
	"path/filepath"

	"nexlin/internal/inuse"
)

// WrittenTo tells which files below a folder somebody has open for writing, by
// their paths in it.
func WrittenTo(ctx context.Context, dir string) (map[string]bool, error) {
	holders, err := inuse.WritersBelow(ctx, dir)
	out := map[string]bool{}
	for _, h := range holders {
		if rel, err := filepath.Rel(dir, h.Path); err == nil {
			out[rel] = true
		}
	}
	return out, err
}

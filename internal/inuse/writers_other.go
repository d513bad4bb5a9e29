//go:build !linux

package inuse

import "context"

// WritersBelow is [Below] for those alone who may still change something, as
// [Report.Writers] picks them.
func WritersBelow(ctx context.Context, dir string) ([]Holder, error) {
	r, err := Below(ctx, dir)
	return r.Writers(), err
}

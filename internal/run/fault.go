package run

import "context"

// Point is a point at which tests stop a run; see fault_off.go. The error is that of a
// context that has ended.
func Point(ctx context.Context, name string) error {
	if err := ctx.Err(); err != nil {
		return err
	}
	return fault(name)
}

//go:build !linux

package drive

import (
	"context"
	"slices"
	"time"
)

// Changes tells that drives may have come or gone: something arrives on the
// channel after each change, and it is closed when ctx ends. The system is
// asked for its mounts twice a second.
func (s *System) Changes(ctx context.Context) (<-chan struct{}, error) {
	here := func() (out []string) {
		found, err := mounts()
		if err != nil {
			return nil // asked again soon
		}
		for _, d := range found {
			out = append(out, d.Mount+"\x00"+d.device)
		}
		return append(out, s.standinsHere())
	}
	out := make(chan struct{}, 1)
	go func() {
		defer close(out)
		seen := here()
		tick := time.NewTicker(500 * time.Millisecond)
		defer tick.Stop()
		for {
			select {
			case <-ctx.Done():
				return
			case <-tick.C:
			}
			if now := here(); !slices.Equal(now, seen) {
				seen = now
				select {
				case out <- struct{}{}:
				default: // one is waiting already
				}
			}
		}
	}()
	return out, nil
}

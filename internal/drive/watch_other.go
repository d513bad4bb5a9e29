//go:build !linux

package drive

import (
	"context"
	"time"
)

// Changes tells that drives may have come or gone: something arrives on the
// channel after each change, and it is closed when ctx ends. The system is
// asked what is there twice a second, and tells by itself where it can.
func (s *System) Changes(ctx context.Context) (<-chan struct{}, error) {
	out, seen := make(chan struct{}, 1), hereNow()+s.standinsHere()
	go func() {
		defer close(out)
		news, end := notices()
		defer end()
		tick := time.NewTicker(500 * time.Millisecond)
		defer tick.Stop()
		for {
			told := false
			select {
			case <-ctx.Done():
				return
			case <-news:
				told = true
			case <-tick.C:
			}
			if now := hereNow() + s.standinsHere(); told || now != seen {
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

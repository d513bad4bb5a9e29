package drive

import (
	"context"
	"errors"
	"fmt"
	"time"

	"golang.org/x/sys/unix"
)

// Changes tells that drives may have come or gone: something arrives on the
// channel after each change, and it is closed when ctx ends. The kernel says
// so at the mount table, which is to be waited at with poll(2) as proc(5)
// describes; stand-in drives are looked at twice a second.
func (s *System) Changes(ctx context.Context) (<-chan struct{}, error) {
	// Not by os.Open: the runtime's own poller would be told in our place.
	fd, err := unix.Open("/proc/self/mountinfo", unix.O_RDONLY|unix.O_CLOEXEC, 0)
	if err != nil {
		return nil, fmt.Errorf("watching the mounts: %w", err)
	}
	out, seen := make(chan struct{}, 1), s.standinsHere()
	go func() {
		defer close(out)
		defer unix.Close(fd)
		for ctx.Err() == nil {
			fds := []unix.PollFd{{Fd: int32(fd), Events: unix.POLLPRI}}
			n, err := unix.Poll(fds, int((500 * time.Millisecond).Milliseconds()))
			if err != nil && !errors.Is(err, unix.EINTR) {
				return
			}
			now := s.standinsHere()
			if n > 0 || now != seen {
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

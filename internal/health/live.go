package health

import (
	"context"
	"errors"
	"path/filepath"
	"time"

	"nexlin/internal/drive"
	"nexlin/internal/engine"
	"nexlin/internal/ledger"
)

// A LiveSpace is the room of both drives at one moment, and at the start.
// Bytes.
type LiveSpace struct {
	Since       time.Time
	Here, There Room
}

// A Room is one drive's.
type Room struct {
	Drive       string
	Before, Now int64 // free
}

// Taken is how much less is free than at the start; negative if more is.
func (r Room) Taken() int64 { return r.Before - r.Now }

// Live tells the room of the drive that a redirect's link lies on and of the
// one that its data lies on, at the start and whenever it has changed, looking
// every so often, until ctx ends. A program that saves through the link takes
// nothing here and all of it there.
func Live(ctx context.Context, e *engine.Engine, r ledger.Redirect, every time.Duration, tell func(LiveSpace)) error {
	here, err := e.Drives.Of(filepath.Dir(r.Link))
	if err != nil {
		return err
	}
	there, err := e.Drives.Of(r.Target)
	if err != nil {
		return err
	}
	s := LiveSpace{Since: time.Now(), Here: Room{here.Name(), here.Free, here.Free},
		There: Room{there.Name(), there.Free, there.Free}}
	tell(s)
	tick := time.NewTicker(every)
	defer tick.Stop()
	for {
		select {
		case <-ctx.Done():
			return nil
		case <-tick.C:
		}
		for _, d := range []*drive.Drive{&here, &there} {
			if err := e.Drives.Refresh(d); err != nil && !errors.Is(err, drive.ErrNoDrive) {
				return err
			}
		}
		if here.Free != s.Here.Now || there.Free != s.There.Now {
			s.Here.Now, s.There.Now = here.Free, there.Free
			tell(s)
		}
	}
}

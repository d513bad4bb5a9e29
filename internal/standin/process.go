package standin

import (
	"errors"
	"os"
	"os/exec"
	"time"
)

// Start starts a made-up program that stays, and waits until it is there.
func Start(here func() int, args ...string) error {
	exe, err := os.Executable()
	if err != nil {
		return err
	}
	c := exec.Command(exe, args...)
	apart(c)
	if err := c.Start(); err != nil {
		return err
	}
	ended := make(chan error, 1)
	go func() { ended <- c.Wait() }()
	for range 200 {
		if here() != 0 {
			return nil
		}
		select {
		case <-ended:
			return errors.New("it did not start")
		case <-time.After(20 * time.Millisecond):
		}
	}
	return errors.New("it did not start")
}

// Stop ends a made-up program and waits until it is gone.
func Stop(pid int) error {
	if pid == 0 {
		return nil
	}
	if err := end(pid); err != nil {
		return err
	}
	for range 200 {
		if !alive(pid) {
			return nil
		}
		time.Sleep(20 * time.Millisecond)
	}
	return errors.New("it does not stop")
}

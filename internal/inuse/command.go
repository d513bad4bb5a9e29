package inuse

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"os/exec"
	"strings"
	"time"
)

// outputLimit bounds what is kept of a command's output, in bytes.
const outputLimit = 64 << 10

// A Command is a program that is run without a shell, for an account.
type Command struct {
	Args   []string
	Within time.Duration // time limit; then it and what it started is killed
	UID    uint32        // the account; used only where this one is the administrator
	GID    uint32
	Env    []string // its whole environment
	Dir    string   // working directory; empty: the root
}

// A CommandError reports a command that failed.
type CommandError struct {
	Args   []string
	Output string // the end of what it said; may be empty
	Err    error
}

func (e *CommandError) Error() string { return strings.Join(e.Args, " ") + ": " + e.Cause() }

// Cause is the error without the command itself.
func (e *CommandError) Cause() string {
	if e.Output != "" {
		return fmt.Sprintf("%v: %s", e.Err, e.Output)
	}
	return e.Err.Error()
}
func (e *CommandError) Unwrap() error { return e.Err }

// ErrTooLong reports a command that did not end within its time limit.
var ErrTooLong = errors.New("it did not end within its time limit")

// Run runs a command and gives its output, without the white space at its
// ends. The error is a *CommandError.
func (c Command) Run(ctx context.Context) (string, error) {
	fail := func(out string, err error) (string, error) {
		if len(out) > 300 {
			out = "…" + out[len(out)-300:]
		}
		return "", &CommandError{c.Args, out, err}
	}
	if len(c.Args) == 0 {
		return fail("", errors.New("there is no command"))
	}
	limited, cancel := context.WithTimeout(ctx, c.Within)
	defer cancel()
	cmd := exec.CommandContext(limited, c.Args[0], c.Args[1:]...)
	cmd.Env, cmd.Dir = c.Env, c.Dir
	if cmd.Dir == "" {
		cmd.Dir = rootDir
	}
	out := &limitedWriter{}
	cmd.Stdout, cmd.Stderr = out, out
	cmd.WaitDelay = time.Second
	c.apart(cmd)
	err := cmd.Run()
	text := strings.TrimSpace(out.kept.String())
	switch {
	case ctx.Err() != nil:
		return fail(text, ctx.Err())
	case limited.Err() != nil:
		return fail(text, ErrTooLong)
	case errors.Is(err, exec.ErrWaitDelay): // it left something running that holds its output, as a starter does
		return text, nil
	case err != nil:
		return fail(text, err)
	}
	return text, nil
}

// limitedWriter keeps the first bytes and counts the rest as read.
// The buffer is not embedded: io.Copy would find its ReadFrom, which has no limit.
type limitedWriter struct{ kept bytes.Buffer }

func (w *limitedWriter) Write(b []byte) (int, error) {
	if room := outputLimit - w.kept.Len(); room > 0 {
		w.kept.Write(b[:min(len(b), room)]) // a Buffer takes everything
	}
	return len(b), nil
}

var _ io.Writer = (*limitedWriter)(nil)

//go:build linux

package lab

import (
	"encoding/json"
	"errors"
	"os"
	"os/exec"
	"path/filepath"
	"syscall"
	"testing"
)

// A Nexlin is the built program with a state directory of its own.
type Nexlin struct {
	T       testing.TB
	Program string
	State   string
	Home    string
	UID     uint32 // 0 runs it as the test's own account
	Env     []string
	Wrap    []string // a command it is run under, such as unshare
}

// New makes one with a fresh state directory.
func New(t testing.TB, program string) *Nexlin {
	t.Helper()
	return &Nexlin{T: t, Program: program, State: filepath.Join(Scratch(t), "state"), Home: t.TempDir()}
}

// As gives the state directory to another account and runs as it.
func (n *Nexlin) As(uid uint32) *Nexlin {
	n.T.Helper()
	n.UID = uid
	if err := os.MkdirAll(n.State, 0o700); err != nil {
		n.T.Fatal(err)
	}
	if err := os.Chown(n.State, int(uid), int(uid)); err != nil {
		n.T.Fatal(err)
	}
	Open(n.T, filepath.Dir(n.State))
	Open(n.T, n.Home)
	return n
}

// Cmd prepares a command of the program.
func (n *Nexlin) Cmd(args ...string) *exec.Cmd {
	words := append(append(append([]string{}, n.Wrap...), n.Program), args...)
	cmd := exec.Command(words[0], words[1:]...)
	cmd.Env = append(os.Environ(), "HOME="+n.Home, "NEXLIN_STATE_DIR="+n.State, "NEXLIN_STANDIN_DRIVES=")
	cmd.Env = append(cmd.Env, n.Env...)
	cmd.Dir = "/"
	if n.UID != 0 {
		cmd.SysProcAttr = &syscall.SysProcAttr{Credential: &syscall.Credential{Uid: n.UID, Gid: n.UID}}
	}
	return cmd
}

// Exit runs the program and returns its output and exit status, -1 for one
// that was killed.
func (n *Nexlin) Exit(args ...string) (string, int) {
	n.T.Helper()
	out, err := n.Cmd(args...).CombinedOutput()
	if exit := (*exec.ExitError)(nil); errors.As(err, &exit) {
		return string(out), exit.ExitCode()
	} else if err != nil {
		n.T.Fatalf("nexlin %v: %v", args, err)
	}
	return string(out), 0
}

// Want runs the program and wants an exit status.
func (n *Nexlin) Want(status int, args ...string) string {
	n.T.Helper()
	out, got := n.Exit(args...)
	if got != status {
		n.T.Fatalf("nexlin %q: exit status %d, not %d\n%s", args, got, status, out)
	}
	return out
}

// JSON runs the program with --json and decodes its one document.
func (n *Nexlin) JSON(args ...string) map[string]any {
	n.T.Helper()
	doc, _ := n.Document(args...)
	return doc
}

// Document is [Nexlin.JSON] with the exit status.
func (n *Nexlin) Document(args ...string) (doc map[string]any, code int) {
	n.T.Helper()
	out, err := n.Cmd(append(args, "--json", "-q")...).Output()
	if exit := (*exec.ExitError)(nil); errors.As(err, &exit) {
		code = exit.ExitCode()
	} else if err != nil {
		n.T.Fatal(err)
	}
	if err := json.Unmarshal(out, &doc); err != nil {
		n.T.Fatalf("nexlin %q: %v\n%s", args, err, out)
	}
	if args[0] == "history" && doc["runs"] == nil {
		n.T.Fatalf("nexlin %q: %s", args, out)
	}
	return doc, code
}

// LastGoing is the id of the newest run that is going on.
func (n *Nexlin) LastGoing() string {
	n.T.Helper()
	for _, r := range n.JSON("history")["runs"].([]any) {
		if run := r.(map[string]any); run["state"] == "going" {
			return run["id"].(string)
		}
	}
	n.T.Fatal("no run is going on")
	return ""
}

// LastRun is the id of the newest run.
func (n *Nexlin) LastRun() string {
	n.T.Helper()
	runs, _ := n.JSON("history")["runs"].([]any)
	if len(runs) == 0 {
		n.T.Fatal("there is no run")
	}
	return runs[0].(map[string]any)["id"].(string)
}

//go:build linux

package test

import (
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"testing"

	"github.com/rogpeppe/go-internal/testscript"

	"nexlin/test/lab"
)

// A tray is the drives of one script, by label.
type tray map[string]*lab.Plug

type trayKey struct{}

// TestDriveStories runs the scripts whose drives are real: file systems on
// loop devices, pulled, plugged in elsewhere, copied and exchanged.
func TestDriveStories(t *testing.T) {
	lab.Root(t)
	testscript.Run(t, testscript.Params{
		Dir: "testdata/drives",
		Setup: func(env *testscript.Env) error {
			scriptEnv(env)
			env.Setenv("HOME", filepath.Join(env.WorkDir, "home", "ines"))
			env.Values[trayKey{}] = tray{}
			return os.MkdirAll(filepath.Join(env.WorkDir, "home", "ines"), 0o755)
		},
		Cmds: map[string]func(*testscript.TestScript, bool, []string){
			"exits": exits, "tree": tree, "age": age, "drive": plugCmd(t), "mount": mountCmd, "unmount": unmountCmd,
			"undo": undoCmd, "pull": pullCmd, "copydrive": copyCmd, "remedy": remedy,
		},
	})
}

// plugCmd makes a drive: drive LABEL KIND MIB [MOUNT].
func plugCmd(t *testing.T) func(*testscript.TestScript, bool, []string) {
	return func(ts *testscript.TestScript, _ bool, args []string) {
		mib, err := strconv.ParseInt(args[2], 10, 64)
		ts.Check(err)
		p := lab.NewPlug(t, args[1], args[0], mib)
		ts.Value(trayKey{}).(tray)[args[0]] = p
		ts.Setenv(args[0]+"_IMG", p.Image)
		ts.Defer(p.Out)
		if len(args) > 3 {
			p.Mount(ts.MkAbs(args[3]))
		}
	}
}

func plugged(ts *testscript.TestScript, label string) *lab.Plug {
	p := ts.Value(trayKey{}).(tray)[label]
	if p == nil {
		ts.Fatalf("there is no drive %s", label)
	}
	return p
}

// mountCmd plugs a drive in and mounts it: mount LABEL DIR.
func mountCmd(ts *testscript.TestScript, _ bool, args []string) {
	p := plugged(ts, args[0])
	if p.Loop == "" {
		p.In()
	}
	p.Mount(ts.MkAbs(args[1]))
}

// unmountCmd leaves a drive plugged in and unmounted: unmount LABEL.
func unmountCmd(ts *testscript.TestScript, _ bool, args []string) { plugged(ts, args[0]).Unmount() }

// pullCmd takes a drive away: pull LABEL.
func pullCmd(ts *testscript.TestScript, _ bool, args []string) { plugged(ts, args[0]).Out() }

// copyCmd copies a drive byte for byte and plugs the copy in: copydrive LABEL COPY.
func copyCmd(ts *testscript.TestScript, _ bool, args []string) {
	p := plugged(ts, args[0]).Copy(args[1])
	ts.Value(trayKey{}).(tray)[args[1]] = p
	ts.Defer(p.Out)
}

// undoCmd takes the newest run back: undo [STATUS].
func undoCmd(ts *testscript.TestScript, _ bool, args []string) {
	ts.Check(ts.Exec("nexlin", "history", "--json"))
	var h struct{ Runs []struct{ ID string } }
	ts.Check(json.Unmarshal([]byte(ts.ReadFile("stdout")), &h))
	status := "0"
	if len(args) > 0 {
		status = args[0]
	}
	exits(ts, false, []string{status, "nexlin", "undo", h.Runs[0].ID, "--yes"})
}

var command = regexp.MustCompile("`([^`]+)`")

// remedy runs the command that the last output prints as the remedy of a
// finding, as it stands: remedy CODE [STATUS]. -y is added to Nexlin's own.
func remedy(ts *testscript.TestScript, _ bool, args []string) {
	_, after, ok := strings.Cut(ts.ReadFile("stdout"), "["+args[0]+"]")
	if !ok {
		ts.Fatalf("no finding %s", args[0])
	}
	_, after, _ = strings.Cut(after, "→ ")
	line, _, _ := strings.Cut(after, "\n")
	found := command.FindStringSubmatch(line)
	if found == nil {
		ts.Fatalf("the remedy of %s has no command: %s", args[0], line)
	}
	ts.Logf("remedy: %s", found[1])
	cmd := exec.Command("bash", "-c", found[1])
	cmd.Dir = ts.Getenv("WORK")
	cmd.Env = os.Environ()
	for _, k := range []string{"PATH", "HOME", "NEXLIN_STATE_DIR", "GORACE"} {
		cmd.Env = append(cmd.Env, k+"="+ts.Getenv(k))
	}
	if strings.HasPrefix(found[1], "nexlin ") {
		cmd.Args[2] += " --yes"
	}
	out, err := cmd.CombinedOutput()
	ts.Logf("%s", out)
	if err != nil {
		ts.Fatalf("%s", fmt.Sprint(found[1], ": ", err))
	}
}

//go:build linux

package test

import (
	"cmp"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"testing"

	"github.com/rogpeppe/go-internal/testscript"
	"github.com/stretchr/testify/require"

	"nexlin/test/lab"
)

// program is the built program that the tests of this package drive, with faults; raced is the one with the
// detector of races, which takes longer to start than most commands to end: for the stories, which go
// through every command once, and for what is about several at once.
var program, raced string

func TestMain(m *testing.M) {
	if dirs := os.Getenv(hostileIn); dirs != "" {
		beHostile(strings.Split(dirs, ":"))
	}
	lab.OwnNamespaces()
	os.Exit(func() int {
		defer lab.CleanPrograms()
		// A program with the race detector waits a second at its end for reports
		// of other threads; hundreds of them do.
		os.Setenv("GORACE", "atexit_sleep_ms=0")
		// Thousands of short runs spend a fifth of their time collecting; what
		// measures memory sets this back.
		os.Setenv("GOGC", "400")
		program = os.Getenv("NEXLIN_TEST_PROGRAM")
		if raced = program; program == "" {
			var errs [2]error
			program, errs[0] = lab.PlainProgram("faults")
			raced, errs[1] = lab.Program("faults")
			if err := errors.Join(errs[:]...); err != nil {
				fmt.Fprintln(os.Stderr, err)
				return 1
			}
		}
		return m.Run()
	}())
}

// drivesFile describes the stand-in drives of every script.
const drivesFile = `drives:
  - {label: SKERRY, id: 5ce771b0-1a5d-4c1e-8e0f-0b0a57a1e001, path: skerry, capacity: 64 MiB}
  - {label: BASALT, id: ba5a17c0-77d2-4f5b-9c11-0b0a57a1e002, path: basalt, capacity: 64 MiB}
  - {label: DUNE, id: d00de5e0-3b1c-4a86-a7d4-0b0a57a1e003, path: dune, capacity: 256 KiB}
`

// plain is the program as it is released: without faults, and without the
// detector of races.
func plain(t *testing.T) string {
	t.Helper()
	p, err := lab.PlainProgram("")
	require.NoError(t, err)
	return p
}

func scripts(t *testing.T) {
	// What draws hundreds of pictures is a program without the race detector.
	scenes := cmp.Or(os.Getenv(scenesBy), program)
	if raced != program {
		scenes = plain(t)
	}
	testscript.Run(t, testscript.Params{
		Files: stories(t),
		Setup: func(env *testscript.Env) error {
			home := filepath.Join(env.WorkDir, "skerry", "home", "ines")
			for _, d := range []string{home, filepath.Join(env.WorkDir, "basalt"), filepath.Join(env.WorkDir, "dune")} {
				if err := os.MkdirAll(d, 0o755); err != nil {
					return err
				}
			}
			scriptEnv(env)
			env.Defer(func() { stopPrograms(env.WorkDir) })
			env.Setenv("HOME", home)
			env.Setenv("SCENES", scenes)
			env.Setenv("NEXLIN_STANDIN_DRIVES", filepath.Join(env.WorkDir, "drives.yaml"))
			return os.WriteFile(filepath.Join(env.WorkDir, "drives.yaml"), []byte(drivesFile), 0o644)
		},
		Condition: func(cond string) (bool, error) {
			if cond == "root" {
				return os.Geteuid() == 0, nil
			}
			return false, fmt.Errorf("unknown condition %q", cond)
		},
		Cmds: map[string]func(*testscript.TestScript, bool, []string){
			"exits": exits, "tree": tree, "age": age, "hostile": hostile, "holding": holding,
		},
	})
}

// stopPrograms ends what a script has started and not stopped.
func stopPrograms(dir string) {
	files, err := filepath.Glob(filepath.Join(dir, "*/*/home/*/.local/state/mudflat/pid"))
	if err != nil {
		return
	}
	for _, f := range files {
		text, err := os.ReadFile(f)
		if pid, perr := strconv.Atoi(strings.TrimSpace(string(text))); err == nil && perr == nil {
			_ = syscall.Kill(pid, syscall.SIGTERM) // it may have ended by itself
		}
	}
}

func scriptEnv(env *testscript.Env) {
	env.Setenv("GORACE", os.Getenv("GORACE"))
	env.Setenv("PATH", filepath.Dir(raced)+":/usr/local/bin:/usr/bin:/bin:/usr/sbin:/sbin")
	env.Setenv("NEXLIN_STATE_DIR", filepath.Join(env.WorkDir, "state"))
}

// scenesBy names the program that makes the scenes of the stories, for the run by an ordinary account.
const scenesBy = "NEXLIN_TEST_SCENES"

// The stories that an administrator goes through, too, as [TestStoriesAsOrdinaryAccount] does through all.
var ofAdministrators = []string{"cards", "discard", "health", "move_and_back", "pack", "settings", "undo"}

func stories(t *testing.T) (files []string) {
	all, err := filepath.Glob("testdata/*.txtar")
	require.NoError(t, err)
	require.NotEmpty(t, all)
	for _, f := range all {
		if os.Geteuid() != 0 || everyNth(2) == 1 ||
			slices.Contains(ofAdministrators, strings.TrimSuffix(filepath.Base(f), ".txtar")) {
			files = append(files, f)
		}
	}
	return files
}

func TestStories(t *testing.T) { scripts(t) }

// TestStoriesAsOrdinaryAccount runs all stories as an account without rights.
func TestStoriesAsOrdinaryAccount(t *testing.T) {
	t.Parallel()
	lab.Root(t)
	dir, err := os.MkdirTemp("", "nexlin-ordinary-")
	require.NoError(t, err)
	t.Cleanup(func() { os.RemoveAll(dir) })
	require.NoError(t, os.CopyFS(filepath.Join(dir, "testdata"), os.DirFS("testdata")))
	self, err := os.ReadFile("/proc/self/exe")
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "stories"), self, 0o755))
	tmp := filepath.Join(dir, "tmp")
	require.NoError(t, os.Mkdir(tmp, 0o755))
	const nobody = 65534
	require.NoError(t, os.Chmod(dir, 0o755))
	require.NoError(t, os.Chown(tmp, nobody, nobody))
	cmd := exec.Command(filepath.Join(dir, "stories"), "-test.run=^TestStories$", "-test.timeout=20m")
	cmd.Dir = dir
	cmd.Env = append(os.Environ(), "NEXLIN_TEST_PROGRAM="+raced, scenesBy+"="+plain(t), "TMPDIR="+tmp, "HOME="+tmp)
	cmd.SysProcAttr = &syscall.SysProcAttr{Credential: &syscall.Credential{Uid: nobody, Gid: nobody}}
	out, err := cmd.CombinedOutput()
	require.NoError(t, err, "%s", out)
	require.Contains(t, string(out), "PASS")
}

// exits runs a command and wants its exit status: testscript itself tells
// only success from failure. A ! is not taken; the status says it.
func exits(ts *testscript.TestScript, neg bool, args []string) {
	if neg || len(args) < 2 {
		ts.Fatalf("usage: exits STATUS COMMAND…")
	}
	want, err := strconv.Atoi(args[0])
	ts.Check(err)
	err = ts.Exec(args[1], args[2:]...)
	got := 0
	if exit := (*exec.ExitError)(nil); errors.As(err, &exit) {
		got = exit.ExitCode()
	} else if err != nil {
		ts.Fatalf("%v", err)
	}
	if got != want {
		ts.Fatalf("exit status %d, not %d", got, want)
	}
}

// tree writes the print of a folder into a file: tree DIR FILE.
func tree(ts *testscript.TestScript, _ bool, args []string) {
	if len(args) != 2 {
		ts.Fatalf("usage: tree DIR FILE")
	}
	p, err := lab.PrintTree(ts.MkAbs(args[0]))
	ts.Check(err)
	ts.Check(os.WriteFile(ts.MkAbs(args[1]), []byte(p), 0o644))
}

// age gives every entry below a folder a time of its own: age DIR.
func age(ts *testscript.TestScript, _ bool, args []string) {
	for _, a := range args {
		ts.Check(lab.AgeTree(ts.MkAbs(a)))
	}
}

// hostile makes a folder full of names that mean something to shells,
// terminals and formats: hostile DIR.
func hostile(ts *testscript.TestScript, _ bool, args []string) {
	dir := ts.MkAbs(args[0])
	for i, name := range []string{
		"with spaces", "-rf", "--into", "quote'\"", "new\nline", "tab\there", "back\\slash", "not\xff\xfeutf8",
		"\x1b[31mred", "#hash",
		"*?[a]", "trailing ", ".hidden", "ünïcode", "a=b", "100%", "$HOME", "`id`", "\u202egnp.exe",
	} {
		sub := filepath.Join(dir, name)
		ts.Check(os.MkdirAll(sub, 0o755))
		ts.Check(os.WriteFile(filepath.Join(sub, name), []byte(strings.Repeat(name, i)), 0o600))
		ts.Check(os.Symlink(name, filepath.Join(sub, "to")))
	}
	ts.Check(os.WriteFile(filepath.Join(dir, strings.Repeat("n", 255)), nil, 0o444))
}

// holding keeps a file open for writing while a command runs, and writes to
// it when the command has ended: holding FILE STATUS COMMAND…
func holding(ts *testscript.TestScript, _ bool, args []string) {
	// A process of its own, as a program of the person's would be.
	held := exec.Command("sh", "-c", `exec 3>>"$1"; echo open; read line; echo "$line" >&3`, "sh", ts.MkAbs(args[0]))
	in, err := held.StdinPipe()
	ts.Check(err)
	out, err := held.StdoutPipe()
	ts.Check(err)
	ts.Check(held.Start())
	ts.Defer(func() { in.Close() }) // it ends with its input, also after a failure
	_, err = out.Read(make([]byte, 5))
	ts.Check(err)
	exits(ts, false, args[1:])
	fmt.Fprintln(in, "written late")
	ts.Check(held.Wait())
}

//go:build linux

package lab

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"
)

// A Wine is a Windows of a test's own: a system drive C: and a second one D:,
// which is a small file system in memory.
type Wine struct {
	T       testing.TB
	Program string // the Windows program, for Run
	C, D    string // where the drives are here
	prefix  string
}

// NewWine sets one up, for a program built for Windows; the test is skipped,
// with the reason, where Debian's wine can't serve.
func NewWine(t testing.TB, program string) *Wine {
	t.Helper()
	for _, tool := range []string{"wine", "wineboot", "wineserver", "x86_64-w64-mingw32-gcc"} {
		if _, err := exec.LookPath(tool); err != nil {
			Skip(t, tool+" is not installed")
		}
	}
	w := &Wine{T: t, Program: program, prefix: filepath.Join(Scratch(t), "prefix"), D: MemoryDrive(t, "BASALT", 64)}
	w.C = filepath.Join(w.prefix, "drive_c")
	t.Cleanup(w.stop)
	if err := errors.Join(os.MkdirAll(w.prefix, 0o700), w.command("wineboot", "-i").Run(),
		w.command("wineserver", "-w").Run()); err != nil {
		Skip(t, "wine does not start: "+err.Error())
	}
	if err := os.Symlink(w.D, filepath.Join(w.prefix, "dosdevices", "d:")); err != nil {
		t.Fatal(err)
	}
	// A server that stays, and its services, started with no output of theirs:
	// those that a command starts would keep that command's open.
	if err := errors.Join(w.command("wineserver", "-p").Run(),
		w.command("wine", "cmd", "/c", "ver").Run()); err != nil {
		Skip(t, "wine does not serve: "+err.Error())
	}
	Run(t, "x86_64-w64-mingw32-gcc", "-shared", "-O2", "-s", "-o",
		filepath.Join(w.C, "windows/system32/bcryptprimitives.dll"),
		"testdata/wine/bcryptprimitives.c", "-ladvapi32")
	// Folders of its own, where it has links into this account's home.
	err := filepath.WalkDir(filepath.Join(w.C, "users"), func(at string, e os.DirEntry, err error) error {
		if err == nil && e.Type()&os.ModeSymlink != 0 {
			err = errors.Join(os.Remove(at), os.Mkdir(at, 0o755))
		}
		return err
	})
	if err != nil {
		t.Fatal(err)
	}
	return w
}

// stop ends it and everything it runs, and waits until it is gone.
func (w *Wine) stop() {
	_ = w.command("wineserver", "-k").Run() // fails where nothing runs
	_ = w.command("wineserver", "-w").Run()
}

// Home is the account's profile directory, here.
func (w *Wine) Home() string {
	dirs, _ := filepath.Glob(filepath.Join(w.C, "users", "*")) // the pattern is whole
	for _, d := range dirs {
		if filepath.Base(d) != "Public" {
			return d
		}
	}
	w.T.Fatal("wine has made no account")
	return ""
}

// Path is a path in the profile directory as Windows names it.
func (w *Wine) Path(rel string) string {
	return `C:\users\` + filepath.Base(w.Home()) + `\` + strings.ReplaceAll(rel, "/", `\`)
}

// patience is more than any command takes under Wine, its first start included.
const patience = 90 * time.Second

func (w *Wine) command(name string, args ...string) *exec.Cmd {
	ctx, cancel := context.WithTimeout(context.Background(), patience)
	w.T.Cleanup(cancel)
	cmd := exec.CommandContext(ctx, name, args...)
	cmd.WaitDelay = 10 * time.Second
	// No windows, and nothing of this desktop.
	cmd.Env = append(os.Environ(), "WINEPREFIX="+w.prefix, "WINEDEBUG=-all", "WINEARCH=win64",
		"WINEDLLOVERRIDES=mscoree,mshtml=", "DISPLAY=", "NEXLIN_STATE_DIR=", "NEXLIN_STANDIN_DRIVES=")
	return cmd
}

// Exit runs any program and gives what it says and its exit status.
func (w *Wine) Exit(program string, args ...string) (string, int) {
	w.T.Helper()
	out, err := w.command("wine", append([]string{program}, args...)...).CombinedOutput()
	if exit := (*exec.ExitError)(nil); errors.As(err, &exit) {
		return string(out), exit.ExitCode()
	} else if err != nil {
		w.T.Fatal(err)
	}
	return string(out), 0
}

// Want runs the program and wants an exit status.
func (w *Wine) Want(status int, args ...string) string {
	w.T.Helper()
	out, got := w.Exit(w.Program, args...)
	if got != status {
		w.T.Fatalf("nexlin %q: exit status %d, not %d\n%s", args, got, status, out)
	}
	return out
}

// JSON runs the program with --json and decodes its one document.
func (w *Wine) JSON(args ...string) map[string]any {
	w.T.Helper()
	var out, said bytes.Buffer
	cmd := w.command("wine", append(append([]string{w.Program}, args...), "--json", "-q")...)
	cmd.Stdout, cmd.Stderr = &out, &said
	err := cmd.Run()
	var doc map[string]any
	if bad := json.Unmarshal(out.Bytes(), &doc); bad != nil {
		w.T.Fatalf("nexlin %q: %v, %v\n%s%s", args, err, bad, out.Bytes(), said.Bytes())
	}
	return doc
}

// Registry reads a value of the account's location settings; empty if there is
// none.
func (w *Wine) Registry(value string) string {
	out, _ := w.Exit("reg", "query", `HKCU\Software\Microsoft\Windows\CurrentVersion\Explorer\User Shell Folders`,
		"/v", value)
	for line := range strings.Lines(out) {
		if f := strings.SplitN(strings.TrimSpace(line), "    ", 3); len(f) == 3 && f[0] == value {
			return strings.TrimSpace(f[2])
		}
	}
	return ""
}

// WindowsProgram builds the program for Windows once.
func WindowsProgram() (string, error) {
	return crossBuild("nexlin.exe", "build", "nexlin/cmd/nexlin")
}

// WindowsTest builds the tests of a package for Windows.
func WindowsTest(pkg string) (string, error) {
	return crossBuild(filepath.Base(pkg)+".test.exe", "test", "-c", pkg)
}

func crossBuild(name string, words ...string) (string, error) {
	builds.Lock()
	defer builds.Unlock()
	if p, ok := builds.done[name]; ok {
		return p, nil
	}
	if err := builds.begin(); err != nil {
		return "", err
	}
	path := filepath.Join(builds.dir, name)
	// as make cross builds, so that nothing is built twice
	args := append([]string{words[0], "-trimpath", "-o", path}, words[1:]...)
	cmd := exec.Command("go", args...)
	cmd.Env = append(os.Environ(), "GOOS=windows", "GOARCH=amd64", "CGO_ENABLED=0")
	if out, err := cmd.CombinedOutput(); err != nil {
		return "", errors.New(string(out))
	}
	builds.done[name] = path
	return path, nil
}

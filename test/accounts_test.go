//go:build linux

package test

import (
	"encoding/json"
	"fmt"
	"maps"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"nexlin/test/lab"
)

// A crowd is a machine with many accounts, their homes on one drive, and an accounts file
// that is about a second one. The accounts are known to the program alone.
type crowd struct {
	*lab.Nexlin
	skerry, basalt string
	file           string
	names          []string
}

// firstUID is that of the first account of a crowd.
const firstUID = 20001

// newCrowd makes n accounts; each has two folders with files, and keeps settings.
func newCrowd(t *testing.T, program string, n int, skerry, basalt string) *crowd {
	t.Helper()
	lab.Root(t)
	etc, err := os.MkdirTemp("/run", "nexlin-test-")
	require.NoError(t, err)
	t.Cleanup(func() { _ = os.RemoveAll(etc) })
	c := &crowd{Nexlin: lab.New(t, program), skerry: skerry, basalt: basalt, file: filepath.Join(etc, "accounts.yaml")}
	passwd := "root:x:0:0:root:/root:/bin/sh\ndaemon:x:1:1::/usr/sbin:/usr/sbin/nologin\n"
	for i := range n {
		name := fmt.Sprintf("ringer%03d", i)
		c.names = append(c.names, name)
		passwd += fmt.Sprintf("%s:x:%d:%d::%s:/bin/sh\n", name, firstUID+i, firstUID+i, c.home(name))
		lab.Tree{"Pictures/2026/tern: a tern of " + name, "Pictures/plumage: moult", "Calls/night/one: tsee of " + name,
			".config/user-dirs.dirs: XDG_PICTURES_DIR=\"$HOME/Pictures\"\n"}.Make(t, c.home(name))
		lab.Run(t, "chown", "-hR", fmt.Sprintf("%d:%d", firstUID+i, firstUID+i), c.home(name))
		require.NoError(t, os.Chmod(c.home(name), 0o700))
	}
	require.NoError(t, os.WriteFile(filepath.Join(etc, "passwd"), []byte(passwd), 0o644))
	require.NoError(t, os.WriteFile(filepath.Join(etc, "group"), []byte("root:x:0:\n"), 0o644))
	c.Wrap = []string{"unshare", "-m", "sh", "-c", `mount --bind "$0/passwd" /etc/passwd && ` +
		`mount --bind "$0/group" /etc/group && exec "$@"`, etc}
	c.declare(`
- for: {people: true}
  redirects:
  - {profile: pictures, into: "BASALT/{account}", by: setting+symlink, accept: [target-in-memory]}
  - {folder: ~/Calls, into: "BASALT/{account}", discard-original: true, accept: [target-in-memory]}
  - {folder: ~/Recordings/2027, into: "BASALT/{account}", as: recordings, accept: [target-in-memory]}
`)
	return c
}

// declare writes the accounts file; BASALT is the second drive's path.
func (c *crowd) declare(rules string) {
	c.T.Helper()
	text := "accounts-file: 1\nrules:" + strings.ReplaceAll(rules, "BASALT", c.basalt)
	require.NoError(c.T, os.WriteFile(c.file, []byte(text), 0o644))
}

func (c *crowd) home(name string) string { return filepath.Join(c.skerry, name) }

func (c *crowd) accounts(code int, args ...string) string {
	c.T.Helper()
	return c.Want(code, append([]string{"accounts", args[0], c.file}, args[1:]...)...)
}

// homes prints every home, but for the times of directories: names in them come and go.
func (c *crowd) homes() (out []string) {
	for _, name := range c.names {
		out = append(out, dirTime.ReplaceAllString(lab.Print(c.T, c.home(name)), "$1"))
	}
	return out
}

// drifted are the accounts of which a check says that something is not as declared.
func (c *crowd) drifted() (names []string, states map[string]string) {
	c.T.Helper()
	doc := c.fits("check")
	states = map[string]string{}
	for _, a := range doc["accounts"].([]any) {
		a := a.(map[string]any)
		for _, f := range a["folders"].([]any) {
			if f := f.(map[string]any); f["drifted"].(bool) {
				names = append(names, a["account"].(string))
				states[a["account"].(string)] = f["state"].(string)
			}
		}
	}
	return names, states
}

// fits is the document of a command, which its schema has to take.
func (c *crowd) fits(args ...string) map[string]any {
	c.T.Helper()
	doc, _ := c.Document(append([]string{"accounts", args[0], c.file}, args[1:]...)...)
	s, err := schemas(c.T.(*testing.T)).Compile("schema/accounts.json")
	require.NoError(c.T, err)
	require.NoError(c.T, s.Validate(doc))
	return doc
}

// What is declared for many is made so for each, stays so, is mended where it came off, and
// is taken back as if it had never been.
func TestAccountsFromFirstToLast(t *testing.T) {
	t.Parallel()
	n := 11
	if everyNth(2) == 1 {
		n = 200
	}
	c := newCrowd(t, program, n, lab.Drive(t, "ext4", "SKERRY", 256), lab.Drive(t, "ext4", "BASALT", 256))
	before := c.homes()
	preview := c.accounts(0, "apply", "--preview")
	check := c.accounts(4, "check")
	require.Contains(t, preview, strings.TrimSpace(check), "a preview and a check agree to the line")
	require.Equal(t, before, c.homes())

	c.accounts(0, "apply", "--yes")
	c.accounts(0, "check")
	after := lab.Print(t, c.skerry) + lab.Print(t, c.basalt)
	require.Contains(t, c.accounts(0, "apply", "--yes"), "nothing had to be changed")
	require.Equal(t, after, lab.Print(t, c.skerry)+lab.Print(t, c.basalt))
	require.NotContains(t, lab.Print(t, filepath.Join(c.basalt, c.names[0])), " 0:0 ")
	require.Contains(t, c.Want(0, "list"), c.names[0]+"-recordings")

	broken := []struct {
		state string
		how   func(home, target, name string)
	}{
		{"to-mend", func(home, _, _ string) { require.NoError(t, os.Remove(home+"/Pictures")) }},
		{"to-mend", func(home, _, _ string) {
			require.NoError(t, os.Remove(home+"/Calls"))
			require.NoError(t, os.Symlink("/nowhere", home+"/Calls"))
		}},
		{"to-mend", func(home, _, _ string) { // a program made a folder where the link was
			require.NoError(t, os.Remove(home+"/Calls"))
			lab.Tree{"Calls/new: heard today"}.Make(t, home)
			lab.Run(t, "chown", "-hR", "--reference="+home, home+"/Calls")
		}},
		{"for-a-person", func(_, target, _ string) { require.NoError(t, os.Rename(target+"/Calls", target+"/Gone")) }},
		{"to-mend", func(home, _, _ string) {
			write(t, home+"/.config/user-dirs.dirs", "XDG_PICTURES_DIR=\"$HOME/Pictures\"\n")
		}},
		{"to-mend", func(_, _, name string) { c.Want(0, "detach", name+"-calls", "--yes") }},
		{"to-mend", func(_, target, name string) {
			require.NoError(t, os.Remove(filepath.Join(target, ".nexlin", name+"-calls.json")))
		}},
		{"for-a-person", func(home, _, _ string) {
			require.NoError(t, os.Remove(home+"/Calls"))
			write(t, home+"/Calls", "a file")
		}},
		{"to-record", func(_, _, name string) { c.Want(0, "forget", name+"-calls", "--yes") }},
		{"to-move", func(home, _, name string) {
			c.Want(0, "bring-back", name+"-calls", "--yes", "--accept", "rights-would-grow")
		}},
	}
	var names []string
	for i, b := range broken {
		names = append(names, c.names[i])
		b.how(c.home(c.names[i]), filepath.Join(c.basalt, c.names[i]), c.names[i])
	}
	drifted, states := c.drifted()
	require.Equal(t, names, drifted)
	for i, b := range broken {
		require.Equal(t, b.state, states[c.names[i]], "%s: %v", c.names[i], states)
	}
	c.accounts(4, "check")
	out := c.accounts(3, "apply", "--yes")
	left, _ := c.drifted()
	require.Equal(t, []string{c.names[3], c.names[7]}, left, out)
	require.NoError(t, os.Rename(filepath.Join(c.basalt, c.names[3], "Gone"), filepath.Join(c.basalt, c.names[3], "Calls")))
	require.NoError(t, os.Remove(c.home(c.names[7])+"/Calls"))
	require.Len(t, c.fits("apply", "--yes")["accounts"], n)
	c.accounts(0, "check")
	require.Contains(t, c.accounts(0, "apply", "--yes"), "nothing had to be changed")

	require.Len(c.T, c.fits("withdraw", "--yes")["accounts"], n)
	changed := map[int]string{2: "Calls", 4: "user-dirs"} // by what was broken
	for i, home := range c.homes() {
		require.Equal(t, without(before[i], changed[i]), without(home, ".held-", changed[i]), c.names[i])
	}
	require.Contains(t, c.accounts(0, "withdraw", "--yes"), "nothing had to be changed")
}

// without leaves out the lines with one of some words.
func without(text string, words ...string) string {
	return strings.Join(slices.DeleteFunc(strings.Split(text, "\n"), func(l string) bool {
		return slices.ContainsFunc(words, func(w string) bool { return w != "" && strings.Contains(l, w) })
	}), "\n")
}

func write(t *testing.T, path, text string) {
	t.Helper()
	require.NoError(t, os.WriteFile(path, []byte(text), 0o644))
}

// caseDirs makes a directory for one case on each of two drives.
func caseDirs(t *testing.T, skerry, basalt string) (dirs [2]string) {
	t.Helper()
	for i, on := range []string{skerry, basalt} {
		var err error
		dirs[i], err = os.MkdirTemp(on, "case-")
		require.NoError(t, err)
		require.NoError(t, os.Chmod(dirs[i], 0o755))
	}
	return dirs
}

// undisturbed is how all is once a crowd was served: homes, drive and redirects, without what
// differs from run to run.
func (c *crowd) undisturbed() string {
	c.T.Helper()
	out := strings.Join(c.homes(), "\n")
	out += dirTime.ReplaceAllString(without(lab.Print(c.T, c.basalt), `.nexlin/`), "$1")
	for _, r := range c.JSON("list")["redirects"].([]any) {
		r := r.(map[string]any)
		out += fmt.Sprintln(r["name"], strings.TrimPrefix(r["link"].(string), c.skerry), r["state"], r["methods"],
			len(r["held"].([]any)))
	}
	for _, name := range c.names {
		said, err := os.ReadFile(filepath.Join(c.home(name), ".config/user-dirs.dirs"))
		require.NoError(c.T, err)
		out += string(said)
	}
	out = strings.NewReplacer(c.skerry, "SKERRY", c.basalt, "BASALT").Replace(without(out, "user-dirs.dirs"))
	return linkTime.ReplaceAllString(runID.ReplaceAllString(out, "RUN"), "$1")
}

// linkTime is the time of a link.
var linkTime = regexp.MustCompile(`( 12\d+ \d+:\d+) [\d.]+`)

// Killed at any step, an apply is gone on with by the next one, as if it had never been
// killed; and a withdrawal, too (I3).
func TestAccountsKilledAtEveryStep(t *testing.T) {
	drives := memoryDrives(t)
	served := func(t *testing.T, first string) *crowd {
		dirs := caseDirs(t, drives[0], drives[1])
		c := newCrowd(t, program, 3, dirs[0], dirs[1])
		if first != "" {
			c.accounts(0, first, "--yes")
		}
		return c
	}
	for _, s := range []struct{ verb, first string }{{"apply", ""}, {"withdraw", "apply"}} {
		c := served(t, s.first)
		c.Env = []string{"NEXLIN_FAULT=list"}
		steps := map[string]int{}
		for _, line := range strings.Split(c.accounts(0, s.verb, "--yes"), "\n") {
			if name, ok := strings.CutPrefix(line, "step "); ok {
				steps[name]++
			}
		}
		c.Env = nil
		want := c.undisturbed()
		require.Greater(t, len(steps), 20)
		cases := 0
		for k, step := range slices.Sorted(maps.Keys(steps)) {
			for nth := 1; nth <= steps[step]; nth++ {
				if (k+nth)%everyNth(15) != 0 {
					continue
				}
				cases++
				t.Run(fmt.Sprint(s.verb, " ", step, "#", nth), func(t *testing.T) {
					t.Parallel()
					c := served(t, s.first)
					c.Env = []string{fmt.Sprintf("NEXLIN_FAULT=kill:%s#%d", step, nth)}
					c.Exit("accounts", s.verb, c.file, "--yes")
					c.Env = nil
					c.accounts(0, s.verb, "--yes")
					require.Equal(t, want, c.undisturbed())
				})
			}
		}
		t.Logf("%s: %d cases", s.verb, cases)
	}
}

// turned makes the last account of a crowd the one that the hostile process runs as.
func (c *crowd) turned() (home, theirs string) {
	c.T.Helper()
	name := c.names[len(c.names)-1]
	home, theirs = c.home(name), filepath.Join(c.basalt, name)
	etc := filepath.Join(filepath.Dir(c.file), "passwd")
	text, err := os.ReadFile(etc)
	require.NoError(c.T, err)
	uid := firstUID + len(c.names) - 1
	require.NoError(c.T, os.WriteFile(etc, []byte(strings.ReplaceAll(string(text), fmt.Sprintf(":%d:%d:", uid, uid),
		fmt.Sprintf(":%d:%d:", ordinary, ordinary))), 0o644))
	require.NoError(c.T, os.MkdirAll(theirs, 0o755))
	lab.Open(c.T, c.skerry)
	lab.Open(c.T, c.basalt)
	lab.Run(c.T, "chown", "-hR", fmt.Sprintf("%d:%d", ordinary, ordinary), home, theirs)
	c.declare(`
- for: {like: ["ringer*"]}
  redirects:
  - {profile: pictures, into: "BASALT/{account}", by: setting+symlink, while-in-use: true, accept: [target-in-memory]}
  - {folder: ~/Calls, into: "BASALT/{account}", while-in-use: true, accept: [target-in-memory]}
  - {folder: ~/Recordings/2027, into: "BASALT/{account}", accept: [target-in-memory]}
`)
	return home, theirs
}

// An account that swaps names as fast as it can while the administrator serves all makes
// nothing outside of its folders be read, written or given away, and keeps no other account
// from what is declared for it (I6).
func TestAccountsBesideAHostileOne(t *testing.T) {
	t.Parallel()
	c := newCrowd(t, plain(t), 3, lab.MemoryDrive(t, "SKERRY", 64), lab.MemoryDrive(t, "BASALT", 64))
	home, theirs := c.turned()
	var watched []string
	for _, dir := range []string{c.skerry, c.basalt, home, theirs} {
		canary := filepath.Join(dir, "canary")
		lab.Tree{"file: " + secret, "sub/deep: " + secret, "a/x: " + secret}.Make(t, canary)
		require.NoError(t, os.Chmod(canary, 0o700))
		watched = append(watched, canary)
	}
	before := printAll(t, watched)
	good := c.names[:2]
	flip := startHostile(t, home, theirs)
	ends := map[int]int{}
	for i := range 1000 / everyNth(50) {
		verb := []string{"apply", "check", "apply", "withdraw"}[i%4]
		args := []string{"timeout", "60", c.Program, "accounts", verb, c.file}
		if verb != "check" {
			args = append(args, "--yes")
		}
		cmd := c.Cmd()
		cmd.Args = append(slices.Clone(c.Wrap), args...)
		out, err := cmd.CombinedOutput()
		code := cmd.ProcessState.ExitCode()
		require.NotEqual(t, 124, code, "it hangs: %v\n%s", err, out)
		require.NotContains(t, string(out), "internal error")
		require.NotContains(t, string(out), secret)
		ends[code]++
		for _, name := range good {
			for _, folder := range []string{"Pictures", "Calls"} {
				st, err := os.Lstat(filepath.Join(c.home(name), folder))
				require.NoError(t, err)
				require.Equal(t, verb != "withdraw", st.Mode()&os.ModeSymlink != 0, "%s of %s after %s:\n%s", folder, name,
					verb, out)
			}
		}
		if i%20 == 19 {
			flip(false)
			require.Empty(t, lab.Changes(before, printAll(t, watched)), "after run %d", i)
			flip(true)
		}
	}
	flip(false)
	require.Empty(t, lab.Changes(before, printAll(t, watched)))
	require.Empty(t, leaks(home, theirs))
	t.Logf("exit statuses: %v", ends)
}

// What an account has prepared beforehand leads an administrator nowhere, and keeps nobody
// else from what is declared.
func TestAccountsThatPrepareTraps(t *testing.T) {
	t.Parallel()
	faultless := plain(t)
	traps := map[string]string{ // of a shell, in the home, with the target's directory as $1
		"a link for the folder":        `rm -rf Pictures && ln -s "$2" Pictures`,
		"a link above the folder":      `mv Recordings x 2>/dev/null; ln -s "$2" Recordings`,
		"another one's folder":         `printf 'XDG_PICTURES_DIR="$HOME/../ringer000/Pictures"\n' > .config/user-dirs.dirs`,
		"the system's folder":          `printf 'XDG_PICTURES_DIR="/etc"\n' > .config/user-dirs.dirs`,
		"a link for its settings":      `rm .config/user-dirs.dirs && ln -s "$2/file" .config/user-dirs.dirs`,
		"a FIFO for its settings":      `rm .config/user-dirs.dirs && mkfifo .config/user-dirs.dirs`,
		"endless settings":             `head -c 3000000 /dev/zero > .config/user-dirs.dirs`,
		"a FIFO for the folder":        `rm -rf Pictures && mkfifo Pictures`,
		"its own records on the drive": `mkdir -p "$1" && ln -s "$2" "$1/.nexlin"`,
		"a link for the target":        `mkdir -p "$1" && ln -s "$2" "$1/Pictures"`,
		"its own records in the home":  `ln -s "$2" .nexlin`,
		"a name that acts":             `mv Pictures/plumage "$(printf 'Pictures/\033[2Jx')"`,
	}
	skerry, basalt := lab.MemoryDrive(t, "SKERRY", 64), lab.MemoryDrive(t, "BASALT", 64)
	for name, trap := range traps {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			dirs := caseDirs(t, skerry, basalt)
			c := newCrowd(t, faultless, 2, dirs[0], dirs[1])
			home, theirs := c.turned()
			canary := filepath.Join(skerry, filepath.Base(dirs[0])+"-canary")
			lab.Tree{"file: " + secret, "sub/deep: " + secret}.Make(t, canary)
			before := lab.Print(t, canary) + lab.Print(t, "/etc/nsswitch.conf")
			require.NoError(t, asAccount(`cd "$1" && shift && `+trap, home, theirs, canary))
			for _, verb := range []string{"check", "apply", "apply", "check", "withdraw"} {
				args := []string{"accounts", verb, c.file}
				if verb != "check" {
					args = append(args, "--yes")
				}
				out, _ := c.Exit(args...)
				require.NotContains(t, out, secret)
				require.NotContains(t, out, "internal error")
				require.NotContains(t, out, "\033[2J")
				require.Equal(t, before, lab.Print(t, canary)+lab.Print(t, "/etc/nsswitch.conf"), "%s:\n%s", verb, out)
				_, err := os.Readlink(filepath.Join(c.home(c.names[0]), "Pictures"))
				require.Equal(t, verb == "apply" || verb == "check" && err == nil, err == nil, "%s:\n%s", verb, out)
			}
			require.Empty(t, leaks(home, theirs))
		})
	}
}

// The folders of a card go together, once, and each comes back.
func TestAccountsByACard(t *testing.T) {
	t.Parallel()
	c := newCrowd(t, plain(t), 2, lab.MemoryDrive(t, "SKERRY", 32), lab.MemoryDrive(t, "BASALT", 32))
	config := filepath.Join(filepath.Dir(c.file), "config")
	require.NoError(t, os.MkdirAll(config+"/cards", 0o755))
	write(t, config+"/cards/nightjar.yaml", `card: nightjar
about: the recorder of the night hide
family: application-data
folders:
- {name: calls, linux: "{home}/Calls"}
- {name: plumage, linux: "{home}/Pictures"}
- {name: none, linux: "{home}/Nothing", missing: skip}
`)
	c.Env = []string{"NEXLIN_CONFIG=" + config}
	c.declare("\n- for: {people: true}\n  redirects:\n  - {card: nightjar, into: \"BASALT/{account}\", " +
		"accept: [target-in-memory]}\n")
	before := c.homes()
	c.accounts(4, "check")
	require.Contains(t, c.accounts(0, "apply", "--yes"), "2 accounts, 6 folders: 4 done, 2 unchanged")
	c.accounts(0, "check")
	require.Contains(t, c.accounts(0, "apply", "--yes"), "nothing had to be changed")
	kinds := map[string]int{}
	for _, r := range c.JSON("history")["runs"].([]any) {
		kinds[r.(map[string]any)["kind"].(string)]++
	}
	require.Equal(t, map[string]int{"move-together": 2, "move": 4}, kinds, "each card goes once")
	c.accounts(0, "withdraw", "--yes")
	for i, home := range c.homes() {
		require.Equal(t, before[i], without(home, ".held-"), c.names[i])
	}
}

// A file that can't be taken is refused with its place, or with what else is wrong about it,
// and nothing is done.
func TestAccountsFilesThatAreRefused(t *testing.T) {
	t.Parallel()
	c := newCrowd(t, program, 1, lab.MemoryDrive(t, "SKERRY", 16), lab.MemoryDrive(t, "BASALT", 16))
	before := c.homes()
	refused := func(code int, says ...string) {
		t.Helper()
		for _, verb := range []string{"check", "apply", "withdraw"} {
			out := c.Want(code, "accounts", verb, c.file, "--yes")
			for _, s := range says {
				require.Contains(t, out, s)
			}
		}
		require.Equal(t, before, c.homes())
	}
	dir, good := filepath.Dir(c.file), c.file
	require.NoError(t, os.Chmod(c.file, 0o664))
	refused(3, c.file+" can be written by another account")
	require.NoError(t, os.Chmod(c.file, 0o644))
	require.NoError(t, os.Chown(c.file, ordinary, 0))
	refused(3, c.file+" can be written by another account")
	require.NoError(t, os.Chown(c.file, 0, 0))
	require.NoError(t, os.Chmod(dir, 0o777))
	refused(3, dir+" can be written by another account")
	require.NoError(t, os.Chmod(dir, 0o755))
	c.file = filepath.Join(t.TempDir(), "link.yaml") // in a directory of everybody's
	require.NoError(t, os.Symlink(good, c.file))
	refused(3, "can be written by another account")
	c.file = filepath.Join(dir, "none.yaml")
	refused(3, "there is no accounts file at "+c.file, "nexlin accounts example")
	write(t, c.file, "accounts-file: 1\nrules:\n- for: {people: true}\n  redirects: [{folder: ~/Calls, onto: X:/}]\n")
	refused(2, c.file+`:4:33: unknown field "onto"`, "nexlin accounts check")
	require.NoError(t, os.Remove(c.file))
	require.NoError(t, syscall.Mkfifo(c.file, 0o600))
	refused(2, "it is no file")
	c.file = good
	c.UID, c.Wrap = ordinary, nil
	require.NoError(t, os.Chmod(filepath.Dir(c.State), 0o777))
	refused(3, "`sudo nexlin`")
}

// What the administrator has redirected is told to the account that it belongs to, and to no
// other; changing it there names what to ask for.
func TestAccountsAreToldWhatIsTheirs(t *testing.T) {
	t.Parallel()
	c := newCrowd(t, program, 2, lab.Drive(t, "ext4", "SKERRY", 32), lab.Drive(t, "ext4", "BASALT", 32))
	told := "NEXLIN_PUBLISHED_DIR=" + filepath.Join(filepath.Dir(c.file), "published")
	c.Env = []string{told}
	require.NoError(t, os.Chmod(filepath.Dir(c.file), 0o755))
	c.accounts(0, "apply", "--yes")
	for i, name := range c.names {
		own := lab.New(t, program).As(firstUID + uint32(i))
		own.Home, own.Env = c.home(name), []string{told}
		for _, verb := range []string{"list", "check"} {
			out := own.Want(0, verb)
			require.Contains(t, out, name+"-pictures")
			require.NotContains(t, out, c.names[1-i])
		}
		require.Len(t, own.JSON("list")["by_administrator"], 3)
		for _, arg := range []string{name + "-calls", c.home(name) + "/Calls"} {
			out := own.Want(3, "bring-back", arg, "--yes")
			require.Contains(t, out, "ask the administrator for: nexlin bring-back "+name+"-calls")
		}
		require.NoError(t, os.Remove(c.home(name)+"/Calls"))
		require.Contains(t, own.Want(4, "check"), "Calls")
	}
	files, err := filepath.Glob(filepath.Join(filepath.Dir(c.file), "published/*.json"))
	require.NoError(t, err)
	require.Len(t, files, 2)
	for i, f := range files {
		st, err := os.Stat(f)
		require.NoError(t, err)
		require.Equal(t, os.FileMode(0o400), st.Mode())
		require.EqualValues(t, firstUID+i, st.Sys().(*syscall.Stat_t).Uid)
	}
	c.accounts(0, "apply", "--yes")
	c.accounts(0, "withdraw", "--yes")
	files, err = filepath.Glob(filepath.Join(filepath.Dir(c.file), "published/*"))
	require.NoError(t, err)
	require.Empty(t, files)
}

// fleetHeading is where the administrators' document goes on to many machines.
const fleetHeading = "\n## Twenty laptops"

// commandsOf are the commands that a document shows.
func commandsOf(text string) (out []string) {
	for _, line := range strings.Split(text, "\n") {
		if command, is := strings.CutPrefix(line, "    "); is {
			out = append(out, command)
		}
	}
	return out
}

// Every command that the administrators' document names does what it says there.
func TestAdministratorsDocument(t *testing.T) {
	t.Parallel()
	const label = "KITTIWAKE" // a name that no other drive here has
	c := newCrowd(t, program, 2, lab.Drive(t, "ext4", "SKERRY", 32), lab.Drive(t, "ext4", label, 32))
	etc := filepath.Dir(c.file)
	passwd, err := os.ReadFile(filepath.Join(etc, "passwd"))
	require.NoError(t, err)
	write(t, filepath.Join(etc, "passwd"), strings.ReplaceAll(string(passwd), c.names[0], "ines"))
	require.NoError(t, os.Rename(c.home(c.names[0]), c.home("ines")))
	text, err := os.ReadFile("../docs/administrators.md")
	require.NoError(t, err)
	_, small, found := strings.Cut(string(text), "```yaml\n")
	require.True(t, found)
	small, _, _ = strings.Cut(small, "```")
	small = strings.ReplaceAll(small, "BASALT", label)
	// The system's own directory, of this one process.
	c.Wrap = []string{"unshare", "-m", "sh", "-c", `mount --bind "$0" /etc && shift && exec "$@"`, etc, ""}
	bin := t.TempDir()
	require.NoError(t, os.Symlink(program, filepath.Join(bin, "nexlin")))
	c.Program, c.Env = "sh", []string{"PATH=" + bin + ":" + os.Getenv("PATH"), "NEXLIN_PUBLISHED_DIR=" + etc + "/published"}
	want := map[string]int{"nexlin accounts check /etc/nexlin/accounts.yaml": 4}
	ran := 0
	one, _, found := strings.Cut(string(text), fleetHeading)
	require.True(t, found)
	for _, command := range commandsOf(one) {
		ran++
		out := c.Want(want[command], "-c", command)
		if strings.Contains(command, "example") {
			write(t, filepath.Join(etc, "nexlin/accounts.yaml"), small)
		}
		require.NotContains(t, out, "error", command)
	}
	require.GreaterOrEqual(t, ran, 10)
	st, err := os.Lstat(filepath.Join(c.home("ines"), "Pictures"))
	require.NoError(t, err)
	require.True(t, st.IsDir(), "it was withdrawn")
}

// An engine is answered in one document: what would change, what did, and of a run that was
// stopped, how things are and what to do. The program answers by the name of the module, too.
func TestEngineIsAnswered(t *testing.T) {
	t.Parallel()
	c := newCrowd(t, program, 2, lab.Drive(t, "ext4", "SKERRY", 32), lab.Drive(t, "ext4", "BASALT", 32))
	module := filepath.Join(t.TempDir(), "nexlin_accounts")
	require.NoError(t, os.Symlink(c.Program, module))
	asked := func(code int, arguments string, env ...string) (d map[string]any) {
		t.Helper()
		file := filepath.Join(t.TempDir(), "arguments")
		write(t, file, arguments)
		cmd := c.Cmd(file)
		cmd.Args[slices.Index(cmd.Args, c.Program)] = module
		cmd.Env = append(cmd.Env, env...)
		out, err := cmd.Output()
		require.Equal(t, code, cmd.ProcessState.ExitCode(), "%v %s", err, out)
		require.NoError(t, json.Unmarshal(out, &d), "%s", out)
		require.Equal(t, code != 0, d["failed"], "%v", d)
		return d
	}
	file := `{"file": "` + c.file + `", "_ansible_diff": true`
	before := c.homes()
	d := asked(0, file+`, "_ansible_check_mode": true}`)
	require.Equal(t, true, d["changed"])
	require.Contains(t, c.accounts(4, "check"), d["msg"], "check mode and a check say the same")
	require.Equal(t, before, c.homes())
	text, err := os.ReadFile(c.file)
	require.NoError(t, err)
	content, err := json.Marshal(string(text))
	require.NoError(t, err)
	require.Equal(t, d, asked(0, `{"content": `+string(content)+`, "_ansible_check_mode": true, "_ansible_diff": true}`))

	d = asked(1, file+`, "only": "`+c.names[0]+`"}`, "NEXLIN_FAULT=call:syncfs:1+:EIO")
	stopped := d["problems"].([]any)[0].(map[string]any)
	require.Equal(t, "stopped", stopped["end"], "%v", d)
	require.Contains(t, stopped["next"].([]any)[0], "nexlin resume")
	require.NotEmpty(t, stopped["state"])
	require.Contains(t, d["msg"], c.names[0])

	d = asked(0, file+`}`)
	require.Equal(t, true, d["changed"])
	require.Contains(t, d["diff"].(map[string]any)["before"], c.names[1]+": ~/Pictures ──link──▶ ")
	c.accounts(0, "check")
	d = asked(0, file+`}`)
	require.Equal(t, false, d["changed"])
	require.Empty(t, d["changes"])
	require.NotContains(t, d, "diff")
	require.Contains(t, d["msg"], "nothing had to be changed")
	d = asked(0, file+`, "state": "withdrawn"}`)
	require.Equal(t, true, d["changed"])
	require.Equal(t, before, c.homes())
	require.Equal(t, false, asked(0, file+`, "state": "withdrawn", "_ansible_check_mode": true}`)["changed"])

	require.Equal(t, false, asked(0, file+`, "only": ["nobody-here"]}`)["changed"], "many machines don't know him")
	require.Contains(t, c.accounts(2, "apply", "--yes", "--only", "nobody-here"), "no account of that name")
	for arguments, word := range map[string]string{
		`{"file": "/nowhere/accounts.yaml"}`: "no accounts file",
		`{"content": "rules: ["}`:            "content:1",
		`{"fiel": "/etc/a"}`:                 "fiel",
		`{"file": "/tmp/x", "state": 7}`:     "applied or withdrawn",
		`rubbish`:                            "can't be understood",
	} {
		d := asked(1, arguments)
		require.Contains(t, d["msg"], word)
		require.Equal(t, false, d["changed"])
	}
	require.Equal(t, before, c.homes())
}

// An account whose quota is used up, so that not a name more can be made in its home, keeps
// nobody else from what is declared, and nothing of its own is lost; with room, it goes on.
func TestAccountsBesideAFullOne(t *testing.T) {
	t.Parallel()
	c := newCrowd(t, program, 3, lab.MemoryDrive(t, "SKERRY", 64), lab.MemoryDrive(t, "BASALT", 64))
	full := c.names[2]
	was := c.home(full) + ".was"
	require.NoError(t, os.Rename(c.home(full), was))
	require.NoError(t, os.Mkdir(c.home(full), 0o700))
	lab.Mount(t, c.home(full), "-t", "tmpfs", "-o", "mode=700,size=256k,nr_inodes=40", "none")
	lab.Run(t, "cp", "-a", was+"/.", c.home(full))
	_, err := exec.Command("sh", "-c", `i=0; while echo full >"$1/fill$i" && mkdir "$1/d$i"; do i=$((i+1)); done; exit 1`, "sh",
		c.home(full)).CombinedOutput()
	require.Error(t, err, "it is full")
	lab.Run(t, "chown", "-hR", "--reference="+was, c.home(full))
	before := c.homes()
	for range 2 {
		out := c.accounts(3, "apply", "--yes")
		require.Contains(t, out, "is full", out)
		for _, name := range c.names[:2] {
			_, err := os.Readlink(filepath.Join(c.home(name), "Pictures"))
			require.NoError(t, err)
		}
		require.Equal(t, before[2], c.homes()[2], "%s", out)
	}
	c.accounts(0, "withdraw", "--yes")
	require.Equal(t, before, c.homes())
	lab.Run(t, "sh", "-c", `rm -r "$1"/fill* "$1"/d*`, "sh", c.home(full))
	c.accounts(0, "apply", "--yes")
	c.accounts(0, "check")
}

// A timer, an engine and a person may apply a file at once: one waits for the other, and
// nobody is told of anything wrong. Who logs in meanwhile does not wait.
func TestAccountsAppliedTwiceAtOnce(t *testing.T) {
	t.Parallel()
	c := newCrowd(t, program, 3, lab.MemoryDrive(t, "SKERRY", 64), lab.MemoryDrive(t, "BASALT", 64))
	first := c.Cmd("accounts", "apply", c.file, "--yes")
	gate := filepath.Join(t.TempDir(), "go")
	first.Env = append(first.Env, "NEXLIN_FAULT=wait:records", "NEXLIN_FAULT_GO="+gate)
	require.NoError(t, first.Start())
	require.Eventually(t, func() bool { return lab.Exists(gate + ".waiting") }, 20*time.Second, 20*time.Millisecond)
	second := c.Cmd("accounts", "apply", c.file, "--yes")
	said := &strings.Builder{}
	second.Stdout, second.Stderr = said, said
	require.NoError(t, second.Start())
	login := c.Cmd("accounts", "apply", c.file, "--yes", "--login")
	login.Env = append(login.Env, "PAM_USER="+c.names[0])
	out, err := login.CombinedOutput()
	require.Error(t, err)
	require.Equal(t, 6, login.ProcessState.ExitCode(), "%s", out)
	write(t, gate, "")
	require.NoError(t, first.Wait())
	require.NoError(t, second.Wait(), said)
	require.Contains(t, said.String(), "waiting until it has ended")
	require.Contains(t, said.String(), "nothing had to be changed")
}

// Where a run was stopped, the account puts a directory of the administrator's in the place of
// the next one that the run would work in: it is left as it is, whatever comes after.
func TestAccountsSlipIn(t *testing.T) {
	t.Parallel()
	skerry, basalt := lab.MemoryDrive(t, "SKERRY", 64), lab.MemoryDrive(t, "BASALT", 64)
	for _, s := range []struct{ step, place string }{
		{"target.done", "$2/2027"}, {"notes.intent", "$2/2027"}, {"link-parents.act", "$1/Recordings"},
		{"link.intent", "$1/Recordings"}, {"link.act", "$2/2027"}, {"trial.intent", "$2/2027"},
		{"trial.act", "$2/2027"}, {"trial.done", "$1/Recordings"},
	} {
		for _, next := range []string{"apply", "check", "withdraw"} {
			t.Run(s.step+" "+next, func(t *testing.T) {
				t.Parallel()
				dirs := caseDirs(t, skerry, basalt)
				c := newCrowd(t, program, 1, dirs[0], dirs[1])
				home, theirs := c.turned()
				c.declare("\n- for: {like: [\"ringer*\"]}\n  redirects:\n  - {folder: ~/Recordings/2027, " +
					"into: \"BASALT/{account}\", accept: [target-in-memory]}\n")
				canary := filepath.Join(filepath.Dir(strings.ReplaceAll(strings.ReplaceAll(s.place, "$1", home), "$2",
					theirs)), "canary")
				lab.Tree{"file: " + secret}.Make(t, canary)
				require.NoError(t, os.Chmod(canary, 0o700))
				require.NoError(t, os.Chtimes(canary, time.Unix(1, 0), time.Unix(1, 0)))
				c.Env = []string{"NEXLIN_FAULT=kill:" + s.step}
				_, code := c.Exit("accounts", "apply", c.file, "--yes")
				require.Negative(t, code, "it was to be killed")
				c.Env = nil
				require.NoError(t, asAccount(`at=`+s.place+`; [ ! -e "$at" ] || mv "$at" "$at.away"; mv "${at%/*}/canary" "$at"`,
					home, theirs))
				canary = strings.ReplaceAll(strings.ReplaceAll(s.place, "$1", home), "$2", theirs)
				before := lab.Print(t, canary)
				require.Contains(t, before, `"." 040700 0:0 1.0`)
				args := []string{"accounts", next, c.file}
				if next != "check" {
					args = append(args, "--yes")
				}
				out, _ := c.Exit(args...)
				require.Equal(t, before, lab.Print(t, canary), out)
			})
		}
	}
}

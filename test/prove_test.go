//go:build linux

package test

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/goccy/go-yaml"
	"github.com/stretchr/testify/require"

	"nexlin/internal/pathtext"
	"nexlin/test/lab"
)

// A proof is how a shipped card is proven on the program itself: shell scripts (sh -eu) that are run as
// the account whose data it is, in a network with nothing but the loopback. In them $HOME is a home on
// one drive, $BASALT a directory on another. What only an administrator moves is proven as one, in the
// tests' own namespaces: /etc is a copy then, and the drive lies over the directory that holds the folders.
type proof struct {
	Card     string            `yaml:"prove"`
	Packages []string          `yaml:"packages"` // of Debian
	Needs    []string          `yaml:"needs"`    // commands, without which it is skipped
	Small    bool              `yaml:"small"`    // make test proves it, too; others make prove alone
	Roomy    bool              `yaml:"roomy"`    // it wants more addresses than memory, which is not bounded then
	Setup    string            `yaml:"setup"`    // what the administrator does first, with a copy of /etc, mounts too
	Store    string            `yaml:"store"`    // the engine's own store that is handed over; empty: the folders
	Stays    string            `yaml:"stays"`    // a store that must not be taken; empty: none is tried
	Folder   string            `yaml:"folder"`   // below the home, which is moved without a card
	Granted  string            `yaml:"granted"`  // regular expression of the command that a preview tells to give
	Over     string            `yaml:"over"`     // as an administrator: directory that the first drive lies over
	Env      map[string]string `yaml:"env"`
	Methods  []string          `yaml:"methods"` // as --by takes them; empty: as the card says
	Version  string            `yaml:"version"` // prints it
	Make     string            `yaml:"make"`    // makes real data through the program's own interface
	Start    string            `yaml:"start"`   // empty: it is no service
	Stop     string            `yaml:"stop"`
	Whole    string            `yaml:"whole"`   // prints what shows that the data is whole
	Use      string            `yaml:"use"`     // reads it through the program, and writes more
	Unclean  string            `yaml:"unclean"` // leaves the data as it must not be moved; empty: nothing does
	Away     string            `yaml:"away"`    // uses the program while the drive is away
	Shows    string            `yaml:"shows"`   // what it says then, as a regular expression
}

// A prover proves one card in one way.
type prover struct {
	*testing.T
	proof
	method  string
	home    string
	skerry  string
	basalt  string // as the drive is mounted
	account int
	plug    *lab.Plug
	network int // process in whose network everything runs
	started bool
}

// proverAccount is whose data it is.
const proverAccount = 47011

// Every card that has a proof is proven: moved by each way, used through the program, seen with its
// drive away and elsewhere, brought back, discarded; once killed in the middle and finished, once
// undone. NEXLIN_PROVE=all proves those whose packages are large, too.
func TestProveCards(t *testing.T) {
	lab.Root(t)
	files, err := filepath.Glob("../internal/card/shipped/proofs/*.yaml")
	require.NoError(t, err)
	require.NotEmpty(t, files)
	var rows []string
	for _, file := range files {
		text, err := os.ReadFile(file)
		require.NoError(t, err)
		var p proof
		require.NoError(t, yaml.UnmarshalWithOptions(text, &p, yaml.Strict()), file)
		t.Run(p.Card, func(t *testing.T) {
			all := os.Getenv("NEXLIN_PROVE") == "all"
			if !p.Small && !all {
				t.Skip("its packages are large: `make prove` proves it")
			}
			for _, need := range p.Needs {
				if _, err := exec.LookPath(need); err != nil {
					require.False(t, all, "%s is not installed", need)
					lab.Skip(t, need+" is not installed")
				}
			}
			if len(p.Methods) == 0 {
				p.Methods = []string{""}
			}
			row := []string{p.Card, "", "", time.Now().Format("2006-01-02"), ""}
			for _, method := range p.Methods {
				version, said := prove(t, p, method)
				row[1], row[4] = version, said
				row[2] = strings.TrimPrefix(row[2]+", "+strings.ReplaceAll(cmp.Or(method, "handover"), "+", " and "), ", ")
			}
			rows = append(rows, "| "+strings.Join(row, " | ")+" |")
		})
	}
	if os.Getenv("NEXLIN_WRITE_DOCS") != "" {
		writeProven(t, rows)
	}
}

// writeProven puts the table of what was proven into the page about cards; what was not proven this time, and has a
// proof still, stays there.
func writeProven(t *testing.T, rows []string) {
	const page, begin, end = "../docs/cards.md", "<!-- proven -->\n", "<!-- end of proven -->\n"
	text, err := os.ReadFile(page)
	require.NoError(t, err)
	before, rest, found := strings.Cut(string(text), begin)
	table, after, ended := strings.Cut(rest, end)
	require.True(t, found && ended)
	now := map[string]bool{}
	for _, row := range rows {
		cell := strings.Split(strings.Trim(row, "| "), " | ")
		noteProven(t, cell[0], cell[1]+" on "+cell[3], cell[4])
		now[cell[0]] = true
	}
	for line := range strings.Lines(table) {
		name, _, _ := strings.Cut(strings.Trim(line, "| "), " | ")
		if !now[name] && lab.Exists("../internal/card/shipped/proofs/"+name+".yaml") {
			rows = append(rows, strings.TrimSpace(line))
		}
	}
	slices.Sort(rows)
	table = "| card | version proven | by | on | while its drive was away the program said |\n| --- | --- | --- | --- | --- |\n"
	require.NoError(t, os.WriteFile(page, []byte(before+begin+table+strings.Join(rows, "\n")+"\n"+end+after), 0o644))
}

// noteProven puts into a card what was seen.
func noteProven(t *testing.T, name, proven, away string) {
	file := "../internal/card/shipped/" + name + ".yaml"
	text, err := os.ReadFile(file)
	if errors.Is(err, fs.ErrNotExist) {
		return // a folder without a card
	}
	require.NoError(t, err)
	var out []string
	for line := range strings.Lines(string(text)) {
		if strings.HasPrefix(line, "proven: ") || strings.HasPrefix(line, "away: ") {
			continue
		}
		if out = append(out, line); strings.HasPrefix(line, "family: ") {
			out = append(out, fmt.Sprintf("proven: %s\naway: %q\n", proven, away))
		}
	}
	require.NoError(t, os.WriteFile(file, []byte(strings.Join(out, "")), 0o644))
}

func prove(t *testing.T, p proof, method string) (version, said string) {
	dir := t.TempDir()
	lab.Open(t, dir)
	v := &prover{T: t, proof: p, method: method, basalt: filepath.Join(dir, "BASALT"), account: proverAccount}
	v.plug = lab.NewPlug(t, "ext4", "BASALT", 1024)
	v.plug.Mount(v.basalt)
	switch {
	case p.Over != "":
		v.account, v.skerry = 0, v.Over
	case p.Setup != "":
		v.skerry = "/home"
	default:
		v.skerry = lab.Drive(t, "ext4", "SKERRY", 1024)
	}
	if p.Over+p.Setup != "" {
		require.True(v, lab.InOwnNamespaces(), "only in namespaces of the tests' own")
		lab.NewPlug(v, "ext4", "SKERRY", 1024).Mount(v.skerry)
	}
	v.home = filepath.Join(v.skerry, "ines")
	require.NoError(t, os.MkdirAll(v.home, 0o755))
	require.NoError(t, errors.Join(os.Chown(v.home, v.account, v.account), os.Chown(v.basalt, v.account, v.account)))
	v.ownNetwork()
	if p.Over+p.Setup != "" {
		v.ownSystem(dir)
	}
	t.Cleanup(v.stop)
	version = strings.TrimSpace(v.sh(v.Version))
	require.Regexp(t, `^[0-9A-Za-z.+~-]+$`, version)
	v.sh(v.Make)
	whole := v.whole()

	v.stop()
	if v.Folder == "" {
		v.want(0, "card", "test", v.Card)
	}
	move, back := []string{"move", "card:" + v.Card, "--into", v.basalt, "--yes", "-q"}, "card:"+v.Card
	switch {
	case v.Store != "":
		move, back = append(move, "--store", v.Store), v.Store
	case v.Folder != "":
		move[1], back = filepath.Join(v.home, v.Folder), strings.ToLower(v.Folder)
	}
	if method != "" {
		move = append(move, "--by", method)
	}
	v.refused(whole, v.Unclean, move...)
	if v.Stays != "" {
		v.refused(whole, "true", append(slices.Clone(move), "--store", v.Stays)...)
	}
	granted := v.told(move...)
	if v.account == 0 { // its last step starts the program, which is at it at once
		v.killed(move...)
		v.want(0, "undo", "--yes")
	} else {
		v.want(0, move...)
		v.want(0, "undo", v.lastRun(), "--yes") // before the program has been at it
	}
	require.Equal(t, whole, v.whole(), "undone")
	v.stop()
	v.killed(move...)
	v.want(0, "resume", "--yes")
	v.permit(granted, whole)
	require.Equal(t, whole, v.whole(), "moved: killed in the middle, and finished")
	whole = v.used()
	v.want(0, "check")
	said = v.away()
	v.plug.In()
	if v.Store == "" { // an engine looks for its store at the place where it made it
		v.basalt = filepath.Join(dir, "elsewhere")
	}
	v.plug.Mount(v.basalt)
	granted = v.told("mend")
	v.want(0, "mend", "--yes")
	v.permit(granted, whole)
	require.Equal(t, whole, v.whole(), "mended where the drive is now")
	v.stop()
	if granted != "" {
		v.sh(v.told("bring-back", back))
	}
	v.want(0, "bring-back", back, "--yes", "-q")
	require.Equal(t, whole, v.whole(), "brought back")
	whole = v.used()
	v.discard()
	require.Equal(t, whole, v.whole(), "discarded")
	v.stop()
	return version, said
}

// ownSystem lays a copy over the system's settings, and has the administrator set up what the program needs; what
// is mounted so goes with the test.
func (v *prover) ownSystem(dir string) {
	v.Helper()
	etc := filepath.Join(dir, "etc")
	lab.Run(v, "cp", "-a", "/etc", etc)
	lab.Mount(v, "/etc", "--bind", etc)
	before := mounted(v)
	v.Cleanup(func() {
		for _, m := range slices.Backward(mounted(v)) {
			if !slices.Contains(before, m) {
				lab.Run(v, "umount", "-l", m.at)
			}
		}
	})
	account := v.account
	v.account = 0
	v.sh(v.Setup)
	v.account = account
}

// A mount has a number of its own, also where something is mounted over another mount.
type mount struct{ id, at string }

// mounted lists what is mounted, the latest last (proc_pid_mountinfo(5)).
func mounted(t testing.TB) (out []mount) {
	text, err := os.ReadFile("/proc/self/mountinfo")
	require.NoError(t, err)
	for line := range strings.Lines(string(text)) {
		w := strings.Fields(line)
		out = append(out, mount{w[0], w[4]})
	}
	return out
}

// ownNetwork makes a network with nothing but the loopback.
func (v *prover) ownNetwork() {
	cmd := exec.Command("unshare", "--net", "sh", "-c", "ip link set lo up && exec sleep 3600")
	require.NoError(v, cmd.Start())
	v.Cleanup(func() { _ = cmd.Process.Kill(); _ = cmd.Wait() })
	v.network = cmd.Process.Pid
	require.Eventually(v, func() bool {
		out, _ := exec.Command("nsenter", "--net=/proc/"+fmt.Sprint(v.network)+"/ns/net", "ip", "-o", "addr").Output()
		return strings.Contains(string(out), "127.0.0.1") && !strings.Contains(string(out), "eth")
	}, 10*time.Second, 20*time.Millisecond)
}

// run runs a script as the account, in its network, for two minutes and with four GiB at the most. What it
// leaves running does not keep it.
func (v *prover) run(env []string, script string) (string, int) {
	v.Helper()
	ctx, end := context.WithTimeout(context.Background(), 2*time.Minute)
	defer end()
	out, err := os.CreateTemp(v.TempDir(), "out")
	require.NoError(v, err)
	defer out.Close()
	bound := "ulimit -v 4194304; "
	if v.Roomy {
		bound = ""
	}
	cmd := exec.CommandContext(ctx, "nsenter", fmt.Sprintf("--net=/proc/%d/ns/net", v.network), "setpriv",
		fmt.Sprintf("--reuid=%d", v.account), fmt.Sprintf("--regid=%d", v.account), "--clear-groups", "env", "-i",
		"sh", "-euc", bound+"umask 022; cd \"$HOME\"; "+script)
	path := "/usr/local/bin:/usr/bin:/bin:/usr/sbin:/sbin:/usr/games"
	for _, need := range v.Needs {
		if at, err := exec.LookPath(need); err == nil {
			path += ":" + filepath.Dir(at)
		}
	}
	given := []string{"HOME=" + v.home, "PATH=" + path, "USER=ines", "LOGNAME=ines", "LANG=C.UTF-8", "BASALT=" + v.basalt,
		"TMPDIR=/tmp"}
	for k, e := range v.Env {
		given = append(given, k+"="+os.Expand(e, func(string) string { return v.home }))
	}
	cmd.Args = slices.Insert(cmd.Args, slices.Index(cmd.Args, "-i")+1, append(given, env...)...)
	cmd.Stdout, cmd.Stderr = out, out
	cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
	cmd.Cancel = func() error { return syscall.Kill(-cmd.Process.Pid, syscall.SIGKILL) }
	err = cmd.Run()
	text, e := os.ReadFile(out.Name())
	require.NoError(v, errors.Join(e, ctx.Err()), "%s\n%s", script, text)
	var exit *exec.ExitError
	if err != nil && !errors.As(err, &exit) {
		require.NoError(v, err, "%s", text)
	}
	status := cmd.ProcessState.ExitCode()
	if s, ok := cmd.ProcessState.Sys().(syscall.WaitStatus); ok && s.Signaled() {
		status = 128 + int(s.Signal())
	}
	return string(text), status
}

// sh runs a script that has to succeed.
func (v *prover) sh(script string) string {
	v.Helper()
	out, code := v.run(nil, script)
	require.Zero(v, code, "%s\n%s", script, out)
	return out
}

func (v *prover) nexlin(fault string, args ...string) (string, int) {
	v.Helper()
	env := []string{"NEXLIN_STATE_DIR=" + filepath.Join(v.home, ".local/state/nexlin"), "NEXLIN_STANDIN_DRIVES="}
	if fault != "" {
		env = append(env, "NEXLIN_FAULT="+fault)
	}
	return v.run(env, pathtext.Quote(program)+" "+pathtext.QuoteAll(args))
}

// refused wants a move to change nothing once a script has been run; without one there is nothing to refuse.
func (v *prover) refused(whole, first string, move ...string) {
	v.Helper()
	if first == "" {
		return
	}
	v.sh(first)
	out, code := v.nexlin("", move...)
	require.NotZero(v, code, out)
	v.Logf("refused: %s", out)
	require.Equal(v, whole, v.whole())
	v.stop()
}

// told is the command that a preview says gives a program its permission, or takes it back; empty if the proof is
// about none.
func (v *prover) told(args ...string) string {
	v.Helper()
	if v.Granted == "" {
		return ""
	}
	out := v.want(0, append(args, "--preview")...)
	command := regexp.MustCompile(v.Granted).FindString(out)
	require.NotEmpty(v, command, out)
	return command
}

// permit gives it, without which the program does not see what is moved.
func (v *prover) permit(command, whole string) {
	v.Helper()
	if command == "" {
		return
	}
	out, _ := v.run(nil, v.Whole)
	require.NotEqual(v, whole, out, "without the permission")
	v.sh(command)
}

// killed runs it until the copy was read back, or the engine has given its store away.
func (v *prover) killed(args ...string) {
	v.Helper()
	step := "verified-1"
	if v.Store != "" {
		step = "sign-off.act"
	}
	out, code := v.nexlin("kill:"+step, args...)
	require.Equal(v, 137, code, out)
}

func (v *prover) want(status int, args ...string) string {
	v.Helper()
	out, code := v.nexlin("", args...)
	require.Equal(v, status, code, "%v\n%s", args, out)
	return out
}

// document is what a command that shows something says.
func (v *prover) document(out any, args ...string) {
	v.Helper()
	text, code := v.nexlin("", append(args, "--json", "-q")...)
	require.Zero(v, code, text)
	require.NoError(v, json.Unmarshal([]byte(text), out), text)
}

// discard deletes every original that is held.
func (v *prover) discard() {
	v.Helper()
	var doc struct{ Redirects []struct{ Name string } }
	v.document(&doc, "list", "--held")
	require.NotEmpty(v, doc.Redirects)
	for _, r := range doc.Redirects {
		v.want(0, "discard-original", r.Name, "--yes", "--accept", "changed-since", "--accept", "gone-at-target",
			"--accept", "metadata-differs")
	}
	v.document(&doc, "list", "--held")
	require.Empty(v, doc.Redirects)
}

// lastRun is the newest run, of several as one the whole.
func (v *prover) lastRun() string {
	v.Helper()
	var doc struct{ Runs []struct{ ID, Kind string } }
	v.document(&doc, "history")
	require.NotEmpty(v, doc.Runs)
	for _, r := range doc.Runs {
		if strings.HasSuffix(r.Kind, "-together") {
			return r.ID
		}
	}
	return doc.Runs[0].ID
}

func (v *prover) start() {
	if v.Start != "" && !v.started {
		v.sh(v.Start)
		v.started = true
	}
}

func (v *prover) stop() {
	if v.started || v.account == 0 && v.Stop != "" { // a card's own steps start a service
		v.started = false
		v.sh(v.Stop)
	}
}

// whole is what shows that the data is whole, asked of the program.
func (v *prover) whole() string {
	v.Helper()
	v.start()
	return v.sh(v.Whole)
}

// used works with the program; what is whole is another thing then.
func (v *prover) used() string {
	v.Helper()
	before := v.whole()
	v.sh(v.Use)
	after := v.whole()
	require.NotEqual(v, before, after, "something was written")
	v.stop()
	return after
}

// away pulls the drive, and has the program be used: the sentence that it says, which has to be the one that
// the proof knows of.
func (v *prover) away() string {
	v.Helper()
	v.plug.Out()
	v.want(7, "check")
	out, _ := v.run(nil, v.Away)
	found := regexp.MustCompile(v.Shows).FindString(out)
	require.NotEmpty(v, found, "%s", out)
	found = strings.NewReplacer("|", " ", v.home, "~", v.basalt, "BASALT:").Replace(found)
	return strings.Join(strings.Fields(found), " ")
}

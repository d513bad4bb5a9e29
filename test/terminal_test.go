//go:build linux

package test

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"nexlin/test/lab"
)

// stage is a home on SKERRY with the stand-in drives around it.
func stage(t *testing.T, tr lab.Tree) (*lab.Nexlin, string) {
	t.Helper()
	dir := t.TempDir()
	home := filepath.Join(dir, "skerry", "home", "ines")
	tr.Make(t, home)
	for _, d := range []string{"basalt", "dune"} {
		require.NoError(t, os.Mkdir(filepath.Join(dir, d), 0o755))
	}
	require.NoError(t, os.WriteFile(filepath.Join(dir, "drives.yaml"), []byte(drivesFile), 0o644))
	n := lab.New(t, program)
	n.Home = home
	n.Env = []string{"NEXLIN_STANDIN_DRIVES=" + filepath.Join(dir, "drives.yaml")}
	return n, home
}

const enter = "\r"

// move without arguments leads through the choices and shows the command.
func TestGuidedMove(t *testing.T) {
	n, home := stage(t, lab.Tree{"Pictures/a: 111", "Music/b: 2", "Music/c: 3"})
	term := lab.OnTerminal(t, n.Cmd("move"))
	term.Await("Which folders?", enter) // the first frees most: Music
	term.Await("To which drive?", enter)
	term.Await("Into which directory", enter)
	term.Await("move it?", "y"+enter)
	require.Zero(t, term.Wait(), term.Screen())
	require.Contains(t, term.Screen(), "nexlin move ~/Music --into BASALT:/ines")
	text, err := os.Readlink(filepath.Join(home, "Music"))
	require.NoError(t, err)
	require.Contains(t, text, "basalt/ines/Music")
}

// A folder is dragged in beside one that is chosen: both go as one.
func TestGuidedMoveOfSeveral(t *testing.T) {
	n, home := stage(t, lab.Tree{"Pictures/a: 111", "Music/b: 2", "Music/c: 3", "Deep/Field notes/d: 4"})
	term := lab.OnTerminal(t, n.Cmd("move"))
	term.Await("Which folders?", " ")
	term.Await("✓", "\x1b[200~'"+home+"/Deep/Field notes' \x1b[201~")
	term.Await("Field notes", enter)
	term.Await("To which drive?", enter)
	term.Await("Into which directory", enter)
	term.Await("move them?", "y"+enter)
	require.Zero(t, term.Wait(), term.Screen())
	require.Contains(t, term.Screen(), "all of them or none")
	for _, folder := range []string{"Music", "Deep/Field notes"} {
		text, err := os.Readlink(filepath.Join(home, folder))
		require.NoError(t, err)
		require.Contains(t, text, "basalt/ines/"+filepath.Base(folder))
	}
	require.NoError(t, os.Mkdir(filepath.Join(home, "More"), 0o755))
	term = lab.OnTerminal(t, n.Cmd("move", "file://"+home+"/More")) // as a file manager's action names it
	term.Await("✓", "\x1b")
	require.Equal(t, 3, term.Wait(), term.Screen())
	require.Contains(t, term.Screen(), "Stopped, as you asked. Nothing was changed.")
}

// What was asked for on the command line holds on that way, too.
func TestGuidedMoveKeepsItsFlags(t *testing.T) {
	n, home := stage(t, lab.Tree{"Music/b: 2"})
	term := lab.OnTerminal(t, n.Cmd("move", "--digest", "blake3", "--name", "calls", "--workers", "1"))
	term.Await("Which folders?", enter)
	term.Await("To which drive?", enter)
	term.Await("Into which directory", enter)
	term.Await("move it?", "y"+enter)
	require.Zero(t, term.Wait(), term.Screen())
	require.Contains(t, term.Screen(),
		"nexlin move ~/Music --into BASALT:/ines --digest blake3 --name calls --workers 1")
	require.Contains(t, n.Want(0, "show", "calls", "--manifest", "blake3"), "  b")
	require.FileExists(t, filepath.Join(home, "Music", "b"))
	term = lab.OnTerminal(t, n.Cmd("move", "--digest", "crc"))
	require.Equal(t, 2, term.Wait(), term.Screen())
}

// No is no, and so is leaving.
func TestAnswersThatAreNotYes(t *testing.T) {
	for _, answer := range []string{"n" + enter, enter, "\x03", "\x04", "yesterday" + enter} {
		n, home := stage(t, lab.Tree{"Pictures/a: 1"})
		term := lab.OnTerminal(t, n.Cmd("move", filepath.Join(home, "Pictures"), "--into", "BASALT:/"))
		term.Await("move it?", answer)
		require.Equal(t, 3, term.Wait(), term.Screen())
		require.Contains(t, term.Screen(), "Stopped, as you asked. Nothing was changed.")
		require.NotContains(t, term.Screen(), "error")
		st, err := os.Lstat(filepath.Join(home, "Pictures"))
		require.NoError(t, err)
		require.True(t, st.IsDir())
	}
	n, _ := stage(t, lab.Tree{"Pictures/a: 1"})
	term := lab.OnTerminal(t, n.Cmd("move"))
	term.Await("Which folders?", "\x03")
	require.Equal(t, 3, term.Wait(), term.Screen())
}

// What was changed since the switch is asked about by itself; --yes does not
// answer that.
func TestDiscardAsksAboutLosses(t *testing.T) {
	n, home := stage(t, lab.Tree{"Notes/a: 1", "Notes/b: 2"})
	n.Want(0, "move", filepath.Join(home, "Notes"), "--into", "BASALT:/", "--yes")
	require.NoError(t, os.WriteFile(filepath.Join(home, "Notes", "a"), []byte("new"), 0o644))
	term := lab.OnTerminal(t, n.Cmd("discard-original", "notes", "--yes"))
	term.Await("delete the last copies of these too?", "n"+enter)
	require.Equal(t, 3, term.Wait(), term.Screen())
	term = lab.OnTerminal(t, n.Cmd("discard-original", "notes", "--yes"))
	term.Await("delete the last copies of these too?", "y"+enter)
	require.Zero(t, term.Wait(), term.Screen())
	require.Contains(t, n.Want(0, "list", "--held"), "nothing is held")
}

func TestProgressForPrograms(t *testing.T) {
	n, home := stage(t, lab.Tree{"Notes/a: 1"})
	out := n.Want(0, "move", filepath.Join(home, "Notes"), "--into", "BASALT:/", "--yes", "--json", "--progress-json")
	for _, phase := range []string{"copy", "verify", "switch", "try", "finish"} {
		require.Contains(t, out, `"phase":"`+phase+`","seconds"`)
	}
}

// mend asks about each entry that both halves have.
func TestMendAsks(t *testing.T) {
	n, home := stage(t, lab.Tree{"Notes/list: old", "Notes/plan: old plan"})
	folder := filepath.Join(home, "Notes")
	n.Want(0, "move", folder, "--into", "BASALT:/ines", "--yes", "-q")
	n.Want(0, "discard-original", "notes", "--yes", "-q")
	require.NoError(t, os.Remove(folder))
	lab.Tree{"Notes/list: new", "Notes/plan: new plan", "Notes/more: more"}.Make(t, home)
	const down = "\x1b[B"
	term := lab.OnTerminal(t, n.Cmd("mend", "notes", "--halves", "ask"))
	term.Await("the one of the real folder takes the name", down+enter) // list: the half's
	term.Await("┃ plan", down+down+enter)                               // plan: the target's
	term.Await("mend it?", "y"+enter)
	require.Zero(t, term.Wait(), term.Screen())
	for name, want := range map[string]string{"list": "new", "plan": "old plan", "more": "more"} {
		got, err := os.ReadFile(filepath.Join(folder, name))
		require.NoError(t, err)
		require.Equal(t, want, string(got), name)
	}
	aside, err := filepath.Glob(filepath.Join(filepath.Dir(home), "..", "..", "basalt", "ines", ".Notes.replaced-*",
		"target-*list*"))
	require.NoError(t, err)
	require.Len(t, aside, 1, "what was replaced is set aside")
	held, err := filepath.Glob(filepath.Join(home, ".Notes.held-*", "plan"))
	require.NoError(t, err)
	require.Len(t, held, 1, "what was not taken stays held")
}

// What is offered on a terminal where nothing is named: the last run, and a redirect. A no to
// the second of two says that the first is done.
func TestOffers(t *testing.T) {
	t.Parallel()
	n, home := stage(t, lab.Tree{"Notes/a: 1", "Calls/b: 2"})
	for _, name := range []string{"Notes", "Calls"} {
		n.Want(0, "move", filepath.Join(home, name), "--into", "BASALT:/", "--yes")
	}
	term := lab.OnTerminal(t, n.Cmd("undo"))
	term.Await("take it back?", "y"+enter)
	require.Contains(t, term.Screen(), "the last one was move of calls")
	require.Zero(t, term.Wait(), term.Screen())
	require.FileExists(t, filepath.Join(home, "Calls/b"))
	n.Want(0, "move", filepath.Join(home, "Calls"), "--into", "BASALT:/", "--as", "again", "--yes")
	term = lab.OnTerminal(t, n.Cmd("discard-original", "notes", "calls"))
	term.Await("delete what is held?", "y"+enter)
	term.Await("/again", "n"+enter) // where the second one is in use
	require.Equal(t, 3, term.Wait(), term.Screen())
	require.Contains(t, term.Screen(), "Stopped, as you asked. What was done before that stays done.")
	term = lab.OnTerminal(t, n.Cmd("bring-back"))
	term.Await("Which one comes back?", enter)
	term.Await("bring it back?", "n"+enter)
	require.Equal(t, 3, term.Wait(), term.Screen())
	require.Contains(t, term.Screen(), "Stopped, as you asked. Nothing was changed.")
}

// mend without a name leads through what check finds, cause by cause, and says what is left.
func TestMendLeadsThroughCauses(t *testing.T) {
	n, home := stage(t, lab.Tree{"Music/a: 1", "Notes/b: 2", "Pictures/c: 3", "Sounds/d: 4"})
	for folder, into := range map[string]string{"Music": "BASALT:/", "Notes": "BASALT:/", "Pictures": "DUNE:/"} {
		n.Want(0, "move", filepath.Join(home, folder), "--into", into, "--yes", "-q")
	}
	n.Env = append(n.Env, "NEXLIN_FAULT=kill:sealed")
	n.Exit("move", filepath.Join(home, "Sounds"), "--into", "BASALT:/", "--yes", "-q")
	n.Env = n.Env[:len(n.Env)-1]
	require.NoError(t, os.Remove(filepath.Join(home, "Music")))
	require.NoError(t, os.Remove(filepath.Join(home, "Notes")))
	lab.Tree{"Notes/new: 5"}.Make(t, home)
	dune := filepath.Join(home, "../../../dune")
	require.NoError(t, os.Rename(dune, dune+".off"))

	const down = "\x1b[B"
	term := lab.OnTerminal(t, n.Cmd("mend"))
	term.Await("3 causes come after it.", enter)
	term.Await("mend it?", "y"+enter) // the link of Music
	term.Await("2 causes come after it.", enter)
	term.Await("mend it?", "n"+enter)                      // the halves of Notes
	term.Await("2 causes come after it.", down+down+enter) // it is still so
	term.Await("1 cause comes after it.", down+enter)      // Pictures: leave it
	term.Await("finish the run", down+enter)
	term.Await("take it back?", "y"+enter)
	require.Equal(t, 4, term.Wait(), term.Screen())
	for _, says := range []string{"this is still so", " was left as it is", "left as it is:", "DUNE is not here"} {
		require.Contains(t, term.Screen(), says)
	}
	text, err := os.Readlink(filepath.Join(home, "Music"))
	require.NoError(t, err)
	require.Contains(t, text, "basalt/Music")
	require.FileExists(t, filepath.Join(home, "Notes", "new"))
	require.FileExists(t, filepath.Join(home, "Sounds", "d"))
	require.Contains(t, n.Want(4, "check", "--problems"), "drive-away")

	require.NoError(t, os.Rename(dune+".off", dune))
	term = lab.OnTerminal(t, n.Cmd("mend"))
	term.Await("It is the last.", enter)
	term.Await("mend it?", "y"+enter)
	require.Zero(t, term.Wait(), term.Screen())
	require.Contains(t, term.Screen(), "nothing is left to be mended")
	require.FileExists(t, filepath.Join(home, "Notes", "new"))
	require.FileExists(t, filepath.Join(home, "Notes", "b"))
}

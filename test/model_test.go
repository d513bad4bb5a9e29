//go:build linux

package test

import (
	"errors"
	"flag"
	"fmt"
	"io/fs"
	"maps"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"nexlin/test/lab"
)

// A bay is two profile folders, a drive that stays, another that comes and goes,
// and a model of them: what people have written and not changed or deleted
// themselves. However the commands are mixed with a drive that is pulled, plugged
// in elsewhere or exchanged, and with programs that make real folders, none of it
// is lost.
type bay struct {
	t            *testing.T
	n            *lab.Nexlin
	basalt, dune *lab.Plug
	skerry       *lab.Plug // the drive that stays, at c
	home         string
	a, b, c      string // mount points
	at           string // where BASALT is mounted; empty if it is not
	swapped      bool   // DUNE is mounted at a
	// what each path below the home was given last, by its unique content; the model
	live map[string]string
	// contents seen on each drive, and in each empty mount point, when it was last to be seen
	has     map[string]map[string]bool
	written int
	kill    int // the next command is killed at its Nth call; 0: none is
	log     []string
}

func newBay(t *testing.T, dir string, basalt, dune, skerry *lab.Plug) *bay {
	b := &bay{t: t, basalt: basalt, dune: dune, skerry: skerry, live: map[string]string{},
		has: map[string]map[string]bool{}}
	b.n = lab.New(t, program)
	b.home, b.a, b.b, b.c = filepath.Join(dir, "home"), filepath.Join(dir, "a"), filepath.Join(dir, "b"),
		filepath.Join(dir, "c")
	b.n.Home = b.home
	for _, d := range []string{b.home, b.a, b.b} {
		require.NoError(t, os.MkdirAll(d, 0o755))
	}
	lab.Tree{".config/user-dirs.dirs: XDG_DOCUMENTS_DIR=\"$HOME/Notes\"\nXDG_MUSIC_DIR=\"$HOME/Calls\"\n"}.Make(t,
		b.home)
	for _, folder := range folders {
		for _, name := range noteNames {
			b.save(filepath.Join(folder, name))
		}
	}
	skerry.Mount(b.c)
	b.plug(b.a)
	return b
}

var (
	folders   = []string{"Notes", "Calls"}
	noteNames = []string{"list", "plan", "deep/er/list", "deep/other"}
)

func (b *bay) plug(at string) {
	b.basalt.Mount(at)
	b.at = at
}

// save has a program save a file below the home, with the directories it needs.
func (b *bay) save(name string) {
	b.written++
	content := fmt.Sprintf("content-%d.", b.written)
	path := filepath.Join(b.home, name)
	was, _ := os.ReadFile(path) // nothing, if it is new
	if os.MkdirAll(filepath.Dir(path), 0o755) != nil || os.WriteFile(path, []byte(content), 0o644) != nil {
		return
	}
	b.gone(string(was))
	if old := b.live[name]; old != "" { // of another half: this program has not seen it
		b.live[fmt.Sprint("before ", b.written)] = old
	}
	b.live[name] = content
}

// gone takes a content out of the model: a person has overwritten or deleted
// the file that had it, under whatever name it was.
func (b *bay) gone(content string) {
	maps.DeleteFunc(b.live, func(_, has string) bool { return has == content })
}

// run runs a command, which may refuse; it must not fail.
func (b *bay) run(args ...string) int {
	if b.kill > 0 {
		b.n.Env = []string{fmt.Sprint("NEXLIN_FAULT=call-kill:", b.kill)}
	}
	out, code := b.n.Exit(args...)
	b.n.Env, b.kill = nil, 0
	b.log = append(b.log, fmt.Sprintf("%v: %d", args, code))
	if code == -1 {
		return code
	}
	broken := code == 1 && strings.Contains(out, "so nothing was touched") // somebody else's thing stands there
	if !slices.Contains([]int{0, 3, 4, 7}, code) && !broken {
		b.t.Fatalf("%s\n%v: %d\n%s", strings.Join(b.log, "\n"), args, code, out)
	}
	return code
}

// contents gathers what files below a directory have.
func contents(t *testing.T, dir string, into map[string]bool) {
	err := filepath.WalkDir(dir, func(path string, d fs.DirEntry, err error) error {
		if err != nil || !d.Type().IsRegular() {
			return err
		}
		if fi, err := d.Info(); err != nil || fi.Size() > 1<<10 {
			return err // what a trial that was killed has left: nobody's note is so long
		}
		content, err := os.ReadFile(path)
		into[string(content)] = true
		return err
	})
	require.NoError(t, err)
}

// whole wants everything that the model has to be somewhere.
func (b *bay) whole() {
	// remedies mount there
	places := map[string]string{b.home: "home", b.a: "below a", b.b: "below b", b.a + "-2": "beside a",
		b.b + "-2": "beside b"}
	for _, drive := range []*lab.Plug{b.basalt, b.dune, b.skerry} {
		if at := drive.At(); at != "" {
			places[at] = drive.Label
		}
	}
	for at, what := range places {
		if lab.Exists(at) {
			b.has[what] = map[string]bool{}
			contents(b.t, at, b.has[what])
		}
	}
	for name, content := range b.live {
		if !slices.ContainsFunc(slices.Collect(maps.Values(b.has)),
			func(in map[string]bool) bool { return in[content] }) {
			b.t.Fatalf("%s\n%s of %s is lost", strings.Join(b.log, "\n"), content, name)
		}
	}
}

// leadsNowhere reports that nothing stands in a folder's place, or a link whose
// drive is away.
func (b *bay) leadsNowhere(folder string) bool {
	_, err := os.Stat(filepath.Join(b.home, folder))
	return err != nil
}

func (b *bay) did(what string) { b.log = append(b.log, what) }

func (b *bay) actions() map[string]func(*rapid.T) {
	folder := rapid.SampledFrom(folders)
	draw := func(t *rapid.T) string {
		return filepath.Join(folder.Draw(t, "folder"), rapid.SampledFrom(noteNames).Draw(t, "name"))
	}
	move := func(options ...string) func(*rapid.T) {
		return func(t *rapid.T) {
			name := folder.Draw(t, "folder")
			b.run(append([]string{"move", filepath.Join(b.home, name), "--into", b.place(t), "--name",
				strings.ToLower(name), "--yes", "-q"}, options...)...)
		}
	}
	known := func(command string, args ...string) func(*rapid.T) {
		return func(t *rapid.T) { b.known(strings.ToLower(folder.Draw(t, "folder")), command, args...) }
	}
	return map[string]func(*rapid.T){
		"save": func(t *rapid.T) {
			if name := draw(t); !b.leadsNowhere(strings.Split(name, "/")[0]) { // or the program complains
				b.did("save " + name)
				b.save(name)
			}
		},
		"delete": func(t *rapid.T) {
			name := draw(t)
			was, _ := os.ReadFile(filepath.Join(b.home, name)) // nothing, if it is not there
			if os.Remove(filepath.Join(b.home, name)) == nil {
				b.did("delete " + name)
				b.gone(string(was))
			}
		},
		"half": func(t *rapid.T) { // a program whose folder is gone makes a new one
			name := draw(t)
			folder := strings.Split(name, "/")[0]
			if !b.leadsNowhere(folder) {
				t.Skip("it is there")
			}
			at := filepath.Join(b.home, folder)
			_ = os.Remove(at) // a link, or nothing
			require.NoError(b.t, os.Mkdir(at, 0o755))
			b.did("a real folder with " + name)
			b.save(name)
		},
		"pull": func(*rapid.T) {
			if b.at != "" {
				b.did("pull")
				b.whole()
				b.basalt.Unmount()
				b.at = ""
			}
		},
		"plug in": func(t *rapid.T) {
			if b.at != "" {
				t.Skip("it is")
			}
			at := rapid.SampledFrom([]string{b.a, b.b}).Draw(t, "at")
			if at == b.a && b.swapped {
				at = b.b
			}
			b.did("plug in at " + filepath.Base(at))
			b.plug(at)
		},
		"another drive": func(t *rapid.T) {
			switch {
			case b.swapped:
				b.did("the other drive goes")
				b.whole()
				b.dune.Unmount()
				b.swapped = false
			case b.at != b.a:
				b.did("another drive")
				b.dune.Mount(b.a)
				b.swapped = true
			}
		},
		"move":        move(),
		"start empty": move("--start-empty"),
		"merge":       move("--merge", "--accept", "both-have-it"),
		"move both as one": func(t *rapid.T) {
			b.run("move", "--profile", "documents,music", "--into", b.place(t), "--yes", "-q")
		},
		"move on":    func(t *rapid.T) { known("move", "--into", b.place(t))(t) },
		"bring-back": known("bring-back"),
		"detach":     known("detach"),
		"discard":    known("discard-original"),
		"use-held":   known("bring-back", "--use-held"),
		"forget":     known("forget"),
		"attach":     known("mend", "--attach"),
		"mend": func(t *rapid.T) {
			known("mend", "--halves", rapid.SampledFrom([]string{"keep-both", "newer"}).Draw(t, "halves"))(t)
		},
		"check":     func(*rapid.T) { b.run("check") },
		"resume":    func(*rapid.T) { b.ended("resume") },
		"take back": func(*rapid.T) { b.ended("undo") },
		"record": func(t *rapid.T) {
			name := folder.Draw(t, "folder")
			b.run("record", filepath.Join(b.home, name), "--name", strings.ToLower(name), "--yes", "-q")
		},
		"kill the next": func(t *rapid.T) { b.kill = rapid.IntRange(20, 1500).Draw(t, "call") },
		"undo": func(*rapid.T) {
			runs := b.n.JSON("history")["runs"].([]any)
			if len(runs) > 0 {
				b.run("undo", runs[0].(map[string]any)["id"].(string), "--yes", "-q")
			}
		},
		"": func(*rapid.T) { b.whole() },
	}
}

// place draws a directory on a drive that folders are moved to.
func (b *bay) place(t *rapid.T) string {
	return rapid.SampledFrom([]string{b.a + "/ines", b.c + "/ines"}).Draw(t, "into")
}

// ended resumes or takes back the run that was stopped, if there is one.
func (b *bay) ended(way string) {
	for _, r := range b.n.JSON("history")["runs"].([]any) {
		if run := r.(map[string]any); run["state"] == "stopped" {
			b.run(way, run["id"].(string), "--yes", "-q")
			return
		}
	}
}

// putRight does what check says, word for word, until it says nothing more: with
// every drive in its place there has to be an end to that.
func (b *bay) putRight() {
	seen := map[string]int{}
	for round := 0; ; round++ {
		doc := b.n.JSON("check")
		var remedy, told string
		for _, f := range doc["findings"].([]any) {
			if x := f.(map[string]any); x["severity"] != "info" && remedy == "" {
				told = fmt.Sprint(x["code"], ": ", x["message"], " → ", x["remedy"])
				_, remedy = toType(x["remedy"].(string))
			}
		}
		if told == "" {
			return
		}
		b.did(told)
		b.whole()
		if seen[told]++; remedy == "" || seen[told] > 2 || round == 20 {
			b.t.Fatalf("%s\nwhat check says leads nowhere", strings.Join(b.log, "\n"))
		}
		if words, ok := strings.CutPrefix(remedy, "nexlin "); ok {
			b.run(append(strings.Fields(words), "--yes", "-q")...)
			continue
		}
		out, err := exec.Command("sh", "-c", remedy).CombinedOutput()
		b.did(fmt.Sprintf("%s: %v %s", remedy, err, out))
	}
}

// redirects are the names that list knows.
func (b *bay) redirects() (names []string) {
	for _, r := range b.n.JSON("list")["redirects"].([]any) {
		names = append(names, r.(map[string]any)["name"].(string))
	}
	return names
}

// comesHome brings a folder back, doing what refusals say.
func (b *bay) comesHome(name string) {
	for range 3 {
		met, stuck := led(b.n, "bring-back", name)
		b.did(fmt.Sprint("comes home: ", name, met, stuck))
		switch stuck {
		case "":
			return
		case "old-place-taken": // a person sets it aside
			at := filepath.Join(b.home, strings.ToUpper(name[:1])+name[1:])
			require.NoError(b.t, os.Rename(at, fmt.Sprint(at, " aside ", len(b.log))))
		default:
			b.t.Fatalf("%s\n%s: what the refusal says leads nowhere", strings.Join(b.log, "\n"), stuck)
		}
	}
	b.t.Fatalf("%s\n%s never comes home", strings.Join(b.log, "\n"), name)
}

// dangles reports a link of a known folder that leads nowhere although the drive
// is where it belongs.
func (b *bay) dangles(folder string) bool {
	st, err := os.Lstat(filepath.Join(b.home, folder))
	return slices.Contains(b.redirects(), strings.ToLower(folder)) && err == nil && st.Mode()&fs.ModeSymlink != 0 &&
		b.leadsNowhere(folder)
}

// known runs a command on a redirect, if there is one of that name.
func (b *bay) known(name, command string, args ...string) {
	if slices.Contains(b.redirects(), name) {
		b.run(append([]string{command, name, "--yes", "-q"}, args...)...)
	}
}

// Random sequences of what people, programs and drives do never lose the
// content of a file. In the suite they are the same ones each time, so that what
// fails there fails again; NEXLIN_MATRIX=all draws others.
func TestModel(t *testing.T) {
	if !flagGiven("rapid.checks") {
		sequences, steps, seed := "10", "30", "20261129"
		if os.Getenv("NEXLIN_MATRIX") == "all" {
			sequences, steps, seed = "2000", "40", "0"
		}
		set := func(checks, steps, seed string) error {
			return errors.Join(flag.Set("rapid.checks", checks), flag.Set("rapid.steps", steps),
				flag.Set("rapid.seed", seed))
		}
		require.NoError(t, set(sequences, steps, seed))
		defer func() { require.NoError(t, set("100", "30", "0")) }()
	}
	runs := 0
	scratch := t.TempDir()
	basalt, dune, skerry := lab.NewPlug(t, "ext4", "BASALT", 16), lab.NewPlug(t, "ext4", "DUNE", 16),
		lab.NewPlug(t, "ext4", "SKERRY", 16)
	steps := 0
	rapid.Check(t, func(rt *rapid.T) {
		runs++
		b := newBay(t, filepath.Join(scratch, fmt.Sprint(runs)), basalt, dune, skerry)
		defer func() {
			steps += len(b.log)
			for _, drive := range []*lab.Plug{basalt, dune, skerry} {
				drive.Unmount()
				clearDrive(t, drive, b.a)
			}
			require.NoError(t, os.RemoveAll(filepath.Dir(b.home)))
		}()
		rt.Repeat(b.actions())
		// With the drive back in its place everything can be put right.
		b.whole()
		if b.swapped {
			dune.Unmount()
			b.swapped = false
		}
		if b.at != b.a {
			basalt.Unmount()
			b.plug(b.a)
		}
		b.kill = 0
		b.putRight()
		for _, folder := range folders { // what was forgotten is nobody's to look after
			if b.dangles(folder) {
				b.t.Fatalf("%s\nthe link of %s leads nowhere", strings.Join(b.log, "\n"), folder)
			}
		}
		// And everything comes home, if need be by what refusals say.
		for _, name := range b.redirects() {
			b.comesHome(name)
		}
		b.whole()
	})
	t.Logf("%d sequences, %d steps", runs, steps)
}

// Two drives that belong at one place, and a drive that covers data below its mount
// point: doing what check says leads out of both.
func TestTwoForOnePlace(t *testing.T) {
	basalt, dune, skerry := lab.NewPlug(t, "ext4", "BASALT", 16), lab.NewPlug(t, "ext4", "DUNE", 16),
		lab.NewPlug(t, "ext4", "SKERRY", 16)
	for name, set := range map[string]func(*bay){
		"two drives": func(b *bay) {
			b.run("move", b.home+"/Calls", "--into", b.a+"/ines", "--yes", "-q")
			basalt.Unmount()
			dune.Mount(b.a)
			b.run("move", b.home+"/Notes", "--into", b.a+"/ines", "--yes", "-q")
			dune.Unmount()
		},
		"one of a stopped run": func(b *bay) {
			b.n.Env = []string{"NEXLIN_FAULT=kill:sealed"}
			b.n.Want(-1, "move", b.home+"/Calls", "--into", b.a+"/ines", "--yes", "-q")
			b.n.Env = nil
			basalt.Unmount()
			dune.Mount(b.a)
			b.run("move", b.home+"/Notes", "--into", b.a+"/ines", "--yes", "-q")
			dune.Unmount()
		},
		"below the mount point": func(b *bay) {
			b.run("move", b.home+"/Notes", "--into", b.c+"/ines", "--yes", "-q")
			b.run("move", b.home+"/Calls", "--into", b.a+"/ines", "--yes", "-q")
			b.run("detach", "calls", "--yes", "-q")
			basalt.Unmount()
			basalt.Mount(b.b)
			b.run("mend", "calls", "--yes", "-q")
			b.run("move", "notes", "--into", b.a+"/ines", "--yes", "-q")
			basalt.Unmount()
		},
	} {
		t.Run(name, func(t *testing.T) {
			b := newBay(t, t.TempDir(), basalt, dune, skerry)
			defer func() {
				for _, drive := range []*lab.Plug{basalt, dune, skerry} {
					drive.Unmount()
					clearDrive(t, drive, b.a)
				}
			}()
			set(b)
			b.plug(b.a)
			b.putRight()
			for _, name := range []string{"notes", "calls"} {
				require.Contains(t, b.redirects(), name)
			}
			b.whole()
			for _, name := range b.redirects() {
				b.comesHome(name)
			}
			b.whole()
		})
	}
}

func flagGiven(name string) (given bool) {
	flag.Visit(func(f *flag.Flag) { given = given || f.Name == name })
	return given
}

// clearDrive makes a drive empty for the next sequence.
func clearDrive(t *testing.T, p *lab.Plug, at string) {
	p.Mount(at)
	entries, err := os.ReadDir(at)
	require.NoError(t, err)
	for _, e := range entries {
		require.NoError(t, os.RemoveAll(filepath.Join(at, e.Name())))
	}
	p.Unmount()
}

// Package standin builds the made-up scene for demo, examples and tests: the
// bird observatory at Kestrel Bay, with its drives, accounts and files.
//
// The files are real files in real formats, made the same way each time.
// The drives are folders described in a stand-in file, or, for an
// administrator who asks for it, loop-mounted file systems. Nothing here is
// used when Nexlin works on a person's own folders.
package standin

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/dustin/go-humanize"
	"golang.org/x/sync/errgroup"

	"nexlin/internal/drive"
)

// A Scene is where everything of the demo lies.
type Scene struct {
	Dir    string
	Home   string            // of ines, on SKERRY
	State  string            // state directory for the demo's ledger
	Drives string            // the stand-in file; empty with real drives
	places map[string]string // where real drives are mounted, by label
}

// Amount says how much is made.
type Amount struct {
	Photos, Recordings int
	PhotoWidth         int // pixels
	RecordingSeconds   int
	Notes              int
}

// Amounts are the sizes that demo knows by name.
var Amounts = map[string]Amount{
	"small": {Photos: 24, Recordings: 12, PhotoWidth: 900, RecordingSeconds: 5, Notes: 60},
	"large": {Photos: 160, Recordings: 280, PhotoWidth: 1200, RecordingSeconds: 20, Notes: 1200},
}

// driveIDs are fixed, so that the demo tells the same story each time.
var driveIDs = map[string]string{
	"SKERRY": "5ce771b0-1a5d-4c1e-8e0f-0b0a57a1e001",
	"BASALT": "ba5a17c0-77d2-4f5b-9c11-0b0a57a1e002",
	"DUNE":   "d00de5e0-3b1c-4a86-a7d4-0b0a57a1e003",
}

// Build makes the scene in dir, which must be empty or not exist.
func Build(dir string, amount Amount) (*Scene, error) {
	if err := emptyDir(dir); err != nil {
		return nil, err
	}
	s := &Scene{Dir: dir, State: filepath.Join(dir, "state"), Drives: filepath.Join(dir, "drives.yaml")}
	for _, d := range []string{"skerry", "basalt", "dune"} {
		if err := os.Mkdir(filepath.Join(dir, d), 0o755); err != nil {
			return nil, err
		}
	}
	if err := s.furnish(filepath.Join(dir, "skerry"), amount); err != nil {
		return nil, err
	}
	used, err := bytesIn(filepath.Join(dir, "skerry"))
	if err != nil {
		return nil, err
	}
	return s, s.writeDrives(used)
}

func emptyDir(dir string) error {
	names, err := os.ReadDir(dir)
	if errors.Is(err, os.ErrNotExist) {
		return os.MkdirAll(dir, 0o755)
	}
	if err == nil && len(names) > 0 {
		err = fmt.Errorf("%s is not empty", dir)
	}
	return err
}

// writeDrives describes the drives: SKERRY nearly full, the others roomy.
func (s *Scene) writeDrives(used int64) error {
	var b strings.Builder
	b.WriteString("# The drives of the field laptop at Kestrel Bay. Folders stand in for them.\ndrives:\n")
	for _, d := range []struct {
		label string
		size  int64
	}{{"SKERRY", used + used/24}, {"BASALT", used * 6}, {"DUNE", used * 3}} {
		fmt.Fprintf(&b, "  - label: %s\n    id: %s\n    path: %s\n    capacity: %s\n", d.label, driveIDs[d.label],
			strings.ToLower(d.label), strings.ReplaceAll(humanize.IBytes(uint64(d.size)), " ", ""))
	}
	return os.WriteFile(s.Drives, []byte(b.String()), 0o644)
}

func bytesIn(dir string) (sum int64, err error) {
	err = filepath.Walk(dir, func(_ string, fi os.FileInfo, err error) error {
		if err == nil {
			sum += (fi.Size() + 4095) / 4096 * 4096
		}
		return err
	})
	return sum, err
}

// season is when the recordings were made.
var season = time.Date(2026, 5, 3, 4, 12, 9, 250_000_000, time.UTC)

// furnish fills the home of ines on the system drive.
func (s *Scene) furnish(drive string, n Amount) error {
	s.Home = filepath.Join(drive, "home", "ines")
	var work errgroup.Group
	work.SetLimit(4)
	file := func(rel string, make func() []byte, when time.Time) {
		work.Go(func() error { return write(filepath.Join(s.Home, rel), make(), when) })
	}
	species := []string{"redshank", "turnstone", "kestrel", "wheatear", "rock pipit", "storm petrel"}
	for i := range n.Photos {
		sp := species[i%len(species)]
		when := season.Add(time.Duration(i) * 37 * time.Minute)
		file(fmt.Sprintf("Pictures/Plumage/%s/%s %03d.jpg", sp, sp, i+1),
			func() []byte { return photo(uint64(i), n.PhotoWidth) }, when)
	}
	for i := range n.Recordings {
		sp := species[i%len(species)]
		when := season.Add(time.Duration(i) * 53 * time.Minute)
		file(fmt.Sprintf("Music/Call recordings/%s/%s.wav", when.Format("2006-01-02"), sp+fmt.Sprintf(" %02d", i+1)),
			func() []byte { return recording(uint64(i), n.RecordingSeconds) }, when)
	}
	for i := range n.Notes {
		when := season.Add(time.Duration(i) * 9 * time.Hour)
		file(fmt.Sprintf("Documents/Field notes/%s-%03d.md", when.Format("2006-01"), i+1),
			func() []byte { return note(i, species, when) }, when)
	}
	file("Documents/Ringing table.csv", func() []byte { return table(n.Notes*5, species) }, season)
	file("Downloads/tide tables.txt",
		func() []byte { return []byte(strings.Repeat("high water 04:12  low water 10:25\n", 400)) }, season)
	file("Desktop/read me first.txt", func() []byte { return []byte("The hide key hangs behind the map.\n") }, season)
	file(".config/user-dirs.dirs", func() []byte { return []byte(userDirs) }, season)
	if err := work.Wait(); err != nil {
		return err
	}
	if err := s.programs(); err != nil {
		return err
	}
	// People link to the newest thing.
	return os.Symlink("Field notes", filepath.Join(s.Home, "Documents", "latest"))
}

// programs furnishes the made-up programs of ines, and the cards that she has
// written for them.
func (s *Scene) programs() error {
	exe, err := os.Executable()
	if err != nil {
		return err
	}
	say := func(string, ...any) {}
	mudflat := &Mudflat{Home: s.Home, Say: say}
	sonogram := &Sonogram{Home: s.Home, Say: say}
	if err := errors.Join(
		mudflat.Furnish(filepath.Join(s.Home, "Survey"), 24, season),
		(&Brooder{Home: s.Home, Say: say}).Furnish(season),
		sonogram.Furnish(filepath.Join(s.Home, ".local/share/sonogram/shelf"), 40, season),
	); err != nil {
		return err
	}
	for name := range cards {
		if err := write(filepath.Join(s.Home, ".config/nexlin/cards", name+".yaml"), []byte(Card(name, exe)),
			season); err != nil {
			return err
		}
	}
	return nil
}

const userDirs = `XDG_DESKTOP_DIR="$HOME/Desktop"
XDG_DOCUMENTS_DIR="$HOME/Documents"
XDG_DOWNLOAD_DIR="$HOME/Downloads"
XDG_MUSIC_DIR="$HOME/Music"
XDG_PICTURES_DIR="$HOME/Pictures"
XDG_VIDEOS_DIR="$HOME/Videos"
`

func write(path string, content []byte, when time.Time) error {
	if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
		return err
	}
	if err := os.WriteFile(path, content, 0o644); err != nil {
		return err
	}
	return os.Chtimes(path, when, when)
}

// Place is where a drive of the scene is mounted.
func (s *Scene) Place(label string) string {
	if at := s.places[label]; at != "" {
		return at
	}
	return filepath.Join(s.Dir, strings.ToLower(label))
}

// StopPrograms ends the made-up programs that still run.
func (s *Scene) StopPrograms() error {
	return Stop((&Mudflat{Home: s.Home}).Running())
}

// Close takes the real drives away again, each by its own mount.
func (s *Scene) Close() error {
	var errs []error
	for label, at := range s.places {
		if drive.Mounted(at) {
			errs = append(errs, tool("umount", at))
		}
		delete(s.places, label)
	}
	return errors.Join(errs...)
}

// NewLaptop is the scene on another machine: the drives are there, and the
// home and the records are new.
func (s *Scene) NewLaptop() error {
	old := s.Home + ".old-laptop"
	if err := os.Rename(s.Home, old); err != nil {
		return err
	}
	s.State = filepath.Join(s.Dir, "state-new")
	when := season.AddDate(0, 3, 0)
	return errors.Join(
		write(filepath.Join(s.Home, "Pictures", "welcome.txt"), []byte("Put your photographs here.\n"), when),
		write(filepath.Join(s.Home, ".config/user-dirs.dirs"), []byte(userDirs), when),
	)
}

// Settle has this process make files as everybody does, whatever it was started
// with: the scene is the same for all.
func Settle() { settle() }

// Around is the environment of a program in the scene: of the one that the demo
// was started in only what the terminal and the system need.
func (s *Scene) Around(outer []string) []string {
	var env []string
	for _, v := range outer {
		name, _, _ := strings.Cut(v, "=")
		own := slices.ContainsFunc([]string{"XDG_", "NEXLIN_", "LC_", "LANG"},
			func(p string) bool { return strings.HasPrefix(name, p) })
		if !own && name != "HOME" {
			env = append(env, v)
		}
	}
	return append(append(env, "LANG=C.UTF-8"), s.Env()...)
}

// Env is what a program needs to find itself in the scene.
func (s *Scene) Env() []string {
	env := []string{"HOME=" + s.Home, "NEXLIN_STATE_DIR=" + s.State}
	if s.Drives != "" {
		env = append(env, "NEXLIN_STANDIN_DRIVES="+s.Drives)
	}
	return env
}

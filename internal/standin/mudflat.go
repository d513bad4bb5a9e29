package standin

import (
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"time"

	"github.com/pelletier/go-toml/v2"
)

// A Mudflat keeps the survey team's shared folder on the disk, as sync
// clients do. It knows what it has by size and time: what differs it would
// fetch again. If its folder is gone it makes a new one and begins anew. Set
// to on-demand it keeps only the names, and fetches what is opened.
type Mudflat struct {
	Home string
	Say  func(format string, args ...any)
}

// A ProgramError is what a made-up program complains of.
type ProgramError struct{ Program, Text string }

func (e *ProgramError) Error() string { return e.Program + ": " + e.Text }

func (m *Mudflat) complain(format string, args ...any) error {
	return &ProgramError{"mudflat", fmt.Sprintf(format, args...)}
}

// MudflatSettings is its settings file, below a home.
const MudflatSettings = ".config/mudflat/mudflat.toml"

func (m *Mudflat) stateFile() string { return filepath.Join(m.Home, ".local/state/mudflat/seen.json") }

type mudflatSettings struct {
	Folder string `toml:"folder"`
	Keeps  string `toml:"keeps"`
}

type seenFile struct {
	Size  int64     `json:"size"`
	Mtime time.Time `json:"mtime"`
}

func (m *Mudflat) settings() (mudflatSettings, error) {
	var s mudflatSettings
	b, err := os.ReadFile(filepath.Join(m.Home, MudflatSettings))
	if err == nil {
		err = toml.Unmarshal(b, &s)
	}
	if err != nil {
		return s, m.complain("its settings can't be read: %v", err)
	}
	return s, nil
}

// Furnish makes the shared folder, its settings, and what it remembers.
func (m *Mudflat) Furnish(folder string, files int, when time.Time) error {
	for i := range files {
		day := when.AddDate(0, 0, i)
		rel := fmt.Sprintf("transect %02d/%s count.csv", i%5+1, day.Format("2006-01-02"))
		if err := write(filepath.Join(folder, rel), table(20+i, []string{"dunlin", "knot", "curlew"}),
			day); err != nil {
			return err
		}
	}
	text := "# mudflat: the survey team's shared folder\n\nfolder = " + fmt.Sprintf("%q", folder) +
		"\nkeeps = \"everything\"   # or on-demand\n\n[limits]\nupload = 200\n"
	if err := write(filepath.Join(m.Home, MudflatSettings), []byte(text), when); err != nil {
		return err
	}
	return m.remember(folder)
}

func (m *Mudflat) remember(folder string) error {
	seen := map[string]seenFile{}
	err := filepath.WalkDir(folder, func(path string, d fs.DirEntry, err error) error {
		if err != nil || !d.Type().IsRegular() {
			return err
		}
		fi, err := d.Info()
		if err != nil {
			return err
		}
		rel, err := filepath.Rel(folder, path)
		seen[rel] = seenFile{fi.Size(), fi.ModTime()}
		return err
	})
	if err != nil {
		return err
	}
	b, err := json.MarshalIndent(seen, "", " ")
	if err != nil {
		return err
	}
	return write(m.stateFile(), append(b, '\n'), time.Now())
}

// Pending lists what it would fetch again.
func (m *Mudflat) Pending() ([]string, error) {
	s, err := m.settings()
	if err != nil {
		return nil, err
	}
	if s.Keeps == "on-demand" {
		return nil, nil
	}
	var seen map[string]seenFile
	b, err := os.ReadFile(m.stateFile())
	if err == nil {
		err = json.Unmarshal(b, &seen)
	}
	if err != nil {
		return nil, m.complain("it does not remember anything: %v", err)
	}
	var out []string
	for rel, was := range seen {
		fi, err := os.Stat(filepath.Join(s.Folder, rel))
		if err != nil || fi.Size() != was.Size || !fi.ModTime().Equal(was.Mtime) {
			out = append(out, rel)
		}
	}
	slices.Sort(out)
	return out, nil
}

// Sync fetches what is pending. A folder that is gone is made anew.
func (m *Mudflat) Sync() error {
	s, err := m.settings()
	if err != nil {
		return err
	}
	if err := os.MkdirAll(s.Folder, 0o755); err != nil {
		return m.complain("the folder can't be used")
	}
	todo, err := m.Pending()
	if err != nil {
		return err
	}
	for _, rel := range todo {
		if err := write(filepath.Join(s.Folder, rel), []byte("fetched again\n"), time.Now()); err != nil {
			return m.complain("%s can't be fetched", rel)
		}
	}
	m.Say("mudflat: %d fetched", len(todo))
	return m.remember(s.Folder)
}

func (m *Mudflat) pidFile() string { return filepath.Join(m.Home, ".local/state/mudflat/pid") }

// Running gives the process that runs; 0 if none does.
func (m *Mudflat) Running() int { return running(m.pidFile()) }

func running(file string) int {
	b, err := os.ReadFile(file)
	var pid int
	if err != nil {
		return 0
	}
	if _, err := fmt.Sscan(string(b), &pid); err != nil || !alive(pid) {
		return 0
	}
	return pid
}

// Run stays until it is told to stop, with a file of its folder open.
func (m *Mudflat) Run(stop <-chan struct{}) error {
	s, err := m.settings()
	if err != nil {
		return err
	}
	if m.Running() != 0 {
		return m.complain("it runs already")
	}
	if err := os.MkdirAll(s.Folder, 0o755); err != nil {
		return m.complain("the folder can't be used")
	}
	f, err := os.OpenFile(filepath.Join(s.Folder, ".mudflat-journal"), os.O_RDWR|os.O_CREATE, 0o644)
	if err != nil {
		return m.complain("its journal can't be written")
	}
	defer f.Close()
	if err := write(m.pidFile(), []byte(fmt.Sprint(os.Getpid())), time.Now()); err != nil {
		return err
	}
	defer os.Remove(m.pidFile())
	<-stop
	return errors.Join(os.Remove(f.Name()))
}

package standin

import (
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"time"

	"github.com/pelletier/go-toml/v2"
)

// A Sonogram keeps spectrogram tiles on shelves. It has its paths in several
// places: the shelf that new tiles go to and the index in one file, and a list
// of all shelves in another. A tile on a shelf that it does not find is a gap
// in its picture; it says nothing of paths.
type Sonogram struct {
	Home string
	Say  func(format string, args ...any)
}

// Its two settings files, below a home.
const (
	SonogramSettings = ".config/sonogram/sonogram.toml"
	SonogramShelves  = ".config/sonogram/shelves.json"
)

func (s *Sonogram) complain(format string, args ...any) error {
	return &ProgramError{"sonogram", fmt.Sprintf(format, args...)}
}

// Furnish makes a shelf with tiles, its index, and the settings.
func (s *Sonogram) Furnish(shelf string, tiles int, when time.Time) error {
	var names []string
	for i := range tiles {
		name := fmt.Sprintf("%02d/%04d.tile", i%7, i)
		names = append(names, name)
		if err := write(filepath.Join(shelf, name), recording(uint64(900+i), 1)[:16<<10],
			when.Add(time.Duration(i)*time.Minute)); err != nil {
			return err
		}
	}
	index, err := json.Marshal(names)
	if err != nil {
		return err
	}
	return firstError(
		write(filepath.Join(shelf, "index.json"), index, when),
		write(filepath.Join(s.Home, SonogramSettings), []byte(fmt.Sprintf("# sonogram\n[tiles]\nshelf = %q   # new "+
			"tiles go here\nindex = %q\nsize = 256\n", shelf, shelf+"/index.json")), when),
		write(filepath.Join(s.Home, SonogramShelves), []byte(fmt.Sprintf("{\n  \"shelves\": [\n    "+
			"\"/usr/share/sonogram\",\n    %q\n  ],\n  \"colours\": \"dusk\"\n}\n", shelf)), when),
	)
}

func firstError(errs ...error) error {
	for _, e := range errs {
		if e != nil {
			return e
		}
	}
	return nil
}

// Show draws all tiles, and says how many are missing.
func (s *Sonogram) Show() error {
	var set struct {
		Tiles struct{ Shelf, Index string }
	}
	var list struct{ Shelves []string }
	a, err := os.ReadFile(filepath.Join(s.Home, SonogramSettings))
	if err == nil {
		err = toml.Unmarshal(a, &set)
	}
	b, berr := os.ReadFile(filepath.Join(s.Home, SonogramShelves))
	if berr == nil {
		berr = json.Unmarshal(b, &list)
	}
	if err != nil || berr != nil {
		return s.complain("its settings are damaged")
	}
	index, err := os.ReadFile(set.Tiles.Index)
	var names []string
	if err == nil {
		err = json.Unmarshal(index, &names)
	}
	if err != nil {
		return s.complain("no tiles yet")
	}
	gaps := 0
	for _, n := range names {
		found := false
		for _, shelf := range list.Shelves {
			if _, err := os.Stat(filepath.Join(shelf, n)); err == nil {
				found = true
			}
		}
		if !found {
			gaps++
		}
	}
	if _, err := os.Stat(set.Tiles.Shelf); err != nil {
		return s.complain("a new tile can't be put on the shelf")
	}
	if gaps > 0 {
		return s.complain("gaps in the picture: %d of %d tiles", gaps, len(names))
	}
	s.Say("sonogram: %d tiles, no gaps", len(names))
	return nil
}

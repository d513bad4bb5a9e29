package standin

import (
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"math/rand/v2"
	"os"
	"path/filepath"
	"time"
)

// CallroostFolder is the one place where callroost keeps its sets, below a
// home.
const CallroostFolder = ".local/share/callroost"

// A Callroost backs a field handset up, as such programs do: into one fixed
// hidden folder, a set for each day in several parts with a description. It
// knows nothing of links and drives. If its folder can't be reached it blames
// its own data; if the drive is full it stops and leaves part of a set behind;
// told to begin anew, it makes a new folder where the old one was.
type Callroost struct {
	Folder string
	Calls  int                              // recordings on the handset
	Free   func(path string) (int64, error) // room on the drive of path, in bytes; nil asks nobody
	Say    func(format string, args ...any) // what it tells the person
}

// A CallroostError is what it complains of.
type CallroostError struct{ Text string }

func (e *CallroostError) Error() string { return "callroost: " + e.Text }

// callSize is the size of one part of a set, in bytes.
const callSize = 24 << 10

type callSet struct {
	Day   string `json:"day"`
	Parts int    `json:"parts"`
	Bytes int64  `json:"bytes"`
}

// Backup makes the set of a day. begin makes a new folder if there is none to
// be had.
func (c *Callroost) Backup(day time.Time, begin bool) error {
	if err := c.open(begin); err != nil {
		return err
	}
	name := day.Format("2006-01-02")
	set := filepath.Join(c.Folder, "sets", name)
	if err := os.MkdirAll(set, 0o755); err != nil {
		return &CallroostError{"the set can't be begun: " + name}
	}
	made := callSet{Day: name}
	for i := range c.Calls {
		if c.Free != nil {
			if free, err := c.Free(set); err == nil && free < 2*callSize {
				return &CallroostError{fmt.Sprintf(
					"set %[3]s ends with part %[1]d of %[2]d: the drive has no room for more", i, c.Calls, name)}
			}
		}
		part := filepath.Join(set, fmt.Sprintf("part-%04d.rec", i+1))
		if err := os.WriteFile(part, call(uint64(day.Unix())+uint64(i)), 0o644); err != nil {
			return &CallroostError{fmt.Sprintf("part %d of set %s can't be saved", i+1, name)}
		}
		if err := os.Chtimes(part, day, day); err != nil {
			return err
		}
		made.Parts++
		made.Bytes += callSize
	}
	b, err := json.MarshalIndent(made, "", "  ")
	if err == nil {
		err = os.WriteFile(filepath.Join(set, "set.json"), append(b, '\n'), 0o644)
	}
	if err == nil {
		c.Say("callroost: set %s is complete, %d parts", name, made.Parts)
	}
	return err
}

// open looks for the folder as programs do, and draws the conclusions that
// they draw.
func (c *Callroost) open(begin bool) error {
	_, err := os.Stat(c.Folder)
	if err == nil {
		return nil
	}
	if _, lerr := os.Lstat(c.Folder); errors.Is(lerr, fs.ErrNotExist) {
		return os.MkdirAll(filepath.Join(c.Folder, "sets"), 0o755) // the first time
	}
	if !begin {
		return &CallroostError{"my sets can't be read any more; --begin-anew starts over without them"}
	}
	// Something that leads nowhere is in its way: it takes it for its own broken data.
	if err := os.Remove(c.Folder); err != nil {
		return &CallroostError{"the folder can't be made anew"}
	}
	c.Say("callroost: a new folder was begun")
	return os.MkdirAll(filepath.Join(c.Folder, "sets"), 0o755)
}

// List says which sets there are.
func (c *Callroost) List() error {
	if _, err := os.Stat(c.Folder); err != nil {
		return &CallroostError{"there are no sets"}
	}
	sets, err := os.ReadDir(filepath.Join(c.Folder, "sets"))
	if err != nil {
		return &CallroostError{"there are no sets"}
	}
	for _, s := range sets {
		parts, err := filepath.Glob(filepath.Join(c.Folder, "sets", s.Name(), "part-*.rec"))
		if err != nil {
			return err
		}
		state := "complete"
		if _, err := os.Stat(filepath.Join(c.Folder, "sets", s.Name(), "set.json")); err != nil {
			state = "not complete"
		}
		c.Say("callroost: set %s, %d parts, %s", s.Name(), len(parts), state)
	}
	return nil
}

// call makes one part: noise with calls in it, the same for the same seed.
func call(seed uint64) []byte {
	r := rand.New(rand.NewPCG(seed, 19))
	b := make([]byte, callSize)
	copy(b, "CALLROOST\x01")
	for i := 16; i < len(b); i++ {
		b[i] = byte(r.Uint32() >> 24)
	}
	return b
}

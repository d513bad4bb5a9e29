package standin

import (
	"archive/tar"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"
)

// A Brooder runs analysis jobs in nests that it registers, as engines do: a
// nest that is moved by hand is lost to it. A nest is moved by carrying it out
// to an archive, signing it off, which deletes it, and carrying it in again.
// What it knows about a nest beside its files, the job limit and the order of
// nests, is back at factory values after that. Its own nest must stay.
type Brooder struct {
	Home string
	Say  func(format string, args ...any)
}

// OwnNest is the nest that brooder keeps for itself.
const OwnNest = "brooder-own"

// factoryLimit is the job limit of a nest that was carried in.
const factoryLimit = 4

type nest struct {
	Name  string `json:"name"`
	State string `json:"state"` // resting, hatching or closing
	Place string `json:"place"`
	Limit int    `json:"limit"`
}

func (b *Brooder) complain(format string, args ...any) error {
	return &ProgramError{"brooder", fmt.Sprintf(format, args...)}
}

func (b *Brooder) file() string { return filepath.Join(b.Home, ".local/state/brooder/nests.json") }

func (b *Brooder) nests() ([]nest, error) {
	var out []nest
	data, err := os.ReadFile(b.file())
	if err == nil {
		err = json.Unmarshal(data, &out)
	}
	if err != nil {
		return nil, b.complain("its register can't be read")
	}
	return out, nil
}

func (b *Brooder) save(nests []nest) error {
	data, err := json.MarshalIndent(nests, "", " ")
	if err != nil {
		return err
	}
	return write(b.file(), append(data, '\n'), time.Now())
}

func find(nests []nest, name string) int {
	return slices.IndexFunc(nests, func(n nest) bool { return n.Name == name })
}

// Furnish makes nests with some jobs in them.
func (b *Brooder) Furnish(when time.Time) error {
	var nests []nest
	for i, name := range []string{"kestrel-calls", "kestrel-calls-2025", OwnNest} {
		n := nest{name, "resting", filepath.Join(b.Home, "Brooder", name), 16 - 2*i}
		for j := range 6 {
			path := filepath.Join(n.Place, fmt.Sprintf("job-%02d", j), "result.bin")
			if err := write(path, recording(uint64(500+10*i+j), 1)[:24<<10],
				when.Add(time.Duration(j)*time.Hour)); err != nil {
				return err
			}
		}
		nests = append(nests, n)
	}
	return b.save(nests)
}

// List prints a line for each nest: name, state, place.
func (b *Brooder) List() error {
	nests, err := b.nests()
	for _, n := range nests {
		if _, err := os.Stat(n.Place); err != nil {
			n.State = "broken"
		}
		b.Say("%s\t%s\t%s", n.Name, n.State, n.Place)
	}
	return err
}

// at finds a nest that may be worked on.
func (b *Brooder) at(name string) ([]nest, int, error) {
	nests, err := b.nests()
	if err != nil {
		return nil, 0, err
	}
	i := find(nests, name)
	if i < 0 {
		return nil, 0, b.complain("there is no nest of that name")
	}
	return nests, i, nil
}

// SetState has a nest hatch, close or rest.
func (b *Brooder) SetState(name, state string) error {
	nests, i, err := b.at(name)
	if err != nil {
		return err
	}
	nests[i].State = state
	return b.save(nests)
}

// Limit prints the job limit of a nest, or sets it.
func (b *Brooder) Limit(name, value string) error {
	nests, i, err := b.at(name)
	if err != nil {
		return err
	}
	if value == "" {
		b.Say("%d", nests[i].Limit)
		return nil
	}
	if nests[i].Limit, err = strconv.Atoi(value); err != nil {
		return b.complain("a limit is a number")
	}
	return b.save(nests)
}

// Order prints the names of the nests in the order they are worked on, or
// sets it.
func (b *Brooder) Order(value string) error {
	nests, err := b.nests()
	if err != nil {
		return err
	}
	if value == "" {
		var names []string
		for _, n := range nests {
			names = append(names, n.Name)
		}
		b.Say("%s", strings.Join(names, " "))
		return nil
	}
	want := strings.Fields(value)
	slices.SortStableFunc(nests, func(x, y nest) int { return slices.Index(want, x.Name) - slices.Index(want, y.Name) })
	return b.save(nests)
}

// CarryOut writes the archive of a nest.
func (b *Brooder) CarryOut(name, file string) error {
	nests, i, err := b.at(name)
	if err != nil {
		return err
	}
	if nests[i].State != "resting" {
		return b.complain("the nest is %s", nests[i].State)
	}
	out, err := os.Create(file)
	if err != nil {
		return b.complain("the archive can't be written")
	}
	defer out.Close()
	w := tar.NewWriter(out)
	place := nests[i].Place
	err = filepath.WalkDir(place, func(path string, d fs.DirEntry, err error) error {
		if err != nil || !d.Type().IsRegular() {
			return err
		}
		fi, err := d.Info()
		if err != nil {
			return err
		}
		rel, err := filepath.Rel(place, path)
		if err != nil {
			return err
		}
		h := &tar.Header{Name: rel, Size: fi.Size(), Mode: 0o644, ModTime: fi.ModTime(), Format: tar.FormatPAX}
		if err := w.WriteHeader(h); err != nil {
			return err
		}
		f, err := os.Open(path)
		if err != nil {
			return err
		}
		defer f.Close()
		_, err = io.Copy(w, f)
		return err
	})
	return errors.Join(err, w.Close(), out.Sync())
}

// SignOff deletes a nest and forgets it. A nest with a job that does not let
// go of its lock stays.
func (b *Brooder) SignOff(name string) error {
	nests, i, err := b.at(name)
	if err != nil {
		return err
	}
	if _, err := os.Stat(nests[i].Place + ".lock"); err == nil {
		return b.complain("the nest is locked for now")
	}
	if err := os.RemoveAll(nests[i].Place); err != nil {
		return b.complain("the nest can't be deleted")
	}
	return b.save(slices.Delete(nests, i, i+1))
}

// CarryIn makes a nest from an archive at a place.
func (b *Brooder) CarryIn(name, file, place string) error {
	nests, err := b.nests()
	if err != nil {
		return err
	}
	if find(nests, name) >= 0 {
		return b.complain("there is a nest of that name")
	}
	if _, err := os.Stat(place + ".full"); err == nil {
		return b.complain("the nest can't be built there")
	}
	in, err := os.Open(file)
	if err != nil {
		return b.complain("the archive can't be read")
	}
	defer in.Close()
	if names, err := os.ReadDir(place); err == nil && len(names) > 0 {
		return b.complain("the place is not empty")
	}
	r := tar.NewReader(in)
	for {
		h, err := r.Next()
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			return b.complain("the archive is damaged")
		}
		data, err := io.ReadAll(r)
		if err != nil {
			return b.complain("the archive is damaged")
		}
		if err := write(filepath.Join(place, h.Name), data, h.ModTime); err != nil {
			return b.complain("the nest can't be built: %v", err)
		}
	}
	nests = append(nests, nest{name, "resting", place, factoryLimit})
	slices.SortFunc(nests, func(x, y nest) int { return strings.Compare(x.Name, y.Name) })
	return b.save(nests)
}

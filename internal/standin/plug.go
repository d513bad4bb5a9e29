package standin

import (
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"

	"github.com/goccy/go-yaml"
)

// A rack is a stand-in file, read to change where its drives are.
type rack struct {
	file   string
	Drives []rackDrive `yaml:"drives"`
}

type rackDrive struct {
	Label    string `yaml:"label"`
	ID       string `yaml:"id"`
	Path     string `yaml:"path"`
	Capacity string `yaml:"capacity"`
	FS       string `yaml:"fs,omitempty"`
}

func openRack(file string) (*rack, error) {
	b, err := os.ReadFile(file)
	if err != nil {
		return nil, err
	}
	r := &rack{file: file}
	return r, yaml.Unmarshal(b, r)
}

// save writes the file whole: a watch may read it at any moment.
func (r *rack) save() error {
	b, err := yaml.Marshal(r)
	if err != nil {
		return err
	}
	tmp := r.file + ".tmp"
	if err := os.WriteFile(tmp, b, 0o644); err != nil {
		return err
	}
	return os.Rename(tmp, r.file)
}

// find gives a drive and the folder it is while it is plugged in.
func (r *rack) find(label string) (*rackDrive, string, error) {
	for i := range r.Drives {
		if d := &r.Drives[i]; strings.EqualFold(d.Label, label) {
			return d, r.abs(d.Path), nil
		}
	}
	return nil, "", fmt.Errorf("%s has no drive %s", r.file, label)
}

func (r *rack) abs(path string) string {
	if filepath.IsAbs(path) {
		return filepath.Clean(path)
	}
	return filepath.Join(filepath.Dir(r.file), path)
}

// away is where the folder of a drive lies while it is not plugged in.
func (r *rack) away(d *rackDrive) string {
	return filepath.Join(filepath.Dir(r.file), ".pulled-"+strings.ToLower(d.Label))
}

// Pull takes a stand-in drive away.
func Pull(file, label string) error {
	r, err := openRack(file)
	if err != nil {
		return err
	}
	d, at, err := r.find(label)
	if err != nil {
		return err
	}
	return os.Rename(at, r.away(d))
}

// Plug brings a stand-in drive back, in the directory at; where it was, if
// that is empty. A drive that is plugged in is moved.
func Plug(file, label, at string) error {
	r, err := openRack(file)
	if err != nil {
		return err
	}
	d, was, err := r.find(label)
	if err != nil {
		return err
	}
	from := r.away(d)
	if _, err := os.Lstat(from); errors.Is(err, os.ErrNotExist) {
		from = was
	}
	to := was
	if at != "" {
		to = r.abs(at)
	}
	if from == to {
		return nil
	}
	if err := os.MkdirAll(filepath.Dir(to), 0o755); err != nil {
		return err
	}
	if err := os.Rename(from, to); err != nil {
		return err
	}
	d.Path = to
	return r.save()
}

// fillName is the file that fills a drive up.
const fillName = "filler"

// Fill takes room on a stand-in drive, in bytes; 0 gives it back.
func Fill(file, label string, bytes int64) error {
	r, err := openRack(file)
	if err != nil {
		return err
	}
	_, at, err := r.find(label)
	if err != nil {
		return err
	}
	path := filepath.Join(at, fillName)
	if bytes == 0 {
		return os.Remove(path)
	}
	f, err := os.Create(path)
	if err != nil {
		return err
	}
	buf := make([]byte, 1<<20)
	for left := bytes; left > 0 && err == nil; left -= int64(len(buf)) {
		_, err = f.Write(buf[:min(left, int64(len(buf)))])
	}
	return errors.Join(err, f.Close())
}

// Pull takes a drive of the scene away.
func (s *Scene) Pull(label string) error {
	if s.Drives != "" {
		return Pull(s.Drives, label)
	}
	return tool("umount", s.places[label])
}

// Plug brings a drive of the scene back, in the directory at, relative to the
// scene's; where it was, if that is empty.
func (s *Scene) Plug(label, at string) error {
	if s.Drives != "" {
		return Plug(s.Drives, label, at)
	}
	if at == "" {
		at = strings.ToLower(label)
	}
	to := filepath.Join(s.Dir, at)
	if err := os.MkdirAll(to, 0o755); err != nil {
		return err
	}
	if err := tool("mount", "-o", "loop", filepath.Join(s.Dir, strings.ToLower(label)+".img"), to); err != nil {
		return err
	}
	s.places[label] = to
	return nil
}

func tool(name string, args ...string) error {
	out, err := exec.Command(name, args...).CombinedOutput()
	if err != nil {
		return fmt.Errorf("%s: %w: %s", name, err, strings.TrimSpace(string(out)))
	}
	return nil
}

package drive

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"

	"github.com/dustin/go-humanize"
	"github.com/goccy/go-yaml"

	"nexlin/internal/handle"
	"nexlin/internal/pathtext"
)

// A standin is a folder that is treated as a drive: described in a file
//
//	drives:
//	  - label: BASALT
//	    id: 2f6c1d52-0f0e-4a37-9a53-2d1f0c9b7a10
//	    path: /tmp/kestrel/basalt
//	    capacity: 256 MiB
//
// A relative path is taken from the file's own directory. A stand-in whose
// folder is not there is a drive that is away; one that is locked is here, and nothing of it
// can be seen.
type standin struct {
	Label    string `yaml:"label"`
	ID       string `yaml:"id"`
	Path     string `yaml:"path"`
	Capacity string `yaml:"capacity"`
	FS       string `yaml:"fs"`
	Locked   bool   `yaml:"locked"`
	size     int64
}

// WithStandins reads a stand-in file. Errors name the file; unknown keys
// name their line.
func WithStandins(file string) (*System, error) {
	b, err := handle.ReadRegular(file, 1<<20)
	if err != nil {
		return nil, err
	}
	var doc struct {
		Drives []standin `yaml:"drives"`
	}
	if err := yaml.UnmarshalWithOptions(b, &doc, yaml.Strict()); err != nil {
		return nil, fmt.Errorf("%s: %w", file, err)
	}
	abs, err := filepath.Abs(file)
	if err != nil {
		return nil, err
	}
	s := &System{File: file}
	for _, d := range doc.Drives {
		size, err := humanize.ParseBytes(d.Capacity)
		if d.Label == "" || d.Path == "" || !validID(d.ID) || err != nil || size == 0 {
			return nil, fmt.Errorf("%s: stand-in drive %q needs a label, a path, an id (UUID) and a capacity such "+
				"as 256 MiB", file, d.Label)
		}
		d.size = int64(size)
		if !filepath.IsAbs(d.Path) {
			d.Path = filepath.Join(filepath.Dir(abs), d.Path)
		}
		d.Path = filepath.Clean(d.Path)
		if d.FS == "" {
			d.FS = "stand-in"
		}
		s.standins = append(s.standins, d)
	}
	return s, nil
}

func (s *standin) holds(real string) bool {
	root, err := handle.Real(s.Path)
	_, below := pathtext.Below(real, root)
	return err == nil && below
}

// standinBlock is the block size a stand-in counts with.
const standinBlock = 4096

// drive is the stand-in as it is now; false if it is away.
func (s *standin) drive() (Drive, bool) {
	if s.Locked {
		return Drive{}, false
	}
	used, err := usage(s.Path)
	if err != nil {
		return Drive{}, false
	}
	d := Drive{
		Label: s.Label, Mount: s.Path, FS: s.FS, Source: "stand-in", UUID: s.ID, Size: s.size,
		Free: max(0, s.size-used), Block: standinBlock, Inodes: -1, Standin: true, device: s.ID,
	}
	if tag, err := ReadTag(s.Path); err == nil {
		d.Tag = tag
	}
	return d, true
}

// usage adds up the blocks below path. It does not use package inventory:
// both are of one floor, and this is a small sum over a toy.
func usage(path string) (int64, error) {
	var sum int64
	if _, err := os.Stat(path); err != nil {
		return 0, err
	}
	err := filepath.WalkDir(path, func(p string, e fs.DirEntry, err error) error {
		if errors.Is(err, fs.ErrNotExist) || errors.Is(err, fs.ErrPermission) {
			return nil
		}
		if err != nil {
			return err
		}
		if st, err := handle.Lstat(p); err == nil {
			sum += (min(st.Size, max(st.Allocated, 1)) + standinBlock - 1) / standinBlock * standinBlock
		}
		return nil
	})
	return sum, err
}

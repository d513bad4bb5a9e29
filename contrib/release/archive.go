package main

import (
	"archive/tar"
	"archive/zip"
	"bufio"
	"compress/gzip"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"strings"
	"time"
)

// sums is the file of checksums, as sha256sum writes and checks it.
const sums = "SHA256SUMS"

// An entry is a file that goes into an archive.
type entry struct {
	from string // here
	to   string // in the archive, below its one directory
	mode fs.FileMode
}

// below lists the files below dir whose paths want takes, in order.
func below(dir string, want func(rel string) bool) (out []entry, err error) {
	err = filepath.WalkDir(dir, func(at string, e fs.DirEntry, err error) error {
		if err != nil || e.IsDir() {
			return err
		}
		rel, err := filepath.Rel(dir, at)
		if err == nil && want(rel) {
			out = append(out, entry{at, rel, 0o644})
		}
		return err
	})
	return out, err
}

// writeTar makes a gzipped tar of one directory; the same entries give the same
// bytes.
func writeTar(to, dir string, entries []entry, made time.Time) error {
	return create(to, func(w io.Writer) error {
		z, err := gzip.NewWriterLevel(w, gzip.BestCompression)
		if err != nil {
			return err
		}
		t := tar.NewWriter(z)
		for _, e := range entries {
			data, err := os.ReadFile(e.from)
			if err != nil {
				return err
			}
			h := &tar.Header{Name: path.Join(dir, filepath.ToSlash(e.to)), Mode: int64(e.mode),
				Size: int64(len(data)), ModTime: made, Format: tar.FormatUSTAR}
			if err := t.WriteHeader(h); err != nil {
				return err
			}
			if _, err := t.Write(data); err != nil {
				return err
			}
		}
		return errors.Join(t.Close(), z.Close())
	})
}

// writeZip is [writeTar] for Windows.
func writeZip(to, dir string, entries []entry, made time.Time) error {
	return create(to, func(w io.Writer) error {
		z := zip.NewWriter(w)
		for _, e := range entries {
			data, err := os.ReadFile(e.from)
			if err != nil {
				return err
			}
			h := &zip.FileHeader{Name: path.Join(dir, filepath.ToSlash(e.to)), Method: zip.Deflate, Modified: made}
			h.SetMode(e.mode)
			f, err := z.CreateHeader(h)
			if err != nil {
				return err
			}
			if _, err := f.Write(data); err != nil {
				return err
			}
		}
		return z.Close()
	})
}

func create(to string, write func(io.Writer) error) error {
	f, err := os.Create(to)
	if err != nil {
		return err
	}
	return errors.Join(write(f), f.Close())
}

// writeSums writes the digests of the files in dir.
func writeSums(dir string, files []string) error {
	return create(filepath.Join(dir, sums), func(w io.Writer) error {
		for _, name := range files {
			d, err := digest(filepath.Join(dir, name))
			if err != nil {
				return err
			}
			if _, err := fmt.Fprintf(w, "%s  %s\n", d, name); err != nil {
				return err
			}
		}
		return nil
	})
}

// checkSums reads every file again and holds it against its digest. It gives the digests by name.
func checkSums(dir string) (map[string]string, error) {
	f, err := os.Open(filepath.Join(dir, sums))
	if err != nil {
		return nil, err
	}
	defer f.Close()
	all := map[string]string{}
	for lines := bufio.NewScanner(f); lines.Scan(); {
		want, name, ok := strings.Cut(lines.Text(), "  ")
		if !ok {
			return nil, fmt.Errorf("%s: %q is no line of it", sums, lines.Text())
		}
		if got, err := digest(filepath.Join(dir, name)); err != nil || got != want {
			return nil, errors.Join(err, fmt.Errorf("%s reads back different", name))
		}
		all[name] = want
	}
	if len(all) == 0 {
		return nil, fmt.Errorf("%s is empty", sums)
	}
	return all, nil
}

func digest(file string) (string, error) {
	f, err := os.Open(file)
	if err != nil {
		return "", err
	}
	defer f.Close()
	h := sha256.New()
	_, err = io.Copy(h, f)
	return hex.EncodeToString(h.Sum(nil)), err
}

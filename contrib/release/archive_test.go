package main

import (
	"archive/tar"
	"archive/zip"
	"compress/gzip"
	"errors"
	"io"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// The same files give the same archives, with one directory in them and the
// rights that a program needs.
func TestArchives(t *testing.T) {
	dir, made := t.TempDir(), time.Unix(1_800_000_000, 0).UTC()
	from := filepath.Join(dir, "built")
	require.NoError(t, os.WriteFile(from, []byte("program"), 0o600))
	entries := []entry{{from, "nexlin", 0o755}, {from, filepath.Join("docs", "a.md"), 0o644}}
	want := map[string]os.FileMode{"nexlin-1/nexlin": 0o755, "nexlin-1/docs/a.md": 0o644}
	for ext, pack := range map[string]func(string, string, []entry, time.Time) error{".tar.gz": writeTar,
		".zip": writeZip} {
		one, two := filepath.Join(dir, "one"+ext), filepath.Join(dir, "two"+ext)
		require.NoError(t, pack(one, "nexlin-1", entries, made))
		require.NoError(t, os.Chtimes(from, time.Unix(1, 0), time.Unix(1, 0)))
		require.NoError(t, pack(two, "nexlin-1", entries, made))
		a, err := os.ReadFile(one)
		require.NoError(t, err)
		b, err := os.ReadFile(two)
		require.NoError(t, err)
		require.Equal(t, a, b)
	}
	got := map[string]os.FileMode{}
	f, err := os.Open(filepath.Join(dir, "one.tar.gz"))
	require.NoError(t, err)
	defer f.Close()
	z, err := gzip.NewReader(f)
	require.NoError(t, err)
	for r := tar.NewReader(z); ; {
		h, err := r.Next()
		if errors.Is(err, io.EOF) {
			break
		}
		require.NoError(t, err)
		require.True(t, h.ModTime.Equal(made))
		got[h.Name] = h.FileInfo().Mode()
	}
	require.Equal(t, want, got)
	clear(got)
	r, err := zip.OpenReader(filepath.Join(dir, "one.zip"))
	require.NoError(t, err)
	defer r.Close()
	for _, f := range r.File {
		got[f.Name] = f.Mode()
	}
	require.Equal(t, want, got)
}

// A file that is not what was summed is noticed.
func TestSums(t *testing.T) {
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, "a"), []byte("a"), 0o600))
	require.NoError(t, writeSums(dir, nil))
	_, err := checkSums(dir)
	require.ErrorContains(t, err, "empty")
	require.NoError(t, writeSums(dir, []string{"a"}))
	got, err := checkSums(dir)
	require.NoError(t, err)
	require.Len(t, got["a"], 64)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "a"), []byte("b"), 0o600))
	_, err = checkSums(dir)
	require.ErrorContains(t, err, "a reads back different")
	require.ErrorContains(t, (&release{version: "1 && rm", dir: dir}).run(t.Context()), "is no version")
}

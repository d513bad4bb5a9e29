// Command release builds Nexlin for every system and packs it: an archive for
// each with manual pages and completions, a Debian package where nfpm can be
// had from the module proxy, and a file of their checksums as sha256sum reads
// it. What it wrote it reads back. With a key the checksums are signed; with the address that the archives
// will have there are manifests for the usual open collections of packages of macOS and Windows.
// Run it from the root of the checkout.
package main

import (
	"bytes"
	"context"
	"errors"
	"flag"
	"fmt"
	"os"
	"os/exec"
	"os/signal"
	"path/filepath"
	"runtime"
	"slices"
	"strconv"
	"strings"
	"time"
)

// A target is a system and a processor, as Go names them.
type target struct{ os, arch string }

var targets = []target{
	{"linux", "amd64"}, {"linux", "arm64"}, {"windows", "amd64"}, {"windows", "arm64"}, {"darwin", "amd64"},
	{"darwin", "arm64"},
}

// nfpm makes Debian packages; it is run, not linked.
const nfpm = "github.com/goreleaser/nfpm/v2/cmd/nfpm@v2.48.0"

func main() {
	var r release
	flag.StringVar(&r.version, "version", "0.1.0-dev", "the `VERSION` that the programs say")
	flag.StringVar(&r.dir, "dir", "build/release", "the `DIR` that everything is written to; it is emptied first")
	flag.BoolVar(&r.deb, "deb", true, "Debian packages, too")
	flag.StringVar(&r.key, "key", "", "the private key `FILE` (ssh-keygen) that the checksums are signed with")
	flag.StringVar(&r.base, "url", "", "the `ADDRESS` that archives will be fetched from: manifests, too")
	flag.StringVar(&r.license, "license", "LicenseRef-Nexlin", "the `NAME` of the licence that manifests say")
	flag.Parse()
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt)
	defer stop()
	if err := r.run(ctx); err != nil {
		fmt.Fprintln(os.Stderr, "release:", err)
		os.Exit(1)
	}
}

type release struct {
	version, dir string
	key          string // empty: nothing is signed
	base         string // empty: no manifests
	license      string
	deb          bool
	made         time.Time // of every entry in the archives: that of the commit, so that they can be made again
	files        []string  // what was made, in dir
}

func (r *release) run(ctx context.Context) error {
	if strings.Trim(r.version, "0123456789abcdefghijklmnopqrstuvwxyz.+~-") != "" || r.version == "" {
		return fmt.Errorf("%q is no version", r.version)
	}
	if err := errors.Join(os.RemoveAll(r.dir), os.MkdirAll(r.dir, 0o755)); err != nil {
		return err
	}
	r.made = time.Unix(commitTime(ctx), 0).UTC()
	manual := filepath.Join(r.dir, "tree", "manual")
	if err := r.command(ctx, nil, "go", "run", "./contrib/manual", "-dir", manual, "-date",
		r.made.Format("2006-01-02")); err != nil {
		return err
	}
	for _, t := range targets {
		if err := r.one(ctx, t, manual); err != nil {
			return fmt.Errorf("%s/%s: %w", t.os, t.arch, err)
		}
	}
	if err := os.RemoveAll(filepath.Join(r.dir, "tree")); err != nil {
		return err
	}
	slices.Sort(r.files)
	if err := writeSums(r.dir, r.files); err != nil {
		return err
	}
	digests, err := checkSums(r.dir)
	if err == nil && r.key != "" {
		err = r.sign(ctx)
	}
	if err == nil && r.base != "" {
		err = writeCollections(filepath.Join(r.dir, "collections"), r.version, r.license, r.base, r.made, digests)
	}
	return err
}

// archiveName is what the archive of a target is called, and the one directory in it.
func archiveName(version string, t target) string {
	return fmt.Sprintf("nexlin-%s-%s-%s", version, t.os, t.arch)
}

// packed is how the archive of a target is made, and how its name ends.
func packed(t target) (pack func(to, dir string, entries []entry, made time.Time) error, ext string) {
	if t.os == "windows" {
		return writeZip, ".zip"
	}
	return writeTar, ".tar.gz"
}

// one builds and packs for one target.
func (r *release) one(ctx context.Context, t target, manual string) error {
	name := archiveName(r.version, t)
	program := "nexlin"
	if t.os == "windows" {
		program += ".exe"
	}
	built := filepath.Join(r.dir, "tree", name, program)
	err := r.command(ctx, []string{"CGO_ENABLED=0", "GOOS=" + t.os, "GOARCH=" + t.arch},
		"go", "build", "-trimpath", "-ldflags", "-s -w -X nexlin/internal/cli.version="+r.version, "-o", built,
		"./cmd/nexlin")
	if err != nil {
		return err
	}
	if t == (target{runtime.GOOS, runtime.GOARCH}) {
		out, err := exec.CommandContext(ctx, built, "--version").Output()
		if err != nil || strings.TrimSpace(string(out)) != "nexlin "+r.version {
			return errors.Join(err, fmt.Errorf("it says that it is %q", out))
		}
	}
	entries := []entry{{built, program, 0o755}, {"README.md", "README.md", 0o644},
		{"CHANGELOG.md", "CHANGELOG.md", 0o644}}
	more, err := below(manual, func(rel string) bool { return t.os == "windows" == strings.HasSuffix(rel, ".ps1") })
	if err != nil {
		return err
	}
	if t.os == "windows" {
		entries = append(entries, entry{"contrib/windows/install.ps1", "install.ps1", 0o644})
	}
	for _, dir := range []string{"docs", "contrib/ansible", "contrib/desktop", "contrib/prometheus"} {
		found, err := below(dir, func(rel string) bool { return dir != "docs" || strings.HasSuffix(rel, ".md") })
		if err != nil {
			return err
		}
		for _, f := range found {
			entries = append(entries, entry{f.from, filepath.Join(dir, f.to), f.mode})
		}
	}
	entries = append(entries, more...)
	pack, ext := packed(t)
	if err := pack(filepath.Join(r.dir, name+ext), name, entries, r.made); err != nil {
		return err
	}
	r.files = append(r.files, name+ext)
	if t.os == "linux" && r.deb {
		return r.debian(ctx, t, built, manual)
	}
	return nil
}

// debian makes the package; where nfpm can't be had that is said, and the rest
// is made all the same.
func (r *release) debian(ctx context.Context, t target, built, manual string) error {
	config := filepath.Join(r.dir, "tree", "nfpm.yaml")
	if err := os.WriteFile(config, nfpmConfig(r.version, t.arch, built, manual, r.made), 0o644); err != nil {
		return err
	}
	name := fmt.Sprintf("nexlin_%s_%s.deb", strings.ReplaceAll(r.version, "-", "~"), t.arch)
	err := r.command(ctx, []string{"GOFLAGS=", "SOURCE_DATE_EPOCH=" + strconv.FormatInt(r.made.Unix(), 10)},
		"go", "run", nfpm, "package", "--config", config, "--packager", "deb", "--target", filepath.Join(r.dir, name))
	if err == nil {
		r.files = append(r.files, name)
	}
	return err
}

func (r *release) command(ctx context.Context, env []string, name string, args ...string) error {
	cmd := exec.CommandContext(ctx, name, args...)
	cmd.Env = append(os.Environ(), env...)
	var out bytes.Buffer
	cmd.Stdout, cmd.Stderr = &out, &out
	if err := cmd.Run(); err != nil {
		return fmt.Errorf("%s %s: %w\n%s", name, strings.Join(args, " "), err, out.Bytes())
	}
	return nil
}

// commitTime is when the newest commit was made, in seconds since 1970; the
// time now outside a checkout.
func commitTime(ctx context.Context) int64 {
	out, err := exec.CommandContext(ctx, "git", "log", "-1", "--format=%ct").Output()
	if n, bad := strconv.ParseInt(strings.TrimSpace(string(out)), 10, 64); err == nil && bad == nil {
		return n
	}
	return time.Now().Unix()
}

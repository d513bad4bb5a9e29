//go:build linux

package lab

import (
	"errors"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
)

// A Plug is a drive that can be pulled, plugged in elsewhere and copied: a
// file system in an image, with a loop device that stays while it is not
// mounted, as a drive's does.
type Plug struct {
	T     testing.TB
	Label string
	Image string
	Loop  string // empty while it is pulled
}

// NewPlug makes a file system of some MiB and attaches it without mounting it.
func NewPlug(t testing.TB, kind, label string, mib int64) *Plug {
	t.Helper()
	Root(t)
	if _, err := exec.LookPath("mkfs." + kind); err != nil {
		Skip(t, "mkfs."+kind+" is not installed")
	}
	p := &Plug{T: t, Label: label, Image: filepath.Join(Scratch(t), label+".img")}
	if err := errors.Join(os.WriteFile(p.Image, nil, 0o600), os.Truncate(p.Image, mib<<20)); err != nil {
		t.Fatal(err)
	}
	args := []string{"-q", "-L", label}
	if kind == "ext4" {
		args = append(args, "-F", "-m", "0")
	}
	Run(t, "mkfs."+kind, append(args, p.Image)...)
	p.In()
	return p
}

// In attaches the drive.
func (p *Plug) In() {
	p.T.Helper()
	p.Loop = strings.TrimSpace(Run(p.T, "losetup", "-f", "--show", p.Image))
	loop := p.Loop
	p.T.Cleanup(func() {
		if p.Loop == loop {
			p.Out()
		}
	})
}

// Mount mounts it at a path, which is made.
func (p *Plug) Mount(at string) {
	p.T.Helper()
	if err := os.MkdirAll(at, 0o755); err != nil {
		p.T.Fatal(err)
	}
	Run(p.T, "mount", p.Loop, at)
}

// At is where it is mounted; empty if it is not.
func (p *Plug) At() string {
	out, err := exec.Command("findmnt", "-n", "-o", "TARGET", "-S", p.Loop).Output()
	at, _, _ := strings.Cut(strings.TrimSpace(string(out)), "\n")
	if err != nil {
		return ""
	}
	return at
}

// Unmount takes it off wherever it is mounted.
func (p *Plug) Unmount() {
	p.T.Helper()
	for range 8 {
		at := p.At()
		if at == "" {
			return
		}
		if exec.Command("umount", at).Run() != nil {
			Run(p.T, "umount", "-l", at)
		}
	}
}

// Out unmounts and detaches it.
func (p *Plug) Out() {
	p.T.Helper()
	if p.Loop == "" {
		return
	}
	p.Unmount()
	Run(p.T, "losetup", "-d", p.Loop)
	p.Loop = ""
}

// Copy attaches a byte-for-byte copy of the drive as it is now.
func (p *Plug) Copy(as string) *Plug {
	p.T.Helper()
	Run(p.T, "sync")
	c := &Plug{T: p.T, Label: as, Image: filepath.Join(filepath.Dir(p.Image), as+".img")}
	Run(p.T, "cp", "--sparse=always", p.Image, c.Image)
	c.In()
	return c
}

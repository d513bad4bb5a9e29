package main

import (
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
)

// signed is what signatures are for, so that one for something else is none for a release.
const signed = "nexlin-release"

// signers has the public key that the checksums are signed by, as ssh-keygen(1) reads it.
const signers = "allowed-signers"

// sign signs the checksums in dir with a private key of ssh-keygen(1), beside them, and looks whether
// the signature verifies.
func (r *release) sign(ctx context.Context) error {
	public, err := exec.CommandContext(ctx, "ssh-keygen", "-y", "-f", r.key).Output()
	if err != nil {
		return fmt.Errorf("the public key of %s: %w", r.key, err)
	}
	fields := strings.Fields(string(public))
	if len(fields) < 2 {
		return fmt.Errorf("%s has no public key", r.key)
	}
	line := fmt.Sprintf("nexlin namespaces=\"%s\" %s %s\n", signed, fields[0], fields[1])
	if err := os.WriteFile(filepath.Join(r.dir, signers), []byte(line), 0o644); err != nil {
		return err
	}
	file := filepath.Join(r.dir, sums)
	if err := r.command(ctx, nil, "ssh-keygen", "-q", "-Y", "sign", "-f", r.key, "-n", signed, file); err != nil {
		return err
	}
	return verifySigned(ctx, r.dir)
}

// verifySigned holds the checksums in dir against their signature.
func verifySigned(ctx context.Context, dir string) error {
	text, err := os.Open(filepath.Join(dir, sums))
	if err != nil {
		return err
	}
	defer text.Close()
	c := exec.CommandContext(ctx, "ssh-keygen", "-Y", "verify", "-f", filepath.Join(dir, signers), "-I", "nexlin", "-n",
		signed, "-s", filepath.Join(dir, sums+".sig"))
	c.Stdin = text
	if out, err := c.CombinedOutput(); err != nil {
		return errors.Join(err, fmt.Errorf("the signature does not verify: %s", out))
	}
	return nil
}

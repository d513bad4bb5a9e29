// Command manual writes the manual pages, compressed, and the completions of
// Nexlin from its own tree of commands.
package main

import (
	"bytes"
	"compress/gzip"
	"errors"
	"flag"
	"fmt"
	"os"
	"path/filepath"
	"time"

	"github.com/spf13/cobra"
	"github.com/spf13/cobra/doc"

	"nexlin/internal/cli"
)

func main() {
	dir := flag.String("dir", "build/manual", "the `DIR` that they are written to")
	date := flag.String("date", time.Now().Format(time.DateOnly), "the `DATE` that the pages bear")
	flag.Parse()
	if err := run(*dir, *date); err != nil {
		fmt.Fprintln(os.Stderr, "manual:", err)
		os.Exit(1)
	}
}

func run(dir, date string) error {
	made, err := time.Parse(time.DateOnly, date)
	if err != nil {
		return err
	}
	man, completions := filepath.Join(dir, "man1"), filepath.Join(dir, "completions")
	if err := errors.Join(os.MkdirAll(man, 0o755), os.MkdirAll(completions, 0o755)); err != nil {
		return err
	}
	root := cli.Commands()
	root.DisableAutoGenTag = true
	if err := pages(root, man,
		doc.GenManHeader{Section: "1", Date: &made, Source: "Nexlin", Manual: "Nexlin"}); err != nil {
		return err
	}
	at := func(name string) string { return filepath.Join(completions, name) }
	return errors.Join(
		root.GenBashCompletionFileV2(at("nexlin.bash"), true), root.GenZshCompletionFile(at("_nexlin")),
		root.GenFishCompletionFile(at("nexlin.fish"), true), root.GenPowerShellCompletionFileWithDesc(at("nexlin.ps1")))
}

// pages writes a page for each command that people see.
func pages(c *cobra.Command, dir string, h doc.GenManHeader) error {
	if !c.IsAvailableCommand() && c.HasParent() {
		return nil
	}
	var b bytes.Buffer
	head := h
	if err := doc.GenMan(c, &head, &b); err != nil {
		return err
	}
	name := c.Name()
	for up := c.Parent(); up != nil; up = up.Parent() {
		name = up.Name() + "-" + name
	}
	var z bytes.Buffer
	w, err := gzip.NewWriterLevel(&z, gzip.BestCompression)
	if err != nil {
		return err
	}
	_, err = w.Write(b.Bytes())
	if err = errors.Join(err, w.Close(), os.WriteFile(filepath.Join(dir, name+".1.gz"), z.Bytes(), 0o644)); err != nil {
		return err
	}
	for _, sub := range c.Commands() {
		if err := pages(sub, dir, h); err != nil {
			return err
		}
	}
	return nil
}

package main

import (
	"bytes"
	"embed"
	"errors"
	"fmt"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"text/template"
	"time"
)

//go:embed collections
var collectionTemplates embed.FS

// collected is where each manifest lies, as the collections of packages for macOS and Windows want it.
var collected = map[string]string{
	"formula.rb.tmpl":     "macos/nexlin.rb",
	"Portfile.tmpl":       "macos/Portfile",
	"bucket.json.tmpl":    "windows/nexlin.json",
	"installer.yaml.tmpl": "windows/Nexlin.Nexlin.installer.yaml",
	"locale.yaml.tmpl":    "windows/Nexlin.Nexlin.locale.en-US.yaml",
	"version.yaml.tmpl":   "windows/Nexlin.Nexlin.yaml",
}

// A collection is what a manifest says of a release.
type collection struct {
	Version, License string
	Base             string // where the archives will be fetched from
	Date             string
	sums             map[string]string // by the archive's name
}

// Name is what an archive is called, without its ending, and the directory in it.
func (c *collection) Name(system, arch string) string {
	return archiveName(c.Version, target{system, arch})
}

func (c *collection) archive(system, arch string) string {
	_, ext := packed(target{system, arch})
	return c.Name(system, arch) + ext
}

// URL is where an archive will be.
func (c *collection) URL(system, arch string) string { return c.Base + "/" + c.archive(system, arch) }

// Sum is the digest of an archive that was made.
func (c *collection) Sum(system, arch string) (string, error) {
	name := c.archive(system, arch)
	if c.sums[name] == "" {
		return "", fmt.Errorf("%s was not made", name)
	}
	return c.sums[name], nil
}

// writeCollections writes the manifests below dir. base is an address that archives can be fetched
// from: it has to be https, since a manifest is what people trust.
func writeCollections(dir, version, license, base string, made time.Time, sums map[string]string) error {
	u, err := url.Parse(base)
	if err != nil || u.Scheme != "https" || u.Host == "" || strings.ContainsAny(base, "\"'\\{}$ \n") {
		return errors.Join(err, fmt.Errorf("%q is no https address that archives could be fetched from", base))
	}
	if strings.ContainsAny(license, "\"'\\{}$:\n") || license == "" {
		return fmt.Errorf("%q is no name of a licence", license)
	}
	all, err := template.ParseFS(collectionTemplates, "collections/*.tmpl")
	if err != nil {
		return err
	}
	c := &collection{Version: version, License: license, Base: strings.TrimRight(base, "/"),
		Date: made.Format(time.DateOnly), sums: sums}
	for name, to := range collected {
		var b bytes.Buffer
		if err := all.ExecuteTemplate(&b, name, c); err != nil {
			return err
		}
		at := filepath.Join(dir, filepath.FromSlash(to))
		if err := os.MkdirAll(filepath.Dir(at), 0o755); err != nil {
			return err
		}
		if err := os.WriteFile(at, b.Bytes(), 0o644); err != nil {
			return err
		}
	}
	return nil
}

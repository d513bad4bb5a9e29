package main

import (
	"fmt"
	"path/filepath"
	"strings"
	"time"
)

// nfpmConfig describes the package: the program, its manual pages, completions
// and documents, where Debian has them.
func nfpmConfig(version, arch, built, manual string, made time.Time) []byte {
	var b strings.Builder
	fmt.Fprintf(&b, `name: nexlin
arch: %s
platform: linux
version: %q
version_schema: none
section: utils
priority: optional
maintainer: Nexlin <nexlin@localhost>
description: |
  moves folders to another drive and leaves a link behind
  Programs notice nothing, no byte is lost, and it can always be undone. One
  static program for the command line.
mtime: %s
contents:
`, arch, strings.ReplaceAll(version, "-", "~"), made.Format(time.RFC3339))
	put := func(from, to, kind string) {
		fmt.Fprintf(&b, "  - src: %q\n    dst: %q\n", from, to)
		if kind != "" {
			fmt.Fprintf(&b, "    type: %s\n", kind)
		}
	}
	put(built, "/usr/bin/nexlin", "")
	put(filepath.Join(manual, "man1"), "/usr/share/man/man1", "tree")
	put(filepath.Join(manual, "completions", "nexlin.bash"), "/usr/share/bash-completion/completions/nexlin", "")
	put(filepath.Join(manual, "completions", "_nexlin"), "/usr/share/zsh/vendor-completions/_nexlin", "")
	put(filepath.Join(manual, "completions", "nexlin.fish"), "/usr/share/fish/vendor_completions.d/nexlin.fish", "")
	put(filepath.Join(manual, "completions", "nexlin.ps1"), "/usr/share/powershell/Modules/nexlin/nexlin.psm1", "")
	put("contrib/desktop/nexlin-move.desktop", "/usr/share/applications/nexlin-move.desktop", "")
	for _, doc := range []string{"README.md", "CHANGELOG.md", "docs/findings.md", "docs/cards.md",
		"docs/platforms.md", "docs/administrators.md", "docs/security.md", "docs/tour.md", "docs/guide.md",
		"docs/recovery.md", "docs/formats.md"} {
		put(doc, "/usr/share/doc/nexlin/"+filepath.Base(doc), "")
	}
	for _, dir := range []string{"contrib/ansible", "contrib/prometheus"} {
		put(dir, "/usr/share/doc/nexlin/"+dir, "tree")
	}
	return []byte(b.String())
}

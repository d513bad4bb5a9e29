//go:build linux

package lab

import (
	"bytes"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"golang.org/x/sys/unix"
)

// Nasty makes a folder, the same each time, with at least one of everything
// that a copy could lose. It takes root. Links that lead out of the folder
// are returned, each with the absolute path that it means.
func Nasty(t testing.TB, dir string) (leadOut map[string]string) {
	t.Helper()
	Root(t)
	must := func(err error) {
		t.Helper()
		if err != nil {
			t.Fatal(err)
		}
	}
	at := func(rel string) string { return filepath.Join(dir, rel) }
	file := func(rel string, content string) {
		t.Helper()
		must(os.MkdirAll(filepath.Dir(at(rel)), 0o755))
		must(os.WriteFile(at(rel), []byte(content), 0o644))
	}
	// Names: bytes, not text.
	for i, name := range []string{
		"\x01control", "new\nline", "tab\there", `back\slash`, "-rf", " lead", "trail ", "full.stop.",
		"quote\"'`$(x)", "\xff\xfe not text",
		"CON", "a:b?*<>|", "caf\u00e9", "cafe\u0301", "README", "readme", "%s%n", "#comment", "=",
		strings.Repeat("n", 255), "日本語", "~",
	} {
		file("names/"+name, fmt.Sprintf("content %d", i))
	}
	file(strings.Repeat(strings.Repeat("d", 60)+"/", 30)+"deep", "down there")
	for i := range 300 {
		file(fmt.Sprintf("many/%d/file %03d", i%7, i), strings.Repeat("x", i*37))
	}
	// Sizes about the borders of blocks, pieces and large files.
	for _, n := range []int{0, 1, 4095, 4096, 4097, 256<<10 - 1, 256 << 10, 256<<10 + 1, 1 << 20, 4<<20 + 1} {
		content := make([]byte, n)
		for i := range content {
			content[i] = byte(i*7 + i>>8)
		}
		file(fmt.Sprintf("sizes/%08d", n), string(content))
	}
	// Links: inward, dangling, to itself, long, absolute, and out of the folder.
	leadOut = map[string]string{}
	outer := filepath.Dir(dir)
	for rel, text := range map[string]string{
		"links/in": "../many/0", "links/dangling": "nowhere", "links/self": "self",
		"links/long":     strings.Repeat("x", 1000),
		"links/absolute": "/etc/hostname", "links/bytes \xff": "\xff\n", "links/up": "..",
	} {
		must(os.MkdirAll(at("links"), 0o755))
		must(os.Symlink(text, at(rel)))
	}
	for rel, text := range map[string]string{
		"links/out": "../../outside/file", "links/out.dir": "../..", "out at the top": "../outside",
		"links/out and in": "../../" + filepath.Base(dir) + "/README",
	} {
		must(os.Symlink(text, at(rel)))
		leadOut[rel] = filepath.Join(filepath.Dir(at(rel)), text)
	}
	must(os.MkdirAll(filepath.Join(outer, "outside"), 0o755))
	// Through a link and up again: only the file system knows where that is.
	must(os.MkdirAll(filepath.Join(outer, "outside", "a", "b"), 0o755))
	must(os.Symlink("../outside/a/b", at("way")))
	leadOut["way"] = filepath.Join(outer, "outside", "a", "b")
	must(os.Symlink("../outside/a/b/../file", at("through")))
	leadOut["through"] = filepath.Join(outer, "outside", "a", "file")
	// Hard links: in one directory, across directories, of a link, of a FIFO.
	file("hard/one", "one file, four names")
	must(os.MkdirAll(at("a first"), 0o755))
	for _, name := range []string{"hard/two", "a first/three", "zz four"} {
		must(os.Link(at("hard/one"), at(name)))
	}
	must(os.Symlink("one", at("hard/link")))
	must(unix.Linkat(unix.AT_FDCWD, at("hard/link"), unix.AT_FDCWD, at("hard/link again"), 0))
	// What has no content.
	must(os.MkdirAll(at("special/empty"), 0o755))
	must(unix.Mkfifo(at("special/fifo"), 0o640))
	must(unix.Mknod(at("special/null"), unix.S_IFCHR|0o666, int(unix.Mkdev(1, 3))))
	must(unix.Mknod(at("special/whiteout"), unix.S_IFCHR, 0))
	must(unix.Mknod(at("special/block"), unix.S_IFBLK|0o660, int(unix.Mkdev(259, 70000))))
	must(os.Link(at("special/fifo"), at("special/fifo too")))
	must(unix.Mknod(at("special/socket"), unix.S_IFSOCK|0o755, 0)) // nobody waits at it
	// Holes.
	for rel, data := range map[string][]int64{
		"holes/all": nil, "holes/start": {9 << 20}, "holes/end": {0}, "holes/middle": {0, 9 << 20},
		"holes/many": {1 << 20, 3 << 20, 5 << 20, 7 << 20},
	} {
		file(rel, "")
		must(os.Truncate(at(rel), 10<<20))
		f, err := os.OpenFile(at(rel), os.O_WRONLY, 0)
		must(err)
		for _, off := range data {
			_, err := f.WriteAt(bytes.Repeat([]byte{'d'}, 5000), off)
			must(err)
		}
		must(f.Close())
	}
	// Smaller than what is read at once.
	file("holes/small", strings.Repeat("d", 2000))
	must(os.Truncate(at("holes/small"), 107_374))
	// Attributes and access lists.
	file("attributes/file", "x")
	must(os.MkdirAll(at("attributes/dir"), 0o755))
	must(os.Symlink("file", at("attributes/link")))
	for _, x := range []struct{ rel, name, value string }{
		{"attributes/file", "user.species", "redshank"}, {"attributes/file", "user.empty", ""},
		{"attributes/file", "user.bytes \xff", "\x00\xff\n"},
		{"attributes/file", "user.large", strings.Repeat("v", 400)}, {"attributes/dir", "user.of a dir", "yes"},
		{"attributes/link", "trusted.of.a.link", "yes"}, {"attributes/dir", "trusted.hidden", "yes"},
		{"attributes/file", "security.capability",
			"\x01\x00\x00\x02\x00\x04\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00"},
	} {
		must(unix.Lsetxattr(at(x.rel), x.name, []byte(x.value), 0))
	}
	Run(t, "setfacl", "-m", "u:12345:rw,g:23456:r,m:rw", at("attributes/file"))
	Run(t, "setfacl", "-m", "u:12345:rwx,d:u:12345:rx,d:g::r", at("attributes/dir"))
	// Owners and modes, after everything that would take bits away.
	for i, mode := range []uint32{0o4755, 0o2755, 0o1644, 0o6711, 0, 0o400, 0o777, 0o200, 0o111} {
		rel := fmt.Sprintf("modes/%04o", mode)
		file(rel, "x")
		must(os.Chown(at(rel), 1000+i, 2000-i))
		must(unix.Chmod(at(rel), mode))
	}
	for _, mode := range []uint32{0o1777, 0o2750, 0, 0o500, 0o300} {
		rel := fmt.Sprintf("modes/dir %04o", mode)
		file(rel+"/inside", "x")
		must(os.Chown(at(rel), 4711, 815))
		must(unix.Chmod(at(rel), mode))
	}
	must(os.Lchown(at("links/in"), 12345, 23456))
	if err := AgeTree(dir); err != nil {
		t.Fatal(err)
	}
	for rel, ts := range map[string]unix.Timespec{
		"sizes/00000000": {Sec: -1, Nsec: 999999999}, "sizes/00000001": {Sec: 0, Nsec: 1},
		"sizes/00004095": {Sec: 1 << 31, Nsec: 5}, "links/self": {Sec: -86400, Nsec: 7},
	} {
		must(unix.UtimesNanoAt(unix.AT_FDCWD, at(rel), []unix.Timespec{ts, ts}, unix.AT_SYMLINK_NOFOLLOW))
	}
	return leadOut
}

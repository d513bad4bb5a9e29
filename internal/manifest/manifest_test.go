//go:build linux

package manifest

import (
	"bytes"
	"io"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"
	"pgregory.net/rapid"

	"nexlin/internal/handle"
)

func read(s string) ([]Entry, error) {
	r := NewReader(strings.NewReader(s))
	var out []Entry
	for {
		var e Entry
		switch err := r.Next(&e); err {
		case nil:
			out = append(out, e)
		case io.EOF:
			return out, nil
		default:
			return out, err
		}
	}
}

func print(t require.TestingT, es []Entry) string {
	var b bytes.Buffer
	w := NewWriter(&b)
	for i := range es {
		require.NoError(t, w.Write(&es[i]))
	}
	require.NoError(t, w.Close())
	return b.String()
}

func TestPrintParsePrintIsTheIdentity(t *testing.T) {
	name := rapid.Custom(func(t *rapid.T) string {
		b := rapid.SliceOfN(rapid.Byte().Filter(func(c byte) bool { return c != 0 && c != '/' }), 1, 12).Draw(t, "name")
		if s := string(b); s != "." && s != ".." {
			return s
		}
		return "x"
	})
	rapid.Check(t, func(t *rapid.T) {
		paths := []string{"."}
		for range rapid.IntRange(0, 12).Draw(t, "n") {
			under := paths[rapid.IntRange(0, len(paths)-1).Draw(t, "under")]
			p := name.Draw(t, "p")
			if under != "." {
				p = under + "/" + p
			}
			paths = append(paths, p)
		}
		slices.SortFunc(paths, handle.Compare)
		var es []Entry
		for _, p := range slices.Compact(paths) {
			e := Entry{
				Path: p, UID: rapid.Uint32().Draw(t, "uid"), GID: rapid.Uint32().Draw(t, "gid"),
				Mtime: handle.Time{Sec: rapid.Int64().Draw(t, "sec"),
					Nsec: rapid.Uint32Range(0, 999999999).Draw(t, "nsec")},
				Mode: rapid.Uint32Range(0, 0o7777).Draw(t, "mode"),
			}
			switch rapid.IntRange(0, 5).Draw(t, "type") {
			case 0:
				e.Mode |= unix.S_IFDIR
			case 1:
				e.Mode |= unix.S_IFREG
				e.Size = rapid.Int64Range(0, 1<<60).Draw(t, "size")
				copy(e.Digest[:], rapid.SliceOfN(rapid.Byte(), 32, 32).Draw(t, "digest"))
				e.BLAKE3 = rapid.Bool().Draw(t, "blake3")
				if len(es) > 0 && es[len(es)-1].Mode&unix.S_IFMT == unix.S_IFREG {
					e.Same = es[len(es)-1].Path
				}
			case 2:
				e.Mode |= unix.S_IFIFO
			case 3:
				e.Mode |= unix.S_IFSOCK
			case 4:
				e.Mode |= rapid.SampledFrom([]uint32{unix.S_IFCHR, unix.S_IFBLK}).Draw(t, "device type")
				e.Rdev = rapid.Uint64().Draw(t, "device")
			default:
				e.Mode |= unix.S_IFLNK
				e.Link = name.Draw(t, "link")
				if rapid.Bool().Draw(t, "rewritten") {
					e.Was = "../" + name.Draw(t, "was")
				}
			}
			for i := range rapid.IntRange(0, 2).Draw(t, "xattrs") {
				e.Xattrs = append(e.Xattrs, handle.Xattr{Name: "user." + string(rune('a'+i)) + name.Draw(t, "x"),
					Value: rapid.SliceOfN(rapid.Byte(), 1, 9).Draw(t, "v")})
			}
			es = append(es, e)
		}
		text := print(t, es)
		back, err := read(text)
		require.NoError(t, err)
		require.Equal(t, es, back)
		require.Equal(t, text, print(t, back))
	})
}

const (
	top  = "#mtree\n#nexlin manifest 1\n"
	root = ". type=dir mode=0755 uid=0 gid=0 time=1.000000000\n"
	sum  = " sha256digest=0000000000000000000000000000000000000000000000000000000000000000"
	file = "./a type=file size=1 mode=0644 uid=0 gid=0 time=1.000000000" + sum + "\n"
	end  = "#nexlin end\n"
)

// A manifest comes from a drive and is hostile: what is not exactly ours is
// an error with its line.
func TestReaderRefuses(t *testing.T) {
	_, err := read(top + root + file + "#nexlin xattr user.a 00\n" + end)
	require.NoError(t, err)
	for what, text := range map[string]string{
		"empty":                 "",
		"no signature":          root + end,
		"another version":       "#mtree\n#nexlin manifest 2\n" + root + end,
		"torn":                  top + root + file,
		"torn in a line":        top + root + "./a type=file size=1",
		"more after the end":    top + root + end + file,
		"root not first":        top + file + end,
		"twice":                 top + root + file + file + end,
		"out of order":          top + root + strings.Replace(file, "./a", "./b", 1) + file + end,
		"leads out":             top + root + strings.Replace(file, "./a", "./../a", 1) + end,
		"leads out encoded":     top + root + strings.Replace(file, "./a", `./\056\056/a`, 1) + end,
		"absolute":              top + root + strings.Replace(file, "./a", "/a", 1) + end,
		"zero byte":             top + root + strings.Replace(file, "./a", `./\000`, 1) + end,
		"two spellings":         top + root + strings.Replace(file, "./a", `./\141`, 1) + end,
		"half an escape":        top + root + strings.Replace(file, "./a", `./a\04`, 1) + end,
		"unknown keyword":       top + root + strings.Replace(file, " uid", " flags=x uid", 1) + end,
		"keyword twice":         top + root + strings.Replace(file, " uid=0", " uid=0 uid=1", 1) + end,
		"keyword missing":       top + root + strings.Replace(file, " uid=0", "", 1) + end,
		"digest too short":      top + root + strings.Replace(file, sum, " sha256digest=00", 1) + end,
		"digest of a dir":       top + strings.Replace(root, "\n", sum+"\n", 1) + end,
		"negative size":         top + root + strings.Replace(file, "size=1", "size=-1", 1) + end,
		"mode with type":        top + root + strings.Replace(file, "0644", "100644", 1) + end,
		"time without digits":   top + root + strings.Replace(file, "1.000000000", "1.0", 1) + end,
		"type unknown":          top + root + strings.Replace(file, "type=file", "type=door", 1) + end,
		"digest of a socket":    top + root + strings.Replace(file, "type=file", "type=socket", 1) + end,
		"no digest":             top + root + strings.Replace(file, sum, "", 1) + end,
		"two digests":           top + root + file + "#nexlin blake3 " + strings.Repeat("00", 32) + "\n" + end,
		"same as a later one":   top + root + file + "#nexlin same ./b\n" + end,
		"same leads out":        top + root + file + "#nexlin same ./../a\n" + end,
		"was of a file":         top + root + file + "#nexlin was x\n" + end,
		"comments out of order": top + root + file + "#nexlin xattr a 00\n#nexlin same ./0\n" + end,
		"comment of ours":       top + root + "#nexlin what 1\n" + end,
		"attribute no hex":      top + root + "#nexlin xattr a zz\n" + end,
		"attributes unsorted":   top + root + "#nexlin xattr b 00\n#nexlin xattr a 00\n" + end,
		"line too long":         top + root + "./" + strings.Repeat("a", maxLine) + end,
	} {
		_, err := read(text)
		var f *FormatError
		require.ErrorAs(t, err, &f, what)
		require.Positive(t, f.Line, what)
	}
}

// What the reader accepts, it can write back to the same bytes.
func FuzzReader(f *testing.F) {
	f.Add(top + root + file + "#nexlin xattr user.a 00\n" + end)
	f.Add(top + root + strings.Replace(file, sum, "", 1) + "#nexlin same ./0\n#nexlin blake3 " +
		strings.Repeat("0a", 32) + "\n" + end)
	f.Add(top + root + "./c type=char device=0x501 mode=0600 uid=0 gid=0 time=1.000000000\n./l type=link link=/x " +
		"mode=0777 uid=0 gid=0 time=1.000000000\n#nexlin was ../x\n" + end)
	f.Add(top + root + "./l type=link link=a\\040b mode=0777 uid=0 gid=0 time=-1.000000001\n" + end)
	f.Fuzz(func(t *testing.T, s string) {
		es, err := read(s)
		if err != nil {
			return
		}
		again, err := read(print(t, es))
		require.NoError(t, err)
		require.Equal(t, es, again)
	})
}

package archive

import (
	"bytes"
	"fmt"
	"io"
	"path"
	"strconv"
	"strings"
	"unicode/utf8"

	"nexlin/internal/handle"
	"nexlin/internal/manifest"
)

// tarBlock is the unit of tar, in bytes.
const tarBlock = 512

// tarWriter writes PAX archives (pax(1), "pax Interchange Format"), and in
// them files with holes the way GNU tar does (its manual, "PAX Format,
// Version 1.0"), which the standard library can read but not write.
type tarWriter struct {
	w   io.Writer
	pad [tarBlock]byte
}

// header writes the two headers of an entry. holes are the spans of a file
// with holes; nil for any other. stored is how many bytes follow.
func (t *tarWriter) header(name string, m *manifest.Entry, holes []span, stored int64) error {
	pax := &records{}
	flag := byte('0')
	link := ""
	switch {
	case m.Same != "":
		flag, link = '1', m.Link
	case isType(m.Mode, handle.TypeDir):
		flag, name = '5', name+"/"
	case isType(m.Mode, handle.TypeSymlink):
		flag, link = '2', m.Link
	case isType(m.Mode, handle.TypeFIFO):
		flag = '6'
	case isType(m.Mode, handle.TypeChar):
		flag = '3'
	case isType(m.Mode, handle.TypeBlock):
		flag = '4'
	}
	if !utf8.ValidString(name) || !utf8.ValidString(link) {
		pax.add("hdrcharset", "BINARY")
	}
	shown := name
	if holes != nil {
		pax.add("GNU.sparse.major", "1")
		pax.add("GNU.sparse.minor", "0")
		pax.add("GNU.sparse.name", name)
		pax.add("GNU.sparse.realsize", strconv.FormatInt(m.Size, 10))
		shown = path.Join(path.Dir(name), "GNUSparseFile.0", path.Base(name))
	}
	pax.add("path", shown)
	if link != "" {
		pax.add("linkpath", link)
	}
	pax.add("mtime", paxTime(m.Mtime))
	if stored >= 1<<33 {
		pax.add("size", strconv.FormatInt(stored, 10))
	}
	if m.UID >= 1<<21 {
		pax.add("uid", strconv.FormatUint(uint64(m.UID), 10))
	}
	if m.GID >= 1<<21 {
		pax.add("gid", strconv.FormatUint(uint64(m.GID), 10))
	}
	if m.Same == "" {
		for _, x := range m.Xattrs {
			pax.add("SCHILY.xattr."+x.Name, string(x.Value))
		}
	}
	body := pax.Bytes()
	if err := t.block(ustar{name: "PaxHeaders/entry", flag: 'x', size: int64(len(body)), mode: 0o644}); err != nil {
		return err
	}
	if err := t.data(body); err != nil {
		return err
	}
	u := ustar{name: shown, link: link, flag: flag, size: stored, mode: m.Mode & 0o7777, uid: m.UID, gid: m.GID,
		mtime: max(m.Mtime.Sec, 0)}
	if flag == '3' || flag == '4' {
		major, minor := handle.DeviceParts(m.Rdev)
		u.major, u.minor = uint64(major), uint64(minor)
	}
	return t.block(u)
}

// records are the records of a PAX header, each with its own length in front.
type records struct{ bytes.Buffer }

func (r *records) add(key, value string) {
	rest := len(key) + len(value) + 3 // a space, =, and the line end
	n := rest + len(strconv.Itoa(rest))
	if n = rest + len(strconv.Itoa(n)); n != rest+len(strconv.Itoa(n)) {
		n++
	}
	fmt.Fprintf(r, "%d %s=%s\n", n, key, value)
}

// paxTime is seconds and nine digits; before 1970 the fraction counts
// downwards, as in decimal numbers.
func paxTime(t handle.Time) string {
	if t.Sec < 0 && t.Nsec > 0 {
		return fmt.Sprintf("-%d.%09d", -t.Sec-1, 1_000_000_000-t.Nsec)
	}
	return fmt.Sprintf("%d.%09d", t.Sec, t.Nsec)
}

// ustar are the fields of a ustar header block.
type ustar struct {
	name, link   string
	flag         byte
	size         int64
	mode         uint32
	uid, gid     uint32
	mtime        int64
	major, minor uint64
}

func (t *tarWriter) block(u ustar) error {
	var b [tarBlock]byte
	copy(b[:100], ascii(u.name, 100))
	octal(b[100:108], int64(u.mode))
	octal(b[108:116], int64(u.uid))
	octal(b[116:124], int64(u.gid))
	octal(b[124:136], u.size)
	octal(b[136:148], u.mtime)
	copy(b[148:156], "        ")
	b[156] = u.flag
	copy(b[157:257], ascii(u.link, 100))
	copy(b[257:265], "ustar\x0000")
	octal(b[329:337], int64(u.major))
	octal(b[337:345], int64(u.minor))
	sum := int64(0)
	for _, c := range b {
		sum += int64(c)
	}
	copy(b[148:156], fmt.Sprintf("%06o\x00 ", sum))
	_, err := t.w.Write(b[:])
	return err
}

// ascii is a name for readers that know no PAX headers.
func ascii(s string, n int) string {
	s = strings.Map(func(r rune) rune {
		if r < 0x20 || r > 0x7e {
			return '_'
		}
		return r
	}, s)
	if len(s) > n {
		s = s[len(s)-n:]
	}
	return s
}

// octal writes a number that fits, else 0: then a PAX record has it.
func octal(b []byte, v int64) {
	s := strconv.FormatInt(v, 8)
	if v < 0 || len(s) > len(b)-1 {
		s = "0"
	}
	copy(b, fmt.Sprintf("%0*s", len(b)-1, s))
}

// data writes content that is all there, padded to a block.
func (t *tarWriter) data(b []byte) error {
	if _, err := t.w.Write(b); err != nil {
		return err
	}
	return t.fill(int64(len(b)))
}

// fill pads after n bytes of content.
func (t *tarWriter) fill(n int64) error {
	_, err := t.w.Write(t.pad[:(tarBlock-n%tarBlock)%tarBlock])
	return err
}

// end writes the two empty blocks that end an archive.
func (t *tarWriter) end() error {
	_, err := t.w.Write(make([]byte, 2*tarBlock))
	return err
}

// sparseMap is the list of a file's spans as it stands before its data.
func sparseMap(holes []span, size int64) []byte {
	var b bytes.Buffer
	list := holes
	if len(list) == 0 || list[len(list)-1].end < size {
		list = append(list[:len(list):len(list)], span{size, size}) // how large it is
	}
	fmt.Fprintf(&b, "%d\n", len(list))
	for _, s := range list {
		fmt.Fprintf(&b, "%d\n%d\n", s.at, s.end-s.at)
	}
	b.Write(make([]byte, (tarBlock-b.Len()%tarBlock)%tarBlock))
	return b.Bytes()
}

package setting

import (
	"errors"
	"fmt"
	"net/url"
	"path/filepath"
	"slices"
	"strings"
	"unicode/utf8"

	"nexlin/internal/pathtext"
)

// ErrPathText reports a path that can't be written in a format.
var ErrPathText = errors.New("this path can't be written in a file of this format: it is not UTF-8")

// pathOf is the path that a text of a settings file names: absolute, with ~/
// or $HOME/ of the account, or a file URI. Empty if it names none.
func pathOf(v Value, format Format, home string) (path string, uri bool) {
	text := v.Text
	if rest, ok := strings.CutPrefix(text, "file://"); ok {
		if u, err := url.Parse(text); err == nil && (u.Host == "" || u.Host == "localhost") &&
			filepath.IsAbs(u.Path) && rest != "" {
			return filepath.Clean(u.Path), true
		}
		return "", false
	}
	if format == KnownFolder {
		return expandKnown(text, home), false
	}
	vars := format != KeyValue && format != UserDirs || v.node.home
	for _, form := range []string{"~", "$HOME", "${HOME}"} {
		if rest, ok := strings.CutPrefix(text, form); ok && (rest == "" || rest[0] == '/') &&
			(form == "~" && format != UserDirs || form != "~" && vars) {
			return filepath.Clean(home + rest), false
		}
	}
	if filepath.IsAbs(text) {
		return filepath.Clean(text), false
	}
	return "", false
}

// Paths gives the paths that the texts at an address name, by their exact
// address; texts that name none are passed over. home is the account's.
func Paths(format Format, data []byte, at, home string) ([]Value, error) {
	vs, err := Values(format, data, at)
	if err != nil {
		return nil, err
	}
	var out []Value
	for _, v := range vs {
		if path, _ := pathOf(v, format, home); path != "" {
			v.Text = path
			out = append(out, v)
		}
	}
	return out, nil
}

// beneath gives what of path lies below dir: "" for dir itself.
func beneath(path, dir string) (rest string, ok bool) {
	rel, ok := pathtext.Below(path, dir)
	if !ok || rel == "." {
		return "", ok
	}
	return string(filepath.Separator) + rel, true
}

// Redirect changes every text at an address that names the folder from, or
// something below it, to name the same at to. Everything else keeps its
// bytes, as far as the format has any. No edits mean that no text there names
// the folder. Errors: *SyntaxError, [ErrAddress], [ErrNoText],
// [ErrPathText], [ErrWitness].
func Redirect(format Format, data []byte, at, from, to, home string) ([]byte, []Edit, error) {
	if !utf8.ValidString(to) && !slices.Contains([]Format{KeyValue, UserDirs, Bookmarks, INI}, format) {
		return nil, nil, ErrPathText
	}
	vs, err := Values(format, data, at)
	if err != nil {
		return nil, nil, err
	}
	want := map[string]string{}
	for _, v := range vs {
		path, uri := pathOf(v, format, home)
		rest, ok := beneath(path, from)
		if !ok {
			continue
		}
		if want[v.Text] = to + rest; uri {
			want[v.Text] = fileURI(to + rest)
		}
	}
	return change(format, data, at, func(text string) (string, bool) {
		now, ok := want[text]
		return now, ok && now != text
	})
}

// Put gives a KEY=value file the value under a key that names a path, and adds
// the line if there is none.
func Put(format Format, data []byte, key, path string) ([]byte, []Edit, error) {
	vs, err := Values(format, data, "/"+escape(key))
	if err != nil {
		return nil, nil, err
	}
	if len(vs) > 0 {
		return change(format, data, "/"+escape(key), func(text string) (string, bool) { return path, text != path })
	}
	if format == KnownFolder {
		text, err := writeKnown(path)
		line := key + "=" + text
		return []byte(line), []Edit{{At: "/" + escape(key), New: line, Add: true}}, err
	}
	if format != UserDirs && format != KeyValue {
		return nil, nil, fmt.Errorf("%s: nothing can be added to a file of this format", key)
	}
	raw, err := writeDouble(path)
	if err != nil {
		return nil, nil, err
	}
	line := key + "=" + raw + "\n"
	if len(data) > 0 && data[len(data)-1] != '\n' {
		line = "\n" + line
	}
	return slices.Concat(data, []byte(line)), []Edit{{At: "/" + escape(key), New: line, Add: true}}, nil
}

package setting

import (
	"path/filepath"
	"slices"
	"strings"
)

// FormatsOf gives the formats that a settings file called name may have, the likeliest first; none if
// its name does not say that it is one.
func FormatsOf(name string) []Format {
	switch lower := strings.ToLower(name); {
	case lower == "user-dirs.dirs":
		return []Format{UserDirs}
	case lower == "bookmarks":
		return []Format{Bookmarks}
	default:
		return byEnding[filepath.Ext(lower)]
	}
}

var byEnding = map[string][]Format{
	".json": {JSON}, ".jsonc": {JSON}, ".yaml": {YAML}, ".yml": {YAML}, ".toml": {TOML}, ".ini": {INI}, ".xml": {XML},
	".plist": {PList}, ".env": {KeyValue}, ".conf": {INI, KeyValue}, ".cfg": {INI, KeyValue}, ".config": {XML, INI},
	".rc": {KeyValue, INI}, "": nil,
}

// Naming gives the addresses at which a settings file names a folder, or something in it; members of a
// list are one address, with `*`. home is the account's. The error is a *SyntaxError.
func Naming(format Format, data []byte, folder, home string) ([]string, error) {
	d, err := parse(format, data)
	if err != nil {
		return nil, err
	}
	var out []string
	var walk func(n *node, at string)
	walk = func(n *node, at string) {
		if n.kind == scalar {
			path, _ := pathOf(Value{Text: n.text, node: n}, format, home)
			if _, ok := beneath(path, folder); ok && path != "" && n.plain && !slices.Contains(out, at) {
				out = append(out, at)
			}
			return
		}
		for _, c := range n.children {
			key := escape(c.key)
			if n.kind == list {
				key = "*"
			}
			walk(c, at+"/"+key)
		}
	}
	walk(d.root, "")
	return out, nil
}

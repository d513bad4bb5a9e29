package inuse

import (
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"nexlin/internal/handle"
	"nexlin/internal/pathtext"
)

// profilesDir is where AppArmor's profiles lie (apparmor.d(5)).
const profilesDir = "etc/apparmor.d"

// confined lists the profiles of AppArmor whose rules let a program at the folder and not at target. A kernel
// without it confines nobody, and a profile that is switched off does not either.
func (s Sandbox) confined(folder, target string) ([]Sandboxed, error) {
	enabled, err := handle.ReadRegular(filepath.Join(s.Root, "sys/module/apparmor/parameters/enabled"), 16)
	if err != nil || !strings.HasPrefix(string(enabled), "Y") {
		return nil, nil
	}
	files, err := os.ReadDir(filepath.Join(s.Root, profilesDir))
	if errors.Is(err, fs.ErrNotExist) || errors.Is(err, fs.ErrPermission) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	var out []Sandboxed
	for _, f := range files {
		if !f.Type().IsRegular() || s.exists(profilesDir, "disable", f.Name()) {
			continue
		}
		profile := filepath.Join("/", profilesDir, f.Name())
		local := filepath.Join("/", profilesDir, "local", f.Name())
		rules, err := s.rules(profile)
		if err != nil {
			return nil, err
		}
		more, err := s.rules(local) // which the profile takes in, where it lets an administrator add to it
		if err != nil {
			return nil, err
		}
		if rules = append(rules, more...); allowed(rules, folder) && !allowed(rules, target) {
			rule := pathtext.Quote(`"` + target + `/" r, "` + target + `/**" rwk,`)
			out = append(out, Sandboxed{f.Name(), "echo " + rule + " >>" + pathtext.Quote(local) +
				" && apparmor_parser -r " + pathtext.Quote(profile)})
		}
	}
	return out, nil
}

func (s Sandbox) exists(names ...string) bool {
	_, err := handle.Lstat(filepath.Join(append([]string{s.Root}, names...)...))
	return err == nil
}

// rules reads the paths that the rules of a profile name; none if it can't be read.
func (s Sandbox) rules(profile string) (out []string, err error) {
	variables := []string{`"`, "", "@{HOMEDIRS}", "/home/"}
	if s.Home != "" { // else a rule about homes is about none that is known
		variables = append(variables, "@{HOME}", s.Home)
	}
	words := strings.NewReplacer(variables...)
	err = eachLine(filepath.Join(s.Root, profile), func(line string) {
		if strings.HasPrefix(line, "#") || strings.HasPrefix(line, "deny ") {
			return
		}
		for _, word := range strings.Fields(line) {
			if word = words.Replace(word); strings.HasPrefix(word, "/") {
				out = append(out, strings.TrimSuffix(word, ","))
			}
		}
	})
	return out, err
}

// allowed reports whether one of the rules is about a path or what lies in it.
func allowed(rules []string, path string) bool {
	for _, rule := range rules {
		literal, pattern := rule, ""
		if i := strings.IndexAny(rule, "*?[{@"); i >= 0 {
			literal, pattern = rule[:i], rule[i:]
		}
		dir := strings.TrimSuffix(literal, "/")
		if dir != "" && inside(dir, path) || strings.HasPrefix(pattern, "**") && inside(path, dir) {
			return true
		}
	}
	return false
}

package card

import (
	_ "embed" // the shipped cards
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"time"

	"nexlin/internal/handle"
	"nexlin/internal/pathtext"
	"nexlin/internal/setting"
	"nexlin/internal/strict"
)

// shipped are the cards of the program, as they were read and found right when it was built:
// most commands wait for them, and reading them from their text takes as long as a small walk.
// A test holds it against shipped/*.yaml, and writes it.
//
//go:embed shipped.json
var shipped []byte

// cardLimit bounds a card file, in bytes.
const cardLimit = 256 << 10

// A NotFoundError reports a name that is no card.
type NotFoundError struct {
	Name  string
	Known []string
}

func (e *NotFoundError) Error() string { return fmt.Sprintf("no card is called %q", e.Name) }

// Load reads the cards that ship with Nexlin and those in the directory own,
// which need not exist. A person's own card takes the place of a shipped one
// of its name. A mistake in one card leaves the others: all mistakes are
// joined in the error, each a *[strict.MistakeError].
func Load(own string) ([]Card, error) {
	byName := map[string]Card{}
	var ours []Card
	if err := json.Unmarshal(shipped, &ours); err != nil {
		return nil, err
	}
	for _, c := range ours {
		byName[c.Name] = c
	}
	var mistakes []error
	files, err := os.ReadDir(own)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return nil, err
	}
	for _, f := range files {
		if !slices.Contains([]string{".yaml", ".yml"}, filepath.Ext(f.Name())) {
			continue
		}
		path := filepath.Join(own, f.Name())
		c, err := readFile(path)
		if err == nil && byName[c.Name].File != "" {
			err = &strict.MistakeError{File: path, Line: 1, Column: 1,
				What: fmt.Sprintf("%s describes the card %s already", byName[c.Name].File, c.Name)}
		}
		if err != nil {
			mistakes = append(mistakes, err)
			continue
		}
		byName[c.Name] = *c
	}
	var out []Card
	for _, c := range byName {
		out = append(out, c)
	}
	slices.SortFunc(out, func(a, b Card) int { return strings.Compare(a.Name, b.Name) })
	return out, errors.Join(mistakes...)
}

func readFile(path string) (*Card, error) {
	b, err := handle.ReadRegular(path, cardLimit)
	if errors.Is(err, handle.ErrNotFile) || errors.Is(err, handle.ErrTooLarge) {
		return nil, &strict.MistakeError{File: path, What: "it is no file, or too large for a card"}
	}
	if err != nil {
		return nil, err
	}
	return Parse(path, b)
}

// Read reads the card in a file.
func Read(path string) (*Card, error) { return readFile(path) }

// Parse reads one card. Its error is a *[strict.MistakeError].
func Parse(file string, data []byte) (*Card, error) {
	var c Card
	d, err := strict.Decode(file, data, &c)
	if err != nil {
		return nil, err
	}
	c.File = file
	v := &validator{d}
	v.card(&c)
	if err := d.Err(); err != nil {
		return nil, err
	}
	return &c, nil
}

// validator looks for what the reader can't see.
type validator struct{ *strict.Document }

var cardName = regexp.MustCompile(`^[a-z0-9][a-z0-9-]{0,39}$`)

// IsName reports whether a card may be called so.
func IsName(name string) bool { return cardName.MatchString(name) }

func (v *validator) card(c *Card) {
	if c.Format < 0 || c.Format > Format {
		v.Fail("$.format", "this card is written in format %d, and this Nexlin reads %d: a newer one is needed",
			c.Format, Format)
	}
	if !cardName.MatchString(c.Name) {
		v.Fail("$.card", "a card's name has small letters, digits and -, at most 40 of them: %q has not", c.Name)
	}
	if c.About == "" {
		v.Fail("$.about", "about is missing: one sentence that says what it is")
	}
	if !slices.Contains([]Family{Profile, DeviceBackup, Sync, Store}, c.Family) {
		v.Fail("$.family", "family is one of profile, device-backup, sync, application-data, not %q", c.Family)
	}
	if len(c.Folders) == 0 && c.Handover == nil && len(c.Stays) == 0 {
		v.Fail("$", "folders is missing: the card says of no folder where it lies")
	}
	if !slices.Contains([]string{"", "symlink", "setting", "setting+symlink", "symlink+setting"}, c.By) {
		v.Fail("$.by", "by is symlink, setting or setting+symlink, not %q", c.By)
	}
	v.folders(c)
	for i, s := range c.Settings {
		v.setting(fmt.Sprintf("$.settings[%d]", i), &s, c)
	}
	if c.InUse.Command != nil {
		v.command("$.in-use.command", c.InUse.Command)
	}
	v.steps("before", c.Before)
	v.steps("after", c.After)
	for i, f := range c.Facts {
		v.fact(fmt.Sprintf("$.facts[%d]", i), &f, c)
	}
	for i, s := range c.Stays {
		if s.Path+s.Linux+s.MacOS+s.Windows == "" || s.Why == "" {
			v.Fail(fmt.Sprintf("$.stays[%d]", i), "what stays needs path and why")
		}
		v.paths(fmt.Sprintf("$.stays[%d]", i), map[string]string{"path": s.Path, "linux": s.Linux, "macos": s.MacOS,
			"windows": s.Windows})
	}
	if c.Handover != nil {
		v.handover(c.Handover)
	}
}

func (v *validator) folders(c *Card) {
	seen := map[string]bool{}
	for i, f := range c.Folders {
		at := fmt.Sprintf("$.folders[%d]", i)
		if f.Name == "" && len(c.Folders) > 1 {
			v.Fail(at, "with several folders, each needs a name")
		}
		if f.Name != "" && !cardName.MatchString(f.Name) {
			v.Fail(at+".name", "a folder's name has small letters, digits and -: %q has not", f.Name)
		}
		if seen[f.Name] {
			v.Fail(at+".name", "two folders are called %s", f.Name)
		}
		seen[f.Name] = true
		v.folder(at, f)
	}
}

func (v *validator) folder(at string, f Folder) {
	if f.Linux == "" && f.MacOS == "" && f.Windows == "" {
		v.Fail(at, "it says for no system where the folder lies: linux, macos, windows")
	}
	v.paths(at, map[string]string{"linux": f.Linux, "macos": f.MacOS, "windows": f.Windows})
	if f.Growth != 0 && (f.Growth < 1 || f.Growth > 100) {
		v.Fail(at+".growth", "growth is a factor from 1 to 100")
	}
	if f.Missing != "" && f.Missing != "skip" {
		v.Fail(at+".missing", "missing is skip, or left out")
	}
	if f.As != "" && !pathtext.IsName(f.As) {
		v.Fail(at+".as", "as is one name, no path")
	}
	if f.Whole != nil {
		v.whole(at+".whole", f.Whole)
	}
}

func (v *validator) whole(at string, w *Whole) {
	switch {
	case (w.Command == nil) == (w.Setting == nil) || w.Is == "":
		v.Fail(at, "whole is a command or a setting, and what it is where the copy is whole")
	case w.Command != nil:
		v.command(at+".command", w.Command)
	default:
		v.setting(at+".setting", w.Setting, nil)
	}
}

func (v *validator) setting(at string, s *Setting, c *Card) {
	v.path(at+".file", s.File)
	if !slices.Contains(setting.Formats(), s.Format) {
		v.Fail(at+".format", "format is one of %s, not %q", join(setting.Formats()), s.Format)
	}
	if err := setting.CheckAddress(s.At); err != nil {
		v.Fail(at+".at", "at: %v", err)
	}
	if c == nil {
		return
	}
	if !slices.ContainsFunc(c.Folders,
		func(f Folder) bool { return f.Name == s.Folder || s.Folder == "" && len(c.Folders) == 1 }) {
		v.Fail(at+".folder", "folder names none of the card's folders: %q", s.Folder)
	}
}

func (v *validator) command(at string, c *Command) {
	if len(c.Run) == 0 || c.Run[0] == "" {
		v.Fail(at, "run is missing: the program and its arguments, as a list")
	}
	if d, err := time.ParseDuration(c.Within); c.Within != "" && (err != nil || d <= 0) {
		v.Fail(at+".within", "within is a time such as 30s or 10m, not %q", c.Within)
	}
}

func (v *validator) steps(key string, steps []Step) {
	for i, s := range steps {
		at := fmt.Sprintf("$.%s[%d]", key, i)
		switch {
		case s.Ask == "" && len(s.Run) == 0:
			v.Fail(at, "a step is run, a command, or ask, a question")
		case s.Ask != "" && len(s.Run) > 0:
			v.Fail(at, "a step is either run or ask")
		case s.Ask == "":
			v.command(at, &s.Command)
		}
	}
}

func (v *validator) fact(at string, f *Fact, c *Card) {
	if f.Name == "" {
		v.Fail(at, "a fact needs a name")
	}
	switch {
	case (f.Command == nil) == (f.Setting == nil):
		v.Fail(at, "a fact is the output of a command or the value of a setting")
	case f.Command != nil:
		v.command(at+".command", f.Command)
	default:
		v.setting(at+".setting", f.Setting, nil)
	}
	if f.Set != nil {
		v.command(at+".set", f.Set)
	}
}

func (v *validator) handover(h *Handover) {
	for key, c := range map[string]*Command{"list": &h.List, "carry-out": &h.CarryOut, "sign-off": &h.SignOff,
		"carry-in": &h.CarryIn} {
		v.command("$.handover."+key, c)
	}
	if h.Verify != nil {
		v.command("$.handover.verify", h.Verify)
	}
	if h.As != "" && (!pathtext.IsName(h.As) || !strings.Contains(h.As, "{store}")) {
		v.Fail("$.handover.as", "as is one name with {store} in it, no path")
	}
	if h.Resting == "" {
		v.Fail("$.handover", "resting is missing: the state in which a store may be moved")
	}
	for key, need := range map[string][]string{"carry-out": {"{store}", "{archive}"}, "sign-off": {"{store}"},
		"carry-in": {"{store}", "{archive}", "{place}"}} {
		run := map[string][]string{"carry-out": h.CarryOut.Run, "sign-off": h.SignOff.Run,
			"carry-in": h.CarryIn.Run}[key]
		for _, n := range need {
			if !strings.Contains(strings.Join(run, " "), n) {
				v.Fail("$.handover."+key, "%s does not say %s", key, n)
			}
		}
	}
}

// paths looks at those of some paths that are given, by their keys, in the order of these.
func (v *validator) paths(at string, by map[string]string) {
	for _, key := range slices.Sorted(maps.Keys(by)) {
		if by[key] != "" {
			v.path(at+"."+key, by[key])
		}
	}
}

// path wants a path to be absolute once its variables are put in.
func (v *validator) path(at, path string) {
	rest := path
	for _, name := range variableNames {
		rest = strings.ReplaceAll(rest, "{"+name+"}", "/x")
	}
	switch {
	case strings.ContainsAny(rest, "{}"):
		v.Fail(at, "variables are %s: %q has another", strings.Join(braced(variableNames), ", "), path)
	case !strings.HasPrefix(rest, "/") && !(len(rest) > 2 && rest[1] == ':'):
		v.Fail(at, "the path begins with / or with a variable: %q", path)
	case slices.Contains(strings.Split(rest, "/"), ".."):
		v.Fail(at, "the path goes up with ..: %q", path)
	}
}

func braced(names []string) []string {
	var out []string
	for _, n := range names {
		out = append(out, "{"+n+"}")
	}
	return out
}

func join[T ~string](in []T) string {
	var out []string
	for _, s := range in {
		out = append(out, string(s))
	}
	return strings.Join(out, ", ")
}

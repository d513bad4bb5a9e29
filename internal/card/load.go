package card

import (
	"bytes"
	"embed"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"time"

	"github.com/goccy/go-yaml"
	"github.com/goccy/go-yaml/ast"
	"github.com/goccy/go-yaml/parser"

	"nexlin/internal/handle"
	"nexlin/internal/setting"
)

//go:embed shipped/*.yaml
var shipped embed.FS

// cardLimit bounds a card file, in bytes.
const cardLimit = 256 << 10

// A MistakeError is a mistake in a card.
type MistakeError struct {
	File         string
	Line, Column int // 0 where it is about the whole file
	What         string
}

func (e *MistakeError) Error() string {
	if e.Line == 0 {
		return fmt.Sprintf("%s: %s", e.File, e.What)
	}
	return fmt.Sprintf("%s:%d:%d: %s", e.File, e.Line, e.Column, e.What)
}

// A NotFoundError reports a name that is no card.
type NotFoundError struct {
	Name  string
	Known []string
}

func (e *NotFoundError) Error() string { return fmt.Sprintf("no card is called %q", e.Name) }

// Load reads the cards that ship with Nexlin and those in the directory own,
// which need not exist. A person's own card takes the place of a shipped one
// of its name. A mistake in one card leaves the others: all mistakes are
// joined in the error, each a *MistakeError.
func Load(own string) ([]Card, error) {
	byName := map[string]Card{}
	names, err := fs.Glob(shipped, "shipped/*.yaml")
	if err != nil {
		return nil, err
	}
	for _, n := range names {
		b, err := shipped.ReadFile(n)
		if err != nil {
			return nil, err
		}
		c, err := Parse(n, b)
		if err != nil {
			return nil, err
		}
		c.File = ""
		byName[c.Name] = *c
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
			err = &MistakeError{path, 1, 1,
				fmt.Sprintf("%s describes the card %s already", byName[c.Name].File, c.Name)}
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
		return nil, &MistakeError{path, 0, 0, "it is no file, or too large for a card"}
	}
	if err != nil {
		return nil, err
	}
	return Parse(path, b)
}

// Read reads the card in a file.
func Read(path string) (*Card, error) { return readFile(path) }

// Parse reads one card. Its error is a *MistakeError.
func Parse(file string, data []byte) (out *Card, err error) {
	// The reader comes down on some files that are no YAML.
	defer func() {
		if r := recover(); r != nil {
			out, err = nil, &MistakeError{file, 0, 0, "it can't be read as YAML"}
		}
	}()
	if err := setting.CheckDepth(data); err != nil {
		return nil, &MistakeError{file, 0, 0, err.Error()}
	}
	f, err := parser.ParseBytes(data, 0)
	if err != nil {
		return nil, mistake(file, err)
	}
	var c Card
	if err := yaml.NewDecoder(bytes.NewReader(data), yaml.Strict()).Decode(&c); err != nil {
		return nil, mistake(file, err)
	}
	c.File = file
	v := &validator{file: file, tree: f}
	v.card(&c)
	if v.err != nil {
		return nil, v.err
	}
	return &c, nil
}

// mistake turns the reader's error, which has its place in its text, into ours.
func mistake(file string, err error) error {
	m := &MistakeError{File: file, What: err.Error()}
	var tok yaml.Error
	if errors.As(err, &tok) {
		m.What = tok.GetMessage()
		if t := tok.GetToken(); t != nil && t.Position != nil {
			m.Line, m.Column = t.Position.Line, t.Position.Column
		}
	}
	m.What, _, _ = strings.Cut(m.What, "\n")
	return m
}

// validator looks for what the reader can't see, and says where it stands.
type validator struct {
	file string
	tree *ast.File
	err  error
}

// fail reports a mistake at a path of the document, or at the nearest one
// above that is there.
func (v *validator) fail(path, format string, args ...any) {
	if v.err != nil {
		return
	}
	m := &MistakeError{File: v.file, Line: 1, Column: 1, What: fmt.Sprintf(format, args...)}
	for at := path; ; {
		if p, err := yaml.PathString(at); err == nil {
			if n, err := p.FilterFile(v.tree); err == nil && n != nil && n.GetToken() != nil {
				pos := n.GetToken().Position
				m.Line, m.Column = pos.Line, pos.Column
				break
			}
		}
		i := strings.LastIndexAny(at, ".[")
		if i <= 0 {
			break
		}
		at = at[:i]
	}
	v.err = m
}

var cardName = regexp.MustCompile(`^[a-z0-9][a-z0-9-]{0,39}$`)

func (v *validator) card(c *Card) {
	if !cardName.MatchString(c.Name) {
		v.fail("$.card", "a card's name has small letters, digits and -, at most 40 of them: %q has not", c.Name)
	}
	if c.About == "" {
		v.fail("$.about", "about is missing: one sentence that says what it is")
	}
	if !slices.Contains([]Family{Profile, DeviceBackup, Sync, Store}, c.Family) {
		v.fail("$.family", "family is one of profile, device-backup, sync, application-data, not %q", c.Family)
	}
	if len(c.Folders) == 0 && c.Handover == nil && len(c.Stays) == 0 {
		v.fail("$", "folders is missing: the card says of no folder where it lies")
	}
	if !slices.Contains([]string{"", "symlink", "setting", "setting+symlink", "symlink+setting"}, c.By) {
		v.fail("$.by", "by is symlink, setting or setting+symlink, not %q", c.By)
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
		if s.Path == "" || s.Why == "" {
			v.fail(fmt.Sprintf("$.stays[%d]", i), "what stays needs path and why")
		}
		v.path(fmt.Sprintf("$.stays[%d].path", i), s.Path)
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
			v.fail(at, "with several folders, each needs a name")
		}
		if f.Name != "" && !cardName.MatchString(f.Name) {
			v.fail(at+".name", "a folder's name has small letters, digits and -: %q has not", f.Name)
		}
		if seen[f.Name] {
			v.fail(at+".name", "two folders are called %s", f.Name)
		}
		seen[f.Name] = true
		v.folder(at, f)
	}
}

func (v *validator) folder(at string, f Folder) {
	if f.Linux == "" && f.MacOS == "" && f.Windows == "" {
		v.fail(at, "it says for no system where the folder lies: linux, macos, windows")
	}
	for key, path := range map[string]string{"linux": f.Linux, "macos": f.MacOS, "windows": f.Windows} {
		if path != "" {
			v.path(at+"."+key, path)
		}
	}
	if f.Growth != 0 && (f.Growth < 1 || f.Growth > 100) {
		v.fail(at+".growth", "growth is a factor from 1 to 100")
	}
	if f.Missing != "" && f.Missing != "skip" {
		v.fail(at+".missing", "missing is skip, or left out")
	}
	if f.As == "." || f.As == ".." || strings.ContainsAny(f.As, "/\x00") {
		v.fail(at+".as", "as is one name, no path")
	}
	if f.Whole != nil {
		v.whole(at+".whole", f.Whole)
	}
}

func (v *validator) whole(at string, w *Whole) {
	switch {
	case (w.Command == nil) == (w.Setting == nil) || w.Is == "":
		v.fail(at, "whole is a command or a setting, and what it is where the copy is whole")
	case w.Command != nil:
		v.command(at+".command", w.Command)
	default:
		v.setting(at+".setting", w.Setting, nil)
	}
}

func (v *validator) setting(at string, s *Setting, c *Card) {
	v.path(at+".file", s.File)
	if !slices.Contains(setting.Formats(), s.Format) {
		v.fail(at+".format", "format is one of %s, not %q", join(setting.Formats()), s.Format)
	}
	if err := setting.CheckAddress(s.At); err != nil {
		v.fail(at+".at", "at: %v", err)
	}
	if c == nil {
		return
	}
	if !slices.ContainsFunc(c.Folders,
		func(f Folder) bool { return f.Name == s.Folder || s.Folder == "" && len(c.Folders) == 1 }) {
		v.fail(at+".folder", "folder names none of the card's folders: %q", s.Folder)
	}
}

func (v *validator) command(at string, c *Command) {
	if len(c.Run) == 0 || c.Run[0] == "" {
		v.fail(at, "run is missing: the program and its arguments, as a list")
	}
	if d, err := time.ParseDuration(c.Within); c.Within != "" && (err != nil || d <= 0) {
		v.fail(at+".within", "within is a time such as 30s or 10m, not %q", c.Within)
	}
}

func (v *validator) steps(key string, steps []Step) {
	for i, s := range steps {
		at := fmt.Sprintf("$.%s[%d]", key, i)
		switch {
		case s.Ask == "" && len(s.Run) == 0:
			v.fail(at, "a step is run, a command, or ask, a question")
		case s.Ask != "" && len(s.Run) > 0:
			v.fail(at, "a step is either run or ask")
		case s.Ask == "":
			v.command(at, &s.Command)
		}
	}
}

func (v *validator) fact(at string, f *Fact, c *Card) {
	if f.Name == "" {
		v.fail(at, "a fact needs a name")
	}
	switch {
	case (f.Command == nil) == (f.Setting == nil):
		v.fail(at, "a fact is the output of a command or the value of a setting")
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
	if h.Resting == "" {
		v.fail("$.handover", "resting is missing: the state in which a store may be moved")
	}
	for key, need := range map[string][]string{"carry-out": {"{store}", "{archive}"}, "sign-off": {"{store}"},
		"carry-in": {"{store}", "{archive}", "{place}"}} {
		run := map[string][]string{"carry-out": h.CarryOut.Run, "sign-off": h.SignOff.Run,
			"carry-in": h.CarryIn.Run}[key]
		for _, n := range need {
			if !strings.Contains(strings.Join(run, " "), n) {
				v.fail("$.handover."+key, "%s does not say %s", key, n)
			}
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
		v.fail(at, "variables are %s: %q has another", strings.Join(braced(variableNames), ", "), path)
	case !strings.HasPrefix(rest, "/") && !(len(rest) > 2 && rest[1] == ':'):
		v.fail(at, "the path begins with / or with a variable: %q", path)
	case slices.Contains(strings.Split(rest, "/"), ".."):
		v.fail(at, "the path goes up with ..: %q", path)
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

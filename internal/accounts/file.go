// Package accounts has what an administrator declares for many accounts made so: it reads
// the accounts file, holds it against ledger and disks, and carries out what is missing, or
// takes all of it back. How one redirect is made is the business of the packages below.
package accounts

import (
	"fmt"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"nexlin/internal/drive"
	"nexlin/internal/finding"
	"nexlin/internal/naming"
	"nexlin/internal/plan"
	"nexlin/internal/planning"
	"nexlin/internal/strict"
	"nexlin/internal/transfer"
)

// Version is that of the accounts files that are read.
const Version = 1

// FileLimit bounds an accounts file, in bytes.
const FileLimit = 4 << 20

// A File is an accounts file as it is written.
type File struct {
	Version int    `yaml:"accounts-file"`
	Order   string `yaml:"order"` // in which accounts are served; empty: as listed
	Rules   []Rule `yaml:"rules"`
}

// A Rule says what is to be redirected for some accounts.
type Rule struct {
	For       Who    `yaml:"for"`
	Redirects []Wish `yaml:"redirects"`
}

// Who says which accounts a rule is for: all that one of the first four keys takes in, but
// those in Except. The administrator's own account is never among them.
type Who struct {
	People bool     `yaml:"people"` // everybody who logs in here
	Names  []string `yaml:"names"`
	Groups []string `yaml:"groups"` // who belongs to one of these groups
	Like   []string `yaml:"like"`   // names with * and ?
	Except []string `yaml:"except"` // names, too with * and ?
}

// A Wish is one redirect that a rule wants, or those of one card.
type Wish struct {
	Profile string `yaml:"profile"` // a kind of profile folder
	Folder  string `yaml:"folder"`  // or a path; ~ and {home} stand for the home
	Card    string `yaml:"card"`    // or what a card describes

	Into string `yaml:"into"` // as --into; may have variables
	As   string `yaml:"as"`   // its name there; empty: its own
	By   string `yaml:"by"`   // as --by; empty: as move chooses

	Missing    string   `yaml:"missing"`     // a folder that is not there: make, or skip; empty: make
	DriveAway  string   `yaml:"drive-away"`  // its drive is not here: wait, or report; empty: report
	SpaceShort string   `yaml:"space-short"` // its drive lacks room: wait, or report; empty: report
	Accept     []string `yaml:"accept"`      // findings that it goes on past

	WhileInUse bool   `yaml:"while-in-use"`
	WaitQuiet  string `yaml:"wait-quiet"` // a time such as 10m; empty: none
	Discard    bool   `yaml:"discard-original"`
	InnerLinks string `yaml:"inner-links"`
	Digest     string `yaml:"digest"`
}

// Orders in which accounts are served, and what becomes of what can't be done now.
const (
	AsListed      = "as-listed"
	SmallestFirst = "smallest-first"
	LargestFirst  = "largest-first"

	Wait   = "wait"
	Report = "report"
	Make   = "make"
	Skip   = "skip"
)

// variables are what a file may name in braces.
var variables = []string{"account", "uid", "group", "home", "machine"}

// Parse reads an accounts file. The error is a *[strict.MistakeError].
func Parse(file string, data []byte) (*File, error) {
	var f File
	d, err := strict.Decode(file, data, &f)
	if err != nil {
		return nil, err
	}
	v := &validator{d}
	v.file(&f)
	return &f, d.Err()
}

// validator looks for what the reader can't see.
type validator struct{ *strict.Document }

func (v *validator) one(at, key, value string, of ...string) {
	if value != "" && !slices.Contains(of, value) {
		v.Fail(at+"."+key, "%s is %s, not %q", key, strings.Join(of, " or "), value)
	}
}

func (v *validator) file(f *File) {
	if f.Version != Version {
		v.Fail("$.accounts-file", "accounts-file is %d, the version of this format; not %d", Version, f.Version)
	}
	v.one("$", "order", f.Order, AsListed, SmallestFirst, LargestFirst)
	if len(f.Rules) == 0 {
		v.Fail("$.rules", "rules is missing: what is redirected for whom")
	}
	for i, r := range f.Rules {
		at := fmt.Sprintf("$.rules[%d]", i)
		v.who(at+".for", &r.For)
		if len(r.Redirects) == 0 {
			v.Fail(at+".redirects", "redirects is missing: what this rule wants")
		}
		for k := range r.Redirects {
			v.wish(fmt.Sprintf("%s.redirects[%d]", at, k), &r.Redirects[k])
		}
	}
}

func (v *validator) who(at string, w *Who) {
	if !w.People && len(w.Names)+len(w.Groups)+len(w.Like) == 0 {
		v.Fail(at, "for says for no account: people, names, groups or like")
	}
	for key, list := range map[string][]string{"names": w.Names, "groups": w.Groups, "like": w.Like,
		"except": w.Except} {
		for i, name := range list {
			at := fmt.Sprintf("%s.%s[%d]", at, key, i)
			if name == "" || strings.ContainsAny(name, ":/\n\x00") || strings.HasPrefix(name, "-") {
				v.Fail(at, "%q is no name of an account or group", name)
			} else if _, err := path.Match(name, "x"); err != nil {
				v.Fail(at, "%q is no pattern: * stands for any letters, ? for one", name)
			}
		}
	}
}

func (v *validator) wish(at string, w *Wish) {
	named := 0
	for _, s := range []string{w.Profile, w.Folder, w.Card} {
		if s != "" {
			named++
		}
	}
	if named != 1 {
		v.Fail(at, "a redirect is of one profile, folder or card")
	}
	if w.Profile != "" {
		v.one(at, "profile", w.Profile, planning.ProfileKinds()...)
	}
	if w.Folder != "" {
		v.path(at+".folder", strings.Replace(w.Folder, "~", "{home}", 1))
	}
	v.into(at+".into", w.Into)
	v.name(at+".as", w.As)
	if w.Card != "" && w.As != "" {
		v.Fail(at+".as", "the card says itself what its folders are called")
	}
	v.one(at, "by", w.By, "symlink", "setting", "setting+symlink", "symlink+setting")
	v.one(at, "missing", w.Missing, Make, Skip)
	v.one(at, "drive-away", w.DriveAway, Wait, Report)
	v.one(at, "space-short", w.SpaceShort, Wait, Report)
	v.one(at, "inner-links", w.InnerLinks, string(plan.RewriteLinks), string(plan.KeepLinks), string(plan.RefuseLinks))
	v.one(at, "digest", w.Digest, string(transfer.SHA256), string(transfer.BLAKE3))
	for i, code := range w.Accept {
		if !finding.Acceptable(finding.Code(code)) {
			v.Fail(fmt.Sprintf("%s.accept[%d]", at, i), "%q is no finding that may be accepted", code)
		}
	}
	if d, err := time.ParseDuration(w.WaitQuiet); w.WaitQuiet != "" && (err != nil || d <= 0) {
		v.Fail(at+".wait-quiet", "wait-quiet is a time such as 30s or 10m, not %q", w.WaitQuiet)
	}
}

// fill puts x in the place of every variable; ok is false if there is another.
func fill(text string) (out string, ok bool) {
	for _, name := range variables {
		text = strings.ReplaceAll(text, "{"+name+"}", "x")
	}
	return text, !strings.ContainsAny(text, "{}\x00")
}

// path wants a path to be absolute once its variables are put in.
func (v *validator) path(at, text string) {
	filled, ok := fill(strings.Replace(text, "{home}", "/x", 1))
	switch {
	case !ok:
		v.Fail(at, "variables are {%s}: %q has another", strings.Join(variables, "}, {"), text)
	case !filepath.IsAbs(filled):
		v.Fail(at, "the path begins with / or with ~: %q", text)
	case slices.Contains(strings.Split(filled, "/"), ".."):
		v.Fail(at, "the path goes up with ..: %q", text)
	}
}

// into wants a directory on a drive that is named, or an absolute path.
func (v *validator) into(at, text string) {
	name, rest, onDrive := drive.SplitRef(text)
	switch {
	case text == "":
		v.Fail(at, "into is missing: the directory on the other drive that the folder goes into")
	case onDrive:
		if filled, ok := fill(name); !ok || filled != name {
			v.Fail(at, "a drive's label or UUID has no variables: %q", name)
		}
		v.path(at, "/"+rest)
	default:
		v.path(at, text)
	}
}

func (v *validator) name(at, text string) {
	filled, ok := fill(text)
	if !ok || filled == "." || filled == ".." || strings.Contains(filled, "/") ||
		strings.HasPrefix(filled, naming.RecordDir) {
		v.Fail(at, "as is one name, no path: %q", text)
	}
}

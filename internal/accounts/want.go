package accounts

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"os"
	"path"
	"path/filepath"
	"runtime"
	"slices"
	"strconv"
	"strings"
	"time"

	"nexlin/internal/account"
	"nexlin/internal/card"
	"nexlin/internal/drive"
	"nexlin/internal/engine"
	"nexlin/internal/finding"
	"nexlin/internal/handle"
	"nexlin/internal/ledger"
	"nexlin/internal/naming"
	"nexlin/internal/places"
	"nexlin/internal/plan"
	"nexlin/internal/planning"
	"nexlin/internal/setting"
	"nexlin/internal/transfer"
)

// A Want is one wish for one account. Its parts are folders: one, or those of a card.
type Want struct {
	Account account.Entry
	Wish    *Wish
	Into    string            // the directory on the drive, absolute; empty while that is not here
	Drive   string            // the drive as the file names it; empty for a path
	Rel     string            // the directory below it, slash-separated and without one in front
	Parts   []Part            // never empty, unless Broken
	Broken  []finding.Finding // why it can't be made out for this account

	use      *planning.CardUse // of a card; nil of anything else
	settings bool              // the account keeps settings of its profile folders
	homeless bool              // its home is not there yet
}

// A Part is one folder of a want.
type Part struct {
	Link   string // the link path, real but for its last name
	Final  string // what it is called on the drive
	named  string // the link path as it is declared
	folder *card.Folder
}

// Target is where the data of a part is to lie; empty while the drive is not here.
func (w *Want) Target(p *Part) string {
	if w.Into == "" {
		return ""
	}
	return filepath.Join(w.Into, p.Final)
}

// Shown is the target as the file names it.
func (w *Want) Shown(p *Part) string {
	if w.Drive == "" {
		return filepath.Join(w.Into, p.Final)
	}
	return w.Drive + ":/" + path.Join(w.Rel, p.Final)
}

// options are those of a move of a part.
func (w *Want) options(p *Part) planning.MoveOptions {
	wish := w.Wish
	wait, _ := time.ParseDuration(wish.WaitQuiet) // it was looked at when the file was read
	o := planning.MoveOptions{Folder: p.named, Into: w.Into, As: p.Final, By: w.Methods(), WhileInUse: wish.WhileInUse,
		WaitQuiet: wait, Discard: wish.Discard, InnerLinks: plan.InnerLinks(wish.InnerLinks),
		Digest: transfer.Digest(wish.Digest)}
	for _, code := range wish.Accept {
		o.Accept = append(o.Accept, finding.Code(code))
	}
	if name := w.name(p); naming.Valid(name) {
		o.Name = name
	}
	return o
}

// name is what a redirect of a part is called.
func (w *Want) name(p *Part) string {
	of := filepath.Base(p.Link)
	if as := w.Wish.As; as != "" && !strings.Contains(as, "{") {
		of = as
	}
	return naming.Default(w.Account.Name) + "-" + naming.Default(of)
}

// Methods are those by which programs are to be led; nil leaves it to the move. A profile
// folder is led by its setting where the account keeps any.
func (w *Want) Methods() []string {
	switch {
	case w.Wish.By != "":
		out := strings.Split(w.Wish.By, "+")
		slices.Sort(out)
		if w.Wish.Profile != "" && !w.settings && len(out) > 1 { // the link does alone what a setting would help to
			return []string{plan.BySymlink}
		}
		return out
	case w.Wish.Profile != "" && w.settings:
		return planning.ProfileMethods()
	case w.use != nil:
		return planning.CardMethods(&w.use.Card)
	}
	return nil
}

// A maker makes a file out for accounts.
type maker struct {
	*engine.Engine
	file    *File
	machine string
	groups  map[string]map[string]bool
	drives  map[string]placed
	home    *homeSettings // of the account that is at work; nil until it is asked for

	byLink  map[string]*ledger.Redirect // those that have not ended
	linkOf  map[string]string           // the link that leads to a target, of runs that were stopped, too
	stopped map[string]ledger.RunRow    // runs that were stopped, by the link they are about
}

// homeSettings are the profile folders of one home, and whether it keeps settings of them.
type homeSettings struct {
	profiles []setting.Profile
	kept     bool
}

// placed is where a drive is; or why it is not known.
type placed struct {
	mount string
	err   error
}

func newMaker(e *engine.Engine, f *File) (*maker, error) {
	m := &maker{Engine: e, file: f, groups: map[string]map[string]bool{}, drives: map[string]placed{},
		byLink: map[string]*ledger.Redirect{},
		linkOf: map[string]string{}, stopped: map[string]ledger.RunRow{}}
	host, err := os.Hostname()
	if err != nil {
		return nil, err
	}
	m.machine, _, _ = strings.Cut(host, ".")
	all, err := e.Ledger.Redirects(false)
	if err != nil {
		return nil, err
	}
	for i := range all {
		m.byLink[all[i].Link], m.linkOf[all[i].Target] = &all[i], all[i].Link
	}
	rows, err := plan.Open(e.Ledger)
	if err != nil {
		return nil, err
	}
	for _, row := range rows {
		p, err := plan.Of(row)
		if err != nil || plan.OfArchive(row.Kind) {
			continue // told by whoever reads that redirect
		}
		for _, f := range p.Folders() {
			m.stopped[f.Link] = row
			if f.Target != "" {
				m.linkOf[f.Target] = f.Link
			}
		}
	}
	return m, nil
}

// known are the accounts that the file may be about: all of passwd(5), and those that it
// names and another name service knows.
func (m *maker) known() []account.Entry {
	all := account.All()
	have := map[string]bool{}
	for _, a := range all {
		have[a.Name] = true
	}
	var asked []string
	ask := func(names []string) {
		for _, n := range names {
			if !have[n] {
				have[n] = true
				asked = append(asked, n)
			}
		}
	}
	for _, r := range m.file.Rules {
		ask(r.For.Names)
	}
	for _, r := range m.file.Rules {
		for _, g := range r.For.Groups {
			names := account.Members(g, all)
			m.groups[g] = map[string]bool{}
			for _, n := range names {
				m.groups[g][n] = true
			}
			ask(names)
		}
	}
	all = append(all, account.Named(asked)...)
	all = slices.DeleteFunc(all, func(a account.Entry) bool { return a.UID == 0 })
	slices.SortStableFunc(all, func(a, b account.Entry) int { return strings.Compare(a.Name, b.Name) })
	// An account that two services know is one.
	return slices.CompactFunc(all, func(a, b account.Entry) bool { return a.Name == b.Name })
}

// like reports whether a name is one of some names and patterns.
func like(name string, patterns []string) bool {
	return slices.ContainsFunc(patterns, func(p string) bool {
		ok, err := path.Match(p, name)
		return ok && err == nil
	})
}

// matches reports whether a rule is for an account.
func (m *maker) matches(w *Who, a *account.Entry, people map[string]bool) bool {
	in := w.People && people[a.Name] || slices.Contains(w.Names, a.Name) || like(a.Name, w.Like) ||
		slices.ContainsFunc(w.Groups, func(g string) bool { return m.groups[g][a.Name] })
	return in && !like(a.Name, w.Except)
}

// wants are those of all accounts, or of those named in only, in the order of their names and
// of the file.
func (m *maker) wants(ctx context.Context, only []string) (out []*Want, err error) {
	all := m.known()
	if len(only) > 0 {
		all = slices.DeleteFunc(all, func(a account.Entry) bool { return !slices.Contains(only, a.Name) })
	}
	people := map[string]bool{}
	for _, a := range account.People(all) {
		people[a.Name] = true
	}
	for i := range all {
		if err := ctx.Err(); err != nil {
			return nil, err
		}
		first := len(out)
		m.home = nil
		for r := range m.file.Rules {
			rule := &m.file.Rules[r]
			if !m.matches(&rule.For, &all[i], people) {
				continue
			}
			for k := range rule.Redirects {
				out = append(out, m.want(&all[i], &rule.Redirects[k]))
			}
		}
		twice(out[first:])
	}
	shared(out)
	return out, nil
}

// twice marks wants of one account that are about one folder.
func twice(wants []*Want) {
	seen := map[string]bool{}
	for _, w := range wants {
		for _, p := range w.Parts {
			if seen[p.Link] {
				w.breaks(finding.New(finding.DeclaredTwice, p.Link, "two rules are about %s", p.Link))
			}
			seen[p.Link] = true
		}
	}
}

// shared marks wants of several accounts that would have one target.
func shared(wants []*Want) {
	first := map[string]*Want{}
	for _, w := range wants {
		for i := range w.Parts {
			at := w.Shown(&w.Parts[i])
			if f := first[at]; f != nil && f != w {
				w.breaks(finding.New(finding.DeclaredTwice, at, "%s and %s would both have %s", f.Account.Name,
					w.Account.Name, at).Instead("write {account} into the path"))
				continue
			}
			first[at] = w
		}
	}
}

func (w *Want) breaks(f finding.Finding) {
	w.Broken = append(w.Broken, f.As(finding.Blocker))
}

// want makes one wish out for an account.
func (m *maker) want(a *account.Entry, wish *Wish) *Want {
	w := &Want{Account: *a, Wish: wish}
	vars := map[string]string{"account": a.Name, "uid": strconv.FormatUint(uint64(a.UID), 10), "machine": m.machine,
		"group": strconv.FormatUint(uint64(a.GID), 10), "home": a.Home}
	if strings.ContainsAny(a.Name, "/\x00") || a.Name == "." || a.Name == ".." {
		w.breaks(finding.New(finding.SourceMissing, a.Home, "the account's name %q can be no directory", a.Name))
		return w
	}
	switch st, err := handle.Lstat(a.Home); {
	case handle.Absent(err):
		w.homeless = true
		return w
	case err != nil:
		w.breaks(finding.New(finding.Unseen, a.Home, "%s can't be looked at: %v", a.Home, handle.Cause(err)))
		return w
	case !st.IsDir() || st.UID != a.UID:
		w.breaks(finding.New(finding.OtherAccount, a.Home, "the home of %s is not that account's own directory",
			a.Name).Instead("see whose it is, and how it came there"))
		return w
	}
	m.place(w, card.Expand(wish.Into, vars))
	err := m.parts(w, vars)
	var unknown *card.NotFoundError
	switch {
	case errors.As(err, &unknown):
		w.breaks(finding.New(finding.SourceMissing, a.Home, "no card is called %s", wish.Card))
	case err != nil:
		w.breaks(finding.New(finding.SourceMissing, a.Home, "what it is about can't be found: %v", handle.Cause(err)))
	case len(w.Parts) == 0 && len(w.Broken) == 0:
		w.breaks(finding.New(finding.SourceMissing, a.Home, "the card names no folder for this system"))
	}
	return w
}

// place finds the directory that a want's folders go into.
func (m *maker) place(w *Want, into string) {
	name, rest, onDrive := drive.SplitRef(into)
	if !onDrive {
		w.Into = places.ResolvedDir(filepath.Clean(into))
		return
	}
	w.Drive, w.Rel = name, strings.TrimPrefix(path.Clean("/"+rest), "/")
	at, known := m.drives[name]
	if !known {
		d, err := m.Drives.Find(name)
		at = placed{d.Mount, err}
		m.drives[name] = at
	}
	switch missing := (*drive.NotFoundError)(nil); {
	case at.err == nil:
		w.Into = places.ResolvedDir(filepath.Join(at.mount, filepath.FromSlash(w.Rel)))
	case errors.As(at.err, &missing) && len(missing.Several) == 0: // it is away
	default:
		w.breaks(finding.New(finding.DriveDoubtful, name, "%s", at.err))
	}
}

// parts finds the folders that a want is about.
func (m *maker) parts(w *Want, vars map[string]string) error {
	wish := w.Wish
	switch {
	case wish.Profile != "":
		return m.profiles(w, vars)
	case wish.Card != "":
		c, err := planning.FindCard(m.Engine, wish.Card)
		if err != nil {
			return err
		}
		if c.Handover != nil {
			w.breaks(finding.New(finding.MustStay, "", "card %s has an engine that moves its own stores", c.Name))
			return nil
		}
		if w.use, err = planning.CardFor(c, w.Account.Home); err != nil {
			return err
		}
		for i := range c.Folders {
			f := &c.Folders[i]
			if on := f.On(runtime.GOOS); on != "" {
				named := card.Expand(on, w.use.Vars)
				w.Parts = append(w.Parts, Part{places.Resolved(named), cmp.Or(f.As, filepath.Base(named)), named, f})
			}
		}
		return nil
	}
	folder := wish.Folder
	if folder == "~" || strings.HasPrefix(folder, "~/") {
		folder = w.Account.Home + folder[1:]
	}
	named := filepath.Clean(card.Expand(folder, vars))
	w.Parts = []Part{{Link: places.Resolved(named), Final: finalOf(w, named, vars), named: named}}
	return nil
}

// finalOf is what a folder is called on the drive.
func finalOf(w *Want, link string, vars map[string]string) string {
	if w.Wish.As != "" {
		return card.Expand(w.Wish.As, vars)
	}
	return filepath.Base(link)
}

// profiles finds the profile folders of a want.
func (m *maker) profiles(w *Want, vars map[string]string) error {
	home := places.Resolved(w.Account.Home)
	if m.home == nil {
		var err error
		if m.home, err = settingsOf(home); err != nil {
			return err
		}
	}
	w.settings = m.home.kept
	for _, p := range m.home.profiles {
		if p.Kind != w.Wish.Profile && w.Wish.Profile != planning.EveryProfile {
			continue
		}
		if at := m.old(p.Path); at != home {
			w.Parts = append(w.Parts, Part{Link: at, named: at, Final: finalOf(w, at, vars)})
		}
	}
	if len(w.Parts) == 0 {
		w.breaks(finding.New(finding.SourceMissing, home, "%s has no folder for %s", w.Account.Name, w.Wish.Profile))
	}
	return nil
}

// settingsOf reads the settings of a home's profile folders. They are kept in one file.
func settingsOf(home string) (*homeSettings, error) {
	all, err := setting.Profiles(home)
	if err != nil || len(all) == 0 {
		return &homeSettings{}, err
	}
	_, at, ok, err := setting.Location(home, all[0].Path)
	if err != nil || !ok {
		return &homeSettings{profiles: all}, err
	}
	_, err = handle.Lstat(at[0].File)
	return &homeSettings{all, err == nil || at[0].Format == setting.KnownFolder}, handle.IgnoreMissing(err)
}

// old is where the link of a profile folder stands: a setting that leads to a target names
// that, and not the folder.
func (m *maker) old(path string) string {
	if at, known := m.linkOf[path]; known {
		return at
	}
	return places.Resolved(path)
}

// String names a want in messages.
func (w *Want) String() string {
	return fmt.Sprintf("%s: %s%s%s", w.Account.Name, w.Wish.Profile, w.Wish.Folder, w.Wish.Card)
}

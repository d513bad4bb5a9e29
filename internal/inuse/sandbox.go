package inuse

import (
	"bufio"
	"errors"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/goccy/go-yaml"

	"nexlin/internal/handle"
	"nexlin/internal/pathtext"
)

// A Sandboxed is a program in a sandbox that may see a folder where it is and
// may not see it where it goes.
type Sandboxed struct {
	Program string
	Grant   string // the command that gives it the permission; empty if there is none
}

// A Sandbox is where sandboxes are looked for: the root of the system, "/" but
// in tests, and the home of the account; empty if the folder lies in nobody's.
type Sandbox struct{ Root, Home string }

// Cut lists the installed programs in sandboxes that would lose sight of a
// folder which goes to target: Flatpak's by what their metadata and the
// account's overrides let them see (flatpak-metadata(5), [Context]
// filesystems), snaps by their plugs, services by the profiles that confine them
// (apparmor.d(5)). kind is that of a profile folder, as XDG names it (documents,
// music…), or empty.
func (s Sandbox) Cut(folder, target, kind string) ([]Sandboxed, error) {
	out, err := s.confined(folder, target)
	if err != nil {
		return nil, err
	}
	if s.Home != "" {
		flatpaks, err := s.flatpaks(folder, target, kind)
		if err != nil {
			return nil, err
		}
		snaps, err := s.snaps(folder, target)
		if err != nil {
			return nil, err
		}
		out = append(append(out, flatpaks...), snaps...)
	}
	slices.SortFunc(out, func(a, b Sandboxed) int { return strings.Compare(a.Program, b.Program) })
	return slices.CompactFunc(out, func(a, b Sandboxed) bool { return a.Program == b.Program }), nil
}

// userOverrides is where Flatpak keeps what an account lets programs do, below its home.
const userOverrides = ".local/share/flatpak/overrides"

// override is the command that gives a program of Flatpak's a place, or takes it from it.
func override(option, place, app string) string {
	return "flatpak override --user " + pathtext.Quote(option+place) + " " + pathtext.Quote(app)
}

// named is the place that a permission is about, without what may be done there.
func named(permission string) string {
	return strings.TrimSuffix(strings.TrimSuffix(strings.TrimSuffix(permission, ":ro"), ":rw"), ":create")
}

func (s Sandbox) flatpaks(folder, target, kind string) ([]Sandboxed, error) {
	var out []Sandboxed
	for _, base := range []string{filepath.Join(s.Root, "var/lib/flatpak"),
		filepath.Join(s.Home, ".local/share/flatpak")} {
		files, err := filepath.Glob(filepath.Join(base, "app/*/current/active/metadata"))
		if err != nil {
			return nil, err
		}
		for _, f := range files {
			app := filepath.Base(filepath.Dir(filepath.Dir(filepath.Dir(f))))
			sees, err := filesystems(f)
			if err != nil {
				return nil, err
			}
			for _, o := range []string{filepath.Join(s.Root, "var/lib/flatpak/overrides"),
				filepath.Join(s.Home, userOverrides)} {
				for _, name := range []string{"global", app} {
					more, err := filesystems(filepath.Join(o, name))
					if err != nil {
						return nil, err
					}
					sees = append(sees, more...)
				}
			}
			seen, followed := s.seen(sees, folder, kind)
			if there, _ := s.seen(sees, target, ""); seen && !followed && !there {
				out = append(out, Sandboxed{app, override("--filesystem=", target, app)})
			}
		}
	}
	return out, nil
}

// Granted lists Flatpak's programs that the account's overrides let see a place, each with the command that takes
// the permission back.
func (s Sandbox) Granted(place string) (out []Sandboxed, err error) {
	dir := filepath.Join(s.Home, userOverrides)
	names, err := os.ReadDir(dir)
	if errors.Is(err, fs.ErrNotExist) || errors.Is(err, fs.ErrPermission) {
		return nil, nil
	}
	for _, n := range names {
		sees, e := filesystems(filepath.Join(dir, n.Name()))
		if e != nil {
			return nil, e
		}
		for _, f := range sees {
			if named(f) == place && n.Name() != "global" {
				out = append(out, Sandboxed{n.Name(), override("--nofilesystem=", place, n.Name())})
			}
		}
	}
	return out, err
}

// filesystems reads what the section [Context] of a key file says of file
// systems; nothing if there is no such file.
func filesystems(path string) (out []string, err error) {
	section := ""
	err = eachLine(path, func(line string) {
		if strings.HasPrefix(line, "[") {
			section = line
		}
		if list, ok := strings.CutPrefix(line, "filesystems="); ok && section == "[Context]" {
			out = append(out, strings.FieldsFunc(list, func(r rune) bool { return r == ';' })...)
		}
	})
	return out, err
}

// Files about permissions are read so far, in bytes.
const permissionsLimit = 4 << 20

// eachLine gives the lines of a file about permissions, without the white space around them. One that is not there,
// may not be read, or is no file has none; what comes after a line that is no line of such a file is left out.
func eachLine(path string, each func(line string)) error {
	f, err := handle.OpenRegular(path)
	if errors.Is(err, fs.ErrNotExist) || errors.Is(err, fs.ErrPermission) || errors.Is(err, handle.ErrNotFile) {
		return nil
	}
	if err != nil {
		return err
	}
	defer f.Close()
	lines := bufio.NewScanner(io.LimitReader(f, permissionsLimit))
	for lines.Scan() {
		each(strings.TrimSpace(lines.Text()))
	}
	if err := lines.Err(); !errors.Is(err, bufio.ErrTooLong) {
		return err
	}
	return nil
}

// seen reports whether a program that sees these file systems sees a path, and whether it would see what a link there
// leads to, too: Flatpak follows the links on the way to a place that it was told of, and none inside of it.
func (s Sandbox) seen(systems []string, path, kind string) (seen, followed bool) {
	xdg := map[string]string{"downloads": "download", "publicshare": "public-share"}
	for _, f := range systems {
		name := named(f)
		if strings.HasPrefix(name, "!") {
			continue // what a wider one shows is taken away again: rare, and told too little rather than too much
		}
		at := ""
		switch dir, sub, _ := strings.Cut(name, "/"); {
		case name == "host":
			return true, true // also what it leads to
		case dir == "home" || dir == "~":
			at = filepath.Join(s.Home, sub)
		case strings.HasPrefix(dir, "xdg-"):
			want := kind
			if w, ok := xdg[kind]; ok {
				want = w
			}
			if kind != "" && dir == "xdg-"+want && sub == "" {
				at = path
			}
		case filepath.IsAbs(name):
			at = filepath.Clean(name)
		}
		if at != "" && inside(path, at) {
			seen, followed = true, followed || at == path
		}
	}
	return seen, followed
}

func inside(path, dir string) bool { return path == dir || strings.HasPrefix(path, dir+"/") }

// snaps looks at what installed snaps plug. The plug home shows what lies in
// the home and is not hidden; what is elsewhere takes removable-media, for
// drives that are mounted below /media, /run/media or /mnt.
func (s Sandbox) snaps(folder, target string) ([]Sandboxed, error) {
	rel, err := filepath.Rel(s.Home, folder)
	if err != nil || strings.HasPrefix(rel, ".") || inside(target, s.Home) {
		return nil, nil
	}
	files, err := filepath.Glob(filepath.Join(s.Root, "snap/*/current/meta/snap.yaml"))
	if err != nil {
		return nil, err
	}
	var out []Sandboxed
	for _, f := range files {
		b, err := handle.ReadRegular(f, 1<<20)
		if err != nil {
			continue // it is being removed
		}
		var snap struct {
			Name        string         `yaml:"name"`
			Confinement string         `yaml:"confinement"`
			Plugs       map[string]any `yaml:"plugs"`
			Apps        map[string]struct {
				Plugs []string `yaml:"plugs"`
			} `yaml:"apps"`
		}
		if yaml.Unmarshal(b, &snap) != nil || snap.Confinement == "classic" {
			continue
		}
		plugs := map[string]bool{}
		for p := range snap.Plugs {
			plugs[p] = true
		}
		for _, a := range snap.Apps {
			for _, p := range a.Plugs {
				plugs[p] = true
			}
		}
		if !plugs["home"] {
			continue
		}
		grant := ""
		if plugs["removable-media"] &&
			(inside(target, "/media") || inside(target, "/run/media") || inside(target, "/mnt")) {
			grant = "snap connect " + pathtext.Quote(snap.Name+":removable-media")
		}
		out = append(out, Sandboxed{snap.Name, grant})
	}
	return out, nil
}

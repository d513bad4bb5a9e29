package draft

import (
	"fmt"
	"runtime"
	"slices"
	"strings"

	"github.com/goccy/go-yaml"

	"nexlin/internal/card"
	"nexlin/internal/pathtext"
)

// Text is the draft as a card's file, with what was seen, and what to look at, in comments. It reads
// as a card whatever was seen.
func (d *Draft) Text() []byte {
	var b strings.Builder
	line := func(format string, args ...any) { fmt.Fprintf(&b, format+"\n", args...) }
	line("# A draft, made %s from what was seen. Look at the lines that end in \"?\"; then",
		d.Made.Format("2006-01-02"))
	line("#   nexlin card test %s", d.Name)
	line("# says what is missing, and `nexlin move card:%s --into DIR` goes by it.", d.Name)
	line("card: %s", d.Name)
	line("format: %d", card.Format)
	line("about: %s   # one sentence: what is it?", word("The folder "+pathtext.Show(d.short(d.Folder))+"."))
	line("family: %s   # profile, device-backup, sync or application-data?", card.Store)
	line("folders:")
	line("  - %s: %s", key(), word(d.short(d.Folder)))
	d.growth(line)
	d.inUse(line)
	d.settingLines(line)
	d.steps(line)
	return []byte(b.String())
}

// key is what cards call this system.
func key() string {
	if runtime.GOOS == "darwin" {
		return "macos"
	}
	return runtime.GOOS
}

// word writes a text as one value, whatever is in it.
func word(text string) string {
	out, err := yaml.MarshalWithOptions(text, yaml.JSON())
	if err != nil {
		return fmt.Sprintf("%q", text)
	}
	return strings.TrimSpace(string(out))
}

func (d *Draft) growth(line func(string, ...any)) {
	if g := d.Growth(); g > 0 {
		line("    growth: %.1f   # %s of %s were written in the last half year", g, pathtext.Size(d.Recent),
			pathtext.Size(d.Bytes))
		return
	}
	line("    # growth: 1.5   # by which factor it must be able to grow; its files do not tell")
}

func (d *Draft) inUse(line func(string, ...any)) {
	switch {
	case len(d.Programs) > 0:
		all := make([]string, 0, len(d.Programs))
		for _, p := range d.Programs {
			all = append(all, word(p))
		}
		line("in-use:")
		line("  programs: [%s]   # they have files of it open", strings.Join(all, ", "))
	case len(d.Services) > 0: // the steps stop them
	case d.Complete:
		line("# in-use:")
		line("#   programs: [NAME]   # no program has anything of it open now")
	default:
		line("# in-use:")
		line("#   programs: [NAME]   # not every program could be looked at: an administrator sees them all")
	}
}

func (d *Draft) settingLines(line func(string, ...any)) {
	if len(d.Settings) == 0 {
		line("# settings:   # none of %s near by names the folder: a link is left behind",
			pathtext.Plural(int64(d.Looked), "settings file", "settings files"))
		return
	}
	line("settings:   # they name the folder, or something in it")
	ownRecord := func(s card.Setting) bool {
		return strings.Contains(s.At, "*") && !strings.HasPrefix(s.File, "{config}")
	}
	if slices.ContainsFunc(d.Settings, ownRecord) {
		line("  # records of its own: an engine with registered stores moves them by `handover` (docs/cards.md)?")
	}
	for _, s := range d.Settings {
		optional := ""
		if s.Optional {
			optional = ", optional: true"
		}
		line("  - {file: %s, format: %s, at: %s%s}", word(s.File), s.Format, word(s.At), optional)
	}
}

func (d *Draft) steps(line func(string, ...any)) {
	switch {
	case len(d.Services) > 0:
		line("before:")
		for _, s := range d.Services {
			line("  - run: [systemctl, stop, %s]   # with --user for a service of your own?", word(s))
		}
		line("after:")
		for _, s := range d.Services {
			line("  - run: [systemctl, start, %s]", word(s))
		}
	case len(d.Programs) > 0:
		line("before:")
		line("  - ask: %s", word("Quit "+strings.Join(d.Programs, ", ")+". Is that done?"))
	default:
		line("# before:")
		line("#   - ask: \"Quit the program that uses it. Is that done?\"")
	}
}

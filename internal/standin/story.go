package standin

import (
	"os"
	"path/filepath"
	"strings"
)

// A Chapter says a sentence and runs commands. A command that begins with save: writes a file
// through the link, as a program would; quietly: one is run and not shown.
type Chapter struct {
	Name string
	Says string
	Runs []string
}

// MainStory are the chapters that a person reads first.
var MainStory = []string{"look", "move", "trial", "held", "back"}

// Story is all that the demo tells; each chapter begins where the one before it has ended.
var Story = []Chapter{
	{"look", "Kestrel Bay's field laptop is full. What takes the space, and which drives are there?",
		[]string{"survey"}},
	{"move", "The photographs go to BASALT. Everything is looked at before anything changes, and said.",
		[]string{"move ~/Pictures --into BASALT:/ines --yes"}},
	{"trial", "A program saves a photograph where it always did: it is on BASALT.",
		[]string{"save: ~/Pictures/Plumage/newest.jpg"}},
	{"held", "The original is held all the time, until somebody is sure.", []string{"list --held"}},
	{"back", "And it can all be taken back: the photographs come home, the newest too.",
		[]string{"bring-back pictures --use-held --yes -q"}},
	{"again", "Moved once more, and days later: the original may go; only now is room freed.",
		[]string{"quietly: discard-original pictures --yes", "quietly: move ~/Pictures --into BASALT:/ines --yes",
			"check", "list", "try pictures", "discard-original pictures --yes"}},
	{"near", "Which drives are there, one folder from near, and how large a drive must be for two of them.",
		[]string{"drives", "inspect ~/Documents", "survey --need ~/Documents --need ~/Music",
			"move ~/Documents --into BASALT:/ines --preview", "survey --make-room 2MiB"}},
	{"pack", "Before anything risky, a whole copy elsewhere: packed into one file on DUNE, and read back.",
		[]string{"pack ~/Documents --output DUNE/documents.tar.zst --yes"}},
	{"profile", "Profile folders have a location setting. Two of them move as one, led by the setting and by a " +
		"link; and home again.",
		[]string{"move --profile documents,downloads --into BASALT:/ines --yes", "check documents downloads",
			"bring-back documents downloads --yes", "discard-original documents downloads --yes"}},
	{"backup", "callroost backs the field handset up into a hidden folder of its own. A card knows it, and how " +
		"much it grows.",
		[]string{"callroost: --day 2026-05-03", "card show callroost",
			"move card:callroost --into BASALT:/ines --yes", "discard-original callroost --yes"}},
	{"sync", "mudflat keeps the survey team's shared folder. It is stopped, told the new place, started, and " +
		"must fetch nothing again.",
		[]string{"program: mudflat start", "card test mudflat", "move card:mudflat --into BASALT:/ines --yes",
			"program: mudflat status", "program: mudflat pending",
			"bring-back card:mudflat --yes", "program: mudflat stop",
			"discard-original mudflat --yes --accept changed-since"}},
	{"shelf", "sonogram has its shelf in several settings of two files: all are changed, or there would be gaps.",
		[]string{"program: sonogram show", "move card:sonogram --into BASALT:/ines --yes", "program: sonogram show",
			"bring-back sonogram --yes", "discard-original sonogram --yes"}},
	{"engine", "brooder's nests are registered: the engine itself carries one out, signs it off and carries it in, " +
		"and its job limit is set back.",
		[]string{"program: brooder list", "fails: move card:brooder --store kestrel --into BASALT:/ines --yes",
			"move card:brooder --store kestrel-calls --into BASALT:/ines --yes", "program: brooder list",
			"bring-back kestrel-calls --yes", "discard-original kestrel-calls --yes"}},
	{"away", "Somebody pulls BASALT. callroost complains of its own data; check says why.",
		[]string{"pull: BASALT", "fails: callroost: --day 2026-05-04", "fails: check"}},
	{"halves", "callroost is told to begin anew, and makes a real folder where the link was.",
		[]string{"callroost: --day 2026-05-04 --begin-anew"}},
	{"elsewhere", "BASALT is plugged in again, at another place.",
		[]string{"plug: BASALT media/basalt", "fails: check"}},
	{"mend", "mend follows the drive, and merges the two halves.",
		[]string{"mend pictures --yes", "mend callroost --preview", "mend callroost --yes", "callroost list",
			"discard-original callroost --yes", "check"}},
	{"laptop", "A new laptop: nothing is known there but what the drive says. A link into a hidden place is made " +
		"only if somebody says so.",
		[]string{"new laptop", "list", "fails: restore-links BASALT --preview",
			"restore-links BASALT --yes --accept hidden-place", "list", "callroost list"}},
	{"home", "The new laptop's drive is large enough: the photographs come home.", []string{"bring-back pictures " +
		"--yes"}},
	{"history", "What happened, and what is still held?", []string{"history", "list --held"}},
}

// Chapters are the names of all of them, in their order.
func Chapters() (out []string) {
	for _, c := range Story {
		out = append(out, c.Name)
	}
	return out
}

// Expand makes a path in the scene of a word of the story.
func (s *Scene) Expand(word string) string {
	if rest, ok := strings.CutPrefix(word, "~"); ok {
		return s.Home + rest
	}
	if rest, ok := strings.CutPrefix(word, "DUNE/"); ok {
		return filepath.Join(s.Place("DUNE"), rest)
	}
	return word
}

// Save writes a file through a link path, as a program would, and looks where it lies: a path
// in the scene.
func (s *Scene) Save(path string) (real string, err error) {
	full := s.Expand(path)
	if err := os.WriteFile(full, []byte("a photograph taken after the move\n"), 0o644); err != nil {
		return "", err
	}
	if real, err = filepath.EvalSymlinks(full); err != nil {
		return "", err
	}
	return strings.TrimPrefix(real, s.Dir+"/"), nil
}

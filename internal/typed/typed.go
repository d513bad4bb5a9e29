// Package typed understands what a person has typed and did not mean: another program's word
// for ours, a slip of the finger, a ~ that the shell has left as it is. It knows
// no command.
package typed

import (
	"errors"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strings"

	"nexlin/internal/naming"
)

// otherWords are what people call our commands and options who are used to others' words.
var otherWords = map[string]string{
	"mv": "move", "relocate": "move", "ls": "list", "status": "check", "verify": "check", "repair": "mend",
	"fix": "mend", "back": "bring-back", "return": "bring-back", "delete": "discard-original",
	"rm": "discard-original", "remove": "discard-original", "free": "discard-original", "revert": "undo",
	"continue": "resume", "log": "history", "info": "inspect", "size": "survey", "disks": "drives",
	"to": "into", "target": "into", "dest": "into", "destination": "into", "check-only": "preview",
	"method": "by", "rename": "as",
}

// A MistypedError is a command line that no command takes.
type MistypedError struct {
	What string
	Next []string // what may have been meant; may be empty
}

func (e *MistypedError) Error() string { return e.What }

func mistyped(what string, next ...string) error { return &MistypedError{what, next} }

// near are the known words that one may stand for: another's word for it, or one that is
// written much like it.
func near(word string, known []string) (out []string) {
	if ours, ok := otherWords[strings.ToLower(word)]; ok && slices.Contains(known, ours) {
		return []string{ours}
	}
	for _, k := range known {
		if len(word) > 1 && naming.Near(word, k) && len(out) < 3 {
			out = append(out, k)
		}
	}
	return out
}

// NoCommand is a word that is no command, with those of the commands that may have been meant.
func NoCommand(word string, commands []string) error {
	return mistyped("there is no command \""+word+"\"", meant("nexlin ", near(word, commands))...)
}

// NoFlag makes an error about an option of a command one that names those of its options that
// may have been meant.
func NoFlag(command string, err error, options []string) error {
	name, unknown := strings.CutPrefix(err.Error(), "unknown flag: --")
	if !unknown {
		return mistyped(err.Error())
	}
	return mistyped("`nexlin "+command+"` has no option --"+name, meant("--", near(name, options))...)
}

// meant asks whether one of some words was.
func meant(before string, words []string) []string {
	if len(words) == 0 {
		return nil
	}
	return []string{"did you mean " + before + strings.Join(words, ", or "+before) + "?"}
}

// WrongArgs is a command line, used as use says, whose options or arguments no command takes;
// what is missing or too much is said in our own words.
func WrongArgs(use string, err error) error {
	if ours := (*MistypedError)(nil); errors.As(err, &ours) {
		return err
	}
	switch text := err.Error(); {
	case strings.HasSuffix(text, "received 0"):
		return mistyped("something is missing", strings.TrimSuffix(use, " [flags]"))
	case strings.Contains(text, "arg(s)"):
		return mistyped("there are more words than it takes, or fewer", strings.TrimSuffix(use, " [flags]"))
	}
	return mistyped(err.Error())
}

// Expanded replaces a ~ that the shell has left as it is, since it was quoted or stands behind
// a =, where nothing here is called so; and the file: address of what was dragged into the
// terminal.
func Expanded(args []string, home string) []string {
	out := make([]string, len(args))
	for i, arg := range args {
		out[i] = arg
		before, value := "", arg
		if option, v, ok := strings.Cut(arg, "="); ok && strings.HasPrefix(option, "--") {
			before, value = option+"=", v
		}
		if path, is := fileAddress(value); is {
			out[i] = before + path
			continue
		}
		if home == "" || runtime.GOOS == "windows" || value != "~" && !strings.HasPrefix(value, "~/") {
			continue
		}
		if _, err := os.Lstat("~"); err == nil {
			continue
		}
		out[i] = before + filepath.Join(home, strings.TrimPrefix(value, "~"))
	}
	return out
}

package cli

import (
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"nexlin/internal/engine"
	"nexlin/internal/execute"
	"nexlin/internal/planning"
	"nexlin/internal/screen"
	"nexlin/internal/standin"
)

// completer offers words for what is being typed; what can't be read offers none.
type completer struct{ *app }

// words are what may stand at a place of a command line, see [screen.RunWords].
type words = func(e *engine.Engine) []string

// completed are the arguments of commands.
func (a *completer) completed() map[string]words {
	runs, names, cards := screen.RunWords(execute.Undoable), a.RedirectWords, a.cards(engine.CardPrefix)
	both := func(x, y words) words {
		return func(e *engine.Engine) []string { return append(x(e), y(e)...) }
	}
	out := map[string]words{
		"bring-back": both(names, screen.MovedCardWords), "resume": screen.RunWords(nil), "undo": both(runs, names),
		"drives": screen.DriveWords(""), "restore-links": screen.DriveWords(""), "move": both(names, cards),
		"card show": a.cards(""), "card test": a.cards(""), "inspect": cards, "survey": cards,
	}
	for _, c := range []string{"detach", "discard-original", "forget", "show", "check", "try", "mend", "pack"} {
		out[c] = names
	}
	return out
}

// withFolders are the commands whose arguments may be folders.
var withFolders = []string{"move", "inspect", "survey", "pack", "record"}

// values are those of options that have a few.
var values = map[string][]string{
	"by":          {"symlink", "junction", "setting", "setting+symlink", "setting+junction"},
	"digest":      {"auto", "sha256", "blake3"},
	"inner-links": {"rewrite", "keep", "refuse"},
	"target-form": {"letter", "volume"},
	"manifest":    {"mtree", "sha256", "blake3"},
	"halves":      {"keep-both", "newer", "ask"},
	"folders":     {"merge", "hold"},
	"size":        {"small", "large"},
	"profile":     planning.ProfileKinds(),
	"chapter":     append(standin.Chapters(), "all"),
}

// complete has every command offer words.
func (a *completer) complete(root *cobra.Command) {
	args := a.completed()
	var each func(c *cobra.Command)
	each = func(c *cobra.Command) {
		_, name, _ := strings.Cut(c.CommandPath(), " ")
		if w, ok := args[name]; ok {
			c.ValidArgsFunction = a.suggest(w, slices.Contains(withFolders, name))
		}
		for option, vs := range values {
			if c.Flags().Lookup(option) != nil {
				_ = c.RegisterFlagCompletionFunc(option, cobra.FixedCompletions(vs, cobra.ShellCompDirectiveNoFileComp))
			}
		}
		if c.Flags().Lookup("accept") != nil {
			_ = c.RegisterFlagCompletionFunc("accept", cobra.FixedCompletions(screen.CodeWords(), // it exists
				cobra.ShellCompDirectiveNoFileComp))
		}
		for _, option := range []string{"into", "output"} {
			if c.Flags().Lookup(option) != nil {
				_ = c.RegisterFlagCompletionFunc(option, a.suggest(screen.DriveWords(":/"), true))
			}
		}
		for _, sub := range c.Commands() {
			each(sub)
		}
	}
	each(root)
	for _, c := range root.Commands() {
		if c.Name() != "completion" {
			continue
		}
		c.Short = "have your shell complete names, runs, drives, cards and codes"
		c.Long = "Prints a script that has a shell complete commands, options, names of redirects, runs, labels of\n" +
			"drives, cards and codes of findings. The Debian package and `make install` put it where the shell\n" +
			"looks for it; by hand, in bash for example:\n\n  source <(nexlin completion bash)"
		for _, shell := range c.Commands() {
			shell.Short, shell.Long = "the script for "+shell.Name(), "Prints the script for "+shell.Name()+"."
		}
	}
}

// suggest makes cobra's function of words. folders says that a path may stand there, too.
func (a *completer) suggest(w words, folders bool) cobra.CompletionFunc {
	return func(_ *cobra.Command, args []string, begun string) ([]string, cobra.ShellCompDirective) {
		directive := cobra.ShellCompDirectiveNoFileComp
		if folders {
			directive = cobra.ShellCompDirectiveDefault
		}
		if strings.ContainsAny(begun, "/~.") {
			return nil, directive
		}
		a.bannered = true // nothing is said while somebody types
		e, done, err := a.engine(false)
		if err != nil {
			return nil, directive
		}
		defer done()
		var out []string
		for _, word := range w(e) {
			plain, _, _ := strings.Cut(word, "\t")
			if strings.HasPrefix(plain, begun) && !slices.Contains(args, plain) {
				out = append(out, word)
			}
		}
		if slices.ContainsFunc(out, func(s string) bool { return strings.Contains(s, ":/") }) {
			directive |= cobra.ShellCompDirectiveNoSpace // a directory follows
		}
		return out, directive
	}
}

func (a *completer) cards(before string) words {
	return func(*engine.Engine) []string {
		all, _ := (&cardCommands{a.app}).loadCards()
		return screen.CardWords(all, before)
	}
}

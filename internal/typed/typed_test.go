package typed

import (
	"errors"
	"os"
	"testing"

	"github.com/stretchr/testify/require"
)

func TestNearWords(t *testing.T) {
	known := []string{"move", "mend", "list", "bring-back", "discard-original"}
	for word, want := range map[string][]string{
		"mv": {"move"}, "mvoe": {"move"}, "lst": {"list"}, "rm": {"discard-original"}, "discard": {"discard-original"},
		"REPAIR": {"mend"}, "x": nil, "photosynthesis": nil,
	} {
		require.Equal(t, want, near(word, known), word)
	}
}

// What is wrong is said in our own words, with what may have been meant.
func TestSlips(t *testing.T) {
	const use = "nexlin move FOLDER… --into DIR [flags]"
	for _, c := range []struct {
		err  error
		says string
	}{
		{NoCommand("mv", []string{"move"}), `there is no command "mv"`},
		{NoFlag("move", errors.New("unknown flag: --to"), []string{"into"}), "`nexlin move` has no option --to"},
		{NoFlag("move", errors.New("flag needs an argument: --into"), nil), "flag needs an argument"},
		{WrongArgs(use, errors.New("accepts 1 arg(s), received 0")), "something is missing"},
		{WrongArgs(use, errors.New("accepts 1 arg(s), received 2")), "more words than it takes"},
		{WrongArgs(use, NoCommand("x", nil)), `there is no command "x"`},
	} {
		require.ErrorContains(t, c.err, c.says)
	}
}

func TestExpanded(t *testing.T) {
	t.Chdir(t.TempDir())
	in := []string{"move", "~/Music", "--into=~/x", "~", "a~/b", "~tomas", "--", "~/y"}
	require.Equal(t, []string{"move", "/home/ines/Music", "--into=/home/ines/x", "/home/ines", "a~/b", "~tomas", "--",
		"/home/ines/y"}, Expanded(in, "/home/ines"))
	require.Equal(t, in, Expanded(in, ""))
	require.NoError(t, os.Mkdir("~", 0o700))
	require.Equal(t, in, Expanded(in, "/home/ines"), "something here is called so")
}

package screen

import (
	"strings"
	"testing"

	"charm.land/lipgloss/v2"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

// A line is broken at words, goes on under its first one, and a command is never broken.
func TestWrapped(t *testing.T) {
	for _, c := range []struct {
		text          string
		width, indent int
		want          string
	}{
		{"no terminal, so as it is", 0, 9, "no terminal, so as it is"},
		{"one two three four", 14, 4, "one two\n    three four"},
		{"    kept free     1 MiB   so", 40, 0, "    kept free     1 MiB   so"},
		{"an `umount /mnt && mount /mnt` of it", 20, 2, "an\n  `umount /mnt && mount /mnt`\n  of it"},
		{"nexlin undo 2026-x   takes it back again", 30, 0, "nexlin undo 2026-x   takes it\nback again"},
		{"längs über Ödland", 10, 0, "längs über\nÖdland"},
		{"三毛猫 三毛猫", 8, 0, "三毛猫\n三毛猫"},
	} {
		require.Equal(t, c.want, wrapped(c.text, c.width, c.indent), c.text)
	}
	rapid.Check(t, func(t *rapid.T) {
		text := rapid.StringMatching("[a-z ]{0,80}").Draw(t, "text")
		got := wrapped(text, 20, 3)
		require.Equal(t, strings.Fields(text), strings.Fields(got), "no word is lost or broken")
	})
}

// What a table has no room for loses its middle, and columns from the right; numbers stay.
func TestFitted(t *testing.T) {
	rows := [][]string{{"~/a/very/long/path/to/the/recordings", "2.5 MiB", "BASALT", "and a last remark of many words"}}
	width := func(rows [][]string) (n int) {
		for _, c := range rows[0] {
			n += lipgloss.Width(c) + 2
		}
		return n
	}
	require.Equal(t, rows, fitted(rows, []int{1}, 200, 2))
	for _, n := range []int{80, 60, 48, 36} {
		got := fitted(rows, []int{1}, n, 2)
		require.LessOrEqual(t, width(got), n)
		require.Equal(t, "2.5 MiB", got[0][1])
		require.True(t, strings.HasSuffix(got[0][0], "cordings"), got[0][0])
	}
	require.Len(t, fitted(rows, []int{1}, 26, 2)[0], 2)
	require.Equal(t, "~/… notes", Shortened("~/Field notes", 9))
	require.LessOrEqual(t, lipgloss.Width(Shortened("三毛猫三毛猫三毛猫", 9)), 9)
}

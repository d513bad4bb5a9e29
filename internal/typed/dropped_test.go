package typed

import (
	"testing"

	"github.com/stretchr/testify/require"
)

// However a folder arrives that is dragged into a terminal, it is the folder.
func TestDropped(t *testing.T) {
	for text, want := range map[string]string{
		"/home/ines/Music":                          "/home/ines/Music",
		"/home/ines/Music \r\n":                     "/home/ines/Music",
		"'/home/ines/Field notes' ":                 "/home/ines/Field notes",
		`"/home/ines/Field notes"`:                  "/home/ines/Field notes",
		`/home/ines/Field\ notes\ \(old\) `:         "/home/ines/Field notes (old)",
		`'/home/ines/It'\''s here' `:                "/home/ines/It's here",
		"/home/ines/Field notes":                    "/home/ines/Field notes",
		"file:///home/ines/Field%20notes":           "/home/ines/Field notes",
		"file://localhost/home/ines/V%C3%B6gel\r\n": "/home/ines/Vögel",
		"'file:///home/ines/It%27s' ":               "/home/ines/It's",
		"file:/home/ines/a%25b/":                    "/home/ines/a%b",
		"file://elsewhere/home":                     "file://elsewhere/home",
		"'/home/a' '/home/b'":                       "/home/a",
		"file:///home/a\r\nfile:///home/b\r\n":      "/home/a",
		"~/Music":                                   "/home/ines/Music",
		"~":                                         "/home/ines",
		" ":                                         "",
		"file:///%zz":                               "file:///%zz",
	} {
		require.Equal(t, want, Dropped(text, "/home/ines"), "%q", text)
	}
	// A dragged folder is understood as an argument, too.
	require.Equal(t, []string{"move", "/home/ines/Field notes", "--into=/mnt/b c"},
		Expanded([]string{"move", "file:///home/ines/Field%20notes", "--into=file:///mnt/b%20c"}, "/home/ines"))
}

package guide

import (
	"errors"
	"fmt"
	"strings"
	"testing"

	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/x/ansi"
	"github.com/stretchr/testify/require"

	"nexlin/internal/drive"
	"nexlin/internal/survey"
)

const mib = 1 << 20

func testModel(n int) *model {
	o := Options{Home: "/home/ines", Show: func(p string) string { return p }, Frees: survey.Freed,
		Add: func(path string) (survey.Folder, error) {
			if strings.Contains(path, "nothing") {
				return survey.Folder{}, errors.New("there is nothing")
			}
			return survey.Folder{Path: path, Kind: "folder", Allocated: mib, Drive: "SKERRY"}, nil
		},
		Places: func(fs []survey.Folder) ([]survey.Place, error) {
			_, need := survey.Freed(fs)
			dune := survey.Place{Drive: drive.Drive{Label: "DUNE", Mount: "/none/dune", Size: 9 * mib, Free: 2 * mib}}
			dune.After = dune.Drive.Free - need
			dune.Short = max(0, -dune.After)
			return []survey.Place{{Drive: drive.Drive{Label: "BASALT", Mount: "/none/basalt", Size: 90 * mib,
				Free: 80 * mib}, After: 80*mib - need}, dune}, nil
		},
		May: func(_ *survey.Place, dir string) error {
			if dir == "/root" {
				return errors.New("this account may not write there")
			}
			return nil
		},
		Typed: func(p *survey.Place, dir string) string { return p.Drive.Label + ":" + dir },
	}
	for i := range n {
		o.Folders = append(o.Folders, survey.Folder{Path: fmt.Sprintf("/home/ines/a very long name of a folder %d", i),
			Kind: "folder", Allocated: int64(n-i) * mib, Drive: "SKERRY"})
	}
	return newModel(o)
}

var keys = map[string]tea.KeyPressMsg{"enter": {Code: tea.KeyEnter}, "esc": {Code: tea.KeyEscape}, "up": {Code: tea.KeyUp},
	"down": {Code: tea.KeyDown}, "pgdown": {Code: tea.KeyPgDown}, "space": {Code: tea.KeySpace, Text: " "}}

// press presses keys, or pastes what is no key's name, and says whether the guide ended.
func press(m *model, names ...string) (ended bool) {
	for _, name := range names {
		var cmd tea.Cmd
		if k, ok := keys[name]; ok {
			_, cmd = m.Update(k)
		} else if text, typed := strings.CutPrefix(name, "type:"); typed {
			for _, r := range text {
				_, cmd = m.Update(tea.KeyPressMsg{Code: r, Text: string(r)})
			}
		} else {
			_, cmd = m.Update(tea.PasteMsg{Content: name})
		}
		if cmd != nil {
			_, ended = cmd().(tea.QuitMsg)
		}
	}
	return ended
}

// Choices are made, gone back on, and made otherwise.
func TestGuide(t *testing.T) {
	for _, c := range []struct {
		keys    []string
		folders []string
		into    string
	}{
		{[]string{"enter", "enter", "enter"}, []string{"0"}, "BASALT:"},
		{[]string{"space", "down", "down", "space", "enter", "enter", "enter"}, []string{"0", "2"}, "BASALT:"},
		{[]string{"space", "space", "down", "enter", "enter", "enter"}, []string{"1"}, "BASALT:"},
		{[]string{"'/home/ines/Field notes' ", "enter", "enter", "enter"}, []string{"/Field notes"}, "BASALT:"},
		{[]string{"type:/x/nothing", "enter", "type:/x/y", "enter", "enter", "enter", "enter"}, []string{"/x/y"}, "BASALT:"},
		{[]string{"type:/x/y", "esc", "enter", "enter", "enter"}, []string{"0"}, "BASALT:"},
		{[]string{"file:///x/one%20y", "enter", "down", "enter", "enter"}, []string{"/x/one y"}, "DUNE:"},
		{[]string{"enter", "down", "enter", "esc", "esc", "space", "pgdown", "space", "enter", "enter", "type:/root",
			"enter", "type:/a", "enter"}, []string{"2"}, "BASALT:/root/a"},
	} {
		m := testModel(3)
		require.True(t, press(m, c.keys...), "%v: %s", c.keys, m.note)
		require.Equal(t, done, m.step, c.keys)
		require.Equal(t, c.into, m.into, c.keys)
		for i, f := range m.picked() {
			require.True(t, strings.HasSuffix(f.Path, c.folders[i]), "%v: %s", c.keys, f.Path)
		}
		require.Len(t, m.picked(), len(c.folders))
	}
	m := testModel(2)
	require.True(t, press(m, "esc"), "it is left")
	require.Equal(t, folders, m.step)
	m = testModel(0)
	require.False(t, press(m, "enter"))
	require.Contains(t, m.note, "no folder here")
}

// Whatever the size of the terminal, no line is wider and there are no more, and what was
// chosen, what is asked and the cursor's row are among them.
func TestGuideFits(t *testing.T) {
	for _, size := range [][2]int{{80, 24}, {100, 30}, {40, 12}, {200, 60}} {
		m := testModel(70)
		m.Update(tea.WindowSizeMsg{Width: size[0], Height: size[1]})
		sees := func(texts ...string) {
			t.Helper()
			lines := strings.Split(ansi.Strip(m.View().Content), "\n")
			require.LessOrEqual(t, len(lines), size[1])
			for _, line := range lines {
				require.LessOrEqual(t, ansi.StringWidth(line), size[0], line)
			}
			for _, text := range texts {
				require.Contains(t, strings.Join(lines, "\n"), text)
			}
		}
		sees("Which folders?", "▸ [ ]", "not chosen yet")
		press(m, "pgdown", "pgdown", "pgdown", "space")
		sees("▸ [✓]", "30")
		press(m, "enter")
		sees("To which drive?", "▸ BASALT", "DUNE         lacks")
		press(m, "enter")
		sees("Into which directory on BASALT?", "BASALT")
		press(m, "esc")
		sees("To which drive?")
	}
}

package guide

import (
	"fmt"
	"strings"

	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/x/ansi"

	"nexlin/internal/engine"
	"nexlin/internal/pathtext"
	"nexlin/internal/screen"
)

// View is the whole screen: what was chosen, the question, what may be chosen, the keys.
func (m *model) View() tea.View {
	v := tea.NewView("")
	v.AltScreen = true
	if m.step == done {
		return v
	}
	head, foot := m.head(), m.foot()
	body := m.body(max(3, m.height-len(head)-len(foot)))
	lines := append(head, body...)
	for len(lines) < m.height-len(foot) {
		lines = append(lines, "")
	}
	lines = append(lines, foot...)
	for i, line := range lines {
		lines[i] = ansi.Truncate(line, m.width, "…")
	}
	v.SetContent(strings.Join(lines, "\n"))
	return v
}

// head says what is chosen so far.
func (m *model) head() []string {
	row := func(step int, what, says string) string {
		mark := "  "
		if m.step == step {
			mark = "▸ "
		}
		if says == "" {
			says = screen.Faint.Render("not chosen yet")
		}
		return mark + fmt.Sprintf("%-9s ", what) + says
	}
	var names []string
	for _, f := range m.picked() {
		names = append(names, m.Show(f.Path))
	}
	what, drive, into := "", "", ""
	if len(names) > 0 {
		on, frees := m.Frees(m.picked())
		all := screen.Shortened(strings.Join(names, ", "), m.width-40)
		what = screen.Bold.Render(all) + fmt.Sprintf(", frees %s on %s", pathtext.Size(frees), pathtext.Show(on))
	}
	if m.place != nil {
		drive = screen.Bold.Render(pathtext.Show(m.place.Drive.Name())) + fmt.Sprintf(", %s free, %s afterwards",
			pathtext.Size(m.place.Drive.Free), pathtext.Size(m.place.After))
	}
	if m.step == directory {
		into = m.input.View()
	}
	return []string{row(folders, "folders", what), row(drives, "drive", drive), row(directory, "into", into),
		strings.Repeat("─", m.width)}
}

// foot says what the keys do, and what the last one came to.
func (m *model) foot() []string {
	keys := map[int]string{
		folders:   "↑ ↓ move   Space chooses   Enter goes on   Esc leaves; nothing is changed",
		drives:    "↑ ↓ move   Enter goes on   Esc goes back   Ctrl-C leaves; nothing is changed",
		directory: "Enter goes on to the preview   Esc goes back   Ctrl-C leaves; nothing is changed",
	}[m.step]
	if m.typing {
		keys = "Enter takes this folder   Esc goes back to the list"
	}
	note := ""
	switch {
	case m.note != "":
		note = screen.Caution.Render(pathtext.Show(m.note))
	case m.step == folders && !m.typing && m.at < len(m.Folders) && len(m.Folders[m.at].Takes) > 0:
		f := m.Folders[m.at]
		note = screen.Faint.Render(engine.CardPrefix + f.Card + ": " + strings.Join(f.Takes, ", "))
	}
	return []string{note, screen.Faint.Render(keys)}
}

// body is the question with what may be chosen, in no more lines than there are.
func (m *model) body(height int) []string {
	switch m.step {
	case drives:
		return m.driveRows(height)
	case directory:
		return []string{screen.Bold.Render("Into which directory on " + pathtext.Show(m.place.Drive.Name()) + "?"), "",
			"  It is made if it is not there; this account may write there."}
	}
	wide := max(20, min(44, m.width-36))
	out := []string{screen.Bold.Render("Which folders?") + " " +
		screen.Faint.Render("Another one than these: type its path, or drag it in.")}
	if m.typing {
		return append(out, "", "  folder: "+m.input.View())
	}
	out = append(out, screen.Faint.Render(strings.Repeat(" ", wide-1)+"moving frees"))
	first, last := window(m.at, len(m.Folders), height-len(out))
	for i := first; i < last; i++ {
		f := m.Folders[i]
		cursor, box := "  ", "[ ]"
		if i == m.at {
			cursor = "▸ "
		}
		if m.chosen[f.Path] {
			box = "[✓]"
		}
		name := screen.Shortened(m.Show(f.Path), wide)
		kind := f.Kind
		if f.Card != "" {
			kind = engine.CardPrefix + f.Card
		}
		out = append(out, fmt.Sprintf("%s%s %s%s  %9s  %s", cursor, box, name,
			strings.Repeat(" ", wide-ansi.StringWidth(name)), pathtext.Size(f.Allocated), screen.Faint.Render(kind)))
	}
	return out
}

func (m *model) driveRows(height int) []string {
	out := []string{screen.Bold.Render("To which drive?"), ""}
	first, last := window(m.at, len(m.fits), height-len(out)-len(m.small)-1)
	for i := first; i < last; i++ {
		p := &m.fits[i]
		cursor := "  "
		if i == m.at {
			cursor = "▸ "
		}
		d := &p.Drive
		out = append(out, fmt.Sprintf("%s%-12s now %s %9s free   afterwards %s %9s free", cursor,
			screen.Shortened(pathtext.Show(d.Name()), 12), screen.Gauge(d.Size, d.Free), pathtext.Size(d.Free),
			screen.Gauge(d.Size, p.After), pathtext.Size(p.After)))
	}
	if len(m.fits) == 0 {
		out = append(out, "  no drive here has room for this: choose less, or plug in a larger drive")
	}
	for i := range m.small {
		out = append(out, screen.Faint.Render(fmt.Sprintf("  %-12s lacks %s for this",
			screen.Shortened(pathtext.Show(m.small[i].Drive.Name()), 12), pathtext.Size(m.small[i].Short))))
	}
	return out
}

// window is which rows are seen, so that the cursor is among them.
func window(at, rows, height int) (first, last int) {
	height = max(1, height)
	first = max(0, min(at-height/2, rows-height))
	return first, min(rows, first+height)
}

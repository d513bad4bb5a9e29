// Package guide leads a person through the choices of a move on a terminal, by the keyboard
// alone: which folders, which drive, which directory. What was chosen so far stays in sight;
// nothing is changed, and every choice can be gone back on.
package guide

import (
	"context"
	"errors"
	"os"
	"slices"
	"strings"

	"charm.land/bubbles/v2/textinput"
	tea "charm.land/bubbletea/v2"

	"nexlin/internal/survey"
	"nexlin/internal/typed"
)

// Options are what the guide goes by. No function may be nil.
type Options struct {
	Home    string
	Folders []survey.Folder // what may be chosen
	Chosen  []string        // paths of those that are chosen at the beginning; may be empty

	Show   func(path string) string                          // a path as people know it
	Add    func(path string) (survey.Folder, error)          // a folder that was typed, or dragged in
	Places func([]survey.Folder) ([]survey.Place, error)     // where folders could go together
	May    func(place *survey.Place, dir string) error       // whether something may be made there
	Typed  func(place *survey.Place, dir string) string      // a directory as --into takes it
	Frees  func([]survey.Folder) (drive string, bytes int64) // what moving them frees, and where
}

// A Choice is what a person has chosen: at least one folder.
type Choice struct {
	Folders []survey.Folder
	Into    string // as --into takes it
}

// ErrLeft is a guide that a person has left.
var ErrLeft = errors.New("the guide was left")

// Ask leads through the choices. The error is [ErrLeft], or one of the terminal.
func Ask(ctx context.Context, in, out *os.File, o Options) (*Choice, error) {
	end, err := tea.NewProgram(newModel(o), tea.WithContext(ctx), tea.WithInput(in), tea.WithOutput(out)).Run()
	if err != nil && (errors.Is(err, tea.ErrInterrupted) || ctx.Err() != nil) {
		return nil, ErrLeft
	}
	if err != nil {
		return nil, err
	}
	m := end.(*model)
	if m.step != done {
		return nil, ErrLeft
	}
	return &Choice{m.picked(), m.into}, nil
}

// The steps, in their order.
const (
	folders = iota
	drives
	directory
	done
)

type model struct {
	Options
	width, height int
	step          int
	chosen        map[string]bool // paths of folders
	at            int             // the row that the cursor is on
	fits          []survey.Place  // drives that have the room
	small         []survey.Place  // and those that have not
	place         *survey.Place   // the chosen one; nil before
	input         textinput.Model // a path that is typed
	typing        bool            // in the list of folders
	into          string
	note          string // what the last key came to; empty if it is seen
}

func newModel(o Options) *model {
	m := &model{Options: o, width: 80, height: 24, chosen: map[string]bool{}, input: textinput.New()}
	m.input.Prompt = ""
	m.input.SetVirtualCursor(true)
	for _, path := range o.Chosen {
		m.chosen[path] = true
	}
	return m
}

func (m *model) Init() tea.Cmd { return nil }

func (m *model) Update(msg tea.Msg) (tea.Model, tea.Cmd) {
	switch msg := msg.(type) {
	case tea.WindowSizeMsg:
		m.width, m.height = msg.Width, msg.Height
		m.input.SetWidth(max(10, m.width-12))
	case tea.PasteMsg:
		return m, m.pasted(msg)
	case tea.KeyPressMsg:
		return m.key(msg)
	}
	return m, nil
}

// pasted takes what was dragged in, or pasted.
func (m *model) pasted(msg tea.PasteMsg) tea.Cmd {
	if m.step == folders && !m.typing {
		m.add(msg.Content)
		return nil
	}
	var cmd tea.Cmd
	m.input, cmd = m.input.Update(msg)
	return cmd
}

func (m *model) key(msg tea.KeyPressMsg) (tea.Model, tea.Cmd) {
	m.note = ""
	switch name := msg.String(); {
	case name == "ctrl+c":
		m.step = folders
		return m, tea.Quit
	case name == "esc":
		return m, m.back()
	case name == "enter":
		m.enter()
		if m.step == done {
			return m, tea.Quit
		}
	case m.step == directory || m.typing:
		var cmd tea.Cmd
		m.input, cmd = m.input.Update(msg)
		return m, cmd
	case name == "up":
		m.at = max(0, m.at-1)
	case name == "down":
		m.at = min(m.rows()-1, m.at+1)
	case name == "pgup":
		m.at = max(0, m.at-10)
	case name == "pgdown":
		m.at = min(m.rows()-1, m.at+10)
	case m.step == folders && name == "space":
		m.toggle()
	case m.step == folders && msg.Text != "" && msg.Text != " ":
		m.typing = true // a path, or what a terminal sends of one that is dragged in
		m.input.SetValue(msg.Text)
		return m, m.input.Focus()
	}
	return m, nil
}

func (m *model) rows() int {
	if m.step == drives {
		return len(m.fits)
	}
	return len(m.Folders)
}

// back goes one choice back; from the first it leaves.
func (m *model) back() tea.Cmd {
	switch {
	case m.typing:
		m.typing = false
	case m.step == folders:
		return tea.Quit
	default:
		m.step--
		m.at, m.place = 0, nil
	}
	return nil
}

func (m *model) toggle() {
	if m.at < len(m.Folders) {
		path := m.Folders[m.at].Path
		m.chosen[path] = !m.chosen[path]
	}
}

// picked are the folders that are chosen, in the order in which they are shown.
func (m *model) picked() (out []survey.Folder) {
	for _, f := range m.Folders {
		if m.chosen[f.Path] {
			out = append(out, f)
		}
	}
	return out
}

// add takes a folder that was typed or dragged in, and chooses it.
func (m *model) add(text string) {
	path := typed.Dropped(text, m.Home)
	m.typing = false
	if path == "" {
		return
	}
	f, err := m.Add(path)
	if err != nil {
		m.note = err.Error()
		return
	}
	if at := slices.IndexFunc(m.Folders, func(x survey.Folder) bool { return x.Path == f.Path }); at >= 0 {
		m.at = at
	} else {
		m.Folders, m.at = slices.Insert(m.Folders, 0, f), 0
	}
	m.chosen[f.Path] = true
}

// enter takes what is chosen and goes on to the next choice.
func (m *model) enter() {
	switch {
	case m.typing:
		m.add(m.input.Value())
	case m.step == folders:
		m.chooseFolders()
	case m.step == drives:
		m.chooseDrive()
	case m.step == directory:
		m.chooseDirectory()
	}
}

func (m *model) chooseFolders() {
	if len(m.picked()) == 0 {
		m.toggle() // Enter alone takes the one that the cursor is on
	}
	if len(m.picked()) == 0 {
		m.note = "there is no folder here that could be moved: type the path of one, or drag it in"
		return
	}
	places, err := m.Places(m.picked())
	if err != nil {
		m.note = err.Error()
		return
	}
	m.fits, m.small = nil, nil
	for _, p := range places {
		if p.Short == 0 {
			m.fits = append(m.fits, p)
		} else {
			m.small = append(m.small, p)
		}
	}
	m.step, m.at = drives, 0
}

func (m *model) chooseDrive() {
	if m.at >= len(m.fits) {
		m.note = "no drive here has room for this: Esc goes back; choose less, or plug in a larger drive"
		return
	}
	m.place, m.step = &m.fits[m.at], directory
	m.input.SetValue(strings.TrimPrefix(m.place.Directory(m.Home), strings.TrimSuffix(m.place.Drive.Mount, "/")))
	m.input.CursorEnd()
	m.input.Focus()
}

func (m *model) chooseDirectory() {
	dir := strings.TrimSpace(m.input.Value())
	if err := m.May(m.place, dir); err != nil {
		m.note = err.Error()
		return
	}
	m.into, m.step = m.Typed(m.place, dir), done
}

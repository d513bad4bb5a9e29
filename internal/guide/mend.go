package guide

import (
	"errors"
	"slices"
	"strings"

	"nexlin/internal/finding"
	"nexlin/internal/health"
	"nexlin/internal/mend"
	"nexlin/internal/pathtext"
	"nexlin/internal/screen"
)

// A Mending leads through what a check has found, one cause after the other. No function may
// be nil.
type Mending struct {
	*screen.Screen
	Look   func() ([]*health.Report, error) // at everything there is, anew
	Choose func(title string, things []string) (int, error)
	Mend   func(name string, asked bool) error   // asks before it does something, if it was not asked yet
	End    func(name string, forward bool) error // of a stopped run: finishes it, or takes it back
	Refuse func(error)                           // tells why an act came to nothing
}

// The things that may be done about a cause.
type act int

const (
	mendIt act = iota
	mendAll
	finishRun
	takeBack
	lookAgain
	leaveIt
	stopHere
)

// Lead goes through the causes until none is left that was not left as it is, or the person
// stops. It gives what was found last. The error is [screen.ErrDeclined], or one of looking.
func (m *Mending) Lead() ([]*health.Report, error) {
	passed := map[string]bool{}
	before := ""
	for {
		reports, err := m.Look()
		if err != nil {
			return nil, err
		}
		causes := slices.DeleteFunc(screen.Causes(reports, true), func(c *screen.Cause) bool { return passed[key(c)] })
		if len(causes) == 0 {
			m.end(reports)
			return reports, nil
		}
		c := causes[0]
		if key(c) == before {
			m.Print("%s", screen.Caution.Render("this is still so:"))
		}
		before = key(c)
		a, err := m.ask(c, len(causes)-1, len(reports) > 1)
		if err != nil {
			return reports, err
		}
		switch a {
		case stopHere:
			m.end(reports)
			return reports, nil
		case leaveIt:
			passed[key(c)] = true
		default:
			m.do(a, c)
			m.Print("")
		}
	}
}

// key tells causes apart from one look to the next.
func key(c *screen.Cause) string { return string(c.Found.Code) + " " + strings.Join(c.Names(), " ") }

// ask shows a cause and asks what to do about it; more is how many come after it.
func (m *Mending) ask(c *screen.Cause, more int, named bool) (act, error) {
	m.ShowCause(c, named)
	var things []string
	var acts []act
	may := func(a act, text string) { acts, things = append(acts, a), append(things, text) }
	n := pathtext.Plural(len(c.Of), "redirect", "redirects")
	switch {
	case mend.Mends(c.Found) && len(c.Of) == 1:
		may(mendIt, "mend it: shows first what it will do, and asks")
	case mend.Mends(c.Found):
		may(mendIt, "mend it for "+n+": shows for each what it will do, and asks")
		may(mendAll, "mend it for "+n+" without asking for each")
	case c.Found.Code == finding.RunStopped:
		may(finishRun, "finish the run")
		may(takeBack, "take the run back: all as it was before it")
	}
	may(lookAgain, "look again: I have done what the arrow says")
	may(leaveIt, "leave it as it is for now")
	may(stopHere, "stop here")
	title := "What about this? It is the last."
	if more > 0 {
		title = "What about this? " + pathtext.Plural(int64(more), "cause comes", "causes come") + " after it."
	}
	m.Print("")
	at, err := m.Choose(title, things)
	if err != nil {
		return stopHere, err
	}
	return acts[at], nil
}

// do does what was chosen, for each redirect of the cause. What is refused or fails is told,
// and the next is gone on with.
func (m *Mending) do(a act, c *screen.Cause) {
	for _, name := range c.Names() {
		var err error
		switch a {
		case mendIt, mendAll:
			err = m.Mend(name, a == mendAll)
		case finishRun, takeBack:
			err = m.End(name, a == finishRun)
		}
		if errors.Is(err, screen.ErrDeclined) {
			m.Print("%s was left as it is", screen.Bold.Render(pathtext.Show(name)))
		} else if err != nil {
			m.Refuse(err)
		}
	}
}

// end says what is left.
func (m *Mending) end(reports []*health.Report) {
	left := screen.Causes(reports, true)
	if len(left) == 0 {
		m.Print("%s  nothing is left to be mended", screen.Good.Render("good"))
		return
	}
	m.Print("left as it is:")
	for _, c := range left {
		m.Print("  %s  %s", screen.Bold.Render(pathtext.Show(strings.Join(c.Names(), ", "))), m.Said(c.Found.Message))
	}
	m.Print("  all of it again:   nexlin mend")
}

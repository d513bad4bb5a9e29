package run

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"time"

	"nexlin/internal/finding"
	"nexlin/internal/handle"
	"nexlin/internal/inuse"
	"nexlin/internal/pathtext"
	"nexlin/internal/setting"
)

// A Step is something that is done before or after a move: a command, or a
// question to the person where no command exists.
type Step struct {
	Args   []string      `json:"args"`
	Answer string        `json:"answer"` // what the output must hold; empty: only the exit status counts
	Within time.Duration `json:"within"`
	Ask    string        `json:"ask"`
	Means  string        `json:"means"` // the command in words; may be empty
}

// String is the step as a person reads it.
func (s Step) String() string {
	return cmp.Or(s.Ask, s.Means, strings.Join(s.Args, " "))
}

// A Fact is a value that must be as before.
type Fact struct {
	Name   string         `json:"name"`
	Args   []string       `json:"args"` // its output is the value; nil: the value of Place
	Within time.Duration  `json:"within"`
	Place  *setting.Place `json:"place"`
	MustBe *string        `json:"must_be"` // nil: as before
	Set    []string       `json:"set"`     // sets it to {value}; may be nil
}

// A FactResult is a fact before and after.
type FactResult struct {
	Name          string
	Before, After string
	Set           bool // it had changed, and was set back
}

// A FactError reports a fact that is not as before.
type FactError struct {
	Name         string
	Is, MustBe   string
	CouldNotRead error // nil if it was read
}

func (e *FactError) Error() string {
	if e.CouldNotRead != nil {
		return fmt.Sprintf("%s can't be read: %v", e.Name, e.CouldNotRead)
	}
	return fmt.Sprintf("%s is %q now, and must be %q", e.Name, e.Is, e.MustBe)
}
func (e *FactError) Unwrap() error { return e.CouldNotRead }

// A StepError reports a step that was not done.
type StepError struct {
	Step string
	Err  error
}

func (e *StepError) Error() string {
	if failed := (*inuse.CommandError)(nil); errors.As(e.Err, &failed) { // the step names the command already
		return e.Step + ": " + failed.Cause()
	}
	return fmt.Sprintf("%s: %v", e.Step, e.Err)
}
func (e *StepError) Unwrap() error { return e.Err }

// ErrAnswer reports a command that answered something else, and ErrNotDone a
// person who did not confirm.
var (
	ErrAnswer  = errors.New("it answered something else than expected")
	ErrNotDone = errors.New("this was not confirmed")
)

// An AskFunc asks a person to do something and to confirm it. The error is
// [ErrNotDone] if they did not.
type AskFunc func(ctx context.Context, question string) error

// An Actor is for whom commands are run.
type Actor struct {
	UID  uint32 `json:"uid"`
	GID  uint32 `json:"gid"`
	Name string `json:"name"`
	Home string `json:"home"`
}

// Commands does what cards say: it runs commands, and asks a person where there is no
// command. The zero value knows no environment, and nobody to ask.
type Commands struct {
	Env []string // of commands, as KEY=value; HOME and the account's names are replaced
	Ask AskFunc  // nil: nobody is there
}

// Run runs a command for an account: with its home and name, whoever Nexlin itself
// runs as. A time of 0 stands for a minute.
func (c *Commands) Run(ctx context.Context, who Actor, args []string, within time.Duration) (string, error) {
	env := []string{}
	other := os.Geteuid() == 0 && who.UID != 0
	for _, v := range c.Env {
		switch k, _, _ := strings.Cut(v, "="); {
		case k == "HOME" || k == "USER" || k == "LOGNAME":
		case other && k != "PATH" && k != "LANG" && k != "TZ" && !strings.HasPrefix(k, "LC_"):
			// An administrator's environment is nobody else's business.
		default:
			env = append(env, v)
		}
	}
	if other {
		env = append(env, fmt.Sprintf("XDG_RUNTIME_DIR=/run/user/%d", who.UID))
	}
	env = append(env, "HOME="+who.Home, "USER="+who.Name, "LOGNAME="+who.Name)
	if within <= 0 {
		within = time.Minute
	}
	return inuse.Command{Args: args, Within: within, UID: who.UID, GID: who.GID, Env: env, Dir: who.Home}.Run(ctx)
}

// Do does one step. A *[StepError] if it was not done.
func (c *Commands) Do(ctx context.Context, who Actor, s Step) error {
	if s.Ask != "" {
		if c.Ask == nil {
			return &StepError{s.Ask, ErrNotDone}
		}
		if err := c.Ask(ctx, s.Ask); err != nil {
			return &StepError{s.Ask, err}
		}
		return nil
	}
	out, err := c.Run(ctx, who, s.Args, s.Within)
	if err == nil && s.Answer != "" && !strings.Contains(out, s.Answer) {
		err = fmt.Errorf("%w: %q, not %q", ErrAnswer, pathtext.Show(out), s.Answer)
	}
	if err != nil {
		return &StepError{s.String(), err}
	}
	return nil
}

// Value reads a fact: what its command says, or the values of its place, one a line.
func (c *Commands) Value(ctx context.Context, who Actor, f Fact) (string, error) {
	if f.Place == nil {
		return c.Run(ctx, who, f.Args, f.Within)
	}
	dir, err := handle.OpenReal(filepath.Dir(f.Place.File))
	if err != nil {
		return "", err
	}
	defer dir.Release()
	file, err := setting.Read(dir, filepath.Base(f.Place.File))
	if err != nil {
		return "", err
	}
	vs, err := setting.Values(f.Place.Format, file.Data, f.Place.At)
	var out []string
	for _, v := range vs {
		out = append(out, v.Text)
	}
	return strings.Join(out, "\n"), err
}

// A Use says how to see that the program of a card is at work.
type Use struct {
	Programs []string `json:"programs"`
	Command  *Step    `json:"command"` // may be nil
	Remedy   string   `json:"remedy"`  // what to do if it is not at rest; may be empty
}

// AtRest looks whether a program is at rest; what shows that it is not is a
// finding.
func (c *Commands) AtRest(ctx context.Context, who Actor, u Use) ([]finding.Finding, error) {
	var out []finding.Finding
	if len(u.Programs) > 0 {
		hs, err := inuse.Called(ctx, u.Programs, who.UID, who.UID == 0)
		if err != nil {
			return nil, err
		}
		if len(hs) > 0 {
			out = append(out, finding.New(finding.ProgramRuns, "", "%s is running", inuse.Programs(hs)))
		}
	}
	if u.Command != nil {
		if err := c.Do(ctx, who, *u.Command); err != nil {
			says := "it is not at rest: %s"
			if u.Command.Means != "" {
				says = "it is not at rest, since this is not so: %s"
			}
			f := finding.New(finding.ProgramRuns, "", says, err)
			if u.Remedy != "" {
				f = f.Instead(u.Remedy)
			}
			out = append(out, f)
		}
	}
	return out, nil
}

// FactsOnce reads facts before anything is touched, or says what was read when the run
// began. A *FactError if one can't be read.
func (j *Journal) FactsOnce(ctx context.Context, c *Commands, who Actor, facts []Fact) (map[string]string, error) {
	values := map[string]string{}
	if known, err := j.Last("facts", &values); known || err != nil {
		return values, err
	}
	for _, f := range facts {
		v, err := c.Value(ctx, who, f)
		if err != nil {
			return nil, &FactError{Name: f.Name, CouldNotRead: err}
		}
		values[f.Name] = v
	}
	return values, j.Act(ctx, "facts", values, func() error { return nil }, nil)
}

// SameFacts compares facts with what they were, and sets back those that can
// be. A *FactError if one is not as it must be.
func (c *Commands) SameFacts(ctx context.Context, who Actor, facts []Fact, before map[string]string) ([]FactResult,
	error) {
	var out []FactResult
	for _, f := range facts {
		r := FactResult{Name: f.Name, Before: before[f.Name]}
		want := r.Before
		if f.MustBe != nil {
			want = *f.MustBe
		}
		var err error
		if r.After, err = c.Value(ctx, who, f); err == nil && r.After != want && len(f.Set) > 0 {
			r.Set = true
			if _, err = c.Run(ctx, who, filled(f.Set, want), f.Within); err == nil {
				r.After, err = c.Value(ctx, who, f)
			}
		}
		if err != nil {
			return out, &FactError{Name: f.Name, CouldNotRead: err}
		}
		out = append(out, r)
		if r.After != want {
			return out, &FactError{Name: f.Name, Is: r.After, MustBe: want}
		}
	}
	return out, nil
}

// filled puts a value in the places for it.
func filled(args []string, value string) []string {
	var out []string
	for _, a := range args {
		out = append(out, strings.ReplaceAll(a, "{value}", value))
	}
	return out
}

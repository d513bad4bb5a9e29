package selftest

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"nexlin/internal/drive"
	"nexlin/internal/handle"
)

// A play is one self-test under way.
type play struct {
	ctx   context.Context
	o     *Options
	at    *place
	r     *Result
	scrub *strings.Replacer

	failed  bool
	note    string // what is worth knowing about the step at work; empty for most
	view    *viewer
	want    picture // what the folder should hold
	records string  // where the commands keep theirs
	moves   int     // that were taken back
}

// The folder of the play, by its name as a redirect.
const folder = "nests"

func (p *play) folder() string   { return filepath.Join(p.at.source, "home", folder) }
func (p *play) onDrive() string  { return filepath.Join(p.at.target, fmt.Sprintf("move %d", p.moves+1)) }
func (p *play) moving() []string { return []string{"move", p.folder(), "--into", p.onDrive()} }

// play plays the story, each step on what the one before has left.
func (p *play) play() {
	p.step("try what the two drives keep", p.abilities)
	p.step("make a folder of everything that both keep", p.make)
	p.step("preview a move", p.preview)
	p.step("move it, and compare every entry through the link", p.move)
	p.step("try both paths with a file", func() error { return p.run("try", folder) })
	p.step("take the move back, and compare", p.undo)
	p.step("kill a move half-way, and finish it", p.killed)
	p.step("work in the folder", p.work)
	p.step("find what was written to the held original", p.late)
	p.step("bring that over, and free the held original's room", p.discard)
	p.step("make the link anew after somebody removed it", p.mend)
	p.step("read every byte from the drive", func() error { return p.run("check", "--deep") })
	p.step("bring the folder back, and compare", p.back)
	p.step("free the room on the drive", func() error { return p.run("discard-original", folder) })
}

// abilities tries the two drives, in the directories of the test.
func (p *play) abilities() error {
	for _, s := range []struct {
		side *Side
		at   string
	}{{&p.r.Home, p.at.source}, {&p.r.Target, p.at.target}} {
		d, err := handle.OpenReal(s.at)
		if err != nil {
			return err
		}
		s.side.Keeps, err = drive.Try(d)
		d.Release()
		if err != nil {
			return err
		}
	}
	if p.r.Home.Keeps.Modes || handle.Windows {
		return nil
	}
	// Records are not kept where others could write to them.
	at, err := p.at.make(os.TempDir(), placeName+"-"+drive.NewID()[:8])
	p.records = filepath.Join(at, "records")
	return err
}

func (p *play) make() error {
	for _, dir := range []string{filepath.Dir(p.folder()), p.folder()} {
		if err := os.Mkdir(dir, 0o700); err != nil {
			return err
		}
	}
	d, err := handle.OpenReal(p.folder())
	if err != nil {
		return err
	}
	defer d.Release()
	t := &tree{dir: d, a: &p.r.Home.Keeps, b: &p.r.Target.Keeps}
	if err := t.make(); err != nil {
		return err
	}
	p.r.LeftOut = t.leftOut
	p.view = viewerOf(t.a, t.b)
	p.want, err = p.view.of(p.folder())
	p.r.Entries = len(p.want)
	return err
}

func (p *play) preview() error { return p.accepting(p.moving()...) }

// accepting finds what has to be accepted for a command between these drives, and accepts it.
func (p *play) accepting(words ...string) error {
	for {
		doc, code, err := p.command(append(p.accepted(words...), "--preview")...)
		if err != nil || code == 0 {
			return err
		}
		before := len(p.r.Accepted)
		for _, f := range doc.Findings {
			if f.Severity == "blocker" && strings.Contains(f.Remedy, "--accept "+f.Code) &&
				!slices.Contains(p.r.Accepted, f.Code) {
				p.r.Accepted = append(p.r.Accepted, f.Code)
			}
		}
		if len(p.r.Accepted) == before {
			return doc.problem(code)
		}
	}
}

// accepted is a command with what was accepted.
func (p *play) accepted(words ...string) []string {
	for _, code := range p.r.Accepted {
		words = append(words, "--accept", code)
	}
	return words
}

func (p *play) move() error {
	if err := p.run(p.accepted(p.moving()...)...); err != nil {
		return err
	}
	return p.led()
}

// led wants the folder to be a link, and everything to be there through it.
func (p *play) led() error { return p.stands((*handle.Stat).IsSymlink, "no link") }

// real wants the folder to be a folder again, and everything to be in it.
func (p *play) real() error { return p.stands((*handle.Stat).IsDir, "no folder") }

// stands wants what stands at the link path to be of a kind, and to lead to what it should.
func (p *play) stands(is func(*handle.Stat) bool, missing string) error {
	st, err := handle.Lstat(p.folder())
	if err == nil && !is(&st) {
		err = fmt.Errorf("there is %s at the folder's path", missing)
	}
	if err != nil {
		return err
	}
	return p.compare()
}

// compare wants the folder to hold what it should.
func (p *play) compare() error {
	is, err := p.view.of(p.folder())
	if err == nil {
		if what := p.want.differs(is); what != "" {
			err = errors.New(what)
		}
	}
	return err
}

func (p *play) undo() error {
	doc, _, err := p.command("history")
	if err == nil && len(doc.Runs) == 0 {
		err = errors.New("the history has no run")
	}
	if err == nil {
		err = p.run("undo", doc.Runs[0].ID)
	}
	if err != nil {
		return err
	}
	p.moves++
	if err := p.real(); err != nil {
		return err
	}
	if err := p.run("discard-original", folder); err != nil { // the copy is held
		return err
	}
	return p.real()
}

// killed starts a move, kills it once it copies, and finishes it.
func (p *play) killed() error {
	cmd := p.cmd(p.accepted(p.moving()...)...)
	if err := cmd.Start(); err != nil {
		return err
	}
	ended := make(chan error, 1)
	go func() { ended <- cmd.Wait() }()
	for copying := false; !copying; {
		select {
		case err := <-ended: // it was too quick
			if err != nil {
				return err
			}
			p.note = "it had ended before it could be killed"
			return p.led()
		case <-time.After(5 * time.Millisecond):
			names, err := os.ReadDir(p.onDrive())
			copying = err == nil && len(names) > 0
		}
	}
	time.Sleep(50 * time.Millisecond)
	_ = cmd.Process.Kill() // it may have ended meanwhile
	<-ended
	if err := p.run("resume"); err != nil {
		return err
	}
	if st, err := handle.Lstat(p.folder()); err == nil && st.IsDir() { // it was killed before the run had begun
		return p.move()
	}
	return p.led()
}

// work does through the link what people do.
func (p *play) work() error {
	err := handle.InOrder(
		func() error { return os.WriteFile(filepath.Join(p.folder(), "written"), []byte("new"), 0o644) },
		func() error { return os.WriteFile(filepath.Join(p.folder(), "plain"), []byte("changed"), 0o644) },
		func() error { return os.Remove(filepath.Join(p.folder(), "nothing in it")) },
		func() error {
			return os.Rename(filepath.Join(p.folder(), "many 1"), filepath.Join(p.folder(), "many another"))
		},
	)
	if err == nil {
		p.want, err = p.view.of(p.folder())
	}
	return err
}

// lateName is the file that a program writes to the held original.
const lateName = "late"

func (p *play) late() error {
	doc, _, err := p.command("list")
	if err != nil {
		return err
	}
	if len(doc.Redirects) != 1 || len(doc.Redirects[0].Held) != 1 {
		return errors.New("the list should have one redirect, which holds one original")
	}
	held := doc.Redirects[0].Held[0].Path
	if err := os.WriteFile(filepath.Join(held, lateName), []byte("too late"), 0o644); err != nil {
		return err
	}
	return p.found("late-write")
}

// found wants a check to find something, and nothing graver.
func (p *play) found(finding string) error {
	doc, code, err := p.command("check")
	if err != nil {
		return err
	}
	for _, f := range doc.Findings {
		if f.Code == finding {
			return nil
		}
	}
	return fmt.Errorf("check did not find it (%s): %w", finding, doc.problem(code))
}

func (p *play) discard() error {
	words := []string{"discard-original", folder}
	for _, code := range []string{"changed-since", "gone-at-target"} { // the work above
		words = append(words, "--accept", code)
	}
	if err := p.run(words...); err != nil {
		return err
	}
	now, err := p.view.of(p.folder())
	if err != nil {
		return err
	}
	if _, there := now[lateName]; !there {
		return errors.New("what was written to the held original did not come over")
	}
	p.want[lateName] = now[lateName]
	if what := p.want.differs(now); what != "" {
		return errors.New(what)
	}
	return nil
}

func (p *play) mend() error {
	if err := os.Remove(p.folder()); err != nil {
		return err
	}
	if err := p.found("link-missing"); err != nil {
		return err
	}
	if err := p.run("mend", folder); err != nil {
		return err
	}
	return p.led()
}

func (p *play) back() error {
	if err := p.accepting("bring-back", folder); err != nil {
		return err
	}
	if err := p.run(p.accepted("bring-back", folder)...); err != nil {
		return err
	}
	return p.real()
}

// document is what a test reads of the program's documents.
type document struct {
	Findings []struct{ Code, Severity, Message, Remedy string }
	Error    struct{ Code, Message string }
	Runs     []struct{ ID string }

	Redirects []struct{ Held []struct{ Path string } }

	said string // on standard error
}

// problem says what a command that failed said.
func (d *document) problem(code int) error {
	var out []string
	if d.Error.Message != "" {
		out = append(out, fmt.Sprintf("%s [%s]", d.Error.Message, d.Error.Code))
	}
	for _, f := range d.Findings {
		if f.Severity != "info" && f.Message != d.Error.Message {
			out = append(out, fmt.Sprintf("%s [%s]", f.Message, f.Code))
		}
	}
	if len(out) == 0 {
		out = append(out, strings.TrimSpace(d.said))
	}
	return fmt.Errorf("exit %d: %s", code, strings.Join(out, "; "))
}

// run wants a command to do what it is told.
func (p *play) run(words ...string) error {
	doc, code, err := p.command(words...)
	if err == nil && code != 0 {
		err = doc.problem(code)
	}
	return err
}

// command runs one and reads its document.
func (p *play) command(words ...string) (*document, int, error) {
	cmd := p.cmd(words...)
	var out, said bytes.Buffer
	cmd.Stdout, cmd.Stderr = &out, &said
	err := cmd.Run()
	var exit *exec.ExitError
	if err != nil && !errors.As(err, &exit) {
		return nil, 0, err
	}
	if err := p.ctx.Err(); err != nil {
		return nil, 0, err
	}
	doc := &document{said: said.String()}
	code := cmd.ProcessState.ExitCode()
	if err := json.Unmarshal(out.Bytes(), doc); err != nil {
		return nil, 0, fmt.Errorf("%s ended with %d and said: %s", words[0], code, strings.TrimSpace(doc.said))
	}
	return doc, code, nil
}

// cmd prepares a command of the program, with records of its own, apart from the person's.
func (p *play) cmd(words ...string) *exec.Cmd {
	args := append([]string{"--state-dir", p.records, "--tags-below", p.at.target, "--json", "--yes", "--quiet"},
		append(slices.Clone(p.o.Args), words...)...)
	cmd := exec.CommandContext(p.ctx, p.o.Program, args...)
	for _, v := range p.o.Env {
		if !strings.HasPrefix(v, "NEXLIN_") {
			cmd.Env = append(cmd.Env, v)
		}
	}
	cmd.Dir = p.o.Home
	endsWithUs(cmd)
	return cmd
}

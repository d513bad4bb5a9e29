package cli

import (
	"fmt"

	"nexlin/internal/ask"
	"nexlin/internal/screen"
)

// person is who sits at the terminal, if anybody does.
func (a *app) person() *ask.Person {
	return &ask.Person{Ctx: a.ctx, In: a.in, Out: a.Err, Raw: a.RawErr}
}

// terminal reports whether questions can be asked.
func (a *app) terminal() bool { return a.person().Present() }

// confirm asks a question with yes or no. Without a terminal the consent is
// missing, unless --yes was given and the question is a usual one.
func (a *app) confirm(question string, usual bool, flag string) error {
	if usual && a.yes {
		return nil
	}
	if a.AsJSON || !a.terminal() {
		return fmt.Errorf("%w: %s (%s says yes)", screen.ErrConsent, question, flag)
	}
	return a.person().Confirm(question)
}

// goOn settles whether what was shown is done: not if something blocks it, nor
// for a preview; else it asks. stop says that all is said.
func (a *app) goOn(blocked error, preview bool, question string) (stop bool, err error) {
	switch {
	case blocked != nil:
		return true, blocked
	case preview:
		a.SayPreview()
		return true, nil
	}
	return false, a.confirm(question, true, "--yes")
}

// docIf is a document where there is no error in its place.
func docIf(err error, d screen.Doc) screen.Doc {
	if err != nil {
		return nil
	}
	return d
}

// emitIf prints a document, if one is wanted and nothing went wrong.
func (a *app) emitIf(err error, d screen.Doc) error {
	if err != nil || !a.AsJSON {
		return err
	}
	return a.emit(d)
}

package planning

import (
	"context"
	"fmt"
	"runtime"
	"slices"
	"time"

	"nexlin/internal/card"
	"nexlin/internal/draft"
	"nexlin/internal/engine"
	"nexlin/internal/handle"
	"nexlin/internal/inventory"
	"nexlin/internal/typed"
)

// An OfCard is what is on this machine of what a card is about.
type OfCard struct {
	Card  card.Card
	Here  bool  // one of its folders is
	Bytes int64 // that they take; what can't be read is left out
	Files int64
}

// Overview looks for what cards are about below a home: those of the account, and those that ship and
// say something of this system. A folder that is a link elsewhere counts as here, and takes nothing.
func Overview(ctx context.Context, e *engine.Engine, home string) (out []OfCard, err error) {
	for _, c := range e.Cards {
		if c.File == "" && !c.Says(runtime.GOOS) {
			continue
		}
		u, err := CardFor(c, home)
		if err != nil {
			return nil, err
		}
		of := OfCard{Card: c}
		u.eachHere(func(_ *card.Folder, at string, st handle.Stat) {
			if of.Here = true; st.IsDir() && err == nil {
				err = of.measure(ctx, at)
			}
		})
		if err != nil {
			return nil, err
		}
		out = append(out, of)
	}
	return out, nil
}

func (o *OfCard) measure(ctx context.Context, at string) error {
	d, err := handle.OpenReal(at)
	if err != nil {
		return nil // what can't be looked into takes nobody knows what
	}
	defer d.Release()
	f, err := inventory.Measure(ctx, d, inventory.Options{SkipDeep: true})
	if ctx.Err() != nil {
		return ctx.Err()
	}
	if err == nil {
		o.Bytes, o.Files = o.Bytes+f.Allocated, o.Files+f.Files
	}
	return nil
}

// DraftCard looks at a folder for a card, which is called as the folder unless named gives one name. A
// *[typed.MistypedError] if the name is none for a
// card, is taken, or the folder is none.
func DraftCard(ctx context.Context, e *engine.Engine, named []string, folder, home string) (*draft.Draft, error) {
	name := draft.Named(folder)
	if len(named) > 0 {
		name = named[0]
	}
	says := func(format string, args ...any) error {
		return &typed.MistypedError{What: fmt.Sprintf(format, args...)}
	}
	if !card.IsName(name) {
		return nil, says("a card's name has small letters, digits and -, at most 40 of them: %q has not", name)
	}
	if i := slices.IndexFunc(e.Cards, func(c card.Card) bool { return c.Name == name }); i >= 0 {
		what := "one that ships with Nexlin"
		if e.Cards[i].File != "" {
			what = e.Cards[i].File
		}
		return nil, says("there is a card %s already: %s", name, what)
	}
	st, err := handle.Lstat(folder)
	switch {
	case err != nil:
		return nil, err
	case !st.IsDir():
		return nil, says("%s is no folder, or a link to one", folder)
	}
	if own := e.HomeOf(folder); own != "" {
		home = own
	}
	vars, err := card.Variables(home)
	if err != nil {
		return nil, err
	}
	return draft.Look(ctx, name, folder, vars, time.Now())
}

package engine

import (
	"context"
	"errors"

	"duskyharbor/internal/core/filter"
	"duskyharbor/internal/core/stage"
	"duskyharbor/internal/core/trouble"
	"duskyharbor/internal/store"
)

// chainsAtOnce is how many runs go on in one round.
const chainsAtOnce = 20

// All is what a query is called that selects all of a site.
const All = "all"

// Reads says whether this version reads a stage of a selection.
func (e *Engine) Reads(st stage.Stage) bool { return e.Does(st) && e.manner(st).Of != Nothing }

// goOn has runs that ended go on with their next stage: each reads what of the query can be read by then, and what
// can't needs a person, which its marks say. Which server does it doesn't matter: one of several that ask begins the
// next run. A chain ends where nothing can be read.
func (e *Engine) goOn(ctx context.Context) error {
	due, err := e.store.ChainsDue(ctx, chainsAtOnce)
	for _, c := range due {
		sel := store.Selection{Site: c.SiteID}
		if c.AskedOf != All {
			sel.Filter = filter.Parse(c.AskedOf)
		}
		ask := Ask{Site: c.SiteID, Stage: c.Then[0], Then: c.Then[1:], Person: c.Person, Token: c.Token, AskedOf: c.AskedOf,
			after: c.ID, chain: c.Chain}
		_, began := e.Read(ctx, ask, sel, false, 0)
		switch {
		case began == nil, errors.Is(began, store.ErrGoneOn):
		case errors.As(began, new(trouble.UserError)), errors.Is(began, store.ErrNotFound):
			err = errors.Join(err, e.store.EndChain(ctx, c.ID))
		default:
			err = errors.Join(err, began)
		}
	}
	return err
}

package setup

import (
	"context"
	"errors"
	"slices"

	"duskyharbor/internal/act"
	"duskyharbor/internal/core/stage"
	"duskyharbor/internal/core/trouble"
	"duskyharbor/internal/store"
)

// findings are what a person says of a finding, of whatever stage.
func findings() []act.Any {
	return []act.Any{
		act.Act[Acceptance]{Name: "findings/accept", About: "live with a finding, or take that back", Keep: accept},
	}
}

// Acceptance names a finding of a camera that is lived with.
type Acceptance struct {
	act.Camera
	Stage string `form:"stage" json:"stage"`
	Code  string `form:"code" json:"code"`
	Off   bool   `form:"off" json:"off,omitempty"` // it isn't any more
}

// accept keeps a person's word that a finding stands and is lived with, or takes it back.
func accept(ctx context.Context, c *act.Call, x Acceptance) (act.Kept, error) {
	_, of, err := c.Camera(ctx, x.Source)
	if err != nil {
		return act.Kept{}, err
	}
	st, ok := stage.Parse(x.Stage)
	if !ok {
		return act.Kept{}, store.ErrNotFound
	}
	judge := []int64{of.Device.ID}
	if x.Off {
		err := c.Store.Unaccept(ctx, of, st, x.Code)
		if errors.Is(err, store.ErrNotFound) {
			err = trouble.UserError("Nobody accepts that finding: there is nothing to take back.")
		}
		return act.Kept{Says: "The finding needs a person again.", Did: "took back that a finding is accepted", Detail: of.Place + ": " + x.Code, Judge: judge}, err
	}
	found, err := c.Store.FindingsOf(ctx, of, st, 50)
	if err != nil {
		return act.Kept{}, err
	}
	i := slices.IndexFunc(found, func(o store.FindingOf) bool { return o.Code == x.Code })
	if i < 0 {
		return act.Kept{}, trouble.UserError("That finding is gone: nothing is left to accept.")
	}
	return act.Kept{Says: "It is accepted: it stays as a note, with your name.", Did: "accepted a finding", Detail: of.Place + ": " + found[i].Sentence, Judge: judge},
		c.Store.Accept(ctx, of, st, x.Code, c.Person)
}

package prove

import (
	"context"

	"duskyharbor/internal/act"
	"duskyharbor/internal/core/stage"
	"duskyharbor/internal/core/trouble"
	"duskyharbor/internal/store"
)

// Acts of the stage.
func (p *Stage) Acts() []act.Any {
	return []act.Any{act.Act[Walk]{Name: "prove/walk", About: "begin a walk test", Stage: stage.Prove, Runs: true, Keep: p.walk}}
}

// Walk is a walk test of a camera.
type Walk struct {
	act.Camera
	Tell bool `form:"tell" json:"tell,omitempty"` // the stand-in is told to walk: of a demo site alone
}

func (p *Stage) walk(ctx context.Context, c *act.Call, x Walk) (act.Kept, error) {
	_, of, err := c.Camera(ctx, x.Source)
	if err != nil {
		return act.Kept{}, err
	}
	if x.Tell && !c.Site.Demo {
		return act.Kept{}, trouble.UserError("Only a demo site's stand-ins can be told to walk.")
	}
	n := store.NewRun{Site: c.Site.ID, Stage: stage.Prove, Act: store.Prove, Title: "Walk test at " + of.Place, Person: c.Person, Token: c.Token,
		Of: []store.Target{{Device: of.Device.ID, Source: of.ID}}}
	return act.Kept{After: func(ctx context.Context) (int64, error) { return p.Engine.Begin(ctx, n, x.Tell) }}, nil
}

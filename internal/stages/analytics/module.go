package analytics

import (
	"context"
	"errors"
	"fmt"
	"time"

	"duskyharbor/internal/act"
	"duskyharbor/internal/core/finding"
	"duskyharbor/internal/core/rule"
	"duskyharbor/internal/engine"
	"duskyharbor/internal/facts"
	"duskyharbor/internal/store"
)

// Sensitivity is how much must change in the pictures of cameras for their cells to count as moving: the more, the less.
type Sensitivity struct {
	act.Selection
	Value int `form:"sensitivity" json:"sensitivity"` // 0 to 100
}

// Check is what is wrong with it.
func (x Sensitivity) Check() error {
	if x.Value < 0 || x.Value > 100 {
		return act.Wrong("sensitivity", "A sensitivity is from 0 to 100.")
	}
	return nil
}

func planSensitivity(_ time.Time, s *act.Seen, x Sensitivity) (p act.Planned, err error) {
	for _, of := range s.Of {
		e, read := facts.RuleSet.Of(s.Snapshot, of)
		c, err := rule.SetSensitivity(e.Token, e.Modules, x.Value)
		switch {
		case !read:
			p.Refuse(of.Place, "its analytics weren't read")
		case errors.Is(err, rule.ErrRule):
			p.Refuse(of.Place, "it tells of no sensitivity to motion")
		case err != nil:
			return p, err
		case !writable(s.Snapshot, of):
			p.Refuse(of.Place, "no account opens its settings")
		case c == nil:
			p.Idle++
		default:
			p.Add(of, []finding.Change{*c})
		}
	}
	p.Title = fmt.Sprintf("Set the sensitivity to motion of %s to %d", act.Count(len(p.Of), "camera"), x.Value)
	return p, nil
}

// moduleEditor reads and writes a parameter of an analytics module.
func (a *Stage) moduleEditor(ctx context.Context, v *engine.Visit, c store.Change) (engine.Editor, error) {
	s, err := v.Snapshot(ctx)
	if err != nil {
		return nil, err
	}
	cam, err := a.seatOf(ctx, s, v.Source)
	if err != nil {
		return nil, err
	}
	services := cam.services
	token, module, parameter := c.Args["token"], c.Args["module"], c.Args["parameter"]
	return engine.EditorFuncs{
		ReadFunc: func(ctx context.Context) (string, error) {
			all, err := cam.Modules(ctx, services, token)
			if err != nil {
				return "", err
			}
			for _, m := range all {
				if m.Name == module {
					return m.Values[parameter], nil
				}
			}
			return "no such module", nil
		},
		WriteFunc: func(ctx context.Context) error {
			return cam.ModifyModule(ctx, services, token, module, parameter, c.ToText)
		},
		Shut: cam.Close,
	}, nil
}

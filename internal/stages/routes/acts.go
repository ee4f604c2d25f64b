package routes

import (
	"time"

	"duskyharbor/internal/act"
	"duskyharbor/internal/core/finding"
	"duskyharbor/internal/core/route"
	"duskyharbor/internal/core/stage"
	"duskyharbor/internal/core/trouble"
	"duskyharbor/internal/facts"
)

// Acts of the stage.
func (r *Stage) Acts() []act.Any {
	return []act.Any{act.Act[Peg]{Name: "routes/peg", About: "peg a camera's topic to an input of its channel, or take the peg out", Stage: stage.Routes, Plan: planPeg}}
}

// Peg is where a topic meets an input: where there is one it is taken out.
type Peg struct {
	act.Camera
	Topic string `form:"topic" json:"topic"`
	Input string `form:"input" json:"input"`
}

func planPeg(_ time.Time, s *act.Seen, x Peg) (p act.Planned, err error) {
	of, err := s.The()
	if err != nil {
		return p, err
	}
	ch, ok := route.Turn(facts.ForRoutes(s.Snapshot, of), route.Peg{Topic: x.Topic, Input: x.Input})
	if !ok {
		return p, trouble.UserError("That topic or input isn't there any more: read the routes again.")
	}
	p.Title = of.Place + ": " + ch.Title
	p.Add(of, []finding.Change{ch})
	return p, nil
}

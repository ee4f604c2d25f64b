package web

import (
	"context"
	"slices"
	"strconv"

	"duskyharbor/internal/core/finding"
	"duskyharbor/internal/core/route"
	"duskyharbor/internal/core/stage"
	"duskyharbor/internal/core/topic"
)

// routesData is the peg field of one camera.
type routesData struct {
	Cameras []row
	Chosen  *row
	Inputs  []string
	Topics  []topicRow
	Facts   route.Facts
	Suggest []finding.Change
	Waiting int
	Can     int
	Width   int
}

type topicRow struct {
	Topic, Title, Short string
	Lasts               string
	Cells               []pegCell
}

type pegCell struct {
	Input     string
	On        bool
	Suggested bool
}

func (s *Server) routesPage(_ context.Context, p *scenePage) (string, error) {
	d := routesData{Can: len(readable(p.view, stage.Routes))}
	want, _ := strconv.ParseInt(p.URL.Query().Get("camera"), 10, 64)
	for _, r := range p.rows {
		if f := p.view.Routes(r.Device); f.LookedAt.IsZero() {
			d.Waiting++
			continue
		}
		d.Cameras = append(d.Cameras, r)
	}
	for i := range d.Cameras {
		if d.Chosen == nil || d.Cameras[i].Device.ID == want {
			d.Chosen = &d.Cameras[i]
		}
	}
	if d.Chosen != nil {
		d.Facts = p.view.Routes(d.Chosen.Device)
		d.Inputs, d.Suggest = d.Facts.Inputs, d.Chosen.Proposals[stage.Routes]
		d.Topics = topicRows(d.Facts)
		d.Width = 310 + 58*len(d.Inputs)
	}
	p.Data = d
	return "routes", nil
}

func topicRows(f route.Facts) []topicRow {
	suggested := map[string]string{}
	for _, s := range topic.Suggest(f.Topics, f.Inputs) {
		suggested[s.Topic] = s.Input
	}
	var out []topicRow
	for _, t := range f.Topics {
		r := topicRow{Topic: t.Topic, Title: topic.Title(t.Topic), Short: topic.Short(t.Topic), Lasts: "once"}
		if t.Property {
			r.Lasts = "lasts"
		}
		for _, in := range f.Inputs {
			on := slices.Contains(f.Pegs, route.Peg{Topic: t.Topic, Input: in})
			r.Cells = append(r.Cells, pegCell{in, on, !on && suggested[t.Topic] == in})
		}
		out = append(out, r)
	}
	return out
}

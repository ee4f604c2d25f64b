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
	Tabs    []row
	More    int // cameras without a tab
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

func (s *Server) routesPage(ctx context.Context, p *scenePage) (string, error) {
	if err := s.look(ctx, p); err != nil {
		return "", err
	}
	var d routesData
	var err error
	if d.Can, err = s.can(ctx, p, stage.Routes); err != nil {
		return "", err
	}
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
	d.Tabs, d.More = tabsOf(d.Cameras, d.Chosen)
	if d.Chosen != nil {
		d.Facts = p.view.Routes(d.Chosen.Device)
		d.Inputs, d.Suggest = d.Facts.Inputs, d.Chosen.Proposals
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

// maxTabs is how many cameras a page offers side by side; the filter reaches the rest.
const maxTabs = 8

// tabsOf picks the cameras that get a tab, the chosen one among them.
func tabsOf(all []row, chosen *row) (tabs []row, more int) {
	tabs = all[:min(len(all), maxTabs)]
	if chosen != nil && !slices.ContainsFunc(tabs, func(r row) bool { return r.Device.ID == chosen.Device.ID }) {
		tabs = append(slices.Clone(tabs[:maxTabs-1]), *chosen)
	}
	return tabs, len(all) - len(tabs)
}

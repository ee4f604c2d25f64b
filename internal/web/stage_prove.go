package web

import (
	"context"
	"fmt"
	"strconv"
	"strings"
	"time"

	"duskyharbor/internal/core/proof"
	"duskyharbor/internal/core/route"
	"duskyharbor/internal/core/rule"
	"duskyharbor/internal/core/topic"
	"duskyharbor/internal/site"
	"duskyharbor/internal/store"
)

// proveData is one camera's walk.
type proveData struct {
	Cameras []row
	Tabs    []row
	More    int
	Chosen  *row
	Ready   bool // a route is there to walk
	Peg     string
	Test    *proof.Test
	Bars    []waterfall
	Passed  bool
	Running bool
	Rules   []drawing
	Before  []store.Proof
	Nth     int
	Demo    bool
}

type waterfall struct {
	Name, Took, Verdict, Class, Within string
	X, W                               float64
}

// drawing is a rule on the camera's picture, in a frame of 1000 × 562.
type drawing struct {
	Name   string
	Points string
	Area   bool
}

func (s *Server) provePage(ctx context.Context, p *scenePage) (string, error) {
	if err := s.look(ctx, p); err != nil {
		return "", err
	}
	d := proveData{Demo: p.view.Site.Demo}
	want, _ := strconv.ParseInt(p.URL.Query().Get("camera"), 10, 64)
	for _, r := range p.rows {
		if f := p.view.Routes(r.Device); len(f.Pegs) > 0 {
			d.Cameras = append(d.Cameras, r)
		}
	}
	for i := range d.Cameras {
		if d.Chosen == nil || d.Cameras[i].Device.ID == want {
			d.Chosen, d.Nth = &d.Cameras[i], i+1
		}
	}
	d.Tabs, d.More = tabsOf(d.Cameras, d.Chosen)
	p.Data = &d
	if d.Chosen == nil {
		return "prove", nil
	}
	dev := d.Chosen.Device
	if g, ok := route.Walked(p.view.Routes(dev)); ok {
		d.Peg, d.Ready = topic.Title(g.Topic)+" → "+g.Input, true
	}
	rules, _ := site.Rules.Of(p.view, dev.ID)
	d.Rules = drawings(rules)
	if last, ok := p.view.Proofs[dev.SourceID]; ok {
		t := &last.Test
		d.Test, d.Running = t, t.Ended.IsZero()
		bars := proof.Judge(p.Now, *t, dev.Place)
		d.Passed = proof.Passed(bars) && t.Trouble == ""
		d.Bars = waterfalls(bars)
	}
	var err error
	d.Before, err = s.store.ProofsOf(ctx, dev.SourceID, 6)
	return "prove", err
}

func waterfalls(bars []proof.Bar) []waterfall {
	end := 4 * time.Second
	for _, b := range bars {
		end = max(end, b.To)
	}
	var out []waterfall
	for _, b := range bars {
		w := waterfall{Name: legName(b.Leg), Verdict: string(b.Verdict), Class: "blocked", Took: "–", Within: fmt.Sprintf("≤ %.0f s", proof.Within(b.Leg).Seconds())}
		w.X = 100 * float64(b.From) / float64(end)
		w.W = max(1.2, 100*float64(b.To-b.From)/float64(end))
		switch b.Verdict {
		case proof.OnTime:
			w.Class = "ready"
		case proof.Late, proof.Twice, proof.Wrong:
			w.Class = "needs"
		case proof.Waiting:
			w.Class = "working"
		}
		if b.Verdict != proof.Waiting && b.Verdict != proof.Missed {
			w.Took = took(b)
		}
		out = append(out, w)
	}
	return out
}

// took is a leg's time with its error; one below its error is said to be under it.
func took(b proof.Bar) string {
	switch {
	case b.Took < b.Error:
		return fmt.Sprintf("under %.2f s", b.Error.Seconds())
	case b.Error > 5*time.Millisecond:
		return fmt.Sprintf("%.2f s ± %.2f", b.Took.Seconds(), b.Error.Seconds())
	case b.Took < 10*time.Millisecond:
		return "under 0.01 s"
	}
	return fmt.Sprintf("%.2f s", b.Took.Seconds())
}

func drawings(rules []rule.Rule) []drawing {
	var out []drawing
	for _, r := range rules {
		points := r.Line
		if r.Kind == rule.Inside {
			points = []scenePoint(r.Area)
		}
		var b strings.Builder
		for _, q := range points {
			fmt.Fprintf(&b, "%.1f,%.1f ", (q.X+1)*500, (1-q.Y)*281)
		}
		out = append(out, drawing{r.Name, strings.TrimSpace(b.String()), r.Kind == rule.Inside})
	}
	return out
}

package web

import (
	"context"
	"fmt"
	"math"
	"strconv"

	"duskyharbor/internal/core/stage"
	"duskyharbor/internal/core/stream"
)

// streamsData is declared beside measured.
type streamsData struct {
	Rows    []streamRow
	Chosen  *streamRow
	Can     int
	Waiting int
}

type streamRow struct {
	Row      row
	Profiles []profileRow
	Still    bool
	Read     bool
}

type profileRow struct {
	stream.Profile
	M        *stream.Measured
	Role     string
	Bars     []pair
	Recorder string
}

// pair is one declared and one measured figure, as bars of 100.
type pair struct {
	Name               string
	Declared, Measured string
	D, M               float64
	Off                bool
}

func (s *Server) streamsPage(ctx context.Context, p *scenePage) (string, error) {
	if err := s.look(ctx, p); err != nil {
		return "", err
	}
	var d streamsData
	want, _ := strconv.ParseInt(p.URL.Query().Get("camera"), 10, 64)
	for _, r := range p.rows {
		x := streamRowOf(p, r)
		if x.Read {
			d.Rows = append(d.Rows, x)
		} else {
			d.Waiting++
		}
	}
	for i := range d.Rows {
		if d.Chosen == nil || d.Rows[i].Row.Device.ID == want {
			d.Chosen = &d.Rows[i]
		}
	}
	var err error
	d.Can, err = s.can(ctx, p, stage.Streams)
	p.Data = d
	return "streams", err
}

func streamRowOf(p *scenePage, r row) streamRow {
	f, w := p.view.Streams(r.Device)
	x := streamRow{Row: r, Read: !f.LookedAt.IsZero()}
	record, view := stream.Roles(f.Profiles, w.Codecs)
	for _, pr := range f.Profiles {
		_, m, _ := f.Find(pr.Token)
		q := profileRow{Profile: pr, M: m, Recorder: w.Recorder}
		switch pr.Token {
		case record:
			q.Role = "record"
		case view:
			q.Role = "view"
		}
		x.Still = x.Still || pr.Snapshot != ""
		if m != nil && m.Trouble == "" {
			q.Bars = bars(pr, *m)
		}
		x.Profiles = append(x.Profiles, q)
	}
	return x
}

func bars(p stream.Profile, m stream.Measured) []pair {
	scale := func(name string, d, v, full float64, unit string, limit bool) pair {
		word := fmt.Sprintf("%.0f %s", d, unit)
		if limit {
			word = "≤ " + word
		}
		measured := fmt.Sprintf("%.0f %s", v, unit)
		if v != math.Trunc(v) && v < 100 {
			measured = fmt.Sprintf("%.1f %s", v, unit)
		}
		off := !limit && stream.RateDiffers(d, v) || limit && stream.OverLimit(d, v)
		return pair{name, word, measured, 100 * d / full, 100 * v / full, off}
	}
	top := func(a, b float64) float64 { return math.Max(1, 1.15*math.Max(a, b)) }
	px := float64(p.Width * p.Height)
	mpx := float64(m.Width * m.Height)
	size := pair{"Size", fmt.Sprintf("%d × %d", p.Width, p.Height), fmt.Sprintf("%d × %d", m.Width, m.Height), 100 * px / top(px, mpx), 100 * mpx / top(px, mpx), p.Width != m.Width || p.Height != m.Height}
	key := 0.0
	if p.FPS > 0 {
		key = float64(p.GOP) / p.FPS
	}
	keys := pair{"Key frame every", fmt.Sprintf("%.1f s", key), fmt.Sprintf("%.1f s", m.KeyEvery.Seconds()), 100 * key / top(key, m.KeyEvery.Seconds()), 100 * m.KeyEvery.Seconds() / top(key, m.KeyEvery.Seconds()), stream.KeysTooFar(m.KeyEvery)}
	return []pair{size, scale("Frame rate", p.FPS, m.FPS, top(p.FPS, m.FPS), "/s", false), scale("Bit rate, mean", float64(p.Kbps), m.MeanKbps, top(float64(p.Kbps), m.MeanKbps), "kbit/s", true), keys}
}

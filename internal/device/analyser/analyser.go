// Package analyser is the client of the analyser interface (HTTP and JSON over TLS, described in docs/analyser-interface.yaml): which
// views one looks at, and the stills that it is sent of them. Its rules and what it sees are ONVIF's.
package analyser

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"math"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"time"

	"duskyharbor/internal/core/clock"
	"duskyharbor/internal/core/known"
	"duskyharbor/internal/core/pairing"
	"duskyharbor/internal/core/rule"
	"duskyharbor/internal/core/scene"
	"duskyharbor/internal/device/dial"
)

// Port of the analyser interface.
const Port = 8443

const (
	callLimit  = 8 * time.Second
	stillLimit = 5 * time.Second
	maxJSON    = 1 << 20
	maxViews   = 1000
	maxClasses = 64
	// MaxStill is how many bytes a still has at the most that is sent, whatever an analyser would take.
	MaxStill = 4 << 20
)

// Client speaks to one analyser. It is safe for several goroutines.
type Client struct {
	on, base, pin string
	session       *dial.Session
}

// New makes a client. pin is the certificate's fingerprint seen before; empty trusts the first, which Pin then tells.
func New(host dial.Host, pin string, login dial.Login) *Client {
	c := &Client{on: host.Addr.String(), base: fmt.Sprintf("https://%s:%d", host.Addr, Port), pin: pin}
	c.session = host.Session(&c.pin, login.Try, dial.Digest(login.Username, login.Password))
	return c
}

// Pin is the fingerprint of the certificate that it showed.
func (c *Client) Pin() string { return c.pin }

// Close lets idle connections go.
func (c *Client) Close() { c.session.Close() }

// status is the wire's.
type status struct {
	Name     string       `json:"name"`
	Make     string       `json:"make"`
	Model    string       `json:"model"`
	Serial   string       `json:"serial"`
	Firmware string       `json:"firmware"`
	Clock    time.Time    `json:"clock"`
	Takes    []string     `json:"takes"`
	Classes  []string     `json:"classes"`
	Knows    []string     `json:"knows"`
	Limits   limits       `json:"limits"`
	Load     float64      `json:"load"`
	Views    []viewStatus `json:"views"`
}

type limits struct {
	Views     int     `json:"views"`
	Licences  int     `json:"licences"`
	Width     int     `json:"width"`
	Height    int     `json:"height"`
	PerSecond float64 `json:"per_second"`
	Bytes     int     `json:"bytes"`
}

type viewStatus struct {
	ID            string    `json:"id"`
	Name          string    `json:"name"`
	PerSecond     float64   `json:"per_second"`
	LeastScore    float64   `json:"least_score"`
	Within        corners   `json:"within"`
	Configuration string    `json:"configuration"`
	Metadata      string    `json:"metadata"`
	Waiting       int       `json:"waiting"`
	Behind        float64   `json:"behind_seconds"`
	Taken         int       `json:"taken"`
	Looked        int       `json:"looked"`
	Refused       int       `json:"refused"`
	LastAt        time.Time `json:"last_at"`
}

// corners are an area's, each across and down in hundredths of the picture from its upper left one; none: the whole picture.
type corners [][2]float64

// maxCorners is how many an area has at the most.
const maxCorners = 64

func cornersOf(text string) (corners, error) {
	all, err := rule.ParsePoints(text)
	out := corners{}
	for _, p := range all {
		out = append(out, [2]float64{(p.X + 1) * 50, (1 - p.Y) * 50})
	}
	return out, err
}

func (c corners) text() string {
	var all []scene.Point
	for _, p := range c[:min(len(c), maxCorners)] {
		all = append(all, scene.Point{X: figure(p[0], 100)/50 - 1, Y: 1 - figure(p[1], 100)/50})
	}
	return rule.FormatPoints(all)
}

// count is a number of the wire within what can be.
func count(n int) int { return min(max(n, 0), 1<<20) }

// figure is a number of the wire from 0 to most; what is none is 0.
func figure(x, most float64) float64 {
	if math.IsNaN(x) {
		return 0
	}
	return min(max(x, 0), most)
}

func (s status) analyser() pairing.Analyser {
	clean := func(t string) string { return dial.CleanText(t, 128) }
	a := pairing.Analyser{Name: clean(s.Name), Make: clean(s.Make), Model: clean(s.Model), Serial: clean(s.Serial), Firmware: clean(s.Firmware), Running: pairing.Running{Load: figure(s.Load, 1), Views: map[string]pairing.Queue{}},
		Limits: pairing.Limits{Views: count(s.Limits.Views), Licences: count(s.Limits.Licences), Width: count(s.Limits.Width), Height: count(s.Limits.Height),
			PerSecond: figure(s.Limits.PerSecond, 1e6), Bytes: min(max(s.Limits.Bytes, 0), MaxStill)}}
	for _, class := range s.Classes[:min(len(s.Classes), maxClasses)] {
		if class = dial.CleanText(class, 32); class != "" {
			a.Classes = append(a.Classes, class)
		}
	}
	for _, k := range known.Kinds {
		if slices.Contains(s.Knows, string(k)) {
			a.Knows = append(a.Knows, k)
		}
	}
	for _, v := range s.Views[:min(len(s.Views), maxViews)] {
		a.Views = append(a.Views, pairing.View{ID: clean(v.ID), Name: clean(v.Name), PerSecond: figure(v.PerSecond, 1000), LeastScore: figure(v.LeastScore, 1), Within: v.Within.text(), Token: clean(v.Configuration),
			Metadata: dial.CleanText(v.Metadata, 512)})
		a.Running.Views[clean(v.ID)] = pairing.Queue{Waiting: count(v.Waiting), Behind: time.Duration(figure(v.Behind, 1e6) * float64(time.Second)),
			Taken: max(0, v.Taken), Looked: max(0, v.Looked), Refused: max(0, v.Refused), LastAt: v.LastAt.UTC()}
	}
	return a
}

// Status reads what it tells of itself, and its clock against this server's.
func (c *Client) Status(ctx context.Context) (pairing.Analyser, clock.Reading, error) {
	var s status
	sent := time.Now()
	if err := c.do(ctx, http.MethodGet, "/api/status", "application/json", nil, &s, callLimit); err != nil {
		return pairing.Analyser{}, clock.Reading{}, err
	}
	received := time.Now()
	a := s.analyser()
	a.At = received.UTC()
	if s.Clock.IsZero() {
		return a, clock.Reading{}, nil
	}
	r := clock.Reading{At: a.At, Device: s.Clock, Offset: clock.Exact(sent, received, s.Clock)}
	a.Running.Timed, a.Running.Ahead = true, r.Offset.Mid()
	return a, r, nil
}

// Pair has it look at a view; again with the same wish it changes nothing.
func (c *Client) Pair(ctx context.Context, id, name string, w pairing.Wish) error {
	area, err := cornersOf(w.Within)
	if err != nil {
		return err
	}
	in, err := json.Marshal(map[string]any{"name": name, "per_second": w.PerSecond, "least_score": w.LeastScore, "within": area})
	if err != nil {
		return err
	}
	return c.do(ctx, http.MethodPut, "/api/views/"+url.PathEscape(id), "application/json", in, nil, callLimit)
}

// Unpair has it look at a view no more.
func (c *Client) Unpair(ctx context.Context, id string) error {
	return c.do(ctx, http.MethodDelete, "/api/views/"+url.PathEscape(id), "application/json", nil, nil, callLimit)
}

// Still gives it a still of a view, with when it was taken. What it has no room for is refused.
func (c *Client) Still(ctx context.Context, id string, at time.Time, jpeg []byte) error {
	q := url.Values{"at": {at.UTC().Format(time.RFC3339Nano)}}
	return c.do(ctx, http.MethodPost, "/api/views/"+url.PathEscape(id)+"/stills?"+q.Encode(), "image/jpeg", jpeg, nil, stillLimit)
}

// tried is a call as it is told to people: without what names a view.
func tried(method, path string) string {
	u, err := url.Parse(path)
	if err != nil {
		return method
	}
	if strings.HasPrefix(u.Path, "/api/known/") {
		return method + " /api/known/…"
	}
	if len(u.Path) > len("/api/views/") && u.Path[:len("/api/views/")] == "/api/views/" {
		if method == http.MethodPost {
			return "POST /api/views/…/stills"
		}
		return method + " /api/views/…"
	}
	return method + " " + u.Path
}

func (c *Client) do(ctx context.Context, method, path, kind string, in []byte, out any, limit time.Duration) error {
	return c.session.Do(ctx, func(ctx context.Context, signed *http.Client) error {
		ctx, cancel := context.WithTimeout(ctx, limit)
		defer cancel()
		says := tried(method, path)
		req, err := http.NewRequestWithContext(ctx, method, c.base+path, bytes.NewReader(in))
		if err != nil {
			return err
		}
		req.Header.Set("Content-Type", kind)
		res, err := dial.Ask(signed, req, says)
		if err != nil {
			return err
		}
		defer res.Body.Close()
		data, err := dial.ReadAll(res.Body, maxJSON, says, c.on)
		if err != nil {
			return err
		}
		if res.StatusCode/100 != 2 {
			return dial.RefusedIn(res.StatusCode, data, says, c.on)
		}
		if out == nil {
			return nil
		}
		if err := json.Unmarshal(data, out); err != nil {
			return &dial.Error{Tried: says, On: c.on, Kind: dial.ErrMalformed, Says: "it is no JSON of the analyser interface", Beyond: true}
		}
		return nil
	})
}

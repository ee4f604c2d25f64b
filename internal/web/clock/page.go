// Package clock shows whose time is wrong, and why.
package clock

import (
	"context"
	"embed"
	"io/fs"
	"slices"
	"strconv"
	"strings"
	"time"

	"duskyharbor/internal/core/access"
	"duskyharbor/internal/core/clock"
	"duskyharbor/internal/core/finding"
	"duskyharbor/internal/core/stage"
	"duskyharbor/internal/facts"
	clockstage "duskyharbor/internal/stages/clock"
	"duskyharbor/internal/store"
	"duskyharbor/internal/web/shell"
)

//go:embed page.html page.css page.js sheet.html
var files embed.FS

// Page is its page.
type Page struct {
	*shell.Server
	stage *clockstage.Stage
}

// New makes the page.
func New(s *shell.Server, st *clockstage.Stage) *Page { return &Page{s, st} }

// Slug is its address.
func (*Page) Slug() string { return "clock" }

// Files are its template and script.
func (*Page) Files() fs.FS { return files }

// Stage is stage.Clock.
func (*Page) Stage() stage.Stage { return stage.Clock }

// Routes adds nothing besides its page: its acts are its stage's.
func (*Page) Routes(*shell.Routes) {}

// clockData is the strip and its table.
type clockData struct {
	Dots    []dot
	Bands   []band
	Ticks   []tick
	Rows    []clockRow
	Can     int
	Changes int
	Cams    int
	Quiet   int // dots without a label
	Crowd   int // cameras on the strip, where its marks stand for several each
	Unread  int
	Height  float64
	Own     []ownClock // the recorders'
	Drifts  bool       // some clock shown does
	ByHand  int        // cameras shown, with nothing proposed, that don't follow the site's wish
	Window  string     // what the open one has shown, where the bands are its own
	Trail   []dot      // earlier readings of the clock whose sheet is open
	labels  [lanes][]span
}

// ownClock is a recorder's own clock, against this server's.
type ownClock struct {
	Device        store.Device
	Mark          stage.Mark
	Offset, Error string
	Serves        bool // NTP
	Cameras       int  // that are held against it, of those shown
	Mends         bool // its clock can be set from here, and needs it
}

// Says tells what the clock is held against, and what it serves.
func (o ownClock) Says() string {
	says := "from this server, serves no NTP"
	if o.Serves {
		says = "from this server, serves NTP"
	}
	if o.Cameras > 0 {
		says += ", " + shell.Plural(o.Cameras, "camera") + " held against it"
	}
	return says
}

type clockRow struct {
	Row               shell.Row
	Offset, Error     string
	Against, Cause    string
	Source, Matters   string
	Drift             string
	Changes           []finding.Change
	HasChange, Judged bool
	Follows           bool // it can be told to follow the site's wish, and doesn't
}

// Proposed tells in a line what would be changed.
func (c clockRow) Proposed() string {
	says := make([]string, len(c.Changes))
	for i, ch := range c.Changes {
		switch ch.Kind {
		case clock.SetZone:
			says[i] = "site's zone rule"
		case clock.SetText:
			says[i] = "burned in as " + ch.To
		default:
			says[i] = ch.To
		}
	}
	return strings.Join(says, "; ")
}

// Build makes the page's data.
func (pg *Page) Build(ctx context.Context, p *shell.Request) (any, error) {
	if err := p.Load(ctx); err != nil {
		return nil, err
	}
	d := clockData{Height: 150}
	d.scale(d.shown(p))
	// What stands out chooses its place on the strip first.
	rows := slices.Clone(p.Rows)
	slices.SortStableFunc(rows, func(a, b shell.Row) int {
		return a.Mark(stage.Clock).State.Urgency() - b.Mark(stage.Clock).State.Urgency()
	})
	whole := !p.Window.Part()
	for _, r := range rows {
		d.add(p, r, whole)
	}
	if p.Window.Sort.By != "" { // as the person asked
		order := map[int64]int{}
		for i, r := range p.Rows {
			order[r.ID] = i
		}
		slices.SortStableFunc(d.Rows, func(a, b clockRow) int { return order[a.Row.ID] - order[b.Row.ID] })
	}
	d.own(p)
	var err error
	if !whole { // the strip shows all that match, the table a window of them
		if err := pg.crowd(ctx, p, &d); err != nil {
			return nil, err
		}
	}
	if err := pg.trail(ctx, p, &d); err != nil {
		return nil, err
	}
	if d.Can, err = p.Can(ctx, stage.Clock); err != nil {
		return nil, err
	}
	d.Changes, d.Cams, err = pg.Store.Proposed(ctx, p.Selection, stage.Clock)
	return d, err
}

// own lists the recorders' clocks.
func (d *clockData) own(p *shell.Request) {
	against := map[string]int{}
	for _, r := range d.Rows {
		against[r.Against]++
	}
	for _, rec := range p.Snapshot.Recorders() {
		r, ok := facts.Clock.Of(p.Snapshot, rec.ID)
		if !ok {
			continue
		}
		serves, _ := facts.ServesNTP.Of(p.Snapshot, rec.ID)
		d.Own = append(d.Own, ownClock{Device: rec, Offset: r.Offset.Seconds(), Error: r.Offset.ErrorSeconds(),
			Serves: serves, Cameras: against[rec.Place],
			Mark:  p.Engine.Mark(p.Now, p.Snapshot, rec, stage.Clock),
			Mends: len(p.Engine.Proposals(p.Now, p.Snapshot, rec.Whole(), stage.Clock)) > 0})
	}
}

func (d *clockData) add(p *shell.Request, r shell.Row, draw bool) {
	f, w := facts.ForClock(p.Snapshot, r.Device)
	c := clockRow{Row: r, Changes: r.Proposals, HasChange: len(r.Proposals) > 0, Judged: f.Camera != nil}
	if f.Camera != nil {
		o := f.Offset()
		m := r.Mark(stage.Clock)
		c.Offset, c.Error, c.Against, c.Source = o.Seconds(), o.ErrorSeconds(), f.Reference.Name, f.Camera.SourceShown()
		if o.Mid().Abs() >= 48*time.Hour {
			c.Offset = clock.Brief(o.Mid())
		}
		c.Cause = string(clock.CauseOf(*f.Camera, o))
		if dr := f.Camera.Drift; dr != nil && dr.Sure() && !f.Camera.NTP {
			c.Drift, d.Drifts = dr.String(), true
			if leaves := dr.Leaves(p.Now, o.Mid(), clock.UsableWithin); !leaves.IsZero() {
				c.Matters = "from " + leaves.In(p.Zone).Format("02 Jan 15:04")
			}
		}
		b := clock.BandOf(o, f.Window)
		if b == clock.Refused || b == clock.AtRisk {
			c.Matters = "now: " + string(b)
		}
		if a, open := facts.Account.Of(p.Snapshot, r.Device.ID); !c.HasChange && open && a.Scheme != access.RTSP {
			follows, why := clock.Follow(p.Now, f, w)
			c.Follows = why == "" && len(follows) > 0
			d.ByHand += shell.Int(c.Follows)
		}
		if draw {
			d.place(dot{X: clockX(o.Mid()), Off: offStrip(o.Mid()), Open: p.URL.Query().Get("sheet") == strconv.FormatInt(r.ID, 10), Mark: m, ID: r.ID, Name: r.Place,
				Href: p.With("sheet", strconv.FormatInt(r.ID, 10)), Says: r.Place + ": " + m.Sentence})
		}
		d.Rows = append(d.Rows, c)
	} else {
		d.Unread++
	}
}

package analytics

import (
	"context"
	"errors"
	"slices"
	"strings"
	"time"

	"duskyharbor/internal/act"
	"duskyharbor/internal/core/rule"
	"duskyharbor/internal/core/scene"
	"duskyharbor/internal/core/stage"
	"duskyharbor/internal/core/trouble"
	"duskyharbor/internal/facts"
	"duskyharbor/internal/site"
	"duskyharbor/internal/store"
)

// Rehearsed is a drawing, and over how long it is rehearsed.
type Rehearsed struct {
	Drawing
	Minutes int `form:"minutes" json:"minutes"` // up to now; a day at the most
}

// Bounds of a rehearsal.
const (
	mostSeen = 8 << 20 // bytes of points
	mostHits = 500
	mostPath = 60 // places of a track that a hit shows
	longest  = 24 * time.Hour
)

// Rehearsal is what a rule would have fired on, of what the camera's analytics saw from one moment to another.
type Rehearsal struct {
	From     time.Time      `json:"from"`
	To       time.Time      `json:"to"`
	Listened [][2]time.Time `json:"listened"` // when it was listened to
	Minutes  float64        `json:"minutes_listened"`
	Objects  int            `json:"objects"`          // that were seen
	Untold   string         `json:"untold,omitempty"` // what it asks for and the camera tells of nothing
	Fires    int            `json:"fires"`            // as it is drawn
	Hits     []Hit          `json:"hits"`             // the first of them
	Now      *int           `json:"fires_as_on_camera,omitempty"`
	NowHits  []Hit          `json:"hits_as_on_camera,omitempty"`
	Part     bool           `json:"part,omitempty"` // more was seen than is rehearsed at once

	Fired   []time.Time   `json:"fired,omitempty"`   // what the camera's rule of the name said, in that time
	Since   *time.Time    `json:"since,omitempty"`   // it has had it as it is: before it is compared with nothing
	Held    *rule.Held    `json:"held,omitempty"`    // that, beside what the rule means as the camera has it
	Days    []rule.Day    `json:"days,omitempty"`    // and day by day
	Checked []Checked     `json:"checked,omitempty"` // what people said of firings
	Weighed *rule.Weighed `json:"weighed,omitempty"` // what other settings would make of those
}

// Checked is what a person said of a firing.
type Checked struct {
	Object string    `json:"object"`
	At     time.Time `json:"at"`
	Right  bool      `json:"right"`
}

// Hit is one firing, and the way that its object went: across and down in hundredths of the picture.
type Hit struct {
	At      time.Time    `json:"at"`
	Object  string       `json:"object"`
	Class   string       `json:"class,omitempty"`
	Looks   string       `json:"looks,omitempty"`   // colour, plate, speed, what is carried or worn, as far as it was told
	Known   []string     `json:"known,omitempty"`   // who or what it was held to be, a set each
	Picture bool         `json:"picture,omitempty"` // the camera sent one of it
	Place   [2]float64   `json:"place"`
	Path    [][2]float64 `json:"path,omitempty"`
}

// Rehearse runs a drawing over what the camera's analytics saw in the last time, and beside it the camera's own rule of the
// name, if it has one.
func (a *Stage) Rehearse(ctx context.Context, siteID int64, x Rehearsed) (out Rehearsal, err error) {
	of, s, err := a.view(ctx, siteID, x.Source)
	if err != nil {
		return out, err
	}
	last := time.Duration(x.Minutes) * time.Minute
	if x.Name == "" {
		x.Name = "it"
	}
	r, err := x.Rule()
	if err != nil {
		return out, err
	}
	if of.Marks != nil {
		r.Upright = of.Marks.Upright()
	}
	if r.Metres() && !r.Upright.Known() {
		return out, act.Wrong("shortest", "How tall something is is reckoned from two marks of known size on the picture of "+of.Place+": set them in Streams.")
	}
	if last <= 0 || last > longest {
		return out, act.Wrong("minutes", "A rehearsal is over a day at the most.")
	}
	zone := s.Site.Location()
	out.To = time.Now().UTC()
	out.From = out.To.Add(-last)
	tracks, listened, more, err := a.seen(ctx, of, out.From, out.To)
	if err != nil {
		return out, err
	}
	out.Listened, out.Part, out.Objects = listened, more, len(tracks)
	for _, l := range listened {
		out.Minutes += l[1].Sub(l[0]).Minutes()
	}
	over := rule.Span{From: time.Duration(out.From.UnixNano()), To: time.Duration(out.To.UnixNano()), Zone: zone}
	who, err := a.who(ctx, siteID, tracks)
	if err != nil {
		return out, err
	}
	out.Fires, out.Hits = hits(r, tracks, over, who)
	out.Untold = rule.Untold(r, tracks)
	f, _ := facts.ForRules(s, of)
	if i := slices.IndexFunc(f.Configs, func(c rule.Config) bool { return c.Name == x.Name }); i >= 0 {
		if on, ok := f.Configs[i].Says(); ok {
			n, all := hits(on, tracks, over, who)
			out.Now, out.NowHits = &n, all
			if err := a.compare(ctx, s, of, on, tracks, over, &out); err != nil {
				return out, err
			}
		}
	}
	return out, a.weigh(ctx, of, r, tracks, over, &out)
}

// seen is what a view's analytics saw, in its picture.
func (a *Stage) seen(ctx context.Context, of site.Source, from, to time.Time) (tracks []scene.Track, listened [][2]time.Time, more bool, err error) {
	tracks, listened, more, err = a.Store.Seen(ctx, of.ID, from, to, mostSeen)
	return of.Turned.Tracks(tracks), listened, more, err
}

// compare holds what the camera's rule fired against what it means, from when on the camera has it so.
func (a *Stage) compare(ctx context.Context, s *site.Snapshot, of site.Source, on rule.Rule, tracks []scene.Track, over rule.Span, out *Rehearsal) error {
	fired, err := a.Store.FiredBetween(ctx, of.ID, out.From, out.To)
	if err != nil {
		return err
	}
	for _, f := range fired {
		if f.Rule == on.Name {
			out.Fired = append(out.Fired, f.At)
		}
	}
	e, _ := facts.RuleSet.Of(s, of)
	since, known := e.Since[on.Name]
	if !known || len(fired) == 0 || !on.Kind.Foretold() {
		return nil
	}
	from := later(out.From, since)
	held := holdOne(on, tracks, fired, from, out.To, false)
	was, _ := facts.Held.Of(s, of)
	if i := slices.IndexFunc(was, func(h rule.Held) bool { return h.Rule == on.Name }); i >= 0 {
		held.Explains = was[i].Explains // as it was looked for when they were held against each other last
	}
	out.Since, out.Held = &since, &held
	over.From = time.Duration(from.UnixNano())
	out.Days = rule.ByDay(rule.Beginnings(on, rule.Rehearse(on, after(tracks, over.From), over)), firedOf(on.Name, fired, from), over.Zone)
	return nil
}

// weigh says what other settings would make of the firings that people judged.
func (a *Stage) weigh(ctx context.Context, of site.Source, r rule.Rule, tracks []scene.Track, over rule.Span, out *Rehearsal) error {
	all, err := a.Store.CheckedBetween(ctx, of.ID, out.From, out.To)
	if err != nil || len(all) == 0 {
		return err
	}
	objects := map[string]bool{}
	checked := make([]rule.Checked, len(all))
	for i, c := range all {
		objects[c.Object] = true
		checked[i] = rule.Checked{Object: c.Object, At: time.Duration(c.At.UnixNano()), Right: c.Right}
		out.Checked = append(out.Checked, Checked(c))
	}
	if r.Kind != rule.Crowd {
		tracks = slices.DeleteFunc(slices.Clone(tracks), func(tr scene.Track) bool { return !objects[tr.ID] })
	}
	w := rule.Weigh(r, tracks, over, checked)
	out.Weighed = &w
	return nil
}

// Check is what a person says of a firing: whether it was right to fire on that object then.
type Check struct {
	act.Camera
	Object string `form:"object" json:"object"`
	At     string `form:"at" json:"at"`                              // RFC 3339, as the rehearsal tells it
	Was    string `form:"was" json:"was" enum:"right,wrong,neither"` // neither: it is taken back
}

func keepCheck(ctx context.Context, c *act.Call, x Check) (act.Kept, error) {
	_, of, err := c.Camera(ctx, x.Source)
	if err != nil {
		return act.Kept{}, err
	}
	at, err := time.Parse(time.RFC3339Nano, x.At)
	switch {
	case err != nil || at.After(time.Now().Add(time.Minute)) || time.Since(at) > seenFor:
		return act.Kept{}, act.Wrong("at", "A firing is of the last seven days.")
	case strings.TrimSpace(x.Object) == "" || !act.Fits(x.Object, mostName):
		return act.Kept{}, act.Wrong("object", "Say whom it fired on, as the rehearsal does.")
	}
	var right *bool
	did := "took back what was said of a firing"
	switch x.Was {
	case "right", "wrong":
		is := x.Was == "right"
		right, did = &is, "judged a firing "+x.Was
	case "neither":
	default:
		return act.Kept{}, act.Wrong("was", "A firing is right, wrong, or neither yet.")
	}
	err = c.Store.KeepChecked(ctx, of.ID, x.Object, at, right)
	if errors.Is(err, store.ErrFull) {
		err = trouble.UserError("No more is kept of what was said of the firings of " + of.Place + ".")
	}
	return act.Kept{Says: "Kept: it was " + x.Was + ".", Did: did, Detail: of.Place + ", " + at.UTC().Format(time.RFC3339)}, err
}

// seenFor is for how long what was seen is kept.
const seenFor = 7 * 24 * time.Hour

func hits(r rule.Rule, tracks []scene.Track, over rule.Span, who names) (n int, out []Hit) {
	by := map[string]*scene.Track{}
	for i := range tracks {
		by[tracks[i].ID] = &tracks[i]
	}
	out = []Hit{}
	for _, h := range rule.Rehearse(r, tracks, over) {
		if !h.On {
			continue
		}
		if n++; len(out) >= mostHits {
			continue
		}
		out = append(out, hit(h, by[h.Object], who))
	}
	return n, out
}

// hit is a firing with the part of its track around it.
func hit(h rule.Hit, tr *scene.Track, who names) Hit {
	out := Hit{At: time.Unix(0, int64(h.At)).UTC(), Object: h.Object}
	if tr == nil {
		return out
	}
	out.Class, out.Looks, out.Picture = tr.Class, rule.Told(tr.Traits), tr.Pictured
	out.Known = who.of(tr.Traits)
	at := func(p scene.TrackPoint) [2]float64 {
		a := p.Box.Anchor()
		return [2]float64{(a.X + 1) * 50, (1 - a.Y) * 50}
	}
	var way []scene.TrackPoint
	for _, p := range tr.Points {
		if p.At <= h.At {
			out.Place = at(p)
		}
		if (p.At - h.At).Abs() <= 30*time.Second {
			way = append(way, p)
		}
	}
	step := max(1, len(way)/mostPath)
	for i := 0; i < len(way); i += step {
		out.Path = append(out.Path, at(way[i]))
	}
	return out
}

// Watch has what cameras' analytics see be gathered, or not any more.
type Watch struct {
	act.Selection
	Off bool `form:"off" json:"off,omitempty"`
}

func keepWatch(ctx context.Context, c *act.Call, x Watch) (act.Kept, error) {
	_, selected, err := c.Selected(ctx, x.Selection, stage.Analytics)
	if err != nil {
		return act.Kept{}, err
	}
	for _, of := range selected {
		if x.Off && of.Paired != nil {
			return act.Kept{}, trouble.UserError("An analyser looks at " + of.Place + ", and gets its stills while what it sees is gathered: have it look no more first.")
		}
	}
	sources := numbers(selected)
	count := act.Count(len(sources), "camera")
	out := act.Kept{Did: "began to gather what analytics see", Detail: count, Says: "What the analytics of " + count + " see is gathered from now on, and kept for 7 days."}
	if x.Off {
		out.Did, out.Says = "ended gathering what analytics see", "What the analytics of "+count+" see isn't gathered any more. What was seen is kept for 7 days."
	}
	return out, c.Store.SetGathering(ctx, c.Site.ID, sources, !x.Off)
}

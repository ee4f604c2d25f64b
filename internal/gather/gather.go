// Package gather listens to what cameras' analytics see, and keeps it: the views that people asked for are shared out among
// the servers of one database, each is listened to by one of them, and another takes over where one dies.
package gather

import (
	"cmp"
	"context"
	"errors"
	"log/slog"
	"math"
	"slices"
	"strings"
	"sync"
	"time"

	"duskyharbor/internal/core/scene"
	"duskyharbor/internal/core/stream"
	"duskyharbor/internal/core/topic"
	"duskyharbor/internal/core/trouble"
	"duskyharbor/internal/device/dial"
	"duskyharbor/internal/device/onvif"
	"duskyharbor/internal/device/rtsp"
	"duskyharbor/internal/facts"
	"duskyharbor/internal/site"
	"duskyharbor/internal/store"
)

const (
	hold      = 15 * time.Second // for so long a view is a server's that says nothing
	keepEvery = 2 * time.Second
	lookEvery = time.Second // for views that nobody listens to
	mostViews = 64          // of one server
	mostNew   = 8           // at once
	keepAlive = 20 * time.Second
	mostQuiet = 90 * time.Second // many say nothing while nothing moves
	openLimit = 8 * time.Second
	again     = 20 * time.Second // after trouble
	purpose   = "what its analytics see"
	maxTracks = 256      // objects between two keepings
	maxPoints = 4000     // points of all of them, between two keepings
	maxFired  = 500      // of them, between two keepings
	maxCrops  = 96 << 10 // bytes of pictures, between two keepings
	maxSecond = 4 << 20  // bytes that a stream's metadata has in a second
	dropEvery = time.Hour
	longest   = 10 * time.Minute // that an analyser may take to say what it sees of a still: what is older isn't by our clock
	holdEvery = 10 * time.Minute
	unusual   = 5 * time.Second       // the device's clock was set: times are taken anew
	leak      = 50 * time.Microsecond // by document, so that a clock that drifts is followed
)

// ErrKnown is returned by Options.Glance where it needn't be looked for how boxes sit.
var ErrKnown = errors.New("gather: how the boxes sit is known")

// SignIn gives the account that opens a device's streams, with what writes each try down.
type SignIn func(ctx context.Context, d store.Device, s *site.Snapshot, purpose string) (rtsp.Login, error)

// Options of a Gatherer.
type Options struct {
	Store  *store.Store
	SignIn SignIn
	Dialer *dial.Dialer
	Log    *slog.Logger
	Server string        // a name that no other server has
	Age    time.Duration // what is older is dropped
	// Hold holds what a view's rules fired against what they mean; it is asked for now and then while one is listened to.
	Hold func(ctx context.Context, source int64) error
	// Glance looks at a view's picture where it isn't known how its boxes sit (ErrKnown), and Sits keeps how its boxes lie on what moves there; nil: it isn't looked for.
	Glance func(ctx context.Context, source int64) (Glances, error)
	Sits   func(ctx context.Context, source int64, s scene.Sits) error
	// Feed opens how an analyser looks at a view, nil where none does; nil: none does at any. Sent keeps how sending it stills goes, and
	// Health reads it now and then.
	Feed   func(ctx context.Context, source int64) (*Feed, error)
	Sent   func(ctx context.Context, source int64, hindered error) error
	Health func(ctx context.Context, source int64) error
}

// Gatherer is one server's part. Close ends it.
type Gatherer struct {
	Options
	mu    sync.Mutex
	views map[int64]context.CancelFunc // ends the listening
	stop  context.CancelFunc
	done  sync.WaitGroup
}

// Start begins to listen to what is asked for.
func Start(o Options) *Gatherer {
	ctx, stop := context.WithCancel(context.Background())
	g := &Gatherer{Options: o, views: map[int64]context.CancelFunc{}, stop: stop}
	g.done.Go(func() { g.run(ctx) })
	return g
}

// Close lets all views go.
func (g *Gatherer) Close() {
	g.stop()
	g.done.Wait()
}

func (g *Gatherer) run(ctx context.Context) {
	look, drop := time.NewTicker(lookEvery), time.NewTicker(dropEvery)
	defer look.Stop()
	defer drop.Stop()
	g.drop(ctx)
	for {
		select {
		case <-ctx.Done():
			return
		case <-drop.C:
			g.drop(ctx)
		case <-look.C:
			g.claim(ctx)
		}
	}
}

func (g *Gatherer) drop(ctx context.Context) {
	if err := g.Store.DropSeen(ctx, time.Now().Add(-g.Age)); err != nil && ctx.Err() == nil {
		g.Log.Error("what was seen isn't dropped", "err", err)
	}
}

func (g *Gatherer) claim(ctx context.Context) {
	g.mu.Lock()
	most := min(mostNew, mostViews-len(g.views))
	g.mu.Unlock()
	if most <= 0 {
		return
	}
	asking, cancel := context.WithTimeout(ctx, openLimit)
	defer cancel()
	all, err := g.Store.ClaimGatherings(asking, g.Server, most, hold)
	if err != nil {
		return // the next look asks again
	}
	for _, id := range all {
		g.mu.Lock()
		if end, had := g.views[id]; had { // it was freed meanwhile, since it is to be heard elsewhere now, or it was held for too long
			g.mu.Unlock()
			end()
			continue
		}
		listening, end := context.WithCancel(ctx)
		g.views[id] = end
		g.mu.Unlock()
		g.done.Go(func() {
			defer end()
			g.listen(listening, id)
			g.mu.Lock()
			delete(g.views, id)
			g.mu.Unlock()
		})
	}
}

// listen listens to a view until it isn't this server's any more, or can't be listened to.
func (g *Gatherer) listen(ctx context.Context, id int64) {
	err := g.gather(ctx, id)
	if errors.Is(err, store.ErrNotFound) {
		return
	}
	says, wait := "", time.Duration(0)
	if err != nil && ctx.Err() == nil {
		says, wait = words(err), again
	}
	leaving, cancel := context.WithTimeout(context.WithoutCancel(ctx), 3*time.Second)
	defer cancel()
	_ = g.Store.LoseGathering(leaving, g.Server, id, says, wait) // else it is free when it was held for long enough
}

// words is what hindered it, for people.
func words(err error) string {
	var told trouble.UserError
	var device *dial.Error
	switch {
	case errors.As(err, &told), errors.As(err, &device):
		return err.Error()
	}
	return "This server couldn't keep what was seen. It tries again."
}

// hear plays what a view's analytics see: its camera's, or those of the analyser that looks at it.
func (g *Gatherer) hear(ctx context.Context, id int64, fed *Feed) (*rtsp.Conn, rtsp.Track, []string, error) {
	if fed == nil {
		return g.open(ctx, id)
	}
	c, err := fed.Hear(ctx)
	if err != nil {
		return nil, rtsp.Track{}, nil, err
	}
	t, err := metadata(c)
	return c, t, []string{fed.Token}, err
}

// open plays the metadata of the view's stream alone. tokens are those by which events name the view.
func (g *Gatherer) open(ctx context.Context, id int64) (*rtsp.Conn, rtsp.Track, []string, error) {
	opening, cancel := context.WithTimeout(ctx, openLimit)
	defer cancel()
	of, err := g.Store.SourceByID(opening, id)
	if err != nil {
		return nil, rtsp.Track{}, nil, err
	}
	d := of.Device
	s, err := site.Load(opening, g.Store, d.SiteID, []int64{d.ID})
	if err != nil {
		return nil, rtsp.Track{}, nil, err
	}
	f, _ := facts.ForStreams(s, of)
	p, ok := f.Describes()
	if !ok {
		return nil, rtsp.Track{}, nil, trouble.UserError("None of its streams is known to carry what its analytics see: read and play its streams.")
	}
	login, err := g.SignIn(opening, d, s, purpose)
	if err != nil {
		return nil, rtsp.Track{}, nil, err
	}
	pin, _ := facts.Pin.Of(s, d.ID)
	c, err := rtsp.Open(ctx, g.Dialer.At(*d.Address).Pinned(&pin), p.Best(), login)
	if err != nil {
		return nil, rtsp.Track{}, nil, err
	}
	t, err := metadata(c)
	if err != nil {
		return nil, t, nil, err
	}
	own, _ := s.ProfilesOf(of)
	return c, t, stream.SourceTokens(own), nil
}

// metadata plays a stream's metadata alone; where it can't be the conversation is closed.
func metadata(c *rtsp.Conn) (rtsp.Track, error) {
	t, err := c.DescribeMetadata()
	if err == nil {
		err = c.PlayMetadata(t)
	}
	if err != nil {
		c.Close()
	}
	return t, err
}

// gather reads documents and keeps them, a few seconds' at once.
func (g *Gatherer) gather(ctx context.Context, id int64) error {
	fed, end, err := g.feed(ctx, id)
	if err != nil {
		return err
	}
	defer end()
	c, t, tokens, err := g.hear(ctx, id, fed)
	if err != nil {
		if fed != nil && ctx.Err() == nil { // an analyser that isn't there: its stills don't even begin to be sent
			g.sent(ctx, id, err)
		}
		return err
	}
	defer c.Close()
	stop := context.AfterFunc(ctx, c.Close)
	defer stop()
	b := batch{began: time.Now(), tracks: map[string]int{}, view: tokens, ours: fed != nil, states: map[string]map[string]topic.State{}}
	docs := rtsp.Documents{Track: *t.Meta, Most: onvif.MaxMetadata}
	alive, kept, second, heard, bytes := time.Now(), time.Now(), time.Now(), time.Now(), 0
	held, healthy := time.Now(), time.Time{}
	var sits sitter
	b.look = func(frames []onvif.SeenFrame, now time.Time) {
		if fed == nil && g.Glance != nil && sits.see(frames, func(told time.Time) time.Time { return told.Add(b.ahead) }, now) {
			g.done.Go(func() { g.sit(ctx, id, &sits) })
		}
	}
	for {
		track, data, err := c.Next()
		now := time.Now()
		switch {
		case err == nil:
			heard = now
		case ctx.Err() != nil:
			return nil
		case !errors.Is(err, rtsp.ErrStalled) || now.Sub(heard) > mostQuiet:
			return errors.Join(err, g.keep(ctx, id, &b, heard))
		}
		if now.Sub(second) > time.Second {
			second, bytes = now, 0
		}
		if bytes += len(data); bytes > maxSecond {
			return trouble.UserErrorf("It sends more than %d MB of metadata a second: it isn't listened to.", maxSecond>>20)
		}
		if err == nil && track == rtsp.Metadata {
			b.add(&docs, data, now)
		}
		if now.Sub(alive) > keepAlive {
			alive = now
			if err := c.KeepAlive(); err != nil {
				return err
			}
		}
		if now.Sub(kept) < keepEvery {
			continue
		}
		kept = now
		if now.Sub(held) > holdEvery {
			held = now
			g.hold(ctx, id)
		}
		if fed != nil && now.Sub(healthy) > healthEvery {
			healthy = now
			g.health(ctx, id)
		}
		if err := g.keep(ctx, id, &b, heard); err != nil { // up to where something came: of silence nobody knows yet
			return err
		}
	}
}

// hold takes a moment at the most: what comes meanwhile waits in the connection.
func (g *Gatherer) hold(ctx context.Context, id int64) {
	if g.Hold == nil {
		return
	}
	holding, cancel := context.WithTimeout(ctx, openLimit)
	defer cancel()
	if err := g.Hold(holding, id); err != nil && ctx.Err() == nil {
		g.Log.Error("what fired isn't held against what was foretold", "view", id, "err", err)
	}
}

func (g *Gatherer) keep(ctx context.Context, id int64, b *batch, until time.Time) error {
	keeping, cancel := context.WithTimeout(ctx, openLimit)
	defer cancel()
	b.got.Began, b.got.Until = b.began.UTC(), until.UTC()
	err := g.Store.KeepGathering(keeping, g.Server, id, b.got, hold)
	b.got, b.tracks, b.points, b.crops = store.Gathered{}, map[string]int{}, 0, 0
	return err
}

// batch is what came since it was kept last.
type batch struct {
	began  time.Time
	got    store.Gathered
	tracks map[string]int // pieces by object
	points int
	shown  map[string]float64 // how well the best picture of an object shows it, of those that are kept
	crops  int                // bytes of pictures
	look   func(frames []onvif.SeenFrame, now time.Time)
	view   []string                          // tokens by which events name the view
	states map[string]map[string]topic.State // of its rules' properties, by rule and object
	// ahead is this server's time less the device's, by the document that was on its way for the least time.
	ahead time.Duration
	heard bool
	ours  bool // times are of this server: it took the stills
}

func (b *batch) add(docs *rtsp.Documents, data []byte, now time.Time) {
	doc, lost := docs.Add(data)
	if lost {
		b.got.Lost++
	}
	if doc == nil {
		return
	}
	told, err := onvif.ParseMetadata(doc)
	if err != nil {
		b.got.Lost++
		return
	}
	b.got.Documents++
	for _, e := range told.Events {
		b.fire(e, now)
	}
	b.got.Without += told.Without
	defer b.look(told.Frames, now)
	for _, f := range told.Frames {
		at := b.at(f.At, now)
		for _, o := range f.Objects {
			b.got.Objects++
			if b.points++; b.points > maxPoints {
				b.got.Without++
				continue
			}
			i, there := b.tracks[o.ID]
			if !there {
				if len(b.got.Pieces) >= maxTracks {
					b.got.Without++
					continue
				}
				i = len(b.got.Pieces)
				id := strings.Clone(o.ID) // else it holds the whole document
				b.tracks[id] = i
				b.got.Pieces = append(b.got.Pieces, store.Piece{Object: id, Class: strings.Clone(o.Class)})
			}
			p := &b.got.Pieces[i]
			b.crop(p, &o)
			p.Traits = p.Traits.Also(o.Traits)
			p.Points = append(p.Points, scene.TrackPoint{At: time.Duration(at.UnixNano()), Box: o.Box, Score: o.Score})
		}
	}
}

// crop keeps an object's picture where it shows it clearly better than those of before: larger, and surer.
func (b *batch) crop(p *store.Piece, o *onvif.SeenObject) {
	shows := o.Box.Area() * o.Score
	if len(o.Crop) == 0 || shows <= 1.3*b.shown[p.Object] || b.crops+len(o.Crop) > maxCrops {
		return
	}
	if b.shown == nil || len(b.shown) > 4*maxTracks { // what went long ago may be kept once more
		b.shown = map[string]float64{}
	}
	b.shown[p.Object], b.crops = shows, b.crops+len(o.Crop)
	p.Crop = o.Crop
}

// fire takes an event that a rule of the view tells, where it is a beginning.
func (b *batch) fire(e onvif.Event, now time.Time) {
	name := e.Rule()
	view := cmp.Or(e.Source["VideoSourceConfigurationToken"], e.Source["VideoSourceToken"])
	if b.ours { // an analyser's sources are its own affair: it is told which view by its analytics configuration
		view = e.Source["VideoAnalyticsConfigurationToken"]
	}
	// An analyser tells of all its views in one place: what names none is nobody's.
	elsewhere := (view != "" || b.ours) && !slices.Contains(b.view, view)
	if name == "" || len(name) > 64 || elsewhere || len(b.got.Fired) >= maxFired {
		return
	}
	if e.Operation != "" && !b.begins(name, e) {
		return
	}
	at := now
	if !e.At.IsZero() {
		at = b.at(e.At, now)
	}
	b.got.Fired = append(b.got.Fired, store.Fired{At: at.UTC(), Rule: name, Topic: e.Topic})
}

// begins says whether a property event is the beginning of a rule's: nothing of it was true before.
func (b *batch) begins(name string, e onvif.Event) bool {
	value, told := e.True()
	if !told && e.Operation != topic.Deleted {
		return false
	}
	of := b.states[name]
	if of == nil {
		if len(b.states) >= maxFired {
			return false
		}
		of = map[string]topic.State{}
		b.states[strings.Clone(name)] = of
	}
	others := false
	for object, s := range of {
		others = others || s.True && object != e.Data["ObjectId"]
	}
	if _, there := of[e.Data["ObjectId"]]; !there && len(of) >= maxTracks {
		return false
	}
	object := strings.Clone(e.Data["ObjectId"])
	next, phase := topic.Next(of[object], e.Operation, value, false)
	of[object] = next
	return phase == topic.Begins && !others
}

// at is a device's time on this server's clock: pictures lie beside each other as the device says, however long what it
// tells of them was on its way.
func (b *batch) at(told, now time.Time) time.Time {
	if b.ours && told.After(now.Add(-longest)) && told.Before(now.Add(time.Second)) {
		return told
	}
	ahead := now.Sub(told)
	if ahead == math.MaxInt64 || ahead == math.MinInt64 { // centuries away: it tells no time
		return now
	}
	if !b.heard || ahead < b.ahead || ahead-b.ahead > unusual {
		b.ahead, b.heard = ahead, true
	} else {
		b.ahead += leak
	}
	return told.Add(b.ahead)
}

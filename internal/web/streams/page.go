// Package streams shows what streams declare beside what they deliver.
package streams

import (
	"context"
	"embed"
	"fmt"
	"io/fs"
	"math"
	"slices"
	"strconv"
	"strings"

	"github.com/labstack/echo/v5"

	"duskyharbor/internal/core/picture"
	"duskyharbor/internal/core/stage"
	"duskyharbor/internal/core/stream"
	"duskyharbor/internal/facts"
	"duskyharbor/internal/live"
	"duskyharbor/internal/site"
	"duskyharbor/internal/stages/streams"
	"duskyharbor/internal/store"
	"duskyharbor/internal/web/shell"
)

//go:embed page.html page.css *.js sheet.html
var files embed.FS

// Page is its page.
type Page struct {
	*shell.Server
	stage *streams.Stage
	live  *live.Relay // nil: no moving pictures
}

// New makes the page.
func New(s *shell.Server, st *streams.Stage, relay *live.Relay) *Page { return &Page{s, st, relay} }

// Slug is its address.
func (*Page) Slug() string { return "streams" }

// Files are its template.
func (*Page) Files() fs.FS { return files }

// Stage is stage.Streams.
func (*Page) Stage() stage.Stage { return stage.Streams }

// Routes adds what it answers besides its page.
func (pg *Page) Routes(r *shell.Routes) {
	r.Site.GET("/stills/:source", pg.still)
	r.Change.POST("/streams/watching", pg.watching)
	r.Change.POST("/streams/looking", pg.looking)
	r.Change.POST("/streams/boxes", pg.boxes)
	r.Change.POST("/streams/talking", pg.talking)
	r.Change.POST("/streams/listening", pg.listening)
	r.Site.GET("/stills/:source/whole", pg.wholeStill)
	r.Site.GET("/stills/:source/accepted/:light", pg.accepted)
	r.Site.GET("/stills/:source/view/:view", pg.viewStill)
}

// streamsData is declared beside measured.
type streamsData struct {
	Rows     []streamRow
	Chosen   *streamRow
	Can      int
	Waiting  int
	Wall     bool   // stills side by side instead of figures
	Open     bool   // one of them is opened: it moves above them
	Unseen   string // the camera of the open sheet, which isn't among those shown; empty: it is
	Choose   string // what of the address chooses whose picture is shown
	Changes  int    // proposed for those shown
	Cams     int    // for so many
	Moving   bool   // this server shows moving pictures
	Encoders encoders
	Accept   stream.Light // in which pictures are accepted, one after the other; empty: they aren't
	Unlooked int          // of those shown, whose picture nobody accepted in that light
}

type streamRow struct {
	Row      shell.Row
	Profiles []profileRow
	Scale    scaleView
	Hidden   []shell.Shape // masks over its picture
	Still    bool
	Read     bool
	Changes  int             // proposed
	Moves    string          // codec of what a browser shows moving; empty: it can't
	Boxes    bool            // a stream of it carries what its analytics see
	Accepted stream.Pictures // that still stand
	Whole    string          // where the still of its record stream is had; empty: it offers none other
	Hand
}

// Hand is how a view's camera is turned by hand.
type Hand struct {
	Turns   bool
	Presses bool // it goes to what is pressed on its picture
	Pushes  []pushButton
	Presets []presetButton
}

// pushButton moves it while it is held.
type pushButton struct{ Key, Sign, Says string }

// presetButton calls what it remembers.
type presetButton struct {
	N    int
	Name string
}

var pushButtons = map[picture.Axis][]pushButton{
	picture.Pan:  {{"ArrowLeft", "←", "Hold to turn left"}, {"ArrowRight", "→", "Hold to turn right"}},
	picture.Tilt: {{"ArrowUp", "↑", "Hold to tilt up"}, {"ArrowDown", "↓", "Hold to tilt down"}},
	picture.Zoom: {{"-", "Zoom −", "Hold to zoom out"}, {"+", "Zoom +", "Hold to zoom in"}},
}

// maxKeys is how many presets have a number key.
const maxKeys = 9

func handOf(s *picture.Setup) (h Hand) {
	if s == nil || s.PTZ == nil || s.PTZ.MayHold() != nil {
		return h
	}
	h.Turns, h.Presses = true, s.PTZ.Presses()
	for _, a := range s.PTZ.Hand() {
		h.Pushes = append(h.Pushes, pushButtons[a]...)
	}
	for i, p := range s.PTZ.Presets[:min(maxKeys, len(s.PTZ.Presets))] {
		h.Presets = append(h.Presets, presetButton{i + 1, p.Name})
	}
	return h
}

// Marks are what lies over its picture: what is hidden, and how many pixels a metre has.
func (r streamRow) Marks() shell.Marks {
	m := shell.Marks{Says: "Pixels per metre on the picture of " + r.Row.Place, Shapes: r.Hidden}
	if r.Scale.Set && r.Scale.Stale == "" {
		m.Shapes = slices.Concat(r.Hidden, r.Scale.Marks)
	}
	return m
}

type profileRow struct {
	stream.Profile
	M        *stream.Measured
	Role     string
	Why      string // it has that role
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

// Build makes the page's data.
func (pg *Page) Build(ctx context.Context, p *shell.Request) (any, error) {
	if err := p.Load(ctx); err != nil {
		return nil, err
	}
	d := streamsData{Wall: p.URL.Query().Get("wall") == "1", Moving: pg.live != nil}
	q := p.URL.Query()
	open, _ := strconv.ParseInt(q.Get("sheet"), 10, 64)
	want, _ := strconv.ParseInt(q.Get("camera"), 10, 64)
	if open != 0 {
		want = open // the picture is that of the sheet beside it, always
	}
	for _, r := range p.Rows {
		x := streamRowOf(p, r)
		x.Changes = len(pg.Engine.Proposals(p.Now, p.Snapshot, r.Source, stage.Streams))
		d.Changes, d.Cams = d.Changes+x.Changes, d.Cams+shell.Int(x.Changes > 0)
		if x.Read {
			d.Rows = append(d.Rows, x)
		} else {
			d.Waiting++
		}
	}
	if p.Window.Sort.By == "" {
		slices.SortStableFunc(d.Rows, func(a, b streamRow) int {
			return a.Row.Mark(stage.Streams).State.Urgency() - b.Row.Mark(stage.Streams).State.Urgency()
		})
	}
	if i := slices.IndexFunc(d.Rows, func(r streamRow) bool { return r.Row.ID == want }); i >= 0 {
		d.Chosen = &d.Rows[i]
	} else if open == 0 && len(d.Rows) > 0 {
		d.Chosen = &d.Rows[0]
	} else if of, there := p.Snapshot.Source(open); open != 0 && there {
		d.Unseen = of.Place
	}
	d.Open = d.Chosen != nil && open != 0
	d.Choose = "camera"
	if open != 0 {
		d.Choose = "sheet"
	}
	if light := stream.Light(q.Get("accept")); d.Wall && p.MayChange && (light == stream.Day || light == stream.Night) {
		d.accepting(light)
	}
	if p.MayChange {
		all, err := pg.Store.EncoderSettings(ctx, p.Site.ID)
		if err != nil {
			return nil, err
		}
		views := make([]stream.Facts, len(p.Rows))
		for i, r := range p.Rows {
			views[i], _ = facts.ForStreams(p.Snapshot, r.Source)
		}
		d.Encoders = encodersOf(p, views, all)
	}
	var err error
	d.Can, err = p.Can(ctx, stage.Streams)
	return d, err
}

// accepting leaves those on the wall whose still nobody accepted in a light.
func (d *streamsData) accepting(light stream.Light) {
	d.Accept = light
	d.Rows = slices.DeleteFunc(d.Rows, func(r streamRow) bool {
		_, there := r.Accepted[light]
		return there || !r.Still
	})
	d.Unlooked = len(d.Rows)
}

func streamRowOf(p *shell.Request, r shell.Row) streamRow {
	f, w := facts.ForStreams(p.Snapshot, r.Source)
	setup, _ := facts.ForPicture(p.Snapshot, r.Source)
	x := streamRow{Row: r, Read: !f.LookedAt.IsZero(), Scale: scaleOf(r.Source, f, w, setup.AimText()),
		Hidden: hidden(setup), Accepted: w.Standing()}
	record, view := stream.Roles(f.Profiles, w.Codecs)
	for _, pr := range f.Profiles {
		_, m, _ := f.Find(pr.Token)
		q := profileRow{Profile: pr, M: m, Recorder: w.Recorder}
		q.Why = stream.WhyRole(f.Profiles, w.Codecs, pr)
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
	if p, ok := f.Moves(); ok {
		x.Moves = p.Codec
	}
	_, describes := f.Describes()
	x.Boxes = describes || r.Paired != nil
	x.Hand = handOf(setup)
	if record, _, ok := f.Find(stream.ToExamine(f.Profiles)); ok && record.Snapshot != "" {
		x.Whole = p.Path("stills") + "/" + strconv.FormatInt(r.ID, 10) + "/whole"
	}
	return x
}

// notTold is what stands for what a device doesn't declare.
const notTold = "not told"

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
		if d <= 0 {
			return pair{name, notTold, measured, 0, 100 * v / full, false}
		}
		off := !limit && stream.RateDiffers(d, v) || limit && stream.OverLimit(d, v)
		return pair{name, word, measured, 100 * d / full, 100 * v / full, off}
	}
	top := func(a, b float64) float64 { return math.Max(1, 1.15*math.Max(a, b)) }
	px := float64(p.Width * p.Height)
	mpx := float64(m.Width * m.Height)
	size := pair{"Size", fmt.Sprintf("%d × %d", p.Width, p.Height), m.SizeText(),
		100 * px / top(px, mpx), 100 * mpx / top(px, mpx), stream.SizeDiffers(p, m)}
	key := 0.0
	if p.FPS > 0 {
		key = float64(p.GOP) / p.FPS
	}
	if p.Width == 0 {
		size.Declared = notTold
	}
	every := fmt.Sprintf("%.1f s", key)
	if key == 0 {
		every = notTold
	}
	apart, _ := m.Keys()
	keys := pair{"Key frame every", every, m.KeyText(), 100 * key / top(key, apart.Seconds()), 100 * apart.Seconds() / top(key, apart.Seconds()), stream.KeysTooFar(apart)}
	return []pair{size, scale("Frame rate", p.FPS, m.FPS, top(p.FPS, m.FPS), "/s", false),
		scale("Bit rate, mean", float64(p.Kbps), m.MeanKbps, top(float64(p.Kbps), m.MeanKbps), "kbit/s", true), keys}
}

// still passes a view's still on, decoded and checked on the way.
func (pg *Page) still(c *echo.Context) error { return pg.stillBy(c, pg.stage.Still) }

// wholeStill passes the still of its record stream on.
func (pg *Page) wholeStill(c *echo.Context) error { return pg.stillBy(c, pg.stage.WholeStill) }

func (pg *Page) stillBy(c *echo.Context, get func(context.Context, site.Source) ([]byte, error)) error {
	ctx := c.Request().Context()
	id, err := shell.Number(c, "source")
	if err != nil {
		return err
	}
	if !shell.VisitorOf(c).Member.Role.MayChange() { // who only looks signs in to nothing
		return store.ErrNotFound
	}
	of, err := pg.Store.SourceByID(ctx, id)
	if err != nil {
		return err
	}
	return pg.Still(c, of.Device, func() ([]byte, error) { return get(ctx, of) })
}

// viewStill passes on the still of one of a device's views, by which a person picks.
func (pg *Page) viewStill(c *echo.Context) error {
	ctx := c.Request().Context()
	id, err := shell.Number(c, "source")
	if err != nil {
		return err
	}
	if !shell.VisitorOf(c).Member.Role.MayChange() {
		return store.ErrNotFound
	}
	of, err := pg.Store.SourceByID(ctx, id)
	if err != nil {
		return err
	}
	return pg.Still(c, of.Device, func() ([]byte, error) { return pg.stage.StillOf(ctx, of, c.Param("view")) })
}

// extra is what the sheet offers besides.
type extra struct {
	Source  int64
	Named   bool   // it speaks RTSP alone: at which addresses its streams are had
	Text    string // one a line
	Usual   string // the addresses that are asked when a person has them asked
	Sound   bool   // it has any
	Consent stream.Consent
	Takers  []store.Device // recorders that take what the planned one doesn't
	Codec   string         // in which it can be talked through; empty: it can't
	Through string         // what is talked through
	Talks   bool           // it may be: there is consent, and this server passes sound on
	Listens string         // in which coding its sound can be heard here; empty: it can't
	Pairs   []accepted     // by day and by night
	Offers  bool           // it offers a picture that can be accepted
	Made    *made          // how its picture is made; nil: not read
	Uses    shell.Form     // which stream is for what; without fields: it hasn't two
}

// accepted is a picture that was accepted in a light, or may be.
type accepted struct {
	Light    stream.Light
	Accepted *stream.Accepted // nil: nobody did
	Now      bool             // its last still is one that could be
	Moving   bool             // it has no still: what moves is accepted
}

func (pg *Page) extra(v *site.Snapshot, of store.Source) extra {
	f, w := facts.ForStreams(v, of)
	x := extra{Source: of.ID, Made: madeOf(v, of), Consent: of.Consent, Sound: of.Consent.Given()}
	if seen, ok := facts.Seen.Of(v, of.Device.ID); ok && seen.RTSPAlone() {
		x.Named, x.Text, x.Usual = true, strings.Join(of.Device.Paths, "\n"), strings.Join(stream.UsualPaths(), ", ")
	}
	for _, p := range f.Profiles {
		_, m, _ := f.Find(p.Token)
		x.Sound, x.Offers = x.Sound || soundText(p, m) != "", x.Offers || p.Snapshot != ""
	}
	moves, _ := f.Moves()
	for _, light := range []stream.Light{stream.Day, stream.Night} {
		a := accepted{Light: light, Now: f.Still != nil && stream.MayAccept(f.Still.Print, light) == nil}
		if was, ok := of.Accepted[light]; ok {
			a.Accepted = &was
		}
		a.Moving = !x.Offers && moves.Codec == "H264" && pg.live != nil
		a.Now = a.Now && !a.Moving
		x.Pairs = append(x.Pairs, a)
	}
	x.Offers = x.Offers || moves.Codec == "H264" && pg.live != nil
	if _, codec, ok := f.Listens(); ok && w.Consent && pg.live != nil {
		x.Listens = codec
	}
	if _, codec, ok := f.Talker(w); ok {
		x.Codec, x.Through, x.Talks = codec, live.Through(of.Place, codec), w.Consent && pg.live != nil
	}
	if record, _ := stream.Roles(f.Profiles, w.Codecs); record == "" && f.Read() && !w.Held {
		for _, rec := range v.Recorders() {
			if slices.Contains(w.OtherRecorders, rec.Place) {
				x.Takers = append(x.Takers, rec)
			}
		}
	}
	return x
}

// soundText is in words what a profile has of sound.
func soundText(p stream.Profile, m *stream.Measured) string {
	var parts []string
	switch {
	case m != nil && m.Sound != nil && m.Sound.Measured && m.Sound.Level < 0:
		parts = append(parts, fmt.Sprintf("%s, %.0f kbit/s, level %.0f dB below full", stream.PrettySound(m.Sound.Codec), m.Sound.Kbps, -m.Sound.Level))
	case m != nil && m.Sound != nil && m.Sound.Measured:
		parts = append(parts, fmt.Sprintf("%s, %.0f kbit/s", stream.PrettySound(m.Sound.Codec), m.Sound.Kbps))
	case m != nil && m.Sound != nil:
		parts = append(parts, stream.PrettySound(m.Sound.Codec)+", not listened to")
	case p.Sound.Codec != "":
		parts = append(parts, stream.PrettySound(p.Sound.Codec))
	}
	if len(p.Sound.Takes) > 0 {
		takes := make([]string, len(p.Sound.Takes))
		for i, c := range p.Sound.Takes {
			takes[i] = stream.PrettySound(c)
		}
		parts = append(parts, "its speaker takes "+strings.Join(takes, ", "))
	}
	return strings.Join(parts, "; ")
}

// optionsText is in words what a profile's encoder can be set to.
func optionsText(p stream.Profile) string {
	var parts []string
	for _, o := range p.Options {
		says := stream.Pretty(o.Codec)
		if n := len(o.Sizes); n > 0 {
			largest := o.Sizes[0]
			for _, s := range o.Sizes {
				if s.Width*s.Height > largest.Width*largest.Height {
					largest = s
				}
			}
			says += fmt.Sprintf(" to %d × %d", largest.Width, largest.Height)
		}
		parts = append(parts, says)
	}
	return strings.Join(parts, "; ")
}

// sends is in words what a stream delivered.
func sends(m stream.Measured) string {
	if m.Trouble != "" {
		return "nothing: " + m.Trouble
	}
	says := fmt.Sprintf("%s %s, %.1f/s, %.0f kbit/s, key frame every %s, %d lost, jitter %.0f ms",
		stream.Pretty(m.Codec), m.SizeText(), m.FPS, m.MeanKbps, m.KeyText(), m.Lost, float64(m.Jitter.Microseconds())/1000)
	if m.First > 0 {
		says += fmt.Sprintf(", first picture after %.1f s", m.First.Seconds())
	}
	switch {
	case m.Encrypted:
		says += ", over TLS"
	case m.Over != "":
		says += ", over " + m.Over + " in clear"
	}
	return says
}

// Sheet lists what each stream declares and what it sent.
func (pg *Page) Sheet(ctx context.Context, p *shell.Request, sh *shell.Sheet) (err error) {
	of, v := sh.Row.Source, sh.Snapshot
	f, _ := facts.ForStreams(v, of)
	at := site.Profiles.ReadAt(v, of.Device.ID)
	for _, x := range f.Profiles {
		declares := x.Declares()
		if x.Kbps > 0 {
			declares += fmt.Sprintf(", ≤ %d kbit/s", x.Kbps)
		}
		if x.GOP > 0 {
			declares += fmt.Sprintf(", key frame every %d frames", x.GOP)
		}
		sh.Fact(x.Name+" declares", declares, at)
		if _, m, _ := f.Find(x.Token); m != nil {
			sh.Fact(x.Name+" sends", sends(*m), m.At)
		}
		if can := optionsText(x); can != "" {
			sh.Fact(x.Name+" can be", can, at)
		}
		if x.Cast != nil {
			sh.Fact(x.Name+" by multicast", x.Cast.Text(), at)
		}
		_, m, _ := f.Find(x.Token)
		if sound := soundText(x, m); sound != "" {
			sh.Fact(x.Name+" sound", sound, at)
		}
		if m != nil && m.Metadata != nil {
			sh.Fact(x.Name+" metadata", fmt.Sprintf("%.1f documents a second, %.0f kbit/s, %d lost", m.Metadata.PerSecond, m.Metadata.Kbps, m.Metadata.Lost), m.At)
		}
		sh.Code(x.Name+" address", x.URI, at)
		if x.Secure != "" {
			sh.Code(x.Name+" over TLS", x.Secure, at)
		}
	}
	viewFacts(sh, v, of)
	sh.Verb = "Set the streams of "
	if p.MayChange {
		x := pg.extra(v, of)
		x.Uses = usesOf(p.Frame, of, f)
		sh.Extra = x
	}
	sh.Readable, err = pg.ReadableNow(ctx, p, sh)
	return err
}

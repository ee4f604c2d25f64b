// Package channels shows recorders' channels, and what is to be placed on them.
package channels

import (
	"context"
	"embed"
	"fmt"
	"io/fs"
	"math"
	"net/netip"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/labstack/echo/v5"

	"duskyharbor/internal/core/channel"
	"duskyharbor/internal/core/finding"
	"duskyharbor/internal/core/stage"
	"duskyharbor/internal/core/stream"
	"duskyharbor/internal/site"
	"duskyharbor/internal/stages/channels"
	"duskyharbor/internal/stages/streams"
	"duskyharbor/internal/store"
	"duskyharbor/internal/web/shell"
)

//go:embed page.html page.css parts.html sheet.html page.js
var files embed.FS

// Page is its page.
type Page struct {
	*shell.Server
	stage *streams.Stage
}

// New makes the page.
func New(s *shell.Server, st *streams.Stage) *Page { return &Page{s, st} }

// Slug is its address.
func (*Page) Slug() string { return "channels" }

// Files are its template.
func (*Page) Files() fs.FS { return files }

// Stage is stage.Channels.
func (*Page) Stage() stage.Stage { return stage.Channels }

// Routes adds what it answers besides its page.
func (pg *Page) Routes(r *shell.Routes) {
	r.Site.GET("/channels/:device/:number/still", pg.channelStill)
}

// channelsData is a recorder's face with the tray beside it.
type channelsData struct {
	Recorders  []store.Device
	Chosen     store.Device
	Status     *channel.Recorder
	Trouble    string
	NoAccount  bool // the chosen recorder has none
	Slots      []slotView
	Spare      []slotView // free channels beyond those that are drawn at once
	Gauges     []gauge
	Tray       []trayItem
	Changes    int
	Verb       string // what is proposed for so many cameras
	Can        int
	Analog     []analogView
	Waits      int    // changes that wait for a restart
	Gap        string // what a restart costs
	Short      int    // how many of the tray the recorder has no channel for
	More       int    // how many channels more than it has taken are asked for
	Roomy      int    // of which inputs without a picture make room for
	Proposed   int
	Bench      *benchView
	Proposal   *proposal // where all that isn't placed would go; nil: nobody asked
	Ports      []channel.PortState
	Cascade    *cascadeView // of a recorder that takes other recorders' channels; nil: it takes cameras
	MayCascade bool         // it could
}

// Renews says whether the chosen recorder can know newer models.
func (d channelsData) Renews() bool { return d.Status != nil && len(d.Status.Renew(d.Chosen.ID)) > 0 }

// ListSays tells by which list the chosen recorder knows models.
func (d channelsData) ListSays() string {
	l := d.Status.Models
	says := "Models by its list of " + l.Version
	if l.Loaded != l.Version {
		says += ", its services run by " + l.Loaded
	}
	if l.Newer != "" && l.Newer != l.Version {
		says += "; a newer one, " + l.Newer + ", can be had"
	}
	if d.Status.Limits.NoOthers {
		return says + ". Other makes are refused."
	}
	return says + ". Other makes are taken too."
}

// freeShown is how many free channels are drawn at once where there are more than twice as many;
// the rest fold away, so that what can be done stands on the page.
const freeShown = 8

// fold puts free channels beyond the first few apart.
func (d *channelsData) fold() {
	free := func(v slotView) bool { return v.Slot == nil && v.Coming == "" }
	n := 0
	for _, v := range d.Slots {
		n += shell.Int(free(v))
	}
	if n <= 2*freeShown {
		return
	}
	shown := d.Slots[:0:0]
	n = 0
	for _, v := range d.Slots {
		if free(v) {
			if n++; n > freeShown {
				d.Spare = append(d.Spare, v)
				continue
			}
		}
		shown = append(shown, v)
	}
	d.Slots = shown
}

// maxSlots is how many channels of a recorder are drawn: no recorder of today has more.
const maxSlots = channels.MaxSlots

type slotView struct {
	Number    int
	Slot      *channel.Slot
	Camera    *shell.Row
	Receive   string
	Still     string // recorder and channel whose picture is shown; empty: none
	StillSays string
	Way       string // by which it is taken
	Sends     string // codec, rate, loss and last key frame, at a glance
	Comes     string // protocol, address, port and firmware
	Coming    string // who is proposed here
	Later     string // why it isn't there yet
}

type gauge struct {
	Of    channel.Gauge
	Name  string
	Text  string
	W     float64
	Class string
}

type trayItem struct {
	Row  shell.Row
	Then string // the gauges as they would be with it, see channel.GaugesWith
	Text string
	To   string
	Why  string
	Kbps int
}

func received(s channel.Slot) string {
	if s.State != channel.Receiving || s.Codec == "" {
		return ""
	}
	return fmt.Sprintf("%s %d × %d, %.1f/s, %.0f kbit/s, key frame %s UTC", stream.Pretty(s.Codec), s.Width, s.Height,
		s.FPS, s.Kbps, s.LastKey.Format("15:04:05"))
}

// glance is what a channel receives in the room of a slot: codec, rate, loss and last key frame;
// and by which protocol, from where, and what the camera runs.
func glance(s channel.Slot) (sends, comes string) {
	if s.State == channel.Receiving && s.Codec == "" {
		sends = "receiving; it doesn't tell what"
	} else if s.State == channel.Receiving {
		sends = fmt.Sprintf("%s %d × %d · %.2f Mbit/s · %.1f %% lost · key %s", stream.Pretty(s.Codec), s.Width, s.Height, s.Kbps/1000, 100*s.Lost, s.LastKey.Format("15:04:05"))
	} else {
		sends = s.State
	}
	comes = s.Address
	if s.Port > 0 {
		comes += fmt.Sprintf(":%d", s.Port)
	}
	if s.Over != "" {
		comes = s.Over + " · " + comes
	}
	if s.Firmware != "" {
		comes += " · firmware " + s.Firmware
	}
	return sends, comes
}

// Build makes the page's data.
func (pg *Page) Build(ctx context.Context, p *shell.Request) (any, error) {
	if err := p.Load(ctx); err != nil {
		return nil, err
	}
	heard, err := pg.Store.RecordersHeard(ctx, p.Site.ID)
	if err != nil {
		return nil, err
	}
	d := channelsData{Recorders: p.Snapshot.Recorders(), Can: len(heard)}
	want, _ := strconv.ParseInt(p.URL.Query().Get("recorder"), 10, 64)
	for _, r := range d.Recorders {
		_, known := site.Recorder.Of(p.Snapshot, r.ID)
		if d.Chosen.ID == 0 || r.ID == want || want == 0 && known && d.Status == nil {
			d.Chosen = r
			if st, ok := site.Recorder.Of(p.Snapshot, r.ID); ok {
				d.Status = &st
			}
		}
	}
	if st, ok := site.Recorder.Of(p.Snapshot, d.Chosen.ID); ok {
		d.Status = &st
	} else {
		d.Status = nil
	}
	d.Trouble, d.NoAccount = p.Snapshot.RecorderTrouble(d.Chosen.ID), d.Chosen.SetID == nil && d.Chosen.Bench == nil
	coming, plan := map[string]string{}, channel.Planner{}
	for _, r := range p.Rows {
		rec, slot, ok := p.Snapshot.HolderOf(r.Source)
		if slot != nil || ok && rec.ID != d.Chosen.ID {
			continue
		}
		f, w := channels.Facts(p.Snapshot, r.Source)
		t, number := trayOf(d.Status, r, f, w, plan.Next(p.Now, f, w))
		d.Tray = append(d.Tray, t)
		if number != "" {
			coming[number] = r.Place
		} else if channel.Lacks(f, w) {
			d.Short++
		}
	}
	slices.SortStableFunc(d.Tray, func(a, b trayItem) int { return shell.Int(b.To != "") - shell.Int(a.To != "") })
	if d.Status != nil {
		if err := pg.front(ctx, p, &d, coming); err != nil {
			return nil, err
		}
	}
	if err := pg.cascade(ctx, p, &d); err != nil {
		return nil, err
	}
	d.Bench = pg.bench(p.Snapshot, d.Chosen, p.Rows, d.Status)
	if p.URL.Query().Get("propose") == "1" {
		if d.Proposal, err = pg.propose(ctx, p); err != nil {
			return nil, err
		}
	}
	d.Verb = verbOf(p)
	_, d.Changes, err = pg.Store.Proposed(ctx, p.Selection, stage.Channels)
	return d, err
}

// verbOf says what is proposed: who is renamed, or gets another stream, is told beside who is placed.
func verbOf(p *shell.Request) string {
	placed, renamed, other := false, false, false
	for _, r := range p.Rows {
		for _, c := range r.Proposals {
			_, restreamed := c.Args["old_stream"]
			name := c.Kind == channel.Rename || c.Kind == channel.NameDevice
			place := c.Kind == channel.Place && !restreamed
			placed, renamed, other = placed || place, renamed || name, other || !place && !name
		}
	}
	switch {
	case other:
		return "Change channels of"
	case renamed && placed:
		return "Place or rename"
	case renamed:
		return "Rename"
	}
	return "Place"
}

// trayOf is a source that isn't placed, with the channel that it is proposed for as those before
// it in the tray leave it.
func trayOf(on *channel.Recorder, r shell.Row, f channel.Facts, w channel.Wishes, proposed []finding.Change) (t trayItem, number string) {
	t.Row, t.Kbps = r, w.Kbps
	if on != nil {
		t.Then = thenText(channel.GaugesWith(*on, w.Kbps, w.Width, w.Height))
	}
	if w.Stream != "" {
		t.Text = fmt.Sprintf("%d × %d · ≤ %.1f Mbit/s", w.Width, w.Height, float64(w.Kbps)/1000)
	}
	if len(proposed) > 0 {
		number = proposed[0].Args["channel"]
		t.To = "channel " + number
		return t, number
	}
	if t.Why = channel.Waits(f, w, r.Mark(stage.Find).State != stage.Blocked); t.Why == "" {
		t.Why = "those before it take the last channels"
	}
	return t, ""
}

// thenText is what the page's script draws gauges by: used and most of each, in their order.
func thenText(all []channel.Gauge) string {
	var b strings.Builder
	for i, g := range all {
		if i > 0 {
			b.WriteByte(' ')
		}
		fmt.Fprintf(&b, "%g/%g", g.Used, g.Most)
	}
	return b.String()
}

// front draws the recorder's channels with the cameras that they hold.
func (pg *Page) front(ctx context.Context, p *shell.Request, d *channelsData, coming map[string]string) error {
	var at []netip.Addr
	for _, x := range d.Status.Slots {
		if a, err := netip.ParseAddr(x.Address); err == nil {
			at = append(at, a)
		}
	}
	held, err := pg.Store.SourcesAt(ctx, p.Site.ID, at)
	if err != nil {
		return err
	}
	rows, err := pg.RowsOf(ctx, held)
	if err != nil {
		return err
	}
	devices := make([]int64, len(held))
	for i, of := range held {
		devices[i] = of.Device.ID
	}
	s, err := site.Beside(ctx, pg.Store, p.Snapshot, devices) // they needn't be in the page's window
	if err != nil {
		return err
	}
	on := map[int]*shell.Row{}
	for i := range rows {
		if rec, slot, ok := s.HolderOf(rows[i].Source); ok && slot != nil && rec.ID == d.Chosen.ID {
			on[slot.Number] = &rows[i]
		}
	}
	d.fill(on, coming)
	d.hybrid()
	d.Ports = d.Status.PortViews()
	return nil
}

// Kind is the make and model of the chosen recorder, before its address.
func (d channelsData) Kind() string {
	kind := d.Chosen.Make + " " + d.Chosen.Model
	if d.Status != nil {
		kind = d.Status.Make + " " + d.Status.Model
	}
	if kind = strings.TrimSpace(kind); kind != "" {
		kind += " ·"
	}
	return kind
}

func (d *channelsData) fill(on map[int]*shell.Row, coming map[string]string) {
	l := d.Status.Limits
	for _, g := range channel.Gauges(*d.Status) {
		class, format := "ready", "%.1f / %.0f"
		if g.Tight {
			class = "needs"
		}
		if g.Exact {
			format = "%.0f / %.0f"
		}
		d.Gauges = append(d.Gauges, gauge{g, g.Name, fmt.Sprintf(format, g.Used, g.Most), math.Min(100, 100*g.Used/g.Most), class})
	}
	now, next := d.Status.ChannelsNow(), d.Status.ChannelsNext()
	for n := 1; n <= min(max(now, next, l.Capacity.Most), maxSlots); n++ {
		v := slotView{Number: n, Coming: coming[strconv.Itoa(n)]}
		for i := range d.Status.Slots {
			if d.Status.Slots[i].Number != n {
				continue
			}
			v.Slot = &d.Status.Slots[i]
			v.Receive, v.Way = received(*v.Slot), channel.WayName(v.Slot.Way)
			v.Sends, v.Comes = glance(*v.Slot)
			v.Camera = on[n]
			if v.Slot.HasStill {
				v.Still, v.StillSays = fmt.Sprintf("%d/%d", d.Chosen.ID, n), "What the recorder holds of"
			}
		}
		if v.Slot == nil && d.Chosen.Cascade != nil {
			continue // what is free is in no one's way
		}
		switch {
		case n > now && n <= next:
			v.Later = "waits for the restart"
		case n > now:
			v.Later = "opens when an analog input is switched off"
		}
		d.Slots = append(d.Slots, v)
	}
	d.fold()
}

func (pg *Page) channelStill(c *echo.Context) error {
	number, err := strconv.Atoi(c.Param("number"))
	if err != nil {
		return store.ErrNotFound
	}
	ctx := c.Request().Context()
	id, err := shell.Number(c, "device")
	if err != nil {
		return err
	}
	rec, err := pg.Store.Device(ctx, id)
	if err != nil {
		return err
	}
	return pg.Still(c, rec, func() ([]byte, error) { return pg.stage.ChannelStill(ctx, rec, number) })
}

// Sheet tells what the recorder says of the camera's channel.
func (pg *Page) Sheet(_ context.Context, _ *shell.Request, sh *shell.Sheet) error {
	f, w := channels.Facts(sh.Snapshot, sh.Row.Source)
	sh.Fact("Planned for", f.Planned, time.Time{})
	sh.Code("Record stream", w.Stream, time.Time{})
	if f.Slot == nil && f.Recorder != nil && w.Stream != "" {
		c := f.Recorder.Choose(w.Camera)
		if c.Refused == "" {
			sh.Fact("Way in", channel.WaySays(c.Way), f.Recorder.At)
			sh.Fact("Would be lost", channel.PassText(c.Lost), f.Recorder.At)
		}
	}
	if s := f.Slot; s != nil {
		at := f.Recorder.At
		sh.Code("Channel", fmt.Sprint(s.Number), at)
		sh.Fact("Recorder says", s.State+": "+s.Detail, at)
		sh.Fact("It receives", received(*s), at)
		_, comes := glance(*s)
		sh.Fact("Way in", channel.WayName(s.Way), at)
		sh.Fact("By", comes, at)
		if s.State == channel.Receiving && s.Codec != "" {
			sh.Fact("Lost", fmt.Sprintf("%.1f %% of the packets", 100*s.Lost), at)
		}
		sh.Fact("Events", s.Events, at)
	}
	sh.Verb, sh.Extra = "Place ", extraOf(sh)
	if len(sh.Proposals) > 0 && (sh.Proposals[0].Kind == channel.Rename || sh.Proposals[0].Kind == channel.NameDevice) {
		sh.Verb = "Give one name to "
	}
	return nil
}

package web

import (
	"context"
	"fmt"
	"math"
	"net/netip"
	"slices"
	"strconv"
	"strings"
	"time"

	"duskyharbor/internal/core/access"
	"duskyharbor/internal/core/channel"
	"duskyharbor/internal/core/clock"
	"duskyharbor/internal/core/finding"
	"duskyharbor/internal/core/identity"
	"duskyharbor/internal/core/netplan"
	"duskyharbor/internal/core/proof"
	"duskyharbor/internal/core/route"
	"duskyharbor/internal/core/rule"
	"duskyharbor/internal/core/stage"
	"duskyharbor/internal/core/stream"
	"duskyharbor/internal/core/topic"
	"duskyharbor/internal/store"
)

// cell is one address of an address field.
type cell struct {
	X, Y   int
	Kind   string // "free", "reserved", "found", "unexpected", "trouble", "silent", "recorder"
	Label  string
	Device int64
}

type field struct {
	Network store.Network
	Cells   []cell
	Found   int
	Folded  bool // larger than a /24: told in words
}

type findRow struct {
	Device   store.Device
	Mark     stage.Mark
	Heard    string
	Worst    string
	WayOut   string
	Recorder bool
}

type findData struct {
	Fields []field
	Rows   []findRow
	Looked bool
	Sum    store.Look
	Seen   int
}

func (s *Server) findPage(_ context.Context, p *scenePage) (string, error) {
	var d findData
	by := map[netip.Addr]findRow{}
	marks := map[int64]row{}
	for _, r := range p.rows {
		marks[r.Device.ID] = r
	}
	for _, dev := range p.view.Devices {
		f := findRow{Device: dev, Recorder: dev.Kind == identity.Recorder}
		seen, heard := p.view.Seen(dev.ID)
		if heard {
			d.Seen++
			f.Heard = seen.WaysText()
		}
		f.judge(p, marks)
		if dev.Address != nil {
			by[*dev.Address] = f
		}
		if _, shown := marks[dev.ID]; shown || f.Recorder && p.Query == "" {
			d.Rows = append(d.Rows, f)
		}
	}
	slices.SortStableFunc(d.Rows, func(a, b findRow) int { return weight(b) - weight(a) })
	d.Rows = d.Rows[:min(len(d.Rows), maxRows)]
	for _, n := range p.networks {
		d.Fields = append(d.Fields, makeField(n, by))
		if n.LookedAt != nil && n.Look != nil {
			d.Looked = true
			d.Sum.Addresses += n.Look.Addresses
			d.Sum.Multicast += n.Look.Multicast
			d.Sum.Directed += n.Look.Directed
			d.Sum.Time += n.Look.Time
			d.Sum.RTSP += n.Look.RTSP
			d.Sum.Recorders += n.Look.Recorders
			d.Sum.Seconds = max(d.Sum.Seconds, n.Look.Seconds)
		}
	}
	p.Data = d
	return "find", nil
}

// judge gives a device of the Find table its mark and what stands out. Recorders
// have no row on the Board; Find's rules judge them the same way.
func (f *findRow) judge(p *scenePage, marks map[int64]row) {
	facts, known := p.view.Find(f.Device)
	found := identity.Judge(p.Now, facts, known)
	f.Mark = stage.Derive(stage.Find, stage.Case{Read: facts.Seen != nil, Findings: found, Done: "It answers where it is expected."}, func(stage.Stage) stage.State { return stage.NotYet })
	if r, ok := marks[f.Device.ID]; ok {
		f.Mark = r.Mark(stage.Find)
	}
	if worst, ok := finding.Worst(found); ok {
		f.Worst, f.WayOut = worst.Sentence, worst.WayOut
	}
}

func weight(f findRow) int {
	switch {
	case f.Heard != "" && f.Mark.State != stage.Ready:
		return 3
	case f.Heard != "":
		return 2
	case f.Mark.State == stage.Blocked:
		return 1
	}
	return 0
}

func makeField(n store.Network, by map[netip.Addr]findRow) field {
	f := field{Network: n}
	if n.Prefix.Bits() < 24 {
		f.Folded = true
		for a, r := range by {
			if n.Prefix.Contains(a) && r.Heard != "" {
				f.Found++
			}
		}
		return f
	}
	a := n.Prefix.Addr()
	for i := 0; i < 256 && n.Prefix.Contains(a); i++ {
		last := int(a.As4()[3])
		c := cell{X: last % 16, Y: last / 16, Kind: "free", Label: a.String()}
		if netplan.Reserved(n.Prefix, a) {
			c.Kind, c.Label = "reserved", a.String()+", reserved"
		}
		if r, ok := by[a]; ok {
			c.Device = r.Device.ID
			c.Kind, c.Label = kindOf(r), a.String()+", "+r.Device.Place+": "+r.Mark.State.Label()
			if r.Heard != "" {
				f.Found++
			}
		}
		f.Cells = append(f.Cells, c)
		a = a.Next()
	}
	return f
}

func kindOf(r findRow) string {
	switch {
	case r.Heard == "" && r.Recorder:
		return "silent-recorder"
	case r.Heard == "":
		return "silent"
	case r.Recorder:
		return "recorder"
	case !r.Device.Expected:
		return "unexpected"
	case r.Mark.State == stage.Blocked || r.Mark.State == stage.Needs:
		return "trouble"
	}
	return "found"
}

// signInData is devices × credential sets.
type signInData struct {
	Sets   []store.SealedSet
	Rows   []signInRow
	Can    int
	Unseen int
}

type signInRow struct {
	Row   row
	Cells []string // per set: "opened", "wrong", "pending", ""
	Pips  []bool   // true: a try is left
	Until string
	Seen  bool
	How   string
}

func (s *Server) signInStage(ctx context.Context, p *scenePage) (string, error) {
	sets, err := s.store.Sets(ctx, p.Site.ID)
	if err != nil {
		return "", err
	}
	var d signInData
	recorders := map[int64]bool{}
	for _, r := range p.view.Recorders() {
		if r.SetID != nil {
			recorders[*r.SetID] = true
		}
	}
	for _, set := range sets {
		if !recorders[set.ID] {
			set.Sealed = nil
			d.Sets = append(d.Sets, set)
		}
	}
	for _, r := range p.rows[:min(len(p.rows), maxRows)] {
		if x := signInRowOf(p, r, d.Sets); x.Seen {
			d.Rows = append(d.Rows, x)
		} else {
			d.Unseen++
		}
	}
	for _, x := range readable(p.view, stage.SignIn) {
		d.Can += truth(x.Kind == identity.Camera)
	}
	p.Data = d
	return "sign-in", nil
}

func truth(b bool) int {
	if b {
		return 1
	}
	return 0
}

func signInRowOf(p *scenePage, r row, sets []store.SealedSet) signInRow {
	f := p.view.SignIn(r.Device)
	_, seen := p.view.Seen(r.Device.ID)
	out := signInRow{Row: r, Seen: seen}
	for _, set := range sets {
		state := ""
		for _, t := range f.Tries {
			if t.SetID == set.ID {
				state = string(t.Outcome)
			}
		}
		if f.Account != nil && f.Account.SetID == set.ID {
			state, out.How = "opened", string(f.Account.Scheme)
			if f.Account.Level != "" {
				out.How += ", " + f.Account.Level
			}
		}
		out.Cells = append(out.Cells, state)
	}
	left, until := access.Left(p.Now, f.Tries)
	for i := range access.Budget {
		out.Pips = append(out.Pips, i < left)
	}
	if left == 0 {
		out.Until = until.In(p.Zone).Format("15:04")
	}
	return out
}

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
	Unread  int
	Height  float64
}

type dot struct {
	X, Y  float64
	Mark  stage.Mark
	Label string
	ID    int64
	Left  bool // label to the left
}

type band struct {
	X, W  float64
	Class string
	Name  string
}

type tick struct {
	X     float64
	Label string
}

type clockRow struct {
	Row               row
	Offset, Error     string
	Against, Cause    string
	Source, Matters   string
	Changes           []finding.Change
	HasChange, Judged bool
}

// clockX places an offset on the strip: symmetric, logarithmic, ±10 h at its ends.
func clockX(d time.Duration) float64 {
	const half, end = 470.0, 36000.0
	v := math.Log1p(min(math.Abs(d.Seconds()), end)/0.8) / math.Log1p(end/0.8) * half
	if d < 0 {
		v = -v
	}
	return 520 + v
}

func (s *Server) clockPage(_ context.Context, p *scenePage) (string, error) {
	d := clockData{Height: 150}
	edges := []struct {
		to    time.Duration
		class string
		name  string
	}{{clock.InStepWithin, "in-step", "in step"}, {clock.UsableWithin, "usable", "usable"}, {clock.DefaultWindow, "at-risk", "at risk"}, {10 * time.Hour, "refused", "refused"}}
	from := time.Duration(0)
	for _, e := range edges {
		if from == 0 {
			d.Bands = append(d.Bands, band{clockX(-e.to), clockX(e.to) - clockX(-e.to), e.class, e.name})
		} else {
			d.Bands = append(d.Bands, band{clockX(from), clockX(e.to) - clockX(from), e.class, e.name}, band{clockX(-e.to), clockX(-from) - clockX(-e.to), e.class, e.name})
		}
		from = e.to
	}
	for label, at := range map[string]time.Duration{"1 s": time.Second, "5 s": 5 * time.Second, "30 s": 30 * time.Second, "5 min": 5 * time.Minute, "1 h": time.Hour, "10 h": 10 * time.Hour} {
		d.Ticks = append(d.Ticks, tick{clockX(at), "+" + label}, tick{clockX(-at), "−" + label})
	}
	d.Ticks = append(d.Ticks, tick{clockX(0), "0"})
	for _, r := range p.rows[:min(len(p.rows), maxRows)] {
		d.add(p, r)
	}
	slices.SortStableFunc(d.Rows, func(a, b clockRow) int {
		return 2*(truth(b.HasChange)-truth(a.HasChange)) + truth(b.Judged) - truth(a.Judged)
	})
	for _, x := range readable(p.view, stage.Clock) {
		d.Can += truth(x.Kind == identity.Camera)
	}
	p.Data = d
	return "clock", nil
}

func (d *clockData) add(p *scenePage, r row) {
	f, _ := p.view.Clock(r.Device)
	c := clockRow{Row: r, Changes: r.Proposals[stage.Clock], HasChange: len(r.Proposals[stage.Clock]) > 0, Judged: f.Camera != nil}
	d.Changes += len(c.Changes)
	d.Cams += truth(c.HasChange)
	if f.Camera != nil {
		o := f.Offset()
		m := r.Mark(stage.Clock)
		c.Offset, c.Error, c.Against, c.Source = o.Seconds(), o.ErrorSeconds(), f.Reference.Name, f.Camera.Source()
		c.Cause = string(clock.CauseOf(*f.Camera, o))
		b := clock.BandOf(o, f.Window)
		if b == clock.Refused || b == clock.AtRisk {
			c.Matters = "now: " + string(b)
		}
		dt := dot{X: clockX(o.Mid()), Y: 24 + float64(len(d.Dots)%4)*32, Mark: m, ID: r.Device.ID}
		if m.State != stage.Ready || len(d.Rows) < 12 {
			dt.Label = r.Device.Place
		} else {
			d.Quiet++
		}
		dt.Left = dt.X > 800
		d.Dots = append(d.Dots, dt)
		d.Rows = append(d.Rows, c)
	} else {
		d.Unread++
	}
}

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

func (s *Server) streamsPage(_ context.Context, p *scenePage) (string, error) {
	var d streamsData
	want, _ := strconv.ParseInt(p.URL.Query().Get("camera"), 10, 64)
	for _, r := range p.rows[:min(len(p.rows), maxRows)] {
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
	d.Can = len(readable(p.view, stage.Streams))
	p.Data = d
	return "streams", nil
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
		off := !limit && math.Abs(v-d) > math.Max(1.5, 0.2*d) || limit && v > 1.2*d
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
	keys := pair{"Key frame every", fmt.Sprintf("%.1f s", key), fmt.Sprintf("%.1f s", m.KeyEvery.Seconds()), 100 * key / top(key, m.KeyEvery.Seconds()), 100 * m.KeyEvery.Seconds() / top(key, m.KeyEvery.Seconds()), m.KeyEvery > stream.MaxKeyEvery+100*time.Millisecond}
	return []pair{size, scale("Frame rate", p.FPS, m.FPS, top(p.FPS, m.FPS), "/s", false), scale("Bit rate, mean", float64(p.Kbps), m.MeanKbps, top(float64(p.Kbps), m.MeanKbps), "kbit/s", true), keys}
}

// channelsData is a recorder's face with the tray beside it.
type channelsData struct {
	Recorders []store.Device
	Chosen    store.Device
	Status    *channel.Recorder
	Trouble   string
	Slots     []slotView
	Gauges    []gauge
	Tray      []trayItem
	Changes   int
	Can       int
	Proposed  int
}

type slotView struct {
	Number  int
	Slot    *channel.Slot
	Camera  *row
	Receive string
	Coming  string // who is proposed here
}

type gauge struct {
	Name  string
	Text  string
	W     float64
	Class string
}

type trayItem struct {
	Row  row
	Text string
	To   string
	Why  string
}

func received(s channel.Slot) string {
	if s.State != "receiving" {
		return ""
	}
	return fmt.Sprintf("%s %d × %d, %.1f/s, %.0f kbit/s, key frame %s UTC", stream.Pretty(s.Codec), s.Width, s.Height, s.FPS, s.Kbps, s.LastKey.Format("15:04:05"))
}

func (s *Server) channelsPage(_ context.Context, p *scenePage) (string, error) {
	d := channelsData{Recorders: p.view.Recorders(), Can: len(readable(p.view, stage.Channels))}
	want, _ := strconv.ParseInt(p.URL.Query().Get("recorder"), 10, 64)
	for _, r := range d.Recorders {
		_, known := p.view.Recorder(r.ID)
		if d.Chosen.ID == 0 || r.ID == want || want == 0 && known && d.Status == nil {
			d.Chosen = r
			if st, ok := p.view.Recorder(r.ID); ok {
				d.Status = &st
			}
		}
	}
	if st, ok := p.view.Recorder(d.Chosen.ID); ok {
		d.Status = &st
	} else {
		d.Status = nil
	}
	d.Trouble = p.view.RecorderTrouble(d.Chosen.ID)
	coming := map[string]string{}
	for _, r := range p.rows {
		rec, slot, ok := p.view.HolderOf(r.Device)
		if slot != nil || ok && rec.ID != d.Chosen.ID {
			continue
		}
		d.Tray = append(d.Tray, trayOf(p, r))
		for _, c := range r.Proposals[stage.Channels] {
			d.Changes++
			coming[c.Args["channel"]] = r.Device.Place
		}
	}
	slices.SortStableFunc(d.Tray, func(a, b trayItem) int { return truth(b.To != "") - truth(a.To != "") })
	if d.Status != nil {
		d.fill(p, coming)
	}
	p.Data = d
	return "channels", nil
}

func trayOf(p *scenePage, r row) trayItem {
	f, w := p.view.Channel(r.Device)
	t := trayItem{Row: r}
	if w.Stream != "" {
		t.Text = fmt.Sprintf("%d × %d · ≤ %.1f Mbit/s", w.Width, w.Height, float64(w.Kbps)/1000)
	}
	switch c := r.Proposals[stage.Channels]; {
	case len(c) > 0:
		t.To = "channel " + c[0].Args["channel"]
	case r.Mark(stage.Find).State == stage.Blocked:
		t.Why = "not found yet"
	case f.Planned == "":
		t.Why = "no recorder planned"
	case w.Stream == "":
		t.Why = "streams not read yet"
	case f.Recorder == nil:
		t.Why = "recorder not read yet"
	default:
		t.Why = f.Recorder.Binds(w.Kbps)
	}
	return t
}

func (d *channelsData) fill(p *scenePage, coming map[string]string) {
	used, mbit := d.Status.Used()
	l := d.Status.Limits
	add := func(name string, v, most float64, format string) {
		if most <= 0 {
			return
		}
		class := "ready"
		if v/most > 0.9 {
			class = "needs"
		}
		d.Gauges = append(d.Gauges, gauge{name, fmt.Sprintf(format+" / %.0f", v, most), math.Min(100, 100*v/most), class})
	}
	add("IP channels", float64(used), float64(l.Channels), "%.0f")
	add("Mbit/s in", mbit, l.MbitIn, "%.1f")
	add("Licences", float64(used), float64(l.Licences), "%.0f")
	for n := 1; n <= min(l.Channels, 64); n++ {
		v := slotView{Number: n, Coming: coming[strconv.Itoa(n)]}
		for i := range d.Status.Slots {
			if d.Status.Slots[i].Number != n {
				continue
			}
			v.Slot = &d.Status.Slots[i]
			v.Receive = received(*v.Slot)
			for j := range p.all {
				if p.all[j].Address() == v.Slot.Address {
					v.Camera = &p.all[j]
				}
			}
		}
		d.Slots = append(d.Slots, v)
	}
}

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

// proveData is one camera's walk.
type proveData struct {
	Cameras []row
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
	p.Data = &d
	if d.Chosen == nil {
		return "prove", nil
	}
	dev := d.Chosen.Device
	for _, g := range p.view.Routes(dev).Pegs {
		if g.Input == "line" || d.Peg == "" && g.Input == "area" {
			d.Peg, d.Ready = topic.Title(g.Topic)+" → "+g.Input, true
		}
	}
	d.Rules = drawings(p.view.Rules(dev.ID))
	if t := p.view.Proof(dev).Last; t != nil {
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

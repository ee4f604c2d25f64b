// Package recording shows what is kept of each camera, when, and for how many days that lasts.
package recording

import (
	"cmp"
	"context"
	"embed"
	"fmt"
	"io/fs"
	"math"
	"net/netip"
	"net/url"
	"slices"
	"strconv"
	"time"

	"duskyharbor/internal/core/channel"
	"duskyharbor/internal/core/recording"
	"duskyharbor/internal/core/stage"
	"duskyharbor/internal/facts"
	"duskyharbor/internal/site"
	"duskyharbor/internal/store"
	"duskyharbor/internal/web/shell"
)

//go:embed page.html page.css page.js
var files embed.FS

// Page is its page.
type Page struct{ *shell.Server }

// New makes the page.
func New(s *shell.Server) *Page { return &Page{s} }

// Slug is its address.
func (*Page) Slug() string { return "recording" }

// Files are its template and script.
func (*Page) Files() fs.FS { return files }

// Stage is stage.Recording.
func (*Page) Stage() stage.Stage { return stage.Recording }

// Routes adds what it answers besides its page.
func (pg *Page) Routes(r *shell.Routes) {
	r.Change.POST("/recording/draft", pg.show)
}

type pageData struct {
	Plans   []store.RecordingPlan
	Draft   draft
	Modes   []modeView
	Cells   []cell
	Runs    []runLabel
	Hours   []hourLabel
	Bars    []*bar
	Chosen  *bar // whose eaters are told
	Steps   []stepView
	Eaters  []eater
	Rows    []row
	Wrong   []wrong // what the draft would do where it is chosen
	Least   int
	Most    int
	Active  int
	Asked   bool // for how many days is said
	Can     int
	Changes int
	Placed  int
	Trouble []string
	// Picks are the views that the draft would be chosen for: those that are ticked, all where none is. Only
	// where somebody has it in hand, see draft.Edited.
	Picks map[int64]bool
}

// picked says whether a draft in hand would be chosen for a view.
func (d *pageData) picked(of site.Source) bool {
	return d.Draft.Edited && d.Draft.Wrong == "" && (len(d.Picks) == 0 || d.Picks[of.ID])
}

// DayNames are the days of the week.
func (pageData) DayNames() [recording.WeekDays]string { return recording.DayNames }

// modeView is one kind of hours as its sentence is filled in.
type modeView struct {
	recording.Mode
	At     int
	Title  string
	Idles  []option
	Events []option
	Causes []option
}

type option struct {
	Value, Says string
	On          bool
}

// cell is one half hour of the week as it is drawn.
type cell struct {
	Day, Half, Mode int
	X, Y            float64
	Title           string
}

type runLabel struct {
	X, Y float64
	Mode int
	Text string
}

type hourLabel struct {
	X    float64
	Text string
}

// Measures of the week as it is drawn, in its own units.
const (
	labelWidth = 44.0
	cellWidth  = 12.6
	cellHeight = 30.0
	headHeight = 22.0
)

func drawWeek(p recording.Plan) (cells []cell, runs []runLabel, hours []hourLabel) {
	for d := range recording.WeekDays {
		for h := range recording.HalfHours {
			m := int(p.Week[d][h])
			x, y := labelWidth+cellWidth*float64(h), headHeight+cellHeight*float64(d)
			cells = append(cells, cell{d, h, m, x, y, fmt.Sprintf("%s %02d:%02d %s", recording.DayNames[d], h/2, h%2*30, p.At(d, h).Name)})
			if h == 0 || int(p.Week[d][h-1]) != m {
				runs = append(runs, runLabel{x + 3, y + 18, m, strconv.Itoa(m + 1)})
			}
		}
	}
	for h := 0; h <= 24; h += 3 {
		hours = append(hours, hourLabel{labelWidth + 2*cellWidth*float64(h), fmt.Sprintf("%02d", h)})
	}
	return cells, runs, hours
}

// Draws is how a change of a plan is drawn: as two weeks.
func (*Page) Draws() map[string]shell.Draw {
	return map[string]shell.Draw{recording.SetPlan: func(args map[string]string) (from, to shell.Sketch, ok bool) {
		was, err := recording.Decode(args["old_plan"])
		is, err2 := recording.Decode(args["plan"])
		return sketchWeek(was), sketchWeek(is), err == nil && err2 == nil
	}}
}

// sketchWeek is a plan as a small week: a row a day, a run a part.
func sketchWeek(p recording.Plan) shell.Sketch {
	s := shell.Sketch{Name: p.Short(), Width: recording.HalfHours, Height: 2 * recording.WeekDays}
	for d, day := range p.Week {
		for from := 0; from < recording.HalfHours; {
			end := from + 1
			for end < recording.HalfHours && day[end] == day[from] {
				end++
			}
			s.Parts = append(s.Parts, shell.SketchPart{X: float64(from), Y: 2 * float64(d), W: float64(end - from), H: 1.7, Class: "m" + strconv.Itoa(int(day[from]))})
			from = end
		}
	}
	return s
}

func modesOf(p recording.Plan) (out []modeView) {
	for i, m := range p.Modes {
		v := modeView{Mode: m, At: i, Title: recording.Title(m.Name)}
		for _, k := range recording.Levels() {
			v.Idles = append(v.Idles, option{string(k), k.String(), k == m.Idle})
			if k != recording.Nothing {
				v.Events = append(v.Events, option{string(k), k.String(), k == m.Event})
			}
		}
		for _, c := range recording.Causes() {
			v.Causes = append(v.Causes, option{string(c), c.String(), slices.Contains(m.Causes, c)})
		}
		out = append(out, v)
	}
	return out
}

// bar is one recorder's days against the least and the most.
type bar struct {
	Recorder store.Device
	Status   channel.Recorder
	Channels []recording.Channel // as they would keep by what is chosen and in hand
	Now      recording.Sum       // as they keep
	Then     recording.Sum
	Says     string
	Days     string
	Was      string // days now, where they would be others
	Kept     string // what it really kept
	Class    string
	W        float64
	Parts    []part
	Marks    []limit
	Finding  string
	Age      int // days after which it is to delete; 0: nothing is offered
}

// part is one camera's share of a bar.
type part struct {
	X, W  float64
	Title string
	Odd   bool
}

type limit struct {
	X, Text float64
	Anchor  string
	Says    string
}

type stepView struct {
	recording.Step
	Gain string
	Href string // tries it; empty: it is made elsewhere
	Else string // where
}

type eater struct {
	Name  string
	Row   int64
	Mbit  float64
	Share float64
}

// Keeping asks for how many days the site keeps.
func (d pageData) Keeping(b shell.Frame) shell.Form {
	days := func(n int) string {
		if n == 0 {
			return "" // nobody says
		}
		return strconv.Itoa(n)
	}
	const most = 3650
	return b.Form(shell.Form{Act: "recording/keeping", ID: "keeping", Do: "Keep these", Small: true, Fields: []shell.Field{
		{Name: "least", Label: "Contract, at least", Kind: shell.AsNumber, Value: days(d.Least), Greatest: most, Narrow: true, After: "days"},
		{Name: "most", Label: "Privacy rule, at most", Kind: shell.AsNumber, Value: days(d.Most), Greatest: most, Narrow: true, After: "days"},
		{Name: "active", Label: "Where nobody counted, something happens for", Kind: shell.AsNumber, Value: strconv.Itoa(d.Active), Greatest: 100,
			Narrow: true, After: "% of the time"}}})
}

type row struct {
	shell.Row
	Where string
	Keeps string
	Plan  string
	Wants bool // the plan differs from what is kept
}

type wrong struct {
	Place, Says string
	Row         int64
}

// Build makes the page's data.
func (pg *Page) Build(ctx context.Context, p *shell.Request) (any, error) {
	if err := p.Load(ctx); err != nil {
		return nil, err
	}
	d := pageData{Least: p.Site.LeastDays, Most: p.Site.MostDays, Active: p.Site.ActivePercent}
	d.Asked = d.Least > 0 || d.Most > 0
	var err error
	if d.Plans, err = pg.Store.RecordingPlans(ctx, p.Site.ID); err != nil {
		return nil, err
	}
	heard, err := pg.Store.RecordersHeard(ctx, p.Site.ID)
	if err != nil {
		return nil, err
	}
	d.Can = len(heard)
	typed := inHand(p)
	d.Draft = read(typed, d.Plans)
	d.Picks = picksOf(typed)
	d.Modes = modesOf(d.Draft.Plan)
	d.Cells, d.Runs, d.Hours = drawWeek(d.Draft.Plan)
	if err := pg.sum(ctx, p, &d); err != nil {
		return nil, err
	}
	for _, r := range p.Rows {
		d.Rows = append(d.Rows, rowOf(p.Snapshot, r))
		if f, _ := facts.ForRecording(p.Snapshot, r.Source); f.Slot != nil {
			d.Placed++
		}
	}
	_, d.Changes, err = pg.Store.Proposed(ctx, p.Selection, stage.Recording)
	return d, err
}

// picksOf are the views that are ticked, as an address names them.
func picksOf(v url.Values) map[int64]bool {
	out := map[int64]bool{}
	for _, text := range v["pick"] {
		if id, err := strconv.ParseInt(text, 10, 64); err == nil && len(out) < shell.MaxPicks {
			out[id] = true
		}
	}
	return out
}

func rowOf(s *site.Snapshot, r shell.Row) row {
	f, w := facts.ForRecording(s, r.Source)
	v := row{Row: r, Plan: w.Name}
	switch {
	case f.Slot == nil && f.Recorder != "":
		v.Where = f.Recorder + ", not placed"
	case f.Slot != nil:
		v.Where = fmt.Sprintf("%s · %d", f.Recorder, f.Channel)
		if f.Slot.Plan != nil {
			v.Keeps = shortly(*f.Slot.Plan)
		}
		v.Wants = f.Slot.Plan != nil && w.Name != "" && !f.Slot.Plan.Equal(w.Plan)
	}
	return v
}

// shortly is a plan in the room of a table.
func shortly(p recording.Plan) string {
	if len(p.Modes) == 1 {
		return p.Modes[0].String()
	}
	return fmt.Sprintf("%d kinds of hours", len(p.Modes))
}

// sum reckons what each recorder keeps now and would keep by the draft.
func (pg *Page) sum(ctx context.Context, p *shell.Request, d *pageData) error {
	on, s, err := pg.held(ctx, p)
	if err != nil {
		return err
	}
	want, _ := strconv.ParseInt(p.URL.Query().Get("recorder"), 10, 64)
	for _, rec := range s.Recorders() {
		if t := s.RecorderTrouble(rec.ID); t != "" {
			d.Trouble = append(d.Trouble, rec.Place+": "+t)
		}
		r, known := site.Recorder.Of(s, rec.ID)
		if !known {
			continue
		}
		b := &bar{Recorder: rec, Status: r, Now: facts.SumOf(s, rec.ID, r)}
		b.Channels = r.Recordings()
		for i, slot := range r.Slots {
			h, ok := on[[2]int64{rec.ID, int64(slot.Number)}]
			if !ok {
				continue
			}
			c := &b.Channels[i]
			c.Source = h.ID
			switch plan := h.PlanID; {
			case d.picked(h):
				c.Plan, c.NoPlan = d.Draft.Plan, false
			case plan == nil:
			case *plan == d.Draft.ID && d.Draft.Wrong == "":
				c.Plan, c.NoPlan = d.Draft.Plan, false
			default:
				if chosen, ok := s.Plans[*plan]; ok {
					c.Plan, c.NoPlan = chosen.Plan, false
				}
			}
			d.mind(s, h)
		}
		b.Then = recording.SumOf(r.Storage, b.Channels, facts.Assume(s))
		d.Bars = append(d.Bars, b)
	}
	d.draw(facts.Term(s))
	d.choose(want)
	if d.Chosen != nil {
		d.tell(facts.Assume(s), p)
	}
	return nil
}

// mind notes what a draft would do to a channel that it is chosen for.
func (d *pageData) mind(s *site.Snapshot, of site.Source) {
	chosen := of.PlanID != nil && *of.PlanID == d.Draft.ID
	if !chosen && !d.picked(of) || d.Draft.Wrong != "" || len(d.Wrong) >= 4 {
		return
	}
	f, _ := facts.ForRecording(s, of)
	if f.Slot == nil {
		return
	}
	for _, x := range f.Problems(d.Draft.Plan, true) {
		if x.Severity > 0 && len(d.Wrong) < 4 {
			d.Wrong = append(d.Wrong, wrong{of.Place, x.Sentence, of.ID})
		}
	}
}

// held finds the views that recorders' channels hold.
func (pg *Page) held(ctx context.Context, p *shell.Request) (map[[2]int64]site.Source, *site.Snapshot, error) {
	var at []netip.Addr
	for _, rec := range p.Snapshot.Recorders() {
		r, _ := site.Recorder.Of(p.Snapshot, rec.ID)
		for _, slot := range r.Slots {
			if a, err := netip.ParseAddr(slot.Address); err == nil {
				at = append(at, a)
			}
		}
	}
	sources, err := pg.Store.SourcesAt(ctx, p.Site.ID, at)
	if err != nil {
		return nil, nil, err
	}
	devices := make([]int64, len(sources))
	for i, of := range sources {
		devices[i] = of.Device.ID
	}
	s, err := site.Beside(ctx, pg.Store, p.Snapshot, devices)
	if err != nil {
		return nil, nil, err
	}
	on := map[[2]int64]site.Source{}
	for _, of := range s.Sources {
		if rec, slot, ok := s.HolderOf(of); ok && slot != nil {
			on[[2]int64{rec.ID, int64(slot.Number)}] = of
		}
	}
	return on, s, nil
}

// barWidth is how wide a bar is drawn, in its own units.
const barWidth = 640.0

// draw lays out the bars on one scale: that of the most days that anyone keeps or is allowed to.
func (d *pageData) draw(t recording.Term) {
	scale := math.Max(10, 1.35*float64(max(t.Least, t.Most)))
	for _, b := range d.Bars {
		for _, days := range []float64{b.Now.Days, b.Then.Days} {
			if !math.IsInf(days, 1) {
				scale = math.Max(scale, math.Min(days, 4*math.Max(30, float64(max(t.Least, t.Most))))*1.1)
			}
		}
	}
	for _, b := range d.Bars {
		b.lay(t, scale)
	}
}

func (b *bar) lay(t recording.Term, scale float64) {
	st := b.Status.Storage
	if st.Usable <= 0 {
		b.Says, b.Days = "it doesn't say how much it can hold", ""
		return
	}
	kept := b.Then.Days
	if st.Deletes > 0 {
		kept = min(kept, float64(st.Deletes))
	}
	shown := b.Then
	shown.Days = kept
	b.Days = shown.DaysText()
	if now := b.Now.DaysText(); b.Then.DaysText() != now {
		b.Was = now
	}
	b.Says = fmt.Sprintf("%s usable · %s a day%s", recording.Size(st.Usable), recording.Size(b.Then.Bytes), b.Then.Basis())
	if st.KeptDays > 0 && b.Then.Lived == 0 {
		b.Kept = fmt.Sprintf("As it is set now it kept %s a day over %s.", recording.Size(st.Kept), recording.DaysText(st.KeptDays))
	}
	b.Class = "ready"
	if fi, bad := recording.JudgeTerm(b.Recorder.Place, b.Status.At, st, b.Then, t); bad {
		b.Finding, b.Class = fi.Sentence, "needs"
		if t.Of(b.Then, st) == recording.TooMany && !b.Status.Lacks(channel.ActAge) {
			b.Age = t.Most
		}
	}
	b.W = barWidth * math.Min(1, kept/scale)
	x := 0.0
	for k, e := range b.eaters() {
		w := b.W * e.Share / 100
		b.Parts = append(b.Parts, part{x, w, fmt.Sprintf("%s: %s a day, %.0f %%", e.Name, recording.Size(e.Mbit*1e6/8*86400), e.Share), k%2 == 1})
		x += w
	}
	for _, l := range []struct {
		days int
		says string
	}{{t.Least, "contract, least"}, {t.Most, "privacy, most"}} {
		if l.days > 0 {
			m := limit{X: barWidth * float64(l.days) / scale, Anchor: "start", Says: fmt.Sprintf("%s %d", l.says, l.days)}
			m.Text = m.X + 3
			if l.days == t.Least {
				m.Text, m.Anchor = m.X-3, "end"
			}
			b.Marks = append(b.Marks, m)
		}
	}
}

// eaters are the channels by what they make a day, the most first; what isn't on channels is one
// of them.
func (b *bar) eaters() (out []eater) {
	add := func(name string, row int64, bytes float64) {
		if bytes > 0 {
			out = append(out, eater{name, row, bytes * 8 / 86400 / 1e6, 100 * bytes / b.Then.Bytes})
		}
	}
	for _, i := range b.Then.Eaters() {
		add(b.Channels[i].Name, b.Channels[i].Source, b.Then.Loads[i].Bytes)
	}
	add("Analog inputs", 0, b.Status.Storage.Other)
	slices.SortStableFunc(out, func(a, b eater) int { return cmp.Compare(b.Mbit, a.Mbit) })
	return out
}

// choose takes the recorder that is asked for, else the one that is worst off.
func (d *pageData) choose(want int64) {
	for _, b := range d.Bars {
		switch {
		case b.Recorder.ID == want:
			d.Chosen = b
			return
		case d.Chosen == nil || b.Then.Days > 0 && len(b.Then.Eaters()) > 0 && (len(d.Chosen.Then.Eaters()) == 0 || b.Then.Days < d.Chosen.Then.Days):
			d.Chosen = b
		}
	}
}

// tell lists who eats most on the chosen recorder, and what would bring it more days.
func (d *pageData) tell(assume float64, p *shell.Request) {
	b := d.Chosen
	d.Eaters = b.eaters()
	d.Eaters = d.Eaters[:min(len(d.Eaters), 6)]
	if d.Least == 0 {
		return
	}
	for _, st := range recording.Steps(b.Status.Storage, b.Channels, assume, d.Least) {
		v := stepView{Step: st, Gain: fmt.Sprintf("+%.1f days", st.Gain)}
		switch {
		case st.Mode == "":
			v.Else = p.Path("streams") + "?sheet=" + strconv.FormatInt(b.Channels[st.Places[0]].Source, 10)
		default:
			id, name := d.named(st.Of)
			v.Href = p.Path("recording") + "?" + draft{ID: id, Name: name, Plan: st.Plan}.fields().Encode()
		}
		d.Steps = append(d.Steps, v)
	}
}

// named finds the site's plan that keeps as p does; a new one where none does.
func (d *pageData) named(p recording.Plan) (id int64, name string) {
	if d.Draft.Plan.Equal(p) && d.Draft.ID != 0 {
		return d.Draft.ID, d.Draft.Name
	}
	for _, x := range d.Plans {
		if x.Plan.Equal(p) {
			return x.ID, x.Name
		}
	}
	return 0, "Everywhere"
}

// Sheet tells what one camera's channel keeps.
func (pg *Page) Sheet(_ context.Context, _ *shell.Request, sh *shell.Sheet) error {
	f, w := facts.ForRecording(sh.Snapshot, sh.Row.Source)
	sh.Fact("Plan that was chosen", w.Name, time.Time{})
	if f.Slot != nil {
		sh.Fact("Channel", fmt.Sprintf("%d of %s", f.Channel, f.Recorder), f.At)
		sh.Fact("Way in", f.Way, f.At)
		if f.Slot.Plan != nil {
			sh.Fact("Keeps", f.Slot.Plan.String(), f.At)
		}
		for _, x := range []struct {
			name string
			r    recording.Rate
		}{{"By day", f.Slot.Rates.Day}, {"By night", f.Slot.Rates.Night}} {
			if x.r.Record > 0 {
				says := fmt.Sprintf("record stream %.0f kbit/s", x.r.Record)
				if x.r.View > 0 {
					says += fmt.Sprintf(", view stream %.0f", x.r.View)
				}
				sh.Fact(x.name+" it receives", says, f.At)
			}
		}
		for _, a := range f.Slot.Activity {
			if a.Seconds >= recording.Enough {
				sh.Fact(recording.Title(a.Cause.String())+map[bool]string{true: " by night", false: " by day"}[a.Night], fmt.Sprintf("%.1f %% of the time", 100*a.Active/a.Seconds), f.At)
			}
		}
		if f.Slot.KeptDay > 0 {
			sh.Fact("It kept", recording.Size(f.Slot.KeptDay)+" a day", f.At)
		}
	}
	sh.Verb = "Write the plan to "
	return nil
}

// Package recording shows what is kept of each camera, when, and for how many days that lasts.
package recording

import (
	"context"
	"embed"
	"fmt"
	"io/fs"
	"net/netip"
	"net/url"
	"strconv"
	"time"

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

// Measures of the week as it is drawn, in its own units.
const (
	labelWidth = 44.0
	cellWidth  = 12.6
	cellHeight = 30.0
	headHeight = 22.0
)

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

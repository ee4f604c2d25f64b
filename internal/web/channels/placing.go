package channels

import (
	"cmp"
	"context"
	"fmt"
	"maps"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/labstack/echo/v5"

	"duskyharbor/internal/core/channel"
	"duskyharbor/internal/core/finding"
	"duskyharbor/internal/core/identity"
	"duskyharbor/internal/core/stage"
	"duskyharbor/internal/engine"
	"duskyharbor/internal/site"
	"duskyharbor/internal/stages/channels"
	"duskyharbor/internal/store"
	"duskyharbor/internal/web/shell"
)

// proposal is where each source that isn't placed would go.
type proposal struct {
	Recorders []proposed
	Left      []leftOver
	Unread    []string
	Says      string
	Count     int
}

type proposed struct {
	Recorder store.Device
	Restart  string // what a restart would cost; empty: none is needed
	Sources  []proposedSource
}

type proposedSource struct {
	ID    int64
	Name  string
	Value string
	Way   string
	On    string // its channel there
	From  string // the recorder that it was planned for, where this is another
}

type leftOver struct{ Name, Why string }

// propose reckons where all that isn't placed would go.
func (pg *Page) propose(ctx context.Context, p *shell.Request) (*proposal, error) {
	s, err := site.Load(ctx, pg.Store, p.Site.ID, nil)
	if err != nil {
		return nil, err
	}
	all, bins, a, unread := channels.Assign(s)
	out := &proposal{Count: len(a.To)}
	for _, b := range bins {
		d, _ := s.Device(b.ID)
		r := proposed{Recorder: d}
		for _, x := range all {
			if a.To[x.ID] != b.ID {
				continue
			}
			v := proposedSource{ID: x.ID, Name: x.Name, Value: fmt.Sprintf("%d:%d:%d", x.ID, b.ID, a.Number[x.ID]), Way: channel.WaySays(x.Fits[b.ID].Way)}
			v.On = fmt.Sprintf("channel %d", a.Number[x.ID])
			if a.Number[x.ID] > b.Recorder.ChannelsNow() {
				v.On += ", after the restart"
			}
			if was, ok := s.Device(x.Wish); ok && x.Wish != b.ID {
				v.From = was.Place
			}
			r.Sources = append(r.Sources, v)
		}
		if slices.Contains(a.Restarts, b.ID) {
			if changes, _ := b.Recorder.Room(b.ID, len(r.Sources)); len(changes) > 0 {
				r.Restart = changes[len(changes)-1].Why
			}
		}
		if len(r.Sources) > 0 {
			out.Recorders = append(out.Recorders, r)
		}
	}
	for _, x := range all {
		if why, left := a.Why[x.ID]; left {
			out.Left = append(out.Left, leftOver{x.Name, why})
		}
	}
	for _, of := range unread {
		out.Unread = append(out.Unread, of.Place)
	}
	switch {
	case a.Exact:
		out.Says = "No other placement takes more of them; of those that take as many none keeps more of what is planned, and of those none loses less, or restarts less."
	case a.Beyond == 0:
		out.Says = "No other placement takes more of them; another that takes as many may keep more of what is planned, or lose less."
	default:
		out.Says = fmt.Sprintf("The best that was found in a moment: another placement may take up to %s more.", shell.Plural(a.Beyond, "source"))
	}
	return out, nil
}

// take plans the placements that a person took of a proposal, and shows those that can be made now.
func (pg *Page) take(c *echo.Context) error {
	ctx, me := c.Request().Context(), shell.VisitorOf(c)
	form, err := c.FormValues()
	if err != nil {
		return echo.NewHTTPError(http.StatusBadRequest, "The form can't be read.")
	}
	taken, by, err := takenOf(form["take"])
	if err != nil {
		return err
	}
	if len(taken) == 0 {
		return pg.Back(c, "Tick which of them to place.")
	}
	for recorder, sources := range by {
		if err := pg.planned(c, recorder, sources); err != nil {
			return err
		}
	}
	targets, err := pg.Store.Resolve(ctx, store.Selection{Site: me.Member.ID, IDs: slices.Collect(maps.Keys(taken))}, stage.Channels)
	if err != nil {
		return err
	}
	var left shell.Left
	var together channel.Planner
	now := time.Now()
	picks, underWay, err := pg.Engine.Gather(ctx, me.Member.ID, stage.Channels, targets, func(s *site.Snapshot, of site.Source) []finding.Change {
		rec, ok := s.Device(taken[of.ID].recorder)
		if !ok {
			return nil // it went from the site meanwhile, and what was planned for it with it
		}
		f, w := channels.FactsOn(s, of, rec)
		w.Channel = taken[of.ID].channel
		changes, why := together.On(now, f, w)
		if why != "" {
			left.Cant = append(left.Cant, of.Place+": "+why+".")
		}
		return changes
	})
	if err != nil {
		return pg.Told(c, err)
	}
	left.UnderWay = underWay
	if len(picks) == 0 {
		return pg.Back(c, "They are planned so. None can be placed now: "+strings.Join(left.Cant[:min(len(left.Cant), 4)], " "))
	}
	return pg.ShowPreview(c, engine.Ask{Stage: stage.Channels, Title: fmt.Sprintf("Place %s", shell.Plural(len(picks), "camera"))}, picks, left)
}

// spot is the channel that a proposal gives a view.
type spot struct {
	recorder int64
	channel  int
}

// takenOf reads what was ticked of a proposal: view, recorder and channel of each.
func takenOf(values []string) (taken map[int64]spot, by map[int64][]int64, err error) {
	taken, by = map[int64]spot{}, map[int64][]int64{}
	for _, v := range values {
		var source int64
		var on spot
		n, err := fmt.Sscanf(v, "%d:%d:%d", &source, &on.recorder, &on.channel)
		_, twice := taken[source]
		if n != 3 || err != nil || twice || len(taken) >= shell.MaxPicks {
			return nil, nil, echo.NewHTTPError(http.StatusBadRequest, "The form can't be read.")
		}
		by[on.recorder], taken[source] = append(by[on.recorder], source), on
	}
	return taken, by, nil
}

// planned plans views for a recorder and has them be judged by it.
func (pg *Page) planned(c *echo.Context, recorder int64, sources []int64) error {
	ctx, me := c.Request().Context(), shell.VisitorOf(c)
	devices, err := pg.Store.Plan(ctx, me.Member.ID, recorder, sources)
	if err != nil || len(devices) == 0 {
		return err
	}
	if err := pg.Audit(ctx, me, "planned a recorder", fmt.Sprintf("%s for recorder %d", shell.Plural(len(sources), "camera"), recorder)); err != nil {
		return err
	}
	return pg.Engine.Judge(ctx, me.Member.ID, devices)
}

// plan plans a recorder for a selection.
func (pg *Page) plan(c *echo.Context) error {
	ctx := c.Request().Context()
	sel, _, err := shell.Selected(c)
	if err != nil {
		return err
	}
	recorder, err := strconv.ParseInt(c.FormValue("recorder"), 10, 64)
	if err != nil {
		return pg.Back(c, "Choose a recorder.")
	}
	if sel.IDs == nil {
		return pg.Back(c, "Tick, under Not placed, which cameras are to go there.")
	}
	targets, err := pg.Store.Resolve(ctx, sel, stage.Channels)
	if err != nil {
		return err
	}
	sources := make([]int64, len(targets))
	for i, t := range targets {
		sources[i] = t.Source
	}
	if err := pg.planned(c, recorder, sources); err != nil {
		return err
	}
	return pg.Back(c, fmt.Sprintf("Planned for %s. Nothing was written to a recorder.", shell.Plural(len(sources), "camera")))
}

// place shows what would put one source on the channel that a person chose; where a limit keeps it
// off, it is named.
func (pg *Page) place(c *echo.Context) error {
	ctx, me := c.Request().Context(), shell.VisitorOf(c)
	rec, r, err := pg.ofRecorder(c)
	if err != nil {
		return pg.Told(c, err)
	}
	source, err := strconv.ParseInt(c.FormValue("source"), 10, 64)
	number, err2 := strconv.Atoi(c.FormValue("channel"))
	if err != nil || err2 != nil {
		return pg.Back(c, "Choose a camera and a channel.")
	}
	if i := slices.IndexFunc(r.Slots, func(s channel.Slot) bool { return s.Number == number }); i >= 0 {
		return pg.Back(c, fmt.Sprintf("Channel %d of %s holds %s: take that out first, or choose another.", number, rec.Place, r.Slots[i].Name))
	}
	if number < 1 || number > r.ChannelsNow() {
		return pg.Back(c, fmt.Sprintf("%s has channels 1 to %d now.", rec.Place, r.ChannelsNow()))
	}
	targets, err := pg.Store.Resolve(ctx, store.Selection{Site: me.Member.ID, IDs: []int64{source}}, stage.Channels)
	if err != nil {
		return err
	}
	why := "It isn't one of the site's any more."
	now := time.Now()
	picks, underWay, err := pg.Engine.Gather(ctx, me.Member.ID, stage.Channels, targets, func(s *site.Snapshot, of site.Source) []finding.Change {
		if holder, slot, ok := s.HolderOf(of); ok && slot != nil {
			why = fmt.Sprintf("Channel %d of %s holds %s already.", slot.Number, holder.Place, of.Place)
			return nil
		}
		f, w := channels.FactsOn(s, of, rec)
		w.Channel = number
		changes, limit := new(channel.Planner).On(now, f, w)
		why = fmt.Sprintf("%s doesn't go on %s: %s.", of.Place, rec.Place, limit)
		return changes
	})
	switch {
	case err != nil:
		return pg.Told(c, err)
	case underWay > 0:
		return pg.Told(c, engine.ErrUnderWay)
	case len(picks) == 0:
		return pg.Back(c, why)
	}
	return pg.ShowPreview(c, engine.Ask{Stage: stage.Channels, Title: fmt.Sprintf("Channel %d of %s", number, rec.Place)}, picks, shell.Left{})
}

// out shows what goes with what holds a channel, before it is taken off.
func (pg *Page) out(c *echo.Context) error {
	d, r, err := pg.ofRecorder(c)
	if err != nil {
		return pg.Told(c, err)
	}
	number, err := strconv.Atoi(c.FormValue("channel"))
	if err != nil {
		return store.ErrNotFound
	}
	ch, ok := r.Out(d.ID, number)
	if !ok {
		return pg.Back(c, fmt.Sprintf("Channel %d of %s is free already.", number, d.Place))
	}
	s, err := site.Load(c.Request().Context(), pg.Store, shell.VisitorOf(c).Member.ID, []int64{})
	if err != nil {
		return err
	}
	steps, _, _ := channels.Steps(s, d)
	if i := slices.IndexFunc(steps, func(x channel.Step) bool { return x.Held != nil && x.Held.Number == number }); i >= 0 {
		ch = steps[i].Unpicks(ch)
	}
	return pg.ofWhole(c, d, "Take out: "+ch.Title, []finding.Change{ch})
}

// maxTogether is how long the name of those that go together may be, in characters.
const maxTogether = 40

// wish keeps that a view goes to no other recorder, and with whom it goes.
func (pg *Page) wish(c *echo.Context) error {
	ctx, me := c.Request().Context(), shell.VisitorOf(c)
	source, err := strconv.ParseInt(c.FormValue("source"), 10, 64)
	together := strings.TrimSpace(c.FormValue("together"))
	if err != nil || len([]rune(together)) > maxTogether {
		return pg.Back(c, fmt.Sprintf("Name those that go together in up to %d characters.", maxTogether))
	}
	of, err := pg.Store.SourceByID(ctx, source)
	if err != nil {
		return err
	}
	if err := pg.Store.SetPlacing(ctx, me.Member.ID, source, c.FormValue("locked") == "1", together); err != nil {
		return err
	}
	return pg.JudgedBack(c, of, "said where it may go", fmt.Sprintf(": locked %t, together %q", c.FormValue("locked") == "1", together), "Kept.")
}

// sheetExtra is what the sheet asks of a source that is to be placed.
type sheetExtra struct {
	Source   store.Source
	Recorder int64 // that it is planned for
	Free     []int // channels of it
	Placed   bool
}

func extraOf(sh *shell.Sheet) sheetExtra {
	x := sheetExtra{Source: sh.Row.Source}
	f, w := channels.Facts(sh.Snapshot, sh.Row.Source)
	x.Recorder, x.Placed = w.RecorderID, f.Slot != nil
	if f.Recorder == nil || f.Slot != nil {
		return x
	}
	for n := 1; n <= f.Recorder.ChannelsNow() && len(x.Free) < maxSlots; n++ {
		if !slices.ContainsFunc(f.Recorder.Slots, func(s channel.Slot) bool { return s.Number == n }) {
			x.Free = append(x.Free, n)
		}
	}
	return x
}

// pair reads the site, with the recorder that a form names and the other one that it names.
func (pg *Page) pair(c *echo.Context) (s *site.Snapshot, to, from store.Device, err error) {
	id, err := strconv.ParseInt(c.FormValue("recorder"), 10, 64)
	other, err2 := strconv.ParseInt(c.FormValue("from"), 10, 64)
	if err != nil || err2 != nil || id == other {
		return nil, to, from, store.ErrNotFound
	}
	if s, err = site.Load(c.Request().Context(), pg.Store, shell.VisitorOf(c).Member.ID, nil); err != nil {
		return nil, to, from, err
	}
	to, ok := s.Device(id)
	from, ok2 := s.Device(other)
	if !ok || !ok2 || to.Kind != identity.Recorder || from.Kind != identity.Recorder {
		return nil, to, from, store.ErrNotFound
	}
	return s, to, from, nil
}

// takeOver shows what has a recorder take over another's channels.
func (pg *Page) takeOver(c *echo.Context) error {
	s, to, from, err := pg.pair(c)
	if err != nil {
		return err
	}
	all, err := channels.TakeOver(time.Now(), s, from, to)
	if err != nil {
		return pg.Told(c, err)
	}
	var picks []engine.Pick
	var left shell.Left
	for _, t := range all {
		if t.Why != "" {
			left.Cant = append(left.Cant, fmt.Sprintf("%s: %s.", t.Source.Place, t.Why))
			continue
		}
		picks = append(picks, engine.Pick{Source: t.Source, Changes: t.Changes})
	}
	if len(all) == 0 {
		return pg.Back(c, fmt.Sprintf("%s holds none of this site's cameras that %s doesn't.", from.Place, to.Place))
	}
	return pg.ShowPreview(c, engine.Ask{Stage: stage.Channels, Title: fmt.Sprintf("%s takes over from %s", to.Place, from.Place)}, picks, left)
}

// retire shows what takes a recorder's channels out whose cameras another one receives.
func (pg *Page) retire(c *echo.Context) error {
	d, _, err := pg.ofRecorder(c)
	if err != nil {
		return pg.Told(c, err)
	}
	all, left, err := channels.Retiring(c.Request().Context(), pg.stage.Kit, d)
	if err != nil {
		return err
	}
	if len(all) == 0 {
		return pg.Back(c, fmt.Sprintf("Nothing is taken out of %s: %s.", d.Place, cmp.Or(strings.Join(left[:min(len(left), 4)], "; "), "it holds nothing")))
	}
	var out shell.Left
	for _, why := range left {
		out.Cant = append(out.Cant, d.Place+", "+why+".")
	}
	return pg.ShowPreview(c, engine.Ask{Stage: stage.Channels, Title: "Retire " + d.Place}, []engine.Pick{{Source: d.Whole(), Changes: all}}, out)
}

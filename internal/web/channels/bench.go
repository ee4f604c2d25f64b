package channels

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"github.com/labstack/echo/v5"

	"duskyharbor/internal/core/channel"
	"duskyharbor/internal/core/identity"
	"duskyharbor/internal/core/stage"
	"duskyharbor/internal/core/stream"
	"duskyharbor/internal/site"
	"duskyharbor/internal/store"
	"duskyharbor/internal/web/shell"
)

// benchView is the bench sheet of a recorder that is set up by hand.
type benchView struct {
	channel.Bench
	Sheets  []benchSheet
	Waiting []string // sources for which no sheet can be written yet, with the reason
}

// Codec says whether it takes a codec.
func (b benchView) Codec(name string) bool { return slices.Contains(b.Codecs, name) }

// BenchOr is what is known of a recorder that is set up by hand, or what a form of one begins with.
func (d channelsData) BenchOr() channel.Bench {
	if d.Bench != nil {
		return d.Bench.Bench
	}
	return channel.Bench{Channels: 4, Port: 80}
}

type benchSheet struct {
	Source  int64
	Name    string
	Channel int
	Steps   []channel.BenchStep
}

// bench writes the sheet of a recorder that is set up by hand: a source that is planned for it and
// isn't ticked takes the next free channel.
func (pg *Page) bench(s *site.Snapshot, rec store.Device, rows []shell.Row, status *channel.Recorder) *benchView {
	if rec.Bench == nil {
		return nil
	}
	b := &benchView{Bench: *rec.Bench}
	taken := map[int]bool{}
	if status != nil {
		for _, slot := range status.Slots {
			taken[slot.Number] = true
		}
	}
	wished := map[int]bool{} // by those that are still to be typed
	for _, r := range rows {
		if holder, slot, ok := s.HolderOf(r.Source); ok && holder.ID == rec.ID && slot == nil {
			wished[r.Source.Channel] = true
		}
	}
	for _, r := range rows {
		holder, slot, ok := s.HolderOf(r.Source)
		if !ok || holder.ID != rec.ID || slot != nil {
			continue
		}
		e, why := entryOf(s, r.Source, *rec.Bench)
		if n := r.Source.Channel; n > 0 && n <= rec.Bench.Channels && !taken[n] { // as the list has it
			e.Channel, taken[n] = n, true
		}
		for n := 1; n <= rec.Bench.Channels && e.Channel == 0; n++ {
			if !taken[n] && !wished[n] {
				e.Channel, taken[n] = n, true
			}
		}
		if why == "" && e.Channel == 0 {
			why = fmt.Sprintf("all %d channels are taken", rec.Bench.Channels)
		}
		if why != "" {
			b.Waiting = append(b.Waiting, r.Place+": "+why)
			continue
		}
		account, _ := site.Account.Of(s, r.Device.ID)
		seen, _ := site.Seen.Of(s, r.Device.ID)
		b.Sheets = append(b.Sheets, benchSheet{r.ID, r.Place, e.Channel,
			channel.BenchSheet(*rec.Bench, shell.AddressText(rec.Address), e, s.Sets[account.SetID].Username, account.SetID, seen.Service)})
	}
	return b
}

// entryOf is what is typed in for a source; why says why that isn't known yet.
func entryOf(s *site.Snapshot, of store.Source, b channel.Bench) (e channel.BenchEntry, why string) {
	sf, _ := s.Streams(of)
	record, _ := stream.Roles(sf.Profiles, b.Codecs)
	_, opened := site.Account.Of(s, of.Device.ID)
	switch seen, heard := site.Seen.Of(s, of.Device.ID); {
	case !heard || of.Device.Address == nil:
		return e, "not found yet"
	case !opened:
		return e, "no account opens it yet"
	case len(sf.Profiles) == 0:
		return e, "streams not read yet"
	case record == "":
		return e, "none of its streams is one that it takes"
	case seen.Service == "":
		return e, "it speaks no ONVIF"
	}
	return channel.BenchEntry{Source: of.ID, Name: of.Place, Address: of.Device.Address.String(), Profile: record}, ""
}

// setBench keeps that a recorder is set up by hand, and what is known of it.
func (pg *Page) setBench(c *echo.Context) error {
	ctx, me := c.Request().Context(), shell.VisitorOf(c)
	form, err := c.FormValues()
	if err != nil {
		return echo.NewHTTPError(400, "The form can't be read.")
	}
	id, err := strconv.ParseInt(form.Get("recorder"), 10, 64)
	if err != nil {
		return store.ErrNotFound
	}
	if form.Get("none") == "1" {
		if err := pg.Store.SetBench(ctx, me.Member.ID, id, nil); err != nil {
			return err
		}
		return pg.Back(c, "It is read over its interface again.")
	}
	b := channel.Bench{Picture: strings.TrimSpace(form.Get("picture"))}
	b.Channels, _ = strconv.Atoi(form.Get("channels"))
	b.Port, _ = strconv.Atoi(form.Get("port"))
	for _, codec := range form["codec"] {
		if slices.Contains([]string{"H264", "H265"}, codec) {
			b.Codecs = append(b.Codecs, codec)
		}
	}
	if err := b.Check(); err != nil {
		return pg.Refuse(c, "bench", err.Error())
	}
	if err := pg.Store.SetBench(ctx, me.Member.ID, id, &b); err != nil {
		return err
	}
	if err := pg.Audit(ctx, me, "said that a recorder is set up by hand", fmt.Sprintf("recorder %d: %d channels, %s, pictures at %q", id, b.Channels, strings.Join(b.Codecs, " and "), b.Picture)); err != nil {
		return err
	}
	return pg.readAgain(c, "Kept: its bench sheet is written below.")
}

// tick keeps that a person typed a camera in, and looks whether it can be seen from outside.
func (pg *Page) tick(c *echo.Context) error {
	ctx, me := c.Request().Context(), shell.VisitorOf(c)
	id, err := strconv.ParseInt(c.FormValue("recorder"), 10, 64)
	source, err2 := strconv.ParseInt(c.FormValue("source"), 10, 64)
	number, err3 := strconv.Atoi(c.FormValue("channel"))
	if err != nil || err2 != nil || err3 != nil {
		return store.ErrNotFound
	}
	of, err := pg.Store.SourceByID(ctx, source)
	if err != nil {
		return err
	}
	s, err := site.Load(ctx, pg.Store, me.Member.ID, []int64{of.Device.ID})
	if err != nil {
		return err
	}
	rec, ok := s.Device(id)
	if _, mine := s.Source(source); !ok || !mine || rec.Kind != identity.Recorder || rec.Bench == nil || number < 1 || number > rec.Bench.Channels {
		return store.ErrNotFound
	}
	e, why := entryOf(s, of, *rec.Bench)
	if why != "" {
		return pg.Back(c, of.Place+": "+why+".")
	}
	e.Channel, e.By, e.Name = number, me.Person.Name, "" // as the place is called, also later
	if err := pg.Store.TickBench(ctx, id, e); err != nil {
		return err
	}
	if err := pg.Audit(ctx, me, "ticked a bench sheet", fmt.Sprintf("%s on channel %d of %s", of.Place, number, rec.Place)); err != nil {
		return err
	}
	return pg.readAgain(c, fmt.Sprintf("Ticked. Whether channel %d of %s shows %s is looked at from outside now.", number, rec.Place, of.Place))
}

// maxTable is how long a typed table may be, in bytes.
const maxTable = 32 << 10

// typedTable keeps the channel table of a recorder without an interface as a person typed it: an old
// one's, that another is to take over from.
func (pg *Page) typedTable(c *echo.Context) error {
	ctx, me := c.Request().Context(), shell.VisitorOf(c)
	text := c.FormValue("table")
	id, err := strconv.ParseInt(c.FormValue("recorder"), 10, 64)
	if err != nil {
		return store.ErrNotFound
	}
	if len(text) > maxTable {
		return pg.Refuse(c, "table", "That is too long for a table of 256 channels.")
	}
	lines, err := channel.ParseTable(text)
	if err != nil {
		return pg.Refuse(c, "table", err.Error())
	}
	s, err := site.Load(ctx, pg.Store, me.Member.ID, nil)
	if err != nil {
		return err
	}
	rec, ok := s.Device(id)
	if !ok || rec.Kind != identity.Recorder || rec.Bench == nil {
		return store.ErrNotFound
	}
	entries := make([]channel.BenchEntry, len(lines))
	for i, l := range lines {
		k := slices.IndexFunc(s.Sources, func(of store.Source) bool {
			return of.First() && of.Device.Address != nil && *of.Device.Address == l.Address
		})
		switch {
		case l.Number > rec.Bench.Channels:
			return pg.Refuse(c, "table", fmt.Sprintf("Line %d: %s has channels 1 to %d.", l.Line, rec.Place, rec.Bench.Channels))
		case k < 0:
			return pg.Refuse(c, "table", fmt.Sprintf("Line %d: no camera of this site is at %s. Look for it on Find first.", l.Line, l.Address))
		}
		entries[i], _ = entryOf(s, s.Sources[k], *rec.Bench) // its streams may not be known yet
		entries[i].Source, entries[i].Channel, entries[i].Name, entries[i].By = s.Sources[k].ID, l.Number, l.Name, me.Person.Name
	}
	for _, e := range entries {
		if err := pg.Store.TickBench(ctx, id, e); err != nil {
			return err
		}
	}
	if err := pg.Audit(ctx, me, "typed a channel table", fmt.Sprintf("%s of %s", shell.Plural(len(entries), "channel"), rec.Place)); err != nil {
		return err
	}
	return pg.readAgain(c, fmt.Sprintf("Kept: %s of %s. Another recorder can take over from it.", shell.Plural(len(entries), "channel"), rec.Place))
}

// untick forgets what was ticked: it was taken off at the recorder's screen, or never typed in.
func (pg *Page) untick(c *echo.Context) error {
	ctx, me := c.Request().Context(), shell.VisitorOf(c)
	id, err := strconv.ParseInt(c.FormValue("recorder"), 10, 64)
	number, err2 := strconv.Atoi(c.FormValue("channel"))
	if err != nil || err2 != nil {
		return store.ErrNotFound
	}
	s, err := site.Load(ctx, pg.Store, me.Member.ID, []int64{id})
	if err != nil {
		return err
	}
	if rec, ok := s.Device(id); !ok || rec.Bench == nil {
		return store.ErrNotFound
	}
	if err := pg.Store.UntickBench(ctx, id, number); err != nil {
		return err
	}
	if err := pg.Audit(ctx, me, "took a tick off a bench sheet", fmt.Sprintf("channel %d of recorder %d", number, id)); err != nil {
		return err
	}
	return pg.readAgain(c, fmt.Sprintf("Channel %d isn't ticked any more.", number))
}

// readAgain has the recorders read, and goes back with a sentence.
func (pg *Page) readAgain(c *echo.Context, says string) error {
	ctx, me := c.Request().Context(), shell.VisitorOf(c).Actor()
	if _, err := pg.StartRead(ctx, me, stage.Channels, store.Selection{Site: me.Site}, "all"); err != nil {
		return pg.Told(c, err)
	}
	return pg.Back(c, says)
}

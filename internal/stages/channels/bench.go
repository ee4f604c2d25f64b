package channels

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"duskyharbor/internal/act"
	"duskyharbor/internal/core/channel"
	"duskyharbor/internal/core/identity"
	"duskyharbor/internal/core/stage"
	"duskyharbor/internal/core/stream"
	"duskyharbor/internal/facts"
	"duskyharbor/internal/site"
	"duskyharbor/internal/store"
)

func benchActs() []act.Any {
	const on = stage.Channels
	return []act.Any{
		act.Act[Bench]{Name: "channels/bench", About: "say that a recorder is set up by hand, and what is known of it", Stage: on, Keep: keepBench},
		act.Act[Spot]{Name: "channels/tick", About: "say that a camera was typed in at a recorder that is set up by hand", Stage: on, Keep: tick},
		act.Act[Channel]{Name: "channels/untick", About: "say that it was taken off there", Stage: on, Keep: untick},
		act.Act[Table]{Name: "channels/typed", About: "keep the channel table of a recorder that is set up by hand", Stage: on, Keep: keepTable},
	}
}

// Bench is what is known of a recorder that is set up by hand.
type Bench struct {
	Recorder
	None     bool     `form:"none" json:"none,omitempty"` // it isn't: it is read over its interface
	Channels int      `form:"channels" json:"channels,omitempty"`
	Port     int      `form:"port" json:"port,omitempty"`
	Picture  string   `form:"picture" json:"picture,omitempty"` // where it gives the pictures of its channels
	Codecs   []string `form:"codec" json:"codecs,omitempty"`    // H264, H265
}

// again has the recorders of a site read.
func again(c *act.Call) *act.Reading {
	return &act.Reading{Stage: stage.Channels, Of: store.Selection{Site: c.Site.ID}, Title: "all"}
}

// keepBench keeps that a recorder is set up by hand, and what is known of it.
func keepBench(ctx context.Context, c *act.Call, x Bench) (act.Kept, error) {
	if x.None {
		return act.Kept{Says: "It is read over its interface again.", Did: "said that a recorder has an interface", Detail: fmt.Sprintf("recorder %d", x.ID)},
			c.Store.SetBench(ctx, c.Site.ID, x.ID, nil)
	}
	b := channel.Bench{Picture: strings.TrimSpace(x.Picture), Channels: x.Channels, Port: x.Port}
	for _, codec := range x.Codecs {
		if slices.Contains([]string{"H264", "H265"}, codec) {
			b.Codecs = append(b.Codecs, codec)
		}
	}
	if err := b.Check(); err != nil {
		return act.Kept{}, act.Wrong("bench", err.Error())
	}
	return act.Kept{Says: "Kept: its bench sheet is written below.", Did: "said that a recorder is set up by hand", Read: again(c),
			Detail: fmt.Sprintf("recorder %d: %d channels, %s, pictures at %q", x.ID, b.Channels, strings.Join(b.Codecs, " and "), b.Picture)},
		c.Store.SetBench(ctx, c.Site.ID, x.ID, &b)
}

// EntryOf is what is typed in for a source; why says why that isn't known yet.
func EntryOf(s *site.Snapshot, of store.Source, b channel.Bench) (e channel.BenchEntry, why string) {
	sf, _ := facts.ForStreams(s, of)
	record, _ := stream.Roles(sf.Profiles, b.Codecs)
	_, opened := facts.Account.Of(s, of.Device.ID)
	seen, heard := facts.Seen.Of(s, of.Device.ID)
	why = channel.Typing{Found: heard && of.Device.Address != nil, Opened: opened, Streams: len(sf.Profiles), Record: record, ONVIF: seen.Service != ""}.Waits()
	if why != "" {
		return e, why
	}
	return channel.BenchEntry{Source: of.ID, Name: of.Place, Address: of.Device.Address.String(), Profile: record}, ""
}

// byHand is a recorder of the site that is set up by hand.
func byHand(s *site.Snapshot, id int64) (store.Device, error) {
	rec, ok := s.Device(id)
	if !ok || rec.Kind != identity.Recorder || rec.Bench == nil {
		return rec, store.ErrNotFound
	}
	return rec, nil
}

// tick keeps that a person typed a camera in, and looks whether it can be seen from outside.
func tick(ctx context.Context, c *act.Call, x Spot) (act.Kept, error) {
	s, of, err := c.Camera(ctx, x.Source)
	if err != nil {
		return act.Kept{}, err
	}
	rec, err := byHand(s, x.ID)
	if err != nil {
		return act.Kept{}, err
	}
	if x.Channel < 1 || x.Channel > rec.Bench.Channels {
		return act.Kept{}, act.Wrongf("channel", "%s has channels 1 to %d.", rec.Place, rec.Bench.Channels)
	}
	e, why := EntryOf(s, of, *rec.Bench)
	if why != "" {
		return act.Kept{}, act.Wrong("source", of.Place+": "+why+".")
	}
	who, err := c.Who(ctx)
	if err != nil {
		return act.Kept{}, err
	}
	e.Channel, e.By, e.Name = x.Channel, who, "" // as the place is called, also later
	return act.Kept{Says: fmt.Sprintf("Ticked. Whether channel %d of %s shows %s is looked at from outside now.", x.Channel, rec.Place, of.Place),
		Did: "ticked a bench sheet", Detail: fmt.Sprintf("%s on channel %d of %s", of.Place, x.Channel, rec.Place), Read: again(c)}, c.Store.TickBench(ctx, rec.ID, []channel.BenchEntry{e})
}

// untick forgets what was ticked: it was taken off at the recorder's screen, or never typed in.
func untick(ctx context.Context, c *act.Call, x Channel) (act.Kept, error) {
	s, err := site.Load(ctx, c.Store, c.Site.ID, []int64{})
	if err != nil {
		return act.Kept{}, err
	}
	rec, err := byHand(s, x.ID)
	if err != nil {
		return act.Kept{}, err
	}
	return act.Kept{Says: fmt.Sprintf("Channel %d isn't ticked any more.", x.Channel), Did: "took a tick off a bench sheet",
		Detail: fmt.Sprintf("channel %d of %s", x.Channel, rec.Place), Read: again(c)}, c.Store.UntickBench(ctx, rec.ID, x.Channel)
}

// maxTable is how long a typed table may be, in bytes.
const maxTable = 32 << 10

// Table is a channel table as a person typed it: a channel a line, number, address and name.
type Table struct {
	Recorder
	Table string `form:"table" json:"table"`
}

// keepTable keeps the channel table of a recorder without an interface: an old one's, that another is to take over
// from.
func keepTable(ctx context.Context, c *act.Call, x Table) (act.Kept, error) {
	if len(x.Table) > maxTable {
		return act.Kept{}, act.Wrong("table", "That is too long for a table of 256 channels.")
	}
	lines, err := channel.ParseTable(x.Table)
	if err != nil {
		return act.Kept{}, act.Wrong("table", err.Error())
	}
	s, err := site.Load(ctx, c.Store, c.Site.ID, nil)
	if err != nil {
		return act.Kept{}, err
	}
	rec, err := byHand(s, x.ID)
	if err != nil {
		return act.Kept{}, err
	}
	who, err := c.Who(ctx)
	if err != nil {
		return act.Kept{}, err
	}
	entries := make([]channel.BenchEntry, len(lines))
	for i, l := range lines {
		k := slices.IndexFunc(s.Sources, func(of store.Source) bool {
			return of.First() && of.Device.Address != nil && *of.Device.Address == l.Address
		})
		switch {
		case l.Number > rec.Bench.Channels:
			return act.Kept{}, act.Wrongf("table", "Line %d: %s has channels 1 to %d.", l.Line, rec.Place, rec.Bench.Channels)
		case k < 0:
			return act.Kept{}, act.Wrongf("table", "Line %d: no camera of this site is at %s. Look for it on Find first.", l.Line, l.Address)
		}
		entries[i], _ = EntryOf(s, s.Sources[k], *rec.Bench) // its streams may not be known yet
		entries[i].Source, entries[i].Channel, entries[i].Name, entries[i].By = s.Sources[k].ID, l.Number, l.Name, who
	}
	count := act.Count(len(entries), "channel")
	return act.Kept{Says: fmt.Sprintf("Kept: %s of %s. Another recorder can take over from it.", count, rec.Place), Did: "typed a channel table",
		Detail: fmt.Sprintf("%s of %s", count, rec.Place), Read: again(c)}, c.Store.TickBench(ctx, rec.ID, entries)
}

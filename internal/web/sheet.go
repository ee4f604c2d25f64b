package web

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"time"

	"duskyharbor/internal/core/finding"
	"duskyharbor/internal/core/identity"
	"duskyharbor/internal/core/stage"
	"duskyharbor/internal/core/stream"
	"duskyharbor/internal/site"
	"duskyharbor/internal/store"
)

// sheet is one camera in one stage, at the right.
type sheet struct {
	Row        row
	Stage      stage.Stage
	Mark       stage.Mark
	Findings   []finding.Finding
	Facts      []sheetFact
	Proposals  []finding.Change
	Changes    []past
	Prev, Next int64
	Holder     string
	Verb       string
	Readable   bool
	Stages     []stage.Stage
	Links      []link
	Deeds      deeds
	Trend      trend
	Confirm    string // what is asked before the proposed changes are made; empty: nothing
}

// link opens in a page of its own; no account goes with it.
type link struct{ Href, Label string }

// deeds is what a person can decide or have done about a camera in a stage.
type deeds struct {
	Views                                                 []viewChoice
	TakeOver, Unlisted, Elsewhere, Basic, Forbid, Factory bool
	Rotate, Restart                                       bool
	Own                                                   int64 // set made for it alone that opens it; 0: none
	Missing                                               []store.Device
	Sets                                                  []store.SealedSet // one of which can be tried by itself
	Seat, Free, Certificate                               string
}

type viewChoice struct {
	stream.VideoSource
	Picked bool
}

type sheetFact struct {
	Name, Value string
	At          time.Time
	Mono        bool
}

// past is a change as the history shows it.
type past struct {
	store.Change
	Back string // what its undo button says; empty where it can't be taken back from here
}

// pastOf tells which changes can be taken back: those that stand, have an undo, and
// are the newest of their thing among all, which is the order they come in.
func pastOf(all []store.Change) []past {
	type thing struct {
		device int64
		key    string
	}
	seen := map[thing]bool{}
	out := make([]past, len(all))
	for i, c := range all {
		out[i] = past{Change: c}
		k := thing{c.DeviceID, c.Key}
		if _, ok := c.Core().Inverse(); ok && c.State == store.Verified && !seen[k] {
			out[i].Back = "Undo"
		}
		seen[k] = true
	}
	return out
}

func (s *Server) openSheet(ctx context.Context, p *scenePage) error {
	id, err := strconv.ParseInt(p.URL.Query().Get("sheet"), 10, 64)
	if err != nil {
		return nil // no sheet is asked for
	}
	st := p.Stage
	if asked, ok := stage.Parse(p.URL.Query().Get("stage")); ok {
		st = asked
	}
	if st == 0 {
		st = stage.Find
	}
	sh := &sheet{Stage: st, Stages: stage.All()}
	if i := slices.IndexFunc(p.rows, func(r row) bool { return r.Device.ID == id }); i >= 0 {
		sh.Row = p.rows[i]
		if i > 0 {
			sh.Prev = p.rows[i-1].Device.ID
		}
		if i+1 < len(p.rows) {
			sh.Next = p.rows[i+1].Device.ID
		}
	} else if ok, err := s.besides(ctx, p, id, sh); err != nil || !ok {
		return err
	}
	return s.fillSheet(ctx, p, sh)
}

// besides opens the sheet of a camera that isn't in the window.
func (s *Server) besides(ctx context.Context, p *scenePage, id int64, sh *sheet) (bool, error) {
	d, err := s.store.Device(ctx, id)
	if errors.Is(err, store.ErrNotFound) || err == nil && (d.SiteID != p.Site.ID || d.Kind != identity.Camera) {
		return false, nil
	}
	if err != nil {
		return false, err
	}
	rows, err := s.rowsOf(ctx, []store.Device{d})
	if err != nil {
		return false, err
	}
	sh.Row = rows[0]
	return true, nil
}

func (s *Server) fillSheet(ctx context.Context, p *scenePage, sh *sheet) error {
	d, st := sh.Row.Device, sh.Stage
	v, err := site.Load(ctx, s.store, p.Site.ID, []int64{d.ID})
	if err != nil {
		return err
	}
	sh.Mark, sh.Proposals = sh.Row.Mark(st), s.office.Proposals(p.Now, v, d, st)
	found, err := s.store.Findings(ctx, p.Site.ID, st, d.SourceID, 0, 20)
	if err != nil {
		return err
	}
	for _, f := range found {
		sh.Findings = append(sh.Findings, f.Finding)
	}
	if rec, slot, ok := v.HolderOf(d); ok {
		sh.Holder = "planned for " + rec.Place
		if slot != nil {
			sh.Holder = fmt.Sprintf("held by %s, channel %d", rec.Place, slot.Number)
		}
	}
	sh.Facts = facts(v, p.Now, d, st)
	n, err := s.store.Count(ctx, store.Selection{Site: p.Site.ID, IDs: []int64{d.ID}, Ready: st})
	if err != nil {
		return err
	}
	sh.Readable = n > 0 && st != stage.Find && st != stage.Channels && st != stage.Prove
	sh.Verb = map[stage.Stage]string{stage.Find: "Put right ", stage.SignIn: "Set the account of ", stage.Clock: "Set the clock on ", stage.Channels: "Place ", stage.Routes: "Peg the routes of "}[st]
	for _, c := range sh.Proposals {
		if c.Risk == finding.Address || c.Risk == finding.Restart {
			sh.Confirm = d.Place + ": " + c.From + " → " + c.To + ". It is away for a moment and is looked for afterwards."
		}
	}
	sh.Links = links(v, d)
	if err := s.fillDeeds(ctx, p, sh, v); err != nil {
		return err
	}
	if st == stage.Clock {
		readings, err := s.office.Clock.History(ctx, d.ID, 40)
		if err != nil {
			return err
		}
		sh.Trend = trendOf(readings, p.Zone)
	}
	changes, err := s.store.ChangesOfDevice(ctx, d.ID, 12)
	if err != nil {
		return err
	}
	sh.Changes = slices.DeleteFunc(pastOf(changes), func(c past) bool { return c.Stage != st })
	p.Sheet = sh
	return nil
}

func viewsOf(s *site.Snapshot, id int64) []stream.VideoSource {
	all, _ := site.VideoSources.Of(s, id)
	return all
}

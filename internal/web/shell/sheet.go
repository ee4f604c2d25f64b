package shell

import (
	"context"
	"errors"
	"fmt"
	"net/netip"
	"slices"
	"strconv"
	"strings"
	"time"

	"duskyharbor/internal/core/finding"
	"duskyharbor/internal/core/stage"
	"duskyharbor/internal/device/recorder"
	"duskyharbor/internal/facts"
	"duskyharbor/internal/site"
	"duskyharbor/internal/store"
)

// Sheet is one camera in one stage, at the right.
type Sheet struct {
	Row        Row
	Stage      stage.Stage
	Mark       stage.Mark
	Findings   []finding.Finding
	Facts      []Fact
	Proposals  []finding.Change
	Changes    []PastChange
	Prev, Next int64
	Holder     string
	Shared     string // which other views its device has, and whether this stage is theirs too
	Verb       string // of the button that makes the proposed changes: "Set the clock on "
	Readable   bool   // the stage can be read of this camera now
	Stages     []stage.Stage
	Links      []Link
	Snapshot   *site.Snapshot
	Extra      any // what the stage's page adds, for its "sheet-<slug>"; nil: nothing
}

// Link opens in a page of its own; no account goes with it.
type Link struct{ Href, Label string }

// Fact is one thing that was read, with its age.
type Fact struct {
	Name, Value string
	At          time.Time
	Mono        bool
}

// Fact adds a fact to the sheet; an empty value isn't shown.
func (sh *Sheet) Fact(name, value string, at time.Time) { sh.fact(name, value, at, false) }

// Code is Fact for addresses, tokens and times, which are set in the monospaced face.
func (sh *Sheet) Code(name, value string, at time.Time) { sh.fact(name, value, at, true) }

func (sh *Sheet) fact(name, value string, at time.Time, mono bool) {
	if value != "" {
		sh.Facts = append(sh.Facts, Fact{name, value, at, mono})
	}
}

// PastChange is a change as the history shows it.
type PastChange struct {
	store.Change
	Back string // what its undo button says; empty where it can't be taken back from here
}

// Tail is what is said of the change, as it follows its state: ", after 5 s it is …".
func (c PastChange) Tail() string {
	if c.Says == "" {
		return ""
	}
	return ", " + c.Says
}

// Past tells which changes can be taken back: those that stand, have an undo, and are
// the newest of their thing among all, which is the order they come in. What has readings
// to come isn't offered yet.
func Past(all []store.Change) []PastChange {
	type thing struct {
		device, view int64
		key          string
	}
	seen := map[thing]bool{}
	out := make([]PastChange, len(all))
	for i, c := range all {
		out[i] = PastChange{Change: c}
		k := thing{device: c.DeviceID, key: c.Key}
		if c.SourceID != nil {
			k.view = *c.SourceID
		}
		if _, why := finding.TakeBack(c.Core(), finding.Standing{Made: c.State == store.Verified, Latest: !seen[k], Enrolled: c.Enrolled(), Gone: c.Gone}); why == "" {
			out[i].Back = "Undo"
		}
		seen[k] = true
	}
	return out
}

func (s *Server) openSheet(ctx context.Context, p *Request) error {
	id, err := strconv.ParseInt(p.URL.Query().Get("sheet"), 10, 64)
	if err != nil {
		return nil // no sheet is asked for
	}
	st := p.Stage
	if asked, ok := stage.Parse(p.URL.Query().Get("stage")); ok {
		st = asked
	}
	if st == 0 {
		st = stage.All()[0]
	}
	sh := &Sheet{Stage: st, Stages: stage.All()}
	if i := slices.IndexFunc(p.Rows, func(r Row) bool { return r.ID == id }); i >= 0 {
		sh.Row = p.Rows[i]
		if i > 0 {
			sh.Prev = p.Rows[i-1].ID
		}
		if i+1 < len(p.Rows) {
			sh.Next = p.Rows[i+1].ID
		}
	} else if ok, err := s.besides(ctx, p, id, sh); err != nil || !ok {
		return err
	}
	return s.fillSheet(ctx, p, sh)
}

// besides opens the sheet of a camera that isn't in the window.
func (s *Server) besides(ctx context.Context, p *Request, id int64, sh *Sheet) (bool, error) {
	of, err := s.Store.SourceByID(ctx, id)
	if errors.Is(err, store.ErrNotFound) || err == nil && of.Device.SiteID != p.Site.ID {
		return false, nil
	}
	if err != nil {
		return false, err
	}
	rows, err := s.RowsOf(ctx, []store.Source{of})
	if err != nil {
		return false, err
	}
	sh.Row = rows[0]
	return true, nil
}

func (s *Server) fillSheet(ctx context.Context, p *Request, sh *Sheet) error {
	of, d, st := sh.Row.Source, sh.Row.Device, sh.Stage
	v, err := site.Load(ctx, s.Store, p.Site.ID, []int64{d.ID})
	if err != nil {
		return err
	}
	sh.Mark, sh.Proposals = sh.Row.Mark(st), s.Engine.Proposals(p.Now, v, of, st)
	found, err := s.Store.FindingsOf(ctx, of, st, 20)
	if err != nil {
		return err
	}
	for _, f := range found {
		sh.Findings = append(sh.Findings, f.Finding)
	}
	if rec, slot, ok := v.HolderOf(of); ok {
		sh.Holder = "planned for " + rec.Place
		if slot != nil {
			sh.Holder = fmt.Sprintf("held by %s, channel %d", rec.Place, slot.Number)
		}
	}
	sh.Shared = shared(of, v.Views(d.ID), st)
	sh.Snapshot = v
	sh.Links = links(v, d)
	if room, ok := s.sheets[st]; ok {
		if err := room.Sheet(ctx, p, sh); err != nil {
			return err
		}
	}
	changes, err := s.Store.ChangesOf(ctx, of, 12)
	if err != nil {
		return err
	}
	sh.Changes = slices.DeleteFunc(Past(changes), func(c PastChange) bool { return c.Stage != st })
	p.Sheet = sh
	return nil
}

// shared tells which other views a device has; empty where it has none.
func shared(of site.Source, all []site.Source, st stage.Stage) string {
	var others []string
	for _, x := range all {
		if x.ID != of.ID {
			others = append(others, x.Place)
		}
	}
	switch {
	case len(others) == 0:
		return ""
	case st.OfDevice():
		return "This is the device's, and the same for " + strings.Join(others, ", ") + "."
	}
	return "One view of a device that also shows " + strings.Join(others, ", ") + "."
}

// links leads to the device's own page, or to a recorder's relay of it.
func links(v *site.Snapshot, d store.Device) []Link {
	f, _ := facts.ForIdentity(v, d)
	var out []Link
	if f.Seen != nil && strings.HasPrefix(f.Seen.Page, "http") {
		out = append(out, Link{f.Seen.Page, "Open its own page"})
	}
	if b := f.Behind; b != nil && b.Relays {
		if rec, ok := v.Device(b.RecorderID); ok && rec.Address != nil {
			out = append(out, Link{fmt.Sprintf("https://%s/ports/%d/page/",
				netip.AddrPortFrom(*rec.Address, recorder.Port), b.Port), "Open its page through " + rec.Place})
		}
	}
	return out
}

// ReadableNow says whether a stage can be read of the sheet's camera now.
func (s *Server) ReadableNow(ctx context.Context, r *Request, sh *Sheet) (bool, error) {
	n, err := s.Store.Count(ctx, store.Selection{Site: r.Site.ID, IDs: []int64{sh.Row.ID}, Ready: sh.Stage})
	return n > 0, err
}

// Package signin shows which account opens which device.
package signin

import (
	"context"
	"embed"
	"io/fs"
	"slices"
	"time"

	"duskyharbor/internal/core/access"
	"duskyharbor/internal/core/stage"
	"duskyharbor/internal/facts"
	"duskyharbor/internal/stages/signin"
	"duskyharbor/internal/store"
	"duskyharbor/internal/web/shell"
)

//go:embed page.html sheet.html
var files embed.FS

// Page is its page.
type Page struct {
	*shell.Server
	stage *signin.Stage
}

// New makes the page.
func New(s *shell.Server, st *signin.Stage) *Page { return &Page{s, st} }

// Slug is its address.
func (*Page) Slug() string { return "sign-in" }

// Files are its template.
func (*Page) Files() fs.FS { return files }

// Stage is stage.SignIn.
func (*Page) Stage() stage.Stage { return stage.SignIn }

// Routes adds nothing besides its page: its acts are its stage's.
func (*Page) Routes(*shell.Routes) {}

// signInData is devices × credential sets.
type signInData struct {
	Sets    []store.SealedSet
	Rows    []signInRow
	Can     int
	Unseen  int
	Changes int // proposed: first passwords, ONVIF accounts
	Cams    int
	Open    int  // rows that an account opens
	Factory bool // the site has makers' default accounts
	House   []store.SealedSet
}

type signInRow struct {
	Row   shell.Row
	Cells []string // per set: "opened", "wrong", "pending", ""
	Pips  []bool   // true: a try is left
	Until string
	Seen  bool
	How   string
}

// Build makes the page's data.
func (pg *Page) Build(ctx context.Context, p *shell.Request) (any, error) {
	if err := p.Load(ctx); err != nil {
		return nil, err
	}
	var d signInData
	var err error
	if d.Sets, err = pg.cameraSets(ctx, p.Site.ID, p.Snapshot.RecorderSets()); err != nil {
		return nil, err
	}
	d.House = slices.DeleteFunc(slices.Clone(d.Sets), func(s store.SealedSet) bool { return s.Factory || s.Former })
	d.Factory = slices.ContainsFunc(d.Sets, func(s store.SealedSet) bool { return s.Factory })
	for _, r := range p.Rows {
		if x := signInRowOf(p, r, d.Sets); x.Seen {
			d.Rows = append(d.Rows, x)
		} else {
			d.Unseen++
		}
	}
	if p.Window.Sort.By == "" {
		slices.SortStableFunc(d.Rows, func(a, b signInRow) int {
			return a.Row.Mark(stage.SignIn).State.Urgency() - b.Row.Mark(stage.SignIn).State.Urgency()
		})
	}
	for _, r := range d.Rows {
		d.Open += shell.Int(r.How != "")
	}
	if d.Can, err = p.Can(ctx, stage.SignIn); err != nil {
		return nil, err
	}
	d.Changes, d.Cams, err = pg.Store.Proposed(ctx, p.Selection, stage.SignIn)
	return d, err
}

func signInRowOf(p *shell.Request, r shell.Row, sets []store.SealedSet) signInRow {
	f, _ := facts.ForAccess(p.Snapshot, time.Now(), r.Device)
	_, seen := facts.Seen.Of(p.Snapshot, r.Device.ID)
	out := signInRow{Row: r, Seen: seen}
	// The last column is for sets of the device's own.
	for i := range len(sets) + 1 {
		set, own := store.SealedSet{}, i == len(sets)
		if !own {
			set = sets[i]
		}
		state := ""
		for _, t := range f.Tries {
			if !own && t.SetID == set.ID || own && t.SetID != 0 && !slices.ContainsFunc(sets, func(x store.SealedSet) bool { return x.ID == t.SetID }) {
				state = string(t.Outcome)
			}
		}
		if state == "opened" && !own && f.Account.Overtakes(set.Set) {
			state = ""
		}
		if a := f.Account; a != nil && (!own && a.SetID == set.ID || own && !slices.ContainsFunc(sets, func(x store.SealedSet) bool { return x.ID == a.SetID })) {
			state, out.How = "opened", string(a.Scheme)
			if a.Level != "" {
				out.How += ", " + a.Level
			}
			if a.RTSPSet != 0 {
				out.How += "; RTSP " + a.RTSP
			}
		}
		if a := f.Web; a != nil && f.Account == nil && !own && a.SetID == set.ID {
			state, out.How = "web", "its web page alone"
		}
		out.Cells = append(out.Cells, state)
	}
	left, until := f.Left(p.Now)
	for i := range access.Budget {
		out.Pips = append(out.Pips, i < left)
	}
	if left == 0 {
		out.Until = "until " + until.In(p.Zone).Format("15:04")
	}
	if f.LockedTo.After(p.Now) {
		out.Until = "locked until " + f.LockedTo.In(p.Zone).Format("15:04")
	}
	return out
}

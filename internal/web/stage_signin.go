package web

import (
	"context"
	"slices"
	"time"

	"duskyharbor/internal/core/access"
	"duskyharbor/internal/core/stage"
	"duskyharbor/internal/site"
	"duskyharbor/internal/stages/signin"
	"duskyharbor/internal/store"
)

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
	if err := s.look(ctx, p); err != nil {
		return "", err
	}
	sets, err := s.store.SharedSets(ctx, p.Site.ID)
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
			d.Factory = d.Factory || set.Factory
		}
	}
	for _, r := range p.rows {
		if x := signInRowOf(p, r, d.Sets); x.Seen {
			d.Rows = append(d.Rows, x)
		} else {
			d.Unseen++
		}
	}
	for _, r := range d.Rows {
		d.Open += truth(r.How != "")
	}
	if d.Can, err = s.can(ctx, p, stage.SignIn); err != nil {
		return "", err
	}
	d.Changes, d.Cams, err = s.store.Proposed(ctx, p.sel, stage.SignIn)
	p.Data = d
	return "sign-in", err
}

func truth(b bool) int {
	if b {
		return 1
	}
	return 0
}

func signInRowOf(p *scenePage, r row, sets []store.SealedSet) signInRow {
	f, _ := signin.Facts(time.Now(), p.view, r.Device)
	_, seen := site.Seen.Of(p.view, r.Device.ID)
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

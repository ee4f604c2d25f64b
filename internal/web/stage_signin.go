package web

import (
	"context"

	"duskyharbor/internal/core/access"
	"duskyharbor/internal/core/stage"
	"duskyharbor/internal/store"
)

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
	if err := s.look(ctx, p); err != nil {
		return "", err
	}
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
	for _, r := range p.rows {
		if x := signInRowOf(p, r, d.Sets); x.Seen {
			d.Rows = append(d.Rows, x)
		} else {
			d.Unseen++
		}
	}
	d.Can, err = s.can(ctx, p, stage.SignIn)
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
	f, _ := p.view.SignIn(r.Device)
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

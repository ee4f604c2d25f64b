package web

import (
	"context"
	"time"

	"duskyharbor/internal/core/stage"
	"duskyharbor/internal/store"
)

// boardData is the picture of cameras × stages.
type boardData struct {
	Rows     []row
	Needy    []needy
	Stages   []stage.Stage
	Standing store.Standing
	LastRead time.Time
	Next     *nextThing
	States   []stage.State
}

// nextThing is the Board's one-line suggestion.
type nextThing struct {
	Slug, Sentence, Reason, Button string
}

// needy is a camera that needs a person, for the list on a phone.
type needy struct {
	Row   row
	Stage stage.Stage
	Mark  stage.Mark
}

func (s *Server) board(ctx context.Context, p *scenePage) (string, error) {
	b := boardData{Rows: p.rows, Stages: stage.All(), States: []stage.State{stage.Ready, stage.Needs, stage.Blocked, stage.Working, stage.Stale, stage.NotYet}}
	b.Standing = p.standing
	for _, n := range p.networks {
		if n.LookedAt != nil && n.LookedAt.After(b.LastRead) {
			b.LastRead = *n.LookedAt
		}
	}
	if next, ok := stage.Next(p.Cameras, p.groups); ok {
		place, sentence := "", ""
		if next.Count == 1 {
			var err error
			if place, sentence, err = s.store.FirstOf(ctx, p.Site.ID, next.Group); err != nil {
				return "", err
			}
		}
		b.Next = &nextThing{next.Stage.Slug(), next.Sentence(place, sentence), next.Reason(), next.Button()}
	}
	b.Needy = needyOf(p.rows)
	p.Data = b
	return "board", nil
}

// maxNeedy is how many cameras the phone's list shows.
const maxNeedy = 20

// needyOf lists each camera's worst mark, the blocked ones first.
func needyOf(rows []row) []needy {
	var blocked, needs []needy
	for _, r := range rows {
		var worst *needy
		for _, st := range stage.All() {
			m := r.Mark(st)
			switch {
			case m.State == stage.Blocked && (worst == nil || worst.Mark.State != stage.Blocked), (m.State == stage.Needs || m.State == stage.Stale) && worst == nil:
				worst = &needy{r, st, m}
			}
		}
		switch {
		case worst == nil:
		case worst.Mark.State == stage.Blocked:
			blocked = append(blocked, *worst)
		default:
			needs = append(needs, *worst)
		}
	}
	all := append(blocked, needs...)
	return all[:min(len(all), maxNeedy)]
}

func (s *Server) later(_ context.Context, p *scenePage) (string, error) {
	p.Data = map[string]string{
		"recording": "Here the week will be painted: what is kept when nothing happens, what when something does, and how many days that makes.",
		"analytics": "Here rules will be drawn on a camera's own picture and rehearsed over what it saw, before anything is written.",
		"handover":  "Here the as-built record will be printed: every camera, every route, every proof.",
		"sightings": "Here what the cameras' analytics saw will be found again, by class, colour, time and place.",
	}[p.Page]
	return "later", nil
}

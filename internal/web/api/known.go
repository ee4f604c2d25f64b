package api

import (
	"net/http"
	"time"

	"github.com/labstack/echo/v5"

	"duskyharbor/internal/core/known"
	"duskyharbor/internal/facts"
	"duskyharbor/internal/site"
	"duskyharbor/internal/web/shell"
)

// KnownSet is a set of reference pictures as programs see it.
type KnownSet struct {
	ID      int64        `json:"id"`
	Name    string       `json:"name"`
	Kind    string       `json:"kind" enum:"face,vehicle,thing"`
	Least   float64      `json:"known_from"`
	Nearly  float64      `json:"nearly_from"`
	Close   bool         `json:"tells_nearly"`
	Unknown bool         `json:"tells_unknown"`
	Entries []KnownEntry `json:"entries"`
	At      []KnownAt    `json:"analysers"`
	Doubles []Double     `json:"doubles,omitempty"`
}

// KnownEntry is who or what is known. Figures are by the analyser that holds the most of its set's pictures.
type KnownEntry struct {
	ID       int64          `json:"id"`
	Name     string         `json:"name"`
	Ground   string         `json:"ground"`
	Since    string         `json:"since" format:"date"`
	Ends     string         `json:"ends" format:"date"`
	Gone     bool           `json:"gone,omitempty"` // deleted here, and not at every analyser yet
	Right    int            `json:"known_by_the_others"`
	Helps    string         `json:"helps,omitempty"`
	Before   *float64       `json:"without_the_latest_picture,omitempty"` // how alike the others are to the likest of their own, on the mean
	After    *float64       `json:"with_the_latest_picture,omitempty"`
	Pictures []KnownPicture `json:"pictures"`
}

// KnownPicture is one of its pictures, held against the others.
type KnownPicture struct {
	ID      int64    `json:"id"`
	Outcome string   `json:"outcome" enum:"known,taken for another,nearly known,unknown,alone,not compared"`
	Own     *float64 `json:"own,omitempty"`   // how alike the likest of its own entry's others is
	Other   *float64 `json:"other,omitempty"` // and of other entries'
}

// KnownAt is an analyser that holds the set.
type KnownAt struct {
	ID      int64     `json:"analyser_id"`
	Changes int       `json:"differences"` // until it holds the set as it is here
	ReadAt  time.Time `json:"read_at"`
}

// Double is two entries that would be taken for each other, or one that has a picture twice.
type Double struct {
	A     int64   `json:"a"`
	B     int64   `json:"b"`
	Score float64 `json:"score"`
}

// known answers with the site's sets of references.
func (pg *Page) known(c *echo.Context) error {
	ctx, token := c.Request().Context(), shell.TokenOf(c)
	all, err := pg.Store.KnownSets(ctx, token.SiteID)
	if err != nil {
		return err
	}
	s, err := site.Load(ctx, pg.Store, token.SiteID, []int64{})
	if err != nil {
		return err
	}
	now := time.Now()
	out := make([]KnownSet, len(all))
	for i, of := range all {
		out[i] = knownSet(s, of, known.Day(now, s.Site.Location()))
		if err := pg.AuditOnce(ctx, token.SiteID, 0, token.ID, shell.LookedAtKnown, of.Name); err != nil {
			return err
		}
	}
	return c.JSON(http.StatusOK, map[string]any{"sets": out})
}

func knownSet(s *site.Snapshot, of known.Set, today time.Time) KnownSet {
	out := KnownSet{ID: of.ID, Name: of.Name, Kind: string(of.Kind), Least: of.Least, Nearly: of.Nearly, Close: of.Close, Unknown: of.Unknown, Entries: []KnownEntry{}, At: []KnownAt{}}
	for _, d := range s.Analysers() {
		held, _ := facts.Known.Of(s, d.ID)
		if held.Reads(of.Key) != known.None {
			out.At = append(out.At, KnownAt{d.ID, len(of.Give(held, d.Place, today)), held.At})
		}
	}
	likeness, _, _ := facts.LikenessOf(s, of.Key)
	figures, names := of.LeaveOneOut(likeness), of.Names()
	for _, e := range of.Entries {
		x := KnownEntry{ID: e.ID, Name: e.Name, Ground: e.Ground, Since: e.Since.Format(time.DateOnly), Ends: e.Ends.Format(time.DateOnly), Gone: e.Gone, Pictures: []KnownPicture{}}
		if f := figures[e.ID]; !e.Gone {
			x.Right, x.Helps = f.Right, f.Helps(names)
			for _, j := range f.Pictures {
				x.Pictures = append(x.Pictures, KnownPicture{j.Picture, string(j.Outcome), told(j.Own), told(j.Other)})
			}
		}
		if n := len(e.Pictures); n > 0 {
			if before, after, ok := of.Effect(likeness, e.Pictures[n-1].ID); ok {
				x.Before, x.After = &before, &after
			}
		}
		out.Entries = append(out.Entries, x)
	}
	for _, d := range of.Doubles(likeness) {
		out.Doubles = append(out.Doubles, Double{d.A, d.B, d.Score})
	}
	return out
}

// told is a score that there is; below 0 there is none.
func told(score float64) *float64 {
	if score < 0 {
		return nil
	}
	return &score
}

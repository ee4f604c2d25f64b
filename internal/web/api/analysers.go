package api

import (
	"context"
	"time"

	"duskyharbor/internal/core/pairing"
	"duskyharbor/internal/facts"
	"duskyharbor/internal/site"
	"duskyharbor/internal/store"
	"duskyharbor/internal/web/shell"
)

// Analyser is an analyser with what it told last.
type Analyser struct {
	ID       int64           `json:"id"`
	Place    string          `json:"place"`
	Address  string          `json:"address"`
	Account  *int64          `json:"set_id,omitempty"`
	Trouble  string          `json:"trouble,omitempty"` // of its last reading
	ReadAt   *time.Time      `json:"read_at,omitempty"` // absent: it never was
	Make     string          `json:"make,omitempty"`
	Model    string          `json:"model,omitempty"`
	Firmware string          `json:"firmware,omitempty"`
	Ahead    *float64        `json:"clock_ahead_seconds,omitempty"` // of this server's; absent: it tells none
	Load     float64         `json:"load"`                          // 0 to 1
	Limits   *pairing.Limits `json:"limits,omitempty"`
	Classes  []string        `json:"classes,omitempty"`
	Views    []LookedAt      `json:"views,omitempty"`
}

// LookedAt is a view that an analyser looks at.
type LookedAt struct {
	View       int64   `json:"view,omitempty"` // absent: none of this site
	Name       string  `json:"name"`           // as the analyser calls it
	PerSecond  float64 `json:"per_second"`
	LeastScore float64 `json:"least_score"`
	Within     string  `json:"within,omitempty"` // the area that is looked at; absent: the whole picture
	Waiting    int     `json:"waiting"`
	Behind     float64 `json:"behind_seconds"`
	Taken      int     `json:"taken"`
	Looked     int     `json:"looked"`
	Refused    int     `json:"refused"`
}

func analysers(ctx context.Context, st *store.Store, siteID int64) (any, error) {
	s, err := site.Load(ctx, st, siteID, []int64{})
	if err != nil {
		return nil, err
	}
	ours, err := st.LookedAt(ctx, siteID)
	if err != nil {
		return nil, err
	}
	views := map[string]int64{}
	for _, of := range ours {
		views[of.Key] = of.ID
	}
	out := []Analyser{}
	for _, d := range s.Analysers() {
		a := Analyser{ID: d.ID, Place: d.Place, Make: d.Make, Model: d.Model, Address: shell.AddressText(d.Address), Account: d.SetID, Trouble: s.RecorderTrouble(d.ID)}
		if told, ok := facts.Analyser.Of(s, d.ID); ok {
			a.ReadAt, a.Firmware, a.Load, a.Limits, a.Classes = &told.At, told.Firmware, told.Running.Load, &told.Limits, told.Classes
			if ahead := told.Running.Ahead.Seconds(); told.Running.Timed {
				a.Ahead = &ahead
			}
			for _, v := range told.Views {
				q := told.Running.Views[v.ID]
				a.Views = append(a.Views, LookedAt{views[v.ID], v.Name, v.PerSecond, v.LeastScore, v.Within, q.Waiting, q.Behind.Seconds(), q.Taken, q.Looked, q.Refused})
			}
		}
		out = append(out, a)
	}
	return out, nil
}

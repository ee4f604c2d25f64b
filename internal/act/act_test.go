package act

import (
	"context"
	"errors"
	"slices"
	"strings"
	"testing"
	"time"

	"duskyharbor/internal/core/finding"
	"duskyharbor/internal/people"
	"duskyharbor/internal/site"
)

// Who is meant: those that are named, else all that a filter takes; never all where none of those that were named is
// left.
func TestASelection(t *testing.T) {
	many := make([]int64, MaxPicks+1)
	for name, tc := range map[string]struct {
		in    Selection
		ids   []int64
		asked string
		field string
	}{
		"nothing said":                {Selection{}, nil, "all", ""},
		"a filter":                    {Selection{Q: "make:ottervale"}, nil, "make:ottervale", ""},
		"a filter that means nothing": {Selection{Q: "stage:clok"}, nil, "stage:clok", "q"},
		"some":                        {Selection{Picks: []int64{3, 4}, Q: "ramp"}, []int64{3, 4}, "", ""},
		"none of those":               {Selection{Picks: []int64{}}, []int64{}, "", ""},
		"some, and then all":          {Selection{Picks: []int64{3}, All: "1"}, nil, "all", ""},
		"as many as can be named":     {Selection{Picks: many[1:]}, many[1:], "", ""},
		"one too many":                {Selection{Picks: many}, nil, "", "pick"},
	} {
		got, err := tc.in.Selects(7)
		var wrong WrongError
		if errors.As(err, &wrong); wrong.Field != tc.field {
			t.Errorf("%s: wrong at %q, %v", name, wrong.Field, err)
		}
		if err == nil && (got.Site != 7 || !slices.Equal(got.IDs, tc.ids) || (got.IDs == nil) != (tc.ids == nil)) || tc.in.Asked() != tc.asked {
			t.Errorf("%s: %+v, asked %q", name, got, tc.in.Asked())
		}
	}
}

// An act says of itself what it does; who isn't named may be whoever may change something.
func TestWhatAnActIs(t *testing.T) {
	keep := func(context.Context, *Call, Camera) (Kept, error) { return Kept{Says: "kept"}, nil }
	plan := func(_ time.Time, _ *Seen, c Camera) (Planned, error) { return Planned{Idle: int(c.Source)}, nil }
	for _, tc := range []struct {
		act          Act[Camera]
		plans, keeps bool
		role         people.Role
	}{{Act[Camera]{Keep: keep}, false, true, people.Technician}, {Act[Camera]{Plan: plan, Role: people.Lead}, true, false, people.Lead}, {Act[Camera]{Keep: keep, Plan: plan}, true, true, people.Technician}} {
		if is := tc.act.Is(); is.Plans != tc.plans || is.Keeps != tc.keeps || is.Role != tc.role {
			t.Errorf("%+v", is)
		}
	}
	a := Act[Camera]{Plan: plan, More: func(_ context.Context, _ *Call, c *Camera) error { c.Source = 5; return nil }}
	args := a.Args()
	if err := More(t.Context(), a, &Call{}, args); err != nil {
		t.Fatal(err)
	}
	if p, err := Plan(a, time.Time{}, &Seen{}, args); err != nil || p.Idle != 5 {
		t.Errorf("%+v %v: what was asked first isn't planned by", p, err)
	}
}

// Whom a plan takes and whom it can't is told in a few words.
func TestWhatIsPlanned(t *testing.T) {
	var p Planned
	p.Add(site.Source{ID: 1}, nil)
	p.Add(site.Source{ID: 2}, []finding.Change{{Kind: "x"}})
	if len(p.Of) != 1 || p.Of[0].Source.ID != 2 {
		t.Errorf("%+v", p.Of)
	}
	for i, want := range []string{"", "A: no.", "A: no. A: no."} {
		q := Planned{}
		for range i {
			q.Refuse("A", "no")
		}
		if got := q.Few(); got != want {
			t.Errorf("%d: %q, want %q", i, got, want)
		}
	}
	q := Planned{}
	for range 6 {
		q.Refuse("A", "no")
	}
	if got := q.Few(); got != "A: no. A: no. A: no. A: no. And 2 more." {
		t.Error(got)
	}
	if _, err := (&Seen{}).The(); err == nil {
		t.Error("there is no camera, and one is planned for")
	}
}

func TestFits(t *testing.T) {
	for _, tc := range []struct {
		text string
		most int
		want bool
	}{
		{"", 0, true}, {"x", 0, false}, {strings.Repeat("x", 64), 64, true}, {strings.Repeat("x", 65), 64, false},
		{strings.Repeat("ã", 64), 64, true}, {strings.Repeat("ã", 65), 64, false}, // 128 bytes fit
		{strings.Repeat("\xff", 65), 64, false}, // what is no text counts by its bytes
	} {
		if got := Fits(tc.text, tc.most); got != tc.want {
			t.Errorf("%.10q… of %d: %v", tc.text, len(tc.text), got)
		}
	}
}

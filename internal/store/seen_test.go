package store_test

import (
	"context"
	"errors"
	"testing"
	"time"

	"duskyharbor/internal/core/rule"
	"duskyharbor/internal/core/scene"
	"duskyharbor/internal/store"
)

// A view is listened to by one server at a time: another takes over once the first is silent, which then keeps nothing any
// more. What was seen comes back as tracks, over midnight too, with the times in which it was listened to; days that are too
// old are dropped whole.
func TestWhatIsSeenIsGatheredByOne(t *testing.T) {
	st, siteID, d := site(t)
	ctx := context.Background()
	of, err := st.Source(ctx, store.Target{Device: d})
	if err != nil {
		t.Fatal(err)
	}
	claims := func(server string, want int) {
		t.Helper()
		if got, err := st.ClaimGatherings(ctx, server, 8, time.Minute); err != nil || len(got) != want {
			t.Fatalf("%s takes %v: %v", server, got, err)
		}
	}
	claims("a", 0)
	if err := st.SetGathering(ctx, siteID, []int64{of.ID}, true); err != nil {
		t.Fatal(err)
	}
	claims("a", 1)
	claims("b", 0)
	midnight := time.Now().UTC().Truncate(24 * time.Hour)
	point := func(at time.Time) scene.TrackPoint {
		return scene.TrackPoint{At: time.Duration(at.UnixNano()), Box: scene.Box{Left: -0.5, Right: 0.5, Bottom: -0.5, Top: 0.5}, Score: 1}
	}
	before, after := midnight.Add(-time.Second), midnight.Add(time.Second)
	got := store.Gathered{Documents: 3, Objects: 2, Lost: 1, Began: before, Until: after, Pieces: []store.Piece{
		{Object: "7", Class: "Human", Points: []scene.TrackPoint{point(before)}}, {Object: "7", Class: "Human", Points: []scene.TrackPoint{point(after)}}, {Object: "none"}}}
	if err := st.KeepGathering(ctx, "b", of.ID, got, time.Minute); !errors.Is(err, store.ErrNotFound) {
		t.Errorf("who doesn't hold it keeps: %v", err)
	}
	if err := st.KeepGathering(ctx, "a", of.ID, got, time.Minute); err != nil {
		t.Fatal(err)
	}
	if g, err := st.GatheringOf(ctx, of.ID); err != nil || !g.Held || g.Documents != 3 || g.Objects != 2 || g.Lost != 1 {
		t.Errorf("%+v %v", g, err)
	}
	tracks, listened, more, err := st.Seen(ctx, of.ID, before.Add(-time.Hour), after.Add(time.Hour), 1<<20)
	if err != nil || more || len(tracks) != 1 || len(tracks[0].Points) != 2 || tracks[0].Class != "Human" || len(listened) != 1 || !listened[0][1].Equal(after) {
		t.Errorf("seen: %+v, listened %v, more %t: %v", tracks, listened, more, err)
	}
	if tracks, _, more, err := st.Seen(ctx, of.ID, before.Add(-time.Hour), after.Add(time.Hour), 30); err != nil || !more || len(tracks[0].Points) != 1 {
		t.Errorf("within a few bytes: %+v %t %v", tracks, more, err)
	}
	if tracks, _, _, err := st.Seen(ctx, of.ID, midnight, after, 1<<20); err != nil || len(tracks) != 1 || len(tracks[0].Points) != 1 {
		t.Errorf("of the one day: %+v %v", tracks, err)
	}
	// The first server is silent: another takes it over.
	if _, err := st.Pool.Exec(ctx, `update gathering set held_until = now() - interval '1 second'`); err != nil {
		t.Fatal(err)
	}
	if err := st.KeepGathering(ctx, "a", of.ID, got, time.Minute); !errors.Is(err, store.ErrNotFound) {
		t.Errorf("who was silent keeps: %v", err)
	}
	claims("b", 1)
	if err := st.LoseGathering(ctx, "b", of.ID, "It doesn't answer.", time.Hour); err != nil {
		t.Fatal(err)
	}
	claims("a", 0) // not before a while is over, unless a person asks anew
	if g, err := st.GatheringOf(ctx, of.ID); err != nil || g.Held || g.Trouble != "It doesn't answer." {
		t.Errorf("%+v %v", g, err)
	}
	if err := st.SetGathering(ctx, siteID, []int64{of.ID}, true); err != nil {
		t.Fatal(err)
	}
	claims("a", 1)
	if err := st.DropSeen(ctx, midnight); err != nil {
		t.Fatal(err)
	}
	if tracks, _, _, err := st.Seen(ctx, of.ID, before.Add(-time.Hour), after.Add(time.Hour), 1<<20); err != nil || len(tracks) != 1 || len(tracks[0].Points) != 1 {
		t.Errorf("the day before is there yet: %+v %v", tracks, err)
	}
	// The site keeps nothing for longer than a day: what is older goes, whatever day it is of.
	old := time.Now().UTC().Add(-30 * time.Hour)
	got.Pieces = []store.Piece{{Object: "9", Points: []scene.TrackPoint{point(old)}}}
	if err := st.KeepGathering(ctx, "a", of.ID, got, time.Minute); err != nil {
		t.Fatal(err)
	}
	if _, err := st.Pool.Exec(ctx, `update site set most_days = 1`); err != nil {
		t.Fatal(err)
	}
	if err := st.DropSeen(ctx, midnight.Add(-72*time.Hour)); err != nil {
		t.Fatal(err)
	}
	if tracks, _, _, err := st.Seen(ctx, of.ID, old.Add(-time.Hour), old.Add(time.Hour), 1<<20); err != nil || len(tracks) != 0 {
		t.Errorf("longer than the site may keep: %+v %v", tracks, err)
	}
	if err := st.SetGathering(ctx, siteID, []int64{of.ID}, false); err != nil {
		t.Fatal(err)
	}
	if _, err := st.GatheringOf(ctx, of.ID); !errors.Is(err, store.ErrNotFound) {
		t.Errorf("it is gathered yet: %v", err)
	}
}

func TestDrawnRulesAreKept(t *testing.T) {
	st, siteID, d := site(t)
	ctx := context.Background()
	of, err := st.Source(ctx, store.Target{Device: d})
	if err != nil {
		t.Fatal(err)
	}
	r := rule.Rule{Name: "Apron", Kind: rule.Stays, For: 8 * time.Second, Area: scene.Polygon{{X: -0.5, Y: -0.5}, {X: 0.5, Y: -0.5}, {X: 0, Y: 0.5}}}
	id, err := st.KeepRule(ctx, siteID, of.ID, rule.Drawn{Rule: r})
	if err != nil {
		t.Fatal(err)
	}
	if _, err := st.KeepRule(ctx, siteID, of.ID, rule.Drawn{Rule: r}); !errors.Is(err, store.ErrTaken) {
		t.Errorf("a name is taken twice: %v", err)
	}
	if _, err := st.KeepRule(ctx, siteID+1, of.ID, rule.Drawn{Rule: r}); !errors.Is(err, store.ErrNotFound) {
		t.Errorf("another site draws: %v", err)
	}
	if _, err := st.KeepRule(ctx, siteID, of.ID, rule.Drawn{ID: id + 1, Rule: r}); !errors.Is(err, store.ErrNotFound) {
		t.Errorf("one that isn't there is changed: %v", err)
	}
	read, err := st.ReadSite(ctx, siteID, nil)
	if all := read.Drawn[of.ID]; err != nil || len(all) != 1 || all[0].ID != id || !rule.Same(all[0].Rule, r) || all[0].Name != "Apron" {
		t.Errorf("%+v %v", all, err)
	}
	for i := range 63 {
		r.Name = string(rune('A' + i))
		if _, err := st.KeepRule(ctx, siteID, of.ID, rule.Drawn{Rule: r}); err != nil {
			t.Fatal(i, err)
		}
	}
	r.Name = "One more"
	if _, err := st.KeepRule(ctx, siteID, of.ID, rule.Drawn{Rule: r}); !errors.Is(err, store.ErrFull) {
		t.Errorf("as many as one likes are kept: %v", err)
	}
	if _, err := st.DropRule(ctx, siteID+1, of.ID, id); !errors.Is(err, store.ErrNotFound) {
		t.Errorf("another site drops it: %v", err)
	}
	if name, err := st.DropRule(ctx, siteID, of.ID, id); err != nil || name != "Apron" {
		t.Errorf("%q %v", name, err)
	}
}

package web_test

import (
	"fmt"
	"math"
	"math/rand/v2"
	"net/http"
	"slices"
	"strings"
	"testing"
	"time"

	"duskyharbor/internal/core/rule"
	"duskyharbor/internal/core/scene"
	"duskyharbor/internal/demo"
	"duskyharbor/internal/standin/camera"
	"duskyharbor/internal/store"
	"duskyharbor/internal/testbed"
)

// A camera whose engine looks at the middle of a box is told by what it fired, after enough of it; so is that a restart lost
// its rules, and that it has words of its own for classes.
func TestACameraOfOtherHabitsIsToldByWhatItFires(t *testing.T) {
	t.Parallel()
	h := serveOn(t, testbed.StartOnly(t, "Slipway", "Terminal recorder"), nil)
	cam := h.Fleet.Camera("Slipway")
	cam.Think(camera.EngineHabits{Middle: true, Forgets: true, Grid: scene.Grid{Columns: 22, Rows: 18}, Counts: scene.Frame{Wide: 10000, High: 10000}, Words: map[string]string{"Human": "person"}})
	h.ready("find", "sign-in", "streams", "analytics")
	a := whole(t, h)
	slip := a.camera("Slipway")
	on, _ := ruleOn(cam, "Seaward line")
	middle := on
	middle.By = rule.ByMiddle
	// It has had the rule for a day; of nine who crossed it since, three were seen so that both would fire.
	if _, err := h.Store.Pool.Exec(t.Context(), `update fact set value = jsonb_set(value, '{since,Seaward line}', to_jsonb(now() - interval '1 day')) where name = 'camera.ruleset'`); err != nil {
		t.Fatal(err)
	}
	a.keeps("analytics/watch", args{"cameras": []any{slip}})
	of, err := h.Store.ClaimGatherings(t.Context(), "a test", 1, time.Minute)
	if err != nil || len(of) != 1 {
		t.Fatal(of, err)
	}
	got := store.Gathered{Began: time.Now().Add(-time.Hour), Until: time.Now()}
	r := rand.New(rand.NewPCG(24, 2))
	both, foot := 0, 0
	for both < 3 || foot < 6 {
		begin := got.Began.Add(time.Duration(1+both+foot) * time.Minute)
		tr := someone(r, begin)
		fires := len(rule.Rehearse(on, []scene.Track{tr}, rule.Span{}))
		does := rule.Rehearse(middle, []scene.Track{tr}, rule.Span{})
		switch {
		case fires == 1 && len(does) == 0 && foot < 6:
			foot++
		case fires == 1 && len(does) == 1 && both < 3:
			both++
			got.Fired = append(got.Fired, store.Fired{At: time.Unix(0, int64(does[0].At)), Rule: on.Name, Topic: "tns1:RuleEngine/LineDetector/Crossed"})
		default:
			continue
		}
		got.Pieces = append(got.Pieces, store.Piece{Object: fmt.Sprint(both, foot), Class: "person", Points: tr.Points})
	}
	if err := h.Store.KeepGathering(t.Context(), "a test", of[0], got, time.Minute); err != nil {
		t.Fatal(err)
	}
	a.reads("analytics")
	p := testbed.Browser(t, 1280, 800)
	h.signIn(p, demo.Lead, h.Secrets.Lead)
	h.on(p, "analytics?sheet="+string(slip))
	p.Sees(20*time.Second, `"Seaward line" would have fired 9 times by its meaning, and the camera fired 3 times`, "it looks at the middle of a box, not at its foot")

	// Its own words are offered, and written; a restart then loses its rules, which is seen.
	a.keeps("analytics/draw", args{"camera_id": slip, "name": "Edge", "kind": "Crosses", "points": "20 90, 80 40", "classes": []string{"person"}})
	a.makes("analytics/write", args{"cameras": []any{slip}})
	// It counts from 0 to 10,000: what is drawn lies there where it was drawn.
	if r, there := ruleOn(cam, "Edge"); !there || !slices.Equal(r.Classes, []string{"Human"}) || len(r.Line) != 2 || math.Abs(r.Line[0].X+0.6) > 1e-3 || math.Abs(r.Line[0].Y+0.8) > 1e-3 {
		t.Errorf("the camera has %+v", r)
	}
	// Motion counts in the cells that are painted: of a camera of another grid they are painted anew.
	stir := args{"camera_id": slip, "name": "Stir", "kind": "Moves", "cells": "##/##", "count": 2, "break_seconds": 2}
	id := a.keeps("analytics/draw", stir)["id"]
	if says := a.refused("analytics/write", args{"cameras": []any{slip}, "name": "Stir"}, http.StatusConflict); !strings.Contains(says, "its picture has 22 by 18 cells, and 2 by 2 were painted") {
		t.Errorf("%s", says)
	}
	stir["id"], stir["cells"] = id, strings.Repeat("......................"+"/", 9)+strings.TrimSuffix(strings.Repeat("###################..."+"/", 9), "/")
	a.keeps("analytics/draw", stir)
	a.makes("analytics/write", args{"cameras": []any{slip}, "name": "Stir"})
	if r, there := ruleOn(cam, "Stir"); !there || r.Cells.Count() != 9*19 || r.Count != 2 {
		t.Errorf("the camera has %+v", r)
	}
	if res, err := http.Post(fmt.Sprintf("http://%s:%d/walk", cam.At(), camera.ControlPort), "", nil); err != nil || res.StatusCode != http.StatusOK {
		t.Fatal(res, err)
	}
	testbed.Until(t, 60*time.Second, "it fires", func() bool { return cam.Fired("Stir") == 1 })
	// At the least sensitivity who walks there is too small to count: the line goes on firing, the cells don't.
	edge := cam.Fired("Edge")
	h.on(p, fmt.Sprintf("analytics?camera=%s&rule=%v", slip, id))
	p.Sees(20*time.Second, "as on the camera", "Whole frame", "Motion in cells is of the picture")
	p.Set("#sensitivity", "101")
	if ok := testbed.Eval[bool](p, "document.getElementById('sensitivity').checkValidity()"); ok {
		t.Error("101 of 100 is taken")
	}
	p.Set("#sensitivity", "0")
	h.run(p, ".motion", "Set the sensitivity")
	h.on(p, fmt.Sprintf("analytics?camera=%s&rule=%v", slip, id))
	testbed.Until(t, 30*time.Second, "it reads back 0", func() bool { return testbed.Glance[string](p, "document.getElementById('sensitivity')?.value") == "0" })
	if res, err := http.Post(fmt.Sprintf("http://%s:%d/walk", cam.At(), camera.ControlPort), "", nil); err != nil || res.StatusCode != http.StatusOK {
		t.Fatal(res, err)
	}
	testbed.Until(t, 60*time.Second, "the line fires again", func() bool { return cam.Fired("Edge") > edge })
	if n := cam.Fired("Stir"); n != 1 {
		t.Errorf("its cells fired %d times", n)
	}
	p.Press("Swap")
	testbed.Until(t, 20*time.Second, "what is painted stands in the sentence", func() bool {
		return strings.Count(testbed.Eval[string](p, "document.getElementById('rule-cells').value"), "#") == 22*18-9*19
	})
	p.Accessible("cells")
	a.makes("clock/restart", args{"device_id": a.the("cameras", "cameras", "place", "Slipway")["device_id"]})
	testbed.Until(t, 30*time.Second, "it is there again, without its rules", func() bool { return cam.Plugged() && len(cam.Rules()) == 0 })
	a.reads("analytics")
	h.on(p, "analytics")
	p.Sees(20*time.Second, "drawn here, not written")
}

// someone goes from left to right below or above where the line is, in ten seconds.
func someone(r *rand.Rand, begin time.Time) (tr scene.Track) {
	y, slope, high := -0.9+1.2*r.Float64(), 0.4*(r.Float64()-0.5), 0.2+0.3*r.Float64()
	for i := range 51 {
		x := -0.95 + 0.036*float64(i)
		tr.Points = append(tr.Points, scene.TrackPoint{At: time.Duration(begin.Add(time.Duration(i) * 200 * time.Millisecond).UnixNano()), Score: 0.9,
			Box: scene.Box{Left: x, Right: x + 0.08, Bottom: max(-1, y+slope*x), Top: min(1, y+slope*x+high)}})
	}
	tr.Class = "person"
	return tr
}

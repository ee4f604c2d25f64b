package proof

import (
	"testing"

	"duskyharbor/internal/core/ground"
	"duskyharbor/internal/testbed/moment"
)

// A camera is proven when every route that can be walked is: of each the last walk counts, by what it
// rests on today.
func TestEveryRouteIsWalked(t *testing.T) {
	now := moment.Now()
	line, area := Route{"tns1:Line", "line"}, Route{"tns1:Area", "area"}
	on := func(channel string) []ground.Ground { return []ground.Ground{{Of: "channel", Is: channel}} }
	walk := func(r Route, channel string, missed bool) Test {
		t := Test{Topic: r.Topic, Input: r.Input, Started: now, Ended: now, Happened: now, Camera: []Arrival{{At: now}}, Recorder: []Arrival{{At: now, Name: "Slipway"}}, Grounds: on(channel)}
		if missed {
			t.Recorder = nil
		}
		return t
	}
	for name, x := range map[string]struct {
		last   Test
		walks  []Test
		routes []Route
		code   string // of the one finding; empty: it is proven
	}{
		"one route, walked":              {walk(line, "a", false), []Test{walk(line, "a", false)}, []Route{line}, ""},
		"one of two":                     {walk(line, "a", false), []Test{walk(line, "a", false)}, []Route{line, area}, "proof.part"},
		"both":                           {walk(area, "a", false), []Test{walk(line, "a", false), walk(area, "a", false)}, []Route{line, area}, ""},
		"both, in another order":         {walk(area, "a", false), []Test{walk(area, "a", false), walk(line, "a", false)}, []Route{area, line}, ""},
		"the other on another channel":   {walk(area, "a", false), []Test{walk(line, "b", false), walk(area, "a", false)}, []Route{line, area}, "proof.part"},
		"the other was missed":           {walk(area, "a", false), []Test{walk(line, "a", true), walk(area, "a", false)}, []Route{line, area}, "proof.part"},
		"a route that is pegged no more": {walk(line, "a", false), []Test{walk(line, "a", false), walk(area, "b", true)}, []Route{line}, ""},
		"one topic on two inputs":        {walk(line, "a", false), []Test{walk(line, "a", false)}, []Route{line, {line.Topic, "area"}}, "proof.part"},
	} {
		found, stale := JudgeSource(now, Facts{Last: &x.last, Grounds: on("a"), Walks: x.walks, Routes: x.routes}, "Slipway")
		if stale != "" || x.code == "" && len(found) != 0 || x.code != "" && (len(found) != 1 || found[0].Code != x.code) {
			t.Errorf("%s: %+v, %q", name, found, stale)
		}
	}
}

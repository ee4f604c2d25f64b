package prove

import (
	"testing"
	"time"

	"duskyharbor/internal/core/proof"
	"duskyharbor/internal/core/rule"
	"duskyharbor/internal/core/scene"
	"duskyharbor/internal/web/shell"
)

func TestTheWaterfall(t *testing.T) {
	w := waterfalls([]proof.Bar{{Leg: proof.Camera, To: 400 * time.Millisecond, Took: 400 * time.Millisecond,
		Verdict: proof.OnTime, Error: 30 * time.Millisecond}, {Leg: proof.Recorder, From: 400 * time.Millisecond, To: 9 * time.Second, Took: 8600 * time.Millisecond, Verdict: proof.Late}})
	if w[0].Took != "0.40 s ± 0.03" || w[0].Class != "ready" || w[1].Class != "needs" || w[1].X+w[1].W > 100.1 {
		t.Errorf("%+v", w)
	}
	for want, b := range map[string]proof.Bar{"under 0.03 s": {Took: time.Millisecond, Error: 30 * time.Millisecond},
		"under 0.01 s": {Took: time.Millisecond}, "1.20 s": {Took: 1200 * time.Millisecond}} {
		if got := took(b); got != want {
			t.Errorf("%+v is %q, want %q", b, got, want)
		}
	}
	line, area := scene.Line{{X: -1, Y: 1}, {X: 1, Y: -1}}, scene.Polygon{{X: -1, Y: 1}, {X: 0, Y: 1}, {X: 0, Y: 0}}
	m := marksOf([]rule.Rule{{Name: "l", Kind: rule.Crosses, Line: line}, {Name: "a", Kind: rule.Inside, Area: area}})
	if len(m.Shapes) != 2 || m.Shapes[0].Kind != shell.AsPath || m.Shapes[1].Kind != shell.AsArea {
		t.Errorf("%+v", m)
	}
}

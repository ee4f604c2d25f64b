package prove

import (
	"testing"
	"time"

	"duskyharbor/internal/core/proof"
	"duskyharbor/internal/core/rule"
	"duskyharbor/internal/core/scene"
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
	d := drawings([]rule.Rule{{Name: "l", Kind: rule.Crosses, Line: scene.Line{{X: -1, Y: 1}, {X: 1, Y: -1}}}})
	if len(d) != 1 || d[0].Points != "0.0,0.0 1000.0,562.0" || d[0].Area {
		t.Errorf("%+v", d)
	}
}

package proof

import (
	"testing"

	"duskyharbor/internal/core/ground"
	"duskyharbor/internal/testbed/moment"
)

// A walk that was hindered asks to be walked again, for as long as it rests on what is so today.
func TestAWalkThatWasHindered(t *testing.T) {
	now := moment.Now()
	on := func(channel string) []ground.Ground { return []ground.Ground{{Of: "channel", Is: channel}} }
	last := Test{Started: now, Ended: now, Grounds: on("7"), Trouble: "The recorder gave no answer."}
	if found, stale := JudgeSource(now, Facts{Last: &last, Grounds: on("7")}, "Slipway"); stale != "" || len(found) != 1 || found[0].Code != "proof.trouble" || found[0].Sentence != last.Trouble {
		t.Errorf("%+v %q", found, stale)
	}
	if found, stale := JudgeSource(now, Facts{Last: &last, Grounds: on("8")}, "Slipway"); stale == "" || len(found) != 0 {
		t.Errorf("resting on something else it says %+v %q", found, stale)
	}
	going := last
	going.Ended = Test{}.Ended
	if found, _ := JudgeSource(now, Facts{Last: &going, Grounds: on("7")}, "Slipway"); len(found) != 0 {
		t.Errorf("while it goes on: %+v", found)
	}
}

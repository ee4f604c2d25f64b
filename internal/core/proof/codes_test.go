package proof

import (
	"testing"

	"duskyharbor/internal/testbed/moment"
)

// A walk that was hindered asks to be walked again, for as long as it rests on what is so today.
func TestAWalkThatWasHindered(t *testing.T) {
	now := moment.Now()
	last := Test{Started: now, Ended: now, Basis: "7", Trouble: "The recorder gave no answer."}
	if found, stale := JudgeSource(now, Facts{Last: &last, Basis: "7"}, "Slipway"); stale != "" || len(found) != 1 || found[0].Code != "proof.trouble" || found[0].Sentence != last.Trouble {
		t.Errorf("%+v %q", found, stale)
	}
	if found, stale := JudgeSource(now, Facts{Last: &last, Basis: "8"}, "Slipway"); stale == "" || len(found) != 0 {
		t.Errorf("resting on something else it says %+v %q", found, stale)
	}
	going := last
	going.Ended = Test{}.Ended
	if found, _ := JudgeSource(now, Facts{Last: &going, Basis: "7"}, "Slipway"); len(found) != 0 {
		t.Errorf("while it goes on: %+v", found)
	}
}
